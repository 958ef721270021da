package load

import (
	"context"

	"ironmonger/internal/warehouse"
)

// dryWarehouse is a warehouse in which a whole run is one transaction that is rolled back in the end: every step
// sees what those before it would have written, and nobody else sees anything. A step that fails cannot be taken
// back alone, so nothing runs behind it.
type dryWarehouse struct {
	warehouse.Warehouse
	tx     warehouse.Tx
	failed bool
}

// Begin goes on with the one transaction.
func (p *dryWarehouse) Begin(ctx context.Context) (warehouse.Tx, error) {
	if p.tx == nil {
		var err error
		if p.tx, err = p.Warehouse.Begin(ctx); err != nil {
			return nil, err
		}
	}
	return &dryTx{Tx: p.tx, of: p}, nil
}

// Beside goes on with the one transaction.
func (p *dryWarehouse) Beside(ctx context.Context, _ string) (warehouse.Tx, error) {
	return p.Begin(ctx)
}

// Capabilities says that there is one writer, since there is one transaction.
func (p *dryWarehouse) Capabilities() warehouse.Capabilities {
	c := p.Warehouse.Capabilities()
	c.Writers, c.Ahead = 1, false
	return c
}

// end takes everything back.
func (p *dryWarehouse) end() {
	if p.tx != nil {
		p.tx.Rollback()
	}
}

// dryTx is a step's part of the one transaction.
type dryTx struct {
	warehouse.Tx
	of        *dryWarehouse
	committed bool
}

func (t *dryTx) Commit() error {
	t.committed = true
	return nil
}

func (t *dryTx) Rollback() error {
	t.of.failed = t.of.failed || !t.committed
	return nil
}
