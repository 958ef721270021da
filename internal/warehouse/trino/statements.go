package trino

import (
	"context"
	"fmt"

	"github.com/tidwall/gjson"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// statements runs what others have written, in the working copy.
type statements struct{ *tx }

// Statements returns what runs statements in the transaction.
func (t *tx) Statements() warehouse.Statements { return &statements{t} }

// Named writes the name of a table, which counts as read. One that is called as the ledger's are is the step's own.
func (s *statements) Named(table string) string {
	if !isLedger(table) {
		s.used[table] = true
	}
	return s.table(table)
}

func (s *statements) Run(ctx context.Context, sql string) (int64, error) {
	n, err := s.run(ctx, sql)
	s.failed = s.failed || err != nil
	return n, err
}

func (s *statements) RunApart(ctx context.Context, sql string) error {
	_, err := s.Run(ctx, sql)
	return err
}

func (s *statements) Ask(ctx context.Context, sql string, row func([][]byte) error) error {
	err := s.engine.Ask(ctx, sql, row)
	s.failed = s.failed || err != nil
	return err
}

func (s *statements) Insert(ctx context.Context, t *warehouse.Table, columns []string, query string) (int64, error) {
	return s.change(ctx, t.Name, fmt.Sprintf("INSERT INTO %s (%s) %s", s.table(t.Name), quoteAll(columns, "%"), query))
}

// Stage makes a table of rows on their way.
func (s *statements) Stage(_ context.Context, _ string, types []column.Type) (warehouse.Stage, error) {
	return s.newStage(types)
}

// Estimate asks for the plan, and counts the rows where that does not know how many there are.
func (s *statements) Estimate(ctx context.Context, query string) (rows int64, err error) {
	var about gjson.Result
	err = s.Ask(ctx, "EXPLAIN (TYPE LOGICAL, FORMAT JSON) "+query, func(values [][]byte) error {
		about = gjson.Get(string(values[0]), "estimates.0.outputRowCount")
		return nil
	})
	if err != nil || about.Type == gjson.Number { // it is a text where it is not known
		return int64(about.Float()), err
	}
	err = s.Ask(ctx, "SELECT count(*) FROM ("+query+") AS q", func(values [][]byte) error {
		_, err := fmt.Sscan(string(values[0]), &rows)
		return err
	})
	return rows, err
}

// Near reports false: rows that pass through the program pass through one computer, and those of a cluster need not.
func (s *statements) Near() bool { return false }
