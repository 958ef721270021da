// Package clock makes the rows of a time-of-day dimension: a row for each second, minute, quarter hour or hour of a
// day.
//
// A time of day is of its own, never multiplied with dates. Bands, such as parts of the day and shifts, are columns:
// each covers the 24 hours once, across midnight too.
package clock

import (
	"context"
	"fmt"
	"iter"
	"slices"

	"ironmonger/internal/column"
)

// Clock declares the times of a day, and what is said of them.
type Clock struct {
	Every int64 // seconds from one to the next: 1, 60, 900 or 3600
	Bands []*Band
}

// Band is a column that names the part of the day that a time is in.
type Band struct {
	Name  string
	Parts []Part
}

// Part is a part of the day, from a second up to before another. It goes on over midnight if that is not later.
type Part struct {
	Name     string
	From, To int64
}

const (
	day    = 86_400
	micros = 1_000_000
)

// Time is the column that has the time itself, the natural key.
const Time = "time"

// Attribute is a column besides the time.
type Attribute struct {
	Name, Meaning string
	Type          column.Type

	number func(s int64) int64
	text   func(s int64) string
}

var (
	integer  = column.Type{Kind: column.Integer}
	ofText   = column.Type{Kind: column.Text}
	timeOf   = column.Type{Kind: column.Time}
	halfDays = []string{"AM", "PM"}
)

// Attributes lists the columns besides the time. Those that say nothing at the distance of the times are left out.
func (c *Clock) Attributes() []Attribute {
	list := []Attribute{{"hour", "hour, 0 to 23", integer, func(s int64) int64 { return s / 3600 }, nil}}
	if c.Every < 3600 {
		list = append(list, Attribute{"minute", "minute of the hour", integer, func(s int64) int64 { return s / 60 % 60 }, nil},
			Attribute{"minute_of_day", "minutes since midnight", integer, func(s int64) int64 { return s / 60 }, nil})
	}
	if c.Every == 1 {
		list = append(list, Attribute{"second", "second of the minute", integer, func(s int64) int64 { return s % 60 }, nil},
			Attribute{"second_of_day", "seconds since midnight", integer, func(s int64) int64 { return s }, nil})
	}
	list = append(list,
		Attribute{"hour_12", "hour on a clock of 12 hours, 1 to 12", integer, func(s int64) int64 { return (s/3600+11)%12 + 1 }, nil},
		Attribute{"am_pm", "AM before noon, PM from noon on", ofText, nil, func(s int64) string { return halfDays[s/43200] }},
	)
	if c.Every < 1800 {
		list = append(list, Attribute{"half_hour", "the half hour that it is in: its first time", timeOf, func(s int64) int64 { return s / 1800 * 1800 * micros }, nil})
	}
	if c.Every < 900 {
		list = append(list, Attribute{"quarter_hour", "the quarter hour that it is in: its first time", timeOf, func(s int64) int64 { return s / 900 * 900 * micros }, nil})
	}
	list = append(list,
		Attribute{"time_label", "the time, as 14:05", ofText, nil, c.label},
		Attribute{"hour_label", "the hour, as 14:00-14:59", ofText, nil, func(s int64) string { return fmt.Sprintf("%02d:00-%02d:59", s/3600, s/3600) }},
		Attribute{"sort_order", "seconds since midnight; special members come after all times", integer, func(s int64) int64 { return s }, nil},
	)
	for _, b := range c.Bands {
		list = append(list, Attribute{b.Name, "the part of the day, as the model has it", ofText, nil, b.of})
	}
	return list
}

func (c *Clock) label(s int64) string {
	if c.Every == 1 {
		return fmt.Sprintf("%02d:%02d:%02d", s/3600, s/60%60, s%60)
	}
	return fmt.Sprintf("%02d:%02d", s/3600, s/60%60)
}

// of returns the name of the part that a second is in.
func (b *Band) of(s int64) string {
	for _, p := range b.Parts {
		if p.has(s) {
			return p.Name
		}
	}
	return ""
}

func (p Part) has(s int64) bool {
	if p.From < p.To {
		return s >= p.From && s < p.To
	}
	return s >= p.From || s < p.To
}

// Check reports where a band leaves a time out, or has one twice, or cuts between times of the clock.
func (c *Clock) Check(b *Band) error {
	for _, p := range b.Parts {
		if p.From%c.Every != 0 || p.To%c.Every != 0 {
			return fmt.Errorf("%s begins or ends between two times of the clock", p.Name)
		}
	}
	for s := int64(0); s < day; s += c.Every {
		var in []string
		for _, p := range b.Parts {
			if p.has(s) {
				in = append(in, p.Name)
			}
		}
		switch {
		case len(in) == 0:
			return fmt.Errorf("no part of the day has %s", c.label(s))
		case len(in) > 1:
			return fmt.Errorf("%s and %s both have %s", in[0], in[1], c.label(s))
		}
	}
	return nil
}

// Fields lists the columns; the first, time, is the natural key.
func (c *Clock) Fields() []column.Field {
	fields := []column.Field{{Name: Time, Type: timeOf}}
	for _, a := range c.Attributes() {
		fields = append(fields, column.Field{Name: a.Name, Type: a.Type})
	}
	return fields
}

// Key returns the key of a time of day in microseconds: hhmm, or hhmmss if there is a row for each second.
func (c *Clock) Key(at int64) int64 {
	s := at / micros
	if c.Every == 1 {
		return s/3600*10000 + s/60%60*100 + s%60
	}
	return s/3600*100 + s/60%60
}

// Start returns the time of the clock that a time of day is in, both in microseconds.
func (c *Clock) Start(at int64) int64 { return at - at%(c.Every*micros) }

// Times is how many rows there are.
func (c *Clock) Times() int64 { return day / c.Every }

// Rows is the times of a clock, a [column.Source].
type Rows struct {
	of     *Clock
	fields []column.Field
	chosen []Attribute
}

// Rows returns the rows of the columns that want names.
func (c *Clock) Rows(want func(column string) bool) *Rows {
	r := &Rows{of: c}
	itself := Attribute{Name: Time, Type: timeOf, number: func(s int64) int64 { return s * micros }}
	for _, a := range slices.Insert(c.Attributes(), 0, itself) {
		if want(a.Name) {
			r.fields = append(r.fields, column.Field{Name: a.Name, Type: a.Type})
			r.chosen = append(r.chosen, a)
		}
	}
	return r
}

// Fields lists the columns.
func (r *Rows) Fields() []column.Field { return r.fields }

// Pieces yields all times, in one piece.
func (r *Rows) Pieces(context.Context) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) { yield(r, nil) }
}

// Fill writes them.
func (r *Rows) Fill(b *column.Batch) error {
	n := int(r.of.Times())
	b.Reset(n)
	b.From = column.Origin{File: "clock", Raw: func(i int) string { return r.of.label(int64(i) * r.of.Every) }}
	for i := range n {
		s := int64(i) * r.of.Every
		b.From.Line = append(b.From.Line, int64(i+1))
		for k, a := range r.chosen {
			c := &b.Cols[k]
			if c.Null[i] = false; a.text != nil {
				c.Text[i] = a.text(s)
			} else {
				c.Int[i] = a.number(s)
			}
		}
	}
	return nil
}
