package expr_test

import (
	"context"
	"fmt"
	"math/big"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/parse"
	"ironmonger/internal/startest"
)

func TestMain(m *testing.M) { os.Exit(startest.Main(m)) }

// writer makes random expressions, in our words and in PostgreSQL's. They differ in: integer literals (ours
// have 64 bits) and the difference of timestamps (ours is in seconds). Division is not compared: ours has 6
// places, PostgreSQL's as many as it sees fit.
type writer struct{ r *rand.Rand }

func (w *writer) pick(of ...func() (string, string)) (string, string) { return of[w.r.IntN(len(of))]() }

func (w *writer) word(list ...string) (string, string) {
	s := list[w.r.IntN(len(list))]
	return s, s
}

// both fills a pattern with two texts of each operand.
func both(pattern string, operands ...func() (string, string)) (string, string) {
	var ours, theirs []any
	for _, o := range operands {
		a, b := o()
		ours, theirs = append(ours, a), append(theirs, b)
	}
	return fmt.Sprintf(pattern, ours...), fmt.Sprintf(pattern, theirs...)
}

func (w *writer) integer(depth int) func() (string, string) {
	deeper := w.integer
	return func() (string, string) {
		leaf := func() (string, string) {
			if w.r.IntN(2) == 0 {
				return w.word("i", "j")
			}
			n := w.r.IntN(50)
			return fmt.Sprint(n), fmt.Sprintf("%d::bigint", n)
		}
		if depth == 0 {
			return leaf()
		}
		d := depth - 1
		return w.pick(leaf,
			func() (string, string) { return both("(%s + %s)", deeper(d), deeper(d)) },
			func() (string, string) { return both("(%s - %s)", deeper(d), deeper(d)) },
			func() (string, string) { return both("(%s * %s)", deeper(d), leaf) },
			func() (string, string) { return both("mod(%s, nullif(%s, 0))", deeper(d), deeper(d)) },
			func() (string, string) { return both("abs(%s)", deeper(d)) },
			func() (string, string) { return both("strpos(%s, %s)", w.text(d), w.text(0)) },
			func() (string, string) { return both("coalesce(%s, %s)", deeper(d), deeper(d)) },
			func() (string, string) { return both("least(%s, %s)", deeper(d), deeper(d)) },
			func() (string, string) { return both("greatest(%s, %s, %s)", deeper(d), deeper(d), leaf) },
			func() (string, string) { return both("nullif(%s, %s)", deeper(d), leaf) },
			func() (string, string) {
				return both("case when %s then %s else %s end", w.condition(d), deeper(d), deeper(d))
			},
			func() (string, string) { return both("case %s when %s then %s end", deeper(d), leaf, deeper(d)) },
			func() (string, string) { return both("(%s - %s)", w.date(d), w.date(d)) },
			func() (string, string) {
				part, _ := w.word("year", "quarter", "month", "day", "week", "isoyear", "isodow")
				return both("extract("+part+" from %s)", w.date(d))
			})
	}
}

func (w *writer) decimal(depth int) func() (string, string) {
	return func() (string, string) {
		leaf := func() (string, string) { return w.word("p", "q", "1.25", "0.005", "-3.5") }
		if depth == 0 {
			return leaf()
		}
		d := depth - 1
		return w.pick(leaf,
			func() (string, string) { return both("(%s + %s)", w.decimal(d), w.integer(0)) },
			func() (string, string) { return both("(%s * %s)", w.decimal(d), leaf) },
			func() (string, string) { return both("(%s - %s)", w.decimal(d), w.decimal(d)) },
			func() (string, string) {
				places := w.r.IntN(4)
				return both(fmt.Sprintf("round(%%s, %d)", places), w.decimal(d))
			},
			func() (string, string) { return both("mod(%s, nullif(%s, 0))", w.decimal(d), leaf) },
			func() (string, string) { return both("abs(%s)", w.decimal(d)) },
			func() (string, string) { return both("coalesce(%s, %s)", w.decimal(d), w.integer(0)) },
			func() (string, string) { return both("greatest(%s, %s)", w.decimal(d), w.decimal(d)) },
			func() (string, string) {
				name, _ := w.word("floor", "ceil", "trunc")
				return both(name+"(%s)", w.decimal(d))
			},
			func() (string, string) {
				a, b := w.timestamp(d)()
				c, e := w.timestamp(d)()
				return "(" + a + " - " + c + ")", "extract(epoch from (" + b + " - " + e + "))"
			},
			func() (string, string) { return both("cast(%s as decimal(20,1))", w.decimal(d)) })
	}
}

