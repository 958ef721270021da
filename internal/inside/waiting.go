package inside

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// Rows wait that are plain but for members that they infer themselves. The first row of each such member is left to
// others, which make it, in the order of the rows; the others are inserted once it is there. So of many rows that point
// to a few members nobody knew, few travel.

// opens lists the keys of which rows may wait for members, by their numbers.
func (r *judging) opens() []int {
	var list []int
	for n, k := range r.keys {
		if r.open[k] {
			list = append(list, n)
		}
	}
	return list
}

// infers reports whether rows make the members of a key that are not there.
func infers(k *star.Key) bool {
	if c := k.Dimension.Calendar; c != nil {
		return c.Grows()
	}
	return k.Dimension.Junk || k.Unmatched == star.Infer
}

func openColumn(n int) string { return fmt.Sprintf("open%d", n) }

// openBy is the name of the ith column by which rows that wait are joined with the members of a key.
func openBy(n, i int) string { return fmt.Sprintf("n%d_%d", n, i) }

// opened says that a row has a natural key that may be made a member, which is not there.
func (r *judging) opened(n int, k *star.Key) (string, error) {
	d, fields := r.star.Dimension(k.Dimension), r.source.Shaped()
	ok, long := []string{fmt.Sprintf("key%d is null", n)}, []string(nil)
	for i, value := range r.by("", k) {
		if !k.Dimension.Junk {
			ok = append(ok, value+" is not null")
		}
		if d.NaturalKey[i].Type.Kind == column.Text {
			long = append(long, "coalesce("+r.long(value)+", 0)")
		}
	}
	if long != nil {
		ok = append(ok, fmt.Sprintf("%s <= %d", strings.Join(long, " + "), roster.MostKey))
	}
	if c := k.Dimension.Calendar; c != nil {
		days := column.Column{Type: d.NaturalKey[0].Type}
		days.AppendInt(c.AtLeast)
		days.AppendInt(c.AtMost)
		first, last := r.Literal(days.Value(0), days.Type), r.Literal(days.Value(1), days.Type)
		ok = append(ok, fmt.Sprintf("coalesce(%s between %s and %s, false)", r.by("", k)[0], first, last))
	}
	if k.AsOf != "" {
		at, err := r.asOf("", k, fields)
		if err != nil {
			return "", err
		}
		first, last := bounds(r.engine, d.Time)
		ok = append(ok, fmt.Sprintf("coalesce(%[1]s >= %[2]s and %[1]s < %[3]s, false)", at, first, last))
	}
	return "(" + strings.Join(ok, " and ") + ")", nil
}

// waiting adds the columns by which rows that wait are joined with their members once these are there. It says what a
// row that is new is, and that one waits.
func (r *Rows) waiting(c *selects) (take, opened string) {
	var any []string
	for _, n := range r.opens() {
		c.keep(openColumn(n))
		any = append(any, "l."+openColumn(n))
		for i, value := range r.by("l.", r.keys[n]) {
			name := openBy(n, i)
			c.add(value+" AS "+name, fmt.Sprintf("case when verdict = %d then %s end AS %[2]s", waits, name), name)
		}
	}
	if any == nil {
		return fmt.Sprint(int(plain)), "false"
	}
	opened = "(" + strings.Join(any, " or ") + ")"
	return fmt.Sprintf("(case when %s then %d else %d end)", opened, waits, plain), opened
}

// bounds are the ends of time, as a dimension has it.
func bounds(e expr.Dialect, t column.Type) (first, last string) {
	c := column.Column{Type: t}
	from, to := schema.Bounds(t)
	c.AppendInt(from)
	c.AppendInt(to)
	return e.Literal(c.Value(0), t), e.Literal(c.Value(1), t)
}

// findFirst finds the rows of which each is the first one that waits for a member, and those that do not wait, since
// the member is there, though at no time that they mean: all of these are left to others.
func (r *Rows) findFirst(ctx context.Context) error {
	if !r.waits {
		return nil
	}
	narrow, there := []string{"line"}, []string{"false"}
	var first []string
	for _, n := range r.opens() {
		k := r.keys[n]
		names := r.openNames(n)
		narrow = append(append(narrow, openColumn(n)), names...)
		const of = " UNION SELECT min(line) FROM w WHERE not there and %s GROUP BY %s"
		first = append(first, fmt.Sprintf(of, openColumn(n), strings.Join(names, ", ")))
		if d := r.star.Dimension(k.Dimension); d.Versioned() {
			const any = "%s and exists (SELECT 1 FROM %s AS d WHERE %s)"
			table := r.Statements.Named(d.Table.Name)
			there = append(there, fmt.Sprintf(any, openColumn(n), table, r.joined("d", "n", n)))
		}
	}
	table := r.own("load_first")
	const sql = "WITH w AS (SELECT %s, (%s) AS there FROM %s WHERE verdict = %d) SELECT line FROM w WHERE there%s"
	err := r.create(ctx, table, fmt.Sprintf(sql,
		strings.Join(narrow, ", "), strings.Join(there, " or "), r.numbered(r.table), waits, strings.Join(first, "")))
	if err == nil {
		r.first = table
	}
	return err
}

