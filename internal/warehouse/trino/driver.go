package trino

import (
	"context"

	"ironmonger/internal/warehouse"
)

func init() { warehouse.Register("trino", driver{}) }

// driver connects to clusters.
type driver struct{}

func (driver) Capabilities() warehouse.Capabilities {
	return warehouse.Capabilities{Writers: writers, TransactionalDDL: true, RowUpdates: true, Keyless: true, LowerCase: true, Partitions: true}
}

// Open connects to the cluster of a location, and to write looks whether it has the catalogs.
func (driver) Open(ctx context.Context, at warehouse.Location, mode warehouse.Mode) (warehouse.Warehouse, error) {
	db, err := Open(ctx, at)
	if err != nil || mode != warehouse.ToWrite {
		return db, err
	}
	if err := db.hasCatalogs(ctx); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

func (driver) Dialect(at warehouse.Location) warehouse.Dialect {
	ledger, err := warehouse.DriverOf("postgres")
	if err != nil { // its package is imported here
		panic(err)
	}
	return dialect{place{&DB{at: at}, at.Published, at.Schema}, ledger.Dialect(at)}
}

// dialect writes the statements for a schema: those for the tables of the ledger are for the database of the catalog.
type dialect struct {
	place
	ledger warehouse.Dialect
}

func (d dialect) Before() []string {
	return append(d.ledger.Before(), "CREATE SCHEMA IF NOT EXISTS "+quote(d.catalog)+"."+quote(d.schema))
}

func (d dialect) Table(t *warehouse.Table) []string {
	if isLedger(t.Name) {
		return d.ledger.Table(t)
	}
	return []string{createTable(d.table(t.Name), t)}
}

func (d dialect) View(v *warehouse.View) string { return createView(d.place, v) }

func (d dialect) Quote(name string) string { return d.table(name) }
