// Package inside loads facts and dimensions by statements of the warehouse, where their rows stand in it already: they
// do not travel through the program.
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
	"strconv"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/parse"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
)

// Rows are the rows of a fact's source while a step loads them.
type Rows struct {
	judging
	of       *schema.Fact
	all      bool // all rows are left to others
	waits    bool // some wait for members
	measures []column.Field
	fields   []field // of the table, but for the line and the run
}

// verdict is what a row is.
type verdict int

const (
	plain   verdict = iota // it is inserted
	same                   // it stands there as it is
	leftOut                // it is not meant
	hard                   // it is left to others
	waits                  // it is inserted once members are there that it infers
)

// Shaped is what became of the source's rows that are not left to others, before they were judged.
type Shaped struct {
	Passed  int64   // rows that were judged
	Merged  int64   // of the rows that these were made of, how many more they were, where rows become one
	LeftOut []int64 // by the rules of the sources, from those of the one on that reads the rows
	Emptied []int64 // by the joins, in the same order: rows whose columns they have left empty
}

// empty adds the numbers of rows with columns that were left empty.
func (s *Shaped) empty(numbers [][]byte) {
	for k := range s.Emptied {
		s.Emptied[k] += count(numbers[k])
	}
}

// shaped has room for the rules and joins of the levels.
func (r *shaper) shaped() Shaped {
	return Shaped{LeftOut: make([]int64, r.rules()), Emptied: make([]int64, len(r.joins))}
}

// Read is how many rows of the source these are.
func (s *Shaped) Read() int64 {
	sum := s.Passed + s.Merged
	for _, n := range s.LeftOut {
		sum += n
	}
	return sum
}

// Counted is what became of the rows that are not left to others.
type Counted struct {
	Shaped
	Inserted, Same int64
	Waiting        int64            // rows among those inserted that wait for members
	Unmatched      []int64          // of each key, those of them that wait for its members
	Left           int64            // rows that are left to others
	Missing        []int64          // of each key, the rows that have none
	Empty          map[string]int64 // rows inserted without a value, by measure
	InsertedTotal  []exact.Int128   // of each exact measure
	SameTotal      []exact.Int128
	Booked         *int64 // the last day on which one of them is booked; nil if no column tells that
}

// Taken is how many rows stand in the table now, and are not left to others.
func (c *Counted) Taken() int64 { return c.Inserted + c.Same }

// New prepares the loading of a fact, whose source is the last of some levels: the first one reads the rows.
func New(f *schema.Fact, s *schema.Star, m *star.Model, from *source.Plain, levels []Level, step Step) *Rows {
	r := newRows(f, s, m, from, levels, step)
	r.merges(GrainColumns(f))
	return r
}

func newRows(f *schema.Fact, s *schema.Star, m *star.Model, from *source.Plain, levels []Level, step Step) *Rows {
	r := &Rows{judging: newJudging(f.Keys, s, m, from, levels, step), of: f}
	for _, g := range f.Grain {
		r.grain[g.Key] = true
	}
	r.open = map[*star.Key]bool{}
	for _, k := range f.Keys {
		r.open[k] = infers(k)
	}
	for _, measure := range f.Measures {
		if measure.Type.Exact() {
			r.measures = append(r.measures, measure)
		}
	}
	return r
}

// Take takes the rows from where they are and judges them. stands says whether the fact's table has rows. Most often each
// row has a grain of its own, which is found out first.
func (r *Rows) Take(ctx context.Context, stands bool) error {
	if _, _, err := r.judge(stands); err != nil { // what types of columns refuse
		return err
	}
	if err := r.sound(ctx); err != nil {
		return err
	}
	if err := r.gatherOthers(ctx); err != nil {
		return err
	}
	if err := r.plan(ctx, &r.judging); err != nil {
		return err
	}
	if err := r.gather(ctx); err != nil {
		return err
	}
	if err := r.lookAhead(ctx); err != nil {
		return err
	}
	for times := 1; ; times++ {
		enough, err := r.take(ctx, stands)
		if err != nil {
			return err
		}
		if enough {
			break
		}
		if times == mostTimes {
			return fmt.Errorf("the rows of source %s change all the time while they are read", r.source.Text)
		}
		if err := r.remove(ctx, &r.table); err != nil {
			return err
		}
	}
	if err := r.planned(ctx); err != nil { // what others ask is not of all rows
		return err
	}
	return r.findFirst(ctx)
}

