package expr_test

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	_ "github.com/jackc/pgx/v5/stdlib" // registers the driver
	_ "github.com/trinodb/trino-go-client/trino"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/parse"
	"ironmonger/internal/startest"
)

// edges is a table of values at the edges of their types, and the same rows as the program has them.
type edges struct {
	fields []column.Field
	b      *column.Batch
	rows   []string // as SQL
}

func newEdges(t *testing.T, r *rand.Rand, d expr.Dialect) *edges {
	e := &edges{}
	for _, c := range [][2]string{{"i", "integer"}, {"j", "integer"}, {"p", "decimal(9,2)"}, {"q", "decimal(7,4)"}, {"w", "decimal(38,4)"},
		{"s", "text"}, {"u", "text"}, {"d", "date"}, {"e", "date"}, {"t", "timestamp"}} {
		typ, _ := column.ParseType(c[1])
		e.fields = append(e.fields, column.Field{Name: c[0], Type: typ})
	}
	odd := map[column.Kind][]string{
		column.Integer: {"", "0", "1", "-1", "7", "12", "-12", "2147483647", "-2147483648", "29", "3"},
		column.Decimal: {"", "0", "0.01", "-0.01", "12.35", "-999.99", "3.5", "999.0"},
		column.Text: {"", "ab", "x,y", "7", "-3", "007", "+5", " 8", "1.50", "1.505", "12345.6", "2024-02-29", "2023-02-29", "1900-02-29", "2000-02-29", "0000-02-29", "2024-04-31", "2024-06-30", "2024-01-31", "2024-11-31", "2024-13-01", "2024-00-10", "2024-01-00", "0000-01-01", "Zoë", "ÅNGSTRÖM", "a%_\\b", "99999999999999999999", ".5", "5.", "7\n",
			"true", "T", "Yes", "y", "1", "FALSE", "f", "nO", "N", "on", "wahr", " true", "ye\u017f", "true\n",
			"2024-02-29 23:59:59.999999", "2024-02-29T10:47:00", "2024-02-29 10:47", "2024-02-29 10:47:59.5", "2024-02-29 24:00:00", "2023-02-29 10:00:00", "2024-02-29 10:60:00", "2024-02-29 10:00:60",
			"2024-02-29 10:47:59.1234567", "2024-02-29 10:47:59.1234560", "2024-02-29 10:47:59Z", "2024-02-29 10:47:59.", "0000-01-01 10:00:00", "2024-02-29t10:00:00", "2024-02-29 10:00:00\n",
			"23:59:59.999999", "10:47", "24:00:00", "10:60", "10:47:59.1234567", "1:30:00", "23:59:60",
			"03.04.2024", "3.4.2024", "29.02.2023", "29.2.2024", "31.12.1999 23:59", "1.1.2024 7:05:09.25", "01.01.2024 7:05:09.1234", "20240229", "20230229", "20241301", "2/2024", "12/0000", "20240229T235959", "01.02.2024 24:00",
			"05.06.0012", "7.30", "07.3", "235959", "311.12.2024", "01.02.2024\n", "11112.2024", "(2024*02)", "(20242)", "(202412)", "202024..2-29", "202023..02-29"},
		column.Date:      {"", "2024-02-29", "0001-01-01", "9999-12-31", "1987-06-05", "2021-01-03"},
		column.Timestamp: {"", "2024-02-29 23:59:59.999999", "0001-01-01 00:00:00", "9999-12-31 23:59:59.999999", "1969-12-31 12:00:00.000001"},
	}
	e.b = column.NewBatch(e.fields)
	const n = 300
	e.b.Reset(n)
	for i := range n {
		cells := []string{fmt.Sprint(i)}
		for k, f := range e.fields {
			of := odd[f.Type.Kind]
			v := of[r.IntN(len(of))]
			if f.Name == "i" && r.IntN(8) == 0 {
				v = []string{"9223372036854775807", "-9223372036854775808", "3037000500"}[r.IntN(3)]
			}
			if f.Name == "w" && r.IntN(4) == 0 {
				v = []string{"9999999999999999999999999999999999.9999", "-1234567890123456789012345678901234.5678"}[r.IntN(2)]
			}
			if v == "" && (f.Type.Kind != column.Text || r.IntN(2) == 0) {
				e.b.Cols[k].SetNull(i)
				cells = append(cells, d.Null(f.Type))
				continue
			}
			if err := parse.NewReader(nil).Set(&e.b.Cols[k], i, v); err != nil {
				t.Fatal(v, err)
			}
			cells = append(cells, d.Literal(v, f.Type))
		}
		e.rows = append(e.rows, "("+strings.Join(cells, ", ")+")")
	}
	return e
}

