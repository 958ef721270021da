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

// join looks a key up: for a layer, the select is joined with the dimension.
func (r *judging) join(l *layers, n int, k *star.Key) error {
	d := r.star.Dimension(k.Dimension)
	fields := r.source.Shaped()
	var on, missing []string
	l.n++
	of := fmt.Sprintf("l%d.", l.n)
	for i, value := range r.by(of, k) {
		on = append(on, r.means("d."+quote(d.NaturalKey[i].Name), value, d.NaturalKey[i].Type, d.Junk))
	}
	for _, value := range r.by("", k) {
		missing = append(missing, value+" is null")
	}
	if d.Junk { // null is a value
		missing = []string{"false"}
	}
	on = append(on, fmt.Sprintf("d.%s >= 0", quote(d.KeyColumn())))
	switch {
	case k.AsOf != "":
		at, err := r.asOf(of, k, fields)
		if err != nil {
			return err
		}
		end := r.Literal("9999-12-31", column.Type{Kind: column.Date})
		holds := fmt.Sprintf("%[1]s >= d.%[2]s and %[1]s < d.%[3]s and %[1]s < %[4]s", at, quote(d.ValidFrom), quote(d.ValidTo), end)
		if k.Milestone { // until it is told, the current version is meant
			holds = fmt.Sprintf("(case when %s is null then d.%s else %s end)", at, quote(schema.IsCurrent), holds)
		}
		on = append(on, holds)
	case d.Versioned():
		on = append(on, "d."+quote(schema.IsCurrent))
	}
	found := []string{quote(d.KeyColumn()) + " AS " + quote(fmt.Sprintf("key%d", n))}
	names := []string{fmt.Sprintf("key%d", n)}
	if k.Both {
		found, names = append(found, quote(d.DurableColumn())+" AS "+quote(fmt.Sprintf("durable%d", n))), append(names, fmt.Sprintf("durable%d", n))
	}
	for i := range found {
		found[i] = "d." + found[i]
	}
	l.sql = fmt.Sprintf("SELECT l%d.*, %s FROM (%s) AS l%[1]d LEFT JOIN %[4]s AS d ON %[5]s",
		l.n, strings.Join(found, ", "), l.sql, r.Statements.Named(d.Table.Name), strings.Join(on, " and "))
	l.columns = append(l.columns, names...)
	special, given := r.specialOf(k)
	none := fmt.Sprintf("missing%d", n)
	l.add([]named{{none, "(" + strings.Join(missing, " and ") + ")"}})
	lacks := fmt.Sprintf("key%d is not null", n)
	if r.open[k] {
		opened, err := r.opened(n, k)
		if err != nil {
			return err
		}
		l.add([]named{{openColumn(n), opened}})
		lacks = "(" + lacks + " or " + openColumn(n) + ")"
	}
	replaced := []named{}
	if given && !r.grain[k] { // rows without a member say so by themselves
		lacks = fmt.Sprintf("(%s or %s)", lacks, none)
		for _, name := range names {
			replaced = append(replaced, named{name, fmt.Sprintf("(case when %s then %s else %s end)", none, special, name)})
		}
	}
	l.add(nil, append(replaced, also(lacks))...)
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
