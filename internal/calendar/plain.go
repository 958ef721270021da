package calendar

import "strconv"

func plainAttributes() []Attribute {
	return []Attribute{
		count("day", "day of the month", func(d *day) int64 { return d.of }),
		count("month", "month of the year", func(d *day) int64 { return d.month }),
		count("quarter", "quarter of the year", func(d *day) int64 { return d.quarter() }),
		count("half_year", "half of the year", func(d *day) int64 { return d.half() }),
		count("year", "year", func(d *day) int64 { return d.year }),
		count("day_of_week", "weekday, from Monday, 1, to Sunday, 7 (ISO 8601)", func(d *day) int64 { return d.ofWeek }),
		count("day_of_quarter", "day of the quarter", func(d *day) int64 { return d.at - d.quarterStart + 1 }),
		count("day_of_year", "day of the year", func(d *day) int64 { return d.at - d.yearStart + 1 }),
		count("month_of_quarter", "month of the quarter", func(d *day) int64 { return (d.month-1)%3 + 1 }),
		count(
			"weekday_of_month", "which one of its weekday it is in the month: 2 on the second Tuesday",
			func(d *day) int64 { return (d.of-1)/7 + 1 },
		),
		flag("is_last_weekday_of_month", "the last one of its weekday in the month", func(d *day) bool { return d.at+7 >= d.nextMonth() }),
		count("days_in_month", "days of the month", func(d *day) int64 { return d.nextMonth() - d.monthStart }),
		count("days_in_quarter", "days of the quarter", func(d *day) int64 { return d.nextQuarter() - d.quarterStart }),
		count("days_in_year", "days of the year", func(d *day) int64 { return d.nextYear - d.yearStart }),
		count("days_left_in_month", "days of the month after this one", func(d *day) int64 { return d.nextMonth() - d.at - 1 }),
		count("days_left_in_quarter", "days of the quarter after this one", func(d *day) int64 { return d.nextQuarter() - d.at - 1 }),
		count("days_left_in_year", "days of the year after this one", func(d *day) int64 { return d.nextYear - d.at - 1 }),
		flag("is_leap_year", "the year has a 29 February", func(d *day) bool { return d.nextYear-d.yearStart == 366 }),
		on("month_start", "first day of the month", func(d *day) int64 { return d.monthStart }),
		on("month_end", "last day of the month", func(d *day) int64 { return d.nextMonth() - 1 }),
		on("quarter_start", "first day of the quarter", func(d *day) int64 { return d.quarterStart }),
		on("quarter_end", "last day of the quarter", func(d *day) int64 { return d.nextQuarter() - 1 }),
		on("half_year_start", "first day of the half year", func(d *day) int64 { return d.halfStart() }),
		on("half_year_end", "last day of the half year", func(d *day) int64 { return d.nextHalf() - 1 }),
		on("year_start", "first day of the year", func(d *day) int64 { return d.yearStart }),
		on("year_end", "last day of the year", func(d *day) int64 { return d.nextYear - 1 }),
		flag("is_month_start", "the first day of the month", func(d *day) bool { return d.of == 1 }),
		flag("is_month_end", "the last day of the month", func(d *day) bool { return d.at+1 == d.nextMonth() }),
		flag("is_quarter_start", "the first day of the quarter", func(d *day) bool { return d.at == d.quarterStart }),
		flag("is_quarter_end", "the last day of the quarter", func(d *day) bool { return d.at+1 == d.nextQuarter() }),
		flag("is_year_start", "the first day of the year", func(d *day) bool { return d.at == d.yearStart }),
		flag("is_year_end", "the last day of the year", func(d *day) bool { return d.at+1 == d.nextYear }),
		count("decade", "first year of the ten that begin with a year that ends in 0", func(d *day) int64 { return d.year - d.year%10 }),
		count("century", "century; the 21st began with 2001", func(d *day) int64 { return (d.year + 99) / 100 }),
		count("epoch_day", "days since 1970-01-01", func(d *day) int64 { return d.at }),
		count("julian_day_number", "the Julian day that begins at noon of this day", func(d *day) int64 { return d.at + 2440588 }),
	}
}

// isoWeekStart returns the Monday of the week.
func (d *day) isoWeekStart() int64 { return d.at - d.ofWeek + 1 }

