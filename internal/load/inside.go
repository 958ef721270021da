package load

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/expr"
	"ironmonger/internal/fact"
	"ironmonger/internal/inside"
	"ironmonger/internal/ledger"
	"ironmonger/internal/parse"
	"ironmonger/internal/resolve"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
	"ironmonger/internal/warehouse"
)

// within is what a step does inside the warehouse.
type within struct {
	rows    *inside.Rows
	counted *inside.Counted
	before  warehouse.Tally // of the fact's table, of its exact measures
	origin  origin
}

// openWithin has the warehouse judge the rows of the step, where the model or their number says so. What is left of them is
// read as other rows are.
func (w *work) openWithin(ctx context.Context) error {
	if w.tx.Statements() == nil { // such as in a rehearsal
		return nil
	}
	var said star.Execution
	demanded := false
	if f := w.step.fact; f != nil {
		said, _ = w.model.Execution(f.Fact)
		demanded = said != ""
	} else {
		said, _, demanded = w.model.ExecutionOf(w.step.dimension.Dimension)
	}
	if !inside.Stands(w.model, w.kind.source()) {
		if !demanded || said != star.InWarehouse {
			return nil
		}
		switch k := w.kind.(type) {
		case *factStep:
			return k.sendWithin(ctx)
		case *dimensionStep:
			return k.sendWithin(ctx)
		}
		return nil
	}
	if said == star.InProcess {
		w.noteExecution(said, asSaid)
		return nil
	}
	err := w.takeWithin(ctx, said)
	var refused *expr.NoSQL
	if !demanded && errors.As(err, &refused) {
		w.noteExecution(star.InProcess, err.Error())
		return nil
	}
	return err
}

// asSaid is why a step is executed where the model says it.
const asSaid = "as it was said"

// takeWithin is openWithin for a step that is said to be executed in the warehouse, or of which nothing is said.
func (w *work) takeWithin(ctx context.Context, said star.Execution) error {
	var err error
	if f := w.step.fact; f != nil {
		err = inside.Check(w.model, f.Fact)
	} else {
		err = inside.CheckMembers(w.model, w.step.dimension.Dimension)
	}
	if err != nil {
		return err
	}
	var branches []branch
	for _, levels := range branchesOf(w.kind.source(), w.needs) {
		from, err := w.plain(ctx, levels)
		if err != nil {
			return err
		}
		branches = append(branches, branch{levels, from})
	}
	where, why := said, asSaid
	if said == "" {
		if where, why, err = w.suggests(ctx, branches); err != nil {
			return err
		}
	}
	if where == star.InProcess {
		w.noteExecution(where, why)
		return nil
	}
	switch facts := w.step.fact != nil; {
	case facts && len(branches) > 1:
		return w.kind.(*factStep).judgeUnited(ctx, branches, why)
	case facts:
		return w.judgeFacts(ctx, branches[0], why)
	case len(branches) > 1:
		return w.judgeMembersUnited(ctx, branches, why)
	}
	return w.judgeMembers(ctx, branches[0], why)
}

// branch is a table that stands in the warehouse, as the first of some levels reads it: each is made of the one before it, and
// the last one is the source of the step. If one of them is a union, there is a branch of each of its sources.
type branch struct {
	levels []inside.Level
	from   *source.Plain
}

// judgeFacts has the warehouse judge the rows of a fact that stand in it.
func (w *work) judgeFacts(ctx context.Context, b branch, why string) error {
	rows := inside.New(w.fact, w.star, w.model, b.from, b.levels, w.inStep())
	joined, err := w.joinWithin(ctx, rows, b.levels)
	if err != nil {
		return err
	}
	from := &oneTable{}
	if err := w.judge(ctx, rows, from, why); err != nil {
		return err
	}
	if err := joined(); err != nil {
		return err
	}
	return from.takeLeft(ctx, w, rows)
}

