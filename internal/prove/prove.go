// Package prove checks a loaded star against the rules, from its tables alone.
//
// It shares no code with loading: it reads every table once, in an order in which one row and the one before it tell
// what is wrong, and looks at each batch with all checks of that table. What it keeps is a register of each
// dimension's keys (about 30 bytes a row); facts pass by. With [Options.Sources], it reads the sources again too,
// and looks every row of theirs up in the facts.
package prove

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"os"
	"slices"
	"strings"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/exact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// States of a check.
const (
	Holds  = "holds"
	Broken = "broken"
	Warned = "warned"        // nothing is wrong yet, or perhaps something is
	Unseen = "not looked at" // something else kept it from being looked at
)

// Check is something that has to hold of a table.
type Check struct {
	Name    string  `json:"check"`
	Table   string  `json:"table"`
	Says    string  `json:"says"` // what is to hold
	State   string  `json:"state"`
	Looked  int64   `json:"looked_at"` // rows, or what Says speaks of
	Against int64   `json:"against"`   // how many speak against it
	Seconds float64 `json:"seconds"`
	Note    string  `json:"note,omitempty"`

	NotComparable int64 `json:"not_comparable,omitempty"` // rows that came from what the sources don't name any more

	Remedy   string    `json:"remedy,omitempty"` // what to do, where it is broken
	Examples []Example `json:"examples,omitempty"`

	level string // the state that a find makes
	took  time.Duration
}

// Example is a row that speaks against a check.
type Example struct {
	Row  string `json:"row"`           // named by its keys
	What string `json:"what"`          // is wrong with it
	At   string `json:"at,omitempty"`  // the file and line that it came from
	Run  int64  `json:"run,omitempty"` // that wrote it
}

// examples is how many rows are shown of each check.
const examples = 5

// against notes something that speaks against the check.
func (c *Check) against(example func() Example) {
	c.Against++
	c.State = c.level
	if len(c.Examples) < examples {
		c.Examples = append(c.Examples, example())
	}
}

// Names lists the checks with what they are about, in the order in which they are told.
func Names() [][2]string {
	return [][2]string{
		{"tables", "the tables exist and have the columns of the model"},
		{"values", "every value fits the type of its column, and required columns are not null"},
		{
			"keys",
			"the surrogate keys of a dimension are unique, and they were assigned",
		},
		{"members", "each natural key is one member with one current version"},
		{"versions", "the versions of a member cover all time without gaps or overlaps"},
		{"specials", "the special members exist and are unchanged"},
		{"calendar", "a date dimension has every day of its range once, and extends a year into the future"},
		{"hierarchy", "the parents, levels and closure tables of hierarchies are right"},
		{"references", "every key of a fact or a dimension has a member"},
		{"grain", "no two rows of a fact have the same grain"},
		{"entries", "where what was booked stays, entries have no gaps, and each second one reverses the one before it"},
		{"as_of", "a fact points to the version that is valid at its time"},
		{"milestones", "the keys and lags of milestones follow from their columns"},
		{"weights", "the weights of each list add up to 1"},
		{"balances", "balances follow from the period before and from what moved, and none is left out"},
		{"measures", "measures are exact numbers, not codes"},
		{"account", "a table has the rows and totals of its account in the ledger"},
		{"must_hold", "the conditions of the model hold"},
		{"derived", "a fact that is made of other tables of the star is what they say, row by row"},
		{
			"sources",
			"the star and its sources agree, row by row (with --against-sources)",
		},
	}
}

// Options are what a caller may choose.
type Options struct {
	Checks   []string  // their names; nil for all
	Today    time.Time // by which a calendar's end is judged
	Root     *os.Root  // the folder of the model, below which its sources are
	Sources  bool      // hold the star against its sources, too
	Complete bool      // what the sources don't name any more speaks against the star
	Watch    func(table string, rows int64)
}

// Report is what was found.
type Report struct {
	State  string   `json:"state"` // the worst of the checks
	Checks []*Check `json:"checks"`
}

