package undo

import (
	"context"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Plan lists the runs that are to be taken back, the latest first: those of the model from a run on, or the last one if
// that is 0. It refuses what cannot be taken back, with the reason.
func Plan(ctx context.Context, r warehouse.Reader, m *star.Model, from int64) ([]*ledger.Run, error) {
	runs, err := ledger.Runs(ctx, r, 0)
	if err != nil {
		return nil, err
	}
	kept, err := ledger.RunsBefore(ctx, r)
	if err != nil {
		return nil, err
	}
	if from == 0 {
		for _, run := range runs {
			if from == 0 && ofModel(run, m) && run.State != ledger.Undone && run.Wrote() {
				from = run.ID
			}
		}
		if from == 0 {
			return nil, fmt.Errorf("no run of %s has written anything that can be taken back", m.File)
		}
	}
	at := slices.IndexFunc(runs, func(run *ledger.Run) bool { return run.ID == from })
	switch {
	case at < 0:
		return nil, fmt.Errorf("there is no run %d", from)
	case !ofModel(runs[at], m):
		return nil, fmt.Errorf("run %d is one of %s, not of %s", from, runs[at].ModelFile, m.File)
	case runs[at].State == ledger.Undone:
		return nil, fmt.Errorf("run %d has been taken back already", from)
	}
	var plan, others []*ledger.Run
	for _, run := range runs[:at+1] {
		switch {
		case run.State == ledger.Undone || !wrote(run):
		case !ofModel(run, m):
			others = append(others, run)
		case !slices.Contains(kept, run.ID):
			const message = "run %d cannot be taken back: what it changed is not kept any more. undo in the model says for " +
				"how many runs it is; ironmonger erase forgets it, too"
			return nil, fmt.Errorf(message, run.ID)
		default:
			plan = append(plan, run)
		}
	}
	return plan, apart(ctx, r, plan, others)
}

// ofModel reports whether a run is one of a model: of a file of its name, wherever the program was called.
func ofModel(run *ledger.Run, m *star.Model) bool {
	return path.Base(filepath.ToSlash(run.ModelFile)) == path.Base(filepath.ToSlash(m.File))
}

// wrote reports whether a step of a run was done.
func wrote(run *ledger.Run) bool {
	return slices.ContainsFunc(run.Steps, func(s *ledger.Step) bool { return s.State == ledger.Done })
}

// apart refuses to take runs back if later runs of other models have written to the same tables.
func apart(ctx context.Context, r warehouse.Reader, plan, others []*ledger.Run) error {
	ours := map[string]bool{}
	for _, run := range plan {
		list, err := ledger.BeforeOf(ctx, r, run.ID)
		if err != nil {
			return err
		}
		for _, e := range list {
			if e.Did == ledger.OtherChange {
				const message = "run %d cannot be taken back: it pointed rows of %s, which another model loads, to other versions"
				return fmt.Errorf(message, run.ID, e.Table)
			}
			if e.Did != ledger.BeganRun && !strings.HasPrefix(e.Table, "load_") {
				ours[e.Table] = true
			}
		}
	}
	for _, run := range others {
		touched, err := touchedBy(ctx, r, run.ID, ours)
		if err != nil {
			return err
		}
		if touched != "" {
			const message = "run %d of %s has written to %s since: take it back first"
			return fmt.Errorf(message, run.ID, run.ModelFile, touched)
		}
	}
	return nil
}

// touchedBy returns the first of some tables that a run has written to, by what it changed and by what rows say of it:
// it may not be kept what it changed. It returns "" if there is none.
func touchedBy(ctx context.Context, r warehouse.Reader, run int64, tables map[string]bool) (string, error) {
	list, err := ledger.BeforeOf(ctx, r, run)
	if err != nil {
		return "", err
	}
	for _, e := range list {
		if tables[e.Table] {
			return e.Table, nil
		}
	}
	stamp := column.Field{Name: schema.LoadRun, Type: column.Type{Kind: column.Integer}}
	match := column.Column{Type: stamp.Type}
	match.AppendInt(run)
	for _, table := range slices.Sorted(maps.Keys(tables)) {
		there, err := r.Describe(ctx, table)
		if err != nil {
			return "", err
		}
		if !there.Has(stamp.Name) {
			continue
		}
		b, err := warehouse.ReadAll(ctx, r, warehouse.Query{
			Table:  table,
			Fields: []column.Field{stamp},
			By:     []string{stamp.Name},
			Match:  []*column.Column{&match},
			Limit:  1,
		})
		if err != nil {
			return "", err
		}
		if b.N > 0 {
			return table, nil
		}
	}
	return "", nil
}

// Trim forgets what runs of a model changed that are older than those which it keeps. A run that wrote nothing is kept
// with the ones before it, and does not count.
func Trim(ctx context.Context, tx warehouse.Tx, m *star.Model, last *ledger.Run) error {
	kept, err := ledger.RunsBefore(ctx, tx)
	if err != nil || len(kept) <= m.Undo {
		return err
	}
	runs, err := ledger.Runs(ctx, tx, 0)
	if err != nil {
		return err
	}
	count := 0
	var old []int64
	for _, run := range runs {
		if !ofModel(run, m) || !slices.Contains(kept, run.ID) {
			continue
		}
		if count >= m.Undo {
			old = append(old, run.ID)
		} else if run.ID == last.ID && last.Wrote() || run.ID != last.ID && run.Wrote() {
			count++
		}
	}
	return ledger.ForgetBefore(ctx, tx, old)
}
