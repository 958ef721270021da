package trino

import (
	"context"
	"fmt"

	"ironmonger/internal/column"
)

// appender collects rows: in memory while they are few, then in a stage.
type appender struct {
	ctx    context.Context
	t      *tx
	table  string
	into   string // it, and its columns
	few    *column.Batch
	stage  *stage
	staged int64
	added  int64
}

func (a *appender) Append(cols []*column.Column, rows []int32) error {
	if a.stage == nil && a.few.N+len(rows) <= fewRows {
		for _, i := range rows {
			for k, c := range cols {
				a.few.Cols[k].AppendOwn(c, int(i))
			}
		}
		a.few.N += len(rows)
		return nil
	}
	if a.stage == nil {
		var err error
		if a.stage, err = a.t.newStage(typesOf(column.Pointers(a.few.Cols))); err != nil {
			return err
		}
		if err := a.stage.Add(column.Pointers(a.few.Cols), every(a.few.N)); err != nil {
			return err
		}
		a.staged = int64(a.few.N)
		a.few.Reset(0)
	}
	a.staged += int64(len(rows))
	return a.stage.Add(cols, rows)
}

// Flush has Trino insert what has been collected.
func (a *appender) Flush() error {
	want, m, err := a.staged, given{}, error(nil)
	switch {
	case a.stage != nil:
		m, err = a.stage.give(a.ctx)
		a.stage, a.staged = nil, 0
	case a.few.N > 0:
		want = int64(a.few.N)
		m, err = a.t.give(a.ctx, column.Pointers(a.few.Cols), every(a.few.N))
		a.few.Reset(0)
	default:
		return nil
	}
	if err != nil {
		return err
	}
	defer m.drop()
	n, err := a.t.change(a.ctx, a.table, fmt.Sprintf("INSERT INTO %s SELECT * FROM %s", a.into, m.sql))
	if err != nil {
		return err
	}
	if a.added += n; n != want {
		return fmt.Errorf("%d rows were given to Trino, and it has inserted %d", want, n)
	}
	return nil
}

func (a *appender) Close() (int64, error) {
	err := a.Flush()
	return a.added, err
}
