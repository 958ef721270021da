package ledger

import (
	"context"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// States of a row set aside.
const (
	Waiting = "waiting" // it stands outside the star
	Cleared = "cleared" // its file was read again and the row passed, or is gone
	OfFail  = "of a failed step"
)

type asideKey struct {
	file string
	line int64
	hash string
}

// Asides writes the rows that a step sets aside. A row that is met again keeps its entry (rule R18).
type Asides struct {
	ctx    context.Context
	tx     warehouse.Tx
	step   string
	run    int64
	known  map[asideKey]int64 // the run in which it was first met
	fresh  *column.Batch
	again  *column.Batch
	fields []column.Field // of again
	met    map[asideKey]bool
	put    map[asideKey]bool // in this load; nil if no file is read twice
}

const asideBatch = 1000

// OpenAsides reads which rows of a step are known already. If it reads a file twice, a row may be put twice, and is
// written once.
func OpenAsides(ctx context.Context, tx warehouse.Tx, step string, run int64, twice bool) (*Asides, error) {
	a := &Asides{ctx: ctx, tx: tx, step: step, run: run, known: map[asideKey]int64{}, met: map[asideKey]bool{}}
	if twice {
		a.put = map[asideKey]bool{}
	}
	a.fresh = column.NewBatch(asideTable.Fields())
	a.fields = pick(asideTable, "step", "file", "line", "content_hash", "reasons", "last_run", "cleared_by", "state")
	a.again = column.NewBatch(a.fields)
	match := column.Column{Type: text}
	match.AppendText(step)
	err := warehouse.Each(ctx, tx, warehouse.Query{Table: asideTable.Name, Fields: pick(asideTable, "file", "line", "content_hash", "first_run"),
		By: []string{"step"}, Match: []*column.Column{&match}}, func(b *column.Batch) {
		for i := range b.N {
			a.known[asideKey{b.Cols[0].Text[i], b.Cols[1].Int[i], b.Cols[2].Text[i]}] = b.Cols[3].Int[i]
		}
	})
	return a, err
}

// Put writes a row with its state.
func (a *Asides) Put(r *Aside, state string) error {
	k := asideKey{r.File, r.Line, r.hash()}
	if a.put[k] {
		return nil
	} else if a.put != nil {
		a.put[k] = true
	}
	if _, ok := a.known[k]; ok {
		a.met[k] = true
		row(a.again, a.step, k.file, k.line, k.hash, r.Reasons, a.run, nil, state)
	} else {
		row(a.fresh, a.step, k.file, k.line, k.hash, r.Source, r.Reasons, r.Content, a.run, a.run, nil, state)
	}
	if a.fresh.N+a.again.N < asideBatch {
		return nil
	}
	return a.flush()
}

func (a *Asides) flush() error {
	if err := warehouse.AppendAll(a.ctx, a.tx, asideTable, a.fresh); err != nil {
		return err
	}
	a.fresh.Reset(0)
	return a.amend()
}

func (a *Asides) amend() error {
	if a.again.N == 0 {
		return nil
	}
	_, err := a.tx.Amend(a.ctx, asideTable.Name, 4, a.fields, a.again)
	a.again.Reset(0)
	return err
}

// Close writes what is left, and clears the known rows of the files read that were not met again.
func (a *Asides) Close(files []string) error {
	if err := a.flush(); err != nil {
		return err
	}
	a.fields = pick(asideTable, "step", "file", "line", "content_hash", "cleared_by", "state")
	a.again = column.NewBatch(a.fields)
	for k := range a.known {
		if !a.met[k] && slices.Contains(files, k.file) {
			row(a.again, a.step, k.file, k.line, k.hash, a.run, Cleared)
		}
	}
	return a.amend()
}

// EachAside calls f for every row that waits outside the star, with the run in which it was first met.
func EachAside(ctx context.Context, r warehouse.Reader, f func(a *Aside, firstRun int64)) error {
	match := column.Column{Type: text}
	match.AppendText(Waiting)
	fields := pick(asideTable, "step", "source", "file", "line", "reasons", "content", "first_run")
	q := warehouse.Query{Table: asideTable.Name, Fields: fields, By: []string{"state"}, Match: []*column.Column{&match}}
	return warehouse.Each(ctx, r, q, func(b *column.Batch) {
		for i := range b.N {
			c := b.Cols
			f(&Aside{Step: c[0].Text[i], Source: c[1].Text[i], File: c[2].Text[i], Line: c[3].Int[i], Reasons: c[4].Text[i], Content: c[5].Text[i]}, c[6].Int[i])
		}
	})
}
