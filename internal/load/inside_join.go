package load

import (
	"context"
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/inside"
	"ironmonger/internal/ledger"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
)

// joiner is told what completes the rows that the warehouse judges.
type joiner interface {
	Join(*star.Join, *source.Plain, []inside.Level)
	JoinArrived(*star.Join, *inside.Arrived)
}

// joinWithin has the joins of the step's sources made in the warehouse. Call joined when it has judged the rows.
func (w *work) joinWithin(ctx context.Context, to joiner, levels []inside.Level) (joined func() error, err error) {
	var joins []*star.Join
	var theirs []func(column string) bool
	for _, level := range levels {
		some, of := transform.Joins(level.Source, level.Need)
		joins, theirs = append(joins, some...), append(theirs, of...)
	}
	var ends []func() error
	for k, j := range joins {
		var of *inside.Arrived
		var end func() error
		if j.Source.OnlyFiles() {
			of, end, err = w.sendJoined(ctx, j, theirs[k])
		} else {
			of, end, err = w.joinTables(ctx, to, j, theirs[k])
		}
		if err != nil {
			return nil, err
		}
		if of != nil {
			to.JoinArrived(j, of)
			ends = append(ends, end)
		}
	}
	return func() error { return callAll(ends) }, nil
}

// joinTables has rows be joined with those of a table, or, if there are several, with what the warehouse makes of
// these.
func (w *work) joinTables(
	ctx context.Context, to joiner, j *star.Join, need func(string) bool,
) (of *inside.Arrived, end func() error, err error) {
	var parts []*inside.Branch
	tables := branchesOf(j.Source, need)
	for _, levels := range tables {
		from, err := w.plain(ctx, levels)
		if err != nil {
			return nil, nil, err
		}
		if len(tables) == 1 {
			to.Join(j, from, levels)
			return nil, nil, nil
		}
		w.shaped++
		parts = append(parts, inside.NewJoined(w.model, from, levels, joinedBy(j), w.shaped, w.inStep()))
	}
	var fields []column.Field
	for _, f := range j.Source.Shaped() {
		if need(f.Name) {
			fields = append(fields, f)
		}
	}
	of, _, err = inside.Gather(ctx, parts, fields, ledger.Line(1, 0))
	return of, func() error { return dropAll(ctx, parts) }, err
}

// joinedBy lists the columns of the other source that say by what rows are joined, and since when they hold.
func joinedBy(j *star.Join) (list []string) {
	for _, pair := range j.By {
		list = append(list, pair[0])
	}
	if j.Effective != "" {
		list = append(list, j.Effective)
	}
	return list
}

// callAll calls functions until one fails.
func callAll(list []func() error) error {
	for _, f := range list {
		if err := f(); err != nil {
			return err
		}
	}
	return nil
}

// dropAll removes the tables of the parts of a union.
func dropAll(ctx context.Context, parts []*inside.Branch) error {
	for _, b := range parts {
		if err := b.Drop(ctx); err != nil {
			return err
		}
	}
	return nil
}

// sendJoined sends the rows to the warehouse by which a join completes others: those that are not set aside, and that tell
// by what they are joined, and since when they hold.
func (w *work) sendJoined(
	ctx context.Context, j *star.Join, need func(string) bool,
) (of *inside.Arrived, end func() error, err error) {
	flow, err := transform.Open(ctx, w.chosen, j.Source, need)
	if err != nil {
		return nil, nil, err
	}
	var told []int // the columns that say by what rows are joined
	for _, name := range joinedBy(j) {
		told = append(told, column.Find(flow.Fields(), name))
	}
	name := fmt.Sprintf("load_joined_%d_%d", w.nth(), len(w.spilled))
	stage, table, err := w.stage(ctx, name, flow, func(b *column.Batch, _ []column.Column, rows []int32) []int32 {
		for i := range b.N {
			if !b.Bad(i) && !slices.ContainsFunc(told, func(k int) bool { return b.Cols[k].Null[i] }) {
				rows = append(rows, int32(i))
			}
		}
		return rows
	})
	if err != nil {
		return nil, nil, err
	}
	return &inside.Arrived{Table: table, Fields: flow.Fields()}, stage.Close, nil
}
