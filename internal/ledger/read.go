package ledger

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// Runs lists the runs, the latest first, with their steps in the order in which they ended; at most
// limit of them, 0 for all. A warehouse without a ledger has none.
func Runs(ctx context.Context, r warehouse.Reader, limit int) ([]*Run, error) {
	columns, err := r.Describe(ctx, runTable.Name)
	if err != nil || columns == nil {
		return nil, err
	}
	var names []string // older versions of the program made the table without some
	for _, name := range []string{
		"run", "state", "started_at", "ended_at", "program", "model_file", "holder", "parameters", "message",
	} {
		if columns.Has(name) {
			names = append(names, name)
		}
	}
	fields := pick(runTable, names...)
	b, err := warehouse.ReadAll(ctx, r, warehouse.Query{Table: runTable.Name, Fields: fields})
	if err != nil {
		return nil, err
	}
	said := func(name string, i int) string {
		if k := column.Find(fields, name); k >= 0 && !b.Cols[k].Null[i] {
			return b.Cols[k].Text[i]
		}
		return ""
	}
	byID := map[int64]*Run{}
	var runs []*Run
	for i := range b.N {
		run := &Run{
			ID:        b.Cols[0].Int[i],
			State:     b.Cols[1].Text[i],
			StartedAt: *instant(&b.Cols[2], i),
			EndedAt:   instant(&b.Cols[3], i),
			Program:   said("program", i),
			Holder:    said("holder", i),
			ModelFile: said("model_file", i),
			Message:   said("message", i),
		}
		if text := said("parameters", i); text != "" {
			if err := json.Unmarshal([]byte(text), &run.Parameters); err != nil {
				return nil, fmt.Errorf("the ledger's parameters of run %d cannot be read: %v", run.ID, err)
			}
		}
		runs = append(runs, run)
		byID[run.ID] = run
	}
	slices.SortFunc(runs, func(a, b *Run) int { return cmp.Compare(b.ID, a.ID) })
	if limit > 0 && len(runs) > limit {
		runs = runs[:limit]
	}
	q := warehouse.Query{
		Table:  stepTable.Name,
		Fields: pick(stepTable, "run", "step", "state", "message", "started_at", "ended_at", "figures"),
	}
	if limit > 0 { // and not those of all years
		of := column.Column{Type: integer}
		for _, run := range runs {
			of.AppendInt(run.ID)
		}
		q.By, q.Match = []string{"run"}, []*column.Column{&of}
	}
	steps, err := warehouse.ReadAll(ctx, r, q)
	if err != nil {
		return nil, err
	}
	for i := range steps.N {
		run := byID[steps.Cols[0].Int[i]]
		if run == nil {
			continue
		}
		s := &Step{
			Run:       run.ID,
			Name:      steps.Cols[1].Text[i],
			State:     steps.Cols[2].Text[i],
			Message:   steps.Cols[3].Text[i],
			StartedAt: instant(&steps.Cols[4], i),
			EndedAt:   instant(&steps.Cols[5], i),
		}
		if err := json.Unmarshal([]byte(steps.Cols[6].Text[i]), &s.Figures); err != nil {
			return nil, fmt.Errorf("the ledger's figures of run %d, step %s cannot be read: %v", run.ID, s.Name, err)
		}
		run.Steps = append(run.Steps, s)
	}
	for _, run := range runs {
		slices.SortStableFunc(run.Steps, func(a, b *Step) int {
			if a.EndedAt == nil || b.EndedAt == nil {
				return cmp.Compare(present(b.EndedAt), present(a.EndedAt))
			}
			return a.EndedAt.Compare(*b.EndedAt)
		})
	}
	return runs, nil
}

// Lasting leaves out the runs that were taken back: nothing of them stands.
func Lasting(runs []*Run) []*Run {
	return slices.DeleteFunc(slices.Clone(runs), func(r *Run) bool { return r.State == Undone })
}

// Going returns the run that goes on, without its steps; nil if none does.
func Going(ctx context.Context, r warehouse.Reader) (*Run, error) {
	if columns, err := r.Describe(ctx, runTable.Name); err != nil || columns == nil {
		return nil, err
	}
	going := column.Column{Type: text}
	going.AppendText(Running)
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{Table: runTable.Name, Fields: pick(runTable, "run", "holder", "started_at"),
			By: []string{"state"}, Match: []*column.Column{&going}, OrderBy: []string{"run"}},
	)
	if err != nil || b.N == 0 {
		return nil, err
	}
	last := b.N - 1
	return &Run{
		ID:        b.Cols[0].Int[last],
		State:     Running,
		Holder:    b.Cols[1].Text[last],
		StartedAt: *instant(&b.Cols[2], last),
	}, nil
}

// Ended reports whether the ledger has the end of a run's step.
func Ended(ctx context.Context, r warehouse.Reader, run int64, step string) (bool, error) {
	id, name := column.Column{Type: integer}, column.Column{Type: text}
	id.AppendInt(run)
	name.AppendText(step)
	b, err := warehouse.ReadAll(ctx, r, warehouse.Query{Table: stepTable.Name, Fields: pick(stepTable, "run"),
		By: []string{"run", "step"}, Match: []*column.Column{&id, &name}})
	return err == nil && b.N > 0, err
}

func present(t *time.Time) int {
	if t == nil {
		return 0
	}
	return 1
}

func instant(c *column.Column, i int) *time.Time {
	if c.Null[i] {
		return nil
	}
	t := time.UnixMicro(c.Int[i]).UTC()
	return &t
}
