package star

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/calendar"
	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/locale"
	"ironmonger/internal/parse"
)

// Calendar is the days that a source generates, and the key that a dimension gives them.
type Calendar struct {
	calendar.Calendar
	Lists    []*HolidayList
	Relative *Relative // nil if nothing is relative to a day

	AtLeast, AtMost int64 // how far it grows
	fromData        bool  // it begins with the years of the first day that facts have
	toData          bool  // and ends with those of the last one

	numbered bool  // a dimension numbers its days like other members
	epoch    int64 // the day before the first key; 0 unless keys are days since it
	counted  bool  // keys are days since epoch

	atLeast, atMost bool // they are given

	chosen []Name
	like   []sameHolidays
	at     diag.Place
	keyAt  diag.Place
}

// HolidayList is holidays of a region that a source has, a row each.
type HolidayList struct {
	Region     *calendar.Region
	Source     *Source
	Date, Name string // columns; Name may be ""
	Half       string // a boolean column that says that only half of the day is off; "" if none does

	from, date, name, half *Name
	at                     diag.Place
}

// sameHolidays says that a region has the holidays of another, too.
type sameHolidays struct {
	region *calendar.Region
	of     Name
}

// DayKeys returns the calendar whose days make the keys of the dimension; nil if its members are numbered.
func (d *Dimension) DayKeys() *Calendar {
	if d.Calendar == nil || d.Calendar.numbered {
		return nil
	}
	return d.Calendar
}

// Key returns the key of a day: yyyymmdd, or the days since the epoch that the model gives.
func (c *Calendar) Key(day int64) int64 {
	if c.counted {
		return day - c.epoch
	}
	return calendar.Key(day)
}

// Day returns the day of a key that [Calendar.Key] makes; false if none has it.
func (c *Calendar) Day(key int64) (int64, bool) {
	day := key + c.epoch
	if !c.counted {
		day = civil.Day(int(key/10000), int(key/100%100), int(key%100))
	}
	return day, c.Key(day) == key
}

// KeyKind is how the model declares the keys of days.
func (c *Calendar) KeyKind() string {
	switch {
	case c.numbered:
		return "numbered"
	case c.counted:
		return "{days_since: " + string(column.AppendInt(nil, column.Date, c.epoch)) + "}"
	}
	return "yyyymmdd"
}

// Dated reports whether the keys of days are yyyymmdd.
func (c *Calendar) Dated() bool { return !c.numbered && !c.counted }

// OnCalendar returns the calendar that the rows of a source are the days of, each once; nil if they are something else.
func (s *Source) OnCalendar() *Calendar {
	if s == nil || s.Merges() || len(s.Require)+len(s.SetAside) > 0 || s.Union != nil {
		return nil
	}
	if s.From != nil {
		return s.From.OnCalendar()
	}
	for _, j := range s.Joins {
		if j.Unmatched == SetAside || j.Several == SetAside {
			return nil
		}
	}
	return s.Calendar
}

// With returns a source of days from one to another of the same calendar, with other weeks and attributes.
func (s *Source) With(from, to int64, week calendar.Week, chosen ...string) *Source {
	cal := *s.Calendar
	cal.From, cal.To, cal.Week, cal.Chosen = from, to, week, chosen
	return &Source{Name: s.Name, Calendar: &cal, Columns: asColumns(cal.Fields())}
}

// calendarSource returns the source that a dimension has which declares a calendar itself.
func calendarSource(d *Dimension) *Source {
	return &Source{
		Name: Name{"calendar " + d.Text, d.At}, Calendar: &Calendar{}, text: sourceText{subject: "dimensions." + d.Text},
	}
}

func (r *reader) day(n *node) int64 {
	col := column.Column{Type: column.Type{Kind: column.Date}}
	col.Resize(1)
	w, ok := r.word(n, "a date")
	if ok && parse.NewReader(nil).Set(&col, 0, w.Text) != nil {
		r.errorf(w.At, n.path, "%s is not a date such as 2025-03-31", w.Text)
	}
	return col.Int[0]
}

// calendar reads the section of a calendar.
func (r *reader) calendar(n *node, c *Calendar) {
	c.at = n.key.At
	r.section(n, r.calendarEntries(c))
}