func (r *judging) openNames(n int) []string {
	var names []string
	for i := range r.keys[n].By {
		names = append(names, openBy(n, i))
	}
	return names
}

// joined says that a judged row that waits means a row of a key's dimension.
func (r *judging) joined(theirs, ours string, n int) string {
	d := r.star.Dimension(r.keys[n].Dimension)
	on := []string{fmt.Sprintf("%s.%s >= 0", theirs, quote(d.KeyColumn()))}
	for i, name := range r.openNames(n) {
		on = append(on, r.means(theirs+"."+quote(d.NaturalKey[i].Name), ours+"."+name, d.NaturalKey[i].Type, d.Junk))
	}
	return strings.Join(on, " and ")
}

// means says that two values are one natural key. Of a junk dimension, null is a value; it is compared so that rows can
// be joined by hashing.
func (r *shaper) means(theirs, ours string, t column.Type, nulls bool) string {
	if !nulls {
		return theirs + " = " + ours
	}
	some := r.Literal(someValue(t), t)
	return fmt.Sprintf("coalesce(%[1]s, %[3]s) = coalesce(%[2]s, %[3]s) and (%[1]s is null) = (%[2]s is null)", theirs, ours, some)
}

// someValue is any value of a type.
func someValue(t column.Type) string {
	c := column.Column{Type: t}
	c.Resize(1)
	return c.Value(0)
}

// become is what a judged row is in the end: the first of those that wait do not.
func (r *judging) become() string {
	if r.first == "" {
		return "verdict"
	}
	return fmt.Sprintf("(case when verdict = %d and line in (SELECT f.line FROM %s AS f) then %d else verdict end)", waits, r.first, hard)
}

// InsertWaiting adds the rows that have waited to the fact's table.
func (r *Rows) InsertWaiting(ctx context.Context, run, file, linesOfFile int64) (int64, error) {
	if r.first == "" {
		return 0, nil
	}
	joins, there := "", []string{fmt.Sprintf("%s = %d", r.become(), waits)}
	var found []named // the members: their tables may have columns that are called as those of judged rows are
	for _, n := range r.opens() {
		d, of := r.star.Dimension(r.keys[n].Dimension), fmt.Sprintf("d%d", n)
		table := r.Statements.Named(d.Table.Name)
		joins += fmt.Sprintf(" LEFT JOIN %s AS %s ON n.%s and %s", table, of, openColumn(n), r.joined(of, "n", n))
		found = append(found, named{foundKey(n, false), of + "." + quote(d.KeyColumn())})
		if r.keys[n].Both {
			found = append(found, named{foundKey(n, true), of + "." + quote(d.DurableColumn())})
		}
		there = append(there, fmt.Sprintf("(not %s or %s is not null)", openColumn(n), foundKey(n, false)))
	}
	value := func(f field) string {
		if f.key && slices.Contains(r.opens(), f.link) {
			const waited = "(case when %s then %s else %s end)"
			return fmt.Sprintf(waited, openColumn(f.link), foundKey(f.link, f.durable), quote(placed+f.name))
		}
		return quote(placed + f.name)
	}
	columns, values := r.inserted(run, file, linesOfFile, value)
	query := fmt.Sprintf("SELECT %s FROM (SELECT n.*, %s FROM %s%s) AS w WHERE %s",
		strings.Join(values, ", "), aliased(found), r.numbered(r.table), joins, strings.Join(there, " and "))
	return r.Statements.Insert(ctx, r.of.Table, columns, query)
}

// foundKey is the name of the surrogate or durable key of the member of a key for which rows have waited.
func foundKey(n int, durable bool) string {
	if durable {
		return fmt.Sprintf("kept%d", n)
	}
	return fmt.Sprintf("found%d", n)
}

// Strays hands each natural key to row that had no member of a key when rows were judged, and how many of the rows that
// have waited had it. It is written as the columns of the source have it, by which the key looks members up.
func (r *Rows) Strays(ctx context.Context, n int, row func(natural [][]byte, rows int64) error) error {
	parts := []string{"count(*)"}
	for _, name := range r.openNames(n) {
		parts = append(parts, "cast("+name+" as varchar)")
	}
	const sql = "SELECT %s FROM %s WHERE %s and %s = %d GROUP BY %s"
	text := fmt.Sprintf(sql, strings.Join(parts, ", "), r.numbered(r.table), openColumn(n), r.become(), waits, strings.Join(r.openNames(n), ", "))
	return r.Statements.Ask(ctx, text, func(values [][]byte) error { return row(values[1:], count(values[0])) })
}
