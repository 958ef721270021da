package expr

import (
	"fmt"
	"math/big"
	"math/rand/v2"
	"strings"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/parse"
)

// scope is the columns that test expressions see, and two rows of them: the second is all null.
func scope(t testing.TB) ([]column.Field, *column.Batch) {
	declared := []struct{ name, typ, value string }{
		{
			"n",
			"integer",
			"7",
		}, {"zero", "integer", "0"}, {"big", "integer", "9223372036854775807"}, {"price", "decimal(9,2)", "12.35"}, {"rate", "decimal(9,4)", "-0.1250"},
		{
			"huge",
			"decimal(38,0)",
			"99999999999999999999999999999999999999",
		}, {"d", "double", "2.5"}, {"s", "text", " Ab "}, {"yes", "boolean", "true"},
		{"day", "date", "2024-02-29"}, {"at", "timestamp", "2024-02-29 23:30:00"},
	}
	var fields []column.Field
	for _, c := range declared {
		typ, err := column.ParseType(c.typ)
		if err != nil {
			t.Fatal(err)
		}
		fields = append(fields, column.Field{Name: c.name, Type: typ})
	}
	b := column.NewBatch(fields)
	b.Reset(2)
	for k, c := range declared {
		if err := parse.NewReader(nil).Set(&b.Cols[k], 0, c.value); err != nil {
			t.Fatal(err)
		}
		b.Cols[k].SetNull(1)
	}
	return fields, b
}