// mostTimes is how often rows are judged at most.
const mostTimes = 5

// take judges the rows. It says false if they have to be judged again: the grain of one is not known, since it may be
// that of any other; or a table has got rows meanwhile, so that several have a grain of which there was one before.
func (r *Rows) take(ctx context.Context, stands bool) (enough bool, err error) {
	r.table = r.own("load_judged")
	sql, vague, err := r.judge(stands)
	if err != nil {
		return false, err
	}
	if err := r.create(ctx, r.table, sql); err != nil {
		return false, err
	}
	conditions := map[string]string{}
	if r.opens() != nil {
		conditions["waits"] = fmt.Sprintf("verdict = %d", waits)
	}
	if r.beside() {
		if conditions[repeats] = repeats; r.repeated != "" {
			conditions[repeats] += " and not " + markedColumn
		}
	}
	if vague {
		conditions[vagueColumn] = fmt.Sprintf("%s and verdict <> %d", vagueColumn, leftOut)
	}
	holds, err := r.engine.count(ctx, r.table, conditions)
	if err != nil {
		return false, err
	}
	if r.waits = holds["waits"]; r.all {
		return true, nil
	}
	if r.all = holds[vagueColumn]; r.all {
		return false, nil
	}
	found, err := r.lookBack(ctx, holds[repeats])
	return !found, err
}

// Count says what becomes of the rows.
func (r *Rows) Count(ctx context.Context) (*Counted, error) {
	c := &Counted{
		Shaped: r.shaped(), Empty: map[string]int64{},
		Missing: make([]int64, len(r.keys)), Unmatched: make([]int64, len(r.keys)),
		InsertedTotal: make([]exact.Int128, len(r.measures)), SameTotal: make([]exact.Int128, len(r.measures)),
	}
	parts := append([]string{r.become() + " AS verdict", "rule", "count(*)", r.size()}, r.emptied(len(r.levels))...)
	for _, m := range r.measures {
		mine := fmt.Sprintf("case when verdict <> %d then %s end", hard, quote(placed+m.Name)) // the others are added up elsewhere
		parts = append(parts, r.total(mine, m.Type))
	}
	for k := range r.keys {
		parts = append(parts, fmt.Sprintf("count(*) FILTER (WHERE missing%d)", k))
	}
	for _, m := range r.of.Measures {
		parts = append(parts, fmt.Sprintf("count(*) - count(%s)", quote(placed+m.Name)))
	}
	for _, k := range r.opens() {
		parts = append(parts, fmt.Sprintf("count(*) FILTER (WHERE open%d)", k))
	}
	if r.of.BookedOn != nil {
		parts = append(parts, "cast(max("+quote(placed+star.BookedOn)+") as varchar)")
	}
	sql := "SELECT " + strings.Join(parts, ", ") + " FROM " + r.numbered(r.table) + " GROUP BY 1, 2"
	if err := r.Statements.Ask(ctx, sql, func(values [][]byte) error { return r.note(c, values) }); err != nil {
		return nil, err
	}
	return c, r.leftOutParts(ctx, &c.Shaped)
}