func (w *writer) text(depth int) func() (string, string) {
	return func() (string, string) {
		leaf := func() (string, string) { return w.word("s", "u", "'ab'", "''", "'Heron, grey'", "' x '") }
		if depth == 0 {
			return leaf()
		}
		d := depth - 1
		return w.pick(leaf,
			func() (string, string) { return both("(%s || %s)", w.text(d), leaf) },
			func() (string, string) { return both("upper(%s)", w.text(d)) },
			func() (string, string) { return both("lower(%s)", w.text(d)) },
			func() (string, string) { return both("trim(%s)", w.text(d)) },
			func() (string, string) { return both("ltrim(%s, ' aH')", w.text(d)) },
			func() (string, string) { return both("rtrim(%s, 'yb ')", w.text(d)) },
			func() (string, string) { return both("coalesce(%s, %s)", w.text(d), leaf) },
			func() (string, string) {
				start := w.r.IntN(7) - 2
				return both(fmt.Sprintf("substring(%%s from %d for %d)", start, w.r.IntN(4)), w.text(d))
			},
			func() (string, string) { return both("least(%s, %s)", w.text(d), leaf) },
			func() (string, string) {
				n := []int{-3, -2, -1, 1, 2, 3}[w.r.IntN(6)]
				delimiter, _ := w.word("' '", "','", "'a'", "''", "'ey'")
				return both(fmt.Sprintf("split_part(%%s, %s, %d)", delimiter, n), w.text(d))
			},
			func() (string, string) { return both("replace(%s, %s, %s)", w.text(d), leaf, leaf) },
			func() (string, string) { return both("concat(%s, %s, %s)", w.text(d), leaf, w.date(d)) },
			func() (string, string) {
				side, _ := w.word("left", "right")
				return both(fmt.Sprintf("%s(%%s, %d)", side, w.r.IntN(9)-4), w.text(d))
			},
			func() (string, string) { return both("initcap(%s)", w.text(d)) },
			func() (string, string) {
				at, _ := w.word("','", "' '", "'a'", "'ey'")
				ours, theirs := w.text(d)()
				return "sorted_list(" + ours + ", " + at + ")", "(select case when " + theirs + " is not null then coalesce(string_agg(piece, " + at +
					" order by piece collate \"C\"), '') end from (select distinct btrim(piece, ' ') as piece from unnest(string_to_array(" +
					theirs + ", " + at + ")) as l(piece)) x where piece <> '')"
			},
			func() (string, string) {
				from, _ := w.word("'aeb'", "'Hh x'", "''", "'ééa'", "'aab'")
				to, _ := w.word("'123'", "'x'", "''", "'é-'")
				return both(fmt.Sprintf("translate(%%s, %s, %s)", from, to), w.text(d))
			},
			func() (string, string) {
				form, _ := w.word("NFC", "NFD", "NFKC", "NFKD")
				a, b := w.text(d)()
				return fmt.Sprintf("normalize(%s, '%s')", a, form), fmt.Sprintf("normalize(%s, %s)", b, form)
			},
			func() (string, string) {
				form, _ := w.word("'[a-y]+'", "'x|b'", "'^.'", "'e.$'")
				return both("regexp_substr(%s, "+form+")", w.text(d))
			},
			func() (string, string) {
				form, _ := w.word(`'([aey])', '<\1>'`, `'[ ,]+', '-', 'g'`, `'h(.)', '\1$\&', 'gi'`, `'^', '$1'`)
				return both("regexp_replace(%s, "+form+")", w.text(d))
			},
			func() (string, string) { return both("case when %s then %s end", w.condition(d), w.text(d)) },
			func() (string, string) { return both("cast(%s as text)", w.date(d)) })
	}
}

