package undo

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Options are what a caller may choose.
type Options struct {
	From    int64  // the first run that is taken back; 0 is the last one that wrote something
	Dry     bool   // write nothing: say what would be done
	Program string // what the ledger calls the program
	Holder  string // and who runs it
}

// Report is what was done.
type Report struct {
	Run    int64     `json:"run"` // the run's own number; 0 if it was only tried
	Undone []*Undone `json:"undone"`
	Dry    bool      `json:"dry_run,omitempty"`
}

// Refusal says that runs cannot be taken back, and why.
type Refusal struct{ error }

// Unwrap returns the reason.
func (r Refusal) Unwrap() error { return r.error }

// Take takes runs of a model back in one transaction, which is itself a run in the ledger. The error is a [Refusal] if
// that cannot be done; nothing is written then.
func Take(ctx context.Context, wh warehouse.Warehouse, m *star.Model, opts Options) (*Report, error) {
	hold, err := wh.Hold(ctx)
	if err != nil {
		return nil, err
	}
	defer hold.Release()
	tx, err := wh.Begin(ctx)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	plan, err := Plan(ctx, tx, m, opts.From)
	if err != nil {
		return nil, Refusal{err}
	}
	entry := &ledger.Run{
		StartedAt:  time.Now(),
		Program:    opts.Program,
		Holder:     opts.Holder,
		ModelFile:  m.File,
		ModelText:  m.Text,
		Parameters: map[string]string{},
	}
	var numbers []string
	for _, run := range plan {
		numbers = append(numbers, fmt.Sprint(run.ID))
	}
	entry.Message = "took back run " + strings.Join(numbers, ", ")
	if err := ledger.StartRun(ctx, tx, entry); err != nil {
		return nil, err
	}
	out := &Report{Run: entry.ID, Dry: opts.Dry}
	if out.Undone, err = Run(ctx, tx, schema.New(m), plan); err != nil {
		return nil, err
	}
	if opts.Dry {
		out.Run = 0
		return out, nil
	}
	if err := tx.Freeze(ctx, entry.ID); err != nil {
		return nil, err
	}
	if err := ledger.EndRun(ctx, tx, entry, ledger.Done, time.Now()); err != nil {
		return nil, err
	}
	return out, tx.Commit()
}