// answers asks for the texts of some expressions, and whether each is clean, row by row.
func answers(t *testing.T, db *sql.DB, table string, xs []expr.SQL, n int) ([][]sql.NullString, error) {
	var parts []string
	for _, x := range xs {
		clean := x.Clean
		if clean == "" {
			clean = "true"
		}
		parts = append(parts, "cast("+x.Value+" as varchar)", "cast(("+clean+") as varchar)")
	}
	rows, err := db.QueryContext(t.Context(), "SELECT "+strings.Join(parts, ", ")+" FROM "+table+" ORDER BY n")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := make([][]sql.NullString, 0, n)
	for rows.Next() {
		row, into := make([]sql.NullString, len(parts)), make([]any, len(parts))
		for k := range row {
			into[k] = &row[k]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		all = append(all, row)
	}
	return all, rows.Err()
}

// TestSQL holds the SQL of random expressions against their evaluation, over values at the edges: it never fails, and what
// it says is clean is so.
func TestSQL(t *testing.T) {
	t.Run("postgres", func(t *testing.T) {
		connection, _ := startest.Postgres(t)
		db, err := sql.Open("pgx", connection)
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		db.SetMaxOpenConns(1)
		holdSQL(t, expr.Postgres, db, "edges", "CREATE TEMP TABLE edges (n, %s) AS VALUES %s", 2000)
	})
	t.Run("trino", func(t *testing.T) {
		at := startest.Trino(t)
		db, err := sql.Open("trino", strings.Replace(at.Server, "://", "://test@", 1))
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		if _, err := db.ExecContext(t.Context(), "CREATE SCHEMA pub.edges"); err != nil {
			t.Fatal(err)
		}
		holdSQL(t, expr.Trino, db, "pub.edges.edges", "CREATE TABLE pub.edges.edges (n, %s) AS VALUES %s", startest.Runs(120))
	})
}

func holdSQL(t *testing.T, d expr.Dialect, db *sql.DB, table, create string, random int) {
	e := newEdges(t, rand.New(rand.NewPCG(3, 4)), d)
	var columns []expr.SQL
	for _, f := range e.fields {
		columns = append(columns, expr.SQL{Value: d.Operand(f.Name, f.Type)})
	}
	if _, err := db.ExecContext(t.Context(), fmt.Sprintf(create, strings.Join(column.Names(e.fields), ", "), strings.Join(e.rows, ", "))); err != nil {
		t.Fatal(err)
	}
	w := &writer{rand.New(rand.NewPCG(31, 32))}
	kinds := []func(int) func() (string, string){w.integer, w.decimal, w.text, w.date, w.timestamp, w.condition}
	texts := moreForms
	for n := range random {
		ours, _ := kinds[n%len(kinds)](1 + n%4)()
		texts = append(texts, ours)
	}
	for n := range random / 20 {
		of, _ := w.decimal(n % 3)()
		by, _ := w.word("100", "10", "1000.00", "1", "1.0", "-10", "-3", "7", "2.5", "0.5", "0.01", "100000000000000000000", "p", "i")
		texts = append(texts, of+" / "+by, fmt.Sprintf("cast(round(%s / %s, 2) as decimal(9,2)) + 1", of, by))
	}
	var all []shown
	refused := map[string]int{}
	for _, text := range texts {
		p, err := expr.Compile(text, e.fields)
		if err != nil {
			continue
		}
		x, err := inSteps(d, p, columns)
		if err != nil {
			refused[err.Error()]++
			continue
		}
		all = append(all, shown{text, p, x})
	}
	var sum outcome
	const atOnce = 40
	for from := 0; from < len(all); from += atOnce {
		sum.hold(t, e, db, table, all[from:min(from+atOnce, len(all))])
	}
	t.Logf("%d expressions; %d values are clean, %d are faults, %d were doubted; refused: %v", len(all), sum.clean, sum.faults, sum.doubted, refused)
	if len(all)*5 < len(texts)*4 || sum.faults < 250 || sum.doubted*8 > sum.clean {
		t.Errorf("too little was compared")
	}
}

// inSteps is the SQL of an expression with its steps where they are named.
func inSteps(d expr.Dialect, p *expr.Program, columns []expr.SQL) (expr.SQL, error) {
	name := func(nth int) string { return fmt.Sprintf("<%d>", nth) }
	steps, x, err := p.SQLInSteps(d, columns, name)
	for nth, sql := range slices.Backward(steps) {
		x.Value, x.Clean = strings.ReplaceAll(x.Value, name(nth), sql), strings.ReplaceAll(x.Clean, name(nth), sql)
	}
	return x, err
}

// shown is an expression, and its SQL.
type shown struct {
	text string
	p    *expr.Program
	x    expr.SQL
}

type outcome struct{ clean, doubted, faults int }

func (o *outcome) hold(t *testing.T, e *edges, db *sql.DB, table string, list []shown) {
	var xs []expr.SQL
	for _, s := range list {
		xs = append(xs, s.x)
	}
	got, err := answers(t, db, table, xs, e.b.N)
	switch {
	case err != nil && len(list) > 1: // which one is it?
		o.hold(t, e, db, table, list[:len(list)/2])
		o.hold(t, e, db, table, list[len(list)/2:])
		return
	case err != nil:
		t.Fatalf("%s: %v\n%s\n%s", list[0].text, err, list[0].x.Value, list[0].x.Clean)
	}
	for k, s := range list {
		result := s.p.Eval(e.b)
		for i, row := range got {
			value, clean, fault := row[2*k], row[2*k+1], result.Fault(i)
			switch {
			case !clean.Valid:
				t.Fatalf("%s, row %d: whether it is clean is null\n%s", s.text, i, s.x.Clean)
			case clean.String != "true" && fault == "":
				o.doubted++
			case clean.String != "true":
				o.faults++
			case fault != "":
				t.Fatalf("%s, row %d: %s is clean, and has the fault %s\n%s", s.text, i, e.rows[i], fault, s.x.Clean)
			case value.Valid == result.Null[i] || value.Valid && !alike(s.p.Type(), result.Value(i), moment(s.p.Type(), value.String)):
				t.Fatalf("%s, row %d of %s: %q (null %v), the SQL gives %q\n%s", s.text, i, e.rows[i], result.Value(i), result.Null[i], value.String, s.x.Value)
			default:
				o.clean++
			}
		}
	}
}

// moment writes a timestamp as the program does, whatever zeros it ends with.
func moment(t column.Type, text string) string {
	if t.Kind == column.Timestamp && strings.Contains(text, ".") {
		return strings.TrimRight(strings.TrimRight(text, "0"), ".")
	}
	return text
}