// judge has the warehouse judge rows of a fact.
func (w *work) judge(ctx context.Context, rows *inside.Rows, from origin, why string) error {
	w.tell(Progress{Step: w.name, Doing: "the warehouse judges the rows"})
	before, err := w.tx.Tally(ctx, w.fact.Table.Name, w.kind.target().measures)
	if err != nil {
		return err
	}
	if err := rows.Take(ctx, before.Rows > 0); err != nil {
		return err
	}
	w.noteExecution(star.InWarehouse, why)
	counted, err := rows.Count(ctx)
	if err != nil {
		return err
	}
	w.within = &within{rows, counted, before, from}
	w.figures.Inside = counted.Read()
	if !w.fact.Source.Merges() { // else there are none before all others are read
		w.figures.Read += counted.Taken() // also if the step fails later
	}
	return nil
}

// nth is the number of the step among all.
func (w *work) nth() int { return slices.Index(w.steps, w.step) + 1 }

// inStep is the step as the warehouse has to know it.
func (w *work) inStep() inside.Step {
	s := inside.Step{Statements: w.tx.Statements(), Number: w.nth(), Day: w.entry.Day()}
	if f, ok := w.kind.(*factStep); ok {
		s.Workdays = func(l *star.Lag) (int64, []int64) { return f.days[l].First, f.days[l].Numbers }
	}
	return s
}

// branchesOf lists, for each table that is read, the source that reads it, and those that are made of it up to a source, with the
// columns that are needed if some are wanted at the end.
func branchesOf(s *star.Source, want func(column string) bool) (branches [][]inside.Level) {
	level := inside.Level{Source: s, Need: transform.Needed(s, want)}
	below := s.Union
	if s.From != nil {
		below = []*star.Source{s.From}
	}
	if below == nil {
		return [][]inside.Level{{level}}
	}
	for _, o := range below {
		for _, levels := range branchesOf(o, transform.Below(s, want)) {
			branches = append(branches, append(levels, level))
		}
	}
	return branches
}

// plain is the select of the rows as the first of some levels has them.
func (w *work) plain(ctx context.Context, levels []inside.Level) (*source.Plain, error) {
	return w.chosen.Plain(ctx, levels[0].Source, levels[0].Need)
}

// give has the step read rows in place of those of a table.
func (w *work) give(s *star.Source, left *inside.Left) {
	w.spilled = append(w.spilled, left)
	w.chosen = w.chosen.Giving(s, left)
}

// noteExecution says where a step is executed, and why, where nothing is written.
func (w *work) noteExecution(where star.Execution, why string) {
	if w.dry != nil {
		w.figures.Notes = append(w.figures.Notes, "executed "+strings.ReplaceAll(string(where), "_", " ")+": "+why)
	}
}

// manyFar is how many rows of a table on other machines the warehouse loads rather than the program: to send them through
// the network takes longer than to judge them there.
const manyFar = 1_000_000

// suggests says where the rows of a fact are better loaded of which nothing is said, and why.
func (w *work) suggests(ctx context.Context, branches []branch) (where star.Execution, why string, err error) {
	run, rows := w.tx.Statements(), int64(0)
	for _, b := range branches {
		n, err := run.Estimate(ctx, b.from.SQL)
		if err != nil {
			return "", "", err
		}
		rows += n
	}
	switch about := humanize.Comma(rows); {
	case run.Near():
		return star.InProcess, "the warehouse is on this machine, where the program is faster", nil
	case rows < manyFar:
		return star.InProcess, "there are only about " + about + " rows", nil
	default:
		return star.InWarehouse, "there are about " + about + " rows, which would leave the warehouse to be loaded by the program", nil
	}
}

// open has the rows that are left looked up in the table if they are few beside those that stand there. None of the
// others has the grain of one of them, so it makes no difference that these are inserted later.
func (in *within) open(writer *fact.Writer) {
	if in == nil {
		return
	}
	writer.Beside(in.rows)
	if day := in.counted.Booked; day != nil {
		writer.Booked(*day)
	}
	if in.counted.Left*scanned < in.before.Rows {
		writer.LookUp(in.before)
	}
}

