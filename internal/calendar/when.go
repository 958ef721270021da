package calendar

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ironmonger/internal/civil"
)

// When is a day of every year: a date, a weekday of a month, a weekday near a date, or a day at some distance from
// Easter.
type When struct {
	Month, Day int   // a date; no day for a weekday of the month
	Weekday    int   // 0 for none
	Nth        int   // which one of its weekday in the month; -1 is the last one
	From       int   // where a weekday near a date is looked for: 1 from the date on, 2 after it, -1 up to it, -2 before it
	Easter     Creed // whose Easter the day is counted from; 0 for none
	Offset     int   // days from Easter
}

// Creed says whose Easter is meant.
type Creed int

// The creeds.
const (
	Western Creed = iota + 1
	Orthodox
)

var (
	monthNames   = strings.Fields("january february march april may june july august september october november december")
	weekdayNames = strings.Fields("monday tuesday wednesday thursday friday saturday sunday")
	ordinals     = strings.Fields("first second third fourth fifth")
	nearness     = map[string]int{"from": 1, "after": 2, "until": -1, "before": -2}
)

// WeekdayNamed and MonthNamed return the number of a name, 0 if it is none.
func WeekdayNamed(name string) int { return slices.Index(weekdayNames, name) + 1 }
func MonthNamed(name string) int   { return slices.Index(monthNames, name) + 1 }

// whenForms says which forms there are.
const whenForms = "it is written like 25 december, first monday of september, last monday of may, wednesday before 23 november, " +
	"saturday from 20 june, easter - 2 or orthodox easter + 50"

// ParseWhen reads a day of every year.
func ParseWhen(s string) (When, error) {
	words := strings.Fields(s)
	wrong := fmt.Errorf("%q is not a day of the year: %s", s, whenForms)
	if w, ok := parseEaster(words); ok {
		return w, nil
	}
	if len(words) == 2 {
		if w, ok := parseDate(words); ok {
			return w, nil
		}
	}
	if len(words) != 4 {
		return When{}, wrong
	}
	if w, ok := parseDate(words[2:]); ok {
		w.Weekday, w.From = WeekdayNamed(words[0]), nearness[words[1]]
		if w.Weekday > 0 && w.From != 0 {
			return w, nil
		}
		return When{}, wrong
	}
	w := When{Nth: slices.Index(ordinals, words[0]) + 1, Weekday: WeekdayNamed(words[1]), Month: MonthNamed(words[3])}
	if words[0] == "last" {
		w.Nth = -1
	}
	if w.Nth == 0 || w.Weekday == 0 || w.Month == 0 || words[2] != "of" {
		return When{}, wrong
	}
	return w, nil
}

func parseDate(words []string) (When, bool) {
	of, err := strconv.Atoi(words[0])
	w := When{Day: of, Month: MonthNamed(words[1])}
	return w, err == nil && w.Month > 0 && of >= 1 && of <= civil.DaysIn(2000, w.Month)
}

func parseEaster(words []string) (When, bool) {
	w := When{Easter: Western}
	if len(words) > 0 && words[0] == "orthodox" {
		w.Easter, words = Orthodox, words[1:]
	}
	if len(words) == 0 || words[0] != "easter" {
		return w, false
	}
	if len(words) == 1 {
		return w, true
	}
	if len(words) != 3 || words[1] != "+" && words[1] != "-" {
		return w, false
	}
	n, err := strconv.Atoi(words[2])
	if w.Offset = n; words[1] == "-" {
		w.Offset = -n
	}
	return w, err == nil && n >= 0 && n <= 365
}

// In returns the day of a year; false if the year has none, as most have no 29 February.
func (w When) In(year int) (int64, bool) {
	switch {
	case w.Easter == Western:
		return Easter(year) + int64(w.Offset), true
	case w.Easter == Orthodox:
		return OrthodoxEaster(year) + int64(w.Offset), true
	case w.Nth > 0:
		first := civil.Day(year, w.Month, 1)
		at := first + int64((w.Weekday-weekday(first)+7)%7) + int64(w.Nth-1)*7
		return at, at < first+int64(civil.DaysIn(year, w.Month))
	case w.Nth < 0:
		last := civil.Day(year, w.Month, civil.DaysIn(year, w.Month))
		return last - int64((weekday(last)-w.Weekday+7)%7), true
	case w.Day > civil.DaysIn(year, w.Month):
		return 0, false
	}
	at := civil.Day(year, w.Month, w.Day)
	switch w.From {
	case 2:
		at++
	case -2:
		at--
	}
	switch {
	case w.From > 0:
		at += int64((w.Weekday - weekday(at) + 7) % 7)
	case w.From < 0:
		at -= int64((weekday(at) - w.Weekday + 7) % 7)
	}
	return at, true
}

func yearOf(at int64) int {
	y, _, _ := civil.Date(at)
	return y
}
