package calendar

import (
	"fmt"

	"ironmonger/internal/civil"
	"ironmonger/internal/locale"
)

// Retail declares years of whole weeks: 52, or 53 where that keeps them near the same date.
type Retail struct {
	Weekday int      // on which years end
	Month   int      // on the last such weekday of this month, or on the one nearest to its end
	Nearest bool     // the nearest one, which may be in the next month
	ByStart bool     // a year has the number of the calendar year in which it begins, else of that in which it ends
	Pattern [3]int   // weeks of the periods of a quarter: 13 together
	Extra   int      // the period that has the 53rd week, 1 to 12; 0 if it is in no period and no quarter
	Names   []string // of the periods; nil for the names of months
}

// String is how the years are declared, but for the names of periods; "" for none.
func (r *Retail) String() string {
	if r == nil {
		return ""
	}
	rule, extra := "last", "none"
	if r.Nearest {
		rule = "nearest"
	}
	if r.Extra > 0 {
		extra = fmt.Sprint(r.Extra)
	}
	return fmt.Sprintf("ends_on: %s, month: %s, rule: %s, named_by: %s, pattern: %d-%d-%d, week_53: %s", weekdayNames[r.Weekday-1],
		monthNames[r.Month-1], rule, namedBy(r.ByStart), r.Pattern[0], r.Pattern[1], r.Pattern[2], extra)
}

// end returns the last day of the year that ends with the month of a calendar year: the anchor.
func (r *Retail) end(anchor int64) int64 {
	last := firstOf(anchor, int64(r.Month)+1) - 1
	back := int64(weekday(last)-r.Weekday+7) % 7
	if r.Nearest && back > 3 {
		back -= 7
	}
	return last - back
}

// retailDay is a day in its retail year.
type retailDay struct {
	year       int64
	start, end int64 // of the year
	previous   int64 // the start of the year before
	week       int64 // 1 to 53
	period     int64 // 1 to 12; 0 if the week is in none
	weekOf     int64 // the week of the period
	first      int64 // first week of the period
	weeks      int64 // of the period
	quarter    int64
	begins     int64 // first week of the quarter
	length     int64 // weeks of the quarter
}

func (r *Retail) day(at int64) retailDay {
	y, _, _ := civil.Date(at)
	anchor := int64(y) - 1 // the year that has the day ends in this calendar year, or in one beside it
	for r.end(anchor) < at {
		anchor++
	}
	x := retailDay{start: r.end(anchor-1) + 1, end: r.end(anchor), previous: r.end(anchor-2) + 1, year: anchor}
	if r.ByStart && r.Month != 12 { // the month after the anchor month begins a year before
		x.year--
	}
	x.week = (at-x.start)/7 + 1
	r.place(&x, x.week, x.end-x.start+1 == 371)
	return x
}

// place finds the period and quarter of a week, in a year of 53 weeks or of 52.
func (r *Retail) place(x *retailDay, week int64, long bool) {
	if long && r.Extra == 0 && week == 53 {
		return
	}
	first := int64(1)
	for period := 1; period <= 12; period++ {
		weeks := int64(r.Pattern[(period-1)%3])
		if long && period == r.Extra {
			weeks++
		}
		if period%3 == 1 {
			x.quarter, x.begins, x.length = int64(period+2)/3, first, 13
			if long && r.Extra >= period && r.Extra < period+3 {
				x.length = 14
			}
		}
		if week < first+weeks {
			x.period, x.weekOf, x.first, x.weeks = int64(period), week-first+1, first, weeks
			return
		}
		first += weeks
	}
}

// restated returns the year and week as which a week is shown beside the year after it: in a year of 53 weeks, weeks 2
// to 53 are 1 to 52, and week 1 is left out.
func (x *retailDay) restated() (year, week int64) {
	switch {
	case x.end-x.start+1 != 371:
		return x.year, x.week
	case x.week == 1:
		return null, null
	}
	return x.year, x.week - 1
}

// periodName appends the name of the month that most days of a period are in: period 1 is that of the month after the
// one with which years end, in all years.
func (r *Retail) periodName(b []byte, x *retailDay, months []string) []byte {
	switch {
	case x.period == 0:
		return b
	case len(r.Names) == 12:
		return append(b, r.Names[x.period-1]...)
	}
	month := (int64(r.Month)+x.period-1)%12 + 1
	return append(b, months[month-1]...)
}

func orNull(n int64, ok bool) int64 {
	if !ok {
		return null
	}
	return n
}