func (r *reader) calendarEntries(c *Calendar) []Entry {
	return []Entry{
		{
			"from",
			"a date, or data",
			"the first day; with data, the calendar grows back to the beginning of the year that has the first day of the facts: the retail year if there is one, else the fiscal year",
			true,
			func(n *node) {
				if c.fromData = n.Value == "data"; !c.fromData {
					c.From = r.day(n)
				}
			},
		},
		{
			"to",
			"a date, or data",
			"the last day; with data, the calendar grows to the end of the year that has the last day of the facts",
			true,
			func(n *node) {
				if c.toData = n.Value == "data"; !c.toData {
					c.To = r.day(n)
				}
			},
		},
		{
			"at_least",
			"a date",
			"the first day that a calendar may grow back to; earlier days are unmatched. Required with from: data",
			false,
			func(n *node) { c.AtLeast, c.atLeast = r.day(n), true },
		},
		{
			"at_most",
			"a date",
			"the last day that a calendar may grow to; later days are unmatched. Required with to: data",
			false,
			func(n *node) { c.AtMost, c.atMost = r.day(n), true },
		},
		{
			"closed",
			"true or false",
			"no later days are needed: `prove` does not warn when the last day is near or past. The default is false",
			false,
			func(n *node) { c.Closed = r.choice(n, "true", "false") == "true" },
		},
		{
			"key",
			"yyyymmdd, numbered, or {days_since: date}",
			"the surrogate key of a day in a dimension: 20250331 (the default), the next number as in other dimensions, or the days " +
				"since a date before the first day",
			false,
			func(n *node) { r.dayKey(n, c) },
		},
		{
			"attributes",
			"a list of sets and attributes",
			"the columns besides the date, as [the calendar](calendar.md) has them. The default is the set basic",
			false,
			func(n *node) {
				c.chosen = r.words(n, "a set or an attribute")
				c.Chosen = []string{}
				for _, w := range c.chosen {
					c.Chosen = append(c.Chosen, w.Text)
				}
			},
		},
		{"fiscal_year", "keys", "the fiscal year; without it, the calendar year", false, func(n *node) {
			named := false
			r.section(n, r.fiscalEntries(c, &named))
			if !named && c.Fiscal.Start > 1 {
				r.errorf(
					n.key.At,
					n.path,
					"named_by is missing: does a fiscal year have the number of the year in which it starts (start) or ends (end)?",
				)
			}
		}},
		{"week", "keys", "weeks that do not begin on Monday, for the attributes of the set week", false, func(n *node) {
			r.week(n, c)
		}},
		{"retail_year", "keys", "years of whole weeks, for the attributes of the set retail", false, func(n *node) {
			c.Retail = &calendar.Retail{Extra: 12}
			r.section(n, r.retailEntries(c.Retail))
		}},
		{
			"languages",
			"language tags",
			"the languages of names, by their BCP 47 tags such as de or pt-BR. Columns of the first one have no suffix, those of the others end in " +
				"the tag: month_name_de. The default is en",
			false,
			func(n *node) {
				for _, w := range r.words(n, "a language tag such as de") {
					l, err := locale.Find(w.Text)
					if err != nil {
						r.errorf(w.At, n.path, "%v", err)
						continue
					}
					c.Languages = append(c.Languages, l)
				}
			},
		},
		{
			"relative",
			"keys",
			"a reference day, from which the view dim_NAME_relative counts",
			false,
			func(n *node) {
				c.Relative = &Relative{at: n.key.At}
				r.section(n, r.relativeEntries(c.Relative))
			},
		},
		{"working_days", "keys", "weekends and holidays, for the attributes of the set working_days", false, func(n *node) {
			r.region(n, c, "")
		}},
		{
			"regions",
			"name: keys",
			"working days of several regions or sites, each with attributes that begin with its name: north_is_holiday",
			false,
			func(n *node) {
				r.each(n, func(n *node) { r.region(n, c, r.name(n.key, n.path).Text) })
			},
		},
	}
}

// dayKey reads what the keys of days are.
func (r *reader) dayKey(n *node, c *Calendar) {
	c.keyAt = r.at(n.Node)
	if n.Kind != yaml.MappingNode {
		c.numbered = r.choice(n, "yyyymmdd", "numbered") == "numbered"
		return
	}
	r.section(n, []Entry{{"days_since", "a date", "the day whose key would be 0", true, func(n *node) {
		c.epoch, c.counted = r.day(n), true
	}}})
}