func (w *writer) date(depth int) func() (string, string) {
	return func() (string, string) {
		leaf := func() (string, string) { return w.word("d", "e", "date '2024-02-29'", "date '1999-12-31'") }
		if depth == 0 {
			return leaf()
		}
		n := w.r.IntN(800) - 400
		return w.pick(leaf,
			func() (string, string) { return both(fmt.Sprintf("(%%s + (%d))", n), w.date(depth-1)) },
			func() (string, string) { return both("coalesce(%s, %s)", w.date(depth-1), leaf) },
			func() (string, string) { return both("cast(%s as date)", w.timestamp(depth-1)) },
			func() (string, string) {
				unit, _ := w.word("year", "quarter", "month", "week", "day")
				a, b := both("date_trunc('"+unit+"', %s)", w.date(depth-1))
				return a, "cast(" + b + " as date)"
			},
			func() (string, string) {
				a, b := leaf()
				return "make_date(extract(year from " + a + "), extract(month from " + a + "), 28)",
					"make_date(extract(year from " + b + ")::int, extract(month from " + b + ")::int, 28)"
			})
	}
}

func (w *writer) timestamp(depth int) func() (string, string) {
	return func() (string, string) {
		leaf := func() (string, string) {
			return w.word("t", "timestamp '2024-02-29 23:59:59.5'", "timestamp '1950-01-31 00:00:00'")
		}
		if depth == 0 {
			return leaf()
		}
		unit, _ := w.word("year", "month", "day", "hour", "minute", "second")
		step := fmt.Sprintf("(%%s %s interval '%d' %s)", []string{"+", "-"}[w.r.IntN(2)], w.r.IntN(40), unit)
		return w.pick(leaf,
			func() (string, string) { return both(step, w.timestamp(depth-1)) },
			func() (string, string) { return both(step, w.date(depth-1)) },
			func() (string, string) { return both("cast(%s as timestamp)", w.date(depth-1)) },
			func() (string, string) {
				unit, _ := w.word("year", "quarter", "month", "week", "day", "hour", "minute", "second")
				return both("date_trunc('"+unit+"', %s)", w.timestamp(depth-1))
			})
	}
}

func (w *writer) condition(depth int) func() (string, string) {
	return func() (string, string) {
		d := max(depth-1, 0)
		op, _ := w.word("=", "<>", "<", "<=", ">", ">=")
		leaf := func() (string, string) {
			return w.pick(
				func() (string, string) { return both("%s "+op+" %s", w.integer(d), w.decimal(d)) },
				func() (string, string) { return both("%s "+op+" %s", w.text(d), w.text(d)) },
				func() (string, string) { return both("%s "+op+" %s", w.date(d), w.date(d)) },
				func() (string, string) { return both("%s is null", w.text(d)) },
				func() (string, string) { return both("%s is not null", w.integer(d)) },
				func() (string, string) { return both("%s in (%s, %s)", w.integer(d), w.integer(0), w.integer(0)) },
				func() (string, string) { return both("%s not in (%s, null)", w.text(d), w.text(0)) },
				func() (string, string) { return both("%s between %s and %s", w.integer(d), w.integer(0), w.integer(d)) },
				func() (string, string) {
					pattern, _ := w.word("%", "%a%", "_b", "H%,_grey", `\%`, "a%b%", "")
					return both("%s like '"+strings.ReplaceAll(pattern, "%", "%%")+"'", w.text(d))
				},
			)
		}
		if depth == 0 {
			return leaf()
		}
		return w.pick(leaf,
			func() (string, string) { return both("(%s and %s)", w.condition(d), w.condition(d)) },
			func() (string, string) { return both("(%s or %s)", w.condition(d), w.condition(d)) },
			func() (string, string) { return both("(not %s)", w.condition(d)) })
	}
}