// proof is a proof that is going on.
type proof struct {
	ctx       context.Context
	r         warehouse.Reader
	model     *star.Model
	star      *schema.Star
	opts      Options
	checks    []*Check
	registers map[*schema.Dimension]*register
	held      map[string]*holding // by table
	files     map[int64]string
	runs      []*ledger.Run
	rereads   bool          // sources are read again
	prior     *column.Batch // the last row of the batch before, of the table at hand
	seed      maphash.Seed
}

// holding is what a table holds.
type holding struct {
	rows   int64
	totals map[string]exact.Int128
}

// Run proves the star of a model as it is now.
func Run(ctx context.Context, wh warehouse.Warehouse, m *star.Model, opts Options) (*Report, error) {
	r, err := wh.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	p := &proof{
		ctx:       ctx,
		r:         r,
		model:     m,
		star:      schema.New(m),
		opts:      opts,
		registers: map[*schema.Dimension]*register{},
		held:      map[string]*holding{},
		seed:      maphash.MakeSeed(),
	}
	p.rereads = opts.Sources || p.wanted("derived") && slices.ContainsFunc(m.Facts, func(f *star.Fact) bool { return f.Source.InStar() })
	if there, err := r.Describe(ctx, ledger.Tables()[0].Name); err != nil {
		return nil, err
	} else if there == nil {
		return nil, ErrNothing
	}
	if p.files, err = ledger.FileNames(ctx, r); err != nil {
		return nil, err
	}
	if p.runs, err = ledger.Runs(ctx, r, 0); err != nil {
		return nil, err
	}
	p.runs = ledger.Lasting(p.runs)
	for _, d := range p.star.Dimensions {
		if err := p.dimension(d); err != nil {
			return nil, err
		}
	}
	for _, f := range p.star.Facts {
		if err := p.fact(f); err != nil {
			return nil, err
		}
	}
	if err := p.account(); err != nil {
		return nil, err
	}
	if err := p.againstSources(); err != nil {
		return nil, err
	}
	return p.report(), nil
}

// ErrNothing says that the warehouse has never been loaded.
var ErrNothing = errors.New("nothing has been loaded yet: ironmonger load")

// Known refuses names that are no checks.
func Known(checks []string) error {
	var names []string
	for _, n := range Names() {
		names = append(names, n[0])
	}
	for _, c := range checks {
		if !slices.Contains(names, c) {
			if near := diag.Nearest(c, names); near != "" {
				return fmt.Errorf("there is no check %s (did you mean %s?)", c, near)
			}
			return fmt.Errorf("there is no check %s (there is: %s)", c, strings.Join(names, ", "))
		}
	}
	return nil
}

func (p *proof) report() *Report {
	report := &Report{State: Holds, Checks: []*Check{}}
	for _, n := range Names() {
		for _, c := range p.checks {
			if c.Name != n[0] || !p.wanted(c.Name) {
				continue
			}
			c.Seconds = c.took.Seconds()
			report.Checks = append(report.Checks, c)
			if c.State == Broken || c.State == Unseen {
				report.State = Broken
			} else if c.State == Warned && report.State == Holds {
				report.State = Warned
			}
		}
	}
	return report
}

func (p *proof) wanted(name string) bool {
	return p.opts.Checks == nil || slices.Contains(p.opts.Checks, name)
}

// check opens a check of a table, which is broken by what speaks against it.
func (p *proof) check(name, table, says, remedy string) *Check {
	c := &Check{Name: name, Table: table, Says: says, Remedy: remedy, State: Holds, level: Broken}
	p.checks = append(p.checks, c)
	return c
}

// warning opens a check that only warns.
func (p *proof) warning(name, table, says, remedy string) *Check {
	c := p.check(name, table, says, remedy)
	c.level = Warned
	return c
}

// exam is a check that looks at the batches of a table, in order.
type exam struct {
	*Check
	look func(b *column.Batch)
	end  func() // after the last; may be nil
}

