package calendar

import (
	"math"
	"slices"
	"strings"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
)

// Attribute is a column that a calendar can have: a function of the day and of what the calendar declares.
type Attribute struct {
	Name    string
	Set     string // the set that it belongs to
	Type    column.Type
	Meaning string

	number func(*day) int64          // of all types but text; null is none
	text   func([]byte, *day) []byte // appends the value; nothing is null
}

// null is the number of a day that has none.
const null = math.MinInt64

// Set is attributes that are chosen together.
type Set struct {
	Name    string
	Meaning string
	Source  string // where the definitions are from
	Needs   string // the key of the model without which it has no attributes; "" if none is needed
}

// Sets lists all sets in the order of their columns.
func Sets() []Set {
	const proleptic = "the Gregorian calendar, also for days before it was introduced"
	return []Set{
		{Basic, "what a calendar has unless the model chooses", proleptic + "; ISO 8601 for weeks and weekdays", ""},
		{"plain", "days, months, quarters and years", proleptic, ""},
		{"iso", "weeks of ISO 8601: they begin on Monday, and week 1 has the first Thursday of the year", "ISO 8601-1:2019", ""},
		{
			"week", "weeks that begin on another weekday, or have another first week",
			"UTS 35, part 4, for weeks of territories", "week",
		},
		{"fiscal", "the fiscal year, which begins on the first of a month", "rule R23", "fiscal_year"},
		{
			"retail", "years of 52 or 53 whole weeks, in quarters of 4-5-4, 4-4-5 or 5-4-4 weeks",
			"the tax law of the United States for the end of the year: Internal Revenue Code §441(f)", "retail_year",
		},
		{"working_days", "weekends, holidays and working days", "the model", ""},
		{"compare", "the day to compare with", "this page", ""},
		{"labels", "names and dates in words", "the Unicode CLDR", ""},
		{"sort", "numbers to sort by, and running numbers to count with", "this page", ""},
	}
}

// Basic is the set of a calendar that chooses none.
const Basic = "basic"

var (
	integer = column.Type{Kind: column.Integer}
	text    = column.Type{Kind: column.Text}
	boolean = column.Type{Kind: column.Boolean}
	date    = column.Type{Kind: column.Date}
)

// count, flag, on and words make attributes of the types that a calendar has.
func count(name, meaning string, f func(*day) int64) Attribute {
	return Attribute{Name: name, Type: integer, Meaning: meaning, number: f}
}

func on(name, meaning string, f func(*day) int64) Attribute {
	return Attribute{Name: name, Type: date, Meaning: meaning, number: func(d *day) int64 {
		at := f(d)
		return orNull(at, at >= civil.FirstDay && at <= civil.LastDay) // the years 1 to 9999
	}}
}

func flag(name, meaning string, f func(*day) bool) Attribute {
	return Attribute{Name: name, Type: boolean, Meaning: meaning, number: func(d *day) int64 {
		if f(d) {
			return 1
		}
		return 0
	}}
}

func words(name, meaning string, f func([]byte, *day) []byte) Attribute {
	return Attribute{Name: name, Type: text, Meaning: meaning, text: f}
}

// Attributes lists what the calendar can have, by sets. An attribute of the set basic is listed in its own set, too.
func (c *Calendar) Attributes() []Attribute { return c.attributes(nil) }

func (c *Calendar) attributes(regions map[*Region]*workdays) []Attribute {
	var all []Attribute
	add := func(set string, list []Attribute) {
		for _, a := range list {
			a.Set = set
			all = append(all, a)
		}
	}
	add("plain", plainAttributes())
	add("iso", isoAttributes())
	if c.Week.First != 0 {
		add("week", weekAttributes())
	}
	add("fiscal", fiscalAttributes())
	if c.Retail != nil {
		add("retail", c.Retail.attributes(c.languages()[0]))
	}
	for _, r := range c.regions() {
		add("working_days", r.attributes(regions[r]))
	}
	add("compare", compareAttributes())
	add("labels", labelAttributes(c.languages()))
	add("sort", c.sortAttributes())
	return all
}

// basic lists the attributes of the set basic, in their order.
var basic = strings.Fields(
	"day month month_name quarter year iso_week iso_year day_of_week weekday_name fiscal_year fiscal_quarter fiscal_month sort_order",
)

// BasicAttributes lists the attributes of the set basic.
func BasicAttributes() []string { return slices.Clone(basic) }

// chosen lists the attributes that the calendar has, in the order of the sets that it chooses. An attribute is there
// once.
func (c *Calendar) chosen(regions map[*Region]*workdays) []Attribute {
	all := c.attributes(regions)
	names := c.Chosen
	if names == nil {
		names = []string{Basic}
	}
	var list []Attribute
	take := func(a Attribute) {
		if !slices.ContainsFunc(list, func(o Attribute) bool { return o.Name == a.Name }) {
			list = append(list, a)
		}
	}
	for _, name := range names {
		if name == Basic {
			for _, b := range basic {
				take(all[slices.IndexFunc(all, func(a Attribute) bool { return a.Name == b })])
			}
			continue
		}
		for _, a := range all {
			if a.Set == name || a.Name == name {
				take(a)
			}
		}
	}
	return list
}

// OfRegion lists the names of the attributes that depend on the holidays of a region.
func (c *Calendar) OfRegion(r *Region) []string {
	var names []string
	for _, a := range r.attributes(nil) {
		names = append(names, a.Name)
	}
	return names
}

// Has reports whether a name is that of a set or of an attribute which the calendar can have.
func (c *Calendar) Has(name string) bool {
	return name == Basic || slices.ContainsFunc(c.Attributes(), func(a Attribute) bool { return a.Set == name || a.Name == name })
}

// fill writes the attribute of some days.
func (a *Attribute) fill(c *column.Column, days []day, buffer []byte) []byte {
	if a.text != nil {
		return a.fillText(c, days, buffer)
	}
	for i := range days {
		n := a.number(&days[i])
		if c.Null[i] = n == null; c.Null[i] {
			n = 0
		}
		c.Int[i] = n
	}
	return buffer
}

// mostKept is how many values of an attribute are kept to be used again.
const mostKept = 64

func (a *Attribute) fillText(c *column.Column, days []day, buffer []byte) []byte {
	kept := map[string]string{}
	for i := range days {
		buffer = a.text(buffer[:0], &days[i])
		value, ok := kept[string(buffer)]
		if !ok {
			value = string(buffer)
			if len(kept) < mostKept {
				kept[value] = value
			}
		}
		c.Null[i], c.Text[i] = value == "", value
	}
	return buffer
}
