package parse

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/exact"
)

// TestRoundTrip writes random values of every type and reads them back.
func TestRoundTrip(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	reader := NewReader(nil)
	for _, name := range []string{"integer", "decimal(9,2)", "decimal(18,18)", "decimal(38,10)", "decimal(30,0)", "double", "boolean", "date", "timestamp", "time", "text"} {
		typ, err := column.ParseType(name)
		if err != nil || typ.String() != name {
			t.Fatalf("column.ParseType(%s) = %v, %v", name, typ, err)
		}
		c := column.Column{Type: typ}
		c.Resize(2)
		for range 2000 {
			x := exact.Int128{Hi: int64(r.Uint64()), Lo: r.Uint64()}
			for range r.IntN(38) {
				x, _ = x.Quo(exact.Wide(10))
			}
			switch {
			case typ.Wide():
				x, _ = x.Quo(exact.Pow10(39 - int(typ.Precision)))
				c.Wide[0] = x
			case typ.Kind == column.Text:
				c.Text[0] = strings.ToValidUTF8(fmt.Sprint(x, "é\n,\""), "")
			case typ.Kind == column.Double:
				c.Float[0] = r.NormFloat64() * float64(x.Lo)
			case typ.Kind == column.Integer:
				c.Int[0] = int64(x.Lo)
			case typ.Kind == column.Boolean:
				c.Int[0] = int64(x.Lo & 1)
			case typ.Kind == column.Date:
				c.Int[0] = civil.Day(1, 1, 1) + int64(x.Lo%3652059)
			case typ.Kind == column.Timestamp:
				c.Int[0] = civil.Day(1, 1, 1)*civil.DayMicros + int64(x.Lo%(3652059*civil.DayMicros))
			case typ.Kind == column.Time:
				c.Int[0] = int64(x.Lo % civil.DayMicros)
			default:
				limit, _ := exact.Pow10(int(typ.Precision)).Int64()
				c.Int[0] = int64(x.Lo) % limit
			}
			text := c.Value(0)
			if err := reader.Set(&c, 1, text); err != nil || !c.Equal(0, &c, 1) {
				t.Fatalf("%s: %s read back as %s, %v", name, text, c.Value(1), err)
			}
		}
	}
}

