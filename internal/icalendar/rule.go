package icalendar

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/teambition/rrule-go"

	"ironmonger/internal/civil"
)

// rule is an RRULE. It was checked: the package that expands it takes more than the standard allows.
type rule struct {
	rrule.ROption
	until *int64
	days  []int // weekdays of BYDAY, from Monday, 0
}

var frequencies = map[string]rrule.Frequency{
	"YEARLY": rrule.YEARLY, "MONTHLY": rrule.MONTHLY, "WEEKLY": rrule.WEEKLY, "DAILY": rrule.DAILY,
}

// parseRule reads an RRULE.
func parseRule(s string) (*rule, error) {
	r := &rule{ROption: rrule.ROption{Freq: -1}}
	given := map[string]bool{}
	for _, part := range strings.Split(strings.ToUpper(s), ";") {
		name, value, _ := strings.Cut(part, "=")
		if given[name] {
			return nil, fmt.Errorf("RRULE has %s twice", name)
		}
		given[name] = true
		if err := r.part(name, value); err != nil {
			return nil, err
		}
	}
	switch {
	case !given["FREQ"]:
		return nil, errors.New("RRULE without FREQ")
	case given["COUNT"] && given["UNTIL"]:
		return nil, errors.New("RRULE has either COUNT or UNTIL")
	case given["BYYEARDAY"] && r.Freq != rrule.YEARLY, given["BYWEEKNO"] && r.Freq != rrule.YEARLY,
		given["BYMONTHDAY"] && r.Freq == rrule.WEEKLY:
		return nil, errors.New("RRULE has a part that does not go with its FREQ")
	case given["BYSETPOS"] && len(given) < 3+count(given, "INTERVAL", "COUNT", "UNTIL", "WKST"):
		return nil, errors.New("RRULE has BYSETPOS without another BY")
	}
	for _, day := range r.Byweekday {
		if day.N() != 0 && (r.Freq > rrule.MONTHLY || given["BYWEEKNO"]) {
			return nil, errors.New("RRULE has a number in BYDAY, which goes with months and years")
		}
	}
	return r, nil
}

func count(given map[string]bool, names ...string) (n int) {
	for _, name := range names {
		if given[name] {
			n++
		}
	}
	return n
}

// part reads a part of an RRULE.
func (r *rule) part(name, value string) (err error) {
	switch name {
	case "FREQ":
		var ok bool
		if r.Freq, ok = frequencies[value]; !ok {
			return fmt.Errorf("RRULE by %s is not read: YEARLY, MONTHLY, WEEKLY or DAILY", strings.ToLower(value))
		}
	case "INTERVAL":
		r.Interval, err = one(name, value, 1, 10_000)
	case "COUNT":
		r.Count, err = one(name, value, 1, mostStarts)
	case "UNTIL":
		day, ok := date(value[:min(8, len(value))])
		if !ok {
			return fmt.Errorf("UNTIL is not a date")
		}
		r.until = &day
	case "WKST":
		var days []rrule.Weekday
		if days, err = weekdays(value); err == nil && len(days) == 1 && days[0].N() == 0 {
			r.Wkst = days[0]
		} else {
			err = errors.New("WKST is not a weekday")
		}
	case "BYMONTH":
		r.Bymonth, err = several(name, value, 1, 12, false)
	case "BYMONTHDAY":
		r.Bymonthday, err = several(name, value, 1, 31, true)
	case "BYYEARDAY":
		r.Byyearday, err = several(name, value, 1, 366, true)
	case "BYWEEKNO":
		r.Byweekno, err = several(name, value, 1, 53, true)
	case "BYSETPOS":
		r.Bysetpos, err = several(name, value, 1, 366, true)
	case "BYDAY":
		if r.Byweekday, err = weekdays(value); err == nil {
			for _, d := range r.Byweekday {
				r.days = append(r.days, d.Day())
			}
		}
	default:
		return fmt.Errorf("RRULE has the part %q, which is not read", name)
	}
	return err
}

func one(name, value string, least, most int) (int, error) {
	n, err := strconv.Atoi(value)
	if err != nil || n < least || n > most {
		return 0, fmt.Errorf("%s is not a number from %d to %d", name, least, most)
	}
	return n, nil
}

