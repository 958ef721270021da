package ledger

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// ReadFile is a file that a step has read. As long as it is as it was, and all else that decides what its rows become,
// it need not be read again.
type ReadFile struct {
	Source, File string
	Size         int64
	Changed      string // what the system says of its last change
	DependsOn    string // a digest of the model, the parameters and the other files that decide what its rows become
	Again        bool   // it has rows that may become something else by themselves, such as when a member comes
}

// ReadFiles returns the files that a step has read.
func ReadFiles(ctx context.Context, r warehouse.Reader, step string) ([]ReadFile, error) {
	match := column.Column{Type: text}
	match.AppendText(step)
	fields := pick(readTable, "source", "file", "size", "changed", "depends_on", "again")
	q := warehouse.Query{Table: readTable.Name, Fields: fields, By: []string{"step"}, Match: []*column.Column{&match}}
	b, err := warehouse.ReadAll(ctx, r, q)
	if err != nil {
		return nil, err
	}
	list := make([]ReadFile, b.N)
	for i := range list {
		list[i] = ReadFile{
			Source:    b.Cols[0].Text[i],
			File:      b.Cols[1].Text[i],
			Size:      b.Cols[2].Int[i],
			Changed:   b.Cols[3].Text[i],
			DependsOn: b.Cols[4].Text[i],
			Again:     b.Cols[5].Int[i] != 0,
		}
	}
	return list, nil
}

// KeepReadFiles writes down files that a step has read, in place of what was known of them and of those that are gone.
func KeepReadFiles(ctx context.Context, tx warehouse.Tx, step string, files, gone []ReadFile, run int64) error {
	by := pick(readTable, "step", "source", "file")
	old, fresh := column.NewBatch(by), column.NewBatch(readTable.Fields())
	for _, f := range gone {
		row(old, step, f.Source, f.File)
	}
	for _, f := range files {
		row(old, step, f.Source, f.File)
		row(fresh, step, f.Source, f.File, f.Size, f.Changed, f.DependsOn, number(f.Again), run)
	}
	if old.N == 0 {
		return nil
	}
	if _, err := tx.Remove(ctx, readTable.Name, by, old); err != nil {
		return err
	}
	return warehouse.AppendAll(ctx, tx, readTable, fresh)
}
