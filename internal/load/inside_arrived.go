package load

import (
	"context"
	"fmt"
	"iter"

	"ironmonger/internal/column"
	"ironmonger/internal/inside"
	"ironmonger/internal/ledger"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/transform"
	"ironmonger/internal/warehouse"
)

// arrived is the rows of a step that were sent to the warehouse. The step reads them once more, since they stand in
// files, and takes those that the warehouse has left to it.
type arrived struct {
	before []int64 // rows before each piece; and how many there are
	left   bits    // by the numbers of rows, those that the step takes
	stage  warehouse.Stage
}

// bits is a set of numbers.
type bits []uint64

func (b bits) has(n int64) bool { return n/64 < int64(len(b)) && b[n/64]&(1<<(n%64)) != 0 }

func (b *bits) add(n int64) {
	for int64(len(*b)) <= n/64 {
		*b = append(*b, 0)
	}
	(*b)[n/64] |= 1 << (n % 64)
}

func (a *arrived) numbers(p column.Piece, _ *column.Batch, numbers []int64) []int64 {
	numbers = numbers[:0]
	if outer, ok := p.(numberedPiece); ok { // whose keys were looked up beforehand
		p = outer.Piece
	}
	all := p.(remainingPiece)
	for n := all.first; n < all.behind; n++ {
		if all.left.has(n) {
			numbers = append(numbers, n)
		}
	}
	return numbers
}

func (a *arrived) took(*work, *inside.Shaped) {} // they were read

func (a *arrived) leftOut() int64 { return 0 }

func (a *arrived) place(w *factStep) func(int64) (string, int64) { return filed(w) }

func (a *arrived) close(context.Context) error { return a.stage.Close() }

func (a *arrived) of(flow column.Source) column.Source {
	return remaining{numbered{flow, a.before}, a.left}
}

// remaining is some of the rows of a source that was read before.
type remaining struct {
	numbered
	left bits
}

func (s remaining) Pieces(ctx context.Context) iter.Seq2[column.Piece, error] {
	return column.Wrapped(s.numbered.Pieces(ctx), func(p column.Piece) column.Piece {
		return remainingPiece{p.(numberedPiece), s.left}
	})
}

type remainingPiece struct {
	numberedPiece
	left bits
}

func (p remainingPiece) Fill(b *column.Batch) error {
	err := p.numberedPiece.Fill(b)
	if err == nil {
		b.Keep(func(i int) bool { return p.left.has(p.first + int64(i)) })
	}
	return err
}

// openNumbered opens the source of a fact whose files, or tables, are to have their numbers.
func (w *factStep) openNumbered(ctx context.Context) (*transform.Flow, error) {
	flow, err := transform.Open(ctx, w.chosen, w.kind.source(), w.needs)
	if err != nil {
		return nil, err
	}
	w.files = flow.Names()
	return flow, w.numberFiles(ctx)
}

// sendWithin sends the rows of a fact to the warehouse, which judges them there.
func (w *factStep) sendWithin(ctx context.Context) error {
	if err := inside.Check(w.model, w.fact.Fact); err != nil {
		return err
	}
	flow, err := w.openNumbered(ctx)
	if err != nil {
		return err
	}
	of, a, err := w.send(ctx, flow, func(b *column.Batch) (file int64, ours bool) {
		// rows that were set aside before do not take the place of those that came since
		return w.numbered.Number[b.From.File], w.tried.has(b.From.File)
	})
	if err != nil {
		return err
	}
	rows := inside.NewArrived(w.fact, w.star, w.model, of, w.inStep())
	if err := w.judge(ctx, rows, a, asSaid); err != nil {
		return err
	}
	return rows.Numbers(ctx, a.left.add)
}

// send puts the rows of a flow into a table of the warehouse, but for those that are set aside already. of says of a batch which
// number its file has, and whether the step takes its rows whatever the warehouse says.
func (w *work) send(
	ctx context.Context, flow *transform.Flow, of func(*column.Batch) (file int64, ours bool),
) (*inside.Arrived, *arrived, error) {
	a := &arrived{before: []int64{0}}
	bytes, name := int64(0), fmt.Sprintf("load_arrived_%d", w.nth())
	stage, table, err := w.stage(ctx, name, flow, func(b *column.Batch, own []column.Column, rows []int32) []int32 {
		first, kept := a.before[len(a.before)-1], int64(0)
		a.before = append(a.before, first+int64(b.N))
		file, ours := of(b)
		if ours {
			kept = 1
		}
		for i := range b.N {
			own[0].Int[i], own[1].Int[i], own[2].Int[i] = first+int64(i), ledger.Line(file, b.From.Line[i]), kept
			if b.Bad(i) {
				a.left.add(first + int64(i))
			} else {
				rows = append(rows, int32(i))
			}
		}
		bytes += b.From.Bytes
		w.tell(Progress{Step: w.name, Total: flow.Size(), Bytes: bytes, Rows: flow.Read(), Doing: "rows are sent to the warehouse"})
		return rows
	})
	a.stage = stage
	return &inside.Arrived{Table: table, Fields: flow.Fields()}, a, err
}

// stage puts rows of a flow into a table of the warehouse, behind the columns of [inside.ArrivedTypes]: take fills these, which
// are zero, and appends the rows of a batch to rows that are to be there.
func (w *work) stage(
	ctx context.Context, name string, flow *transform.Flow, take func(b *column.Batch, own []column.Column, rows []int32) []int32,
) (stage warehouse.Stage, table string, err error) {
	types := inside.ArrivedTypes()
	own := make([]column.Column, len(types))
	for k, t := range types {
		own[k].Type = t
	}
	for _, f := range flow.Fields() {
		types = append(types, f.Type)
	}
	if stage, err = w.tx.Statements().Stage(ctx, name, types); err != nil {
		return nil, "", err
	}
	w.spilled = append(w.spilled, stage)
	var rows []int32
	err = pipeline.Batches(ctx, flow, w.opts.Workers, func(b *column.Batch) error {
		for k := range own {
			own[k].Resize(b.N)
			clear(own[k].Null)
			clear(own[k].Int)
		}
		rows = take(b, own, rows[:0])
		return stage.Add(append(column.Pointers(own), column.Pointers(b.Cols)...), rows)
	})
	if err != nil {
		return nil, "", others(err)
	}
	table, err = stage.Table(ctx)
	return stage, table, err
}
