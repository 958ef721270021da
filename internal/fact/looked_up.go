package fact

import (
	"context"
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/exact"
	"ironmonger/internal/warehouse"
)

// lookedUp is the way of a load of few rows into a large table: its rows are looked up by their grain, and the table is
// not read. What the load writes is counted by reading these rows back.
type lookedUp struct {
	written []column.Column    // the grain of each row that was written, as the table has it
	rows    int64              // how many these are
	taken   []exact.Int128     // of the rows that stood before the load, and do not any more
	own     map[digest.Sum]int // how many of written have a grain
	again   map[digest.Sum]int // and how many of these were replaced by others that the load wrote
	digest  digest.Maker
}

// LookUp has the rows of the load looked up in the table, of which the ledger's account is known. Call it before Open.
func (w *Writer) LookUp(account warehouse.Tally) {
	w.before, w.lookedUp = account, &lookedUp{
		taken: make([]exact.Int128, len(w.Measures)),
		own:   map[digest.Sum]int{},
		again: map[digest.Sum]int{},
	}
	for _, k := range w.primaryAt() {
		w.lookedUp.written = append(w.lookedUp.written, column.Column{Type: w.fields[k].Type})
	}
}

// find finds which rows of a chunk have a grain that stands in the table, and which stand there as they are.
func (w *Writer) find(ctx context.Context, tx warehouse.Tx, c *Chunk) error {
	if w.appender != nil {
		if err := w.appender.Flush(); err != nil {
			return err
		}
	}
	n := c.Batch.N
	c.same, c.gap = column.Resized(c.same, n), column.Resized(c.gap, n)
	clear(c.same)
	clear(c.gap)
	rows := make([]int32, 0, n)
	for i := range n {
		if !c.Batch.Bad(i) {
			rows = append(rows, int32(i))
		}
	}
	stand, err := w.standing(ctx, tx, c, rows)
	if err != nil {
		return err
	}
	for _, i := range rows {
		if j, there := stand.row[c.view.grain(int(i))]; there {
			c.same[i] = stand.content(j) == c.view.content(int(i))
			c.gap[i] = !c.same[i]
		}
	}
	if w.open != nil {
		w.open.doubt(c)
	}
	w.doubtAdded(c)
	w.order(c)
	return nil
}

// wrote notes rows that are written.
func (l *lookedUp) wrote(w *Writer, cols []*column.Column, rows []int32) {
	l.rows += int64(len(rows))
	primary := w.primaryAt()
	grain := make([]*column.Column, len(primary))
	for g, k := range primary {
		grain[g] = cols[k]
	}
	for _, i := range rows {
		l.own[l.digest.Of(grain, int(i))]++
	}
	for g, k := range primary {
		for _, i := range rows {
			l.written[g].AppendOwn(cols[k], int(i))
		}
	}
}

// replaced notes that row i of the replacements is written, in the place of a row that stood before the load, or of one
// that the load itself had written.
func (l *lookedUp) replaced(w *Writer, r *replacements, i int) {
	var old []*column.Column
	for _, k := range w.grainAt {
		old = append(old, &r.stood.Cols[k])
	}
	if id := l.digest.Of(old, i); l.own[id] > l.again[id] {
		l.again[id]++
		l.rows--
	} else {
		w.add(l.taken, r.stood, i)
	}
	l.wrote(w, column.Pointers(r.rows.Cols), []int32{int32(i)})
}

// grains returns the grain of each row that was written and not replaced.
func (l *lookedUp) grains() []*column.Column {
	all := column.Pointers(l.written)
	if len(l.again) == 0 {
		return all
	}
	left := make([]column.Column, len(all))
	for g := range left {
		left[g].Type = all[g].Type
	}
	for i := range all[0].Null {
		if id := l.digest.Of(all, i); l.again[id] > 0 {
			l.again[id]--
			continue
		}
		for g := range left {
			left[g].Append(all[g], i)
		}
	}
	return column.Pointers(left)
}

// tallyWritten counts the rows of the table, and adds to the account what the rows that were written hold.
func (w *Writer) tallyWritten(ctx context.Context, tx warehouse.Tx) (warehouse.Tally, error) {
	after, err := tx.Tally(ctx, w.fact.Table.Name, nil)
	if err != nil {
		return after, err
	}
	if after.Totals = slices.Clone(w.before.Totals); len(w.Measures) == 0 {
		return after, nil
	}
	b := column.NewBatch(w.Measures)
	if w.lookedUp.rows > 0 {
		b, err = warehouse.ReadAll(ctx, tx, warehouse.Query{
			Table:  w.fact.Table.Name,
			Fields: w.Measures,
			By:     w.fact.Table.Primary,
			Match:  w.lookedUp.grains(),
		})
		if err != nil {
			return after, err
		}
	}
	if rows := w.lookedUp.rows; int64(b.N) != rows {
		const message = "the account does not hold: %d rows were written to table %s, and %d of them are there"
		return after, fmt.Errorf(message, rows, w.fact.Table.Name, b.N)
	}
	for k := range w.Measures {
		sum := w.before.Totals[k]
		for i := range b.N {
			var ok bool
			if sum, ok = sum.Add(b.Cols[k].Exact(i)); !ok {
				return after, fmt.Errorf("the total of %s needs more than 38 digits", w.Measures[k].Name)
			}
		}
		after.Totals[k], _ = sum.Add(w.lookedUp.taken[k].Neg())
	}
	return after, nil
}
