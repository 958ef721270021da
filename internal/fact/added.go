package fact

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/resolve"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// MayGet reports whether a column of a fact can be added to a table that has rows: measures, columns that are kept and
// keys, but nothing of the grain. Until a row of the source says more, a key is unknown, and others are null. A fact
// whose entries stay, or whose rows complete each other, has no way to say what came later.
func MayGet(f *schema.Fact, c warehouse.Column) (fill *int64, ok bool) {
	for _, g := range f.Grain {
		if g.Column == c.Name || g.Key != nil && g.Key.Column() == c.Name {
			return nil, false
		}
	}
	if f.Reverses() || f.Completion != nil {
		return nil, false
	}
	for _, k := range f.Keys {
		if c.Name != k.Column() && !(k.Both && c.Name == k.DurableColumn()) {
			continue
		}
		if !c.NotNull {
			return nil, true
		}
		unknown, has := k.Dimension.KeyOf(star.Unknown)
		return &unknown, has
	}
	listed := column.Find(f.Measures, c.Name) >= 0 || column.Find(f.Degenerate, c.Name) >= 0
	return nil, listed && !c.NotNull
}

// openAdded finds out which columns came to the table when it had rows.
func (w *Writer) openAdded(ctx context.Context, tx warehouse.Reader) error {
	if w.entries != nil || w.completion != nil {
		return nil
	}
	columns, err := ledger.AddedTo(ctx, tx, w.fact.Table.Name)
	if err != nil {
		return err
	}
	for k, f := range w.fields {
		if _, ok := columns[f.Name]; !ok || f.Name == schema.IsGone {
			continue
		}
		if w.added == nil {
			w.added = make([]bool, len(w.fields))
			w.others = append([]bool(nil), w.compared...)
		}
		w.added[k], w.others[k] = true, false
	}
	if w.added != nil && w.replaced == nil {
		w.replaced = newReplacements(w)
	}
	return nil
}

// fills reports whether row i says what row j of the table, of the same grain, says in all columns but those that were
// added, and something in one of these, where the row of the table has nothing yet.
func (w *Writer) fills(c *Chunk, i int32, known bool, stand *standing, j int) bool {
	if w.added == nil {
		return false
	}
	lacks := false
	for k := range w.fields {
		if !w.added[k] {
			continue
		}
		is, said := stand.cols[k], c.cols[k]
		n := w.linkOf[k]
		made := n != none && c.Keys.Open[n] != nil && c.Keys.Open[n][i] // its member has to be made, or was made just now
		if made && w.hasNothing(k, is, j) {
			lacks = true
			continue
		}
		if said.Equal(int(i), is, j) {
			continue
		}
		if !w.hasNothing(k, is, j) {
			return false
		}
		lacks = lacks || !w.hasNothing(k, said, int(i))
	}
	if !lacks {
		return false
	}
	_, values := w.differs(c, int(i), true, stand, j, w.others)
	return values == ""
}

// doubtAdded has rows compared in earnest whose member, of a key that was added, has to be made: until then, the row
// seems to have the unknown member, which stands in the table.
func (w *Writer) doubtAdded(c *Chunk) {
	for k := range w.added {
		n := w.linkOf[k]
		if !w.added[k] || n == none || c.Keys.Open[n] == nil {
			continue
		}
		for i, made := range c.Keys.Open[n] {
			if made && c.same[i] {
				c.same[i], c.gap[i] = false, true
			}
		}
	}
}

// hasNothing reports whether a column that was added has what it got then.
func (w *Writer) hasNothing(k int, c *column.Column, i int) bool {
	if c.Null[i] || w.linkOf[k] == none {
		return c.Null[i]
	}
	unknown, _ := w.links[w.linkOf[k]].Dimension.KeyOf(star.Unknown)
	return c.Int[i] == unknown
}

// fill has row i take the place of row j of the table, which lacks what was added. If another row of the load has
// filled it already, this one has to say the same, or the rule of the fact decides.
func (w *Writer) fill(c *Chunk, i int32, known bool, stand *standing, j int) error {
	if !known {
		resolve.Join(w.links, c.Batch, &c.Keys, i)
		c.view.refresh(int(i))
	}
	queued, ok := w.replaced.latest[c.view.grain(int(i))]
	if !ok || queued.row == none {
		w.replace(c, i, stand.view, j)
		return nil
	}
	of, values := w.differs(c, int(i), true, w.queued(), queued.row, w.compared)
	if values == "" {
		w.same(c, i)
		return nil
	}
	return w.decide(c, i, true, of, values, stand.view, j)
}
