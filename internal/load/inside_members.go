package load

import (
	"context"
	"fmt"

	"github.com/dustin/go-humanize"

	"ironmonger/internal/column"
	"ironmonger/internal/dimension"
	"ironmonger/internal/inside"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
)

// apart is what a step that loads a dimension does inside the warehouse.
type apart struct {
	members   *inside.Members
	became    *inside.Became
	delivered *inside.Delivered // nil where no delivery of all tells who is gone
}

// absent is how many members stand of which the warehouse has met no row.
func (a *apart) absent() int64 {
	if a == nil || a.delivered == nil {
		return 0
	}
	return int64(a.delivered.Absent.N)
}

// want adds the members that the warehouse has met no row of to those that are wanted. It says no if these are too many.
func (a *apart) want(of *roster.Wanted, d *schema.Dimension) bool {
	if a.absent() == 0 {
		return true
	}
	b := a.delivered.Absent
	return of.Add(column.Pointers(b.Cols[len(b.Cols)-len(d.NaturalKey):]), b.N)
}

// open tells a feed what the warehouse does.
func (a *apart) open(feed *dimension.Feed) {
	if a == nil {
		return
	}
	feed.Among(a.members)
	if d := a.delivered; d != nil {
		feed.Beside(d.Scopes, d.Members, d.Absent)
	}
}

// judgeMembers has the warehouse judge the rows of a dimension.
func (w *work) judgeMembers(ctx context.Context, from *source.Plain, levels []inside.Level, why string) error {
	d := w.step.dimension
	if w.remake != nil {
		w.noteExecution(star.InProcess, "members of a star that is made anew keep their keys")
		return nil
	}
	before, err := w.tx.Tally(ctx, d.Table.Name, nil)
	if err != nil {
		return err
	}
	members := inside.NewMembers(d, w.star, w.model, from, levels, w.inStep(), before.Rows > 0)
	joined, err := w.joinWithin(ctx, members, levels)
	if err != nil {
		return err
	}
	all, err := members.Take(ctx)
	if err != nil {
		return err
	}
	if err := joined(); err != nil {
		return err
	}
	if all != "" {
		w.noteExecution(star.InProcess, all)
		return members.Drop(ctx)
	}
	became, err := members.Count(ctx)
	if err != nil {
		return err
	}
	if became.Left > members.Most() {
		w.noteExecution(star.InProcess, humanize.Comma(became.Left)+" rows need a second look, or change members")
		return members.Drop(ctx)
	}
	delivered, err := members.Delivered(ctx)
	if err != nil {
		return err
	}
	a := &apart{members, became, delivered}
	if a.absent() > members.Most() {
		w.noteExecution(star.InProcess, "more than "+humanize.Comma(members.Most())+" members are not delivered any more")
		return members.Drop(ctx)
	}
	w.noteExecution(star.InWarehouse, why)
	w.apart = a
	return w.takeLeft(ctx, members.Left)
}

// insert has the warehouse write its members once those of the program have their keys, and counts what became of their rows.
func (a *apart) insert(ctx context.Context, w *dimensionStep, feed *dimension.Feed) error {
	if a == nil {
		return nil
	}
	b, keys := a.became, feed.Keys()
	added, err := a.members.Insert(ctx, w.entry.ID, inside.Keys{First: keys.First, Step: keys.Step, Others: keys.Own})
	if err != nil {
		return err
	}
	if added != b.New+b.Versions {
		return fmt.Errorf("the account does not hold: the warehouse counted %d versions to be inserted, and inserted %d", b.New+b.Versions, added)
	}
	feed.Wrote(added)
	w.figures.Read += b.Taken
	w.figures.Inside = b.Read()
	for k := range w.keys {
		w.keys[k].Missing += b.Missing[k]
		w.keys[k].Matched += b.Taken - b.Missing[k]
	}
	w.flow.Took(b.Passed, b.Passed-b.Taken, b.LeftOut, b.Emptied)
	c := &feed.Counts
	c.New, c.Versions, c.Changed = c.New+b.New, c.Versions+b.Versions, c.Changed+b.Changed
	c.Conflicts += b.Conflicts
	c.Same += b.Taken - b.New - b.Versions - b.Changed - b.Conflicts
	feed.Differ(b.Attributes)
	for did, list := range b.Examples {
		for _, e := range list {
			feed.Exemplify(did, e.Line, e.Name)
		}
	}
	w.finish = append(w.finish, func() { w.forget(w.dimension.Dimension) }) // the roster knows nothing of them
	return a.members.Drop(ctx)
}
