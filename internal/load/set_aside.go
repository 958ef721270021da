package load

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/fact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/warehouse"
)

// setAsideBook keeps the rows that a step sets aside: in the ledger, and in figures.
type setAsideBook struct {
	w       *work
	book    *ledger.Asides
	first   []ledger.Aside // in case the step fails
	reasons ledger.Reasons
	heads   map[string][]string // of files of which rows are set aside
}

const keepOfFailed = 1000

func openAsides(ctx context.Context, w *work) (*setAsideBook, error) {
	book, err := ledger.OpenAsides(ctx, w.tx, w.name, w.entry.ID, &w.places[w.step].aside)
	return &setAsideBook{w: w, book: book, reasons: ledger.Reasons{}, heads: map[string][]string{}}, err
}

// put writes down the rows of b that have faults, each once with all its reasons.
func (a *setAsideBook) put(b *column.Batch) error {
	if len(b.Faults) == 0 {
		return nil
	}
	slices.SortStableFunc(b.Faults, func(x, y column.Fault) int { return cmp.Compare(x.Row, y.Row) })
	member, grain := a.w.kind.says(b)
	for at := 0; at < len(b.Faults); {
		row := int(b.Faults[at].Row)
		raw := b.From.Raw(row)
		r := ledger.Aside{
			Step:    a.w.name,
			Source:  a.w.source,
			File:    b.From.File,
			Line:    b.From.Line[row],
			Content: ledger.Content(raw),
		}
		if a.w.step.fact != nil && raw != "" && r.Content == raw {
			r.Whole = true
			if b.From.Head != nil {
				a.heads[r.File] = b.From.Head
			}
		}
		for ; at < len(b.Faults) && int(b.Faults[at].Row) == row; at++ {
			f := &b.Faults[at]
			r.Causes = append(r.Causes, cause(f))
			r.Repeats = r.Repeats || f.Reason == fact.RepeatReason
			a.reasons.Count(b, f)
		}
		if whole(member, row) {
			r.Member = ledger.MemberText(texts(member, row))
		}
		if whole(grain, row) {
			r.Grain = ledger.Grain(grain, row)
		}
		if len(a.first) < keepOfFailed {
			a.first = append(a.first, r)
		}
		if err := a.book.Put(&r); err != nil {
			return err
		}
		a.w.figures.SetAside++
	}
	return nil
}

func cause(f *column.Fault) ledger.Cause {
	return ledger.Cause{Reason: diag.Storable(f.Reason), Of: diag.Storable(f.Of), Value: diag.Storable(f.Detail)}
}

// whole reports whether a row has a value in each of some columns, and there are any.
func whole(cols []*column.Column, i int) bool {
	return len(cols) > 0 && !slices.ContainsFunc(cols, func(c *column.Column) bool { return c.Null[i] })
}

func texts(cols []*column.Column, i int) []string {
	var list []string
	for _, c := range cols {
		list = append(list, c.Value(i))
	}
	return list
}

// supersede tells the book which grains stand in the table now: rows that wait are superfluous then, unless they could
// still change the fact if they passed.
func (w *factStep) supersede(c *fact.Chunk) {
	if !w.aside.book.Waits() {
		return
	}
	_, grain := w.says(c.Batch)
	loaded := make([]bool, c.Batch.N)
	for _, i := range c.Loaded {
		loaded[i] = true
	}
	for i := range c.Batch.N {
		if !c.Batch.Bad(i) && whole(grain, i) {
			from, line := c.Batch.From.File, c.Batch.From.Line[i]
			w.aside.book.Loaded(ledger.Grain(grain, i), loaded[i], func(a *ledger.Aside) bool { return w.outdoes(from, line, a) })
		}
	}
}

// outdoes reports whether a row that waits can say nothing more about a fact, once a row of a file stands there.
func (w *factStep) outdoes(from string, line int64, a *ledger.Aside) bool {
	switch {
	case !a.Whole: // it cannot be tried again
		return true
	case w.fact.Completion != nil, w.fact.NewerBy != nil:
		return false
	case w.counting() == anyOrder:
		return true
	case from == a.File:
		return line > a.Line
	}
	n := w.numbered
	return n.Came(n.Number[from]) >= n.Came(n.Number[a.File])
}

// fallen writes down the rows set aside of sources that complete the step's own, each once. They are not among its
// rows, so they are counted with their source alone.
func (a *setAsideBook) fallen() error {
	if a.w.flow == nil {
		return nil
	}
	put := map[string]bool{}
	for _, x := range a.w.flow.Fallen() {
		r := ledger.Aside{
			Step:    a.w.name,
			Source:  x.Source,
			File:    x.File,
			Line:    x.Line,
			Content: ledger.Content(x.Raw),
		}
		for k := range x.Faults {
			r.Causes = append(r.Causes, cause(&x.Faults[k]))
		}
		id := fmt.Sprintf("%q %q %d %q %q", x.Source, x.File, x.Line, r.Reasons(), r.Content)
		if put[id] {
			continue
		}
		put[id] = true
		if err := a.book.Put(&r); err != nil {
			return err
		}
		a.w.files = append(a.w.files, x.File)
	}
	return nil
}

// close completes the ledger and the figures.
func (a *setAsideBook) close(ctx context.Context, files []string, unread map[string]bool) error {
	a.w.figures.Reasons = a.reasons.List()
	if len(a.heads)+len(a.w.contents) > 0 {
		err := a.w.ofFiles(ctx, func(tx warehouse.Tx) error {
			if err := ledger.KeepContents(ctx, tx, a.w.contents); err != nil {
				return err
			}
			return ledger.KeepHeads(ctx, tx, a.heads)
		})
		if err != nil {
			return err
		}
	}
	return a.book.Close(files, unread)
}

// main is the most frequent reason with its first place.
func (a *setAsideBook) main() string {
	if len(a.w.figures.Reasons) == 0 {
		return "none"
	}
	r := a.w.figures.Reasons[0]
	reason := r.Reason
	if r.Detail != "" {
		reason += ": " + r.Detail
	}
	return reason + " (" + diag.Place{File: r.File, Line: int(r.Line)}.String() + ")"
}
