package parse

import (
	"cmp"
	"errors"
	"fmt"
	"math/bits"
	"slices"
	"strconv"
	"strings"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
)

// Layout is how dates or times are written: in the letters of Unicode's date field patterns (UTS 35), or as a count
// since a day.
//
// The letters are yyyy, MM, dd, HH, mm, ss, and S once for each digit of a fraction; M, d, H, m, s, h take one or two
// digits; hh and h are hours of half a day, a is AM or PM; yy is a year of two digits; MMM and MMMM are names of
// months, wide or short. All else stands for itself. A layout without a day means the first of the month.
//
// A count is "days since 1899-12-30", as spreadsheets have it, or seconds, milliseconds or microseconds since a day.
// Days are of the clock at hand, and a fraction of one is read to the millisecond; the others are instants of UTC.
type Layout struct {
	text   string
	fields []layoutField
	dated  bool // it has a year
	since  *since
	words  Words
}

// Words are what a layout needs besides its letters.
type Words struct {
	Century int          // the first year of those that two digits can mean; 0 if that is not said
	Months  [12][]string // the names of each month
}

// Layouts are layouts of a value that may be written in one of several ways: the first that fits counts.
type Layouts []*Layout

type layoutField struct {
	letter      byte // 0 is a character that stands for itself
	literal     byte
	least, most int // digits; of names, none
}

// since is a count since a day.
type since struct {
	day  int64
	unit int64 // in microseconds
}

var units = map[string]int64{"days": civil.DayMicros, "seconds": 1e6, "milliseconds": 1e3, "microseconds": 1}

// monthName and half are the letters of fields that are not numbers.
const (
	monthName = 'N'
	half      = 'a'
)

// NewLayout reads a layout for a kind: date, timestamp or time.
func NewLayout(text string, kind column.Kind, words Words) (*Layout, error) {
	l := &Layout{text: text, words: words}
	if unit, day, ok := strings.Cut(text, " since "); ok && units[unit] > 0 && kind != column.Time {
		from, ok := parseDate(day)
		if !ok {
			return nil, fmt.Errorf("%s is not a day such as 1970-01-01", day)
		}
		l.since = &since{from, units[unit]}
		return l, nil
	}
	seen := map[byte]bool{}
	for i := 0; i < len(text); {
		c, n := text[i], 1
		for i+n < len(text) && text[i+n] == c {
			n++
		}
		f, err := fieldOf(c, n)
		if err != nil {
			return nil, err
		}
		if f.letter == 0 {
			n = 1
		}
		is := f.letter
		if is == monthName {
			is = 'M'
		}
		if is != 0 && seen[is] {
			return nil, fmt.Errorf("%c stands twice in the layout", c)
		}
		seen[is] = true
		if c == 'y' && n == 2 && words.Century == 0 {
			return nil, errors.New("yy needs two_digit_years: the first year that two digits can mean")
		}
		l.fields = append(l.fields, f)
		i += n
	}
	l.dated = seen['y']
	return l, l.check(kind, seen)
}

// fieldOf returns the field of n equal letters.
func fieldOf(c byte, n int) (layoutField, error) {
	f := layoutField{letter: c, least: n, most: n}
	switch {
	case c == 'y' && (n == 4 || n == 2), strings.IndexByte("MdHhms", c) >= 0 && n == 2:
	case strings.IndexByte("MdHhms", c) >= 0 && n == 1:
		f.most = 2
	case c == 'M' && (n == 3 || n == 4):
		return layoutField{letter: monthName}, nil
	case c == half && n == 1:
		return layoutField{letter: half}, nil
	case c == 'S' && n <= 6:
		f.least = 1
	case c >= 'a' && c <= 'z' && c != 'T' || c >= 'A' && c <= 'Z' && c != 'T':
		return f, fmt.Errorf("%s has no meaning in a layout: yyyy, yy, MM, MMM, dd, HH, hh, a, mm, ss, S", strings.Repeat(string(c), n))
	default:
		return layoutField{literal: c}, nil
	}
	return f, nil
}

// check reports what a layout lacks for a kind, or has too much.
func (l *Layout) check(kind column.Kind, seen map[byte]bool) error {
	if seen['h'] != seen[half] || seen['h'] && seen['H'] {
		return errors.New("h is an hour of half a day and needs a, which is AM or PM; H is one of the whole day")
	}
	hour := seen['H'] || seen['h']
	want := map[column.Kind]string{column.Date: "yM", column.Timestamp: "yMdH", column.Time: "Hm"}[kind]
	for i := range len(want) {
		if c := want[i]; !seen[c] && !(c == 'H' && hour) {
			name := map[byte]string{'y': "yyyy", 'M': "MM", 'd': "dd", 'H': "HH", 'm': "mm"}[c]
			return fmt.Errorf("the layout of a %s needs %s", column.Type{Kind: kind}, name)
		}
	}
	if kind == column.Date && (hour || seen['m'] || seen['s'] || seen['S']) ||
		kind == column.Time && (seen['y'] || seen['M'] || seen['d']) {
		return fmt.Errorf("the layout has more than a %s", column.Type{Kind: kind})
	}
	return nil
}

// moment is what a layout reads: a day, and microseconds of it.
type moment struct {
	day, micros int64
	instant     bool // of UTC, not of a clock
}