// TestAgainstPostgres evaluates thousands of random expressions here and there.
func TestAgainstPostgres(t *testing.T) {
	connection, _ := startest.Postgres(t)
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, connection)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	declared := []struct{ name, typ, sql string }{
		{"i", "integer", "bigint"},
		{"j", "integer", "bigint"},
		{"p", "decimal(9,2)", "numeric(9,2)"},
		{"q", "decimal(7,4)", "numeric(7,4)"},
		{
			"s",
			"text",
			"text",
		},
		{"u", "text", "text"},
		{"d", "date", "date"},
		{"e", "date", "date"},
		{"t", "timestamp", "timestamp"},
	}
	values := [][]string{
		{"7", "-3", "12.35", "0.0050", "Heron, grey", "ab", "2024-02-29", "1987-06-05", "2024-02-29 23:30:00"},
		{"0", "1", "-0.01", "999.9999", "", " x ", "2000-01-01", "2023-12-31", "1969-12-31 12:00:00.000001"},
		{"", "12", "", "-1.5000", "%", "", "", "2021-01-03", ""},
		{"-12", "", "2.50", "", "", "AB\\", "1900-01-01", "", "2099-01-31 00:00:00"},
	}
	var fields []column.Field
	var columns, rows []string
	for _, c := range declared {
		typ, _ := column.ParseType(c.typ)
		fields = append(fields, column.Field{Name: c.name, Type: typ})
		columns = append(columns, c.name)
	}
	b := column.NewBatch(fields)
	b.Reset(len(values))
	for i, row := range values {
		var cells []string
		for k, v := range row {
			if v == "" && declared[k].typ != "text" || v == "" && i == 2 {
				b.Cols[k].SetNull(i)
				cells = append(cells, "null::"+declared[k].sql)
				continue
			}
			if err := parse.NewReader(nil).Set(&b.Cols[k], i, v); err != nil {
				t.Fatal(err)
			}
			cells = append(cells, "'"+v+"'::"+declared[k].sql)
		}
		rows = append(rows, fmt.Sprintf("(%d, %s)", i, strings.Join(cells, ", ")))
	}
	from := " FROM (VALUES " + strings.Join(rows, ", ") + ") AS v (n, " + strings.Join(columns, ", ") + ") ORDER BY n"
	w := &writer{rand.New(rand.NewPCG(21, 22))}
	kinds := []func(int) func() (string, string){w.integer, w.decimal, w.text, w.date, w.timestamp, w.condition}
	compared, faults := 0, 0
	for n := range 6000 {
		ours, theirs := kinds[n%len(kinds)](1 + n%4)()
		p, err := expr.Compile(ours, fields)
		if err != nil {
			if !strings.Contains(err.Error(), "may need") && !strings.Contains(err.Error(), "has a type") {
				t.Fatalf("%s: %v", ours, err)
			}
			continue
		}
		result := p.Eval(b)
		answer, err := conn.Query(ctx, "SELECT ("+theirs+")::text"+from)
		if err != nil {
			t.Fatalf("%s: %v", theirs, err)
		}
		want, err := pgx.CollectRows(answer, pgx.RowTo[*string])
		if err != nil { // somewhere a value is out of range: then here, too, or beyond what is asked
			if strings.Contains(err.Error(), "syntax") || strings.Contains(err.Error(), "does not exist") {
				t.Fatalf("%s: %v", theirs, err)
			}
			faults++
			continue
		}
		compared++
		for i := range want {
			if result.Fault(i) != "" {
				t.Fatalf("%s, row %d: %s, PostgreSQL has %v", ours, i, result.Fault(i), want[i])
			}
			if (want[i] == nil) != result.Null[i] || want[i] != nil && !alike(p.Type(), result.Value(i), *want[i]) {
				shown := "null"
				if want[i] != nil {
					shown = *want[i]
				}
				t.Fatalf(
					"%s, row %d: %q (null %v), PostgreSQL has %q",
					ours,
					i,
					result.Value(i),
					result.Null[i],
					shown,
				)
			}
		}
	}
	t.Logf("%d expressions compared, %d failed there", compared, faults)
	if compared < 5000 {
		t.Errorf("only %d expressions were compared", compared)
	}
}

