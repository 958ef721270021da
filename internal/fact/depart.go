package fact

import (
	"context"
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// withinGone stops a load by which too many facts would be gone.
func (w *Writer) withinGone(what string, lost, of int64) error {
	limit := w.fact.Limits.Gone
	if w.fact.Deliveries.Gone == star.Keep || limit == star.NoLimit || of <= star.LimitFrom ||
		lost*100_0000 <= limit*of {
		return nil
	}
	const message = "%d of %d facts%s would be gone, more than limits.gone allows: nothing is kept. Is the delivery complete?"
	return fmt.Errorf(message, lost, of, what)
}

// depart does with facts that are gone, which stand in the table, what the rule says.
func (w *Writer) depart(ctx context.Context, tx warehouse.Tx, gone *column.Batch) error {
	w.Outcome.Gone += int64(gone.N)
	if gone.N == 0 || w.fact.Deliveries.Gone == star.Keep {
		return nil
	}
	if err := w.begin(ctx, tx); err != nil {
		return err
	}
	if w.entries != nil {
		return w.reverseGone(ctx, tx, gone)
	}
	if w.fact.Removes() {
		if err := w.take(ctx, tx, gone); err != nil {
			return err
		}
		return w.remember(ctx, tx, gone)
	}
	primary := w.fact.Table.PrimaryFields()
	fields := append(slices.Clone(primary),
		column.Field{Name: schema.IsGone, Type: column.Type{Kind: column.Boolean}},
		column.Field{Name: schema.LoadRun, Type: column.Type{Kind: column.Integer}})
	b := column.NewBatch(fields)
	for i := range gone.N {
		for g, k := range w.grainAt {
			b.Cols[g].Append(&gone.Cols[k], i)
		}
		b.Cols[len(primary)].AppendInt(1)
		b.Cols[len(primary)+1].AppendInt(w.run)
		b.N++
	}
	n, err := tx.Amend(ctx, w.fact.Table.Name, len(primary), fields, b)
	if err == nil && n != int64(gone.N) {
		err = fmt.Errorf("%d rows of table %s are gone, and %d were found to be marked", gone.N, w.fact.Table.Name, n)
	}
	return err
}

// take removes rows from the table, and counts them. Their keys are not pointed to members any more.
func (w *Writer) take(ctx context.Context, tx warehouse.Tx, rows *column.Batch) error {
	primary := w.fact.Table.PrimaryFields()
	b := column.NewBatch(primary)
	for g, k := range w.grainAt {
		for i := range rows.N {
			b.Cols[g].Append(&rows.Cols[k], i)
		}
	}
	b.N = rows.N
	n, err := tx.Remove(ctx, w.fact.Table.Name, primary, b)
	if err != nil {
		return err
	}
	if n != int64(rows.N) {
		return fmt.Errorf("%d rows of table %s are gone, and %d were found to be removed", rows.N, w.fact.Table.Name, n)
	}
	if w.fact.Told != nil {
		if _, err := tx.Remove(ctx, w.fact.Told.Name, primary, b); err != nil {
			return err
		}
	}
	w.Outcome.Removed += n
	for i := range rows.N {
		w.add(w.Outcome.RemovedTotal, rows, i)
		if w.lookedUp != nil {
			w.add(w.lookedUp.taken, rows, i)
		}
	}
	if w.open != nil {
		w.open.drop(rows)
		return w.open.keep(ctx, tx)
	}
	return nil
}

// remember writes rows that were removed where they can be found.
func (w *Writer) remember(ctx context.Context, tx warehouse.Tx, rows *column.Batch) error {
	t := w.fact.Removed
	b := column.NewBatch(t.Fields())
	last := len(b.Cols) - 1
	for k := range rows.Cols {
		b.Cols[k] = rows.Cols[k]
	}
	for range rows.N {
		b.Cols[last].AppendInt(w.run)
	}
	b.N = rows.N
	return warehouse.AppendAll(ctx, tx, t, b)
}

// openRemoved reads the grains of the facts that were removed: they may come back.
func (w *Writer) openRemoved(ctx context.Context, tx warehouse.Tx) error {
	if !w.fact.Removes() {
		return nil
	}
	w.warm()
	v := w.newView()
	q := warehouse.Query{Table: w.fact.Removed.Name, Fields: w.fields}
	return warehouse.Each(ctx, tx, q, func(b *column.Batch) error {
		if w.removed == nil {
			w.removed = newTable(false)
		}
		v.look(column.Pointers(b.Cols), b.N)
		for i := range b.N {
			w.removed.put(w.id(v, i), 0)
		}
		return nil
	})
}

// isGone reports whether row j of the table is the last of a fact that is gone, or that its file does not have any
// more.
func (w *Writer) isGone(v *view, j int) bool {
	if e := w.entries; e != nil {
		return e.reverses(v.cols, j) || w.withdrawn != nil && w.withdrawn.has(w.id(v, j))
	}
	return w.isFlagged(v.cols, j)
}

// isFlagged reports whether row i, of the table's columns, has the mark of facts that are gone.
func (w *Writer) isFlagged(cols []*column.Column, i int) bool {
	return w.goneAt != none && cols[w.goneAt].Int[i] != 0
}
