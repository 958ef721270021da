package fact

import (
	"context"
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/resolve"
	"ironmonger/internal/warehouse"
)

// Take decides about the rows of a prepared chunk and writes those that are new. Rows that it sets
// aside have their faults added to the batch.
func (w *Writer) Take(ctx context.Context, tx warehouse.Tx, c *Chunk) error {
	b := c.Batch
	c.rows, c.Loaded = c.rows[:0], c.Loaded[:0]
	if w.lookedUp != nil {
		if err := w.find(ctx, tx, c); err != nil {
			return err
		}
	}
	if w.entries != nil {
		w.entries.saw(c)
	}
	var repeats []int32
	pending := c.Keys.Pending
	for i := range int32(b.N) {
		if b.Bad(int(i)) {
			w.tell(c, i)
			continue
		}
		if w.delivered != nil && w.delivered.late(c, i) {
			w.takeLate(c, i)
			continue
		}
		if c.isSame(i) {
			if w.replaced != nil && len(repeats) > 0 { // the order of the rows decides
				repeats = append(repeats, i)
			} else {
				w.says(c, i)
				w.tell(c, i)
			}
			continue
		}
		for len(pending) > 0 && pending[0] < i {
			pending = pending[1:]
		}
		infers := len(pending) > 0 && pending[0] == i
		if infers && w.grainInfers {
			// A member that is not there cannot have a row; one that this load made can.
			if !resolve.Known(w.links, b, &c.Keys, i, w.inGrain) {
				resolve.Join(w.links, b, &c.Keys, i)
			}
			c.view.refresh(int(i))
		}
		if len(c.gap) > 0 && c.gap[i] || !w.grain.fresh(c.view, int(i)) {
			repeats = append(repeats, i)
			continue
		}
		if w.unordered(c, i) {
			continue
		}
		if infers {
			resolve.Join(w.links, b, &c.Keys, i)
		}
		c.rows = append(c.rows, i)
		w.tell(c, i)
	}
	if err := w.append(ctx, tx, c, c.rows); err != nil {
		return err
	}
	if len(repeats) > 0 {
		return w.repeated(ctx, tx, c, repeats)
	}
	return nil
}

// tell notes that row i was delivered.
func (w *Writer) tell(c *Chunk, i int32) {
	if w.delivered != nil {
		w.delivered.tell(c, i)
	}
}

// takeLate passes over row i, which an older delivery has than the last that was loaded of its scope.
func (w *Writer) takeLate(c *Chunk, i int32) {
	w.tell(c, i)
	if c.isSame(i) {
		w.same(c, i)
	} else {
		w.older(c, i)
	}
}

// isSame reports whether row i is known to stand in the table as it is.
func (c *Chunk) isSame(i int32) bool { return len(c.same) > 0 && c.same[i] }

func (w *Writer) same(c *Chunk, i int32) {
	w.Outcome.Same++
	w.sum(w.Outcome.SameSum, c, i)
}

// primaryAt lists which fields tell a row from others.
func (w *Writer) primaryAt() []int {
	if w.entries == nil {
		return w.grainAt
	}
	return append(slices.Clone(w.grainAt), w.entries.entry)
}

// begin opens the table for writing.
func (w *Writer) begin(ctx context.Context, tx warehouse.Tx) (err error) {
	if w.appender != nil {
		return nil
	}
	if w.lookedUp == nil {
		if w.before, err = tx.Tally(ctx, w.fact.Table.Name, w.Measures); err != nil {
			return err
		}
	}
	w.appender, err = warehouse.AppendTo(ctx, tx, w.fact.Table)
	return err
}

// append writes members first, then the facts that point to them.
func (w *Writer) append(ctx context.Context, tx warehouse.Tx, c *Chunk, rows []int32) error {
	if len(rows) == 0 {
		return nil
	}
	for _, l := range w.links {
		if err := l.Session.Write(ctx, tx); err != nil {
			return err
		}
	}
	if err := w.begin(ctx, tx); err != nil {
		return err
	}
	w.Outcome.Inserted += int64(len(rows))
	for _, m := range w.fact.Measures {
		null := c.cols[column.Find(w.fields, m.Name)].Null
		for _, i := range rows {
			if null[i] {
				w.Outcome.Empty[m.Name]++
			}
		}
	}
	c.Loaded = append(c.Loaded, rows...)
	w.arrive(c, rows)
	if w.lookedUp != nil {
		w.lookedUp.wrote(w, c.cols, rows)
	}
	if w.open != nil {
		if err := w.open.wrote(ctx, tx, c, rows); err != nil {
			return err
		}
	}
	for k, at := range w.measure {
		sum := exact.Int128{}
		for _, i := range rows {
			sum, _ = sum.Add(c.Batch.Cols[at].Exact(int(i)))
		}
		var ok bool
		if w.Outcome.InsertedTotal[k], ok = w.Outcome.InsertedTotal[k].Add(sum); !ok {
			return fmt.Errorf("the total of %s needs more than 38 digits", w.Measures[k].Name)
		}
	}
	return w.appender.Append(c.cols, rows)
}

// arrive counts rows that are written by their scopes, and notes which are in the place of facts that were withdrawn.
func (w *Writer) arrive(c *Chunk, rows []int32) {
	for _, i := range rows {
		if w.delivered != nil {
			w.delivered.scopeOf(c.cols, int(i)).inserted++
		}
		if w.withdrawn != nil {
			w.withdrawn.wrote(w.id(c.view, int(i)))
		}
		if w.removed != nil && w.removed.has(w.id(c.view, int(i))) {
			w.Outcome.Back++
		}
	}
}