func (r *Retail) attributes(l *locale.Locale) []Attribute {
	in := func(d *day) bool { return d.retail.period > 0 }
	part := func(f func(x *retailDay) int64) func(d *day) int64 {
		return func(d *day) int64 { return orNull(f(&d.retail), in(d)) }
	}
	week := func(x *retailDay, n int64) int64 { return x.start + (n-1)*7 }
	year := func(b []byte, d *day) []byte { return pad(b, d.retail.year, 4) }
	restated := func(d *day) (x retailDay) {
		if _, n := d.retail.restated(); n != null {
			r.place(&x, n, false)
		}
		return x
	}
	return []Attribute{
		count("retail_year", "retail year", func(d *day) int64 { return d.retail.year }),
		count("retail_half", "half of the retail year, of two quarters", part(func(x *retailDay) int64 { return (x.quarter + 1) / 2 })),
		count("retail_quarter", "quarter of the retail year", part(func(x *retailDay) int64 { return x.quarter })),
		count("retail_period", "period of the retail year, 1 to 12", part(func(x *retailDay) int64 { return x.period })),
		count("retail_week", "week of the retail year, 1 to 53", func(d *day) int64 { return d.retail.week }),
		count("retail_week_of_quarter", "week of the quarter, 1 to 14", part(func(x *retailDay) int64 { return x.week - x.begins + 1 })),
		count("retail_week_of_period", "week of the period, 1 to 6", part(func(x *retailDay) int64 { return x.weekOf })),
		count("retail_day_of_year", "day of the retail year, 1 to 371", func(d *day) int64 { return d.at - d.retail.start + 1 }),
		count("retail_day_of_week", "day of the week, 1 to 7; years end on 7", func(d *day) int64 { return (d.at-d.retail.start)%7 + 1 }),
		count("retail_weeks_in_year", "weeks of the retail year, 52 or 53", func(d *day) int64 { return (d.retail.end - d.retail.start + 1) / 7 }),
		count("retail_weeks_in_period", "weeks of the period", part(func(x *retailDay) int64 { return x.weeks })),
		flag("retail_is_week_53", "the 53rd week", func(d *day) bool { return d.retail.week == 53 }),
		on("retail_year_start", "first day of the retail year", func(d *day) int64 { return d.retail.start }),
		on("retail_year_end", "last day of the retail year", func(d *day) int64 { return d.retail.end }),
		on("retail_quarter_start", "first day of the quarter", part(func(x *retailDay) int64 { return week(x, x.begins) })),
		on("retail_quarter_end", "last day of the quarter", part(func(x *retailDay) int64 { return week(x, x.begins+x.length) - 1 })),
		on("retail_period_start", "first day of the period", part(func(x *retailDay) int64 { return week(x, x.first) })),
		on("retail_period_end", "last day of the period", part(func(x *retailDay) int64 { return week(x, x.first+x.weeks) - 1 })),
		on("retail_week_start", "first day of the week", func(d *day) int64 { return week(&d.retail, d.retail.week) }),
		on("retail_week_end", "last day of the week", func(d *day) int64 { return week(&d.retail, d.retail.week) + 6 }),
		on("retail_comparable_date", "364 days before: the same weekday, in the week that is compared", func(d *day) int64 { return d.at - 364 }),
		on("retail_same_week_last_year", "the same weekday of the week with the same number a year before; null if that has no week 53", func(d *day) int64 {
			n := d.retail.previous + d.at - d.retail.start
			return orNull(n, n < d.retail.start)
		}),
		count("retail_restated_year", "year to compare with the year after it; null in week 1 of 53", func(d *day) int64 {
			year, _ := d.retail.restated()
			return year
		}),
		count("retail_restated_week", "week to compare with the year after: of 53 weeks, week 2 is 1, and so on", func(d *day) int64 {
			_, week := d.retail.restated()
			return week
		}),
		count("retail_restated_period", "period of retail_restated_week", func(d *day) int64 {
			x := restated(d)
			return orNull(x.period, x.period > 0)
		}),
		count("retail_restated_quarter", "quarter of retail_restated_week", func(d *day) int64 {
			x := restated(d)
			return orNull(x.quarter, x.period > 0)
		}),
		words("retail_period_name", "name of the period: the month that most of it is in, or the name that the model gives", func(b []byte, d *day) []byte {
			return r.periodName(b, &d.retail, l.Months.Wide.StandAlone)
		}),
		words("retail_quarter_label", "retail year and quarter", func(b []byte, d *day) []byte {
			if !in(d) {
				return b
			}
			return pad(append(year(b, d), "-Q"...), d.retail.quarter, 1)
		}),
		words("retail_period_label", "retail year and period", func(b []byte, d *day) []byte {
			if !in(d) {
				return b
			}
			return pad(append(year(b, d), "-P"...), d.retail.period, 2)
		}),
		words("retail_week_label", "retail year and week", func(b []byte, d *day) []byte {
			return pad(append(year(b, d), "-W"...), d.retail.week, 2)
		}),
	}
}
