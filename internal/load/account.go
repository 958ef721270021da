package load

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"ironmonger/internal/exact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/warehouse"
)

// ErrDiffers says that a run is done, and that tables held other than the ledger's account of them says; the run's
// entry tells which.
var ErrDiffers = errors.New("a table holds other than the ledger says")

// openAccount finds the account of the step's table, which is empty where the step has just made it.
func (w *work) openAccount(ctx context.Context, made bool) (err error) {
	to := w.kind.target()
	if w.made = made || w.remake != nil; !w.made {
		w.book, err = ledger.AccountOf(ctx, w.tx, to.Name, w.name, to.inferred, to.measures)
	}
	if w.book == nil {
		w.book = ledger.NewAccount(to.Name, to.measures)
	}
	return err
}

// keepAccount carries the account forward by what the step wrote (rule R20), and holds it against what the table is
// found to hold. Another finding is told, and does not change the account, unless the caller has said so.
func (w *work) keepAccount(ctx context.Context, rows int64, totals []exact.Int128, found warehouse.Tally) error {
	if !w.book.Add(rows, totals) {
		return fmt.Errorf("the ledger's account of table %s needs more than 38 digits", w.book.Table)
	}
	differs := w.book.Against(found)
	if len(differs) > 0 && slices.Contains(w.opts.Accept, noun(w.name)) {
		w.book.Rows, w.book.Totals = found.Rows, found.Totals
		w.figures.Accepted = differs
	} else {
		w.figures.Differs = differs
	}
	if rows == 0 && !w.made && !w.figures.Wrote() && len(w.figures.Accepted) == 0 {
		return nil // the account says which run changed the table last
	}
	return w.book.Keep(ctx, w.tx, w.entry.ID)
}

// inferredAccount carries the account of a dimension forward in which the step made members.
func (w *work) inferredAccount(ctx context.Context, dimension, table string, rows int64) error {
	book, err := ledger.AccountOf(ctx, w.tx, table, "dimension "+dimension, dimension, nil)
	if err != nil {
		return err
	}
	if book == nil {
		book = ledger.NewAccount(table, nil)
	}
	book.Add(rows, nil)
	return book.Keep(ctx, w.tx, w.entry.ID)
}