func (r *Rows) note(c *Counted, values [][]byte) error {
	n := count(values[2])
	total := func(to []exact.Int128) error {
		for k, m := range r.measures {
			sum := column.Column{Type: column.Type{Kind: column.Decimal, Precision: exact.MaxDigits, Scale: m.Type.Scale}}
			sum.Resize(1)
			if parse.NewReader(nil).Set(&sum, 0, string(values[k])) != nil {
				return fmt.Errorf("the total of %s needs more than %d digits", m.Name, exact.MaxDigits)
			}
			to[k], _ = to[k].Add(sum.Exact(0))
		}
		return nil
	}
	is := verdict(count(values[0]))
	if is == hard {
		c.Left += n
		return nil
	}
	c.Merged += count(values[3]) - n
	if c.empty(values[4:]); is == leftOut {
		c.LeftOut[count(values[1])] += n
		return nil
	}
	c.Passed += n
	values = values[4+len(c.Emptied):]
	if r.of.BookedOn != nil {
		day := column.NewBatch([]column.Field{*r.of.BookedOn})
		day.Reset(1)
		if err := set(parse.NewReader(nil), &day.Cols[0], 0, values[len(values)-1]); err != nil {
			return err
		}
		if on := day.Cols[0].Int[0]; c.Booked == nil || *c.Booked < on {
			c.Booked = &on
		}
	}
	for k := range r.keys {
		c.Missing[k] += count(values[len(r.measures)+k])
	}
	if is == same {
		c.Same += n
		return total(c.SameTotal)
	}
	c.Inserted += n
	if is == waits {
		c.Waiting += n
		for i, k := range r.opens() {
			c.Unmatched[k] += count(values[len(r.measures)+len(r.keys)+len(r.of.Measures)+i])
		}
	}
	for k, m := range r.of.Measures {
		if empty := count(values[len(r.measures)+len(r.keys)+k]); empty > 0 {
			c.Empty[m.Name] += empty
		}
	}
	return total(c.InsertedTotal)
}

// count reads a number that the database has written.
func count(text []byte) int64 {
	n, _ := strconv.ParseInt(string(text), 10, 64)
	return n
}

// Insert adds the plain rows to the fact's table. If they are of one table, that has a number as files do, and so many
// lines at most; rows that have arrived say where they stood.
func (r *Rows) Insert(ctx context.Context, run, file, linesOfFile int64) (int64, error) {
	columns, values := r.inserted(run, file, linesOfFile, func(f field) string { return quote(placed + f.name) })
	query := fmt.Sprintf("SELECT %s FROM %s WHERE verdict = %d", strings.Join(values, ", "), r.numbered(r.table), plain)
	return r.Statements.Insert(ctx, r.of.Table, columns, query)
}

// inserted lists the columns of the fact's table, and what stands there of a judged row.
func (r *Rows) inserted(run, file, linesOfFile int64, value func(field) string) (columns, values []string) {
	for _, f := range r.fields {
		columns, values = append(columns, f.name), append(values, value(f))
	}
	at := fmt.Sprintf("%d + least(line, %d)", file*linesOfFile, linesOfFile-1)
	if r.arrived != nil {
		at = placeColumn
	}
	return append(columns, schema.LoadLine, schema.LoadRun), append(values, at, fmt.Sprint(run))
}

// Grains hands to row, of each row that stands in the table now, its number, or where it stood if it has arrived,
// whether it was inserted, and what the columns of its grain say, in the order of [Rows.GrainFields].
func (r *Rows) Grains(ctx context.Context, row func(at int64, inserted bool, grain [][]byte) error) error {
	parts := []string{"line", r.become()}
	if r.arrived != nil {
		parts[0] = placeColumn
	}
	for _, f := range r.GrainFields() {
		parts = append(parts, "cast("+quote(said+f.Name)+" as varchar)")
	}
	const standing = "SELECT %s FROM %s WHERE %s IN (%d, %d, %d)"
	sql := fmt.Sprintf(standing, strings.Join(parts, ", "), r.numbered(r.table), r.become(), plain, waits, same)
	return r.Statements.Ask(ctx, sql, func(values [][]byte) error {
		return row(count(values[0]), verdict(count(values[1])) != same, values[2:])
	})
}

// GrainFields lists the columns of the source that say the grain: those that stand there, and the natural keys of its
// keys.
func (r *Rows) GrainFields() []column.Field {
	fields := r.source.Shaped()
	var list []column.Field
	for _, name := range GrainColumns(r.of) {
		list = append(list, fields[column.Find(fields, name)])
	}
	return list
}

// GrainColumns are the names of [Rows.GrainFields].
func GrainColumns(f *schema.Fact) []string {
	var list []string
	for _, g := range f.Grain {
		if g.Key != nil {
			list = append(list, g.Key.By...)
		} else {
			list = append(list, g.Column)
		}
	}
	return list
}

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }
