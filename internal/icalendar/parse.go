package icalendar

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"ironmonger/internal/civil"
)

// event is a VEVENT as it is written.
type event struct {
	line       int
	name, uid  string
	categories []string
	start, end *int64
	length     int64 // days; 0 if it ends when it begins
	lasts      bool  // DURATION is given
	recurrence *int64
	cancelled  bool
	rules      []*rule
	also       []int64
	except     []int64
	fault      *Fault // the first
}

// wrong notes what is wrong with the event.
func (e *event) wrong(line int, of, reason, detail string) {
	if e.fault == nil {
		e.fault = &Fault{Line: line, Of: of, Reason: reason, Detail: detail}
	}
}

// content is a line of content: a property with its value.
type content struct {
	line   int
	name   string // in upper case
	params map[string]string
	value  string
}

const (
	mostDepth = 16      // components within components
	longest   = 1 << 20 // bytes of a line once it is unfolded
)

// parse reads the events of a file.
func parse(text []byte) ([]*event, error) {
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	var events []*event
	var open []string // components
	var within *event
	lines, calendars, last := &unfolder{text: text}, 0, 0
	for {
		c, err := lines.next()
		if err != nil {
			return nil, err
		}
		if c == nil {
			break
		}
		last = c.line
		value := strings.ToUpper(c.value)
		switch {
		case c.name == "BEGIN":
			if len(open) == 0 && value != "VCALENDAR" {
				return nil, &Error{c.line, 1, "this is not an iCalendar file: it does not begin with BEGIN:VCALENDAR"}
			}
			if open = append(open, value); len(open) > mostDepth {
				return nil, &Error{c.line, 1, fmt.Sprintf("more than %d components within each other", mostDepth)}
			}
			if value == "VCALENDAR" {
				calendars++
			}
			if value == "VEVENT" && len(open) == 2 {
				within = &event{line: c.line, length: 1}
				events = append(events, within)
			}
		case len(open) == 0:
			return nil, &Error{c.line, 1, "this is not an iCalendar file: it does not begin with BEGIN:VCALENDAR"}
		case c.name == "END":
			if open[len(open)-1] != value {
				return nil, &Error{c.line, 1, fmt.Sprintf("END:%s ends what began as %s", c.value, open[len(open)-1])}
			}
			if open = open[:len(open)-1]; len(open) == 1 && within != nil {
				within.close()
				within = nil
			}
		case within != nil && len(open) == 2:
			within.read(c)
		}
	}
	switch {
	case len(open) > 0:
		return nil, &Error{last, 1, "the file is cut off: END:" + open[len(open)-1] + " is missing"}
	case calendars == 0:
		return nil, &Error{1, 1, "this is not an iCalendar file: it is empty"}
	}
	return events, nil
}

// unfolder puts lines together that are folded, as bytes: a fold may be inside a character.
type unfolder struct {
	text []byte
	line int
}

// physical takes a line of the file.
func (u *unfolder) physical() []byte {
	u.line++
	at := bytes.IndexByte(u.text, '\n')
	line := u.text
	if at < 0 {
		u.text = nil
	} else {
		line, u.text = u.text[:at], u.text[at+1:]
	}
	return bytes.TrimSuffix(line, []byte("\r"))
}

// next returns the next property; nil at the end.
func (u *unfolder) next() (*content, error) {
	var whole []byte
	for len(whole) == 0 {
		if len(u.text) == 0 {
			return nil, nil
		}
		whole = u.physical()
	}
	first, own := u.line, false
	for len(u.text) > 0 && (u.text[0] == ' ' || u.text[0] == '\t') {
		if !own { // what is appended must not overwrite the text
			whole, own = bytes.Clone(whole), true
		}
		whole = append(whole, u.physical()[1:]...)
		if len(whole) > longest {
			return nil, &Error{first, 1, fmt.Sprintf("a line of more than %d bytes", longest)}
		}
	}
	if !utf8.Valid(whole) {
		return nil, &Error{first, 1, "the text is not UTF-8"}
	}
	return property(string(whole), first)
}

// property reads a line: a name, parameters, and a value behind a colon.
func property(s string, line int) (*content, error) {
	c := &content{line: line}
	at := strings.IndexFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '.')
	})
	if at <= 0 || s[at] != ';' && s[at] != ':' {
		return nil, &Error{line, max(at, 0) + 1, "this is not a line of iCalendar, which has a name and a colon"}
	}
	c.name = strings.ToUpper(s[:at])
	for s[at] == ';' {
		at++
		begin := at
		for quoted := false; at < len(s) && (quoted || s[at] != ';' && s[at] != ':'); at++ {
			if s[at] == '"' {
				quoted = !quoted
			}
		}
		if at == len(s) {
			return nil, &Error{line, begin + 1, "the line has no value: a colon is missing"}
		}
		name, value, _ := strings.Cut(s[begin:at], "=")
		if c.params == nil {
			c.params = map[string]string{}
		}
		c.params[strings.ToUpper(name)] = strings.ToUpper(strings.Trim(value, `"`))
	}
	c.value = s[at+1:]
	return c, nil
}

