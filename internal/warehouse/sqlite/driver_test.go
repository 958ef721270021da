package sqlite

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/warehouse"
	"ironmonger/internal/warehouse/warehousetest"
)

// TestModes: what is opened to be read or tried makes no file; what is tried is gone when it is closed, unless it was
// there.
func TestModes(t *testing.T) {
	dir := t.TempDir()
	at := warehouse.Location{Kind: "sqlite", Path: filepath.Join(dir, "star.db")}
	files := func() (names []string) {
		entries, err := os.ReadDir(dir)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range entries {
			names = append(names, e.Name())
		}
		return names
	}
	if _, err := warehouse.Open(ctx, at, warehouse.ToRead); !errors.Is(err, fs.ErrNotExist) || len(files()) > 0 {
		t.Fatalf("to read: %v, %v", err, files())
	}
	one := &warehouse.Table{Name: "one", Primary: []string{"id"},
		Columns: []warehouse.Column{{Field: warehousetest.Field("id", "integer"), NotNull: true}}}
	try, err := warehouse.Open(ctx, at, warehouse.ToTry)
	if err != nil {
		t.Fatal(err)
	}
	warehousetest.Transact(t, try, func(tx warehouse.Tx) {
		if err := tx.Create(ctx, one); err != nil {
			t.Fatal(err)
		}
	})
	if err := try.Close(); err != nil || len(files()) > 0 {
		t.Fatalf("to try: %v, %v", err, files())
	}
	write, err := warehouse.Open(ctx, at, warehouse.ToWrite)
	if err != nil {
		t.Fatal(err)
	}
	warehousetest.Transact(t, write, func(tx warehouse.Tx) {
		if err := tx.Create(ctx, one); err != nil {
			t.Fatal(err)
		}
	})
	write.Close()
	for _, mode := range []warehouse.Mode{warehouse.ToTry, warehouse.ToRead} {
		there, err := warehouse.Open(ctx, at, mode)
		if err != nil {
			t.Fatal(err)
		}
		if columns, err := there.Describe(ctx, "one"); err != nil || len(columns) != 1 {
			t.Errorf("mode %d: %v, %v", mode, columns, err)
		}
		there.Close()
	}
	if !slices.Contains(files(), "star.db") {
		t.Errorf("the star is gone: %v", files())
	}
}

// TestRegistered: a kind is registered once; its dialect makes statements that it takes.
func TestRegistered(t *testing.T) {
	if !slices.Contains(warehouse.Kinds(), "sqlite") {
		t.Fatal(warehouse.Kinds())
	}
	func() {
		defer func() {
			if said, _ := recover().(string); !strings.Contains(said, "two drivers of the kind sqlite") {
				t.Errorf("a second driver: %q", said)
			}
		}()
		warehouse.Register("sqlite", driver{})
	}()
	d, err := warehouse.DriverOf("sqlite")
	if err != nil {
		t.Fatal(err)
	}
	dialect := d.Dialect(warehouse.Location{})
	table := &warehouse.Table{Name: `a "b"`, Primary: []string{"id"}, Index: []string{"n"}, Columns: []warehouse.Column{
		{Field: warehousetest.Field("id", "integer"), NotNull: true}, {Field: warehousetest.Field("n", "decimal(18,2)")}}}
	statements := append(dialect.Before(), dialect.Table(table)...)
	statements = append(statements, dialect.View(&warehouse.View{Name: "v", Of: table.Name, Columns: []warehouse.Renamed{{From: "n", To: "m"}}}),
		"SELECT m FROM v", "DROP VIEW v", "DROP TABLE "+dialect.Quote(table.Name))
	db, err := Open(filepath.Join(t.TempDir(), "x.db"), 0)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, statement := range statements {
		if err := db.exec(statement); err != nil {
			t.Errorf("%s: %v", statement, err)
		}
	}
}
