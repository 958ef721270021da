package calendar

import (
	"fmt"

	"ironmonger/internal/civil"
)

// Fiscal says when fiscal years begin, and which calendar year names them (rule R23).
type Fiscal struct {
	Start int  // the month in which it starts, 1 to 12; 0 is 1
	ByEnd bool // a fiscal year has the number of the year in which it ends, else of that in which it starts
}

// String is how the years are declared; "" for calendar years.
func (f Fiscal) String() string {
	if f.Start <= 1 {
		return ""
	}
	return fmt.Sprintf("starts: %s, named_by: %s", monthNames[f.Start-1], namedBy(!f.ByEnd))
}

func namedBy(start bool) string {
	if start {
		return "start"
	}
	return "end"
}

// fiscalDay is a day in its fiscal year.
type fiscalDay struct {
	year, month int64
	start, next int64 // first days of this fiscal year and the next
	begins      int64 // the calendar year in which it begins
}

func (f Fiscal) day(d *day) fiscalDay {
	start := max(int64(f.Start), 1)
	x := fiscalDay{month: (d.month-start+12)%12 + 1, begins: d.year}
	if d.month < start {
		x.begins--
	}
	x.year = x.begins
	if f.ByEnd && start != 1 {
		x.year++
	}
	x.start, x.next = firstOf(x.begins, start), firstOf(x.begins+1, start)
	return x
}

func (x *fiscalDay) quarter() int64 { return (x.month + 2) / 3 }

// part returns the first day of the part of the fiscal year that has a day: parts of some months each, of which this is
// the n-th, or one that comes after it.
func (d *day) fiscalPart(n, months int64) int64 {
	y, m, _ := civil.Date(d.fiscal.start)
	return firstOf(int64(y), int64(m)+(n-1)*months)
}

func fiscalAttributes() []Attribute {
	half := func(d *day) int64 { return (d.fiscal.month + 5) / 6 }
	label := func(b []byte, d *day) []byte { return pad(append(b, "FY"...), d.fiscal.year, 4) }
	return []Attribute{
		count("fiscal_year", "fiscal year", func(d *day) int64 { return d.fiscal.year }),
		count("fiscal_half", "half of the fiscal year", half),
		count("fiscal_quarter", "quarter of the fiscal year", func(d *day) int64 { return d.fiscal.quarter() }),
		count("fiscal_month", "month of the fiscal year", func(d *day) int64 { return d.fiscal.month }),
		count(
			"fiscal_week", "week of the fiscal year, 1 to 53: seven days each from its first day on",
			func(d *day) int64 { return (d.at-d.fiscal.start)/7 + 1 },
		),
		count("fiscal_day_of_year", "day of the fiscal year", func(d *day) int64 { return d.at - d.fiscal.start + 1 }),
		count("fiscal_days_in_year", "days of the fiscal year", func(d *day) int64 { return d.fiscal.next - d.fiscal.start }),
		count("fiscal_days_left_in_year", "days of the fiscal year after this one", func(d *day) int64 { return d.fiscal.next - d.at - 1 }),
		on("fiscal_year_start", "first day of the fiscal year", func(d *day) int64 { return d.fiscal.start }),
		on("fiscal_year_end", "last day of the fiscal year", func(d *day) int64 { return d.fiscal.next - 1 }),
		on("fiscal_half_start", "first day of the fiscal half", func(d *day) int64 { return d.fiscalPart(half(d), 6) }),
		on("fiscal_half_end", "last day of the fiscal half", func(d *day) int64 { return d.fiscalPart(half(d)+1, 6) - 1 }),
		on("fiscal_quarter_start", "first day of the fiscal quarter", func(d *day) int64 { return d.fiscalPart(d.fiscal.quarter(), 3) }),
		on("fiscal_quarter_end", "last day of the fiscal quarter", func(d *day) int64 { return d.fiscalPart(d.fiscal.quarter()+1, 3) - 1 }),
		flag("is_fiscal_quarter_end", "the last day of the fiscal quarter", func(d *day) bool {
			return d.at+1 == d.fiscalPart(d.fiscal.quarter()+1, 3)
		}),
		flag("is_fiscal_year_end", "the last day of the fiscal year", func(d *day) bool { return d.at+1 == d.fiscal.next }),
		words("fiscal_year_label", "FY and the fiscal year", label),
		words("fiscal_year_span", "the calendar years of the fiscal year; one of them if it is the calendar year", func(b []byte, d *day) []byte {
			if b = pad(b, d.fiscal.begins, 4); d.fiscal.next == firstOf(d.fiscal.begins+1, 1) {
				return b
			}
			return pad(append(b, '/'), (d.fiscal.begins+1)%100, 2)
		}),
		words("fiscal_quarter_label", "fiscal year and quarter", func(b []byte, d *day) []byte {
			return pad(append(label(b, d), " Q"...), d.fiscal.quarter(), 1)
		}),
		words("fiscal_month_label", "fiscal year and month", func(b []byte, d *day) []byte {
			return pad(append(label(b, d), " M"...), d.fiscal.month, 2)
		}),
	}
}
