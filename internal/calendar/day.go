package calendar

import "ironmonger/internal/civil"

// day is what attributes are worked out from.
type day struct {
	at                       int64 // days since 1970-01-01
	year, month, of, ofWeek  int64 // weekdays from Monday, 1, to Sunday, 7
	monthStart, quarterStart int64
	yearStart, nextYear      int64
	isoYear, isoWeek         int64
	fiscal                   fiscalDay
	week                     weekDay
	retail                   retailDay
}

func (c *Calendar) day(at int64) day {
	y, m, of := civil.Date(at)
	isoYear, isoWeek := civil.Week(at)
	d := day{
		at: at, year: int64(y), month: int64(m), of: int64(of), ofWeek: int64(weekday(at)),
		monthStart: at - int64(of) + 1, quarterStart: civil.Day(y, (m-1)/3*3+1, 1),
		yearStart: civil.Day(y, 1, 1), nextYear: civil.Day(y+1, 1, 1),
		isoYear: int64(isoYear), isoWeek: int64(isoWeek),
	}
	d.fiscal = c.Fiscal.day(&d)
	if c.Week.First != 0 {
		d.week = c.Week.day(&d)
	}
	if c.Retail != nil {
		d.retail = c.Retail.day(at)
	}
	return d
}

// weekday counts from Monday, 1, to Sunday, 7. 1970-01-01 was a Thursday.
func weekday(day int64) int { return int(((day+3)%7+7)%7) + 1 }

func (d *day) quarter() int64   { return (d.month + 2) / 3 }
func (d *day) half() int64      { return (d.month + 5) / 6 }
func (d *day) nextMonth() int64 { return firstOf(d.year, d.month+1) }

// nextQuarter and the like return the first day of what follows.
func (d *day) nextQuarter() int64 { return firstOf(d.year, d.quarter()*3+1) }
func (d *day) halfStart() int64   { return firstOf(d.year, d.half()*6-5) }
func (d *day) nextHalf() int64    { return firstOf(d.year, d.half()*6+1) }

// firstOf returns the first day of a month; month 13 is the January after, and so on.
func firstOf(year, month int64) int64 {
	year, month = year+floor(month-1, 12), (month-1)-floor(month-1, 12)*12+1
	return civil.Day(int(year), int(month), 1)
}

// floor divides and rounds down.
func floor(a, b int64) int64 {
	if a < 0 {
		return (a+1)/b - 1
	}
	return a / b
}

// dateIn returns a day of a month, or the last one if the month has fewer days.
func dateIn(year, month, of int64) int64 {
	first := firstOf(year, month)
	return min(first+of-1, firstOf(year, month+1)-1)
}
