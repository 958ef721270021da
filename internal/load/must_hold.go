package load

import (
	"context"
	"fmt"

	"ironmonger/internal/assert"
	"ironmonger/internal/column"
	"ironmonger/internal/standing"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// mustHold looks, before the step commits, at what the model says a load must stop for.
func (w *work) mustHold(ctx context.Context, t *warehouse.Table, list []*star.Must) error {
	var judges []*assert.Judge
	for _, m := range list {
		if m.InLoad {
			j, err := assert.New(m, t.Fields())
			if err != nil {
				return err
			}
			judges = append(judges, j)
		}
	}
	if judges == nil {
		return nil
	}
	against, first := make([]int64, len(judges)), make([]string, len(judges))
	err := warehouse.Each(ctx, w.tx, warehouse.Query{Table: t.Name, Fields: t.Fields()}, func(b *column.Batch) error {
		for n, j := range judges {
			j.Look(b, func(i int) {
				if against[n]++; against[n] == 1 {
					k := column.Find(t.Fields(), t.Primary[0])
					first[n] = t.Primary[0] + " " + b.Cols[k].Value(i)
				}
			})
		}
		return nil
	})
	if err != nil {
		return err
	}
	anew := w.inputs.Over(standing.New(w.tx, w.star)) // the rows are read again
	for n, j := range judges {
		if against[n] > 0 {
			return fmt.Errorf(
				"%s: %d rows speak against it, the first with %s: nothing is kept",
				j.Says(),
				against[n],
				first[n],
			)
		}
		said, err := j.Verdict(ctx, anew)
		if err != nil {
			return err
		}
		if said != "" {
			return fmt.Errorf("%s: %s: nothing is kept", j.Says(), said)
		}
	}
	return nil
}
