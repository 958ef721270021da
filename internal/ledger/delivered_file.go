package ledger

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// DeliveredFile is when a file of a source was delivered as it is: its name has no date.
type DeliveredFile struct {
	Source, Name string
	Size         int64
	Changed      string // what the system said of its last change
	Content      string // a digest of what was in it
	Day          int64
}

// DeliveredFiles returns what is known of the files of all sources. The ledger may be one of an older program.
func DeliveredFiles(ctx context.Context, r warehouse.Reader) ([]DeliveredFile, error) {
	if there, err := r.Describe(ctx, deliveredTable.Name); err != nil || there == nil {
		return nil, err
	}
	fields := pick(deliveredTable, "source", "file", "size", "changed", "content", "delivered_on")
	b, err := warehouse.ReadAll(ctx, r, warehouse.Query{Table: deliveredTable.Name, Fields: fields})
	if err != nil {
		return nil, err
	}
	list := make([]DeliveredFile, b.N)
	for i := range list {
		list[i] = DeliveredFile{
			b.Cols[0].Text[i], b.Cols[1].Text[i], b.Cols[2].Int[i], b.Cols[3].Text[i], b.Cols[4].Text[i], b.Cols[5].Int[i],
		}
	}
	return list, nil
}

// EachDelivered calls f for what is known of the files of all sources.
func EachDelivered(ctx context.Context, r warehouse.Reader, f func(source, name string, day int64)) error {
	list, err := DeliveredFiles(ctx, r)
	for _, k := range list {
		f(k.Source, k.Name, k.Day)
	}
	return err
}

// KeepDeliveredFiles writes down when files were delivered, in place of what was known of files of the same names.
func KeepDeliveredFiles(ctx context.Context, tx warehouse.Tx, list []DeliveredFile, run int64) error {
	if len(list) == 0 {
		return nil
	}
	by := pick(deliveredTable, "source", "file")
	old, fresh := column.NewBatch(by), column.NewBatch(deliveredTable.Fields())
	for _, f := range list {
		row(old, f.Source, f.Name)
		row(fresh, f.Source, f.Name, f.Size, f.Changed, f.Content, f.Day, run)
	}
	if _, err := tx.Remove(ctx, deliveredTable.Name, by, old); err != nil {
		return err
	}
	return warehouse.AppendAll(ctx, tx, deliveredTable, fresh)
}
