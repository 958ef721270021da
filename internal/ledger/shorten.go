package ledger

import (
	"context"
	"encoding/json"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// Shorten has the ledger forget the details of runs that began before a time: the model, and of the steps all that does
// not count rows or add up measures. What is left stays for ever. Runs with the last
// entry of a step, or the last one that is done, are kept as they are, since they say what stands.
func Shorten(ctx context.Context, tx warehouse.Tx, before time.Time) error {
	runs, err := warehouse.ReadAll(ctx, tx, warehouse.Query{
		Table: runTable.Name, Fields: pick(runTable, "run", "state", "started_at", "shortened"), OrderBy: []string{"run"},
	})
	if err != nil {
		return err
	}
	last, err := lastOf(ctx, tx, runs)
	if err != nil {
		return err
	}
	old := column.Column{Type: integer}
	fields := pick(runTable, "run", "model", "shortened")
	shorter := column.NewBatch(fields)
	for i := range runs.N {
		recent := !instant(&runs.Cols[2], i).Before(before)
		if recent || runs.Cols[1].Text[i] == Running || !runs.Cols[3].Null[i] || last[runs.Cols[0].Int[i]] {
			continue
		}
		old.AppendInt(runs.Cols[0].Int[i])
		row(shorter, runs.Cols[0].Int[i], "", int64(1))
	}
	if shorter.N == 0 {
		return nil
	}
	if err := shortenSteps(ctx, tx, &old); err != nil {
		return err
	}
	_, err = tx.Amend(ctx, runTable.Name, 1, fields, shorter)
	return err
}

// lastOf returns the runs that have the last entry of a step, or the last one that is done. What was taken back does not
// count.
func lastOf(ctx context.Context, tx warehouse.Tx, runs *column.Batch) (map[int64]bool, error) {
	undone := map[int64]bool{}
	for i := range runs.N {
		undone[runs.Cols[0].Int[i]] = runs.Cols[1].Text[i] == Undone
	}
	q := warehouse.Query{Table: stepTable.Name, Fields: pick(stepTable, "run", "step", "state")}
	steps, err := warehouse.ReadAll(ctx, tx, q)
	if err != nil {
		return nil, err
	}
	ended, done := map[string]int64{}, map[string]int64{}
	for i := range steps.N {
		run, name := steps.Cols[0].Int[i], steps.Cols[1].Text[i]
		if undone[run] {
			continue
		}
		if ended[name] = max(ended[name], run); steps.Cols[2].Text[i] == Done {
			done[name] = max(done[name], run)
		}
	}
	last := map[int64]bool{}
	for _, list := range []map[string]int64{ended, done} {
		for _, run := range list {
			last[run] = true
		}
	}
	return last, nil
}

// shortenSteps leaves of the figures of some runs' steps what [Figures.short] keeps.
func shortenSteps(ctx context.Context, tx warehouse.Tx, runs *column.Column) error {
	fields := pick(stepTable, "run", "step", "figures")
	q := warehouse.Query{Table: stepTable.Name, Fields: fields, By: []string{"run"}, Match: []*column.Column{runs}}
	steps, err := warehouse.ReadAll(ctx, tx, q)
	if err != nil {
		return err
	}
	shorter := column.NewBatch(fields)
	for i := range steps.N {
		var f Figures
		if err := json.Unmarshal([]byte(steps.Cols[2].Text[i]), &f); err != nil {
			return err
		}
		text, err := json.Marshal(f.short())
		if err != nil {
			return err
		}
		row(shorter, steps.Cols[0].Int[i], steps.Cols[1].Text[i], string(text))
	}
	if shorter.N == 0 {
		return nil
	}
	_, err = tx.Amend(ctx, stepTable.Name, 2, fields, shorter)
	return err
}

// short returns figures without examples, reasons, strays and notes.
func (f Figures) short() Figures {
	f.Examples, f.Attributes, f.Reasons, f.Stages, f.Passed, f.Notes = nil, nil, nil, nil, nil, nil
	keys := f.Keys
	f.Keys = nil
	for name, k := range keys {
		if f.Keys == nil {
			f.Keys = map[string]*KeyCounts{}
		}
		f.Keys[name] = &KeyCounts{Matched: k.Matched, Missing: k.Missing, Unmatched: k.Unmatched, Outside: k.Outside}
	}
	return f
}