// read takes a property of the event.
func (e *event) read(c *content) {
	switch c.name {
	case "SUMMARY":
		e.name = unescape(c.value)
	case "UID":
		e.uid = c.value
	case "CATEGORIES":
		e.categories = append(e.categories, list(c.value)...)
	case "STATUS":
		e.cancelled = strings.EqualFold(c.value, "CANCELLED")
	case "DTSTART":
		e.start = e.day(c, c.value)
	case "DTEND":
		e.end = e.day(c, c.value)
	case "DURATION":
		e.lasts = true
		var ok bool
		if e.length, ok = duration(c.value); !ok {
			e.wrong(c.line, c.name, "DURATION of an event of whole days is in days or weeks", c.value)
		}
	case "RECURRENCE-ID":
		if c.params["RANGE"] != "" {
			e.wrong(c.line, c.name, "RECURRENCE-ID for this and what follows is not read", c.params["RANGE"])
			return
		}
		e.recurrence = e.day(c, c.value)
	case "RRULE":
		r, err := parseRule(c.value)
		if err != nil {
			e.wrong(c.line, c.name, err.Error(), c.value)
			return
		}
		e.rules = append(e.rules, r)
	case "RDATE", "EXDATE":
		for _, value := range strings.Split(c.value, ",") {
			if day := e.day(c, value); day == nil {
				continue
			} else if c.name == "RDATE" {
				e.also = append(e.also, *day)
			} else {
				e.except = append(e.except, *day)
			}
		}
	case "EXRULE":
		e.wrong(c.line, c.name, "EXRULE is not read: the standard has dropped it", c.value)
	}
}

// day reads a date; nil if it is none.
func (e *event) day(c *content, value string) *int64 {
	day, ok := date(value)
	switch {
	case ok && (c.params["VALUE"] == "" || c.params["VALUE"] == "DATE"):
		return &day
	case len(value) > 8 && value[8] == 'T' || c.params["VALUE"] == "DATE-TIME" || c.params["VALUE"] == "PERIOD":
		e.wrong(c.line, c.name, c.name+" has a time of day, and the event is not of whole days", value)
	default:
		e.wrong(c.line, c.name, c.name+" is not a date", value)
	}
	return nil
}

// date reads yyyymmdd.
func date(s string) (int64, bool) {
	if len(s) != 8 || strings.Trim(s, "0123456789") != "" {
		return 0, false
	}
	y, _ := strconv.Atoi(s[:4])
	m, _ := strconv.Atoi(s[4:6])
	d, _ := strconv.Atoi(s[6:])
	if y < 1 || m < 1 || m > 12 || d < 1 || d > civil.DaysIn(y, m) {
		return 0, false
	}
	return civil.Day(y, m, d), true
}

// duration reads days and weeks: P3D, P1W.
func duration(s string) (int64, bool) {
	s = strings.ToUpper(strings.TrimPrefix(s, "+"))
	if len(s) < 3 || s[0] != 'P' {
		return 0, false
	}
	n, err := strconv.ParseUint(s[1:len(s)-1], 10, 16)
	if err != nil || n == 0 {
		return 0, false
	}
	switch s[len(s)-1] {
	case 'D':
		return int64(n), true
	case 'W':
		return int64(n) * 7, true
	}
	return 0, false
}

// close completes the event once all of it has been read.
func (e *event) close() {
	if e.start == nil || e.end == nil {
		return
	}
	switch n := *e.end - *e.start; { // DTEND is the day after the last one
	case e.lasts:
		e.wrong(e.line, "DTEND", "an event has either DTEND or DURATION", "")
	case n < 0:
		e.wrong(e.line, "DTEND", "the event ends before it begins", "")
	default:
		e.length = n
	}
}

// unescape reads a text.
func unescape(s string) string {
	if !strings.Contains(s, `\`) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+1 < len(s) {
			if i++; s[i] == 'n' || s[i] == 'N' {
				b.WriteByte('\n')
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// list reads texts with commas between them.
func list(s string) []string {
	var all []string
	begin := 0
	for i := 0; i <= len(s); i++ {
		switch {
		case i == len(s) || s[i] == ',':
			all = append(all, unescape(s[begin:i]))
			begin = i + 1
		case s[i] == '\\':
			i++
		}
	}
	if begin <= len(s)-1 { // it ends in an escape of nothing
		all = append(all, unescape(s[begin:]))
	}
	return all
}
