package load

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/dimension"
	"ironmonger/internal/exact"
	"ironmonger/internal/fact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// mergeFacts finds facts whose grain is the same now that members have become one, before their keys are changed.
// The rules of a repeated grain hold (rule R17): one of them stays, that of the member which the others are part of
// now; of the others, those that say the same are taken away, and those that say something else are set aside
// besides.
func (w *dimensionStep) mergeFacts(ctx context.Context, one map[int64]dimension.One) error {
	if one == nil {
		return nil
	}
	if err := w.waitTurn(ctx); err != nil {
		return err
	}
	for _, f := range w.star.Facts {
		var grain []string // the keys of the grain that point here
		for _, g := range f.Grain {
			if g.Key != nil && g.Key.Dimension == w.dimension.Dimension {
				grain = append(grain, g.Key.Column())
			}
		}
		if grain == nil {
			continue
		}
		if there, err := w.tx.Describe(ctx, f.Table.Name); err != nil {
			return err
		} else if there == nil {
			continue
		}
		if err := w.mergeFactsIn(ctx, f, grain, one); err != nil {
			return err
		}
	}
	return nil
}

// metFact is a fact that one of the members concerned has.
type metFact struct {
	row   int
	grain string // members in place of versions, and the one in place of those that it is now
	stays bool
}

func (w *dimensionStep) mergeFactsIn(
	ctx context.Context,
	f *schema.Fact,
	grain []string,
	one map[int64]dimension.One,
) error {
	fields := f.Table.Fields()
	rows, err := w.factsOf(ctx, f, grain, one)
	if err != nil || rows.N == 0 {
		return err
	}
	canon := map[string]*roster.Roster{}
	for _, k := range f.Keys {
		if k.Dimension != w.dimension.Dimension && k.Dimension.Versioned() &&
			slices.Contains(f.Table.Primary, k.Column()) {
			if canon[k.Column()], err = w.roster(ctx, w.tx, k.Dimension); err != nil {
				return err
			}
		}
	}
	list := make([]metFact, rows.N)
	for i := range list {
		list[i] = metFact{row: i, stays: true}
		var id []byte
		for _, name := range f.Table.Primary {
			c := &rows.Cols[column.Find(fields, name)]
			switch to, concerned := one[whole64(c, i)]; {
			case slices.Contains(grain, name) && concerned:
				id, list[i].stays = fmt.Appendf(id, "one %d ", to.Member), list[i].stays && to.Stays
			case canon[name] != nil:
				id = fmt.Appendf(id, "%d ", canon[name].Canon(whole64(c, i)))
			default:
				id = digest.AppendKey(id, c, i)
			}
		}
		list[i].grain = string(id)
	}
	line := &rows.Cols[column.Find(fields, schema.LoadLine)]
	slices.SortFunc(list, func(a, b metFact) int {
		first := func(s metFact) int { return map[bool]int{true: 0, false: 1}[s.stays] }
		return cmp.Or(
			strings.Compare(a.grain, b.grain),
			cmp.Compare(first(a), first(b)),
			cmp.Compare(line.Int[a.row], line.Int[b.row]),
		)
	})
	var gone []metFact
	stands := map[int]int{} // which fact stands in place of one that goes
	for first, n := 0, 1; n < len(list); n++ {
		if list[n].grain != list[first].grain {
			first = n
			continue
		}
		gone = append(gone, list[n])
		stands[list[n].row] = list[first].row
	}
	return w.takeAway(ctx, f, grain, rows, gone, stands)
}

// factsOf reads the facts that point to one of the keys by a key of their grain, each once.
func (w *dimensionStep) factsOf(
	ctx context.Context,
	f *schema.Fact,
	grain []string,
	one map[int64]dimension.One,
) (*column.Batch, error) {
	match := column.Column{Type: column.Type{Kind: column.Integer}}
	for key := range one {
		match.AppendInt(key)
	}
	fields := f.Table.Fields()
	all, known := column.NewBatch(fields), map[string]bool{}
	for _, name := range grain {
		b, err := warehouse.ReadAll(
			ctx,
			w.tx,
			warehouse.Query{Table: f.Table.Name, Fields: fields, By: []string{name}, Match: []*column.Column{&match}},
		)
		if err != nil {
			return nil, err
		}
		for i := range b.N {
			var id []byte
			for _, p := range f.Table.Primary {
				id = digest.AppendKey(id, &b.Cols[column.Find(fields, p)], i)
			}
			if known[string(id)] {
				continue
			}
			known[string(id)] = true
			for k := range all.Cols {
				all.Cols[k].Append(&b.Cols[k], i)
			}
			all.N++
		}
	}
	return all, nil
}

