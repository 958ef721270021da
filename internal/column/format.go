package column

import (
	"strconv"

	"ironmonger/internal/civil"
	"ironmonger/internal/exact"
)

// AppendValue writes row i of c to b as text: what [Reader.Set] reads back to the same value. A null
// is written as nothing.
func (c *Column) AppendValue(b []byte, i int) []byte {
	if c.Null[i] {
		return b
	}
	switch c.Type.Kind {
	case Text:
		return append(b, c.Text[i]...)
	case Double:
		return strconv.AppendFloat(b, c.Float[i], 'g', -1, 64)
	case Decimal:
		return exact.AppendDecimal(b, c.Exact(i), int(c.Type.Scale))
	}
	return AppendInt(b, c.Type.Kind, c.Int[i])
}

// AppendInt writes v, a value of one of the kinds that stand in an int64, to b.
func AppendInt(b []byte, kind Kind, v int64) []byte {
	switch kind {
	case Boolean:
		return strconv.AppendBool(b, v != 0)
	case Date:
		return appendDate(b, v)
	case Timestamp:
		day := civil.DayOf(v)
		return appendClock(append(appendDate(b, day), ' '), v-day*civil.DayMicros)
	case Time:
		return appendClock(b, v)
	}
	return strconv.AppendInt(b, v, 10)
}

// Value returns row i of c as text, null as nothing.
func (c *Column) Value(i int) string {
	var buf [64]byte
	return string(c.AppendValue(buf[:0], i))
}

func appendDate(b []byte, day int64) []byte {
	y, m, d := civil.Date(day)
	return append(b, byte('0'+y/1000%10), byte('0'+y/100%10), byte('0'+y/10%10), byte('0'+y%10), '-',
		byte('0'+m/10), byte('0'+m%10), '-', byte('0'+d/10), byte('0'+d%10))
}

func appendClock(b []byte, micros int64) []byte {
	sec := int(micros / 1e6)
	h, m, s := sec/3600, sec/60%60, sec%60
	b = append(
		b,
		byte('0'+h/10),
		byte('0'+h%10),
		':',
		byte('0'+m/10),
		byte('0'+m%10),
		':',
		byte('0'+s/10),
		byte('0'+s%10),
	)
	if frac := micros % 1e6; frac != 0 {
		b = append(b, '.')
		for unit := int64(100000); unit > 0 && frac > 0; unit /= 10 {
			b = append(b, byte('0'+frac/unit))
			frac %= unit
		}
	}
	return b
}
