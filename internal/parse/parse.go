// Package parse reads values from text: the forms that a type has by itself, and those that a source declares
// ([Style], [Layout]).
package parse

import (
	"cmp"
	"errors"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/exact"
)

// What can be wrong with a value written as text.
var (
	errInteger   = errors.New("is not an integer")
	errDecimal   = errors.New("is not a decimal number")
	errDigits    = errors.New("has too many digits before the point")
	errScale     = errors.New("has too many digits after the point")
	errDouble    = errors.New("is not a number")
	errBoolean   = errors.New("is neither true nor false")
	errDate      = errors.New("is not a date such as 2025-03-31")
	errTimestamp = errors.New("is not a timestamp such as 2025-03-31 14:05:00")
	errTime      = errors.New("is not a time such as 14:05:00")
	errMicros    = errors.New("is finer than a microsecond")
	errNoZone    = errors.New("has an offset, but the model names no time_zone")
	errNoOffset  = errors.New("has no offset, and nothing says in which time zone it is written")
	errSkipped   = errors.New("does not exist in the model's time zone")
	errYears     = errors.New("is not in the years 1 to 9999 of the model's time zone")
	errText      = errors.New("is not UTF-8 text or holds a zero byte")
)

// Reader turns text into typed values. Its zone is the time zone whose wall clock timestamps show;
// nil means that the model names none, so that offsets cannot be converted.
type Reader struct {
	zone  *time.Location
	shows *time.Location // the zone whose clock the values show; nil for zone
	style *Style         // nil: the usual

	Ambiguous bool // a value was read that another layout reads as something else; who asks sets it back

	day   int64 // the last day looked at, and whether the zone's clock was changed on it
	shift bool
}

// NewReader returns a reader for a zone, or for none.
func NewReader(zone *time.Location) *Reader { return &Reader{zone: zone, day: -1 << 62} }

// Zone is the reader's zone, nil if it has none.
func (r *Reader) Zone() *time.Location { return r.zone }

// Showing has timestamps be those of the clock of another zone than the one in which they are written without an
// offset.
func (r *Reader) Showing(zone *time.Location) *Reader {
	r.shows = zone
	return r
}

// Styled returns the reader a style.
func (r *Reader) Styled(s *Style) *Reader {
	r.style = s
	return r
}

// Set reads s into row i of c. What s must look like is what [Column.AppendValue] writes; a value that
// would lose anything is refused. The row is null after an error.
func (r *Reader) Set(c *column.Column, i int, s string) error {
	if r.style != nil {
		if ok, err := r.setStyled(c, i, s); ok {
			return err
		}
	}
	return r.set(c, i, s)
}

func (r *Reader) set(c *column.Column, i int, s string) error {
	var err error
	c.Null[i] = false
	switch c.Type.Kind {
	case column.Text:
		if !utf8.ValidString(s) || strings.IndexByte(s, 0) >= 0 {
			err = errText
		}
		c.Text[i] = s
	case column.Integer:
		c.Int[i], err = parseInteger(s)
	case column.Decimal:
		if c.Type.Wide() {
			c.Wide[i], err = parseWide(s, c.Type)
		} else {
			c.Int[i], err = parseNarrow(s, c.Type)
		}
	case column.Double:
		var perr error
		if c.Float[i], perr = strconv.ParseFloat(s, 64); perr != nil || !isDouble(s) || c.Float[i]-c.Float[i] != 0 {
			err = errDouble
		}
	case column.Boolean:
		c.Int[i], err = parseBoolean(s)
	case column.Date:
		day, ok := parseDate(s)
		if !ok {
			err = errDate
		}
		c.Int[i] = day
	case column.Timestamp:
		c.Int[i], err = r.timestamp(s)
	case column.Time:
		micros, rest, terr := parseClock(s)
		if terr == nil && rest != "" {
			terr = errTime
		}
		c.Int[i], err = micros, terr
	}
	if err != nil {
		c.SetNull(i)
	}
	return err
}

func parseInteger(s string) (int64, error) {
	digits, neg := s, false
	if s != "" && (s[0] == '-' || s[0] == '+') {
		digits, neg = s[1:], s[0] == '-'
	}
	if len(digits) == 0 || len(digits) > 18 {
		if v, err := strconv.ParseInt(s, 10, 64); err == nil {
			return v, nil
		}
		return 0, errInteger
	}
	var v int64
	for i := 0; i < len(digits); i++ {
		d := digits[i] - '0'
		if d > 9 {
			return 0, errInteger
		}
		v = v*10 + int64(d)
	}
	if neg {
		v = -v
	}
	return v, nil
}