func TestSet(t *testing.T) {
	noZone := NewReader(nil)
	east, err := time.LoadLocation("Etc/GMT-2")
	if err != nil {
		t.Fatal(err)
	}
	summer, err := time.LoadLocation("Europe/London") // a clock that is put forward and back
	if err != nil {
		t.Fatal(err)
	}
	dotted, err := NewLayout("dd.MM.yyyy", column.Date, Words{})
	if err != nil {
		t.Fatal(err)
	}
	styled := NewReader(nil).Styled(&Style{Date: Layouts{dotted}})
	for _, c := range []struct {
		reader       *Reader
		typ, in, out string // out begins with ! for what is wrong
	}{
		{noZone, "integer", "007", "7"},
		{noZone, "integer", "-9223372036854775808", "-9223372036854775808"},
		{noZone, "integer", "9223372036854775808", "!is not an integer"},
		{noZone, "integer", "1,000", "!is not an integer"},
		{noZone, "integer", " 7", "!is not an integer"},
		{noZone, "decimal(5,2)", "123.4", "123.40"},
		{noZone, "decimal(5,2)", "0123.4500", "123.45"},
		{noZone, "decimal(5,2)", "-.5", "-0.50"},
		{noZone, "decimal(5,2)", "1234", "!has too many digits before the point"},
		{noZone, "decimal(5,2)", "1.234", "!has too many digits after the point"},
		{noZone, "decimal(5,2)", "1e3", "!is not a decimal number"},
		{noZone, "decimal(5,2)", "", "!is not a decimal number"},
		{noZone, "decimal(5,2)", "--1", "!is not a decimal number"},
		{noZone, "decimal(20,2)", "999999999999999999.99", "999999999999999999.99"},
		{noZone, "decimal(20,2)", "9999999999999999999", "!has too many digits before the point"},
		{noZone, "double", "NaN", "!is not a number"},
		{noZone, "boolean", "YES", "true"},
		{noZone, "boolean", "maybe", "!is neither true nor false"},
		{noZone, "date", "2024-02-29", "2024-02-29"},
		{noZone, "date", "2023-02-29", "!is not a date such as 2025-03-31"},
		{noZone, "date", "29.02.2024", "!is not a date such as 2025-03-31"},
		{noZone, "timestamp", "2024-02-29T23:59:59.000001", "2024-02-29 23:59:59.000001"},
		{noZone, "timestamp", "2024-02-29 24:00:00", "!is not a timestamp such as 2025-03-31 14:05:00"},
		{noZone, "timestamp", "2024-02-29", "!is not a timestamp such as 2025-03-31 14:05:00"},
		{noZone, "timestamp", "2024-02-29 10:00:00.0000001", "!is finer than a microsecond"},
		{noZone, "timestamp", "2024-02-29 10:00:00Z", "!has an offset, but the model names no time_zone"},
		{NewReader(east), "timestamp", "2024-02-29 23:30:00Z", "2024-03-01 01:30:00"},
		{NewReader(east), "timestamp", "2024-02-29 23:30-0130", "2024-03-01 03:00:00"},
		{NewReader(summer), "timestamp", "2024-03-31 01:30:00", "!does not exist in the model's time zone"},
		{NewReader(summer), "timestamp", "2024-03-31 02:30:00", "2024-03-31 02:30:00"},
		{NewReader(summer), "timestamp", "2024-10-27 01:30:00", "2024-10-27 01:30:00"},
		{NewReader(east), "timestamp", "9999-12-31T23:59:59Z", "!is not in the years 1 to 9999 of the model's time zone"},
		{NewReader(east), "timestamp", "9999-12-31T21:59:59Z", "9999-12-31 23:59:59"},
		{NewReader(east), "timestamp", "0001-01-01T00:00:00+03:00", "!is not in the years 1 to 9999 of the model's time zone"},
		{NewReader(east), "timestamp", "0001-01-01T00:00:00+02:00", "0001-01-01 00:00:00"},
		{styled, "date", "31.12.0000", "!is not written as dd.MM.yyyy"},
		{styled, "date", "31.12.0001", "0001-12-31"},
		{noZone, "integer", "+11", "11"},
		{noZone, "double", "1_000", "!is not a number"},
		{noZone, "double", "0x1p4", "!is not a number"},
		{noZone, "double", "-1.5E+3", "-1500"},
		{noZone, "time", "9:00", "!is not a time such as 14:05:00"},
		{noZone, "text", "a\x00b", "!is not UTF-8 text or holds a zero byte"},
		{noZone, "text", "\xff", "!is not UTF-8 text or holds a zero byte"},
	} {
		typ, _ := column.ParseType(c.typ)
		col := column.Column{Type: typ}
		col.Resize(1)
		got := ""
		if err := c.reader.Set(&col, 0, c.in); err != nil {
			if got = "!" + err.Error(); !col.Null[0] {
				t.Errorf("%s %q: not null after an error", c.typ, c.in)
			}
		} else {
			got = col.Value(0)
		}
		if got != c.out {
			t.Errorf("%s %q: %s, want %s", c.typ, c.in, got, c.out)
		}
	}
}

func BenchmarkSet(b *testing.B) {
	for _, c := range []struct{ typ, in string }{{"integer", "123456"}, {"decimal(9,2)", "12345.67"}, {"date", "2024-02-29"}, {"timestamp", "2024-02-29 23:59:59"}} {
		b.Run(c.typ, func(b *testing.B) {
			typ, _ := column.ParseType(c.typ)
			col := column.Column{Type: typ}
			col.Resize(1)
			r := NewReader(nil)
			b.ReportAllocs()
			for b.Loop() {
				if err := r.Set(&col, 0, c.in); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