// parse reads a value in the first layout that fits, and says whether another one reads it as something else.
func (list Layouts) parse(s string) (v moment, ambiguous bool, err error) {
	found := false
	for _, l := range list {
		m, perr := l.parse(s)
		switch {
		case perr != nil:
			err = cmp.Or(err, perr)
		case !found:
			v, found = m, true
		default:
			ambiguous = ambiguous || m != v
		}
	}
	if found {
		return v, ambiguous, nil
	}
	if len(list) > 1 {
		texts := make([]string, len(list))
		for k, l := range list {
			texts[k] = l.text
		}
		err = fmt.Errorf("is not written as %s", strings.Join(texts, " or "))
	}
	return v, false, err
}

// parse reads a day and the microseconds since midnight.
func (l *Layout) parse(s string) (moment, error) {
	wrong := func() (moment, error) { return moment{}, fmt.Errorf("is not written as %s", l.text) }
	if l.since != nil {
		if m, ok := l.since.parse(s); ok {
			return m, nil
		}
		return wrong()
	}
	var v [128]int
	v['M'], v['d'] = 1, 1
	for _, f := range l.fields {
		var ok bool
		switch f.letter {
		case 0:
			if ok = s != "" && s[0] == f.literal; ok {
				s = s[1:]
			}
		case monthName:
			v['M'], s, ok = l.month(s)
		case half:
			v[half], s, ok = halfOfDay(s)
		default:
			v[f.letter], s, ok = digits(s, f)
			if f.letter == 'y' && f.most == 2 {
				v['y'] = l.year(v['y'])
			}
		}
		if !ok {
			return wrong()
		}
	}
	if v['h'] > 12 || v['h'] == 0 && v[half] != 0 {
		return wrong()
	} else if v[half] != 0 {
		v['H'] = v['h']%12 + v[half] - 1
	}
	if s != "" || l.dated && v['y'] < 1 || v['M'] < 1 || v['M'] > 12 || v['d'] < 1 || v['d'] > civil.DaysIn(v['y'], v['M']) ||
		v['H'] > 23 || v['m'] > 59 || v['s'] > 59 {
		return wrong()
	}
	micros := int64(v['H']*3600+v['m']*60+v['s'])*1e6 + int64(v['S'])
	return moment{day: civil.Day(v['y'], v['M'], v['d']), micros: micros}, nil
}

// digits reads a number of as many digits as a field has.
func digits(s string, f layoutField) (value int, rest string, ok bool) {
	n := 0
	for n < f.most && n < len(s) && s[n] >= '0' && s[n] <= '9' {
		value = value*10 + int(s[n]-'0')
		n++
	}
	if f.letter == 'S' {
		for k := n; k < 6; k++ {
			value *= 10
		}
	}
	return value, s[n:], n >= f.least
}

// year returns the year that two digits mean.
func (l *Layout) year(two int) int {
	year := l.words.Century - l.words.Century%100 + two
	if year < l.words.Century {
		year += 100
	}
	return year
}

// month reads the name of a month, the longest that fits, and a point after a short one.
func (l *Layout) month(s string) (month int, rest string, ok bool) {
	longest := 0
	for m, names := range l.words.Months {
		for _, name := range names {
			if n := len(name); n > longest && n <= len(s) && strings.EqualFold(s[:n], name) {
				month, longest = m+1, n
			}
		}
	}
	return month, s[longest:], longest > 0
}

// halfOfDay reads AM or PM, as 1 and 13: one more than the hours that they add.
func halfOfDay(s string) (value int, rest string, ok bool) {
	for k, name := range []string{"AM", "PM", "a.m.", "p.m."} {
		if len(s) >= len(name) && strings.EqualFold(s[:len(name)], name) {
			return 1 + 12*(k%2), s[len(name):], true
		}
	}
	return 0, s, false
}

// parse reads a count.
func (c *since) parse(s string) (m moment, ok bool) {
	whole, frac, point := strings.Cut(s, ".")
	n, err := strconv.ParseInt(whole, 10, 64)
	if err != nil || point && (frac == "" || len(frac) > 18 || strings.Trim(frac, "0123456789") != "") {
		return m, false
	}
	most := int64(4e18) / c.unit
	if n > most || n < -most {
		return m, false
	}
	micros := n * c.unit
	if point {
		part := c.part(frac)
		if strings.HasPrefix(whole, "-") {
			part = -part
		}
		micros += part
	}
	day := micros / civil.DayMicros
	if m.micros = micros % civil.DayMicros; m.micros < 0 {
		day, m.micros = day-1, m.micros+civil.DayMicros
	}
	m.day, m.instant = day+c.day, c.unit != civil.DayMicros
	return m, m.day >= minDay && m.day <= maxDay
}

// The days that dates can have: those of the years 1 to 9999.
var minDay, maxDay = civil.Day(1, 1, 1), civil.Day(9999, 12, 31)

// part returns the microseconds of a fraction of the unit, rounded; of a day, to milliseconds: spreadsheets keep times
// as fractions of days that are not exact.
func (c *since) part(frac string) int64 {
	const whole = 1e18
	step := int64(1)
	if c.unit == civil.DayMicros {
		step = 1000
	}
	n, _ := strconv.ParseUint((frac + strings.Repeat("0", 18))[:18], 10, 64)
	high, low := bits.Mul64(uint64(c.unit/step), n)
	low, carry := bits.Add64(low, whole/2, 0)
	steps, _ := bits.Div64(high+carry, low, whole)
	return int64(steps) * step
}

// MonthNames are the names of months for a layout: wide and short ones, in both forms, a point at the end of a short
// one aside.
func MonthNames(lists ...[]string) (months [12][]string) {
	for _, list := range lists {
		for m, name := range list {
			for _, n := range []string{name, strings.TrimSuffix(name, ".")} {
				if m < 12 && n != "" && !slices.Contains(months[m], n) {
					months[m] = append(months[m], n)
				}
			}
		}
	}
	return months
}