// insert has the warehouse insert the plain rows once the writer has finished with those that were left, adds what it has
// done to what became of them, and checks the table as the writer does (rule R20).
func (in *within) insert(ctx context.Context, w *factStep, writer *fact.Writer, files *fact.Files, account *sums) error {
	if in == nil {
		return nil
	}
	c, o, file := in.counted, &writer.Outcome, int64(0)
	if len(w.files) > 0 {
		file = files.Number[w.files[0]]
	}
	if w.fact.Source.Merges() {
		w.figures.Read += c.Taken()
	}
	inserted, err := in.rows.Insert(ctx, w.entry.ID, file, ledger.Line(1, 0))
	if err != nil {
		return err
	}
	waited, err := in.rows.InsertWaiting(ctx, w.entry.ID, file, ledger.Line(1, 0))
	if err != nil {
		return err
	}
	if inserted += waited; inserted != c.Inserted {
		return fmt.Errorf("the account does not hold: the warehouse counted %d rows to be inserted, and inserted %d", c.Inserted, inserted)
	}
	for k := range w.keys {
		w.keys[k].Missing += c.Missing[k]
		w.keys[k].Matched += c.Inserted + c.Same - c.Missing[k]
		if n, d := c.Unmatched[k], w.links[k].Dimension; n > 0 && !d.Junk && d.Calendar == nil {
			w.keys[k].Matched, w.keys[k].Unmatched = w.keys[k].Matched-n, w.keys[k].Unmatched+n
			if err := in.strays(ctx, w, k); err != nil {
				return err
			}
		}
	}
	in.origin.took(w.work, &c.Shaped)
	o.Inserted, o.Same = o.Inserted+c.Inserted, o.Same+c.Same
	add := func(to []exact.Int128, sums []exact.Int128) {
		for k := range sums {
			to[k], _ = to[k].Add(sums[k])
		}
	}
	add(o.InsertedTotal, c.InsertedTotal)
	add(o.SameSum, c.SameTotal)
	add(account.read, c.InsertedTotal)
	add(account.read, c.SameTotal)
	for name, n := range c.Empty {
		o.Empty[name] += n
	}
	return writer.Check(ctx, w.tx, in.before)
}

// strays counts the rows that have waited for members of a key among those that had none. Their first rows were counted
// before.
func (in *within) strays(ctx context.Context, w *factStep, k int) error {
	l, fields := w.links[k], []column.Field(nil)
	for _, name := range l.By {
		fields = append(fields, w.fields[column.Find(w.fields, name)])
	}
	one, reader := column.NewBatch(fields), parse.NewReader(w.model.Zone)
	one.Reset(1)
	return in.rows.Strays(ctx, k, func(natural [][]byte, rows int64) error {
		for n, v := range natural {
			if err := reader.Set(&one.Cols[n], 0, string(v)); err != nil {
				return err
			}
		}
		if found := w.strays[strayID{int32(k), false, resolve.Natural(column.Pointers(one.Cols), 0)}]; found != nil {
			found.Rows += rows
		}
		return nil
	})
}

// supersede tells the book which grains stand in the table now, as [factStep.supersede] does.
func (in *within) supersede(ctx context.Context, w *factStep) error {
	if in == nil || !w.aside.book.Waits() {
		return nil
	}
	fields := in.rows.GrainFields()
	one, reader := column.NewBatch(fields), parse.NewReader(w.model.Zone)
	one.Reset(1)
	grain, placeOf := column.Pointers(one.Cols), in.origin.place(w)
	return in.rows.Grains(ctx, func(at int64, inserted bool, values [][]byte) error {
		for k, v := range values {
			if v == nil {
				one.Cols[k].SetNull(0)
			} else if err := reader.Set(&one.Cols[k], 0, string(v)); err != nil {
				return err
			}
		}
		if whole(grain, 0) {
			from, line := placeOf(at)
			w.aside.book.Loaded(ledger.Grain(grain, 0), inserted, func(a *ledger.Aside) bool { return w.outdoes(from, line, a) })
		}
		return nil
	})
}

// close removes what the step has made for itself.
func (in *within) close(ctx context.Context) error {
	if in == nil {
		return nil
	}
	if err := in.origin.close(ctx); err != nil {
		return err
	}
	return in.rows.Drop(ctx)
}
