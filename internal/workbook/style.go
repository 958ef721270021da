package workbook

import (
	"cmp"
	"encoding/xml"
	"math"
	"strconv"
	"strings"
	"time"

	"ironmonger/internal/exact"
	"ironmonger/internal/markup"
)

// style is what the format of a cell says of its number: that it is a date, a time of day or both, or how many digits
// it has.
type style struct {
	date, time bool
	digits     int // of a format such as 00000, which is for codes; 0 of others
}

// builtIn are the formats that workbooks do not spell out (18.8.30, numFmt).
func builtIn(id int) style {
	switch {
	case id >= 14 && id <= 17, id >= 27 && id <= 31, id == 36, id >= 50 && id <= 54, id == 57, id == 58:
		return style{date: true}
	case id >= 18 && id <= 21, id >= 32 && id <= 35, id >= 45 && id <= 47, id == 55, id == 56:
		return style{time: true}
	case id == 22:
		return style{date: true, time: true}
	}
	return style{}
}

// readStyles reads the formats of cells.
func (b *Book) readStyles(part string) error {
	formats, inCells := map[int]style{}, false
	return b.each(part, func(_ *markup.Decoder, e xml.StartElement) error {
		switch e.Name.Local {
		case "numFmt":
			if id, err := strconv.Atoi(markup.Attribute(e, "numFmtId")); err == nil {
				formats[id] = newStyle(markup.Attribute(e, "formatCode"))
			}
		case "cellXfs":
			inCells = true
		case "cellStyles", "dxfs":
			inCells = false
		case "xf":
			if !inCells {
				return nil
			}
			id, _ := strconv.Atoi(markup.Attribute(e, "numFmtId"))
			s, ok := formats[id]
			if !ok {
				s = builtIn(id)
			}
			b.styles = append(b.styles, s)
		}
		return nil
	})
}

// newStyle reads the first section of a format, which is for positive numbers.
func newStyle(format string) style {
	var s style
	month := false
	code, _, _ := strings.Cut(format, ";")
	if strings.Trim(code, "0") == "" && len(code) > 1 {
		return style{digits: len(code)}
	}
	for k := 0; k < len(code); k++ {
		switch c := code[k]; c {
		case '"': // literal text
			end := strings.IndexByte(code[k+1:], '"')
			if end < 0 {
				return s
			}
			k += end + 1
		case '\\', '_', '*': // the next character is literal, or a width, or fills
			k++
		case '[': // a colour, a condition or a currency; or hours, minutes or seconds that go on beyond a day
			end := strings.IndexByte(code[k:], ']')
			if end < 0 {
				return s
			}
			if strings.Trim(strings.ToLower(code[k+1:k+end]), "hms") == "" {
				s.time = true
			}
			k += end
		case 'y', 'Y', 'd', 'D':
			s.date = true
		case 'h', 'H', 's', 'S':
			s.time = true
		case 'm', 'M':
			month = true
		case '#', '?', '%', 'G':
			return style{}
		}
	}
	s.date = s.date || month && !s.time
	return s
}

// padded reports whether numbers are shown as codes with leading zeros.
func (s style) padded() bool { return s.digits > 0 }

// epoch tells the days that numbers mean.
type epoch bool

const (
	since1900 epoch = false // 1 is 1900-01-01, and there is a day too many: 60 is 1900-02-29
	since1904 epoch = true  // 0 is 1904-01-01
)

// show writes a number as its format means it: a date, a time, a timestamp, or a number without an exponent.
func (s style) show(number string, from epoch) (string, bool) {
	whole, frac, negative, ok := decimal(number)
	if !ok {
		return "", false
	}
	if (s.date || s.time) && !negative && len(whole) <= 7 {
		if text, ok := s.moment(whole, frac, from); ok {
			return text, true
		}
	}
	if s.padded() && frac == "" && !negative && len(whole) < s.digits {
		whole = strings.Repeat("0", s.digits-len(whole)) + whole
	}
	text := whole
	if frac != "" {
		text += "." + frac
	}
	if negative && strings.Trim(text, "0.") != "" {
		text = "-" + text
	}
	return text, true
}

// moment writes days and their fraction. A date without a time has none unless the number says so.
func (s style) moment(whole, frac string, from epoch) (string, bool) {
	days, _ := strconv.Atoi(whole)
	millis, carry := ofDay(frac)
	days += carry
	clock := ""
	if millis > 0 || s.time {
		clock = time.UnixMilli(millis).UTC().Format("15:04:05.999")
	}
	if !s.date {
		return clock, days == 0
	}
	day := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	switch {
	case from == since1904:
		day = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	case days == 60, days == 0:
		return "", false // there was no such day
	case days < 60:
		day = day.AddDate(0, 0, 1)
	}
	day = day.AddDate(0, 0, days)
	text := day.Format(time.DateOnly)
	if clock != "" {
		text += " " + clock
	}
	return text, day.Year() <= 9999
}

// ofDay returns the milliseconds that a fraction of a day means; a fraction that is nearly 1 is carried to the next
// day.
func ofDay(frac string) (millis int64, carry int) {
	const digits = 11 // a millionth of a second, about; more would not fit
	n, _ := strconv.ParseUint((frac + strings.Repeat("0", digits))[:digits], 10, 64)
	const one, day = 100_000_000_000, 86_400_000
	if millis = int64((n*day + one/2) / one); millis == day {
		return 0, 1
	}
	return millis, 0
}

// significant is how many digits of a number the programs show that write workbooks.
const significant = 15

// decimal reads a number as XML has it (3.3.5 of XML Schema, double) and returns its digits. Whole numbers are as they
// are written. Others are binary fractions in a workbook, with 17 digits: they have the fewest digits that mean the
// same fraction, or 15 where the rest is what calculating in binary fractions has left, 0.30000000000000004 for 0.3.
func decimal(number string) (whole, frac string, negative, ok bool) {
	number, negative = strings.CutPrefix(strings.TrimPrefix(number, "+"), "-")
	if whole := strings.TrimLeft(number, "0"); number != "" && strings.Trim(number, "0123456789") == "" && len(number) <= exact.MaxDigits {
		return cmp.Or(whole, "0"), "", negative, true
	}
	value, err := strconv.ParseFloat(number, 64)
	if err != nil || number[0] != '.' && (number[0] < '0' || number[0] > '9') {
		return "", "", false, false
	}
	digits, point := digitsOf(value, -1)
	shown, at := digitsOf(value, significant)
	rounded, _ := strconv.ParseFloat("0."+shown+"e"+strconv.Itoa(at), 64)
	if len(digits) > significant+1 || math.Abs(rounded-value) <= 4*(math.Nextafter(value, math.Inf(1))-value) {
		digits, point = shown, at
	}
	switch {
	case digits == "":
		return "0", "", negative, true
	case point <= 0:
		return "0", strings.Repeat("0", -point) + digits, negative, true
	case point >= len(digits):
		return digits + strings.Repeat("0", point-len(digits)), "", negative, true
	}
	return digits[:point], digits[point:], negative, true
}

// digitsOf returns so many digits of a number, -1 for as few as mean it, without zeros at the end, and how many of them
// stand before the point.
func digitsOf(value float64, n int) (digits string, point int) {
	if n > 0 {
		n--
	}
	mantissa, exponent, _ := strings.Cut(strconv.FormatFloat(value, 'e', n, 64), "e")
	point, _ = strconv.Atoi(exponent)
	return strings.TrimRight(strings.Replace(mantissa, ".", "", 1), "0"), point + 1
}
