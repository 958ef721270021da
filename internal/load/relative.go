package load

import (
	"cmp"
	"context"
	"time"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// refer writes the reference day of a calendar, if it is another than before. There may be none.
func (w *work) refer(ctx context.Context, d *schema.Dimension, day *int64) error {
	fields := d.AsOf.Fields()
	stands, err := warehouse.ReadAll(ctx, w.tx, warehouse.Query{Table: d.AsOf.Name, Fields: fields})
	if err != nil {
		return err
	}
	is := &stands.Cols[1]
	if stands.N > 0 && (is.Null[0] && day == nil || !is.Null[0] && day != nil && is.Int[0] == *day) {
		return nil
	}
	b := column.NewBatch(fields)
	b.Cols[0].AppendInt(1)
	if day == nil {
		b.Cols[1].AppendNull()
	} else {
		b.Cols[1].AppendInt(*day)
	}
	b.Cols[2].AppendInt(w.entry.ID)
	if b.N = 1; stands.N > 0 {
		_, err = w.tx.Amend(ctx, d.AsOf.Name, 1, fields, b)
		return err
	}
	return warehouse.AppendAll(ctx, w.tx, d.AsOf, b)
}

// referToday writes the reference day of the step's calendar, unless a fact has it.
func (w *dimensionStep) referToday(ctx context.Context) error {
	d := w.dimension
	if d.AsOf == nil {
		return nil
	}
	x := d.Calendar.Relative
	switch {
	case x.Fact != nil:
		stands, err := w.tx.Tally(ctx, d.AsOf.Name, nil)
		if err != nil || stands.Rows > 0 {
			return err
		}
		return w.refer(ctx, d, nil)
	case x.Today:
		today := civil.DayOf(civil.Wall(w.entry.StartedAt.In(cmp.Or(w.model.Zone, time.UTC))))
		return w.refer(ctx, d, &today)
	}
	return w.refer(ctx, d, &x.Day)
}

// referTo writes the last day that the fact has, for the calendars whose reference day it is.
func (w *factStep) referTo(ctx context.Context) error {
	for _, d := range w.star.Dimensions {
		if d.AsOf == nil || d.Calendar.Relative.Fact != w.fact.Fact {
			continue
		}
		last, err := w.lastDay(ctx, d, d.Calendar.Relative.Key.Column())
		if err != nil {
			return err
		}
		if err := w.refer(ctx, d, last); err != nil {
			return err
		}
	}
	return nil
}

// lastDay returns the last day that a key of the fact points to; nil if there is none.
func (w *factStep) lastDay(ctx context.Context, d *schema.Dimension, key string) (*int64, error) {
	integer := column.Type{Kind: column.Integer}
	days := map[int64]int64{}
	q := warehouse.Query{Table: d.Table.Name, Fields: append([]column.Field{{Name: d.KeyColumn(), Type: integer}}, d.NaturalKey...)}
	err := warehouse.Each(ctx, w.tx, q, func(b *column.Batch) error {
		for i, surrogate := range b.Cols[0].Int[:b.N] {
			if !b.Cols[1].Null[i] {
				days[surrogate] = b.Cols[1].Int[i]
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	var last *int64
	q = warehouse.Query{Table: w.fact.Table.Name, Fields: []column.Field{{Name: key, Type: integer}}}
	return last, warehouse.Each(ctx, w.tx, q, func(b *column.Batch) error {
		for i, surrogate := range b.Cols[0].Int[:b.N] {
			if day, ok := days[surrogate]; ok && !b.Cols[0].Null[i] && (last == nil || day > *last) {
				last = &day
			}
		}
		return nil
	})
}
