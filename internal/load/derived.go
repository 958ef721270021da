package load

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"ironmonger/internal/ledger"
	"ironmonger/internal/source"
	"ironmonger/internal/standing"
	"ironmonger/internal/star"
)

// derived is what decides what a fact is that is made of tables of the star alone: they are like a file that was read,
// which is changed by the runs that change the tables. As long as no run has, nothing is read. Where the fact adds up
// rows of another one, and that one has only got rows since, these are added to the sums that stand.
type derived struct {
	base  *star.Fact // the fact whose rows it adds up; nil if it is made in another way, or rows that came since are not enough
	now   ledger.ReadFile
	grown *standing.Grown // nil if all rows are read
}

// readDerived decides what the step reads of the star.
func (w *factStep) readDerived(ctx context.Context) (*source.Inputs, error) {
	rollup := w.fact.Rollup()
	d := &derived{}
	if w.derived = d; rollup != nil {
		d.base = rollup.Base
	}
	r := &reading{started: time.Now()}
	if err := w.dependsOn(ctx, r, nil, nil); err != nil {
		return nil, err
	}
	d.now = ledger.ReadFile{Source: w.fact.Source.Text, File: w.fact.Source.Stands()[0].String(), DependsOn: r.depends}
	if rollup != nil {
		runs, err := ledger.ChangedBy(ctx, w.tx, []string{w.tableOf(rollup.Base)})
		if err != nil {
			return nil, err
		}
		d.now.Changed = strconv.FormatInt(runs[0], 10)
	}
	if w.opts.Again || w.all || w.made || slices.Contains(w.opts.Accept, noun(w.name)) || w.seesForeign() {
		return w.inputs, nil
	}
	known, err := ledger.ReadFiles(ctx, w.tx, w.name)
	if err != nil || len(known) != 1 || known[0].Again || known[0].DependsOn != d.now.DependsOn {
		return w.inputs, err
	}
	found, err := w.tx.Tally(ctx, w.fact.Table.Name, w.kind.target().measures)
	if err != nil || len(w.book.Against(found)) > 0 { // something else has changed the table
		return w.inputs, err
	}
	if known[0] == d.now {
		w.figures.Unread = 1
		return nil, nil
	}
	since, err := strconv.ParseInt(known[0].Changed, 10, 64)
	if err == nil && rollup != nil {
		d.grown, err = w.grownSince(ctx, rollup, since)
	}
	return w.inputs, err
}

// mostRuns is how many runs back the sums of a fact may be that are added to.
const mostRuns = 100

// grownSince returns the rows that the base of a fact has got since a run, if it is only that: no row was changed,
// taken out, or pointed to another member. Too many rows are as well read with all others.
func (w *factStep) grownSince(ctx context.Context, of *star.Rollup, since int64) (*standing.Grown, error) {
	runs, err := ledger.Runs(ctx, w.tx, mostRuns)
	if err != nil {
		return nil, err
	}
	g, whole := &standing.Grown{Rollup: of}, false
	name, table := "fact "+of.Base.Text, w.tableOf(of.Base)
	rows := int64(0) // of the base
	for _, run := range runs {
		if whole = run.ID <= since; whole {
			break
		}
		for _, s := range run.Steps {
			f := &s.Figures
			switch {
			case s.State != ledger.Done:
			case run.State == ledger.Undone, f.Met[table] > 0:
				return nil, nil
			case s.Name == name && !onlyGrew(f):
				return nil, nil
			case s.Name == name:
				rows = max(rows, f.Table)
				if f.Inserted > 0 {
					g.Runs, g.Rows = append(g.Runs, run.ID), g.Rows+f.Inserted
				}
			}
		}
	}
	if !whole || g.Rows == 0 || g.Rows > rows/2 {
		return nil, nil
	}
	note := fmt.Sprintf("the %d rows that fact %s has got are added to the sums that stand", g.Rows, of.Base.Text)
	w.figures.Notes = append(w.figures.Notes, note)
	return g, nil
}

// onlyGrew reports whether a step of a fact did nothing but add rows.
func onlyGrew(f *ledger.Figures) bool {
	return f.Changed+f.Gone+f.Back+f.Removed+f.Reversed+f.Kept == 0 && len(f.Settled) == 0 && len(f.Met) == 0 && len(f.Differs) == 0 &&
		len(f.Accepted) == 0
}

// tableOf names the table of a fact of the model.
func (w *factStep) tableOf(of *star.Fact) string {
	for _, f := range w.star.Facts {
		if f.Fact == of {
			return f.Table.Name
		}
	}
	return ""
}

// keepDerived writes down of what the fact is made. Rows that were set aside are tried again.
func (w *work) keepDerived(ctx context.Context) error {
	if w.derived == nil {
		return nil
	}
	w.derived.now.Again = w.figures.SetAside > 0 || len(w.figures.Differs) > 0
	return ledger.KeepReadFiles(ctx, w.tx, w.name, []ledger.ReadFile{w.derived.now}, nil, w.entry.ID)
}

// others turns the error that a fact has other rows than it was said to have got into that of a step that reads all.
func others(err error) error {
	if errors.Is(err, standing.ErrOthers) {
		return errAll
	}
	return err
}
