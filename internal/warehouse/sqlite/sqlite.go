// Package sqlite keeps a star in an SQLite database file.
//
// How values stand there: integers and booleans as integers, dates and times as ISO 8601 text,
// decimals as their columns' types say (see decimal.go). Columns have binary collation. Foreign keys are declared, and
// not enforced during a load: that would cost four times the load's time, and the loader holds them by
// construction.
package sqlite

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"zombiezen.com/go/sqlite"

	"ironmonger/internal/column"
	"ironmonger/internal/dberror"
	"ironmonger/internal/warehouse"
)

// DB is an open database file.
type DB struct {
	connection
	path    string
	mu      sync.Mutex // one use of the connection at a time
	readers readers
}

// connection is a connection to the file. It is used by one goroutine at a time.
type connection struct {
	conn *sqlite.Conn
	used map[*sqlite.Stmt]bool // statements that are used for a while
}

// busyWait is how long a transaction waits for another program that writes.
const busyWait = 30 * time.Second

// ownerOnly are the permissions of a file that is made.
const ownerOnly fs.FileMode = 0o600

// Open opens the database in a file to be written to, making it with permissions, or readable by its owner alone if
// these are 0, if it is not there.
func Open(path string, permissions fs.FileMode) (*DB, error) {
	if _, err := os.Stat(path); err != nil {
		f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, ownerOnly)
		if err != nil && !errors.Is(err, fs.ErrExist) { // another load may just have made it
			return nil, err
		}
		if err == nil {
			if permissions != 0 { // whatever the process leaves out of those of new files
				err = f.Chmod(permissions)
			}
			if cerr := f.Close(); err == nil {
				err = cerr
			}
			if err != nil {
				return nil, err
			}
		}
	}
	return open(path, "journal_mode = wal", "synchronous = full", "secure_delete = on", "foreign_keys = off")
}

// openToRead opens the database in a file that must be there (else the error is fs.ErrNotExist), for
// reading alone. The file itself is opened as for writing, so that what belongs to it is tidied up in the end.
func openToRead(path string) (*DB, error) {
	if _, err := os.Stat(path); err != nil {
		return nil, err
	}
	return open(path, "query_only = on")
}

func open(path string, pragmas ...string) (*DB, error) {
	c, err := connect(path, pragmas...)
	if err != nil {
		return nil, err
	}
	return &DB{connection: *c, path: path}, nil
}

func connect(path string, pragmas ...string) (*connection, error) {
	conn, err := sqlite.OpenConn(path, sqlite.OpenReadWrite)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, dberror.SQLite(err))
	}
	conn.SetBusyTimeout(busyWait)
	db := &connection{conn: conn, used: map[*sqlite.Stmt]bool{}}
	for _, pragma := range append(pragmas, "temp_store = memory", "cache_size = -65536", "mmap_size = 0") {
		// changing to the write-ahead log wants the file alone, and does not wait for it by itself
		err := db.exec("PRAGMA " + pragma)
		for begin := time.Now(); errors.Is(err, dberror.ErrBusy) && time.Since(begin) < busyWait; err = db.exec("PRAGMA " + pragma) {
			time.Sleep(20 * time.Millisecond)
		}
		if err != nil {
			conn.Close()
			return nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	return db, nil
}

// Capabilities says that SQLite has one writer, and takes back whatever a transaction did.
func (db *DB) Capabilities() warehouse.Capabilities { return driver{}.Capabilities() }

// Hold locks a file beside the database, which goes again when it is released. Whoever dies leaves the file,
// and no lock.
func (db *DB) Hold(ctx context.Context) (warehouse.Hold, error) {
	for {
		lock := flock.New(db.path+"-load", flock.SetPermissions(0o600), flock.SetFlag(os.O_CREATE|os.O_RDWR))
		if held, err := lock.TryLock(); err != nil {
			return nil, err
		} else if !held {
			return nil, warehouse.ErrHeld
		}
		ours, err := lock.Stat()
		if there, terr := os.Stat(lock.Path()); err == nil && terr == nil && os.SameFile(ours, there) {
			return hold{lock}, nil
		}
		lock.Unlock() // the holder before took the file away while we opened it
	}
}

// hold is a locked file; nothing but its holder lets go of it.
type hold struct{ *flock.Flock }

func (h hold) Check(context.Context) error { return nil }

func (h hold) Release() {
	os.Remove(h.Path())
	h.Unlock()
}

// Close closes the file.
func (db *DB) Close() error { return errors.Join(db.readers.close(), dberror.SQLite(db.conn.Close())) }

// quote makes a name into SQL. It is the only way a name gets there.
func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func quoteAll(names []string, format string) []string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = strings.ReplaceAll(format, "%", quote(n))
	}
	return quoted
}