// month and weekday read their names, as numbers.
func (r *reader) month(n *node) int {
	return calendar.MonthNamed(r.choice(n, strings.Fields(monthNames)...))
}

func (r *reader) weekday(n *node) int {
	return calendar.WeekdayNamed(r.choice(n, strings.Fields(weekdayNames)...))
}

const (
	monthNames   = "january february march april may june july august september october november december"
	weekdayNames = "monday tuesday wednesday thursday friday saturday sunday"
)

func (r *reader) fiscalEntries(c *Calendar, named *bool) []Entry {
	return []Entry{
		{"starts", "a month's name", "the month in which it starts", true, func(n *node) { c.Fiscal.Start = r.month(n) }},
		{
			"named_by",
			"start or end",
			"which calendar year names it; required unless it starts in January",
			false,
			func(n *node) {
				c.Fiscal.ByEnd, *named = r.choice(n, "start", "end") == "end", true
			},
		},
	}
}

func (r *reader) week(n *node, c *Calendar) {
	var of *Name
	c.Week = calendar.Week{}
	r.section(n, r.weekEntries(c, &of))
	switch {
	case of != nil && c.Week != calendar.Week{}:
		r.errorf(n.key.At, n.path, "the weeks are those of a territory, or starts and least_days say how they are")
	case of != nil:
		w, ok := locale.WeekOf(of.Text)
		if !ok {
			r.errorf(of.At, n.path, "%s is not a territory such as US (ISO 3166-1)", of.Text)
			return
		}
		c.Week = calendar.Week{First: w.FirstDay, Least: w.LeastDays}
	case c.Week.First == 0 || c.Week.Least == 0:
		r.errorf(n.key.At, n.path, "weeks need starts and least_days, or territory")
	}
}

func (r *reader) weekEntries(c *Calendar, of **Name) []Entry {
	return []Entry{
		{"starts", "a weekday", "the weekday on which weeks begin", false, func(n *node) { c.Week.First = r.weekday(n) }},
		{
			"least_days",
			"a number from 1 to 7",
			"how many days of a year its first week has at least: 1 if the week of 1 January is the first, 4 as in ISO 8601",
			false,
			func(n *node) { c.Week.Least = r.count(n, 1, 7) },
		},
		{
			"territory",
			"a territory's code",
			"instead, the weeks of a territory as the Unicode CLDR has them, by its code of ISO 3166-1: US",
			false,
			func(n *node) {
				if w, ok := r.word(n, "a territory's code"); ok {
					*of = &w
				}
			},
		},
	}
}

// count reads a number from a least one to a greatest one.
func (r *reader) count(n *node, least, most int) int {
	w, ok := r.word(n, "a number")
	v, err := strconv.Atoi(w.Text)
	if ok && (err != nil || v < least || v > most) {
		r.errorf(w.At, n.path, "%s is not a number from %d to %d", w.Text, least, most)
		return least
	}
	return v
}

func (r *reader) retailEntries(c *calendar.Retail) []Entry {
	return []Entry{
		{"ends_on", "a weekday", "the weekday on which years end", true, func(n *node) { c.Weekday = r.weekday(n) }},
		{"month", "a month's name", "the month at whose end years end", true, func(n *node) { c.Month = r.month(n) }},
		{
			"rule",
			"last or nearest",
			"years end on the last such weekday of the month, or on the one nearest to its last day, which may be in the next month",
			true,
			func(n *node) { c.Nearest = r.choice(n, "last", "nearest") == "nearest" },
		},
		{
			"named_by",
			"start or end",
			"the number of a year: that of the calendar year of the month at whose end it ends (end), or of the month with which it starts " +
				"(start): of the month after that, a year before",
			true,
			func(n *node) { c.ByStart = r.choice(n, "start", "end") == "start" },
		},
		{
			"pattern",
			"4-4-5, 4-5-4 or 5-4-4",
			"the weeks of the three periods of a quarter",
			true,
			func(n *node) {
				for k, weeks := range strings.Split(r.choice(n, "4-4-5", "4-5-4", "5-4-4"), "-") {
					c.Pattern[k], _ = strconv.Atoi(weeks)
				}
			},
		},
		{
			"week_53",
			"a period from 1 to 12, or none",
			"the period that has a week more in years of 53 weeks; 12 is the default. With none, week 53 is in no period and no quarter",
			false,
			func(n *node) {
				if c.Extra = 0; n.Value != "none" {
					c.Extra = r.count(n, 1, 12)
				}
			},
		},
		{
			"period_names",
			"a list of 12 names",
			"the names of the periods; the default is the month that most of a period is in",
			false,
			func(n *node) {
				list := r.words(n, "a name")
				if len(list) != 12 {
					r.errorf(n.key.At, n.path, "a year has 12 periods, and there are %d names", len(list))
					return
				}
				for _, w := range list {
					c.Names = append(c.Names, w.Text)
				}
			},
		},
	}
}