// takeAway removes facts from their table and from its account, and sets those aside that say something else than
// the ones that stand.
func (w *dimensionStep) takeAway(
	ctx context.Context,
	f *schema.Fact,
	grain []string,
	rows *column.Batch,
	gone []metFact,
	stands map[int]int,
) error {
	if len(gone) == 0 {
		return nil
	}
	fields := f.Table.Fields()
	var primary []column.Field
	for _, name := range f.Table.Primary {
		primary = append(primary, fields[column.Find(fields, name)])
	}
	measures := (&factStep{fact: f}).target().measures
	totals := make([]exact.Int128, len(measures))
	names, err := ledger.FileNames(ctx, w.tx)
	if err != nil {
		return err
	}
	book, err := ledger.OpenAsides(ctx, w.tx, "fact "+f.Text, w.entry.ID, &w.places[w.step].aside)
	if err != nil {
		return err
	}
	remove := column.NewBatch(primary)
	for _, s := range gone {
		for k, p := range primary {
			remove.Cols[k].Append(&rows.Cols[column.Find(fields, p.Name)], s.row)
		}
		remove.N++
		for k, m := range measures {
			totals[k], _ = totals[k].Add(rows.Cols[column.Find(fields, m.Name)].Exact(s.row).Neg())
		}
		of, values := unlike(f, grain, rows, s.row, stands[s.row])
		if of == "" {
			continue
		}
		number, line := ledger.FileAndLine(rows.Cols[column.Find(fields, schema.LoadLine)].Int[s.row])
		if err := book.Put(&ledger.Aside{Source: f.Source.Text, File: names[number], Line: line, Content: record(rows, s.row), Repeats: true,
			Causes: []ledger.Cause{{Reason: fact.RepeatReason, Of: of, Value: values}}}); err != nil {
			return err
		}
	}
	if err := book.Write(); err != nil {
		return err
	}
	if _, err := w.tx.Remove(ctx, f.Table.Name, primary, remove); err != nil {
		return err
	}
	account, err := ledger.AccountOf(ctx, w.tx, f.Table.Name, "fact "+f.Text, "", measures)
	if err != nil || account == nil {
		return err
	}
	account.Add(-int64(len(gone)), totals)
	if w.figures.Met == nil {
		w.figures.Met = map[string]int64{}
	}
	w.figures.Met[f.Table.Name] += int64(len(gone))
	return account.Keep(ctx, w.tx, w.entry.ID)
}

// unlike says in which column two facts differ that are not told apart by their keys in the grain any more; "" if
// in none.
func unlike(f *schema.Fact, grain []string, rows *column.Batch, i, j int) (of, values string) {
	for k, c := range f.Table.Fields() {
		key := slices.ContainsFunc(f.Keys, func(x *star.Key) bool {
			return slices.Contains(grain, x.Column()) && (c.Name == x.Column() || c.Name == x.DurableColumn())
		})
		if col := &rows.Cols[k]; !key && c.Name != schema.LoadLine && c.Name != schema.LoadRun &&
			!col.Equal(i, col, j) {
			say := func(n int) string {
				if col.Null[n] {
					return "null"
				}
				return col.Value(n)
			}
			return c.Name, fmt.Sprintf("%s is %s in the table, and %s here", c.Name, say(j), say(i))
		}
	}
	return "", ""
}

// record is a row of a table as a record of CSV.
func record(b *column.Batch, i int) string {
	var values []string
	for k := range b.Cols {
		if b.Cols[k].Null[i] {
			values = append(values, "")
		} else {
			values = append(values, b.Cols[k].Value(i))
		}
	}
	return ledger.Content(source.Record(values))
}

// whole64 is an integer of a column; 0 of a column that has none.
func whole64(c *column.Column, i int) int64 {
	if c.Type.Kind != column.Integer {
		return 0
	}
	return c.Int[i]
}
