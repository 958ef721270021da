// Package calendar makes the rows of a date dimension: a row a day, with the attributes that people slice by.
//
// A [Calendar] declares a range of days and what is said of them. Its attributes are functions of the day, in sets: see
// [Sets] and [Calendar.Attributes]. Only working days depend on the days around, which are known for a year before and
// after the range. [Calendar.Days] yields the rows, a [column.Source] like any other.
package calendar

import (
	"context"
	"iter"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/locale"
)

// Calendar declares a range of days, counted from 1970-01-01, both ends included, and what is said of them.
type Calendar struct {
	From, To  int64
	Origin    *int64 // the day from which working days are counted; nil is From
	Closed    bool   // nothing comes after it, so that nobody is warned of its end
	Chosen    []string
	Fiscal    Fiscal
	Week      Week
	Retail    *Retail // nil if it has no years of weeks
	Languages []*locale.Locale
	Regions   []*Region
}

// Date is the column that has the day itself, the natural key.
const Date = "date"

// Fields lists the columns; the first, date, is the natural key.
func (c *Calendar) Fields() []column.Field {
	fields := []column.Field{{Name: Date, Type: date}}
	for _, a := range c.chosen(nil) {
		fields = append(fields, column.Field{Name: a.Name, Type: a.Type})
	}
	return fields
}

// Year returns the first and the last day of the year that has a day: its retail year if the calendar declares one,
// else its fiscal year. It is one kind of year, so that a range of whole years does not depend on the order in which
// its days came.
func (c *Calendar) Year(at int64) (first, last int64) {
	d := c.day(at)
	if c.Retail != nil {
		return d.retail.start, d.retail.end
	}
	return d.fiscal.start, d.fiscal.next - 1
}

// Key returns the yyyymmdd key of a day.
func Key(day int64) int64 {
	y, m, d := civil.Date(day)
	return int64(y*10000 + m*100 + d)
}

// SpecialOrder returns the sort_order of a special member, beyond that of any date, or before it.
func SpecialOrder(key int64, first bool) int64 {
	if first {
		return key
	}
	return 100_000_000 - key
}

// Days is the rows of a calendar.
type Days struct {
	of         *Calendar
	fields     []column.Field
	attributes []Attribute
}

// Days returns the rows of the columns that want names; nil is all. listed returns the holidays of a region that stand
// in lists; it may be nil.
func (c *Calendar) Days(want func(column string) bool, listed func(r *Region) []Holiday) *Days {
	regions := map[*Region]*workdays{}
	for _, r := range c.regions() {
		var more []Holiday
		if listed != nil {
			more = listed(r)
		}
		origin := c.From
		if c.Origin != nil {
			origin = *c.Origin
		}
		regions[r] = r.workdays(origin, c.From, c.To, more)
	}
	d := &Days{of: c}
	if want == nil || want(Date) {
		d.fields = append(d.fields, column.Field{Name: Date, Type: date})
		d.attributes = append(d.attributes, on(Date, "the day", func(d *day) int64 { return d.at }))
	}
	for _, a := range c.chosen(regions) {
		if want == nil || want(a.Name) {
			d.fields = append(d.fields, column.Field{Name: a.Name, Type: a.Type})
			d.attributes = append(d.attributes, a)
		}
	}
	return d
}

// Fields lists the columns.
func (d *Days) Fields() []column.Field { return d.fields }

// Line fills b with the day of a line, counted from 1, and returns its row, or -1 if there is no such line.
func (d *Days) Line(line int64, b *column.Batch) (int, error) {
	at := d.of.From + line - 1
	if line < 1 || at > d.of.To {
		return -1, nil
	}
	return 0, piece{d, at, at}.Fill(b)
}

// pieceSize is how many days are made at a time.
const pieceSize = 2048

// Pieces yields the days in order.
func (d *Days) Pieces(context.Context) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		for from := d.of.From; from <= d.of.To; from += pieceSize {
			if !yield(piece{d, from, min(from+pieceSize-1, d.of.To)}, nil) {
				return
			}
		}
	}
}

// piece is some days.
type piece struct {
	*Days
	from, to int64
}

// Fill writes them.
func (p piece) Fill(b *column.Batch) error {
	n := int(p.to - p.from + 1)
	b.Reset(n)
	days := make([]day, n)
	from := column.Origin{File: "calendar", Raw: func(i int) string {
		return string(column.AppendInt(nil, column.Date, days[i].at))
	}}
	for i := range days {
		days[i] = p.of.day(p.from + int64(i))
		from.Line = append(from.Line, days[i].at-p.of.From+1)
	}
	b.From = from
	var buffer []byte
	for k := range p.attributes {
		buffer = p.attributes[k].fill(&b.Cols[k], days, buffer)
	}
	return nil
}
