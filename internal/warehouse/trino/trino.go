// Package trino keeps a star in Iceberg tables that Trino reads and writes, and its ledger in the PostgreSQL database in which
// the tables' catalog is.
//
// Trino has no transaction over several statements or tables. A catalog in a database, though, is one row for each table: a
// pointer to the file that says what the table holds. Nothing that a pointer leads to ever changes. So a transaction works
// on a copy of the pointers, under the name of a schema that nobody else knows and that is never used again, in a second
// Trino catalog on the same database; what its statements write leads from that copy alone. To commit is to replace the
// published pointers by those of the copy, in one transaction of PostgreSQL that writes the ledger, too, and that refuses if a
// table that was read or written is not any more what the copy was taken of. Whatever goes wrong before, nobody sees.
//
// Tables whose names begin with [warehouse.Bookkeeping] are the ledger's. Rows go to Trino in Parquet files in a folder that it
// reads, or, where they are few, in the statement itself.
package trino

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	"ironmonger/internal/column"
	"ironmonger/internal/dberror"
	"ironmonger/internal/expr"
	"ironmonger/internal/trinodb"
	"ironmonger/internal/warehouse"
	"ironmonger/internal/warehouse/postgres"
)

// writers is how many steps write at the same time: a cluster has work for some.
const writers = 4

// DB is a schema of a catalog.
type DB struct {
	ledger   *postgres.DB
	database *pgxpool.Pool // of the pointers
	engine   *trinodb.DB
	at       warehouse.Location

	mu      sync.Mutex
	known   map[string]warehouse.Description // of what pointers lead to; nil before it is asked for
	tallies map[tallyOf]warehouse.Tally      // of the same, as far as it was counted
}

// Open connects to Trino and to the database of the catalog.
func Open(ctx context.Context, at warehouse.Location) (*DB, error) {
	engine, err := trinodb.Open(at.Server, url.Values{
		"catalog": {at.Working},
		// what a step writes is read at once, and then published: it is for maintenance to gather statistics
		"session_properties": {at.Working + ".collect_extended_statistics_on_write:false"},
	})
	if err != nil {
		return nil, err
	}
	db := &DB{engine: engine, at: at}
	if db.ledger, err = postgres.Open(ctx, at.Connection, at.Schema, at.Readers...); err != nil {
		engine.Close()
		return nil, err
	}
	if db.database, err = pgxpool.New(ctx, at.Connection); err != nil {
		db.Close()
		return nil, dberror.Postgres(err)
	}
	var there bool
	err = db.database.QueryRow(ctx, "SELECT to_regclass('iceberg_tables') IS NOT NULL").Scan(&there)
	if err == nil && !there {
		err = fmt.Errorf("the database has no table iceberg_tables: it is not that of a catalog")
	}
	if err != nil {
		db.Close()
		return nil, dberror.Postgres(err)
	}
	return db, nil
}

// hasCatalogs says no if Trino cannot be reached, or does not have the catalogs: what is published in one that it does not
// have, nobody would see.
func (db *DB) hasCatalogs(ctx context.Context) error {
	var there []string
	err := db.engine.First(ctx, "SELECT catalog_name FROM system.metadata.catalogs", func(values [][]byte) error {
		there = append(there, string(values[0]))
		return nil
	})
	if err != nil {
		return err
	}
	for _, name := range []string{db.at.Published, db.at.Working} {
		if !slices.Contains(there, name) {
			return fmt.Errorf("Trino has no catalog %s; it has %s", name, strings.Join(there, ", "))
		}
	}
	return nil
}

// Capabilities says what Iceberg tables cannot do.
func (db *DB) Capabilities() warehouse.Capabilities { return driver{}.Capabilities() }

// Close ends all connections.
func (db *DB) Close() error {
	err := db.engine.Close()
	if db.database != nil {
		db.database.Close()
	}
	return cmp.Or(db.ledger.Close(), err)
}

// isLedger reports whether a table is the ledger's.
func isLedger(table string) bool { return strings.HasPrefix(table, warehouse.Bookkeeping) }

// published is the schema that readers see.
func (db *DB) published() place { return place{db, db.at.Published, db.at.Schema} }

// Describe returns the columns of a table or view.
func (db *DB) Describe(ctx context.Context, table string) (warehouse.Description, error) {
	if isLedger(table) {
		return db.ledger.Describe(ctx, table)
	}
	return db.published().describe(ctx, table)
}

// Declares returns the name of a type: the ledger's tables have those of PostgreSQL.
func (db *DB) Declares(table string, t column.Type) string {
	if isLedger(table) {
		return db.ledger.Declares(table, t)
	}
	return expr.TrinoType(t)
}

// Read asks outside a transaction.
func (db *DB) Read(ctx context.Context, q warehouse.Query) (warehouse.Rows, error) {
	if isLedger(q.Table) {
		return db.ledger.Read(ctx, q)
	}
	return db.published().read(ctx, q)
}

