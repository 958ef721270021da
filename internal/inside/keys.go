package inside

import (
	"fmt"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// by returns the columns of a key as they are looked up: the days of timestamps in a calendar.
func (r *judging) by(of string, k *star.Key) []string {
	var list []string
	fields, natural := r.source.Shaped(), k.Dimension.NaturalKey
	for n, name := range k.By {
		value := of + quote(said+name)
		if fields[column.Find(fields, name)].Type.Kind == column.Timestamp && natural[n].Type.Kind == column.Date {
			value = "cast(" + value + " as date)"
		}
		if of := k.Dimension.Clock; of != nil {
			value = r.start(value, of.Every)
		}
		list = append(list, value)
	}
	return list
}

// lookUp joins the rows with the dimension of a key.
func (r *judging) lookUp(l *layers, n int, k *star.Key) error {
	d := r.star.Dimension(k.Dimension)
	fields := r.source.Shaped()
	var on []string
	rows, of := l.rows()+".", fmt.Sprintf("d%d.", n)
	for i, value := range r.by(rows, k) {
		on = append(on, r.means(of+quote(d.NaturalKey[i].Name), value, d.NaturalKey[i].Type, d.Junk))
	}
	on = append(on, fmt.Sprintf("%s%s >= 0", of, quote(d.KeyColumn())))
	switch {
	case k.AsOf != "":
		at, err := r.asOf(rows, k, fields)
		if err != nil {
			return err
		}
		end := r.Literal("9999-12-31", column.Type{Kind: column.Date})
		from, to := of+quote(d.ValidFrom), of+quote(d.ValidTo)
		holds := fmt.Sprintf("%[1]s >= %[2]s and %[1]s < %[3]s and %[1]s < %[4]s", at, from, to, end)
		if k.Milestone { // until it is told, the current version is meant
			holds = fmt.Sprintf("(case when %s is null then %s%s else %s end)", at, of, quote(schema.IsCurrent), holds)
		}
		on = append(on, holds)
	case d.Versioned():
		on = append(on, of+quote(schema.IsCurrent))
	}
	found := []named{{fmt.Sprintf("key%d", n), of + quote(d.KeyColumn())}}
	if k.Both {
		found = append(found, named{fmt.Sprintf("durable%d", n), of + quote(d.DurableColumn())})
	}
	table := r.Statements.Named(d.Table.Name)
	l.lookUp(fmt.Sprintf("LEFT JOIN %s AS d%d ON %s", table, n, strings.Join(on, " and ")), found)
	return nil
}

// settle adds what becomes of rows whose natural key is missing, or not found.
func (r *judging) settle(l *layers, n int, k *star.Key) error {
	missing := []string{"false"} // null is a value
	if !r.star.Dimension(k.Dimension).Junk {
		missing = missing[:0]
		for _, value := range r.by("", k) {
			missing = append(missing, value+" is null")
		}
	}
	none := "(" + strings.Join(missing, " and ") + ")"
	more := []named{{fmt.Sprintf("missing%d", n), none}}
	lacks := []string{fmt.Sprintf("key%d is not null", n)}
	if r.open[k] {
		opened, err := r.opened(n, k)
		if err != nil {
			return err
		}
		more, lacks = append(more, named{openColumn(n), opened}), append(lacks, opened)
	}
	var instead []named
	if special, given := r.specialOf(k); given && !r.grain[k] { // rows without a member say so by themselves
		lacks = append(lacks, none)
		keys := []string{fmt.Sprintf("key%d", n)}
		if k.Both {
			keys = append(keys, fmt.Sprintf("durable%d", n))
		}
		for _, name := range keys {
			instead = append(instead, named{name, fmt.Sprintf("(case when %s then %s else %s end)", none, special, name)})
		}
	}
	l.require("(" + strings.Join(lacks, " or ") + ")")
	l.add(more, instead...)
	return nil
}

// keyed looks all keys up.
func (r *judging) keyed(l *layers) error {
	for _, step := range []func(*layers, int, *star.Key) error{r.lookUp, r.settle} {
		for n, k := range r.keys {
			if err := step(l, n, k); err != nil {
				return fmt.Errorf("key %s: %w", k.Text, err)
			}
		}
	}
	return nil
}

// asOf is the time as of which a version is looked up.
func (r *judging) asOf(of string, k *star.Key, fields []column.Field) (string, error) {
	at, d := of+quote(said+k.AsOf), r.star.Dimension(k.Dimension)
	switch is := fields[column.Find(fields, k.AsOf)].Type; {
	case is.Kind == column.Timestamp && d.Time.Kind == column.Date:
		return "cast(" + at + " as date)", nil
	case is.Kind != d.Time.Kind:
		return "", refuse("as of a %s, where versions are of a %s", is, d.Time)
	}
	return at, nil
}

// specialOf is the key that a row gets that has no natural key; false if that needs a second look.
func (r *judging) specialOf(k *star.Key) (sql string, ok bool) {
	key, of := int64(0), false
	if k.Unread != nil { // it may have been there, and could not be read
		return "", false
	}
	switch k.Missing {
	case star.LeaveEmpty:
		return r.Null(column.Type{Kind: column.Integer}), true
	case star.ToUnknown:
		key, of = k.Dimension.KeyOf(star.Unknown)
	case star.ToNotYet:
		key, of = k.Dimension.KeyOf(star.NotYet)
	case star.NotApplying:
		key, of = k.Dimension.KeyOf(star.NotApplicable)
	case star.ToUnreadable:
		key, of = k.Dimension.KeyOf(star.Unreadable)
	}
	return fmt.Sprintf("cast(%d as bigint)", key), of
}
