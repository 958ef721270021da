package load

import (
	"context"

	"ironmonger/internal/warehouse"
)

// pretence is a warehouse in which a whole run is one transaction that is rolled back in the end: every step sees what
// those before it would have written, and nobody else sees anything. A step that fails can't be taken back alone, so
// nothing runs behind it.
type pretence struct {
	warehouse.Warehouse
	tx     warehouse.Tx
	failed bool
}

// Begin goes on with the one transaction.
func (p *pretence) Begin(ctx context.Context) (warehouse.Tx, error) {
	if p.tx == nil {
		var err error
		if p.tx, err = p.Warehouse.Begin(ctx); err != nil {
			return nil, err
		}
	}
	return &pretended{Tx: p.tx, of: p}, nil
}

// Writers is 1, since there is one transaction.
func (p *pretence) Writers() int { return 1 }

// end takes everything back.
func (p *pretence) end() {
	if p.tx != nil {
		p.tx.Rollback()
	}
}

// pretended is a step's part of the one transaction.
type pretended struct {
	warehouse.Tx
	of        *pretence
	committed bool
}

func (t *pretended) Commit() error {
	t.committed = true
	return nil
}

func (t *pretended) Rollback() error {
	t.of.failed = t.of.failed || !t.committed
	return nil
}
