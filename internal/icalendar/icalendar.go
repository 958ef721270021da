// Package icalendar reads the days of events that last whole days from iCalendar files (RFC 5545), such as lists of
// holidays.
//
// [Read] returns a row for each day of each occurrence in a range: of single events, of rules (RRULE), of listed days
// (RDATE), without those that are excluded (EXDATE), moved (RECURRENCE-ID) or cancelled. An event with a time of day is
// not a day off, and is a [Fault], as is what the standard does not allow. A file that is cut off is an [Error], since
// nobody knows what it lacks.
package icalendar

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Day is a day of an occurrence.
type Day struct {
	Day        int64 // days since 1970-01-01
	Name       string
	UID        string
	Categories []string
	Remark     string // what is odd about the event, and how it was taken; "" if nothing is
	Line       int    // of the event
}

// Fault is an event whose days are not known, and why.
type Fault struct {
	Line   int // of what is wrong
	Name   string
	Of     string // the property
	Reason string
	Detail string // its value
}

// Error is why a file cannot be read.
type Error struct {
	Line, Column int
	Message      string
}

func (e *Error) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Message)
}

// mostStarts bounds how many occurrences the rules of a file may have, up to the end of the range.
const mostStarts = 2_000_000

// Read returns the days from one to another, both included, in order. Events of the same day are in the order of the
// file.
func Read(text []byte, from, to int64) ([]Day, []Fault, error) {
	events, err := parse(text)
	if err != nil {
		return nil, nil, err
	}
	x := &expansion{from: from, to: to, left: mostStarts, moved: map[instance]bool{}}
	for _, e := range events {
		if e.fault == nil && e.recurrence != nil {
			x.moved[instance{e.uid, *e.recurrence}] = true
		}
	}
	for _, e := range events {
		if err := x.add(e); err != nil {
			return nil, nil, err
		}
	}
	slices.SortStableFunc(x.days, func(a, b Day) int { return cmp.Or(cmp.Compare(a.Day, b.Day), cmp.Compare(a.Line, b.Line)) })
	return x.days, x.faults, nil
}

// instance is an occurrence of an event.
type instance struct {
	uid   string
	start int64
}

// expansion gathers the days of events.
type expansion struct {
	from, to int64
	left     int // how many occurrences there may still be
	empty    int // rules without an occurrence
	moved    map[instance]bool
	days     []Day
	faults   []Fault
}

// add adds the days of an event.
func (x *expansion) add(e *event) error {
	if e.fault == nil && e.start == nil && !e.cancelled {
		e.wrong(e.line, "DTSTART", "an event without DTSTART has no day", "")
	}
	if e.fault != nil {
		e.fault.Name = e.name
		x.faults = append(x.faults, *e.fault)
		return nil
	}
	if e.cancelled {
		return nil
	}
	length := max(e.length, 1)
	starts, remark, err := x.starts(e)
	if err != nil || e.fault != nil {
		if e.fault != nil {
			x.faults = append(x.faults, *e.fault)
		}
		return err
	}
	if e.length == 0 {
		remark = append(remark, "it ends on the day on which it begins, and is taken as one day")
	}
	for _, start := range starts {
		for day := max(start, x.from); day < start+length && day <= x.to; day++ {
			x.days = append(x.days, Day{day, e.name, e.uid, e.categories, strings.Join(remark, "; "), e.line})
		}
	}
	return nil
}

// starts returns the first days of the occurrences that reach into the range.
func (x *expansion) starts(e *event) (starts []int64, remark []string, err error) {
	all := map[int64]bool{*e.start: true}
	for _, r := range e.rules {
		hits, first, err := x.expand(e, r)
		if err != nil {
			return nil, nil, err
		}
		if !first {
			remark = append(remark, "its rule does not have its first day, which is taken, too")
		}
		for _, day := range hits {
			all[day] = true
		}
	}
	for _, day := range e.also {
		all[day] = true
	}
	for _, day := range e.except {
		delete(all, day)
	}
	for day := range all {
		if day+max(e.length, 1) <= x.from || day > x.to || e.recurrence == nil && x.moved[instance{e.uid, day}] {
			continue
		}
		starts = append(starts, day)
	}
	slices.Sort(starts)
	return starts, remark, nil
}