// several reads numbers, which may count from the end.
func several(name, value string, least, most int, signed bool) ([]int, error) {
	var list []int
	for _, s := range strings.Split(value, ",") {
		n, err := strconv.Atoi(s)
		if size := max(n, -n); err != nil || n < 0 && !signed || size < least || size > most {
			return nil, fmt.Errorf("%s has %q, which is not a number from %d to %d", name, s, least, most)
		}
		list = append(list, n)
	}
	return list, nil
}

func weekdays(value string) ([]rrule.Weekday, error) {
	names := []rrule.Weekday{rrule.MO, rrule.TU, rrule.WE, rrule.TH, rrule.FR, rrule.SA, rrule.SU}
	var list []rrule.Weekday
	for _, s := range strings.Split(value, ",") {
		if len(s) < 2 {
			return nil, fmt.Errorf("BYDAY has %q, which is not a weekday", s)
		}
		at := strings.Index("MOTUWETHFRSASU", s[len(s)-2:])
		if at < 0 || at%2 != 0 {
			return nil, fmt.Errorf("BYDAY has %q, which is not a weekday", s)
		}
		day := names[at/2]
		if number := s[:len(s)-2]; number != "" {
			n, err := strconv.Atoi(number)
			if err != nil || n == 0 || max(n, -n) > 53 {
				return nil, fmt.Errorf("BYDAY has %q, which is not a weekday", s)
			}
			day = day.Nth(n)
		}
		list = append(list, day)
	}
	return list, nil
}

// may reports whether a day can be one of the rule, as far as that is seen quickly. The package that expands rules
// looks as far as the year 9999 for the next day.
func (r *rule) may(at int64) bool {
	y, m, d := civil.Date(at)
	back := d - civil.DaysIn(y, m) - 1
	first := civil.Day(y, 1, 1)
	ofYear := int(at-first) + 1
	left := int(at - civil.Day(y+1, 1, 1))
	has := func(list []int, n, back int) bool {
		return len(list) == 0 || slices.Contains(list, n) || slices.Contains(list, back)
	}
	return has(r.Bymonth, m, m) && has(r.Bymonthday, d, back) && has(r.Byyearday, ofYear, left) &&
		(len(r.days) == 0 || slices.Contains(r.days, int(((at+3)%7+7)%7)))
}

// mostEmpty bounds the rules without an occurrence that are not seen to be so quickly.
const mostEmpty = 10

// expand returns the days of a rule of an event up to the end of the range, and whether its first day is among them.
func (x *expansion) expand(e *event, r *rule) (days []int64, first bool, err error) {
	last := x.to
	if r.until != nil {
		last = min(last, *r.until)
	}
	if *e.start > last {
		return nil, true, nil
	}
	some := slices.ContainsFunc([]bool{len(r.Bymonth) > 0, len(r.Bymonthday) > 0, len(r.Byyearday) > 0, len(r.days) > 0}, func(b bool) bool { return b })
	for at := *e.start; some && !r.may(at); at++ {
		if at == last {
			return nil, false, nil
		}
	}
	option := r.ROption
	option.Dtstart = time.Unix(*e.start*86400, 0).UTC()
	rr, err := rrule.NewRRule(option)
	if err != nil {
		e.wrong(e.line, "RRULE", err.Error(), "")
		return nil, true, nil
	}
	next := rr.Iterator()
	for {
		at, ok := next()
		day := at.Unix() / 86400
		if at.Unix() < 0 {
			day = (at.Unix() - 86399) / 86400
		}
		if !ok || day > last {
			break
		}
		first = first || day == *e.start
		if x.left--; x.left < 0 {
			return nil, false, &Error{e.line, 1, fmt.Sprintf("the events of the file have more than %d occurrences", mostStarts)}
		}
		days = append(days, day)
	}
	if len(days) == 0 {
		if x.empty++; x.empty > mostEmpty {
			return nil, false, &Error{e.line, 1, fmt.Sprintf("more than %d rules that have no day", mostEmpty)}
		}
	}
	return days, first, nil
}
