package sqlite

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	engine "zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
	"ironmonger/internal/warehouse/warehousetest"
)

var ctx = context.Background()

// TestSQLiteFile: what is not there is not made by chance, what is made is the owner's alone, and another
// file is refused.
func TestSQLiteFile(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "new.db")
	if _, err := openToRead(path); !errors.Is(err, fs.ErrNotExist) {
		t.Error(err)
	}
	db, err := Open(path, 0)
	if err != nil {
		t.Fatal(err)
	}
	db.Close()
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info.Mode(), err)
	}
	shared := filepath.Join(dir, "shared.db")
	if db, err = Open(shared, 0o640); err != nil {
		t.Fatal(err)
	}
	if err := db.exec("CREATE TABLE t (a)"); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{shared, shared + "-wal"} { // what belongs to it is as it is
		if info, err := os.Stat(name); err != nil || info.Mode().Perm() != 0o640 {
			t.Errorf("%s: %v, %v", name, info, err)
		}
	}
	db.Close()
	other := filepath.Join(dir, "other.db")
	if err := os.WriteFile(other, []byte(strings.Repeat("no database ", 100)), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(other, 0); err == nil || !strings.Contains(err.Error(), "this is not an SQLite database") {
		t.Error(err)
	}
}

// TestPlainSQL asks SQLite what people ask of decimals, and brings a table that an older version of the program
// made to how decimals stand now.
func TestPlainSQL(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.db")
	conn, err := engine.OpenConn(path)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	script := "CREATE TABLE pay (no INTEGER PRIMARY KEY, eur, small DECIMAL(9,2), extra TEXT); CREATE VIEW pays AS SELECT eur AS money FROM \"pay\";" +
		"INSERT INTO pay VALUES (1, 120000.0, 1.5, 'x'), (2, '9999999999999999.99', 2, 'y'), (3, '120000.0000000000', 3, 'z'), (4, -0.01, 4, null), (5, null, 5, null), (6, 1000000.01, 6, null)"
	if err := sqlitex.ExecuteScript(conn, script, nil); err != nil {
		t.Fatal(err)
	}
	db, err := Open(path, 0)
	if err != nil {
		t.Fatal(err)
	}
	fields := []column.Field{
		warehousetest.Field("no", "integer"),
		warehousetest.Field("eur", "decimal(18,2)"),
		warehousetest.Field("small", "decimal(9,2)"),
	}
	before := warehousetest.Rows(t, db, warehouse.Query{Table: "pay", Fields: fields, OrderBy: []string{"no"}})
	if columns, err := db.Describe(ctx, "pay"); err != nil || !columns[1].Old || columns[2].Old {
		t.Fatal(columns, err)
	}
	warehousetest.Transact(t, db, func(tx warehouse.Tx) {
		if err := tx.Renew(ctx, "pay", fields[1:2]); err != nil {
			t.Fatal(err)
		}
	})
	if after := warehousetest.Rows(t, db, warehouse.Query{Table: "pay", Fields: fields, OrderBy: []string{"no"}}); after != before ||
		!strings.Contains(after, "9999999999999999.99") {
		t.Errorf("%s\nwas\n%s", after, before)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	for query, want := range map[string]string{
		"SELECT group_concat(no) FROM pay WHERE eur > 1000000":                                        "2,6",
		"SELECT min(eur) FROM pay":                                                                    "-0.01",
		"SELECT group_concat(no) FROM (SELECT no FROM pay WHERE eur IS NOT NULL ORDER BY eur, no)":    "4,1,3,6,2",
		"SELECT max(eur_units) FROM pay":                                                              "999999999999999999",
		"SELECT printf('%d.%02d', sum(eur_units) / 100, sum(eur_units) % 100) FROM pay WHERE no <> 4": "10000000001240000.00",
		"SELECT typeof(eur) || typeof(eur_units) FROM pay WHERE no = 1":                               "realinteger",
		"SELECT extra FROM pay WHERE no = 2":                                                          "y",
		"SELECT money FROM pays WHERE money > 1000000 ORDER BY money LIMIT 1":                         "1000000.01",
	} {
		got := ""
		if err := sqlitex.ExecuteTransient(conn, query, &sqlitex.ExecOptions{ResultFunc: func(s *engine.Stmt) error { got = s.ColumnText(0); return nil }}); err != nil ||
			got != want {
			t.Errorf("%s: %s, %v; want %s", query, got, err, want)
		}
	}
}