// parseNarrow reads a decimal whose unscaled value fits an int64.
func parseNarrow(s string, t column.Type) (int64, error) {
	var v int64
	neg, seen, digits, after := false, false, 0, -1
	for i := 0; i < len(s); i++ {
		ch := s[i]
		switch d := ch - '0'; {
		case d <= 9:
			seen = true
			if after >= 0 {
				if after == int(t.Scale) {
					if d != 0 {
						return 0, errScale
					}
					continue
				}
				after++
			}
			if digits > 0 || d != 0 {
				if digits++; digits > int(t.Precision) {
					return 0, tooLong(s)
				}
			}
			v = v*10 + int64(d)
		case ch == '.' && after < 0:
			after = 0
		case (ch == '-' || ch == '+') && i == 0:
			neg = ch == '-'
		default:
			return 0, errDecimal
		}
	}
	if !seen {
		return 0, errDecimal
	}
	whole := digits - max(after, 0)
	for a := max(after, 0); a < int(t.Scale); a++ {
		v *= 10
	}
	if whole > int(t.Precision)-int(t.Scale) {
		return 0, errDigits
	}
	if neg {
		v = -v
	}
	return v, nil
}

func tooLong(s string) error {
	for _, ch := range strings.TrimLeft(s, "+-") {
		if (ch < '0' || ch > '9') && ch != '.' {
			return errDecimal
		}
	}
	return errDigits
}

func parseWide(s string, t column.Type) (exact.Int128, error) {
	whole, frac, _ := strings.Cut(strings.TrimLeft(s, "+-"), ".")
	if len(whole)+len(frac) == 0 || len(s)-len(strings.TrimLeft(s, "+-")) > 1 {
		return exact.Int128{}, errDecimal
	}
	for _, part := range []string{whole, frac} {
		for i := 0; i < len(part); i++ {
			if part[i] < '0' || part[i] > '9' {
				return exact.Int128{}, errDecimal
			}
		}
	}
	whole, frac = strings.TrimLeft(whole, "0"), strings.TrimRight(frac, "0")
	if len(frac) > int(t.Scale) {
		return exact.Int128{}, errScale
	}
	if len(whole) > int(t.Precision-t.Scale) {
		return exact.Int128{}, errDigits
	}
	var v exact.Int128
	for _, part := range []string{whole, frac} {
		for i := 0; i < len(part); i++ {
			v, _ = v.Mul(exact.Wide(10))
			v, _ = v.Add(exact.Wide(int64(part[i] - '0')))
		}
	}
	v, _ = v.Mul(exact.Pow10(int(t.Scale) - len(frac)))
	if s[0] == '-' {
		v = v.Neg()
	}
	return v, nil
}

// isDouble reports whether s is written with digits, at most one point, and perhaps an exponent: Go reads more than
// that.
func isDouble(s string) bool { return strings.Trim(s, "0123456789+-.eE") == "" }

func parseBoolean(s string) (int64, error) {
	for _, word := range []string{"true", "t", "yes", "y", "1"} {
		if strings.EqualFold(s, word) {
			return 1, nil
		}
	}
	for _, word := range []string{"false", "f", "no", "n", "0"} {
		if strings.EqualFold(s, word) {
			return 0, nil
		}
	}
	return 0, errBoolean
}

// two reads two digits at s[i:]; more than 99 means that there are none.
func two(s string, i int) int {
	a, b := s[i]-'0', s[i+1]-'0'
	if a > 9 || b > 9 {
		return 100
	}
	return int(a)*10 + int(b)
}

func parseDate(s string) (int64, bool) {
	if len(s) != 10 || s[4] != '-' || s[7] != '-' {
		return 0, false
	}
	c, y, m, d := two(s, 0), two(s, 2), two(s, 5), two(s, 8)
	if c > 99 || y > 99 || c+y == 0 || m < 1 || m > 12 || d < 1 || d > civil.DaysIn(c*100+y, m) {
		return 0, false
	}
	return civil.Day(c*100+y, m, d), true
}