// alike compares numbers as numbers, all else as text.
func alike(t column.Type, a, b string) bool {
	if t.Exact() {
		x, ok := new(big.Rat).SetString(a)
		y, too := new(big.Rat).SetString(b)
		return ok && too && x.Cmp(y) == 0
	}
	return a == b
}

// moreForms are expressions of which PostgreSQL has others, or none.
var moreForms = []string{
	"i / j", "p / nullif(i, 0)", "(p * q) / 0.07", "p / (q - q)", "round(p / 3, 1)", "1 / i", "cast(p / 7 as decimal(9,4))",
	"case when i <> 0 then p / i else 0 end", "coalesce(p / i, 1)", "cast(s as integer)", "cast(trim(u) as integer) + i",
	"cast(s as decimal(5,2))", "cast(u as decimal(18,4)) * 2", "cast(s as date)", "cast(u as date) + 1", "cast(p as text)", "cast(i as text) || '-' || cast(q as text)",
	"cast(s as boolean)", "cast(s as timestamp)", "cast(u as timestamp)", "cast(s as time)", "cast(u as time)", "cast(p as integer)", "cast(i as decimal(4,1))", "make_date(i, j, 29)", "make_date(i + 2023, 2, j + 28)", "lpad(s, 5, '0')",
	"lpad(cast(i as text), 3, 'é')", "i * i * i", "i - 9223372036854775800", "abs(i)", "substring(s from i for j)", "substring(s from i)",
	"split_part(s, ',', i)", "left(s, i)", "right(u, j)", "d + i", "d - interval '700' year", "t + interval '1900' year", "extract(second from t)",
	"extract(hour from d)", "cast(t as time)", "d - e", "t - cast(d as timestamp)", "cast(i > 3 as integer)", "cast(i > j as text)",
	"case when i > 3 then 'x' when s like '%e%' then u end", "greatest(s, u, 'é')", "mod(i, j)", "mod(p, q)", "floor(p)", "ceil(q)", "s in ('ab', u, null)",
	"w * 2", "w + p", "w / 3", "abs(w)", "w = p", "round(w, 1)", "cast(w as integer)", "cast(w as decimal(20,2))", "coalesce(w, 0)", "floor(w)", "mod(w, 7)", "cast(w as text)",
	"cast(s as date layout 'dd.MM.yyyy')", "cast(u as date layout 'd.M.yyyy')", "cast(s as date layout 'yyyyMMdd')", "cast(u as date layout 'M/yyyy')", "cast(u as date layout '(yyyyM)')", "cast(s as date layout '20yyyy..M-d')", "cast('x' || u as date layout 'xd.M.yyyy')",
	"cast(s as timestamp layout 'dd.MM.yyyy HH:mm')", "cast(u as timestamp layout 'd.M.yyyy H:mm:ss.SSS')", "cast(s as timestamp layout 'yyyyMMddTHHmmss')", "cast(s as timestamp layout 'dd.MM.yyyy HH')",
	"cast(s as time layout 'H.mm')", "cast(u as time layout 'HHmmss')", "cast(s as date layout 'MMM d yyyy')", "cast(u as date layout 'dMyyyy')", "cast(u as date layout 'd1MM.yyyy')", "cast(left(s, 10) as date layout '(yyyy*MM)')",
	"cast(t as text)", "cast(cast(t as time) as text)",
}