// TestEval says what expressions give: type, value, and value where all columns are null. A value
// in angle brackets is a fault.
func TestEval(t *testing.T) {
	fields, b := scope(t)
	for _, c := range []struct{ text, typ, value, ofNulls string }{
		{"n + 1", "integer", "8", "null"},
		{"n - 2 * 3", "integer", "1", "null"},
		{"(n - 2) * 3", "integer", "15", "null"},
		{"n / 2", "decimal(25,6)", "3.500000", "null"},
		{"n / zero", "decimal(25,6)", "<division by zero>", "null"},
		{"big + 1", "integer", "<result is too large>", "null"},
		{"-n", "integer", "-7", "null"},
		{"price * rate", "decimal(18,6)", "-1.543750", "null"},
		{"round(price * rate, 2)", "decimal(15,2)", "-1.54", "null"},
		{"round(12.345, 2)", "decimal(5,2)", "12.35", "12.35"},
		{"round(-12.345, 2)", "decimal(5,2)", "-12.35", "-12.35"},
		{"round(2.5)", "decimal(2,0)", "3", "3"},
		{"round(n, 2)", "integer", "7", "null"},
		{"price - rate", "decimal(12,4)", "12.4750", "null"},
		{"price / rate", "decimal(17,6)", "-98.800000", "null"},
		{"d * 2", "double", "5", "null"},
		{"price = 12.350", "boolean", "true", "null"},
		{"price <> 12.36 and n < 8", "boolean", "true", "null"},
		{"huge > price", "boolean", "true", "null"},
		{"n = 7 or zero = 1", "boolean", "true", "null"},
		{"not n = 7", "boolean", "false", "null"},
		{"n is null", "boolean", "false", "true"},
		{"n is not null and s is not null", "boolean", "true", "false"},
		{"n in (1, 7)", "boolean", "true", "null"},
		{"n not in (1, null)", "boolean", "null", "null"},
		{"n in (7, null)", "boolean", "true", "null"},
		{"yes and null", "boolean", "null", "null"},
		{"null or yes", "boolean", "true", "null"},
		{"n / zero > 1 or yes", "boolean", "true", "null"},
		{"n / zero > 1 and yes", "boolean", "<division by zero>", "null"},
		{"n / zero > 1 and not yes", "boolean", "false", "null"},
		{"coalesce(n, 0)", "integer", "7", "0"},
		{"coalesce(price, rate, 1)", "decimal(11,4)", "12.3500", "1.0000"},
		{"coalesce(n, n / zero)", "decimal(25,6)", "7.000000", "null"},
		{"coalesce(s, 'none')", "text", " Ab ", "none"},
		{"coalesce(n / zero, 1)", "decimal(25,6)", "<division by zero>", "1.000000"},
		{"trim(s)", "text", "Ab", "null"},
		{"lpad(trim(s), 4, '0')", "text", "00Ab", "null"},
		{"lpad(s, 4, 'ß')", "text", " Ab ", "null"},
		{"lpad(s, 3, '0')", "text", "<text is too long>", "null"},
		{"ltrim(s, ' A') || '|' || rtrim(s, ' ')", "text", "b | Ab", "null"},
		{"upper(s) || lower(s)", "text", " AB  ab ", "null"},
		{"cast('3. Mar 2025' as date layout 'd. MMM yyyy')", "date", "2025-03-03", "2025-03-03"},
		{"cast('3/4/2025 2:05 PM' as timestamp layout 'M/d/yyyy h:mm a')", "timestamp", "2025-03-04 14:05:00", "2025-03-04 14:05:00"},
		{"cast('45717.25' as timestamp layout 'days since 1899-12-30')", "timestamp", "2025-03-01 06:00:00", "2025-03-01 06:00:00"},
		{"cast(s as date layout 'dd.MM.yyyy')", "date", "<value does not fit the cast>", "null"},
		{"make_date(2023, 2, n + 22)", "date", "<the values do not fit the function>", "null"},
		{"split_part('a', ',', n - 7)", "text", "<the values do not fit the function>", "null"},
		{"concat(s, null, n, '|')", "text", " Ab 7|", "|"},
		{"'it''s ' || cast(price as text)", "text", "it's 12.35", "null"},
		{"cast('12.5' as decimal(4,1))", "decimal(4,1)", "12.5", "12.5"},
		{"cast(s as integer)", "integer", "<value does not fit the cast>", "null"},
		{"cast(price as integer)", "integer", "12", "null"},
		{"cast(price as decimal(3,1))", "decimal(3,1)", "12.4", "null"},
		{"cast(price as decimal(2,1))", "decimal(2,1)", "<value does not fit the cast>", "null"},
		{"cast(d as decimal(3,1))", "decimal(3,1)", "2.5", "null"},
		{"cast(at as date) = day", "boolean", "true", "null"},
		{"at > timestamp '2024-02-29 23:00:00'", "boolean", "true", "null"},
		{"day >= date '2024-03-01'", "boolean", "false", "null"},
		{`"n" + 1`, "integer", "8", "null"},
		{"cast(null as text)", "text", "null", "null"},
		{"- - n", "integer", "7", "null"},
		{"1.5 + null", "decimal(3,1)", "null", "null"},
		{"case when n > 5 then 'many' when n > 0 then 'few' else 'none' end", "text", "many", "none"},
		{"case n when 7 then 1.5 when 8 then 2 end", "decimal(2,1)", "1.5", "null"},
		{"case when yes then 1 else n / zero end", "decimal(25,6)", "1.000000", "null"},
		{"case when n / zero > 1 then 1 else 2 end", "integer", "<division by zero>", "2"},
		{"n between 7 and 8", "boolean", "true", "null"},
		{"n not between 7 and 8 or n between 1 and 2", "boolean", "false", "null"},
		{"s like ' A_ '", "boolean", "true", "null"},
		{"s like '%b%'", "boolean", "true", "null"},
		{"s not like '%B%'", "boolean", "true", "null"},
		{`'50%' like '50\%' and '5' not like '_\%'`, "boolean", "true", "true"},
		{"'äöü' like 'ä%_'", "boolean", "true", "true"},
		{"'aab' like '%a%ab' and 'abab' like '%ab' and '' like '%' and '' not like '_'", "boolean", "true", "true"},
		{"nullif(n, 7)", "integer", "null", "null"},
		{"nullif(s, 'x')", "text", " Ab ", "null"},
		{"substring('äöüß' from 2 for 2)", "text", "öü", "öü"},
		{"substring(s, 2)", "text", "Ab ", "null"},
		{"substring('abc' from -1 for 3)", "text", "a", "a"},
		{"substring('abc' from 2 for 0 - 1)", "text", "<value does not fit the cast>", "<value does not fit the cast>"},
		{"extract(year from day) * 100 + extract(month from at)", "integer", "202402", "null"},
		{"extract(week from date '2021-01-03') + extract(isoyear from date '2021-01-03')", "integer", "2073", "2073"},
		{"extract(second from timestamp '2024-01-01 10:20:30.25')", "decimal(8,6)", "30.250000", "30.250000"},
		{"day + 1", "date", "2024-03-01", "null"},
		{"day - date '2024-01-01'", "integer", "59", "null"},
		{"at - timestamp '2024-02-29 23:29:59.5'", "decimal(18,6)", "0.500000", "null"},
		{"at + interval '45' minute", "timestamp", "2024-03-01 00:15:00", "null"},
		{"day + interval '1' year", "timestamp", "2025-02-28 00:00:00", "null"},
		{"date '2024-01-31' - interval '11' month", "timestamp", "2023-02-28 00:00:00", "2023-02-28 00:00:00"},
		{"day + 9000000", "date", "<result is too large>", "null"},
		{"abs(rate)", "decimal(9,4)", "0.1250", "null"},
		{"abs(0 - n) + abs(d * -1)", "double", "9.5", "null"},
		{"mod(n, 4)", "integer", "3", "null"},
		{"mod(-7.5, 2)", "decimal(2,1)", "-1.5", "-1.5"},
		{"mod(n, zero)", "integer", "<division by zero>", "null"},
		{"least(n, 3, null)", "integer", "3", "3"},
		{"greatest(price, n)", "decimal(21,2)", "12.35", "null"},
		{"greatest(s, 'b')", "text", "b", "b"},
	} {
		p, err := Compile(c.text, fields)
		if err != nil {
			t.Errorf("%s: %v", c.text, err)
			continue
		}
		r := p.Eval(b)
		say := func(i int) string {
			switch {
			case r.Fault(i) != "":
				return "<" + r.Fault(i) + ">"
			case r.Null[i]:
				return "null"
			}
			return r.Value(i)
		}
		if p.Type().String() != c.typ || say(0) != c.value || say(1) != c.ofNulls {
			t.Errorf("%s: %s, %s, %s; want %s, %s, %s", c.text, p.Type(), say(0), say(1), c.typ, c.value, c.ofNulls)
		}
	}
}