// scan reads a table once for its exams. A table that is not there, or is not what the model means, leaves them
// unseen, and so does a value that cannot be read.
func (p *proof) scan(t *warehouse.Table, order []string, exams []exam) error {
	unseen := func() {
		for _, e := range exams {
			if e.State == Holds {
				e.State = Unseen
			}
		}
	}
	there, err := p.tables(t)
	if err != nil || !there {
		unseen()
		return err
	}
	values := p.check(
		"values",
		t.Name,
		"every value fits the type of its column, and required columns are not null",
		"find the cause; correct the rows, or load the table again into an empty one",
	)
	held := &holding{totals: map[string]exact.Int128{}}
	p.held[t.Name] = held
	begin := time.Now()
	rows, err := p.r.Read(
		p.ctx,
		warehouse.Query{Table: t.Name, Fields: t.Fields(), Convert: t.Borrowed, OrderBy: order},
	)
	if err != nil {
		return err
	}
	defer rows.Close()
	b := column.NewBatch(t.Fields())
	p.prior = column.NewBatch(t.Fields())
	for {
		more, err := rows.Next(b)
		if err != nil && p.ctx.Err() != nil {
			return p.ctx.Err()
		}
		if err != nil { // the rest of the table can't be looked at
			values.against(
				func() Example { return Example{Row: fmt.Sprintf("after %d rows", values.Looked), What: err.Error()} },
			)
			unseen()
			delete(p.held, t.Name)
			return nil
		}
		if !more {
			break
		}
		held.rows += int64(b.N)
		values.Looked += int64(b.N)
		p.nulls(t, values, b)
		values.took += time.Since(begin)
		for _, e := range exams {
			begin = time.Now()
			e.Looked += int64(b.N)
			e.look(b)
			e.took += time.Since(begin)
		}
		begin = time.Now()
		p.prior.N = 1
		for k := range b.Cols {
			p.prior.Cols[k].Truncate(0)
			p.prior.Cols[k].Append(&b.Cols[k], b.N-1)
		}
		if p.opts.Watch != nil {
			p.opts.Watch(t.Name, held.rows)
		}
	}
	for _, e := range exams {
		if e.end != nil {
			e.end()
		}
	}
	return nil
}

// tables checks that a table is there with the columns that it should have.
func (p *proof) tables(t *warehouse.Table) (bool, error) {
	c := p.check(
		"tables",
		t.Name,
		"the table exists and has the columns of the model",
		"ironmonger load makes missing tables; a table with other columns was made by another model",
	)
	begin := time.Now()
	there, err := p.r.Describe(p.ctx, t.Name)
	c.took = time.Since(begin)
	if err != nil {
		return false, err
	}
	if there == nil {
		c.against(func() Example { return Example{Row: t.Name, What: "there is no such table"} })
		return false, nil
	}
	c.Looked = int64(len(t.Columns))
	for _, f := range t.Fields() {
		if !there.Has(f.Name) {
			c.against(func() Example { return Example{Row: t.Name, What: "there is no column " + f.Name} })
		}
	}
	return c.State == Holds, nil
}

func (p *proof) nulls(t *warehouse.Table, c *Check, b *column.Batch) {
	for k, col := range t.Columns {
		if !col.NotNull {
			continue
		}
		for i := range b.N {
			if b.Cols[k].Null[i] {
				c.against(func() Example { return p.example(t, b, i, col.Name+" is null") })
			}
		}
	}
}

// example names a row of a table by its keys.
func (p *proof) example(t *warehouse.Table, b *column.Batch, i int, what string) Example {
	e := Example{What: what}
	fields := t.Fields()
	value := func(name string) string {
		k := column.Find(fields, name)
		if b.Cols[k].Null[i] {
			return "null"
		}
		return b.Cols[k].Value(i)
	}
	var parts []string
	for _, name := range append(slices.Clone(t.Primary), t.Unique...) {
		parts = append(parts, name+" "+value(name))
	}
	if len(parts) == 0 {
		parts = append(parts, fields[0].Name+" "+value(fields[0].Name))
	}
	e.Row = diag.Clip(diag.Printable(strings.Join(parts, ", ")), 100)
	if k := column.Find(fields, schema.LoadRun); k >= 0 && !b.Cols[k].Null[i] {
		e.Run = b.Cols[k].Int[i]
	}
	if k := column.Find(fields, schema.LoadLine); k >= 0 && !b.Cols[k].Null[i] {
		file, line := ledger.FileAndLine(b.Cols[k].Int[i])
		if name, ok := p.files[file]; ok {
			e.At = diag.Place{File: name, Line: int(line)}.String()
		}
	}
	return e
}
