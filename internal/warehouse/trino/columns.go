package trino

import (
	"context"
	"encoding/json"
	"fmt"

	"ironmonger/internal/dberror"
	"ironmonger/internal/warehouse"
)

// What a table's columns are, Trino says in a tenth of a second, and a load asks for all tables. A pointer leads to the same
// for ever, so that it is written down beside the ledger, for the pointers that are published.

// columnsTable writes the name of the table in which it stands.
func (db *DB) columnsTable() string { return quote(db.at.Schema) + ".trino_columns" }

// columnsOf returns the columns of what a pointer leads to, as far as that was written down.
func (db *DB) columnsOf(ctx context.Context, location string) (warehouse.Description, error) {
	db.mu.Lock()
	defer db.mu.Unlock()
	if db.known == nil {
		db.known = map[string]warehouse.Description{}
		if err := db.readColumns(ctx); err != nil {
			return nil, err
		}
	}
	return db.known[location], nil
}

func (db *DB) readColumns(ctx context.Context) error {
	var there bool
	if err := db.database.QueryRow(ctx, "SELECT to_regclass($1) IS NOT NULL", db.columnsTable()).Scan(&there); err != nil || !there {
		return dberror.Postgres(err)
	}
	rows, err := db.database.Query(ctx, "SELECT location, columns FROM "+db.columnsTable())
	if err != nil {
		return dberror.Postgres(err)
	}
	defer rows.Close()
	for rows.Next() {
		var location, text string
		var d warehouse.Description
		if err := rows.Scan(&location, &text); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(text), &d); err != nil {
			return err
		}
		db.known[location] = d
	}
	return dberror.Postgres(rows.Err())
}

// know keeps in mind what a pointer leads to.
func (db *DB) know(location string, d warehouse.Description) {
	db.mu.Lock()
	defer db.mu.Unlock()
	if db.known != nil {
		db.known[location] = d
	}
}

// writeColumns writes down what the transaction knows of the columns of tables that it publishes or has seen, and forgets
// what is not published any more.
func (t *tx) writeColumns(ctx context.Context, run warehouse.Statements) error {
	there := false
	err := run.Ask(ctx, "SELECT 1 FROM pg_namespace WHERE nspname = "+text(t.at.Schema), func([][]byte) error {
		there = true
		return nil
	})
	if err != nil || !there { // there is no ledger
		return err
	}
	statements := []string{"CREATE TABLE IF NOT EXISTS " + t.columnsTable() + " (location text PRIMARY KEY, columns text NOT NULL)"}
	for name, d := range t.there {
		at, ok := t.now[name]
		if !ok || len(d) == 0 {
			continue
		}
		columns, err := json.Marshal(d)
		if err != nil {
			return err
		}
		const add = "INSERT INTO %s (location, columns) VALUES (%s, %s) ON CONFLICT DO NOTHING"
		statements = append(statements, fmt.Sprintf(add, t.columnsTable(), text(at.location), text(string(columns))))
	}
	const forget = "DELETE FROM %s AS c WHERE NOT EXISTS (SELECT FROM iceberg_tables AS t WHERE t.metadata_location = c.location AND t.catalog_name = %s)"
	for _, sql := range append(statements, fmt.Sprintf(forget, t.columnsTable(), text(t.at.Published))) {
		if _, err := run.Run(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}
