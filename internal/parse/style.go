package parse

import (
	"cmp"
	"errors"
	"strings"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
)

// Style is how a file writes values, where that is not as this program does. Marks of 0 and layouts of
// nil are the usual ones.
type Style struct {
	Decimal   byte // the mark between a number's whole and its fraction
	Thousands byte // the mark between groups of three digits
	Date      Layouts
	Timestamp Layouts
	Time      Layouts
}

// IsUsual reports whether the style has nothing to say.
func (s *Style) IsUsual() bool {
	return s.Decimal == 0 && s.Thousands == 0 && s.Date == nil && s.Timestamp == nil && s.Time == nil
}

// layouts returns the layouts of a kind.
func (s *Style) layouts(kind column.Kind) Layouts {
	switch kind {
	case column.Date:
		return s.Date
	case column.Timestamp:
		return s.Timestamp
	case column.Time:
		return s.Time
	}
	return nil
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

// setStyled reads s as the style writes it; ok says whether the style has anything to say on the type.
func (r *Reader) setStyled(c *column.Column, i int, s string) (ok bool, err error) {
	st := r.style
	if c.Type.Numeric() && (st.Decimal != 0 || st.Thousands != 0) {
		text, err := st.plainNumber(s)
		if err != nil {
			c.SetNull(i)
			return true, err
		}
		return true, r.set(c, i, text)
	}
	layouts := st.layouts(c.Type.Kind)
	if layouts == nil {
		return false, nil
	}
	v, ambiguous, err := layouts.parse(s)
	r.Ambiguous = r.Ambiguous || ambiguous
	c.Null[i] = false
	switch {
	case err != nil:
	case c.Type.Kind == column.Date:
		c.Int[i] = v.day
	case c.Type.Kind == column.Time:
		c.Int[i] = v.micros
	default:
		c.Int[i], err = r.laidOut(v)
	}
	if err != nil {
		c.SetNull(i)
	}
	return true, err
}

// laidOut returns the timestamp that a layout has read.
func (r *Reader) laidOut(v moment) (int64, error) {
	wall := v.day*civil.DayMicros + v.micros
	if zone := cmp.Or(r.shows, r.zone); v.instant && zone != nil {
		wall, ok := civil.WallIn(wall, zone)
		if !ok {
			return 0, errYears
		}
		return wall, nil
	} else if v.instant || r.zone == nil {
		return wall, nil
	}
	wall, err := r.local(v.day, wall)
	if err != nil {
		return 0, err
	}
	return r.shown(wall)
}