// region reads the weekend and the holidays of a region.
func (r *reader) region(n *node, c *Calendar, name string) {
	x := &calendar.Region{Name: name, Weekend: []int{6, 7}}
	c.Regions = append(c.Regions, x)
	r.section(n, r.regionEntries(c, x))
}

func (r *reader) regionEntries(c *Calendar, x *calendar.Region) []Entry {
	return []Entry{
		{
			"weekend",
			"weekdays, a territory's code, or none",
			"the weekdays of the weekend; with the code of a territory (ISO 3166-1), its weekend as the Unicode CLDR has it. The default is [saturday, sunday]",
			false,
			func(n *node) { x.Weekend = r.weekend(n) },
		},
		{
			"holidays",
			"a list of holidays",
			"the holidays: rules, sources, and regions whose holidays these are, too",
			false,
			func(n *node) {
				if n.Kind != yaml.SequenceNode {
					r.errorf(r.at(n.Node), n.path, "expected a list of holidays, each a line such as - {name: New Year, on: 1 january}")
					return
				}
				for _, item := range n.Content {
					at := r.at(item)
					r.holiday(&node{item, n.path, Name{At: at}}, c, x)
				}
			},
		},
	}
}

func (r *reader) weekend(n *node) []int {
	if n.Kind == yaml.ScalarNode && n.Value == "none" {
		return nil
	}
	list := r.words(n, "a weekday")
	if len(list) == 1 && calendar.WeekdayNamed(list[0].Text) == 0 {
		if w, ok := locale.WeekOf(list[0].Text); ok {
			return w.Weekend
		}
	}
	var days []int
	for _, w := range list {
		day := calendar.WeekdayNamed(w.Text)
		if day == 0 {
			r.errorf(w.At, n.path, "%s is not a weekday%s", w.Text, diag.Suggest(w.Text, strings.Fields(weekdayNames)))
			continue
		}
		days = append(days, day)
	}
	return days
}

// holidayText is what an item of holidays says.
type holidayText struct {
	calendar.Rule
	HolidayList
	ruled bool
	of    *Name // a region
}

// holiday reads an item of holidays: a rule, a source, or a region.
func (r *reader) holiday(n *node, c *Calendar, x *calendar.Region) {
	h := &holidayText{HolidayList: HolidayList{Region: x, at: n.key.At}}
	before := len(r.errs)
	r.section(n, r.holidayEntries(h))
	ways := 0
	for _, is := range []bool{h.ruled, h.from != nil, h.of != nil} {
		if is {
			ways++
		}
	}
	switch {
	case len(r.errs) > before:
	case ways != 1:
		r.errorf(n.key.At, n.path, "a holiday has either on (a rule), or from (a source), or region")
	case h.ruled && h.name == nil:
		r.errorf(n.key.At, n.path, "name is missing: what is the holiday called?")
	case h.from != nil && h.date == nil:
		r.errorf(n.key.At, n.path, "date is missing: which column of the source has the date?")
	case h.from == nil && h.date != nil:
		r.errorf(h.date.At, n.path, "date is a column of a source, and there is none (from)")
	case !h.ruled && (h.Since > 0 || h.Until > 0 || h.Substitutes != nil):
		r.errorf(n.key.At, n.path, "since, until and substitute belong to a rule (on)")
	case h.of != nil:
		c.like = append(c.like, sameHolidays{x, *h.of})
	case h.from != nil:
		c.Lists = append(c.Lists, &h.HolidayList)
	default:
		if h.Rule.Name = h.name.Text; h.half != nil {
			if h.Rule.Half = h.half.Text == "true"; !h.Rule.Half && h.half.Text != "false" {
				r.errorf(h.half.At, n.path, "half is true or false where a rule says the day")
			}
		}
		x.Holidays = append(x.Holidays, h.Rule)
	}
}

