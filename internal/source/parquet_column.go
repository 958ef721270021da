package source

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"math/bits"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/encoding"
	"github.com/parquet-go/parquet-go/format"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/exact"
	"ironmonger/internal/parse"
)

// parquetColumn reads the values of a column: as the type that the file says, and from that, if another is wanted, by
// way of the text that a value of it has.
type parquetColumn struct {
	at   int
	most byte        // the definition level of a value; less is null
	own  column.Type // as the file says
	kind parquet.Kind
	unit int64 // of times: so many are a microsecond; negative, so many microseconds are one
	utc  bool  // timestamps are instants
	uuid bool
	wrap bool // unsigned
}

// parquetType returns the type of a column, Null where it is none of ours, and whether its times are instants.
func parquetType(c *parquet.Column) (t column.Type, instants bool) {
	kind := c.Type().Kind()
	if logical := c.Type().LogicalType(); logical != nil {
		switch l := logical.Value.(type) {
		case *format.DecimalType:
			if l.Precision < 1 || l.Precision > exact.MaxDigits || l.Scale < 0 || l.Scale > l.Precision {
				return column.Type{}, false
			}
			return column.Type{Kind: column.Decimal, Precision: uint8(l.Precision), Scale: uint8(l.Scale)}, false
		case *format.DateType:
			return column.Type{Kind: column.Date}, false
		case *format.TimeType:
			return column.Type{Kind: column.Time}, false
		case *format.TimestampType:
			return column.Type{Kind: column.Timestamp}, l.IsAdjustedToUTC
		case *format.StringType, *format.EnumType, *format.JsonType, *format.UUIDType:
			return column.Type{Kind: column.Text}, false
		case *format.IntType:
			return column.Type{Kind: column.Integer}, false
		default:
			return column.Type{}, false
		}
	}
	switch kind {
	case parquet.Boolean:
		return column.Type{Kind: column.Boolean}, false
	case parquet.Int32, parquet.Int64:
		return column.Type{Kind: column.Integer}, false
	case parquet.Float, parquet.Double:
		return column.Type{Kind: column.Double}, false
	case parquet.Int96:
		return column.Type{Kind: column.Timestamp}, true
	}
	return column.Type{}, false
}

func newParquetColumn(c *parquet.Column, t column.Type, utc bool) *parquetColumn {
	p := &parquetColumn{at: c.Index(), most: byte(c.MaxDefinitionLevel()), own: t, kind: c.Type().Kind(), utc: utc}
	logical := c.Type().LogicalType()
	if logical == nil {
		return p
	}
	unit := func(u format.TimeUnit) int64 {
		switch u.Value.(type) {
		case *format.MilliSeconds:
			return -1000
		case *format.NanoSeconds:
			return 1000
		}
		return 1
	}
	switch l := logical.Value.(type) {
	case *format.TimestampType:
		p.unit = unit(l.Unit)
	case *format.TimeType:
		p.unit = unit(l.Unit)
	case *format.UUIDType:
		p.uuid = true
	case *format.IntType:
		p.wrap = !l.IsSigned
	}
	return p
}

// dictionary is the values that pages refer to by their numbers, texts made once for all rows.
type dictionary struct {
	of    parquet.Dictionary
	data  encoding.Values
	texts []string
	clean bool // all texts are text
}

func newDictionary(of parquet.Dictionary) *dictionary {
	d := &dictionary{of: of}
	switch data := of.Page().Data(); data.Kind() { // whose memory is used again when the column has been read
	case encoding.ByteArray:
		bytes, offsets := data.ByteArray()
		d.data = encoding.ByteArrayValues(slices.Clone(bytes), slices.Clone(offsets))
		all := string(bytes)
		d.clean = areTexts(all, offsets)
		for i := range max(0, len(offsets)-1) {
			d.texts = append(d.texts, all[offsets[i]:offsets[i+1]])
		}
	case encoding.FixedLenByteArray:
		bytes, size := data.FixedLenByteArray()
		d.data = encoding.FixedLenByteArrayValues(slices.Clone(bytes), size)
	case encoding.Int32:
		d.data = encoding.Int32Values(slices.Clone(data.Int32()))
	case encoding.Int64:
		d.data = encoding.Int64Values(slices.Clone(data.Int64()))
	case encoding.Int96:
		d.data = encoding.Int96Values(slices.Clone(data.Int96()))
	case encoding.Float:
		d.data = encoding.FloatValues(slices.Clone(data.Float()))
	case encoding.Double:
		d.data = encoding.DoubleValues(slices.Clone(data.Double()))
	default:
		d.data = data
	}
	return d
}

