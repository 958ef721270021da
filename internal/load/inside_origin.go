package load

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/inside"
	"ironmonger/internal/ledger"
)

// origin is where the rows come from that the warehouse has judged.
type origin interface {
	// numbers are the numbers among all of the rows of a batch, which was filled from a piece. They may be kept in the room
	// of earlier ones.
	numbers(p column.Piece, b *column.Batch, before []int64) []int64
	// took tells the step's flow of the rows that are not left to it, of which so many have become one with others.
	took(w *work, of *inside.Shaped, merged int64)
	// leftOut is how many rows are left out that are not counted otherwise.
	leftOut() int64
	// place returns what tells the file and the line of a row of a fact.
	place(w *factStep) func(at int64) (file string, line int64)
	// close removes what was made of them.
	close(ctx context.Context) error
}

// oneTable has the rows of a table, or query, by their numbers there.
type oneTable struct{}

func (oneTable) numbers(_ column.Piece, b *column.Batch, _ []int64) []int64 { return b.From.Line }

func (oneTable) took(w *work, of *inside.Shaped, merged int64) {
	w.flow.Took(0, of.Passed, merged, of.LeftOut, of.Emptied)
}

func (oneTable) leftOut() int64 { return 0 }

func (oneTable) place(w *factStep) func(int64) (string, int64) {
	return func(at int64) (string, int64) { return w.files[0], at }
}

func (oneTable) close(context.Context) error { return nil }

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
