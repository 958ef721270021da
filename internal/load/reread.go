package load

import (
	"context"
	"errors"
	"iter"

	"ironmonger/internal/column"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/transform"
)

// readFirst reads columns of the source of the step, to look at its rows before they are read in earnest. Only
// files are read twice: a database may answer otherwise the second time, while a file that has changed since the
// step began is told.
func (w *work) readFirst(
	ctx context.Context,
	need func(name string) bool,
	f func(fields []column.Field, b *column.Batch) error,
) error {
	flow, err := transform.Open(ctx, w.chosen, w.kind.source(), need)
	if err != nil {
		return err
	}
	fields := flow.Fields()
	return pipeline.Batches(ctx, w.taking(flow), w.opts.Workers, func(b *column.Batch) error { return f(fields, b) })
}

// numbered is a source that was read before, so that its pieces know how many rows come before them.
type numbered struct {
	column.Source
	before []int64 // of each piece; and how many there are
}

func (s numbered) Pieces(ctx context.Context) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		n := 0
		for p, err := range s.Source.Pieces(ctx) {
			if err == nil && n+1 == len(s.before) {
				err = errOther
			}
			if err != nil {
				yield(nil, err)
				return
			}
			if !yield(numberedPiece{p, s.before[n], s.before[n+1]}, nil) {
				return
			}
			n++
		}
	}
}

type numberedPiece struct {
	column.Piece
	first, behind int64
}

var errOther = errors.New("the source gave other rows when it was read again")

func (p numberedPiece) Fill(b *column.Batch) error {
	err := p.Piece.Fill(b)
	if err == nil && int64(b.N) != p.behind-p.first {
		err = errOther
	}
	return err
}