// parseClock reads hh:mm[:ss[.ffffff]] and returns microseconds since midnight and what follows.
func parseClock(s string) (int64, string, error) {
	if len(s) < 5 || s[2] != ':' {
		return 0, s, errTime
	}
	h, m := two(s, 0), two(s, 3)
	if h > 23 || m > 59 {
		return 0, s, errTime
	}
	micros := int64(h*3600+m*60) * 1e6
	s = s[5:]
	if len(s) < 3 || s[0] != ':' {
		return micros, s, nil
	}
	sec := two(s, 1)
	if sec > 59 {
		return 0, s, errTime
	}
	micros += int64(sec) * 1e6
	if s = s[3:]; len(s) < 2 || s[0] != '.' || s[1] < '0' || s[1] > '9' {
		return micros, s, nil
	}
	unit := int64(100000)
	for s = s[1:]; s != "" && s[0] >= '0' && s[0] <= '9'; s = s[1:] {
		if unit == 0 && s[0] != '0' {
			return 0, s, errMicros
		}
		micros += int64(s[0]-'0') * unit
		unit /= 10
	}
	return micros, s, nil
}

// timestamp reads a date and a clock time, with a T or a blank between and perhaps an offset behind
// (rule R26).
func (r *Reader) timestamp(s string) (int64, error) {
	if len(s) < 16 || (s[10] != ' ' && s[10] != 'T') {
		return 0, errTimestamp
	}
	day, ok := parseDate(s[:10])
	if !ok {
		return 0, errTimestamp
	}
	clock, rest, err := parseClock(s[11:])
	if err == errTime {
		return 0, errTimestamp
	} else if err != nil {
		return 0, err
	}
	wall := day*civil.DayMicros + clock
	if rest == "" {
		if r.zone != nil && r.zone != time.UTC {
			if wall, err = r.local(day, wall); err != nil {
				return 0, err
			}
		}
		return r.shown(wall)
	}
	offset, ok := parseOffset(rest)
	if !ok {
		return 0, errTimestamp
	}
	zone := cmp.Or(r.shows, r.zone)
	if zone == nil {
		return 0, errNoZone
	}
	if wall, ok = civil.WallIn(wall-offset, zone); !ok {
		return 0, errYears
	}
	return wall, nil
}

// shown turns what the clock of the zone shows into what that of the other one shows at that time. Of a time that the
// clock shows twice, the earlier one is meant.
func (r *Reader) shown(wall int64) (int64, error) {
	if r.shows == nil || r.shows == r.zone {
		return wall, nil
	}
	if r.zone == nil {
		return 0, errNoOffset
	}
	u := time.UnixMicro(wall).UTC()
	at := time.Date(u.Year(), u.Month(), u.Day(), u.Hour(), u.Minute(), u.Second(), u.Nanosecond(), r.zone)
	_, offset := at.AddDate(0, 0, -1).Zone() // before the clock was set back, if it was
	if earlier := time.UnixMicro(wall - int64(offset)*1e6).In(r.zone); earlier.Before(at) && civil.Wall(earlier) == wall {
		at = earlier
	}
	wall, ok := civil.WallIn(at.UnixMicro(), r.shows)
	if !ok {
		return 0, errYears
	}
	return wall, nil
}

// local checks a wall clock time against the zone: one that the clock skipped is refused. Days on
// which the clock is not touched are told by their ends.
func (r *Reader) local(day, wall int64) (int64, error) {
	if day != r.day {
		from := time.Unix((day-1)*86400, 0).In(r.zone)
		_, before := from.Zone()
		_, after := time.Unix((day+2)*86400, 0).In(r.zone).Zone()
		_, end := from.ZoneBounds()
		r.day, r.shift = day, before != after || !end.IsZero() && end.Unix() < (day+2)*86400
	}
	if !r.shift {
		return wall, nil
	}
	u := time.UnixMicro(wall).UTC()
	t := time.Date(u.Year(), u.Month(), u.Day(), u.Hour(), u.Minute(), u.Second(), u.Nanosecond(), r.zone)
	if civil.Wall(t) != wall {
		return 0, errSkipped
	}
	return wall, nil
}

// parseOffset reads Z, +hh, +hhmm or +hh:mm into microseconds.
func parseOffset(s string) (int64, bool) {
	s = strings.TrimPrefix(s, " ")
	if s == "Z" || s == "z" {
		return 0, true
	}
	if len(s) < 3 || s[0] != '+' && s[0] != '-' {
		return 0, false
	}
	h, m, rest := two(s, 1), 0, strings.TrimPrefix(s[3:], ":")
	if len(rest) == 2 {
		m = two(rest, 0)
	} else if s[3:] != "" {
		return 0, false
	}
	if h > 18 || m > 59 {
		return 0, false
	}
	micros := int64(h*60+m) * 60e6
	if s[0] == '-' {
		micros = -micros
	}
	return micros, true
}
