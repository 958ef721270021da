package load

import (
	"context"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/dimension"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/schema"
	"ironmonger/internal/standing"
	"ironmonger/internal/star"
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

// growTo has the calendar of a key grow to days that were out of its reach before.
func (w *factStep) growTo(ctx context.Context, k *star.Key, natural []*column.Column) error {
	g := w.growth(ctx, w.star.Dimension(k.Dimension))
	if g == nil {
		return nil
	}
	x, err := w.roster(ctx, w.tx, k.Dimension)
	if err != nil {
		return err
	}
	s := dimension.NewSession(x, w.entry.ID, w.name)
	s.Grows(g)
	for i := range natural[0].Null {
		day := natural[0].Int[i]
		if natural[0].Type.Kind == column.Timestamp {
			day = civil.DayOf(day)
		}
		if !natural[0].Null[i] && k.Dimension.Calendar.Reaches(day) && (day < g.From || day > g.To) {
			s.Infer(natural, i)
		}
	}
	if err := w.keepMade(ctx, s); err != nil { // the ledger says that the roster is another now
		return err
	}
	return standing.Days(ctx, w.tx, w.star, w.inputs.Days)
}
