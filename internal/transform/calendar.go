package transform

import (
	"context"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"

	"ironmonger/internal/calendar"
	"ironmonger/internal/civil"
	"ironmonger/internal/clock"
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

// times is the times of a clock, as what a source reads.
type times struct{ *clock.Rows }

func (t times) Names() []string                                            { return []string{source.Generated} }
func (t times) Size() int64                                                { return 0 }
func (t times) Samples(ctx context.Context) iter.Seq2[column.Piece, error] { return t.Pieces(ctx) }

// Row returns the time of a line.
func (t times) Row(_ context.Context, _ string, line int64, b *column.Batch) (int, error) {
	if err := t.Fill(b); err != nil || line < 1 || line > int64(b.N) {
		return -1, err
	}
	return int(line - 1), nil
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
	return days{f.in.DaysOf(c).Days(want, func(r *calendar.Region) []calendar.Holiday { return listed[r] })}, nil
}

// ending notes which lists of holidays end before the calendar does: as a whole, or those of a name that several years
// have.
func (f *Flow) ending(l *star.HolidayList, days []calendar.Holiday) {
	to := yearOf(f.in.DaysOf(f.of.Calendar).To)
	first, last, all := map[string]int{}, map[string]int{}, 0
	for _, h := range days {
		year := yearOf(h.Day)
		if first[h.Name] == 0 || year < first[h.Name] {
			first[h.Name] = year
		}
		last[h.Name], all = max(last[h.Name], year), max(all, year)
	}
	note := func(format string, args ...any) {
		if s := fmt.Sprintf(format, args...); !slices.Contains(f.notes, s) { // another region may have the list, too
			f.notes = append(f.notes, s)
		}
	}
	switch {
	case len(days) == 0:
		note("there is no holiday in %s", l.Source.Text)
		return
	case all < to:
		note("the holidays of %s end in %d, and the calendar in %d", l.Source.Text, all, to)
		return
	}
	var names []string
	for _, name := range slices.Sorted(maps.Keys(last)) {
		if last[name] < to && first[name] < last[name] {
			names = append(names, fmt.Sprintf("%s in %d", name, last[name]))
		}
	}
	if len(names) > 0 {
		note("holidays of %s end before the calendar: %s", l.Source.Text, strings.Join(names, ", "))
	}
}

func yearOf(day int64) int {
	year, _, _ := civil.Date(day)
	return year
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
	var read []calendar.Holiday
	err = f.each(ctx, list, func(b *column.Batch, i int) error {
		if b.Cols[date].Null[i] {
			f.refuse(list, b, i, l.Date, "no "+l.Date+", which is the day of a holiday")
			return nil
		}
		h := calendar.Holiday{Day: b.Cols[date].Int[i]}
		if name >= 0 && !b.Cols[name].Null[i] {
			h.Name = b.Cols[name].Text[i]
		}
		h.Half = half >= 0 && !b.Cols[half].Null[i] && b.Cols[half].Int[i] != 0
		read = append(read, h)
		return nil
	})
	f.ending(l, read)
	listed[l.Region] = append(listed[l.Region], read...)
	return err
}
