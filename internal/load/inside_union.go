package load

import (
	"context"

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
}

// unite has the warehouse shape the rows of some branches, which the flow of the step would read, and returns them as
// rows that have arrived. told are the columns that tell rows apart: known says whether they are known of all rows.
// numbers are those of the tables by their names.
func (w *work) unite(
	ctx context.Context, flow *transform.Flow, branches []branch, told []string, numbers map[string]int64,
) (u *united, of *inside.Arrived, known bool, err error) {
	names := flow.Names()
	var after []func() error
	u = &united{first: map[string]int64{}}
	for n, b := range branches {
		part := inside.NewBranch(w.model, b.from, b.levels, n, w.inStep())
		part.File = numbers[names[n]]
		joined, err := w.joinWithin(ctx, part, b.levels)
		if err != nil {
			return nil, nil, false, err
		}
		u.branches, after = append(u.branches, part), append(after, joined)
	}
	w.tell(Progress{Step: w.name, Doing: "the warehouse shapes the rows"})
	of, known, err = inside.Gather(ctx, u.branches, flow.Fields(), told, ledger.Line(1, 0))
	if err != nil {
		return nil, nil, false, err
	}
	for n, b := range u.branches {
		u.first[names[n]] = b.First()
		if err := after[n](); err != nil {
			return nil, nil, false, err
		}
	}
	return u, of, known, nil
}

// takeLeft has the step read what the warehouse leaves to it.
func (u *united) takeLeft(ctx context.Context, w *work, branches []branch, judged inside.Judged) error {
	for n, b := range u.branches {
		left, err := b.Left(ctx, judged)
		if err != nil {
			return err
		}
		u.left = append(u.left, left.Rows)
		w.give(branches[n].levels[0].Source, left)
	}
	return nil
}

func (u *united) of(flow column.Source) column.Source { return flow }

func (u *united) took(w *work, _ *inside.Shaped) {
	for n, b := range u.branches {
		w.flow.Took(n, b.Rows-u.left[n], 0, b.LeftOut, make([]int64, b.Joins()))
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
	first := u.first[b.From.File]
	numbers = numbers[:0]
	for _, line := range b.From.Line {
		numbers = append(numbers, first+line)
	}
	return numbers
}

func (u *united) place(w *factStep) func(int64) (string, int64) { return filed(w) }

func (u *united) close(ctx context.Context) error {
	for _, b := range u.branches {
		if err := b.Drop(ctx); err != nil {
			return err
		}
	}
	return nil
}

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
	if !known {
		rows.LeaveAll()
	}
	if err := w.judge(ctx, rows, u, why); err != nil {
		return err
	}
	w.figures.Inside += u.leftOut()
	return u.takeLeft(ctx, w.work, branches, rows)
}
