package calendar

import (
	"strings"

	"ironmonger/internal/locale"
)

// languages are those of the calendar: the first has columns without a suffix.
func (c *Calendar) languages() []*locale.Locale {
	if len(c.Languages) > 0 {
		return c.Languages
	}
	return []*locale.Locale{english()}
}

func english() *locale.Locale {
	l, err := locale.Find("en")
	if err != nil {
		panic(err) // the table is embedded
	}
	return l
}

// Suffix is what the names of columns in a language end in.
func Suffix(l *locale.Locale) string {
	return "_" + strings.ToLower(strings.ReplaceAll(l.Tag, "-", "_"))
}

func labelAttributes(languages []*locale.Locale) []Attribute {
	list := []Attribute{
		words("iso_date", "the date as ISO 8601 writes it", func(b []byte, d *day) []byte {
			b = pad(append(pad(b, d.year, 4), '-'), d.month, 2)
			return pad(append(b, '-'), d.of, 2)
		}),
		words("year_month", "year and month, as ISO 8601 writes them", func(b []byte, d *day) []byte {
			return pad(append(pad(b, d.year, 4), '-'), d.month, 2)
		}),
		words("year_quarter", "year and quarter", func(b []byte, d *day) []byte {
			return pad(append(pad(b, d.year, 4), "-Q"...), d.quarter(), 1)
		}),
	}
	for n, l := range languages {
		suffix := ""
		if n > 0 {
			suffix = Suffix(l)
		}
		list = append(list, namesIn(l, suffix)...)
	}
	return list
}

// namesIn returns the names and dates in a language.
func namesIn(l *locale.Locale, suffix string) []Attribute {
	month := func(d *day) int64 { return d.month }
	weekday := func(d *day) int64 { return d.ofWeek }
	quarter := func(d *day) int64 { return d.quarter() }
	var list []Attribute
	name := func(name, meaning string, names []string, of func(*day) int64) {
		list = append(list, words(name+suffix, meaning, func(b []byte, d *day) []byte { return append(b, names[of(d)-1]...) }))
	}
	pattern := func(name, meaning string, p locale.Pattern) {
		list = append(list, words(name+suffix, meaning, func(b []byte, d *day) []byte {
			return p.Append(b, int(d.year), int(d.month), int(d.of), int(d.ofWeek))
		}))
	}
	name("month_name", "name of the month, as a label", l.Months.Wide.StandAlone, month)
	name("month_short", "short name of the month, as a label", l.Months.Short.StandAlone, month)
	name("weekday_name", "name of the weekday, as a label", l.Weekdays.Wide.StandAlone, weekday)
	name("weekday_short", "short name of the weekday, as a label", l.Weekdays.Short.StandAlone, weekday)
	name("month_name_in_date", "name of the month, as in a date with a day", l.Months.Wide.Format, month)
	name("month_short_in_date", "short name of the month, as in a date with a day", l.Months.Short.Format, month)
	name("weekday_name_in_date", "name of the weekday, as in a date", l.Weekdays.Wide.Format, weekday)
	name("weekday_short_in_date", "short name of the weekday, as in a date", l.Weekdays.Short.Format, weekday)
	name("quarter_name", "name of the quarter", l.Quarters.Wide.StandAlone, quarter)
	name("quarter_short", "short name of the quarter", l.Quarters.Short.StandAlone, quarter)
	pattern("month_label", "month and year", l.MonthAndYear)
	pattern("quarter_label", "quarter and year", l.QuarterLabel)
	pattern("date_full", "the date in words, with the weekday", l.Full)
	pattern("date_long", "the date in words", l.Long)
	pattern("date_medium", "the date, of middle length", l.Medium)
	pattern("date_short", "the date in numbers", l.Short)
	return list
}

// SortOrder is the attribute by which special members come after all dates (rule R21).
const SortOrder = "sort_order"

func (c *Calendar) sortAttributes() []Attribute {
	list := []Attribute{
		count(SortOrder, "the date as yyyymmdd; special members come after all dates", func(d *day) int64 { return Key(d.at) }),
		count("year_month_number", "year and month as yyyymm", func(d *day) int64 { return d.year*100 + d.month }),
		count("year_quarter_number", "year and quarter as yyyyq", func(d *day) int64 { return d.year*10 + d.quarter() }),
		count("year_week_number", "iso_year and iso_week as yyyyww", func(d *day) int64 { return d.isoYear*100 + d.isoWeek }),
		count("running_month", "months since January of year 0", func(d *day) int64 { return d.year*12 + d.month - 1 }),
		count("running_quarter", "quarters since the first of year 0", func(d *day) int64 { return d.year*4 + d.quarter() - 1 }),
		count(
			"running_week", "weeks from Monday to Sunday since that of 0001-01-01",
			func(d *day) int64 { return (d.isoWeekStart() - firstOf(1, 1)) / 7 },
		),
		count("fiscal_year_quarter", "fiscal year and quarter as yyyyq", func(d *day) int64 { return d.fiscal.year*10 + d.fiscal.quarter() }),
		count("fiscal_year_month", "fiscal year and month as yyyymm", func(d *day) int64 { return d.fiscal.year*100 + d.fiscal.month }),
		count(
			"running_fiscal_quarter", "quarters since the first of fiscal year 0",
			func(d *day) int64 { return d.fiscal.year*4 + d.fiscal.quarter() - 1 },
		),
	}
	if c.Week.First != 0 {
		list = append(list, count(
			"week_year_week", "week_year and week_of_year as yyyyww", func(d *day) int64 { return d.week.year*100 + d.weekOfYear() },
		))
	}
	if c.Retail != nil {
		list = append(list, retailSort()...)
	}
	return list
}

func retailSort() []Attribute {
	// what is in no period or quarter comes after those of its year
	period := func(d *day, last int64) int64 {
		if d.retail.period == 0 {
			return last
		}
		return d.retail.period
	}
	return []Attribute{
		count("retail_year_quarter", "retail year and quarter as yyyyq; yyyy9 if the week is in no quarter", func(d *day) int64 {
			if d.retail.quarter == 0 {
				return d.retail.year*10 + 9
			}
			return d.retail.year*10 + d.retail.quarter
		}),
		count("retail_year_period", "retail year and period as yyyypp; yyyy99 if the week is in no period", func(d *day) int64 {
			return d.retail.year*100 + period(d, 99)
		}),
		count("retail_year_week", "retail year and week as yyyyww", func(d *day) int64 { return d.retail.year*100 + d.retail.week }),
		count("running_retail_week", "weeks of retail years since that of 0001-01-01", func(d *day) int64 {
			return floor(d.retail.start+(d.retail.week-1)*7-firstOf(1, 1)+6, 7)
		}),
		count("running_retail_period", "periods since the first of retail year 0; null if the week is in none", func(d *day) int64 {
			return orNull(d.retail.year*12+d.retail.period-1, d.retail.period > 0)
		}),
		count("running_retail_quarter", "quarters since the first of retail year 0; null if the week is in none", func(d *day) int64 {
			return orNull(d.retail.year*4+d.retail.quarter-1, d.retail.period > 0)
		}),
	}
}
