package load

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/place"
)

// asides keeps the rows that a step sets aside: in the ledger, and in figures.
type asides struct {
	w       *work
	book    *ledger.Asides
	first   []ledger.Aside // in case the step fails
	reasons ledger.Reasons
}

const (
	keepOfFailed = 1000
	maxContent   = 4 << 10 // of a row, in characters; what is longer is in its file
)

func openAsides(ctx context.Context, w *work) (*asides, error) {
	book, err := ledger.OpenAsides(ctx, w.tx, w.name, w.entry.ID, w.flow != nil && w.flow.Twice())
	return &asides{w: w, book: book, reasons: ledger.Reasons{}}, err
}

// put writes down the rows of b that have faults, each once with all its reasons.
func (a *asides) put(b *column.Batch) error {
	if len(b.Faults) == 0 {
		return nil
	}
	slices.SortStableFunc(b.Faults, func(x, y column.Fault) int { return cmp.Compare(x.Row, y.Row) })
	for at := 0; at < len(b.Faults); {
		row := b.Faults[at].Row
		var texts []string
		for ; at < len(b.Faults) && b.Faults[at].Row == row; at++ {
			f := &b.Faults[at]
			text := f.Reason
			if f.Detail != "" {
				text += ": " + f.Detail
			}
			texts = append(texts, text)
			a.reasons.Count(b, f)
		}
		r := ledger.Aside{Step: a.w.name, Source: a.w.source, File: b.From.File, Line: b.From.Line[row],
			Reasons: place.Storable(strings.Join(texts, "; ")), Content: place.Clip(place.Storable(b.From.Raw(int(row))), maxContent)}
		if len(a.first) < keepOfFailed {
			a.first = append(a.first, r)
		}
		if err := a.book.Put(&r, ledger.Waiting); err != nil {
			return err
		}
		a.w.figures.SetAside++
	}
	return nil
}

// fallen writes down the rows set aside of sources that complete the step's own. They aren't among its rows, so they
// are counted with their source alone.
func (a *asides) fallen() error {
	if a.w.flow == nil {
		return nil
	}
	for _, x := range a.w.flow.Fallen() {
		r := ledger.Aside{Step: a.w.name, Source: x.Source, File: x.File, Line: x.Line,
			Reasons: place.Storable(x.Reason), Content: place.Clip(place.Storable(x.Raw), maxContent)}
		if err := a.book.Put(&r, ledger.Waiting); err != nil {
			return err
		}
		a.w.files = append(a.w.files, x.File)
	}
	return nil
}

// close completes the ledger and the figures.
func (a *asides) close(files []string) error {
	a.w.figures.Reasons = a.reasons.List()
	return a.book.Close(files)
}

// main is the most frequent reason with its first place.
func (a *asides) main() string {
	if len(a.w.figures.Reasons) == 0 {
		return "none"
	}
	r := a.w.figures.Reasons[0]
	return r.Reason + " (" + place.Place{File: r.File, Line: int(r.Line)}.String() + ")"
}