// fill reads the rows of a segment into column k from row on.
func (p *parquetColumn) fill(b *column.Batch, k, row int, s *segment, field column.Field, reader *parse.Reader) {
	c := &b.Cols[k]
	data := s.page.Data()
	var codes []int32
	if s.dict != nil {
		codes, data = data.Int32(), s.dict.data
	}
	levels := s.page.DefinitionLevels()
	value := p.values(data, s, codes == nil, reader.Zone())
	into := c
	if p.own != c.Type { // read as the file says first
		into = &column.Column{Type: p.own}
		into.Resize(1)
	}
	n := s.value
	for r := s.from; r < s.to; r, row = r+1, row+1 {
		if len(levels) > 0 && levels[r] != p.most {
			c.SetNull(row)
			continue
		}
		at := n
		n++
		if codes != nil {
			at = int(codes[at])
		}
		var err error
		if into == c {
			c.Null[row] = false
			err = value(c, row, at)
		} else {
			into.Null[0] = false
			if err = value(into, 0, at); err == nil {
				err = reader.Set(c, row, plainText(into))
			}
		}
		if err != nil {
			detail := ""
			if !errors.Is(err, errText) && into != c {
				detail = diag.Clip(diag.Printable(into.Value(0)), 60)
			}
			c.SetNull(row)
			b.SetAside(row, field.Name, field.Name+" "+err.Error(), detail)
		}
	}
}

// plainText is a value as it is written without an exponent.
func plainText(c *column.Column) string {
	if c.Type.Kind == column.Double {
		return strconv.FormatFloat(c.Float[0], 'f', -1, 64)
	}
	return c.Value(0)
}

var (
	errText      = errors.New("is not UTF-8 text or holds a zero byte")
	errNanos     = errors.New("is finer than a microsecond")
	errTooLarge  = errors.New("is too large")
	errNotFinite = errors.New("is not a number")
	errInstant   = errors.New("is an instant, but the model names no time_zone")
)

// values returns what sets a row of a column to value at of a page or dictionary.
func (p *parquetColumn) values(
	data encoding.Values,
	s *segment,
	plain bool,
	zone *time.Location,
) func(c *column.Column, row, at int) error {
	switch p.kind {
	case parquet.Boolean:
		v := data.Boolean()
		return p.whole(zone, func(at int) int64 { return int64(v[at/8] >> (at % 8) & 1) })
	case parquet.Int32:
		v := data.Int32()
		if p.wrap {
			return p.whole(zone, func(at int) int64 { return int64(uint32(v[at])) })
		}
		return p.whole(zone, func(at int) int64 { return int64(v[at]) })
	case parquet.Int64:
		v := data.Int64()
		if p.wrap {
			return func(c *column.Column, row, at int) error {
				if c.Int[row] = v[at]; v[at] < 0 {
					return errTooLarge
				}
				return nil
			}
		}
		return p.whole(zone, func(at int) int64 { return v[at] })
	case parquet.Int96:
		v := data.Int96()
		return func(c *column.Column, row, at int) (err error) { // nanoseconds of a Julian day
			nanos, day := int64(v[at][1])<<32|int64(v[at][0]), int64(v[at][2])-2440588
			if nanos%1000 != 0 {
				return errNanos
			}
			if day < civil.FirstDay-2 || day > civil.LastDay+2 || nanos < 0 || nanos >= 1000*civil.DayMicros {
				return errTooLarge
			}
			c.Int[row], err = wall(day*civil.DayMicros+nanos/1000, zone)
			return err
		}
	case parquet.Float:
		v := data.Float()
		return func(c *column.Column, row, at int) error {
			c.Float[row], _ = strconv.ParseFloat(
				strconv.FormatFloat(float64(v[at]), 'g', -1, 32),
				64,
			) // the number that was meant
			return finite(c.Float[row])
		}
	case parquet.Double:
		v := data.Double()
		return func(c *column.Column, row, at int) error {
			c.Float[row] = v[at]
			return finite(v[at])
		}
	case parquet.ByteArray:
		if p.own.Kind == column.Decimal {
			bytes, offsets := data.ByteArray()
			return func(c *column.Column, row, at int) error {
				return bigEndian(c, row, bytes[offsets[at]:offsets[at+1]])
			}
		}
		if !plain && s.dict.clean {
			return func(c *column.Column, row, at int) error {
				c.Text[row] = s.dict.texts[at]
				return nil
			}
		} else if !plain {
			return func(c *column.Column, row, at int) error { return setText(c, row, s.dict.texts[at]) }
		}
		bytes, offsets := data.ByteArray()
		// the page's memory is used again: the rows' texts are copied, all at once
		cuts := offsets[min(s.value, len(offsets)-1):min(s.value+s.to-s.from+1, len(offsets))]
		from := cuts[0]
		all := string(bytes[from:cuts[len(cuts)-1]])
		if areTexts(all, cuts) {
			return func(c *column.Column, row, at int) error {
				c.Text[row] = all[offsets[at]-from : offsets[at+1]-from]
				return nil
			}
		}
		return func(c *column.Column, row, at int) error {
			return setText(c, row, all[offsets[at]-from:offsets[at+1]-from])
		}
	case parquet.FixedLenByteArray:
		bytes, size := data.FixedLenByteArray()
		if p.uuid {
			return func(c *column.Column, row, at int) error {
				v := bytes[at*size : at*size+size]
				c.Text[row] = fmt.Sprintf("%x-%x-%x-%x-%x", v[:4], v[4:6], v[6:8], v[8:10], v[10:])
				return nil
			}
		}
		return func(c *column.Column, row, at int) error { return bigEndian(c, row, bytes[at*size:at*size+size]) }
	}
	panic("no such kind of column")
}

