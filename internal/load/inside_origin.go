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

// oneTable has the rows of a table, or query, by their numbers there.
type oneTable struct {
	left   *bits         // those that are left to the step; nil if it reads no others
	others inside.Shaped // that it reads, too, since those depend on them
}

// takeLeft has the step read what the warehouse leaves to it.
func (o *oneTable) takeLeft(ctx context.Context, w *work, judged interface {
	Left(context.Context) (*inside.Left, error)
	Beside(context.Context) (others inside.Shaped, some bool, err error)
	Numbers(context.Context, func(int64)) error
}) error {
	left, err := judged.Left(ctx)
	if err != nil {
		return err
	}
	w.give(inside.Reads(w.kind.source()), left)
	others, some, err := judged.Beside(ctx)
	if err != nil || !some {
		return err
	}
	o.left, o.others = &bits{}, others
	return judged.Numbers(ctx, o.left.add)
}

func (o *oneTable) of(flow column.Source) column.Source {
	if o.left == nil {
		return flow
	}
	return picked{flow, *o.left}
}

func (*oneTable) numbers(_ column.Piece, b *column.Batch, _ []int64) []int64 { return b.From.Line }

func (o *oneTable) took(w *work, of *inside.Shaped) {
	leftOut, emptied := slices.Clone(of.LeftOut), slices.Clone(of.Emptied)
	for k, n := range o.others.LeftOut {
		leftOut[k] -= n
	}
	for k, n := range o.others.Emptied {
		emptied[k] -= n
	}
	w.flow.Took(0, of.Passed-o.others.Passed, of.Merged, leftOut, emptied)
}

func (*oneTable) leftOut() int64 { return 0 }

func (*oneTable) place(w *factStep) func(int64) (string, int64) {
	return func(at int64) (string, int64) { return w.files[0], at }
}

func (*oneTable) close(context.Context) error { return nil }

// picked is some of the rows of a source, by their numbers there.
type picked struct {
	column.Source
	rows bits
}

func (s picked) Pieces(ctx context.Context) iter.Seq2[column.Piece, error] {
	return column.Wrapped(s.Source.Pieces(ctx), func(p column.Piece) column.Piece { return pickedPiece{p, s.rows} })
}

type pickedPiece struct {
	column.Piece
	rows bits
}

func (p pickedPiece) Fill(b *column.Batch) error {
	err := p.Piece.Fill(b)
	if err == nil {
		b.Keep(func(i int) bool { return p.rows.has(b.From.Line[i]) })
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
