package calendar

import (
	"cmp"
	"slices"
	"strings"
)

// Holiday is a day on which a region does not work, or works half of it.
type Holiday struct {
	Day  int64
	Name string
	Half bool
}

// Rule declares a holiday of every year, or of some.
type Rule struct {
	Name         string
	On           When
	Half         bool
	Since, Until int // the first and last year that has it; 0 for any
	Substitutes  map[int]Substitute
}

// Substitute says which day is off, too, if a holiday falls on a weekday that is in a weekend.
type Substitute int

// The substitutes: the next day that is neither in a weekend nor a holiday, or the last one before.
const (
	Next     Substitute = 1
	Previous Substitute = -1
)

// Region declares where people work: its weekend and its holidays.
type Region struct {
	Name     string // what the names of its columns begin with; "" for nothing
	Weekend  []int  // weekdays
	Holidays []Rule
}

func (c *Calendar) regions() []*Region {
	if len(c.Regions) > 0 {
		return c.Regions
	}
	return []*Region{ordinary}
}

// ordinary is the region of a calendar that declares none.
var ordinary = &Region{Weekend: []int{6, 7}}

// Beyond is how many days before and after a range are known, for what depends on the days around.
const Beyond = 400

// workdays is the days of a range and around it: which of them people work.
type workdays struct {
	first   int64 // the first day that is known
	from    int64 // the first day of the calendar
	weekend []bool
	off     []bool
	half    []bool
	names   map[int64]string
	before  []int64 // how many working days are before a day, since first
}

// workdays finds the days on which a region works, of rules and of listed holidays.
// They are counted from origin on.
func (r *Region) workdays(origin, from, to int64, listed []Holiday) *workdays {
	from = min(origin, from)
	to = max(from, to)
	n := int(to-from) + 2*Beyond + 1
	x := &workdays{
		first: from - Beyond, from: origin, weekend: make([]bool, n), off: make([]bool, n), half: make([]bool, n),
		names: map[int64]string{}, before: make([]int64, n+1),
	}
	for i := range x.weekend {
		x.weekend[i] = slices.Contains(r.Weekend, weekday(x.first+int64(i)))
	}
	all := slices.Clone(listed)
	var moving []moved
	firstYear, lastYear := yearOf(x.first)-1, yearOf(to+Beyond)+1
	for _, rule := range r.Holidays {
		for year := firstYear; year <= lastYear; year++ {
			at, ok := rule.On.In(year)
			if !ok || rule.Since > 0 && year < rule.Since || rule.Until > 0 && year > rule.Until {
				continue
			}
			all = append(all, Holiday{at, rule.Name, rule.Half})
			if s, ok := rule.Substitutes[weekday(at)]; ok && slices.Contains(r.Weekend, weekday(at)) {
				moving = append(moving, moved{all[len(all)-1], s})
			}
		}
	}
	for _, h := range all {
		if !h.Half {
			x.mark(h)
		}
	}
	slices.SortStableFunc(moving, func(a, b moved) int { return cmp.Compare(a.Day, b.Day) })
	for _, m := range moving {
		if m.Day = x.free(m.Day, m.by); !m.Half {
			x.mark(m.Holiday)
		}
		all = append(all, m.Holiday)
	}
	x.count(all)
	return x
}

type moved struct {
	Holiday
	by Substitute
}

// mark makes a day one that is off.
func (x *workdays) mark(h Holiday) {
	if x.has(h.Day) {
		x.off[h.Day-x.first] = true
	}
}

// has reports whether a day is known.
func (x *workdays) has(at int64) bool { return at >= x.first && at < x.first+int64(len(x.off)) }

// free returns the next day in a direction that is neither in a weekend nor a holiday.
func (x *workdays) free(at int64, by Substitute) int64 {
	for at += int64(by); x.has(at) && (x.weekend[at-x.first] || x.off[at-x.first]); at += int64(by) {
	}
	return at
}

// count names the holidays, and counts the days on which people work.
func (x *workdays) count(all []Holiday) {
	names := map[int64][]string{}
	for _, h := range all {
		if !x.has(h.Day) {
			continue
		}
		x.half[h.Day-x.first] = x.half[h.Day-x.first] || h.Half
		if !slices.Contains(names[h.Day], h.Name) {
			names[h.Day] = append(names[h.Day], h.Name)
		}
	}
	for at, list := range names {
		slices.Sort(list)
		x.names[at] = strings.Join(list, ", ")
	}
	for i := range x.off {
		x.half[i] = x.half[i] && !x.off[i] && !x.weekend[i]
		x.before[i+1] = x.before[i]
		if !x.off[i] && !x.weekend[i] {
			x.before[i+1]++
		}
	}
}

// works reports whether people work on a day, all of it or half.
func (x *workdays) works(at int64) bool { return !x.off[at-x.first] && !x.weekend[at-x.first] }

// between counts the working days from a day on, before another.
func (x *workdays) between(from, to int64) int64 {
	return x.before[to-x.first] - x.before[from-x.first]
}

