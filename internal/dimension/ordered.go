package dimension

import (
	"cmp"
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/spill"
	"ironmonger/internal/warehouse"
)

// ordered is the rows of new versions on their way into an empty table, to which they are added by key, as a database
// likes it best; and what is noted besides. No other table points to them yet.
type ordered struct {
	n     *places
	rows  *spill.Rows
	notes *spill.Rows // nil if nothing is noted
}

func newOrdered(f *Feed, n *places) (*ordered, error) {
	d := f.x.Dimension()
	o := &ordered{n: n}
	var err error
	if o.rows, err = spill.New(d.Table.Fields(), int(n.all/orderedRows)+1); err == nil && d.Observed != nil {
		if o.notes, err = spill.New(d.Observed.Fields(), 1); err != nil {
			o.rows.Close()
		}
	}
	return o, err
}

// orderedRows is how many rows are brought into order at a time.
const orderedRows = 1 << 17

// put takes the rows of a batch.
func (o *ordered) put(b *column.Batch) {
	cols := column.Pointers(b.Cols)
	for i := range b.N {
		o.rows.Put(int(o.n.place(b.Cols[0].Int[i])/orderedRows), cols, i)
	}
}

// write adds all rows to the tables.
func (o *ordered) write(ctx context.Context, tx warehouse.Tx, f *Feed) error {
	d := f.x.Dimension()
	order := make([]int32, 0, orderedRows)
	for part := range o.rows.Parts() {
		f.parts.Busy(part+1, o.rows.Parts())
		rows := column.NewBatch(d.Table.Fields())
		cols := column.Pointers(rows.Cols)
		err := pipeline.Batches(ctx, o.rows.Part(part), f.parts.Workers, func(b *column.Batch) error {
			for k, c := range cols {
				for i := range b.N {
					c.Append(&b.Cols[k], i)
				}
			}
			rows.N += b.N
			return nil
		})
		if err != nil {
			return err
		}
		first := int64(part) * orderedRows
		order = order[:rows.N]
		for i, key := range rows.Cols[0].Int {
			order[o.n.place(key)-first] = int32(i)
		}
		for from := 0; from < rows.N; from += insertRows {
			if err := f.appendRows(ctx, tx, cols, order[from:min(from+insertRows, rows.N)]); err != nil {
				return err
			}
		}
	}
	if err := f.written(ctx, tx); err != nil || o.notes == nil {
		return err
	}
	to, err := tx.Append(ctx, d.Observed.Name, d.Observed.Fields())
	if err != nil {
		return err
	}
	err = pipeline.Batches(ctx, o.notes.Part(0), f.parts.Workers, func(b *column.Batch) error {
		return to.Append(column.Pointers(b.Cols[:len(b.Cols)-1]), upTo(b.N))
	})
	_, cerr := to.Close()
	return cmp.Or(err, cerr)
}

func (o *ordered) close() {
	o.rows.Close()
	if o.notes != nil {
		o.notes.Close()
	}
}
