package load

import (
	"context"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/inside"
	"ironmonger/internal/ledger"
	"ironmonger/internal/transform"
)

// united is the rows of several tables that the warehouse has judged one after the other.
type united struct {
	branches []*inside.Branch
	left     []int64          // rows of each that are left to the step
	first    map[string]int64 // by the name of a table, how many rows come before its own
	above    int              // rules of the sources that are made of them
	beside
}

// unite has the warehouse shape the rows of some branches, which the flow of the step would read, and returns them as
// rows that have arrived. apart are the columns that tell rows apart: known says whether it is known of all rows which
// is which. numbers are those of the tables by their names.
func (w *work) unite(
	ctx context.Context, flow *transform.Flow, branches []branch, apart []string, numbers map[string]int64,
) (u *united, of *inside.Arrived, known bool, err error) {
	names := flow.Names()
	var ends []func() error
	u = &united{first: map[string]int64{}}
	for n, b := range branches {
		w.shaped++
		part := inside.NewBranch(w.model, b.from, b.levels, apart, w.shaped, w.inStep())
		part.File = numbers[names[n]]
		joined, err := w.joinWithin(ctx, part, part.Levels())
		if err != nil {
			return nil, nil, false, err
		}
		u.branches, ends = append(u.branches, part), append(ends, joined)
	}
	w.tell(Progress{Step: w.name, Doing: "the warehouse shapes the rows"})
	of, known, err = inside.Gather(ctx, u.branches, flow.Fields(), ledger.Line(1, 0))
	if err != nil {
		return nil, nil, false, err
	}
	for n, b := range u.branches {
		u.first[names[n]] = b.First()
	}
	if err := callAll(ends); err != nil {
		return nil, nil, false, err
	}
	for _, level := range of.Above() {
		u.above += len(level.Source.LeaveOut)
	}
	return u, of, known, nil
}

// takeLeft has the step read what the warehouse leaves to it.
func (u *united) takeLeft(ctx context.Context, w *work, branches []branch, judged judged) error {
	for n, b := range u.branches {
		left, err := b.Left(ctx, judged)
		if err != nil {
			return err
		}
		u.left = append(u.left, left.Rows)
		w.give(branches[n].levels[0].Source, left)
	}
	return u.find(ctx, judged)
}

func (u *united) of(flow column.Source) column.Source { return u.pick(flow, u.number) }

// took counts what becomes of rows behind the union among those of its first branch.
func (u *united) took(w *work, of *inside.Shaped) {
	all := u.without(of)
	behind := inside.Shaped{Merged: all.Merged, LeftOut: all.LeftOut[len(all.LeftOut)-u.above:], Emptied: all.Emptied}
	for n, b := range u.branches {
		leftOut, emptied := slices.Concat(b.LeftOut, behind.LeftOut), append(make([]int64, b.Joins()), behind.Emptied...)
		w.flow.Took(n, b.Rows-u.left[n]-behind.Read(), behind.Merged, leftOut, emptied)
		behind = inside.Shaped{LeftOut: make([]int64, u.above), Emptied: make([]int64, len(all.Emptied))}
	}
}

func (u *united) leftOut() (sum int64) {
	for _, b := range u.branches {
		for _, n := range b.LeftOut {
			sum += n
		}
	}
	return sum
}

func (u *united) numbers(_ column.Piece, b *column.Batch, numbers []int64) []int64 {
	numbers = numbers[:0]
	for i := range b.From.Line {
		numbers = append(numbers, u.number(b, i))
	}
	return numbers
}

// number is the number of a row of a batch among those of all branches.
func (u *united) number(b *column.Batch, i int) int64 { return u.first[b.From.File] + b.From.Line[i] }

func (u *united) place(w *factStep) func(int64) (string, int64) { return filed(w) }

func (u *united) close(ctx context.Context) error { return dropAll(ctx, u.branches) }

// judgeUnited has the warehouse judge the rows of a fact that stand in several of its tables.
func (w *factStep) judgeUnited(ctx context.Context, branches []branch, why string) error {
	flow, err := w.openNumbered(ctx)
	if err != nil {
		return err
	}
	u, of, known, err := w.unite(ctx, flow, branches, inside.GrainColumns(w.fact), w.numbered.Number)
	if err != nil {
		return err
	}
	rows := inside.NewArrived(w.fact, w.star, w.model, of, w.inStep())
	joined, err := w.joinWithin(ctx, rows, of.Above())
	if err != nil {
		return err
	}
	if !known {
		rows.LeaveAll()
	}
	if err := w.judge(ctx, rows, u, why); err != nil {
		return err
	}
	if err := joined(); err != nil {
		return err
	}
	w.figures.Inside += u.leftOut()
	return u.takeLeft(ctx, w.work, branches, rows)
}
