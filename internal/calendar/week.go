package calendar

// Week says on which weekday weeks begin, and which week of a year is the first.
type Week struct {
	First int // the weekday; 0 if the calendar has no such weeks
	Least int // how many days of the year its first week has at least, 1 to 7
}

// weekDay is a day in its week.
type weekDay struct {
	start     int64 // first day of the week
	year      int64 // the week's
	yearStart int64 // first day of its week 1
	nextYear  int64
	first     int64 // first day of the week that has 1 January of the day's own year
	month     int64 // first day of the week that has the first day of the month
}

// start returns the first day of the week of a day.
func (w Week) start(at int64) int64 { return at - int64((weekday(at)-w.First+7)%7) }

// yearStart returns the first day of week 1 of a year: the week of 1 January, if it has enough days of the year, or
// else the week after it.
func (w Week) yearStart(year int64) int64 {
	first := firstOf(year, 1)
	start := w.start(first)
	if start+7-first < int64(w.Least) {
		start += 7
	}
	return start
}

func (w Week) day(d *day) weekDay {
	year := d.year + 1
	for w.yearStart(year) > d.at {
		year--
	}
	return weekDay{w.start(d.at), year, w.yearStart(year), w.yearStart(year + 1), w.start(d.yearStart), w.start(d.monthStart)}
}

func (d *day) weekOfYear() int64 { return (d.at-d.week.yearStart)/7 + 1 }

func weekAttributes() []Attribute {
	return []Attribute{
		count("week_day", "day of the week, from its first weekday, 1, to 7", func(d *day) int64 { return d.at - d.week.start + 1 }),
		on("week_start", "first day of the week", func(d *day) int64 { return d.week.start }),
		on("week_end", "last day of the week", func(d *day) int64 { return d.week.start + 6 }),
		count("week_year", "year that the week belongs to, in whole weeks", func(d *day) int64 { return d.week.year }),
		count("week_of_year", "week of week_year, 1 to 53", func(d *day) int64 { return d.weekOfYear() }),
		count(
			"weeks_in_week_year", "weeks of week_year, 52 or 53",
			func(d *day) int64 { return (d.week.nextYear - d.week.yearStart) / 7 },
		),
		count(
			"week_of_calendar_year", "week of the calendar year, 1 to 54: week 1 begins on 1 January, and the last one ends on 31 December",
			func(d *day) int64 { return (d.week.start-d.week.first)/7 + 1 },
		),
		count(
			"week_of_month", "row of the month on a wall calendar, 1 to 6",
			func(d *day) int64 { return (d.week.start-d.week.month)/7 + 1 },
		),
		words("week_label", "week_year and week_of_year", func(b []byte, d *day) []byte {
			return pad(append(pad(b, d.week.year, 4), "-W"...), d.weekOfYear(), 2)
		}),
	}
}
