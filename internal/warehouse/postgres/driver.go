package postgres

import (
	"context"

	"ironmonger/internal/warehouse"
)

func init() { warehouse.Register("postgres", driver{}) }

// driver connects to servers.
type driver struct{}

func (driver) Capabilities() warehouse.Capabilities {
	return warehouse.Capabilities{Writers: writers, TransactionalDDL: true, RowUpdates: true, MaxName: maxName, Partitions: true}
}

// Open connects to the server of a location; the mode makes no difference.
func (driver) Open(ctx context.Context, at warehouse.Location, _ warehouse.Mode) (warehouse.Warehouse, error) {
	return Open(ctx, at.Connection, at.Schema, at.Readers...)
}

func (driver) Dialect(at warehouse.Location) warehouse.Dialect {
	return dialect{&DB{schema: at.Schema}}
}

// dialect writes the statements for a schema.
type dialect struct{ db *DB }

func (d dialect) Before() []string {
	return []string{"CREATE SCHEMA IF NOT EXISTS " + quote(d.db.schema)}
}

func (d dialect) Table(t *warehouse.Table) []string {
	statements := []string{d.db.createTable(t)}
	if t.Partition != nil {
		statements = append(statements, d.db.restOf(t))
	}
	for _, c := range d.db.constraints(t) {
		statements = append(statements, c.add)
	}
	return append(append(statements, d.db.index(t)...), d.db.comments(t, nil)...)
}

func (d dialect) View(v *warehouse.View) string { return d.db.createView(v) }

func (d dialect) Quote(name string) string { return d.db.table(name) }
