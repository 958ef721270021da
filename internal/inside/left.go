package inside

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/source"
	"ironmonger/internal/spill"
)

// Left are the rows that the warehouse has left to others, on disk: they may be read while the step writes.
type Left struct {
	rows     *spill.Rows
	names    []string
	greatest []byte
	Rows     int64 // how many
}

// textsColumn is the column of the judged rows that has the texts of all columns of the source, as an array: rows that
// need no second look carry one null then.
const textsColumn = "texts"

// mostTexts is how many values an array is written with.
const mostTexts = 100

// second lists the columns of a select of judged rows that a second look needs at rows of some verdicts, or at all, and the
// one of all rows by which new rows are known.
func (r *judging) second(from *source.Plain, of ...verdict) []named {
	var list []named
	if k := from.Since; k >= 0 {
		name := fmt.Sprintf("c%d", k)
		list = append(list, named{name, name})
	}
	if from.Texts == nil {
		return list
	}
	var arrays, among []string
	for part := range slices.Chunk(from.Texts, mostTexts) {
		texts := make([]string, len(part))
		for k, text := range part {
			texts[k] = r.written(text, from.Columns[k+mostTexts*len(arrays)])
		}
		arrays = append(arrays, "ARRAY["+strings.Join(texts, ", ")+"]")
	}
	for _, v := range of {
		among = append(among, fmt.Sprint(v))
	}
	sql := strings.Join(arrays, " || ")
	if among != nil {
		sql = fmt.Sprintf("case when verdict in (%s) then %s end", strings.Join(among, ", "), sql)
	}
	return append(list, named{textsColumn, sql})
}

// Left reads the rows that are left to others.
func (r *judging) Left(ctx context.Context) (*Left, error) {
	return r.left(ctx, func(columns string) (string, error) {
		if r.merging != nil {
			return r.leftParts(columns, r.gathered()), r.whole(ctx)
		}
		return fmt.Sprintf("SELECT %s FROM %s WHERE %s = %d", columns, r.numbered(r.table), r.become(), hard), nil
	})
}

// left reads the rows that a select returns of some columns.
func (r *judging) left(ctx context.Context, selecting func(columns string) (string, error)) (*Left, error) {
	l := &Left{}
	fields := []column.Field{{Name: "line", Type: column.Type{Kind: column.Integer}}}
	parts := []string{"n.line"}
	for k, c := range r.raw().Columns {
		l.names = append(l.names, c.Name)
		fields = append(fields, column.Field{Name: c.Name, Type: column.Type{Kind: column.Text}})
		parts = append(parts, fmt.Sprintf("n.%s[%d]", textsColumn, k+1))
	}
	var err error
	if l.greatest, err = r.greatest(ctx); err != nil {
		return nil, err
	}
	if l.rows, err = spill.New(fields, 1); err != nil {
		return nil, err
	}
	one := column.NewBatch(fields)
	one.Reset(1)
	take := func(values [][]byte) error {
		l.Rows++
		line, err := strconv.ParseInt(string(values[0]), 10, 64)
		one.Cols[0].Int[0] = line
		for k, v := range values[1:] {
			c := &one.Cols[k+1]
			if c.Null[0] = v == nil; v != nil {
				c.Text[0] = string(v)
			}
		}
		l.rows.Put(0, column.Pointers(one.Cols), 0)
		return err
	}
	sql, err := selecting(strings.Join(parts, ", "))
	if err == nil {
		err = r.Statements.Ask(ctx, sql+" ORDER BY n.line", take)
	}
	if err == nil {
		err = r.planned(ctx)
	}
	if err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// Close returns the disk back.
func (l *Left) Close() error { return l.rows.Close() }

// Each hands the rows on, as [source.Given] has it.
func (l *Left) Each(ctx context.Context, columns []string, row func(line int64, values [][]byte) error) error {
	var at []int
	for _, name := range columns {
		at = append(at, 1+slices.Index(l.names, name))
	}
	part := l.rows.Part(0)
	b, values := column.NewBatch(part.Fields()), make([][]byte, len(at))
	for piece, err := range part.Pieces(ctx) {
		if err == nil {
			err = piece.Fill(b)
		}
		if err != nil {
			return err
		}
		for i := range b.N {
			for k, c := range at {
				if values[k] = nil; !b.Cols[c].Null[i] {
					values[k] = []byte(b.Cols[c].Text[i])
				}
			}
			if err := row(b.Cols[0].Int[i], values); err != nil {
				return err
			}
		}
	}
	return nil
}

// Greatest returns the greatest value among all rows of the column by which new rows are known.
func (l *Left) Greatest() []byte { return l.greatest }
