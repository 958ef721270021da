package load

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/dimension"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/schema"
	"ironmonger/internal/transform"
)

// growth returns how a calendar grows in the step, from the days that it has; nil if it does not.
func (w *work) growth(ctx context.Context, d *schema.Dimension) *dimension.Growth {
	c := d.Calendar
	if c == nil || !c.Grows() {
		return nil
	}
	there := w.inputs.DaysOf(c)
	return &dimension.Growth{Calendar: c, From: there.From, To: there.To, Rows: func(from, to int64) (*column.Batch, []column.Field, error) {
		in := w.inputs.Having(c, from, to)
		flow, err := transform.Open(ctx, in, d.Source, func(string) bool { return true })
		if err != nil {
			return nil, nil, err
		}
		all := column.NewBatch(flow.Fields())
		err = pipeline.Batches(ctx, flow, 1, func(b *column.Batch) error {
			for i := range b.N {
				for k := range all.Cols {
					all.Cols[k].AppendOwn(&b.Cols[k], i)
				}
			}
			all.N += b.N
			return nil
		})
		return all, flow.Fields(), err
	}}
}
