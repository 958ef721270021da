// Package locale has the names of months, weekdays and quarters, the patterns of dates and the weeks of territories, as
// the Unicode CLDR has them for the Gregorian calendar.
//
// Names have two forms. The stand-alone form is a label, such as the heading of a column: leden in Czech. The format
// form stands in a date, with a day: 1. ledna. Languages without the difference have the same names in both.
//
// The table is generated from the CLDR, see the command in the folder generate, and embedded. It is of one release, so
// that a name in a warehouse changes only if the program does.
package locale

import (
	"bufio"
	"bytes"
	"compress/gzip"
	_ "embed"
	"fmt"
	"strings"
	"sync"

	"golang.org/x/text/language"
)

//go:embed names.gz
var packed []byte

// Locale is the names and patterns of a language, or of a language as it is written in one territory.
type Locale struct {
	Tag string // of the CLDR: the one asked for, or one that it inherits from

	Months, Weekdays, Quarters Names // weekdays begin with Monday

	Era                        string   // the era since year 1
	Letters                    []string // weekdays, as short as can be: two may be alike
	Full, Long, Medium, Short  Pattern  // of dates
	MonthAndYear, QuarterLabel Pattern
}

// Names are the names of months, weekdays or quarters.
type Names struct{ Wide, Short Forms }

// Forms are names in their two forms, one for each month, weekday or quarter.
type Forms struct{ StandAlone, Format []string }

// Week is what a territory says of weeks. Weekdays are counted from Monday, 1, to Sunday, 7.
type Week struct {
	FirstDay  int // the weekday on which weeks begin
	LeastDays int // how many days of a year its first week has at least
	Weekend   []int
}

// Like says for each field of the table which other one it is most often the same as.
var Like = []int{0, 0, 0, 2, 4, 4, 4, 6, 8, 8, 8, 10, 12, 6, 14, 15, 16, 17, 18, 19}

type table struct {
	version string
	weeks   map[string]Week
	parents map[string]string
	fields  map[string][]string
}

var load = sync.OnceValue(func() *table {
	t := &table{weeks: map[string]Week{}, parents: map[string]string{}, fields: map[string][]string{}}
	z, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		panic(err)
	}
	lines := bufio.NewScanner(z)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		switch f := strings.Split(lines.Text(), "\t"); len(f) {
		case 1:
			t.version = f[0]
		case 5:
			t.weeks[f[0]] = week(f[1], f[2], f[3], f[4])
		default:
			t.parents[f[0]], t.fields[f[0]] = f[1], f[2:]
		}
	}
	if err := lines.Err(); err != nil {
		panic(err)
	}
	return t
})

func week(first, least, from, to string) Week {
	w := Week{FirstDay: weekday(first), LeastDays: int(least[0] - '0')}
	for day := weekday(from); ; day = day%7 + 1 {
		w.Weekend = append(w.Weekend, day)
		if day == weekday(to) {
			return w
		}
	}
}

func weekday(name string) int { return strings.Index("montuewedthufrisatsun", name)/3 + 1 }

// Version is the release of the CLDR that the table was made from.
func Version() string { return load().version }

// WeekOf returns what a territory says of weeks, by its code of ISO 3166-1; false if the code is not one.
func WeekOf(territory string) (Week, bool) {
	region, err := language.ParseRegion(territory)
	if err != nil || !region.IsCountry() || region.String() != strings.ToUpper(territory) {
		return Week{}, false
	}
	if w, ok := load().weeks[region.String()]; ok {
		return w, true
	}
	return load().weeks["001"], true
}

// Find returns the locale of a BCP 47 tag such as de, pt-BR or zh-TW. What the CLDR does not have for a territory or
// script is that of the language.
func Find(tag string) (*Locale, error) {
	t, err := language.Parse(tag)
	if err != nil {
		return nil, fmt.Errorf("%s is not a language tag such as de or pt-BR", tag)
	}
	all := load()
	for _, name := range candidates(t) {
		if _, ok := all.fields[name]; ok && name != "und" {
			return all.locale(name), nil
		}
	}
	return nil, fmt.Errorf("the CLDR has no names for the language %s", tag)
}

// candidates lists the names that a tag may have in the table, the closest first.
func candidates(t language.Tag) []string {
	base, script, region := t.Raw()
	likely, _ := t.Script()
	list := []string{t.String()}
	for _, v := range t.Variants() {
		list = append(list, join(base.String(), script.String(), region.String(), v.String()))
	}
	list = append(list,
		join(base.String(), likely.String(), region.String()),
		join(base.String(), script.String(), region.String()),
		join(base.String(), likely.String()),
	)
	if usual, _ := language.Make(base.String()).Script(); likely == usual { // names in another script say nothing
		list = append(list, join(base.String(), region.String()), base.String())
	}
	return list
}

// join joins the parts of a tag that are known.
func join(parts ...string) string {
	tag := parts[0]
	for _, p := range parts[1:] {
		if p != "Zzzz" && p != "ZZ" {
			tag += "-" + p
		}
	}
	return tag
}

// locale makes the locale of a name of the table.
func (t *table) locale(name string) *Locale {
	f := make([]string, len(Like))
	for k := range f {
		f[k] = t.field(name, k)
	}
	forms := func(k int) Forms { return Forms{strings.Split(f[k], "|"), strings.Split(f[k+1], "|")} }
	names := func(k int) Names { return Names{forms(k), forms(k + 2)} }
	l := &Locale{Tag: name, Months: names(0), Weekdays: names(4), Quarters: names(8), Era: f[12], Letters: strings.Split(f[13], "|")}
	for k, p := range []*Pattern{&l.Full, &l.Long, &l.Medium, &l.Short, &l.MonthAndYear, &l.QuarterLabel} {
		*p = compile(f[14+k], l)
	}
	return l
}

// field returns a field of a name, which may be that of another field, or of the name that it inherits from.
func (t *table) field(name string, k int) string {
	own := name
	for t.fields[own][k] == "" {
		own = t.parents[own]
	}
	if t.fields[own][k] == "=" {
		return t.field(own, Like[k])
	}
	return t.fields[own][k]
}
