package transform

import (
	"context"
	"iter"
	"slices"

	"ironmonger/internal/calendar"
	"ironmonger/internal/column"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
)

// days is the days of a calendar, as what a source reads.
type days struct{ *calendar.Days }

func (d days) Names() []string                                            { return []string{source.Generated} }
func (d days) Size() int64                                                { return 0 }
func (d days) Samples(ctx context.Context) iter.Seq2[column.Piece, error] { return d.Pieces(ctx) }

// Row returns the day of a line.
func (d days) Row(_ context.Context, _ string, line int64, b *column.Batch) (int, error) {
	return d.Line(line, b)
}

// openCalendar opens the days that the source generates, once it has read the lists of holidays that they need.
func (f *Flow) openCalendar(ctx context.Context, want func(column string) bool) (source.Input, error) {
	c := f.of.Calendar
	listed := map[*calendar.Region][]calendar.Holiday{}
	for _, l := range c.Lists {
		if !slices.ContainsFunc(c.OfRegion(l.Region), want) {
			continue
		}
		if err := f.readHolidays(ctx, l, listed); err != nil {
			return nil, err
		}
	}
	return days{c.Days(want, func(r *calendar.Region) []calendar.Holiday { return listed[r] })}, nil
}

// readHolidays reads a list of holidays.
func (f *Flow) readHolidays(ctx context.Context, l *star.HolidayList, listed map[*calendar.Region][]calendar.Holiday) error {
	list, err := Open(ctx, f.in, l.Source, func(c string) bool { return c == l.Date || c == l.Name || c == l.Half })
	if err != nil {
		return err
	}
	f.helpers = append(f.helpers, list)
	fields := list.Fields()
	date, name, half := column.Find(fields, l.Date), column.Find(fields, l.Name), column.Find(fields, l.Half)
	return f.each(ctx, list, func(b *column.Batch, i int) error {
		if b.Cols[date].Null[i] {
			b.SetAside(i, l.Date, "no "+l.Date+", which is the day of a holiday", "")
			f.fall(list, b, i)
			return nil
		}
		h := calendar.Holiday{Day: b.Cols[date].Int[i]}
		if name >= 0 && !b.Cols[name].Null[i] {
			h.Name = b.Cols[name].Text[i]
		}
		h.Half = half >= 0 && !b.Cols[half].Null[i] && b.Cols[half].Int[i] != 0
		listed[l.Region] = append(listed[l.Region], h)
		return nil
	})
}
