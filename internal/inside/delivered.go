package inside

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/parse"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// Of a delivery of all, the warehouse says what is not in it: the facts whose grain no row has that it has taken
// itself, and the members that no such row is of. Which of these are gone is decided by the program, which knows the rows
// that are left to it.

// Delivered returns of how many rows each scope is that are not left to others, as rows of the table.
func (r *Rows) Delivered(ctx context.Context) (scopes *column.Batch, rows []int64, err error) {
	return r.scopes(ctx, "count(*)", r.numbered(r.table)+" WHERE "+r.taken(), placed)
}

// Standing returns how many facts of each scope stand in the table, as rows of it.
func (r *Rows) Standing(ctx context.Context) (scopes *column.Batch, rows []int64, err error) {
	number, from := "count(*)", r.Statements.Named(r.of.Table.Name)
	if r.of.Marked() {
		from += " WHERE " + quote(schema.IsGone) + " is distinct from true" // the column may be newer than the row
	}
	if r.of.Reverses() { // the signs of the entries of a fact add up to none if it is gone
		number = "coalesce(sum(" + quote(star.EntrySign) + "), 0)"
	}
	return r.scopes(ctx, number, from, "")
}

func (r *Rows) scopes(ctx context.Context, number, from, prefix string) (scopes *column.Batch, rows []int64, err error) {
	return r.scoped(ctx, r.of.Table.Fields(), r.of.Deliveries.Scope, number, from, prefix)
}

// taken says that a judged row is one that stands in the table in the end, and is not left to others.
func (r *Rows) taken() string {
	return fmt.Sprintf("%s IN (%d, %d, %d)", r.become(), plain, waits, same)
}

// scoped counts rows by the scopes that they have. Other fields than those of the scope have no values.
func (r *judging) scoped(
	ctx context.Context, all, scope []column.Field, number, from, prefix string,
) (scopes *column.Batch, rows []int64, err error) {
	scopes = column.NewBatch(all)
	var at []int
	var by, texts []string
	for _, f := range scope {
		at = append(at, column.Find(all, f.Name))
		by = append(by, quote(prefix+f.Name))
		texts = append(texts, ", cast("+quote(prefix+f.Name)+" as varchar)")
	}
	sql := "SELECT " + number + strings.Join(texts, "") + " FROM " + from
	if by != nil {
		sql += " GROUP BY " + strings.Join(by, ", ")
	}
	sql += " HAVING count(*) > 0"
	reader := parse.NewReader(r.model.Zone)
	err = r.Statements.Ask(ctx, sql, func(values [][]byte) error {
		rows = append(rows, count(values[0]))
		for k := range scopes.Cols {
			scopes.Cols[k].AppendNull()
		}
		scopes.N++
		for k, v := range values[1:] {
			if err := set(reader, &scopes.Cols[at[k]], scopes.N-1, v); err != nil {
				return err
			}
		}
		return nil
	})
	return scopes, rows, err
}

// manyAbsent is how many rows are handed on at a time.
const manyAbsent = 4096

// Absent hands on the rows of the table whose grain no row has that is not left to others.
func (r *Rows) Absent(ctx context.Context, rows func(*column.Batch) error) error {
	table, grain := r.grained(r.of.Table.Name, "")
	fields := r.of.Table.Fields()
	const absent = "SELECT %s FROM %s AS t WHERE NOT EXISTS (SELECT 1 FROM (SELECT * FROM %s WHERE %s) AS l WHERE %s)"
	sql := fmt.Sprintf(absent, texts(fields), table, r.numbered(r.table), r.taken(), alike("t", grain))
	b, reader := column.NewBatch(fields), parse.NewReader(r.model.Zone)
	err := r.Statements.Ask(ctx, sql, func(values [][]byte) error {
		if err := appendRow(reader, b, values); err != nil || b.N < manyAbsent {
			return err
		}
		err := rows(b)
		b = column.NewBatch(fields)
		return err
	})
	if err == nil && b.N > 0 {
		err = rows(b)
	}
	return err
}

// Delivered is what a delivery of all has of members, but for rows that are left to others.
type Delivered struct {
	Scopes  *column.Batch // of its rows
	Members []int64       // by scope, how many members that stood before have their last row in it
	Absent  *column.Batch // the members that stand, and are not gone, of which it has no row: key, scope and natural key
}

// Delivered finds out what is delivered of the members that stand, and what is not. It returns nil where only changes are
// delivered, or nothing stands. If more members are absent than [Members.Most], it does not list all of them.
func (r *Members) Delivered(ctx context.Context) (*Delivered, error) {
	all := r.of.Deliveries
	if all == nil || !r.stands {
		return nil, nil
	}
	scopes := []string{"verdict"}
	for _, f := range all.Scope {
		scopes = append(scopes, quote(placed+f.Name))
	}
	const last = "(SELECT %s, row_number() over (partition by %s order by line desc) AS nth FROM %s WHERE verdict IN (%d, %d)) AS l"
	of := strings.Join(r.named("", natural), ", ")
	from := fmt.Sprintf(last, strings.Join(scopes, ", "), of, r.numbered(r.table), plain, same)
	number := fmt.Sprintf("count(*) FILTER (WHERE nth = 1 and verdict = %d)", same)
	d, err := &Delivered{}, error(nil)
	if d.Scopes, d.Members, err = r.scoped(ctx, all.Scope, all.Scope, number, from, placed); err != nil {
		return nil, err
	}
	fields := slices.Concat(r.of.Table.Fields()[:1], all.Scope, r.of.NaturalKey)
	stands := fmt.Sprintf("t.%s >= 0 and not t.%s", quote(r.of.KeyColumn()), quote(schema.IsInferred)) + r.present("t")
	if r.of.Versioned() {
		stands += " and t." + quote(schema.IsCurrent)
	}
	const absent = "SELECT %s FROM %s AS t WHERE %s and NOT EXISTS (SELECT 1 FROM %s AS n WHERE verdict = %d and %s) LIMIT %d"
	table := r.Statements.Named(r.of.Table.Name)
	sql := fmt.Sprintf(absent, texts(fields), table, stands, r.table, same, r.on("t"), r.Most()+1)
	reader := parse.NewReader(r.model.Zone)
	d.Absent = column.NewBatch(fields)
	return d, r.Statements.Ask(ctx, sql, func(values [][]byte) error { return appendRow(reader, d.Absent, values) })
}

// texts selects the columns of a table, called t, as texts.
func texts(fields []column.Field) string {
	var list []string
	for _, f := range fields {
		list = append(list, "cast(t."+quote(f.Name)+" as varchar)")
	}
	return strings.Join(list, ", ")
}

// appendRow appends a row to a batch as the database writes it.
func appendRow(reader *parse.Reader, b *column.Batch, values [][]byte) error {
	for k, v := range values {
		b.Cols[k].AppendNull()
		if err := set(reader, &b.Cols[k], b.N, v); err != nil {
			return err
		}
	}
	b.N++
	return nil
}

// set reads row i of a column as the database writes it.
func set(reader *parse.Reader, c *column.Column, i int, text []byte) error {
	if c.Null[i] = text == nil; text == nil {
		return nil
	}
	return reader.Set(c, i, string(text))
}
