// Package calendar makes the rows of a date dimension: a row a day, with the attributes that people
// slice by. A [Calendar] is a [column.Source] like any other; its weeks are those of ISO 8601, its
// names English.
package calendar

import (
	"context"
	"iter"
	"time"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
)

// Calendar declares a range of days, counted from 1970-01-01, both ends included.
type Calendar struct {
	From, To    int64
	FiscalStart int  // the month in which the fiscal year starts, 1 to 12
	NamedByEnd  bool // a fiscal year has the number of the year in which it ends, else of that in which it starts
	Closed      bool // nothing comes after it, so that nobody is warned of its end
}

var fields = func() []column.Field {
	integer, text := column.Type{Kind: column.Integer}, column.Type{Kind: column.Text}
	return []column.Field{
		{Name: "date", Type: column.Type{Kind: column.Date}},
		{Name: "day", Type: integer}, {Name: "month", Type: integer}, {Name: "month_name", Type: text},
		{Name: "quarter", Type: integer}, {Name: "year", Type: integer},
		{Name: "iso_week", Type: integer}, {Name: "iso_year", Type: integer},
		{Name: "day_of_week", Type: integer}, {Name: "weekday_name", Type: text},
		{
			Name: "fiscal_year",
			Type: integer,
		}, {Name: "fiscal_quarter", Type: integer}, {Name: "fiscal_month", Type: integer},
		{Name: SortOrder, Type: integer},
	}
}()

// SortOrder is the attribute by which special members come after all dates (rule R21).
const SortOrder = "sort_order"

// Fields lists the columns of every calendar; the first, date, is the natural key.
func Fields() []column.Field { return fields }

// Fields lists the columns.
func (c *Calendar) Fields() []column.Field { return fields }

// Key returns the yyyymmdd key of a day.
func Key(day int64) int64 {
	y, m, d := civil.Date(day)
	return int64(y*10000 + m*100 + d)
}

// SpecialOrder returns the sort_order of a special member, beyond that of any date.
func SpecialOrder(key int64) int64 { return 100_000_000 - key }

// Pieces yields the days in order, all in one piece.
func (c *Calendar) Pieces(context.Context) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) { yield(c, nil) }
}

// Fill writes all days.
func (c *Calendar) Fill(b *column.Batch) error {
	b.Reset(int(c.To - c.From + 1))
	b.From = column.Origin{File: "calendar", Raw: func(i int) string { return b.Cols[0].Value(i) }}
	for i := range b.N {
		b.From.Line = append(b.From.Line, int64(i+1))
		c.fillDay(b, i, c.From+int64(i))
	}
	return nil
}

func (c *Calendar) fillDay(b *column.Batch, i int, day int64) {
	y, m, d := civil.Date(day)
	isoYear, isoWeek := civil.Week(day)
	weekday := weekday(day)
	fiscalYear, fiscalMonth := c.fiscal(y, m)
	numbers := [...]int64{
		day,
		int64(d),
		int64(m),
		0,
		int64((m + 2) / 3),
		int64(y),
		int64(isoWeek),
		int64(isoYear),
		int64(weekday),
		0,
		int64(fiscalYear),
		int64((fiscalMonth + 2) / 3),
		int64(fiscalMonth),
		Key(day),
	}
	for k := range fields {
		b.Cols[k].Null[i] = false
		if b.Cols[k].Type.Kind != column.Text {
			b.Cols[k].Int[i] = numbers[k]
		}
	}
	b.Cols[3].Text[i] = time.Month(m).String()
	b.Cols[9].Text[i] = time.Weekday(weekday % 7).String()
}

// weekday counts from Monday, 1, to Sunday, 7. 1970-01-01 was a Thursday.
func weekday(day int64) int { return int(((day+3)%7+7)%7) + 1 }

// fiscal returns the fiscal year and the month within it (rule R23).
func (c *Calendar) fiscal(year, month int) (int, int) {
	of := (month-c.FiscalStart+12)%12 + 1
	if month < c.FiscalStart {
		year--
	}
	if c.NamedByEnd && c.FiscalStart != 1 {
		year++
	}
	return year, of
}
