package load

import (
	"context"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/fact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/resolve"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// settleKeys points facts to members that have come since, where no member had the natural key when they were loaded
// (rule R2).
func (w *factStep) settleKeys(ctx context.Context) error {
	for _, k := range w.step.keys {
		if !resolve.Settles(w.fact.Fact, k) {
			continue
		}
		open, err := ledger.OpenKeys(ctx, w.tx, w.fact.Table.Name, k.Column())
		if err != nil {
			return err
		}
		if len(open) == 0 {
			continue
		}
		if err := w.settleKey(ctx, k, open); err != nil {
			return err
		}
	}
	return nil
}

// settleKey points the facts with an open key to the members that there are now.
func (w *factStep) settleKey(ctx context.Context, k *star.Key, open []ledger.OpenKey) error {
	q, err := w.openKeyColumns(k, open)
	if err != nil {
		return err
	}
	if err := w.growTo(ctx, k, q.natural); err != nil {
		return err
	}
	x, err := w.rosterOf(ctx, k, q.natural)
	if err != nil {
		return err
	}
	n := len(open)
	match, surrogate, durable := make([]roster.Match, n), make([]int64, n), make([]int64, n)
	lookup := x.Lookup()
	lookup.CurrentIfTimeless = k.Milestone
	lookup.Resolve(q.natural, q.asOf, n, surrogate, durable, match)
	found := map[string]int{} // by row, which of the open keys has a member now
	var settled []ledger.OpenKey
	for i, m := range match {
		if m == roster.Matched || m == roster.Outside && k.Outside == star.Nearest {
			found[ledger.MemberText(open[i].Row)] = i
			settled = append(settled, open[i])
			if next := fact.NextEntry(w.fact, open[i].Row); next != nil { // the row that reverses it points to its member
				found[ledger.MemberText(next)] = i
			}
		}
	}
	if len(found) == 0 {
		return nil
	}
	table := w.fact.Table
	fields := append(table.PrimaryFields(), column.Field{Name: k.Column(), Type: column.Type{Kind: column.Integer}})
	by := len(fields) - 1
	if k.Both {
		fields = append(fields, column.Field{Name: k.DurableColumn(), Type: column.Type{Kind: column.Integer}})
	}
	fields = append(fields, column.Field{Name: schema.LoadRun, Type: column.Type{Kind: column.Integer}})
	changed := column.NewBatch(fields)
	err = w.openRows(ctx, k, settled, func(primary []*column.Column, id string, row int) {
		i, ok := found[id]
		if !ok {
			return
		}
		for n, c := range primary {
			changed.Cols[n].Append(c, row)
		}
		values := []int64{surrogate[i], durable[i], w.entry.ID}
		if !k.Both {
			values = []int64{surrogate[i], w.entry.ID}
		}
		for n, v := range values {
			changed.Cols[by+n].AppendInt(v)
		}
		changed.N++
	})
	if err != nil {
		return err
	}
	if changed.N > 0 {
		rows, err := w.tx.Amend(ctx, table.Name, by, fields, changed)
		if err != nil {
			return err
		}
		if w.figures.Settled == nil {
			w.figures.Settled = map[string]int64{}
		}
		w.figures.Settled[k.Text] += rows
	}
	return ledger.CloseKeys(ctx, w.tx, table.Name, k.Column(), settled)
}

// openRows calls f for the facts that the open keys are of and that still have what the rule of the key gave them;
// others have come in their place. A fact that the ledger knows by its grain is looked up, else the table is read once.
func (w *factStep) openRows(
	ctx context.Context,
	k *star.Key,
	open []ledger.OpenKey,
	f func(primary []*column.Column, id string, row int),
) error {
	id, primary := fact.RowID(w.fact), w.fact.Table.PrimaryFields()
	fields, at := slices.Clone(primary), make([]int, len(id))
	for n, f := range id {
		if at[n] = column.Find(fields, f.Name); at[n] < 0 {
			at[n], fields = len(fields), append(fields, f)
		}
	}
	fields = append(fields, column.Field{Name: k.Column(), Type: column.Type{Kind: column.Integer}})
	q := warehouse.Query{Table: w.fact.Table.Name, Fields: fields}
	if slices.Equal(column.Names(id), w.fact.Table.Primary) {
		match := make([]*column.Column, len(id))
		for n := range id {
			match[n] = &column.Column{Type: id[n].Type}
		}
		for _, o := range open {
			for _, row := range [][]string{o.Row, fact.NextEntry(w.fact, o.Row)} {
				if row == nil {
					continue
				}
				if err := ledger.Append(match, row); err != nil {
					return err
				}
			}
		}
		q.By, q.Match = w.fact.Table.Primary, match
	}
	return warehouse.Each(ctx, w.tx, q, func(b *column.Batch) error {
		cols := column.Pointers(b.Cols)
		for i := range b.N {
			if !k.Unmatched.Stands(k.Dimension, cols[len(cols)-1], i) {
				continue
			}
			var texts []string
			for _, n := range at {
				texts = append(texts, cols[n].Value(i))
			}
			f(cols[:len(primary)], ledger.MemberText(texts), i)
		}
		return nil
	})
}

// openQuestion is open keys as columns.
type openQuestion struct {
	natural []*column.Column
	asOf    *column.Column // nil if the key is of no time
}

func (w *factStep) openKeyColumns(k *star.Key, open []ledger.OpenKey) (q openQuestion, err error) {
	fields := w.fact.Source.Shaped()
	for _, name := range k.By {
		q.natural = append(q.natural, &column.Column{Type: fields[column.Find(fields, name)].Type})
	}
	if k.AsOf != "" {
		q.asOf = &column.Column{Type: fields[column.Find(fields, k.AsOf)].Type}
	}
	for _, o := range open {
		if err := ledger.Append(q.natural, o.Natural); err != nil {
			return q, err
		}
		switch {
		case q.asOf == nil:
		case o.AsOf == nil:
			q.asOf.AppendNull()
		default:
			q.asOf.AppendInt(*o.AsOf)
		}
	}
	return q, nil
}

// rosterOf returns the members of a key's dimension: those that have the natural keys, where they can be asked for.
func (w *factStep) rosterOf(ctx context.Context, k *star.Key, natural []*column.Column) (*roster.Roster, error) {
	d := w.star.Dimension(k.Dimension)
	if k.Dimension.Generated() || k.Dimension.LookedUp != nil {
		return w.roster(ctx, w.tx, k.Dimension)
	}
	wanted := roster.NewWanted(k.Dimension, int64(len(natural[0].Null)))
	wanted.Add(natural, len(natural[0].Null))
	return roster.OpenWanted(ctx, w.tx, d, wanted)
}
