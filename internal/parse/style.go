package parse

import (
	"errors"
	"fmt"
	"strings"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
)

// Style is how a file writes values, where that is not as this program does. Marks of 0 and layouts of
// nil are the usual ones.
type Style struct {
	Decimal   byte // the mark between a number's whole and its fraction
	Thousands byte // the mark between groups of three digits
	Date      *Layout
	Timestamp *Layout
	Time      *Layout
}

// plainNumber reports a number's text in the usual form.
func (s *Style) plainNumber(text string) (string, error) {
	decimal := s.Decimal
	if decimal == 0 {
		decimal = '.'
	}
	whole, frac, point := strings.Cut(text, string(decimal))
	if decimal != '.' && strings.Contains(text, ".") && s.Thousands != '.' {
		return "", errMarks
	}
	if s.Thousands != 0 && strings.IndexByte(whole, s.Thousands) >= 0 {
		groups := strings.Split(strings.TrimLeft(whole, "+-"), string(s.Thousands))
		for i, g := range groups {
			if i > 0 && len(g) != 3 || i == 0 && (len(g) == 0 || len(g) > 3) {
				return "", errMarks
			}
		}
		whole = strings.ReplaceAll(whole, string(s.Thousands), "")
	}
	if point {
		if strings.IndexByte(frac, decimal) >= 0 {
			return "", errMarks
		}
		return whole + "." + frac, nil
	}
	return whole, nil
}

var errMarks = errors.New("is not a number with the declared marks")

// Layout is how dates or times are written, in the letters of Unicode's date field patterns (UTS 35): yyyy,
// MM, dd, HH, mm, ss, and S once for each digit of a fraction; M, d, H, m, s take one or two digits. All else
// stands for itself.
type Layout struct {
	text   string
	fields []layoutField
	dated  bool // it has a year
}

type layoutField struct {
	letter      byte // 0 is a character that stands for itself
	literal     byte
	least, most int // digits
}

// NewLayout reads a layout for a kind: date, timestamp or time.
func NewLayout(text string, kind column.Kind) (*Layout, error) {
	l := &Layout{text: text}
	seen := map[byte]bool{}
	for i := 0; i < len(text); {
		c := text[i]
		n := 1
		for i+n < len(text) && text[i+n] == c {
			n++
		}
		f := layoutField{letter: c, least: n, most: n}
		switch {
		case c == 'y' && n == 4, strings.IndexByte("MdHms", c) >= 0 && n == 2:
		case strings.IndexByte("MdHms", c) >= 0 && n == 1:
			f.most = 2
		case c == 'S' && n <= 6:
			f.least = 1
		case c >= 'a' && c <= 'z' && c != 'T' || c >= 'A' && c <= 'Z' && c != 'T':
			return nil, fmt.Errorf("%s has no meaning in a layout: yyyy, MM, dd, HH, mm, ss, S", text[i:i+n])
		default:
			f, n = layoutField{literal: c}, 1
		}
		if f.letter != 0 && seen[f.letter] {
			return nil, fmt.Errorf("%c stands twice in the layout", f.letter)
		}
		seen[f.letter] = true
		l.fields = append(l.fields, f)
		i += n
	}
	want := map[column.Kind]string{column.Date: "yMd", column.Timestamp: "yMdH", column.Time: "Hm"}[kind]
	for i := range len(want) {
		if !seen[want[i]] {
			return nil, fmt.Errorf(
				"the layout of a %s needs %s",
				column.Type{Kind: kind},
				map[byte]string{'y': "yyyy", 'M': "MM", 'd': "dd", 'H': "HH", 'm': "mm"}[want[i]],
			)
		}
	}
	if kind == column.Date && (seen['H'] || seen['m'] || seen['s'] || seen['S']) ||
		kind == column.Time && (seen['y'] || seen['M'] || seen['d']) {
		return nil, fmt.Errorf("the layout has more than a %s", column.Type{Kind: kind})
	}
	l.dated = seen['y']
	return l, nil
}

// parse reads a day and the microseconds since midnight.
func (l *Layout) parse(s string) (day, micros int64, err error) {
	wrong := func() (int64, int64, error) { return 0, 0, fmt.Errorf("is not written as %s", l.text) }
	var v [128]int
	v['M'], v['d'] = 1, 1
	for _, f := range l.fields {
		if f.letter == 0 {
			if s == "" || s[0] != f.literal {
				return wrong()
			}
			s = s[1:]
			continue
		}
		n, value := 0, 0
		for n < f.most && n < len(s) && s[n] >= '0' && s[n] <= '9' {
			value = value*10 + int(s[n]-'0')
			n++
		}
		if n < f.least {
			return wrong()
		}
		if f.letter == 'S' {
			for k := n; k < 6; k++ {
				value *= 10
			}
		}
		v[f.letter], s = value, s[n:]
	}
	if s != "" || l.dated && v['y'] < 1 || v['M'] < 1 || v['M'] > 12 || v['d'] < 1 ||
		v['d'] > civil.DaysIn(v['y'], v['M']) ||
		v['H'] > 23 ||
		v['m'] > 59 ||
		v['s'] > 59 {
		return wrong()
	}
	return civil.Day(v['y'], v['M'], v['d']), int64(v['H']*3600+v['m']*60+v['s'])*1e6 + int64(v['S']), nil
}

// setStyled reads s as the style writes it; ok says whether the style has anything to say on the type.
func (r *Reader) setStyled(c *column.Column, i int, s string) (ok bool, err error) {
	st := r.style
	switch kind := c.Type.Kind; {
	case c.Type.Numeric() && (st.Decimal != 0 || st.Thousands != 0):
		text, err := st.plainNumber(s)
		if err != nil {
			c.SetNull(i)
			return true, err
		}
		return true, r.set(c, i, text)
	case kind == column.Date && st.Date != nil:
		c.Null[i] = false
		c.Int[i], _, err = st.Date.parse(s)
	case kind == column.Time && st.Time != nil:
		c.Null[i] = false
		_, c.Int[i], err = st.Time.parse(s)
	case kind == column.Timestamp && st.Timestamp != nil:
		var day, micros int64
		c.Null[i] = false
		if day, micros, err = st.Timestamp.parse(s); err == nil {
			c.Int[i] = day*civil.DayMicros + micros
			if r.zone != nil {
				c.Int[i], err = r.local(day, c.Int[i])
			}
			if err == nil {
				c.Int[i], err = r.shown(c.Int[i])
			}
		}
	default:
		return false, nil
	}
	if err != nil {
		c.SetNull(i)
	}
	return true, err
}
