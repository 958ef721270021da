package load

import (
	"context"
	"errors"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// ahead is the transaction of a step that reads while others write: it reads the warehouse as it was when the step began,
// until it writes for the first time. Then all steps before have ended, and it reads and writes what stands. So it is a
// [warehouse.Tx] in which one step writes after the other.
type ahead struct {
	warehouse.Reader                    // the snapshot, then the transaction
	snapshot         warehouse.Snapshot // stays open, since answers may still be read
	tx               warehouse.Tx       // nil until the step writes
	of               *work
}

func (w *work) beginAhead(ctx context.Context) error {
	s, err := w.wh.Snapshot(ctx)
	if err == nil {
		w.tx = &ahead{Reader: s, snapshot: s, of: w}
	}
	return err
}

// turn waits until it is the step's turn to write.
func (a *ahead) turn(ctx context.Context) (warehouse.Tx, error) {
	if a.tx != nil {
		return a.tx, nil
	}
	if err := a.of.waitFor(ctx, func(_ *step, p *place) chan struct{} { return p.ended }); err != nil {
		return nil, err
	}
	tx, err := a.of.wh.Beside(ctx, a.of.name)
	if err != nil {
		return nil, err
	}
	a.tx = a.of.kept.Wrap(tx)
	a.Reader = a.tx
	return a.tx, nil
}

func (a *ahead) write(ctx context.Context, f func(tx warehouse.Tx) error) error {
	tx, err := a.turn(ctx)
	if err != nil {
		return err
	}
	return f(tx)
}

func (a *ahead) Create(ctx context.Context, t *warehouse.Table) error {
	return a.write(ctx, func(tx warehouse.Tx) error { return tx.Create(ctx, t) })
}

func (a *ahead) Drop(ctx context.Context, table string) error {
	return a.write(ctx, func(tx warehouse.Tx) error { return tx.Drop(ctx, table) })
}

func (a *ahead) Clear(ctx context.Context, table string) error {
	return a.write(ctx, func(tx warehouse.Tx) error { return tx.Clear(ctx, table) })
}

func (a *ahead) Constrain(ctx context.Context, t *warehouse.Table) error {
	return a.write(ctx, func(tx warehouse.Tx) error { return tx.Constrain(ctx, t) })
}

func (a *ahead) CreateView(ctx context.Context, v *warehouse.View) error {
	return a.write(ctx, func(tx warehouse.Tx) error { return tx.CreateView(ctx, v) })
}

func (a *ahead) Share(ctx context.Context, names []string) error {
	return a.write(ctx, func(tx warehouse.Tx) error { return tx.Share(ctx, names) })
}

func (a *ahead) Freeze(ctx context.Context, run int64) error {
	return a.write(ctx, func(tx warehouse.Tx) error { return tx.Freeze(ctx, run) })
}

func (a *ahead) DropView(ctx context.Context, name string) error {
	return a.write(ctx, func(tx warehouse.Tx) error { return tx.DropView(ctx, name) })
}

func (a *ahead) AddColumn(ctx context.Context, table string, c warehouse.Column, fill *int64) error {
	return a.write(ctx, func(tx warehouse.Tx) error { return tx.AddColumn(ctx, table, c, fill) })
}

func (a *ahead) Renew(ctx context.Context, table string, fields []column.Field) error {
	return a.write(ctx, func(tx warehouse.Tx) error { return tx.Renew(ctx, table, fields) })
}

func (a *ahead) Amend(ctx context.Context, table string, by int, fields []column.Field, b *column.Batch) (n int64, err error) {
	if b.N == 0 {
		return 0, nil
	}
	err = a.write(ctx, func(tx warehouse.Tx) error { n, err = tx.Amend(ctx, table, by, fields, b); return err })
	return n, err
}

func (a *ahead) Remove(ctx context.Context, table string, fields []column.Field, b *column.Batch) (n int64, err error) {
	if b.N == 0 {
		return 0, nil
	}
	err = a.write(ctx, func(tx warehouse.Tx) error { n, err = tx.Remove(ctx, table, fields, b); return err })
	return n, err
}

func (a *ahead) Repoint(ctx context.Context, r *warehouse.Repointing) (n int64, err error) {
	err = a.write(ctx, func(tx warehouse.Tx) error { n, err = tx.Repoint(ctx, r); return err })
	return n, err
}

// Statements returns none: they would not wait for the step's turn.
func (a *ahead) Statements() warehouse.Statements { return nil }

func (a *ahead) Divide(ctx context.Context, t *warehouse.Table, values []int64) error {
	return a.write(ctx, func(tx warehouse.Tx) error { return tx.Divide(ctx, t, values) })
}

func (a *ahead) Append(ctx context.Context, table string, fields []column.Field) (warehouse.Appender, error) {
	if a.tx != nil {
		return a.tx.Append(ctx, table, fields)
	}
	return &aheadAppender{open: func() (warehouse.Appender, error) {
		tx, err := a.turn(ctx)
		if err != nil {
			return nil, err
		}
		return tx.Append(ctx, table, fields)
	}}, nil
}

// Commit needs no turn where nothing was written.
func (a *ahead) Commit() error {
	if err := a.snapshot.Close(); err != nil || a.tx == nil {
		return err
	}
	return a.tx.Commit()
}

func (a *ahead) Rollback() error {
	err := a.snapshot.Close()
	if a.tx != nil {
		err = errors.Join(a.tx.Rollback(), err)
	}
	return err
}

// aheadAppender waits for the step's turn when the first rows come.
type aheadAppender struct {
	warehouse.Appender // nil until then
	open               func() (warehouse.Appender, error)
}

func (a *aheadAppender) Append(cols []*column.Column, rows []int32) (err error) {
	if a.Appender == nil {
		if len(rows) == 0 {
			return nil
		}
		if a.Appender, err = a.open(); err != nil {
			return err
		}
	}
	return a.Appender.Append(cols, rows)
}

func (a *aheadAppender) Flush() error {
	if a.Appender == nil {
		return nil
	}
	return a.Appender.Flush()
}

func (a *aheadAppender) Close() (int64, error) {
	if a.Appender == nil {
		return 0, nil
	}
	return a.Appender.Close()
}