// prepare compiles a statement that is used for a while, until it is released.
func (db *connection) prepare(sql string) (*sqlite.Stmt, error) {
	stmt, _, err := db.conn.PrepareTransient(sql)
	if err != nil {
		return nil, dberror.SQLite(err)
	}
	db.used[stmt] = true
	return stmt, nil
}

// release ends a statement; again, it does nothing.
func (db *connection) release(stmt *sqlite.Stmt) error {
	if !db.used[stmt] {
		return nil
	}
	delete(db.used, stmt)
	return dberror.SQLite(stmt.Finalize())
}

// tidy ends the statements that were left behind, such as by a step that begins again: with one of them, the file
// cannot be closed.
func (db *connection) tidy() {
	for stmt := range db.used {
		stmt.Finalize()
	}
	clear(db.used)
}

// exec runs a statement that has no answer.
func (db *connection) exec(sql string) error {
	stmt, _, err := db.conn.PrepareTransient(sql)
	if err != nil {
		return dberror.SQLite(err)
	}
	defer stmt.Finalize()
	for {
		if more, err := stmt.Step(); err != nil || !more {
			return dberror.SQLite(err)
		}
	}
}

// Describe returns the columns of a table or view.
func (db *connection) Describe(ctx context.Context, table string) (warehouse.Description, error) {
	there, err := db.known(table)
	var columns warehouse.Description
	for _, c := range there {
		if c.computed {
			continue
		}
		s := warehouse.Standing{Name: c.shown(), Type: c.declared, NotNull: c.notNull, Old: c.declared == ""}
		if strings.HasPrefix(s.Type, "DECIMAL(") { // as older versions declared those that stand as they do now
			s.Type = "REAL " + s.Type
		}
		columns = append(columns, s)
	}
	return columns, err
}

// Declares returns the name of a type.
func (db *connection) Declares(_ string, t column.Type) string { return declared(t) }

// tx is a transaction. The connection is the transaction's until it ends.
type tx struct {
	*DB
	open bool
}

// Begin starts a transaction that holds the right to write from the start, so that what it reads
// stays true until it commits.
func (db *DB) Begin(ctx context.Context) (warehouse.Tx, error) {
	db.mu.Lock()
	db.conn.SetInterrupt(ctx.Done())
	if err := db.exec("BEGIN IMMEDIATE"); err != nil {
		db.conn.SetInterrupt(nil)
		db.mu.Unlock()
		return nil, fmt.Errorf("%s: %w", db.path, err)
	}
	return &tx{db, true}, nil
}

// Beside starts a transaction; there is one at a time.
func (db *DB) Beside(ctx context.Context, _ string) (warehouse.Tx, error) { return db.Begin(ctx) }

func (t *tx) end(sql string) error {
	if !t.open {
		return nil
	}
	t.conn.SetInterrupt(nil) // a commit that has begun is not torn
	t.tidy()
	err := t.exec(sql)
	if err != nil && sql == "COMMIT" {
		return err // still open: the caller rolls back
	}
	t.open = false
	t.mu.Unlock()
	return err
}

func (t *tx) Commit() error   { return t.end("COMMIT") }
func (t *tx) Rollback() error { return t.end("ROLLBACK") }

// Create makes a table.
func (t *tx) Create(ctx context.Context, table *warehouse.Table) error {
	return t.exec(createTable(table))
}