func (r *reader) holidayEntries(h *holidayText) []Entry {
	word := func(to **Name, what string) func(n *node) {
		return func(n *node) {
			if w, ok := r.word(n, what); ok {
				*to = &w
			}
		}
	}
	return []Entry{
		{"name", "a name, or a column", "the name of the holiday; with `from`, the column that has it", false, word(&h.name, "a name")},
		{
			"on",
			"a day of the year",
			"the day: `25 december`, `first monday of september`, `last monday of may`, `wednesday before 23 november`, `saturday from 31 october`, " +
				"`easter - 2`, `orthodox easter + 50`. `from` and `until` include the date, `after` and `before` do not",
			false,
			func(n *node) {
				w, ok := r.word(n, "a day of the year")
				if !ok {
					return
				}
				h.ruled = true
				var err error
				if h.On, err = calendar.ParseWhen(w.Text); err != nil {
					r.errorf(w.At, n.path, "%v", err)
				}
			},
		},
		{
			"half",
			"true or false, or a column",
			"only half of the day is off; with `from`, the boolean column that says so",
			false,
			word(&h.half, "true, false or a column"),
		},
		{"since", "a year", "the first year that has the holiday", false, func(n *node) { h.Since = r.count(n, 1, 9999) }},
		{"until", "a year", "the last year that has it", false, func(n *node) { h.Until = r.count(n, 1, 9999) }},
		{
			"substitute",
			"next, nearest, or weekday: next or previous",
			"which day is off, too, if the holiday falls on the weekend: the next one that is neither on the weekend nor a holiday, or " +
				"for a Saturday the one before (nearest); or by weekday: {sunday: next}",
			false,
			func(n *node) { h.Substitutes = r.substitutes(n) },
		},
		{"from", "a source", "a source of holidays, a row each, instead of a rule", false, word(&h.from, "a source")},
		{"date", "a column", "the column of the source that has the date", false, word(&h.date, "a column")},
		{"region", "a region", "another region, whose holidays these are, too", false, word(&h.of, "a region")},
	}
}

func (r *reader) substitutes(n *node) map[int]calendar.Substitute {
	list := map[int]calendar.Substitute{}
	if n.Kind != yaml.MappingNode {
		by := r.choice(n, "next", "nearest")
		for day := 1; day <= 7; day++ {
			if list[day] = calendar.Next; by == "nearest" && day == 6 {
				list[day] = calendar.Previous
			}
		}
		return list
	}
	r.each(n, func(n *node) {
		day := calendar.WeekdayNamed(n.key.Text)
		if day == 0 {
			r.errorf(n.key.At, n.path, "%s is not a weekday%s", n.key.Text, diag.Suggest(n.key.Text, strings.Fields(weekdayNames)))
		}
		if list[day] = calendar.Next; r.choice(n, "next", "previous") == "previous" {
			list[day] = calendar.Previous
		}
	})
	return list
}

// calendar checks what a calendar declares.
func (c *checker) calendar(cal *Calendar, path string) {
	switch {
	case cal.fromData != cal.atLeast, cal.toData != cal.atMost:
		c.errorf(cal.at, path, "at_least goes with from: data, and at_most with to: data: how far may the calendar grow?")
	case cal.Grows():
		c.grows(cal, path)
	case cal.To < cal.From:
		c.errorf(cal.at, path, "to is before from")
	case cal.counted && cal.epoch >= cal.From:
		c.errorf(cal.keyAt, path+".key", "the key of the first day would not be positive: days_since is a day before it")
	}
	for _, x := range cal.like {
		c.sameHolidays(cal, x, path)
	}
	for _, l := range cal.Lists {
		c.holidays(l, path+".holidays")
	}
	if cal.Relative != nil {
		c.relative(cal, path+".relative")
	}
	names := map[string]bool{}
	for _, l := range cal.Languages {
		if names[l.Tag] {
			c.errorf(cal.at, path+".languages", "the names of two languages are the same: those of %s", l.Tag)
		}
		names[l.Tag] = true
	}
	for _, w := range cal.chosen {
		if !cal.Has(w.Text) {
			c.errorf(w.At, path+".attributes", "%s", cal.unknown(w.Text))
		}
	}
}