// whole returns what sets a row of a column to a whole number of a page, which is a timestamp, a time, a date or the
// units of a decimal, by the column's type.
func (p *parquetColumn) whole(zone *time.Location, get func(at int) int64) func(c *column.Column, row, at int) error {
	switch {
	case p.own.Kind == column.Timestamp:
		return func(c *column.Column, row, at int) (err error) {
			c.Int[row], err = p.timestamp(get(at), zone)
			return err
		}
	case p.own.Kind == column.Time:
		return func(c *column.Column, row, at int) (err error) {
			if c.Int[row], err = p.micros(get(at)); err == nil &&
				(c.Int[row] < 0 || c.Int[row] >= civil.DayMicros) {
				err = errTooLarge
			}
			return err
		}
	case p.own.Wide():
		return func(c *column.Column, row, at int) error {
			c.Wide[row] = exact.Wide(get(at))
			return nil
		}
	case p.own.Kind == column.Date:
		return func(c *column.Column, row, at int) error {
			if c.Int[row] = get(at); c.Int[row] < civil.FirstDay || c.Int[row] > civil.LastDay {
				return errTooLarge
			}
			return nil
		}
	}
	if p.own.Kind == column.Decimal {
		limit := int64(math.Pow10(int(p.own.Precision)))
		return func(c *column.Column, row, at int) error {
			if c.Int[row] = get(at); c.Int[row] >= limit || c.Int[row] <= -limit {
				return errTooLarge
			}
			return nil
		}
	}
	return func(c *column.Column, row, at int) error {
		c.Int[row] = get(at)
		return nil
	}
}

func setText(c *column.Column, row int, s string) error {
	if c.Text[row] = s; !isText(s) {
		return errText
	}
	return nil
}

// areTexts reports whether a text is one, and still is when it is cut at the offsets.
func areTexts(all string, offsets []uint32) bool {
	for _, o := range offsets {
		if at := int(o - offsets[0]); at < len(all) && !utf8.RuneStart(all[at]) {
			return false
		}
	}
	return isText(all)
}

func isText(s string) bool { return utf8.ValidString(s) && strings.IndexByte(s, 0) < 0 }

func finite(v float64) error {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return errNotFinite
	}
	return nil
}

// micros turns a time into microseconds.
func (p *parquetColumn) micros(v int64) (int64, error) {
	if p.unit < 0 {
		hi, lo := bits.Mul64(uint64(max(v, -v)), uint64(-p.unit))
		if hi != 0 || lo > math.MaxInt64 {
			return 0, errTooLarge
		}
		return v * -p.unit, nil
	}
	if p.unit > 1 && v%p.unit != 0 {
		return 0, errNanos
	}
	return v / max(1, p.unit), nil
}

func (p *parquetColumn) timestamp(v int64, zone *time.Location) (int64, error) {
	micros, err := p.micros(v)
	switch {
	case err != nil:
		return 0, err
	case p.utc:
		return wall(micros, zone)
	case micros < civil.FirstDay*civil.DayMicros || micros >= (civil.LastDay+1)*civil.DayMicros:
		return 0, errTooLarge
	}
	return micros, nil
}

// wall returns the time that the clock shows at an instant.
func wall(micros int64, zone *time.Location) (int64, error) {
	if zone == nil {
		return 0, errInstant
	}
	w, ok := civil.WallIn(micros, zone)
	if !ok {
		return 0, errTooLarge
	}
	return w, nil
}

// bigEndian sets a decimal from its unscaled value in two's complement.
func bigEndian(c *column.Column, row int, b []byte) error {
	for len(b) > 16 { // what is more must be the sign alone
		if b[0] != byte(int8(b[1])>>7) {
			return errTooLarge
		}
		b = b[1:]
	}
	if len(b) == 0 {
		return errTooLarge
	}
	var full [16]byte
	if b[0]&0x80 != 0 {
		for i := range full {
			full[i] = 0xff
		}
	}
	copy(full[16-len(b):], b)
	v := exact.Int128{Hi: int64(binary.BigEndian.Uint64(full[:8])), Lo: binary.BigEndian.Uint64(full[8:])}
	if !c.SetExact(row, v) {
		return errTooLarge
	}
	return nil
}