// isoYearStart returns the Monday of week 1 of a week year: the week that has 4 January.
func isoYearStart(year int64) int64 {
	fourth := firstOf(year, 1) + 3
	return fourth - int64(weekday(fourth)) + 1
}

func isoAttributes() []Attribute {
	thursday := func(d *day) (month int64) {
		t := (&Calendar{}).day(d.isoWeekStart() + 3)
		return t.month
	}
	return []Attribute{
		count("iso_year", "year of the week: that of its Thursday", func(d *day) int64 { return d.isoYear }),
		count("iso_week", "week, 1 to 53", func(d *day) int64 { return d.isoWeek }),
		on("iso_week_start", "Monday of the week", func(d *day) int64 { return d.isoWeekStart() }),
		on("iso_week_end", "Sunday of the week", func(d *day) int64 { return d.isoWeekStart() + 6 }),
		count(
			"iso_weeks_in_year", "weeks of the week's year, 52 or 53",
			func(d *day) int64 { return (isoYearStart(d.isoYear+1) - isoYearStart(d.isoYear)) / 7 },
		),
		count("iso_day_of_year", "day of the week's year, 1 to 371", func(d *day) int64 { return d.at - isoYearStart(d.isoYear) + 1 }),
		count("iso_week_month", "month that has the Thursday of the week", func(d *day) int64 { return thursday(d) }),
		count("iso_week_quarter", "quarter that has the Thursday of the week", func(d *day) int64 { return (thursday(d) + 2) / 3 }),
		words("iso_week_label", "year and week, as ISO 8601 writes them", func(b []byte, d *day) []byte {
			return pad(append(pad(b, d.isoYear, 4), "-W"...), d.isoWeek, 2)
		}),
		words("iso_date_label", "year, week and weekday, as ISO 8601 writes them", func(b []byte, d *day) []byte {
			b = pad(append(pad(b, d.isoYear, 4), "-W"...), d.isoWeek, 2)
			return pad(append(b, '-'), d.ofWeek, 1)
		}),
	}
}

// pad appends a number, with zeros before it to a width.
func pad(b []byte, n int64, width int) []byte {
	for w, limit := 1, int64(10); w < width; w, limit = w+1, limit*10 {
		if n < limit && n >= 0 {
			b = append(b, '0')
		}
	}
	return strconv.AppendInt(b, n, 10)
}

func compareAttributes() []Attribute {
	return []Attribute{
		on(
			"same_day_last_year", "the same date a year before; 28 February for 29 February",
			func(d *day) int64 { return dateIn(d.year-1, d.month, d.of) },
		),
		on("same_weekday_last_year", "364 days before: the same weekday, 52 weeks back", func(d *day) int64 { return d.at - 364 }),
		on(
			"same_nth_weekday_last_year", "the same weekday_of_month and weekday of the month a year before; null if it has no fifth",
			func(d *day) int64 {
				first := firstOf(d.year-1, d.month)
				n := first + (d.ofWeek-int64(weekday(first))+7)%7 + (d.of-1)/7*7
				if n >= firstOf(d.year-1, d.month+1) {
					return null
				}
				return n
			},
		),
		on(
			"iso_same_week_last_year", "the same weekday of the week with the same number in the iso_year before; null if that has no week 53",
			func(d *day) int64 {
				n := isoYearStart(d.isoYear-1) + d.at - isoYearStart(d.isoYear)
				if n >= isoYearStart(d.isoYear) {
					return null
				}
				return n
			},
		),
		on(
			"same_day_last_month", "the same day of the month before, or its last day if it is shorter",
			func(d *day) int64 { return dateIn(d.year, d.month-1, d.of) },
		),
		on(
			"same_day_last_quarter", "the same day of the month three months before, or its last day if it is shorter",
			func(d *day) int64 { return dateIn(d.year, d.month-3, d.of) },
		),
		on("previous_month_end", "last day of the month before", func(d *day) int64 { return d.monthStart - 1 }),
		on("previous_quarter_end", "last day of the quarter before", func(d *day) int64 { return d.quarterStart - 1 }),
		on("previous_year_end", "last day of the year before", func(d *day) int64 { return d.yearStart - 1 }),
	}
}