// Tally counts outside a transaction.
func (db *DB) Tally(ctx context.Context, table string, measures []column.Field) (warehouse.Tally, error) {
	if isLedger(table) {
		return db.ledger.Tally(ctx, table, measures)
	}
	return db.published().tally(ctx, table, measures)
}

// Hold takes the right to load from the database of the catalog, and removes what loads that were killed have left.
func (db *DB) Hold(ctx context.Context) (warehouse.Hold, error) {
	held, err := db.ledger.Hold(ctx)
	if err != nil {
		return nil, err
	}
	if err := db.sweep(ctx); err != nil {
		held.Release()
		return nil, err
	}
	return held, nil
}

// snapshot is a copy of the pointers, which is not written to.
type snapshot struct {
	place
	ledger warehouse.Snapshot
}

// Snapshot begins to read the schema and its ledger as they are. If something was published while it began, it begins again.
func (db *DB) Snapshot(ctx context.Context) (warehouse.Snapshot, error) {
	for {
		before, err := pointers(ctx, db.database, db.at.Published, db.at.Schema)
		if err != nil {
			return nil, err
		}
		ledger, err := db.ledger.Snapshot(ctx)
		if err != nil {
			return nil, err
		}
		_, err = ledger.Describe(ctx, warehouse.Bookkeeping+"run") // what it sees is fixed by its first question
		if err != nil {
			ledger.Close()
			return nil, err
		}
		p, base, err := db.copyPointers(ctx)
		if err != nil {
			ledger.Close()
			return nil, err
		}
		if s := (&snapshot{p, ledger}); maps.Equal(before, base) {
			return s, nil
		} else if err := s.Close(); err != nil {
			return nil, err
		}
	}
}

func (s *snapshot) Describe(ctx context.Context, table string) (warehouse.Description, error) {
	if isLedger(table) {
		return s.ledger.Describe(ctx, table)
	}
	return s.describe(ctx, table)
}

func (s *snapshot) Read(ctx context.Context, q warehouse.Query) (warehouse.Rows, error) {
	if isLedger(q.Table) {
		return s.ledger.Read(ctx, q)
	}
	return s.read(ctx, q)
}

func (s *snapshot) Tally(ctx context.Context, table string, measures []column.Field) (warehouse.Tally, error) {
	if isLedger(table) {
		return s.ledger.Tally(ctx, table, measures)
	}
	return s.tally(ctx, table, measures)
}

func (s *snapshot) Close() error { return cmp.Or(s.abandon(), s.ledger.Close()) }

// Begin starts a transaction and waits until no other writes to the schema.
func (db *DB) Begin(ctx context.Context) (warehouse.Tx, error) {
	ledger, err := db.ledger.Begin(ctx)
	return db.begin(ctx, ledger, err)
}

// Beside starts a transaction that has the schema together with those of other parts.
func (db *DB) Beside(ctx context.Context, part string) (warehouse.Tx, error) {
	ledger, err := db.ledger.Beside(ctx, part)
	return db.begin(ctx, ledger, err)
}

func (db *DB) begin(ctx context.Context, ledger warehouse.Tx, err error) (warehouse.Tx, error) {
	if err != nil {
		return nil, err
	}
	p, base, err := db.copyPointers(ctx)
	if err != nil {
		ledger.Rollback()
		return nil, err
	}
	return &tx{place: p, ledger: ledger, base: base, used: map[string]bool{}, there: map[string]warehouse.Description{}}, nil
}

// made is how the names of what passes say when it was made.
const made = "w_20060102_150405_"

// newName returns a name that is never used again.
func newName() string {
	return time.Now().UTC().Format(made) + strings.ReplaceAll(uuid.NewString(), "-", "")
}

// passed is when nobody works with what passes any more.
const passed = 7 * 24 * time.Hour

// sweep removes working copies and files on their way that nobody works with any more: whoever made them was killed.
func (db *DB) sweep(ctx context.Context) error {
	old := time.Now().Add(-passed).UTC().Format(made)
	for _, sql := range []string{
		`DELETE FROM iceberg_tables WHERE catalog_name = $1 AND table_namespace LIKE 'w\_%' AND table_namespace COLLATE "C" < $2`,
		`DELETE FROM iceberg_namespace_properties WHERE catalog_name = $1 AND namespace LIKE 'w\_%' AND namespace COLLATE "C" < $2`,
	} {
		if _, err := db.database.Exec(ctx, sql, db.at.Working, old); err != nil {
			return dberror.Postgres(err)
		}
	}
	if db.at.Staging == "" {
		return nil
	}
	folders, err := os.ReadDir(db.at.Staging)
	if err != nil {
		return fmt.Errorf("the folder for rows on their way to Trino: %w", err)
	}
	for _, f := range folders {
		if strings.HasPrefix(f.Name(), "w_") && f.Name() < old {
			os.RemoveAll(filepath.Join(db.at.Staging, f.Name()))
		}
	}
	return nil
}
