package fact

import (
	"context"
	"fmt"

	"ironmonger/internal/exact"
	"ironmonger/internal/warehouse"
)

// tally counts what the table holds at the end.
func (w *Writer) tally(ctx context.Context, tx warehouse.Tx) (warehouse.Tally, error) {
	if w.lookedUp != nil {
		return w.tallyWritten(ctx, tx)
	}
	return tx.Tally(ctx, w.fact.Table.Name, w.Measures)
}

// Finish ends the writing and checks the table against what was written (rule R20): the rows and the
// total of every exact measure.
func (w *Writer) Finish(ctx context.Context, tx warehouse.Tx) error {
	if w.completion != nil {
		if err := w.completion.finish(ctx, tx); err != nil {
			return err
		}
	}
	if w.replaced != nil {
		if err := w.replaced.write(ctx, tx, w); err != nil {
			return err
		}
	}
	if w.delivered != nil {
		if err := w.delivered.finish(ctx, tx); err != nil {
			return err
		}
	}
	if w.withdrawn != nil {
		if err := w.withdrawn.finish(ctx, tx, w); err != nil {
			return err
		}
	}
	if w.open != nil {
		if err := w.open.keep(ctx, tx); err != nil {
			return err
		}
	}
	var added int64
	if w.appender != nil {
		var err error
		added, err = w.appender.Close()
		w.appender = nil
		if err != nil {
			return err
		}
	}
	given := w.Outcome.Inserted + w.restored + w.Outcome.Appended
	if w.entries == nil {
		given += w.Outcome.Rewritten
	}
	if added != given {
		return fmt.Errorf(
			"the account does not hold: %d rows were given to the warehouse, and it took %d",
			given,
			added,
		)
	}
	after, err := w.tally(ctx, tx)
	if err != nil {
		return err
	}
	w.Outcome.Table = after
	if added == 0 && w.Outcome.Removed == 0 {
		return nil
	}
	return w.holds(w.before)
}

// Check counts what the table holds once others have added rows that are in the outcome, and checks it against what it
// held before the load.
func (w *Writer) Check(ctx context.Context, tx warehouse.Tx, before warehouse.Tally) (err error) {
	if w.Outcome.Table, err = tx.Tally(ctx, w.fact.Table.Name, w.Measures); err != nil {
		return err
	}
	return w.holds(before)
}

// holds checks the table's rows and totals.
func (w *Writer) holds(before warehouse.Tally) error {
	after := w.Outcome.Table
	if after.Rows != before.Rows+w.Outcome.Grown() {
		return fmt.Errorf(
			"the account does not hold: table %s had %d rows, %d were added, %d were removed, and it has %d",
			w.fact.Table.Name,
			before.Rows,
			w.Outcome.Inserted+w.Outcome.Appended,
			w.Outcome.Removed,
			after.Rows,
		)
	}
	for k, m := range w.Measures {
		want, _ := before.Totals[k].Add(w.Outcome.Added(k))
		if want != after.Totals[k] {
			text := func(x exact.Int128) string { return string(exact.AppendDecimal(nil, x, int(m.Type.Scale))) }
			return fmt.Errorf(
				"the account does not hold: the total of %s in table %s should be %s and is %s",
				m.Name,
				w.fact.Table.Name,
				text(want),
				text(after.Totals[k]),
			)
		}
	}
	return nil
}
