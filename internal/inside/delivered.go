package inside

import (
	"context"
	"fmt"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/parse"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// Of a delivery of all, the warehouse says what is not in it: the facts whose grain no row has that it has taken
// itself. Which of these are gone is decided by the program, which knows the rows that are left to it.

// Delivered returns of how many rows each scope is that are not left to others, as rows of the table.
func (r *Rows) Delivered(ctx context.Context) (scopes *column.Batch, rows []int64, err error) {
	return r.scoped(ctx, "count(*)", r.numbered(r.table)+" WHERE "+r.taken(), placed)
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
	return r.scoped(ctx, number, from, "")
}

// taken says that a judged row is one that stands in the table in the end, and is not left to others.
func (r *Rows) taken() string {
	return fmt.Sprintf("%s IN (%d, %d, %d)", r.become(), plain, waits, same)
}

// scoped counts rows by their scope.
func (r *Rows) scoped(
	ctx context.Context, number, from, prefix string,
) (scopes *column.Batch, rows []int64, err error) {
	all := r.of.Table.Fields()
	scopes = column.NewBatch(all)
	var at []int
	var by, texts []string
	for _, f := range r.of.Deliveries.Scope {
		at = append(at, column.Find(all, f.Name))
		by = append(by, quote(prefix+f.Name))
		texts = append(texts, ", cast("+quote(prefix+f.Name)+" as varchar)")
	}
	sql := "SELECT " + number + strings.Join(texts, "") + " FROM " + from
	if by != nil {
		sql += " GROUP BY " + strings.Join(by, ", ")
	}
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
	var texts []string
	for _, f := range fields {
		texts = append(texts, "cast(t."+quote(f.Name)+" as varchar)")
	}
	const absent = "SELECT %s FROM %s AS t WHERE NOT EXISTS (SELECT 1 FROM (SELECT * FROM %s WHERE %s) AS l WHERE %s)"
	sql := fmt.Sprintf(absent, strings.Join(texts, ", "), table, r.numbered(r.table), r.taken(), alike("t", grain))
	b, reader := column.NewBatch(fields), parse.NewReader(r.model.Zone)
	err := r.Statements.Ask(ctx, sql, func(values [][]byte) error {
		for k, v := range values {
			b.Cols[k].AppendNull()
			if err := set(reader, &b.Cols[k], b.N, v); err != nil {
				return err
			}
		}
		if b.N++; b.N < manyAbsent {
			return nil
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

// set reads row i of a column as the database writes it.
func set(reader *parse.Reader, c *column.Column, i int, text []byte) error {
	if c.Null[i] = text == nil; text == nil {
		return nil
	}
	return reader.Set(c, i, string(text))
}
