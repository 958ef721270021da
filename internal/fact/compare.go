package fact

import (
	"context"
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/digest"
	"ironmonger/internal/resolve"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// repeated compares rows whose grain seems to have come before with what stands in the table: equal in all columns,
// they are the same; different, the rule of the fact decides; and if their grain is not there after all, they are new.
func (w *Writer) repeated(ctx context.Context, tx warehouse.Tx, c *Chunk, rows []int32) error {
	if w.appender != nil {
		if err := w.appender.Flush(); err != nil {
			return err
		}
	}
	known := make([]bool, len(rows))
	for n, i := range rows {
		known[n] = resolve.Known(w.links, c.Batch, &c.Keys, i, nil)
	}
	c.view.look(c.cols[:len(w.fields)], c.Batch.N) // keys have come in
	stand, err := w.standing(ctx, tx, c, rows)
	if err != nil {
		return err
	}
	for n, i := range rows {
		if err := w.judge(ctx, tx, c, i, known[n], stand); err != nil {
			return err
		}
		w.tell(c, i)
	}
	return nil
}

// judge decides about row i, of which a row with the same grain seems to stand in the table.
func (w *Writer) judge(ctx context.Context, tx warehouse.Tx, c *Chunk, i int32, known bool, stand *standing) error {
	if c.isSame(i) {
		w.says(c, i)
		return nil
	}
	j, there := stand.row[c.view.grain(int(i))]
	if !there { // a chance meeting of two digests, or the row before was set aside
		if w.unordered(c, i) {
			return nil
		}
		if !known {
			resolve.Join(w.links, c.Batch, &c.Keys, i)
			c.view.refresh(int(i))
		}
		grain := c.view.grain(int(i))
		if stand.added[grain] { // by an earlier row of the chunk
			return w.repeated(ctx, tx, c, []int32{i})
		}
		stand.added[grain] = true
		w.grain.fresh(c.view, int(i))
		return w.append(ctx, tx, c, []int32{i})
	}
	if w.completion != nil {
		w.completes(c, i, known, stand, j)
		return nil
	}
	if w.fills(c, i, known, stand, j) {
		return w.fill(c, i, known, stand, j)
	}
	of, values := w.differs(c, int(i), known, stand, j, w.compared)
	if values != "" {
		return w.disagrees(c, i, known, of, values, stand.view, j)
	}
	w.says(c, i)
	return nil
}

// standing is rows of the table, by their grain.
type standing struct {
	*view
	row   map[digest.Sum]int
	added map[digest.Sum]bool               // grains that were written since, although they seemed to stand in the table
	told  map[digest.Sum]map[string]telling // by grain and milestone, which row has told it, where it is not that of the fact
	open  [][]string                        // for each link, the natural key of each row that no member had; "" where that is not known
}

// standing reads the table's rows that have the grain of one of the rows.
func (w *Writer) standing(ctx context.Context, tx warehouse.Tx, c *Chunk, rows []int32) (*standing, error) {
	match := make([]column.Column, len(w.grainAt))
	for g, k := range w.grainAt {
		match[g].Type = w.fields[k].Type
	}
	for _, i := range rows {
		if c.isSame(i) {
			continue
		}
		w.matchRow(match, c, int(i), 0, nil)
	}
	b, err := warehouse.ReadAll(
		ctx,
		tx,
		warehouse.Query{
			Table:  w.fact.Table.Name,
			Fields: w.fact.Table.Fields(),
			By:     w.fact.GrainColumns(),
			Match:  column.Pointers(match),
		},
	)
	if err != nil {
		return nil, err
	}
	s := &standing{view: w.newView(), row: map[digest.Sum]int{}, added: map[digest.Sum]bool{}}
	s.look(column.Pointers(b.Cols)[:len(w.fields)], b.N)
	s.cols = column.Pointers(b.Cols)
	for j := range b.N {
		grain := s.grain(j)
		if before, ok := s.row[grain]; ok && w.entries != nil &&
			s.cols[w.entries.entry].Int[before] > s.cols[w.entries.entry].Int[j] {
			continue
		}
		s.row[grain] = j
	}
	if w.open != nil {
		err = w.open.naturals(ctx, tx, s, b.N)
	}
	if w.completion != nil && err == nil {
		err = w.completion.read(ctx, tx, s, match)
	}
	return s, err
}

// differs compares a row of a load with one of the table in the columns that are to be compared. Where a rule put
// something there for a natural key that no member had, natural keys are compared (rule R2); where the ledger does not
// have the one that was delivered, any equals it. A row without one equals only what the rule for that says. What is
// not a key is compared first. Unless all its members are known, row i names one that is not there, so that no row can
// be the same.
func (w *Writer) differs(
	c *Chunk,
	i int,
	known bool,
	stand *standing,
	j int,
	compared []bool,
) (of, values string) {
	for k, f := range w.fields {
		is, said := stand.canon[k], c.view.canon[k]
		if n := w.linkOf[k]; n != none && w.open != nil && compared[k] && !w.durable[k] && w.open.special(n, stand, j) {
			if equal, decided := w.open.equal(c, i, n, stand, j); decided && equal {
				continue
			} else if decided {
				const message = "%s is %s in the table, of another natural key than ‹%s›"
				of, values = f.Name, fmt.Sprintf(message, f.Name, shown(stand.cols[k], j), w.links[n].Natural(c.Batch, i))
				continue
			}
		}
		if !compared[k] || said.Equal(i, is, j) || w.linkOf[k] != none && w.stands(k, c.Batch, i, is, j) {
			continue
		}
		n := w.linkOf[k]
		switch {
		case w.from[k] != none:
			return f.Name, fmt.Sprintf("%s is %s in the table, and %s here", f.Name, shown(is, j), shown(said, i))
		case n == none:
			return f.Name, "the fact was gone"
		}
		if open := c.Keys.Open[n]; of == "" && (known || open == nil || !open[i]) {
			of, values = f.Name, fmt.Sprintf(
				"%s is %s in the table, and not that of ‹%s›",
				f.Name,
				shown(stand.cols[k], j),
				w.links[n].Natural(c.Batch, i),
			)
		}
	}
	if of == "" && !known {
		values = "it names a member that is not there"
	}
	return of, values
}

// stands reports whether field k of a row of the table may be what a rule made of the natural key that row i says.
func (w *Writer) stands(k int, b *column.Batch, i int, is *column.Column, j int) bool {
	l := w.links[w.linkOf[k]]
	if !l.Dimension.Junk && slices.ContainsFunc(l.Says(b), func(c *column.Column) bool { return c.Null[i] }) {
		return false
	}
	return slices.ContainsFunc(w.rules[k], func(rule star.Outcome) bool { return rule.Stands(l.Dimension, is, j) })
}

func shown(c *column.Column, i int) string {
	if c.Null[i] {
		return "null"
	}
	return diag.Clip(diag.Printable(c.Value(i)), 60)
}

// matchRow adds the grain of row i to match, once for every combination of versions that its members
// have, since the table holds versions and the grain means members.
func (w *Writer) matchRow(match []column.Column, c *Chunk, i, g int, keys []int64) {
	if g == len(w.grainAt) {
		for n, k := range w.grainAt {
			if w.canon[k] != nil {
				match[n].AppendInt(keys[n])
			} else {
				match[n].Append(c.cols[k], i)
			}
		}
		return
	}
	k := w.grainAt[g]
	if w.canon[k] == nil {
		w.matchRow(match, c, i, g+1, append(keys, 0))
		return
	}
	for _, surrogate := range w.canon[k].Versions(c.cols[k].Int[i]) {
		w.matchRow(match, c, i, g+1, append(keys, surrogate))
	}
}