func TestMistakes(t *testing.T) {
	fields, _ := scope(t)
	for _, c := range []struct {
		text    string
		at      int
		message string
	}{
		{"", 0, "the expression is empty"},
		{"n +", 3, "expected a value, not the end"},
		{"n n", 2, "expected an operator or the end, not n"},
		{"nn + 1", 0, "there is no column nn (did you mean n?)"},
		{"price * prise", 8, "there is no column prise (did you mean price?)"},
		{"rond(n)", 0, "there is no function rond (did you mean round?)"},
		{"round(price, n)", 0, "round wants its places as a plain number, 0 to 38"},
		{"n + s", 2, "+ wants numbers, not integer and text"},
		{"s || n", 2, "|| wants text on both sides, not text and integer: cast(... as text)"},
		{"n and yes", 2, "and wants a condition, not a value of type integer"},
		{"day = '2024-01-01'", 4, "= cannot compare date with text; a constant is written date '...'"},
		{"day < at", 4, "< cannot compare date with timestamp"},
		{"'open", 0, "the quote that opens here is never closed"},
		{"(n + 1", 6, "expected ) to close the bracket, not the end"},
		{"n ? 1", 2, `'?' has no meaning here`},
		{"huge * huge", 5, "decimal(38,0) * decimal(38,0) may need 76 digits, and a decimal has at most 38: round or cast an operand"},
		{"case n end", 7, "expected when in case, not end"},
		{"case when n then 1 end", 5, "when wants a condition, not a value of type integer"},
		{"case when yes then 1 else 'x' end", 0, "case wants values of one type, not integer and text"},
		{"n not 7", 6, "expected in, between or like after not, not 7"},
		{"n between 1", 11, "expected and in between a and b, not the end"},
		{"n like 'x'", 2, "like wants text on both sides, not integer and text"},
		{"extract(century from day)", 8, "there is no part century: year, quarter, month, day, week, isoyear, isodow, hour, minute, second"},
		{"extract(year from n)", 8, "extract wants a date, a timestamp or a time, not integer"},
		{"substring(s)", 0, "substring is written substring(text from start for length)"},
		{"interval '3' week", 9, "an interval is written interval '3' day; the units are year, month, day, hour, minute, second"},
		{"day * 2", 4, "* cannot calculate with date and integer: date and integer (days), date and date, timestamp and timestamp (seconds), date or timestamp and interval"},
		{"n + interval '1' day", 2, "+ cannot calculate with integer and an interval: date and integer (days), date and date, timestamp and timestamp (seconds), date or timestamp and interval"},
		{"mod(d, 2)", 0, "mod wants exact numbers, not double"},
		{"date '2024-02-30'", 5, "'2024-02-30' is not a valid date"},
		{"cast(n as number)", 10, "no such type: number (there is: integer, decimal(p,s), double, text, boolean, date, timestamp, time)"},
		{"cast(yes as date)", 0, "boolean cannot be cast to date"},
		{"coalesce(n, s)", 0, "coalesce wants values of one type, not integer and text"},
		{"n is 7", 5, "expected null after is, not 7"},
		{"'a\x00'", 0, "a text cannot hold a zero byte"},
		{"2x", 0, "a name cannot begin with a digit; put it in double quotes"},
		{strings.Repeat("(", 300) + "n", 200, "the expression is nested more than 200 deep"},
	} {
		_, err := Compile(c.text, fields)
		mistake, ok := err.(*Error)
		if !ok || mistake.At != c.at || mistake.Message != c.message {
			t.Errorf("%.40s: %#v, want %d: %s", c.text, err, c.at, c.message)
		}
	}
}

