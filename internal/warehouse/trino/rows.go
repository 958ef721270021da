package trino

import (
	"bytes"
	"database/sql"
	"fmt"

	"ironmonger/internal/column"
	"ironmonger/internal/dberror"
	"ironmonger/internal/parse"
	"ironmonger/internal/warehouse"
)

// rows is an answer.
type rows struct {
	query  warehouse.Query
	answer *sql.Rows
	reader *parse.Reader
	values [][]byte
	into   []any
	close  func() // gives back what the query was given; may be nil
	room   warehouse.Room
	done   bool
}

func (r *rows) Next(b *column.Batch) (bool, error) {
	if b.Reset(0); r.done {
		return false, nil
	}
	b.Reset(r.room.Next())
	n := 0
	for ; n < b.N; n++ {
		if r.done = r.answer == nil || !r.answer.Next(); r.done {
			break
		}
		if err := r.answer.Scan(r.into...); err != nil {
			return false, err
		}
		for k := range b.Cols {
			if err := set(r.reader, &b.Cols[k], n, r.values[k]); err != nil {
				return false, fmt.Errorf("table %s, column %s: %w", r.query.Table, r.query.Fields[k].Name, err)
			}
		}
	}
	if r.answer != nil {
		if err := r.answer.Err(); err != nil {
			return false, dberror.Trino(err)
		}
	}
	b.Cut(n)
	return n > 0, nil
}

// set takes a value as it was asked for.
func set(r *parse.Reader, c *column.Column, i int, v []byte) error {
	switch {
	case v == nil:
		c.SetNull(i)
		return nil
	case c.Type.Kind == column.Text:
		c.Null[i], c.Text[i] = false, string(v)
		return nil
	case c.Type.Kind == column.Time:
		v, _, _ = bytes.Cut(v, []byte("."))
	}
	return r.Set(c, i, string(v))
}

func (r *rows) Close() error {
	var err error
	if r.answer != nil {
		err = r.answer.Close()
		r.answer = nil
	}
	if r.close != nil {
		r.close()
		r.close = nil
	}
	return err
}
