// Package inside loads facts by statements of the warehouse, where their rows stand in it already: they do not travel
// through the program.
//
// It divides the rows that have arrived. A row is plain if nothing about it needs a second look: its values are of their
// types, no rule sets it aside, each of its keys has a member, and no other row has its grain. What becomes of a plain row
// depends on no other row, and it makes no difference to any: the warehouse inserts them all by one statement, and counts
// those that stand there as they are. The others are left, with their numbers, to the same code that loads rows which
// are read from files: what infers members, sets rows aside and decides between rows of one grain, in the order of the
// rows. A row that is not plain although it could be costs time, and nothing else. So the statements need not have
// an answer to everything, and the result is the same.
package inside

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/expr"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Rows are the rows of a fact's source while a step loads them.
type Rows struct {
	of       *schema.Fact
	star     *schema.Star
	model    *star.Model
	need     func(string) bool
	numbered *source.Numbered
	run      warehouse.Statements
	arrived  string // the table of the rows as they are
	judged   string // and of what became of them
	measures []column.Field
	fields   []field // of the table, but for the line and the run
}

// Verdict is what a row is.
type verdict int

const (
	plain   verdict = iota // it is inserted
	same                   // it stands there as it is
	leftOut                // it is not meant
	hard                   // it needs a second look
)

// Counted is what became of the rows that are not left to others.
type Counted struct {
	Inserted, Same int64
	LeftOut        []int64          // by the rules of the source
	Left           int64            // rows that are left to others
	Missing        []int64          // of each key, the rows that have none
	Empty          map[string]int64 // rows inserted without a value, by measure
	InsertedTotal  []exact.Int128   // of each exact measure
	SameTotal      []exact.Int128
}

// Read is how many rows these are, without those left to others.
func (c *Counted) Read() int64 {
	sum := c.Inserted + c.Same
	for _, n := range c.LeftOut {
		sum += n
	}
	return sum
}

// New prepares the loading of a fact, of whose source the columns that need names are needed. The tables of the step are
// called by its number.
func New(f *schema.Fact, s *schema.Star, m *star.Model, n *source.Numbered, need func(string) bool, run warehouse.Statements, step int) *Rows {
	r := &Rows{
		of: f, star: s, model: m, numbered: n, need: need, run: run,
		arrived: run.Named(fmt.Sprintf("load_arrived_%d", step)), judged: run.Named(fmt.Sprintf("load_judged_%d", step)),
	}
	for _, measure := range f.Measures {
		if measure.Type.Exact() {
			r.measures = append(r.measures, measure)
		}
	}
	return r
}

// Take takes the rows from where they are and judges them. stands says whether the fact's table has rows.
func (r *Rows) Take(ctx context.Context, stands bool) error {
	sql, err := r.judge(stands)
	if err != nil {
		return err
	}
	arrived, err := r.run.Run(ctx, "CREATE UNLOGGED TABLE "+r.arrived+" AS "+r.numbered.SQL)
	if err != nil {
		return err
	}
	if _, err := r.run.Run(ctx, "ANALYZE "+r.arrived); err != nil {
		return err
	}
	judged, err := r.run.Run(ctx, "CREATE UNLOGGED TABLE "+r.judged+" AS "+sql)
	if err != nil {
		return err
	}
	if judged != arrived {
		return fmt.Errorf("%d rows of %s were judged, and it has %d: a dimension has a member twice", judged, r.numbered.Name, arrived)
	}
	return r.doubt(ctx)
}

// doubt leaves all rows to others if one has a grain that is not known: it may be that of any.
func (r *Rows) doubt(ctx context.Context) error {
	unknown := false
	err := r.run.Ask(ctx, "SELECT 1 FROM "+r.judged+" WHERE vague AND verdict <> "+strconv.Itoa(int(leftOut))+" LIMIT 1", func([][]byte) error {
		unknown = true
		return nil
	})
	if err != nil || !unknown {
		return err
	}
	_, err = r.run.Run(ctx, fmt.Sprintf("UPDATE %s SET verdict = %d WHERE verdict <> %d", r.judged, hard, leftOut))
	return err
}

// Count says what becomes of the rows.
func (r *Rows) Count(ctx context.Context) (*Counted, error) {
	c := &Counted{
		LeftOut: make([]int64, len(r.of.Source.LeaveOut)), Missing: make([]int64, len(r.of.Keys)), Empty: map[string]int64{},
		InsertedTotal: make([]exact.Int128, len(r.measures)), SameTotal: make([]exact.Int128, len(r.measures)),
	}
	parts := []string{"verdict", "rule", "count(*)"}
	for _, m := range r.measures {
		parts = append(parts, fmt.Sprintf("coalesce(sum(%s), 0)::numeric", quote(m.Name)))
	}
	for k := range r.of.Keys {
		parts = append(parts, fmt.Sprintf("count(*) FILTER (WHERE missing%d)", k))
	}
	for _, m := range r.of.Measures {
		parts = append(parts, fmt.Sprintf("count(*) - count(%s)", quote(m.Name)))
	}
	sql := "SELECT " + strings.Join(parts, ", ") + " FROM " + r.judged + " GROUP BY verdict, rule"
	err := r.run.Ask(ctx, sql, func(values [][]byte) error { return r.note(c, values) })
	return c, err
}

