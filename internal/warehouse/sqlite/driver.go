package sqlite

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"ironmonger/internal/warehouse"
)

func init() { warehouse.Register("sqlite", driver{}) }

// driver opens database files.
type driver struct{}

func (driver) Capabilities() warehouse.Capabilities {
	return warehouse.Capabilities{Writers: 1, Ahead: true, TransactionalDDL: true, RowUpdates: true}
}

// Open opens the file of a location. For a try of what is not there, it makes another file that is removed when it
// is closed.
func (driver) Open(_ context.Context, at warehouse.Location, mode warehouse.Mode) (warehouse.Warehouse, error) {
	switch mode {
	case warehouse.ToRead:
		return openToRead(at.Path)
	case warehouse.ToTry:
		db, err := openToRead(at.Path)
		if errors.Is(err, fs.ErrNotExist) {
			return openPassing()
		} else if err != nil {
			return nil, err
		}
		db.Close()
	}
	return Open(at.Path, at.Permissions)
}

func openPassing() (warehouse.Warehouse, error) {
	dir, err := os.MkdirTemp("", "ironmonger")
	if err != nil {
		return nil, err
	}
	db, err := Open(filepath.Join(dir, "try.db"), 0)
	if err != nil {
		os.RemoveAll(dir)
		return nil, err
	}
	return warehouse.Passing(db, dir), nil
}

func (driver) Dialect(warehouse.Location) warehouse.Dialect { return dialect{} }

// dialect writes SQLite's statements.
type dialect struct{}

func (dialect) Before() []string { return nil }
func (dialect) Table(t *warehouse.Table) []string {
	return append([]string{createTable(t)}, indexes(t)...)
}
func (dialect) View(v *warehouse.View) string { return createView(v) }
func (dialect) Quote(name string) string      { return quote(name) }
