package undo

import (
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/ledger"
)

// gap is by how much a table holds other than the ledger's account of it says: rows, and the total of each measure.
type gap struct {
	rows   int64
	totals []exact.Int128
}

// gaps returns those of all tables that have an account.
func (u *undoing) gaps() (map[string]gap, error) {
	list := map[string]gap{}
	add := func(table string, measures []column.Field) error {
		if there, err := u.tx.Describe(u.ctx, table); err != nil || there == nil {
			return err
		}
		book, err := ledger.AccountOf(u.ctx, u.tx, table, "", "", measures)
		if err != nil || book == nil {
			return err
		}
		found, err := u.tx.Tally(u.ctx, table, measures)
		g := gap{rows: found.Rows - book.Rows}
		for k := range measures {
			sum, _ := found.Totals[k].Add(book.Totals[k].Neg())
			g.totals = append(g.totals, sum)
		}
		list[table] = g
		return err
	}
	for _, d := range u.star.Dimensions {
		if err := add(d.Table.Name, nil); err != nil {
			return nil, err
		}
	}
	for _, f := range u.star.Facts {
		var measures []column.Field
		for _, m := range f.Measures {
			if m.Type.Exact() {
				measures = append(measures, m)
			}
		}
		if err := add(f.Table.Name, measures); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// balance holds the tables against the ledger's accounts of them, as both were before the run: they differ by as much
// as they did when it began to be taken back.
func (u *undoing) balance(was map[string]gap) error {
	now, err := u.gaps()
	for table, g := range now {
		if before, ok := was[table]; ok && (g.rows != before.rows || !slices.Equal(g.totals, before.totals)) {
			return fmt.Errorf("the account of table %s would not hold", table)
		}
	}
	return err
}