// grows completes a calendar that grows: what it has before there are facts, and where its counts begin.
func (c *checker) grows(cal *Calendar, path string) {
	if !cal.fromData {
		cal.AtLeast = cal.From
	}
	if !cal.toData {
		cal.AtMost = cal.To
	}
	if cal.AtMost < cal.AtLeast {
		c.errorf(cal.at, path, "the calendar may end before it begins")
		return
	}
	if cal.counted && cal.epoch >= cal.AtLeast {
		c.errorf(cal.keyAt, path+".key", "the key of the first day would not be positive: days_since is a day before it")
	}
	cal.Origin = &cal.AtLeast
	switch {
	case cal.fromData && cal.toData:
		cal.From, cal.To = cal.AtLeast, cal.AtLeast-1
	case cal.fromData:
		cal.From, _ = cal.Widened(cal.To, cal.To)
	default:
		_, cal.To = cal.Widened(cal.From, cal.From)
	}
}

// Grows reports whether the days follow from those that facts have.
func (c *Calendar) Grows() bool { return c.fromData || c.toData }

// EndsByData reports whether the last day follows from the days that facts have.
func (c *Calendar) EndsByData() bool { return c.toData }

// Limits returns the first and the last day that the calendar has or may grow to.
func (c *Calendar) Limits() (from, to int64) {
	if from, to = c.From, c.To; c.fromData {
		from = c.AtLeast
	}
	if c.toData {
		to = c.AtMost
	}
	return from, to
}

// Reaches reports whether the calendar may grow to a day.
func (c *Calendar) Reaches(day int64) bool { return c.Grows() && day >= c.AtLeast && day <= c.AtMost }

// Widened returns the range of the whole years that have two days, within what the calendar may grow to.
func (c *Calendar) Widened(from, to int64) (int64, int64) {
	first, _ := c.Year(from)
	_, last := c.Year(to)
	return max(first, c.AtLeast), min(last, c.AtMost)
}

// Range returns a calendar with other days.
func (c *Calendar) Range(from, to int64) *Calendar {
	other := *c
	other.From, other.To = from, to
	return &other
}

// unknown says why a calendar has no set or attribute of a name.
func (c *Calendar) unknown(name string) string {
	var known []string
	for _, s := range calendar.Sets() {
		if s.Name == name {
			return fmt.Sprintf("the set %s needs %s", name, s.Needs)
		}
		known = append(known, s.Name)
	}
	for _, a := range c.Attributes() {
		known = append(known, a.Name)
	}
	return fmt.Sprintf("there is no set and no attribute %s%s", name, diag.Suggest(name, known))
}

// sameHolidays gives a region the holidays of another.
func (c *checker) sameHolidays(cal *Calendar, x sameHolidays, path string) {
	at := slices.IndexFunc(cal.Regions, func(r *calendar.Region) bool { return r.Name == x.of.Text })
	if at < 0 || cal.Regions[at] == x.region {
		c.errorf(x.of.At, path+".holidays", "there is no other region %s", x.of.Text)
		return
	}
	of := cal.Regions[at]
	if slices.ContainsFunc(cal.like, func(o sameHolidays) bool { return o.region == of }) {
		c.errorf(x.of.At, path+".holidays", "region %s has the holidays of another region itself", x.of.Text)
		return
	}
	x.region.Holidays = append(x.region.Holidays, of.Holidays...)
	for _, l := range slices.Clone(cal.Lists) {
		if l.Region == of {
			other := *l
			other.Region = x.region
			cal.Lists = append(cal.Lists, &other)
		}
	}
}

// holidays finds the source of a list of holidays, and its columns.
func (c *checker) holidays(l *HolidayList, path string) {
	if l.Source = c.findSource(l.from, path+".from"); l.Source == nil || !c.source(l.Source) {
		return
	}
	fields, of := l.Source.Fields(), "source "+l.Source.Text
	for _, want := range []struct {
		w    *Name
		to   *string
		kind column.Kind
		is   string
	}{
		{l.date, &l.Date, column.Date, "a date"},
		{l.name, &l.Name, column.Text, "a text"},
		{l.half, &l.Half, column.Boolean, "a boolean"},
	} {
		if want.w == nil {
			continue
		}
		f, ok := c.field(fields, of, *want.w, path)
		if *want.to = f.Name; ok && known(f.Type) && f.Type.Kind != want.kind {
			c.errorf(want.w.At, path, "%s is of type %s; %s is needed", f.Name, f.Type, want.is)
		}
	}
}
