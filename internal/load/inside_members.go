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
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
)

// apart is what a step that loads a dimension does inside the warehouse.
type apart struct {
	members   *inside.Members
	became    *inside.Became
	delivered *inside.Delivered // nil where no delivery of all tells who is gone
	origin    origin
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

// judgeMembers has the warehouse judge the rows of a dimension that stand in it.
func (w *work) judgeMembers(ctx context.Context, b branch, why string) error {
	stands, err := w.apartly(ctx)
	if err != nil || stands == nil {
		return err
	}
	members := inside.NewMembers(w.step.dimension, w.star, w.model, b.from, b.levels, w.inStep(), *stands)
	joined, err := w.joinWithin(ctx, members, b.levels)
	if err != nil {
		return err
	}
	from := &oneTable{}
	if err := w.divide(ctx, members, from, why); err != nil {
		return err
	}
	if err := joined(); err != nil || w.apart == nil {
		return err
	}
	return from.takeLeft(ctx, w, members)
}

// sendWithin sends the rows of a dimension to the warehouse, which judges them there.
func (w *dimensionStep) sendWithin(ctx context.Context) error {
	if err := inside.CheckMembers(w.model, w.dimension.Dimension); err != nil {
		return err
	}
	stands, err := w.apartly(ctx)
	if err != nil || stands == nil {
		return err
	}
	flow, err := transform.Open(ctx, w.chosen, w.kind.source(), w.needs)
	if err != nil {
		return err
	}
	of, a, err := w.send(ctx, flow, func(*column.Batch) (file int64, ours bool) { return 0, false })
	if err != nil {
		return err
	}
	members := inside.NewArrivedMembers(w.dimension, w.star, w.model, of, w.inStep(), *stands)
	if err := w.divide(ctx, members, a, asSaid); err != nil {
		return err
	}
	if w.apart == nil {
		return a.close(ctx)
	}
	return members.Numbers(ctx, a.left.add)
}

// judgeMembersUnited has the warehouse judge the rows of a dimension that stand in several of its tables.
func (w *work) judgeMembersUnited(ctx context.Context, branches []branch, why string) error {
	stands, err := w.apartly(ctx)
	if err != nil || stands == nil {
		return err
	}
	flow, err := transform.Open(ctx, w.chosen, w.kind.source(), w.needs)
	if err != nil {
		return err
	}
	d := w.step.dimension
	u, of, known, err := w.unite(ctx, flow, branches, d.Delivered, nil)
	if err != nil {
		return err
	}
	if !known {
		why := inside.KeyNotSure
		if d.Source.Merges() {
			why = inside.PartsNotSure
		}
		w.noteExecution(star.InProcess, why)
		return u.close(ctx)
	}
	members := inside.NewArrivedMembers(d, w.star, w.model, of, w.inStep(), *stands)
	joined, err := w.joinWithin(ctx, members, of.Above())
	if err != nil {
		return err
	}
	if err := w.divide(ctx, members, u, why); err != nil {
		return err
	}
	if err := joined(); err != nil {
		return err
	}
	if w.apart == nil {
		return u.close(ctx)
	}
	return u.takeLeft(ctx, w, branches, members)
}

// apartly reports whether the step's dimension has members before the warehouse makes some; nil if it must not.
func (w *work) apartly(ctx context.Context) (stands *bool, err error) {
	if w.remake != nil {
		w.noteExecution(star.InProcess, "members of a star that is made anew keep their keys")
		return nil, nil
	}
	before, err := w.tx.Tally(ctx, w.step.dimension.Table.Name, nil)
	has := before.Rows > 0
	return &has, err
}

// divide has the warehouse judge rows of a dimension, and find out what becomes of those that it takes. If all are better left to
// the step, it says why.
func (w *work) divide(ctx context.Context, members *inside.Members, from origin, why string) error {
	w.tell(Progress{Step: w.name, Doing: "the warehouse judges the rows"})
	all, err := members.Take(ctx)
	if err != nil {
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
	a := &apart{members, became, delivered, from}
	if a.absent() > members.Most() {
		w.noteExecution(star.InProcess, "more than "+humanize.Comma(members.Most())+" members are not delivered any more")
		return members.Drop(ctx)
	}
	w.noteExecution(star.InWarehouse, why)
	w.apart = a
	return nil
}

// numbers are the numbers of the rows of a batch among all, which was filled from a piece.
func (a *apart) numbers(p column.Piece, b *column.Batch, before []int64) []int64 {
	if a == nil {
		return nil
	}
	return a.origin.numbers(p, b, before)
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
	w.figures.Inside += a.origin.leftOut()
	a.origin.took(w.work, &b.Shaped)
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
	if err := a.origin.close(ctx); err != nil {
		return err
	}
	return a.members.Drop(ctx)
}
