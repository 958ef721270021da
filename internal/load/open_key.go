package load

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/fact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/resolve"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
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
	x, err := w.rosterOf(ctx, k, q.natural)
	if err != nil {
		return err
	}
	n := len(open)
	match, surrogate, durable := make([]roster.Match, n), make([]int64, n), make([]int64, n)
	x.Lookup().Resolve(q.natural, q.asOf, n, surrogate, durable, match)
	id := fact.RowID(w.fact)
	fields := append(id[:len(id):len(id)], column.Field{Name: k.Column(), Type: column.Type{Kind: column.Integer}})
	if k.Both {
		fields = append(fields, column.Field{Name: k.DurableColumn(), Type: column.Type{Kind: column.Integer}})
	}
	fields = append(fields, column.Field{Name: schema.LoadRun, Type: column.Type{Kind: column.Integer}})
	changed := column.NewBatch(fields)
	var settled []ledger.OpenKey
	for i, m := range match {
		if m != roster.Matched && (m != roster.Outside || k.Outside != star.Nearest) {
			continue
		}
		if err := ledger.Append(column.Pointers(changed.Cols)[:len(id)], open[i].Row); err != nil {
			return err
		}
		at := len(id)
		put := func(v int64) {
			changed.Cols[at].AppendInt(v)
			at++
		}
		if put(surrogate[i]); k.Both {
			put(durable[i])
		}
		put(w.entry.ID)
		changed.N++
		settled = append(settled, open[i])
	}
	if changed.N == 0 {
		return nil
	}
	rows, err := w.tx.Amend(ctx, w.fact.Table.Name, len(id), fields, changed)
	if err != nil {
		return err
	}
	if w.figures.Settled == nil {
		w.figures.Settled = map[string]int64{}
	}
	w.figures.Settled[k.Text] += rows
	return ledger.CloseKeys(ctx, w.tx, w.fact.Table.Name, k.Column(), settled)
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
	if k.Dimension.Calendar != nil || k.Dimension.LookedUp != nil {
		return w.roster(ctx, w.tx, k.Dimension)
	}
	wanted := roster.NewWanted(k.Dimension, int64(len(natural[0].Null)))
	wanted.Add(natural, len(natural[0].Null))
	return roster.OpenWanted(ctx, w.tx, d, wanted)
}
