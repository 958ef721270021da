package load

import (
	"context"
	"encoding/hex"
	"fmt"
	"hash/fnv"

	"ironmonger/internal/column"
	"ironmonger/internal/fact"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
	"ironmonger/internal/warehouse"
)

// workingDays is the aspect of a fact's table under which the ledger keeps by which working days its lags were counted.
const workingDays = "working days"

// countDays counts the working days of the calendars by which the fact has lags, and notes whether they are others than
// those by which its rows were counted.
func (w *factStep) countDays(ctx context.Context) error {
	if w.fact.Completion == nil {
		return nil
	}
	h := fnv.New128a()
	for _, l := range w.fact.Completion.Lags {
		if l.In != star.WorkingDays {
			continue
		}
		days, err := w.workdays(ctx, l)
		if err != nil {
			return err
		}
		if w.days == nil {
			w.days = map[*star.Lag]*fact.Workdays{}
		}
		w.days[l] = days
		fmt.Fprintln(h, l.Text, days.First, days.Numbers)
	}
	if w.days != nil {
		w.countedBy = hex.EncodeToString(h.Sum(nil))
	}
	return nil
}

// workdays counts the working days of a calendar, as far as it may grow.
func (w *factStep) workdays(ctx context.Context, l *star.Lag) (*fact.Workdays, error) {
	c := l.Calendar.Calendar
	from, to := c.Limits()
	flow, err := transform.Open(ctx, w.inputs.Having(c, from, to), l.Calendar.Source, func(name string) bool {
		return name == l.Calendar.NaturalKey[0].Name || name == l.Numbers
	})
	if err != nil {
		return nil, err
	}
	fields := flow.Fields()
	day, number := column.Find(fields, l.Calendar.NaturalKey[0].Name), column.Find(fields, l.Numbers)
	days := &fact.Workdays{First: from}
	return days, pipeline.Batches(ctx, flow, 1, func(b *column.Batch) error {
		for i := range b.N {
			if at := b.Cols[day].Int[i]; at == from+int64(len(days.Numbers)) {
				days.Numbers = append(days.Numbers, b.Cols[number].Int[i])
			}
		}
		return nil
	})
}

// recount counts the lags in working days again of all rows that are there, because the working days are others now.
func (w *factStep) recount(ctx context.Context) error {
	if !w.recounts {
		return nil
	}
	t := w.fact.Table
	for l, days := range w.days {
		primary := t.PrimaryFields()
		all := t.Fields()
		from, to, is := all[column.Find(all, l.From)], all[column.Find(all, l.To)], l.Field()
		stamp := column.Field{Name: schema.LoadRun, Type: column.Type{Kind: column.Integer}}
		changed := column.NewBatch(append(append([]column.Field(nil), primary...), is, stamp))
		fields := append(append([]column.Field(nil), primary...), from, to, is)
		n := len(primary)
		err := warehouse.Each(ctx, w.tx, warehouse.Query{Table: t.Name, Fields: fields}, func(b *column.Batch) error {
			for i := range b.N {
				lag, ok := days.Between(&b.Cols[n], &b.Cols[n+1], i)
				if was := &b.Cols[n+2]; was.Null[i] != ok && (was.Null[i] || was.Int[i] == lag) {
					continue
				}
				for k := range primary {
					changed.Cols[k].AppendOwn(&b.Cols[k], i)
				}
				if ok {
					changed.Cols[n].AppendInt(lag)
				} else {
					changed.Cols[n].AppendNull()
				}
				changed.Cols[n+1].AppendInt(w.entry.ID)
				changed.N++
			}
			return nil
		})
		if err != nil || changed.N == 0 {
			if err != nil {
				return err
			}
			continue
		}
		if _, err := w.tx.Amend(ctx, t.Name, n, append(append([]column.Field(nil), primary...), is, stamp), changed); err != nil {
			return err
		}
		w.figures.Notes = append(w.figures.Notes, fmt.Sprintf("%s is counted again in %d rows: the working days are others now", l.Text, changed.N))
	}
	return nil
}
