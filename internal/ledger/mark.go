package ledger

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// Mark is how far a step has read a table or query: up to a value of the column by which new rows are known.
type Mark struct {
	Source, Read string
	Value        string
	DependsOn    string // a digest of what else decides what became of its rows
}

// Marks returns how far a step has read.
func Marks(ctx context.Context, r warehouse.Reader, step string) ([]Mark, error) {
	match := column.Column{Type: text}
	match.AppendText(step)
	fields := pick(markTable, "source", "read", "mark", "depends_on")
	q := warehouse.Query{Table: markTable.Name, Fields: fields, By: []string{"step"}, Match: []*column.Column{&match}}
	b, err := warehouse.ReadAll(ctx, r, q)
	if err != nil {
		return nil, err
	}
	list := make([]Mark, b.N)
	for i := range list {
		list[i] = Mark{b.Cols[0].Text[i], b.Cols[1].Text[i], b.Cols[2].Text[i], b.Cols[3].Text[i]}
	}
	return list, nil
}

// KeepMarks writes down how far a step has read, in place of what was known of the same tables and queries.
func KeepMarks(ctx context.Context, tx warehouse.Tx, step string, list []Mark, run int64) error {
	if len(list) == 0 {
		return nil
	}
	by := pick(markTable, "step", "source", "read")
	old, fresh := column.NewBatch(by), column.NewBatch(markTable.Fields())
	for _, m := range list {
		row(old, step, m.Source, m.Read)
		row(fresh, step, m.Source, m.Read, m.Value, m.DependsOn, run)
	}
	if _, err := tx.Remove(ctx, markTable.Name, by, old); err != nil {
		return err
	}
	return warehouse.AppendAll(ctx, tx, markTable, fresh)
}
