package load

import (
	"context"
	"iter"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/inside"
	"ironmonger/internal/ledger"
)

// origin is where the rows come from that the warehouse has judged.
type origin interface {
	// of returns the rows of a flow that the step takes.
	of(flow column.Source) column.Source
	// numbers are the numbers among all of the rows of a batch, which was filled from a piece. They may be kept in the room
	// of earlier ones.
	numbers(p column.Piece, b *column.Batch, before []int64) []int64
	// took tells the step's flow of the rows that are not left to it.
	took(w *work, of *inside.Shaped)
	// leftOut is how many rows are left out that are not counted otherwise.
	leftOut() int64
	// place returns what tells the file and the line of a row of a fact.
	place(w *factStep) func(at int64) (file string, line int64)
	// close removes what was made of them.
	close(ctx context.Context) error
}

// origin is where the rows come from that the warehouse has judged for the step; nil if it has judged none.
func (w *work) origin() origin {
	switch {
	case w.within != nil:
		return w.within.origin
	case w.apart != nil:
		return w.apart.origin
	}
	return nil
}

// taking returns the rows of a flow that the step takes.
func (w *work) taking(flow column.Source) column.Source {
	if from := w.origin(); from != nil {
		return from.of(flow)
	}
	return flow
}

// judged are rows that the warehouse has judged.
type judged interface {
	inside.Judged
	Left(context.Context) (*inside.Left, error)
	Beside(context.Context) (others inside.Shaped, some bool, err error)
	Numbers(context.Context, func(int64)) error
}

// beside are rows that the step reads, since those depend on them that are left to it, but does not take.
type beside struct {
	left   *bits // those that are left to it; nil if it reads no others
	others inside.Shaped
}

// find finds them among rows that the warehouse has judged.
func (x *beside) find(ctx context.Context, rows judged) error {
	others, some, err := rows.Beside(ctx)
	if err != nil || !some {
		return err
	}
	x.left, x.others = &bits{}, others
	return rows.Numbers(ctx, x.left.add)
}

// pick returns the rows of a flow that the step takes, which have numbers.
func (x *beside) pick(flow column.Source, number func(*column.Batch, int) int64) column.Source {
	if x.left == nil {
		return flow
	}
	return picked{flow, *x.left, number}
}

// without takes these rows off the numbers of those that are not left to the step.
func (x *beside) without(of *inside.Shaped) inside.Shaped {
	rest := inside.Shaped{
		Passed: of.Passed - x.others.Passed, Merged: of.Merged,
		LeftOut: slices.Clone(of.LeftOut), Emptied: slices.Clone(of.Emptied),
	}
	for k, n := range x.others.LeftOut {
		rest.LeftOut[k] -= n
	}
	for k, n := range x.others.Emptied {
		rest.Emptied[k] -= n
	}
	return rest
}

// oneTable has the rows of a table, or query, by their numbers there.
type oneTable struct{ beside }

// takeLeft has the step read what the warehouse leaves to it.
func (o *oneTable) takeLeft(ctx context.Context, w *work, rows judged) error {
	left, err := rows.Left(ctx)
	if err != nil {
		return err
	}
	w.give(inside.Reads(w.kind.source()), left)
	return o.find(ctx, rows)
}

func (o *oneTable) of(flow column.Source) column.Source {
	return o.pick(flow, func(b *column.Batch, i int) int64 { return b.From.Line[i] })
}

func (*oneTable) numbers(_ column.Piece, b *column.Batch, _ []int64) []int64 { return b.From.Line }

func (o *oneTable) took(w *work, of *inside.Shaped) {
	own := o.without(of)
	w.flow.Took(0, own.Passed, own.Merged, own.LeftOut, own.Emptied)
}

func (*oneTable) leftOut() int64 { return 0 }

func (*oneTable) place(w *factStep) func(int64) (string, int64) {
	return func(at int64) (string, int64) { return w.files[0], at }
}

func (*oneTable) close(context.Context) error { return nil }

// picked is some of the rows of a source, by their numbers.
type picked struct {
	column.Source
	rows   bits
	number func(*column.Batch, int) int64
}

func (s picked) Pieces(ctx context.Context) iter.Seq2[column.Piece, error] {
	return column.Wrapped(s.Source.Pieces(ctx), func(p column.Piece) column.Piece { return pickedPiece{p, s} })
}

type pickedPiece struct {
	column.Piece
	of picked
}

func (p pickedPiece) Fill(b *column.Batch) error {
	err := p.Piece.Fill(b)
	if err == nil {
		b.Keep(func(i int) bool { return p.of.rows.has(p.of.number(b, i)) })
	}
	return err
}

// filed tells the file and the line of a row that has both in one number.
func filed(w *factStep) func(at int64) (string, int64) {
	names := map[int64]string{}
	for _, name := range w.files {
		names[w.numbered.Number[name]] = name
	}
	return func(at int64) (string, int64) {
		file, line := ledger.FileAndLine(at)
		return names[file], line
	}
}