// next returns the next working day after a day, or the last one before it; null if there is none near.
func (x *workdays) next(at int64, by Substitute) int64 {
	if at = x.free(at, by); !x.has(at) {
		return null
	}
	return at
}

// rolled returns the day itself if people work on it, else the next one that they do. If that is in another month, and
// within says so, it is the one before.
func (x *workdays) rolled(d *day, within bool) int64 {
	if x.works(d.at) {
		return d.at
	}
	at := x.next(d.at, Next)
	if within && (at == null || at >= d.nextMonth()) {
		return x.next(d.at, Previous)
	}
	return at
}

func (r *Region) attributes(x *workdays) []Attribute {
	prefix := ""
	if r.Name != "" {
		prefix = r.Name + "_"
	}
	in := func(from, to func(d *day) int64) func(d *day) int64 {
		return func(d *day) int64 { return x.between(from(d), to(d)) }
	}
	tomorrow := func(d *day) int64 { return d.at + 1 }
	month := func(d *day) int64 { return d.monthStart }
	nextMonth := func(d *day) int64 { return d.nextMonth() }
	off := func(at int64) bool { return x.off[at-x.first] }
	list := []Attribute{
		flag("is_weekend", "the weekday is in the weekend", func(d *day) bool { return x.weekend[d.at-x.first] }),
		flag("is_holiday", "a holiday, of which people have the whole day off", func(d *day) bool { return off(d.at) }),
		words("holiday_name", "name of the holiday, also of one with half a day off; of several, in the order of their bytes", func(b []byte, d *day) []byte {
			return append(b, x.names[d.at]...)
		}),
		flag("is_half_day", "a working day of which half is off", func(d *day) bool { return x.half[d.at-x.first] }),
		flag("is_working_day", "neither in the weekend nor a holiday; half days are working days", func(d *day) bool { return x.works(d.at) }),
		count("working_day_of_month", "working days of the month up to this day", in(month, tomorrow)),
		count("working_days_in_month", "working days of the month", in(month, nextMonth)),
		count("working_days_left_in_month", "working days of the month after this day", in(tomorrow, nextMonth)),
		count("working_day_of_quarter", "working days of the quarter up to this day", in(func(d *day) int64 { return d.quarterStart }, tomorrow)),
		count("working_days_in_quarter", "working days of the quarter", in(
			func(d *day) int64 { return d.quarterStart }, func(d *day) int64 { return d.nextQuarter() },
		)),
		count("working_day_of_year", "working days of the year up to this day", in(func(d *day) int64 { return d.yearStart }, tomorrow)),
		count("working_days_in_year", "working days of the year", in(
			func(d *day) int64 { return d.yearStart }, func(d *day) int64 { return d.nextYear },
		)),
		count("working_day_number", "working days from the first day of the calendar up to this day", func(d *day) int64 {
			return x.between(x.from, d.at+1)
		}),
		on("previous_working_day", "last working day before this day", func(d *day) int64 { return x.next(d.at, Previous) }),
		on("next_working_day", "first working day after this day", func(d *day) int64 { return x.next(d.at, Next) }),
		on("following_working_day", "this day if it is a working day, else the next one", func(d *day) int64 { return x.rolled(d, false) }),
		on(
			"following_in_month", "this day if it is a working day, else the next one, or the one before if the next is in another month",
			func(d *day) int64 { return x.rolled(d, true) },
		),
		flag("is_first_working_day_of_month", "the first working day of the month", func(d *day) bool {
			return x.works(d.at) && x.between(d.monthStart, d.at) == 0
		}),
		flag("is_last_working_day_of_month", "the last working day of the month", func(d *day) bool {
			return x.works(d.at) && x.between(d.at+1, d.nextMonth()) == 0
		}),
		flag("is_bridge_day", "a working day between two days off, of which one is a holiday", func(d *day) bool {
			return x.works(d.at) && !x.works(d.at-1) && !x.works(d.at+1) && (off(d.at-1) || off(d.at+1))
		}),
		flag("is_day_before_holiday", "the next day is a holiday", func(d *day) bool { return off(d.at + 1) }),
		flag("is_day_after_holiday", "the day before is a holiday", func(d *day) bool { return off(d.at - 1) }),
	}
	for k := range list {
		list[k].Name = prefix + list[k].Name
	}
	if r.Name == "" {
		list = append(list, count("days_from_easter", "days from the nearest Easter Sunday of the western churches; before it negative", func(d *day) int64 {
			return fromEaster(d, Easter)
		}), count("days_from_orthodox_easter", "days from the nearest Easter Sunday of the orthodox churches; before it negative", func(d *day) int64 {
			return fromEaster(d, OrthodoxEaster)
		}))
	}
	return list
}

// fromEaster returns the days from the nearest Easter, of two that are equally near from the earlier.
func fromEaster(d *day, easter func(year int) int64) int64 {
	best := d.at - easter(int(d.year)-1)
	for _, year := range []int64{d.year, d.year + 1} {
		if n := d.at - easter(int(year)); max(n, -n) < max(best, -best) {
			best = n
		}
	}
	return best
}