// TestArithmeticAgainstRational evaluates random formulas of decimals, and once more as fractions.
func TestArithmeticAgainstRational(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 10))
	for range 20_000 {
		text, want := formula(r, 3)
		p, err := Compile(text, nil)
		if err != nil {
			if !strings.Contains(err.Error(), "may need") {
				t.Fatalf("%s: %v", text, err)
			}
			continue
		}
		result := p.Eval(&column.Batch{N: 1})
		if result.Null[0] {
			if want != nil {
				t.Fatalf("%s: %s, want %s", text, result.Fault(0), want.RatString())
			}
			continue
		}
		got, _ := new(big.Rat).SetString(result.Value(0))
		if want == nil || got.Cmp(want) != 0 {
			t.Fatalf("%s = %s, want %v", text, result.Value(0), want)
		}
	}
}

// formula makes an expression of fixed scale where it divides or rounds, and its exact value; nil if it
// divides by zero.
func formula(r *rand.Rand, depth int) (string, *big.Rat) {
	if depth == 0 || r.IntN(4) == 0 {
		v := r.Int64N(2_000_000) - 1_000_000
		scale := r.IntN(4)
		text := string(exact.AppendDecimal(nil, exact.Wide(v), scale))
		value, _ := new(big.Rat).SetString(text)
		return "(" + text + ")", value
	}
	a, x := formula(r, depth-1)
	if r.IntN(5) == 0 {
		places := r.IntN(3)
		if x != nil {
			x = rounded(x, places)
		}
		return fmt.Sprintf("round(%s, %d)", a, places), x
	}
	b, y := formula(r, depth-1)
	op := "+-*"[r.IntN(3)]
	text := "(" + a + " " + string(op) + " " + b + ")"
	if x == nil || y == nil {
		return text, nil
	}
	switch op {
	case '+':
		return text, new(big.Rat).Add(x, y)
	case '-':
		return text, new(big.Rat).Sub(x, y)
	}
	return text, new(big.Rat).Mul(x, y)
}

// rounded rounds half away from zero.
func rounded(x *big.Rat, places int) *big.Rat {
	unit := new(big.Rat).SetInt(new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(places)), nil))
	scaled := new(big.Rat).Mul(new(big.Rat).Abs(x), unit)
	scaled.Add(scaled, big.NewRat(1, 2))
	whole := new(big.Rat).SetInt(new(big.Int).Quo(scaled.Num(), scaled.Denom()))
	if x.Sign() < 0 {
		whole.Neg(whole)
	}
	return whole.Quo(whole, unit)
}

// FuzzCompile looks for texts that make the compiler or what it compiles panic.
func FuzzCompile(f *testing.F) {
	for _, text := range []string{"round(price * rate, 2)", "coalesce(s, 'x') || upper(s)", "n in (1, null) and not yes", "case when s like '%a_' then abs(n) else mod(n, 2) end", "at + interval '3' month - day", "extract(week from day) between 1 and 2", "substring(s from 2 for n)", "nullif(least(n, 1), 2)", "cast(at as date) = date '2024-02-29'", `"n" - -1.5e`, "huge / price", "((", "'"} {
		f.Add(text)
	}
	fields, b := scope(f)
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Compile(text, fields)
		if err == nil {
			p.Eval(b)
		} else if _, ok := err.(*Error); !ok {
			t.Fatalf("%T: %v", err, err)
		}
	})
}

func BenchmarkToll(b *testing.B) {
	money, rate, share := column.Type{
		Kind:      column.Decimal,
		Precision: 9,
		Scale:     2,
	}, column.Type{
		Kind:      column.Decimal,
		Precision: 9,
		Scale:     4,
	}, column.Type{
		Kind:      column.Decimal,
		Precision: 5,
		Scale:     4,
	}
	fields := []column.Field{
		{Name: "tonnage", Type: money},
		{Name: "rate", Type: rate},
		{Name: "rebate", Type: share},
	}
	batch := column.NewBatch(fields)
	batch.Reset(4096)
	for i := range batch.N {
		batch.Cols[0].Int[i] = int64(1000 + i*7919)
		batch.Cols[1].Int[i] = int64(500 + i*31)
		batch.Cols[2].Int[i] = int64(i % 2500)
	}
	p, err := Compile("round(tonnage * rate * (1 - rebate), 2)", fields)
	if err != nil {
		b.Fatal(err)
	}
	b.ReportAllocs()
	for b.Loop() {
		p.Eval(batch)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*batch.N), "ns/row")
}
