package dberror

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"
)

// TestWraps: callers can ask an error what it was, whatever its words are.
func TestWraps(t *testing.T) {
	if Postgres(nil) != nil || MySQL(nil) != nil || SQLite(nil) != nil {
		t.Error("no error became one")
	}
	if Postgres(context.Canceled) != context.Canceled {
		t.Error("an interrupt is no longer one")
	}
	server := &pgconn.PgError{Code: "57014", Message: "canceling statement due to statement timeout", Detail: "after 5 s"}
	err := Postgres(fmt.Errorf("read: %w", server))
	var was *pgconn.PgError
	if !errors.As(err, &was) || was.Code != "57014" || err.Error() != "canceling statement due to statement timeout (after 5 s)" {
		t.Errorf("%v, %+v", err, was)
	}
	if err := Postgres(fmt.Errorf("conn: %w", io.ErrUnexpectedEOF)); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("a broken connection is %v", err)
	}
	err = MySQL(fmt.Errorf("query: %w", &mysql.MySQLError{Number: 1146, Message: "Table 'x' doesn't exist"}))
	var mine *mysql.MySQLError
	if !errors.As(err, &mine) || mine.Number != 1146 || err.Error() != "Table 'x' doesn't exist" {
		t.Errorf("%v", err)
	}
}

// TestSecret: no part of a password is in the words of an error, however it is written.
func TestSecret(t *testing.T) {
	for _, connection := range []string{
		"host=h password=hush-hush sslmode=odd",
		`host=h password='hush \' hush' sslmode=odd`,
		`host=h password='hush`,
		"postgres://me:hush-hush@h:port/db",
		"postgres://me:hush-hush@h/db?sslmode=odd",
		"postgres://me:hu%sh@h/db",
	} {
		_, cause := pgconn.ParseConfig(connection)
		if cause == nil {
			t.Fatalf("%s is understood", connection)
		}
		if said := Postgres(cause).Error(); strings.Contains(said, "hush") || strings.Contains(said, "hu%") {
			t.Errorf("%s: %s", connection, said)
		}
	}
	said := Postgres(errors.New("failed: host=h PASSWORD = 'a b\\'c' user=me //me:hush@h/")).Error()
	if said != "failed: host=h PASSWORD = *** user=me //me:***h/" {
		t.Error(said)
	}
}

// TestSQLite asks SQLite for errors of its own.
func TestSQLite(t *testing.T) {
	dir := t.TempDir()
	other := filepath.Join(dir, "other.db")
	if err := os.WriteFile(other, []byte(strings.Repeat("no database ", 100)), 0o600); err != nil {
		t.Fatal(err)
	}
	conn, err := sqlite.OpenConn(other, sqlite.OpenReadWrite)
	if err == nil {
		err = sqlitex.ExecuteTransient(conn, "SELECT * FROM sqlite_schema", nil)
		conn.Close()
	}
	if said := SQLite(err); said == nil || said.Error() != "this is not an SQLite database" {
		t.Errorf("%v", said)
	}
	path := filepath.Join(dir, "busy.db")
	one, err := sqlite.OpenConn(path)
	if err != nil {
		t.Fatal(err)
	}
	defer one.Close()
	two, err := sqlite.OpenConn(path)
	if err != nil {
		t.Fatal(err)
	}
	defer two.Close()
	two.SetBusyTimeout(0)
	if err := sqlitex.ExecuteTransient(one, "BEGIN IMMEDIATE", nil); err != nil {
		t.Fatal(err)
	}
	err = SQLite(sqlitex.ExecuteTransient(two, "BEGIN IMMEDIATE", nil))
	if !errors.Is(err, ErrBusy) || sqlite.ErrCode(err).ToPrimary() != sqlite.ResultBusy {
		t.Errorf("%v", err)
	}
	if err := SQLite(sqlitex.ExecuteTransient(one, "SELECT nothing FROM nowhere", nil)); err == nil || strings.Contains(err.Error(), "sqlite:") {
		t.Errorf("%v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	one.SetInterrupt(ctx.Done())
	if err := SQLite(sqlitex.ExecuteTransient(one, "SELECT 1", nil)); !errors.Is(err, context.Canceled) || err.Error() != "stopped" {
		t.Errorf("%v", err)
	}
	one.SetInterrupt(nil)
}

// TestPassing: what may be gone by itself is told from what will be there again.
func TestPassing(t *testing.T) {
	for _, c := range []struct {
		err  error
		want bool
	}{
		{nil, false},
		{errors.New("no such table"), false},
		{context.Canceled, false},
		{Postgres(&pgconn.PgError{Code: "40P01", Message: "deadlock detected"}), true},
		{Postgres(&pgconn.PgError{Code: "57P01", Message: "terminating connection due to administrator command"}), true},
		{Postgres(&pgconn.PgError{Code: "08006"}), true},
		{Postgres(&pgconn.PgError{Code: "23505", Message: "duplicate key"}), false},
		{Postgres(&pgconn.PgError{}), false},
		{fmt.Errorf("reading: %w", io.ErrUnexpectedEOF), true},
		{fmt.Errorf("reading: %w", io.EOF), false},
		{&os.PathError{Op: "open", Path: "x", Err: os.ErrNotExist}, false},
		{&Error{ErrBusy.Error(), errors.Join(ErrBusy, io.EOF)}, true},
		{MySQL(&mysql.MySQLError{Number: 1213}), true},
		{MySQL(&mysql.MySQLError{Number: 1146}), false},
	} {
		if got := Passing(c.err); got != c.want {
			t.Errorf("%v: %v", c.err, got)
		}
	}
}
