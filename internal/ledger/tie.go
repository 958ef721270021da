package ledger

import (
	"cmp"
	"context"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// Lost is rows of a dimension's source that lost to another row of the same effective time (rule R11): equal rows,
// in files that were there then. They lose to what stands for as long as their files have them, whichever files are
// there besides.
type Lost struct {
	Row   string // a digest of natural key, effective time, sequence and type 2 values
	Other string // and one of the other values; empty where they don't count
	File  int64  // the last of the files that had it, by its number
	Times int64  // how many such rows there were
}

// Ties returns the rows of a dimension that have lost.
func Ties(ctx context.Context, r warehouse.Reader, dimension string) ([]Lost, error) {
	match := column.Column{Type: text}
	match.AppendText(dimension)
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{Table: tieTable.Name, Fields: pick(tieTable, "row_hash", "other_hash", "file", "times"),
			By: []string{"dimension"}, Match: []*column.Column{&match}},
	)
	if err != nil {
		return nil, err
	}
	list := make([]Lost, b.N)
	for i := range list {
		list[i] = Lost{b.Cols[0].Text[i], b.Cols[1].Text[i], b.Cols[2].Int[i], b.Cols[3].Int[i]}
	}
	return list, nil
}

// KeepTies writes down rows that have lost: new ones, those that have changed, and those that are gone.
func KeepTies(ctx context.Context, tx warehouse.Tx, dimension string, fresh, changed, gone []Lost, run int64) error {
	write := func(list []Lost) *column.Batch {
		slices.SortFunc(
			list,
			func(a, b Lost) int { return cmp.Or(cmp.Compare(a.Row, b.Row), cmp.Compare(a.Other, b.Other)) },
		)
		b := column.NewBatch(tieTable.Fields())
		for _, l := range list {
			row(b, dimension, l.Row, l.Other, l.File, l.Times, run)
		}
		return b
	}
	if len(changed) > 0 {
		if _, err := tx.Amend(ctx, tieTable.Name, 3, tieTable.Fields(), write(changed)); err != nil {
			return err
		}
	}
	if len(gone) > 0 {
		b := write(gone)
		by := &column.Batch{N: b.N, Cols: b.Cols[:3]}
		if _, err := tx.Remove(ctx, tieTable.Name, tieTable.Fields()[:3], by); err != nil {
			return err
		}
	}
	return warehouse.AppendAll(ctx, tx, tieTable, write(fresh))
}