func createTable(table *warehouse.Table) string {
	var parts []string
	alone := ""
	if len(table.Primary) == 1 {
		alone = table.Primary[0]
	}
	for _, c := range table.Columns {
		part := quote(stored(c.Field)) + " " + declared(c.Type)
		if c.Name == alone {
			part += " PRIMARY KEY"
		}
		if c.NotNull {
			part += " NOT NULL"
		}
		parts = append(parts, part)
		if computed := double(c.Field); computed != "" {
			parts = append(parts, computed)
		}
	}
	list := func(names []string) string { return "(" + strings.Join(storedNames(table, names), ", ") + ")" }
	if len(table.Primary) > 1 {
		parts = append(parts, "PRIMARY KEY "+list(table.Primary))
	}
	for _, f := range table.Foreign {
		parts = append(
			parts,
			fmt.Sprintf("FOREIGN KEY (%s) REFERENCES %s (%s)", quote(f.Column), quote(f.Table), quote(f.Key)),
		)
	}
	return fmt.Sprintf("CREATE TABLE %s (\n  %s\n)", quote(table.Name), strings.Join(parts, ",\n  "))
}

// storedNames quotes the names under which columns of a table really stand.
func storedNames(table *warehouse.Table, names []string) []string {
	var fields []column.Field
	for _, name := range names {
		fields = append(fields, table.Fields()[column.Find(table.Fields(), name)])
	}
	return quoteStored(fields, "%")
}

// createView returns the statement that makes a view.
func createView(v *warehouse.View) string {
	return "CREATE VIEW " + quote(v.Name) + " AS " + v.SQL(quote, quote)
}

// Constrain makes the indexes: of a table that is full, in half the time.
func (t *tx) Constrain(ctx context.Context, table *warehouse.Table) error {
	for _, sql := range indexes(table) {
		if err := t.exec(sql); err != nil {
			return err
		}
	}
	return nil
}

// indexes returns the statements that make a table's indexes.
func indexes(table *warehouse.Table) []string {
	var statements []string
	add := func(unique, name string, columns []string) {
		if len(columns) > 0 {
			statements = append(
				statements,
				fmt.Sprintf(
					"CREATE %sINDEX IF NOT EXISTS %s ON %s (%s)",
					unique,
					quote(table.Name+name),
					quote(table.Name),
					strings.Join(storedNames(table, columns), ", "),
				),
			)
		}
	}
	add("UNIQUE ", "_unique", table.Unique)
	add("", "_index", table.Index)
	return statements
}

// AddColumn adds a column; SQLite wants a default for one that cannot be null, and it stays.
func (t *tx) AddColumn(ctx context.Context, table string, c warehouse.Column, fill *int64) error {
	sql := "ALTER TABLE " + quote(table) + " ADD COLUMN " + quote(stored(c.Field)) + " " + declared(c.Type)
	if c.NotNull {
		sql += " NOT NULL"
	}
	if fill != nil {
		sql += fmt.Sprintf(" DEFAULT %d", *fill)
	}
	if err := t.exec(sql); err != nil {
		return err
	}
	if computed := double(c.Field); computed != "" {
		return t.exec("ALTER TABLE " + quote(table) + " ADD COLUMN " + computed)
	}
	return nil
}

// Statements returns none: what is in the file is at hand anyway.
func (t *tx) Statements() warehouse.Statements { return nil }

// Share does nothing: whoever may read the file may read all of it.
func (t *tx) Share(context.Context, []string) error { return nil }

// DropView removes a view.
func (t *tx) DropView(ctx context.Context, name string) error {
	return t.exec("DROP VIEW IF EXISTS " + quote(name))
}

// Drop removes a table.
func (t *tx) Drop(ctx context.Context, table string) error {
	return t.exec("DROP TABLE " + quote(table))
}

// Clear removes all rows of a table.
func (t *tx) Clear(ctx context.Context, table string) error {
	return t.exec("DELETE FROM " + quote(table))
}

// CreateView makes a view.
func (t *tx) CreateView(ctx context.Context, v *warehouse.View) error {
	return t.exec(createView(v))
}