func (r *Rows) note(c *Counted, values [][]byte) error {
	whole := func(at int) int64 {
		n, _ := strconv.ParseInt(string(values[at]), 10, 64)
		return n
	}
	n := whole(2)
	total := func(to []exact.Int128) error {
		for k, m := range r.measures {
			sum, err := exactOf(string(values[3+k]), int(m.Type.Scale))
			if err != nil {
				return fmt.Errorf("the total of %s: %w", m.Name, err)
			}
			to[k], _ = to[k].Add(sum)
		}
		return nil
	}
	switch verdict(whole(0)) {
	case leftOut:
		c.LeftOut[whole(1)] += n
		return nil
	case hard:
		c.Left += n
		return nil
	case same:
		c.Same += n
		return total(c.SameTotal)
	}
	c.Inserted += n
	for k := range r.of.Keys {
		c.Missing[k] += whole(3 + len(r.measures) + k)
	}
	for k, m := range r.of.Measures {
		if empty := whole(3 + len(r.measures) + len(r.of.Keys) + k); empty > 0 {
			c.Empty[m.Name] += empty
		}
	}
	return total(c.InsertedTotal)
}

// exactOf reads a number as units of its last place.
func exactOf(text string, scale int) (exact.Int128, error) {
	whole, frac, _ := strings.Cut(text, ".")
	digits := whole + (frac + strings.Repeat("0", scale))[:scale]
	sum, ok := exact.Int128{}, true
	for _, ch := range strings.TrimPrefix(digits, "-") {
		if sum, ok = sum.Mul(exact.Wide(10)); ok {
			sum, ok = sum.Add(exact.Wide(int64(ch - '0')))
		}
		if !ok || !sum.Fits(exact.MaxDigits) {
			return sum, fmt.Errorf("needs more than %d digits", exact.MaxDigits)
		}
	}
	if strings.HasPrefix(digits, "-") {
		sum = sum.Neg()
	}
	return sum, nil
}

// Insert adds the plain rows to the fact's table, in their order. line makes of the number of a row what the table has.
func (r *Rows) Insert(ctx context.Context, run, file, linesOfFile int64) (int64, error) {
	var columns, values []string
	for _, f := range r.fields {
		columns, values = append(columns, f.name), append(values, quote(f.name))
	}
	columns = append(columns, schema.LoadLine, schema.LoadRun)
	values = append(values, fmt.Sprintf("%d + least(line, %d)", file*linesOfFile, linesOfFile-1), fmt.Sprint(run))
	query := fmt.Sprintf("SELECT %s FROM %s WHERE verdict = %d ORDER BY line", strings.Join(values, ", "), r.judged, plain)
	return r.run.Insert(ctx, r.of.Table.Name, columns, query)
}

// Grains hands to row, of each row that stands in the table now, its number, whether it was inserted, and what the
// columns of its grain say, in the order of [Rows.GrainFields].
func (r *Rows) Grains(ctx context.Context, row func(line int64, inserted bool, grain [][]byte) error) error {
	parts := []string{"line", "verdict"}
	for _, f := range r.GrainFields() {
		parts = append(parts, quote(said+f.Name))
	}
	sql := fmt.Sprintf("SELECT %s FROM %s WHERE verdict IN (%d, %d)", strings.Join(parts, ", "), r.judged, plain, same)
	return r.run.Ask(ctx, sql, func(values [][]byte) error {
		line, err := strconv.ParseInt(string(values[0]), 10, 64)
		if err != nil {
			return err
		}
		return row(line, string(values[1]) == strconv.Itoa(int(plain)), values[2:])
	})
}

// GrainFields lists the columns of the source that say the grain: those that stand there, and the natural keys of its
// keys.
func (r *Rows) GrainFields() []column.Field {
	fields := r.of.Source.Shaped()
	var list []column.Field
	for _, g := range r.of.Grain {
		names := []string{g.Column}
		if g.Key != nil {
			names = g.Key.By
		}
		for _, name := range names {
			list = append(list, fields[column.Find(fields, name)])
		}
	}
	return list
}

// Each hands on the rows that are left to others, as [source.Given] has it.
func (r *Rows) Each(ctx context.Context, columns []string, row func(line int64, values [][]byte) error) error {
	parts := []string{"a.line"}
	for _, name := range columns {
		parts = append(parts, fmt.Sprintf("a.c%d", r.at(name)))
	}
	sql := fmt.Sprintf("SELECT %s FROM %s a JOIN %s j ON j.line = a.line WHERE j.verdict = %d ORDER BY a.line",
		strings.Join(parts, ", "), r.arrived, r.judged, hard)
	return r.run.Ask(ctx, sql, func(values [][]byte) error {
		line, err := strconv.ParseInt(string(values[0]), 10, 64)
		if err != nil {
			return err
		}
		return row(line, values[1:])
	})
}

// Greatest returns the greatest value of a column among all rows.
func (r *Rows) Greatest(ctx context.Context, column string) (greatest []byte, err error) {
	err = r.run.Ask(ctx, fmt.Sprintf("SELECT max(c%d) FROM %s", r.at(column), r.arrived), func(values [][]byte) error {
		greatest = slices.Clone(values[0])
		return nil
	})
	return greatest, err
}

// at is the column of a name among those that have arrived.
func (r *Rows) at(name string) int {
	for k, c := range r.numbered.Columns {
		if c.Name == name {
			return k
		}
	}
	return -1
}

// Drop removes the tables of the step.
func (r *Rows) Drop(ctx context.Context) error {
	_, err := r.run.Run(ctx, "DROP TABLE "+r.arrived+", "+r.judged)
	return err
}

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// stored is a value as a table has it: null where it is not clean, so that it never fails.
func stored(x expr.SQL, t column.Type) string {
	value := x.Value
	if x.Clean != "" {
		value = "(case when " + x.Clean + " then " + value + " end)"
	}
	switch t.Kind {
	case column.Integer:
		return value + "::bigint"
	case column.Decimal:
		return fmt.Sprintf("%s::numeric(%d,%d)", value, t.Precision, t.Scale)
	case column.Text:
		return value + `::text collate "C"`
	}
	return value
}
