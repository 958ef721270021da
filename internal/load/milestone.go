package load

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// currentOf is the aspect of a fact's table under which the ledger keeps by which state of a dimension the facts
// without a milestone point to its current versions.
func currentOf(k *star.Key) string { return "current " + k.Text }

// seeCurrent notes which dimensions have changed since the fact was loaded last, of keys as of a milestone.
func (w *factStep) seeCurrent(ctx context.Context, was map[string]string) error {
	for _, k := range w.step.keys {
		if !k.Milestone {
			continue
		}
		_, by, err := ledger.Highest(ctx, w.tx, k.Dimension.Text)
		if err != nil {
			return err
		}
		if w.current == nil {
			w.current = map[*star.Key]string{}
		}
		if w.current[k] = by; was[currentOf(k)] != by {
			w.moves = append(w.moves, k)
		}
	}
	return nil
}

// moveOpen points the facts whose milestone is not told to the current versions of their members (rule R33).
func (w *factStep) moveOpen(ctx context.Context) error {
	for _, k := range w.moves {
		x, err := w.roster(ctx, w.tx, k.Dimension)
		if err != nil {
			return err
		}
		t := w.fact.Table
		primary, all := t.PrimaryFields(), t.Fields()
		n, integer := len(primary), column.Type{Kind: column.Integer}
		key := column.Field{Name: k.Column(), Type: integer}
		into := append(append([]column.Field(nil), primary...), key, column.Field{Name: schema.LoadRun, Type: integer})
		changed := column.NewBatch(into)
		q := warehouse.Query{Table: t.Name, Fields: append(append([]column.Field(nil), primary...), key, all[column.Find(all, k.AsOf)])}
		err = warehouse.Each(ctx, w.tx, q, func(b *column.Batch) error {
			for i, surrogate := range b.Cols[n].Int[:b.N] {
				if b.Cols[n].Null[i] || surrogate < 0 || !b.Cols[n+1].Null[i] {
					continue
				}
				versions := x.Versions(surrogate)
				if current := versions[len(versions)-1]; current != surrogate {
					for c := range primary {
						changed.Cols[c].AppendOwn(&b.Cols[c], i)
					}
					changed.Cols[n].AppendInt(current)
					changed.Cols[n+1].AppendInt(w.entry.ID)
					changed.N++
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
		if changed.N == 0 {
			continue
		}
		if _, err := w.tx.Amend(ctx, t.Name, n, into, changed); err != nil {
			return err
		}
		if w.figures.Repointed == nil {
			w.figures.Repointed = map[string]int64{}
		}
		w.figures.Repointed[t.Name] += int64(changed.N)
	}
	return nil
}
