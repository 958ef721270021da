package star

import (
	"slices"
	"strings"

	"ironmonger/internal/clock"
	"ironmonger/internal/column"
	"ironmonger/internal/diag"
)

// Clock is the times of a day that a source generates.
type Clock struct {
	clock.Clock
	bands []Name
	at    diag.Place
}

// KeyMaker makes the surrogate key of a natural key that is a number.
type KeyMaker interface{ Key(natural int64) int64 }

// MadeKeys returns what makes the keys of the dimension from days or times; nil if its members are numbered.
func (d *Dimension) MadeKeys() KeyMaker {
	switch {
	case d.Clock != nil:
		return d.Clock
	case d.DayKeys() != nil:
		return d.Calendar
	}
	return nil
}

// Generated reports whether the members are days or times.
func (d *Dimension) Generated() bool { return d.Calendar != nil || d.Clock != nil }

// onClock returns the clock that the rows of a source are the times of; nil if they are something else.
func (s *Source) onClock() *Clock {
	if s == nil || s.Merges() || len(s.Require)+len(s.SetAside) > 0 || s.Union != nil {
		return nil
	}
	if s.From != nil {
		return s.From.onClock()
	}
	return s.Clock
}

func (r *reader) clock(n *node, c *Clock) {
	c.at, c.Every = n.key.At, 60
	r.section(n, r.clockEntries(c))
}

func (r *reader) clockEntries(c *Clock) []Entry {
	return []Entry{
		{
			"every",
			"second, minute, quarter_hour or hour",
			"how far the times are apart; minute is the default",
			false,
			func(n *node) {
				c.Every = map[string]int64{"second": 1, "minute": 60, "quarter_hour": 900, "hour": 3600}[r.choice(n, "second", "minute", "quarter_hour", "hour")]
				c.Every = max(c.Every, 1)
			},
		},
		{
			"bands",
			"column: parts",
			"columns with parts of the day, such as shifts: `{early: 06:00-14:00, late: 14:00-22:00, night: 22:00-06:00}`. The parts have the " +
				"first time and not the last, and cover the 24 hours once",
			false,
			func(n *node) {
				r.each(n, func(n *node) {
					b := &clock.Band{Name: r.name(n.key, n.path).Text}
					c.Bands, c.bands = append(c.Bands, b), append(c.bands, n.key)
					r.each(n, func(n *node) {
						w, ok := r.word(n, "a span such as 06:00-14:00")
						from, to, both := strings.Cut(w.Text, "-")
						p := clock.Part{Name: n.key.Text, From: timeOfDay(from), To: timeOfDay(to) % 86400}
						if ok && (!both || p.From < 0 || p.To < 0 || p.From == 86400) {
							r.errorf(w.At, n.path, "%s is not a span of the day such as 06:00-14:00", w.Text)
						}
						b.Parts = append(b.Parts, p)
					})
				})
			},
		},
	}
}

// timeOfDay reads hh:mm or hh:mm:ss as seconds; -1 if it is none. The end of the day is 24:00.
func timeOfDay(s string) int64 {
	s = strings.TrimSpace(s)
	if strings.Count(s, ":") == 1 {
		s += ":00"
	}
	if len(s) != 8 || s[2] != ':' || s[5] != ':' {
		return -1
	}
	var n [3]int64
	for k := range n {
		for _, d := range []byte(s[k*3 : k*3+2]) {
			if d < '0' || d > '9' {
				return -1
			}
			n[k] = n[k]*10 + int64(d-'0')
		}
	}
	at := n[0]*3600 + n[1]*60 + n[2]
	if n[1] > 59 || n[2] > 59 || at > 86400 {
		return -1
	}
	return at
}

// clock checks what a clock declares.
func (c *checker) clock(x *Clock, path string) {
	for k, b := range x.Bands {
		if slices.ContainsFunc(x.Clock.Attributes()[:len(x.Clock.Attributes())-len(x.Bands)], func(a clock.Attribute) bool { return a.Name == b.Name }) {
			c.errorf(x.bands[k].At, path+".bands", "the clock has a column %s of its own", b.Name)
		}
		unread := slices.ContainsFunc(b.Parts, func(p clock.Part) bool { return p.From < 0 || p.To < 0 })
		if err := x.Check(b); err != nil && !unread {
			c.errorf(x.bands[k].At, path+".bands."+b.Name, "%v", err)
		}
	}
}

// times checks a dimension whose rows are the times of a clock.
func (c *checker) timesOfDay(d *Dimension, path string) {
	x := d.Source.onClock()
	if x == nil || len(d.NaturalKey) != 1 || d.NaturalKey[0].Name != clock.Time || d.NaturalKey[0].Type.Kind != column.Time {
		return
	}
	d.Clock = x
	for _, w := range []said{
		{d.text.type2 != nil, "type_2"}, {d.Aliases != nil, "aliases"}, {d.Adopts != nil, "adopts"}, {d.text.numbered, "surrogate_key"}, {slices.ContainsFunc(d.Matching, func(m *Matching) bool { return m != nil }), "matching"},
	} {
		if w.given {
			c.errorf(d.At, path, "the keys are made of the times: %s has no place here", w.name)
		}
	}
}
