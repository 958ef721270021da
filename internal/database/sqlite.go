package database

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ironmonger/internal/column"
	"ironmonger/internal/dberror"
	"ironmonger/internal/star"
)

type sqliteDB struct {
	usual
	conn *sqlite.Conn
}

func openSQLite(ctx context.Context, d *star.Database, dir string) (driver, error) {
	file := d.Path
	if !filepath.IsAbs(file) {
		file = filepath.Join(dir, file)
	}
	if info, err := os.Stat(file); err != nil {
		return nil, errors.New("there is no file " + d.Path)
	} else if !info.Mode().IsRegular() {
		return nil, errors.New(d.Path + " is a folder or a device, not a file")
	}
	conn, err := sqlite.OpenConn(file, sqlite.OpenReadOnly|sqlite.OpenURI)
	if err != nil {
		return nil, dberror.SQLite(err)
	}
	conn.SetInterrupt(ctx.Done())
	conn.SetBusyTimeout(10 * time.Second)
	if err := sqlitex.ExecuteTransient(conn, "select count(*) from sqlite_schema", nil); err != nil {
		conn.Close()
		return nil, dberror.SQLite(err)
	}
	return &sqliteDB{conn: conn}, nil
}

func (db *sqliteDB) Close() { db.conn.Close() }

func (db *sqliteDB) quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func (db *sqliteDB) placeholder(n int, _ star.Value) string { return fmt.Sprintf("?%d", n) }

func (db *sqliteDB) ordered(quoted string, _ bool) string { return quoted + " collate binary" }

// columns asks for the declared types by way of a temporary view, which knows where its columns come from.
func (db *sqliteDB) columns(ctx context.Context, sql string, args []star.Value) (list []Column, err error) {
	for n := len(args); n > 0; n-- {
		sql = strings.ReplaceAll(sql, db.placeholder(n, star.Value{}), "null")
	}
	if err := sqlitex.ExecuteTransient(db.conn, "create temp view ironmonger_look as "+sql, nil); err != nil {
		return nil, dberror.SQLite(err)
	}
	defer sqlitex.ExecuteTransient(db.conn, "drop view temp.ironmonger_look", nil)
	err = sqlitex.ExecuteTransient(
		db.conn,
		"pragma temp.table_xinfo(ironmonger_look)",
		&sqlitex.ExecOptions{ResultFunc: func(s *sqlite.Stmt) error {
			c := Column{Name: s.GetText("name"), Foreign: strings.ToLower(s.GetText("type"))}
			if c.Type = sqliteType(c.Foreign); c.Foreign == "" {
				c.Foreign = "no declared type"
			}
			list = append(list, c)
			return nil
		}},
	)
	return list, dberror.SQLite(err)
}

// sqliteType reads a declared type: ours, or what SQL and SQLite's affinities call it.
func sqliteType(declared string) column.Type {
	name, _, _ := strings.Cut(declared, "(")
	name = strings.TrimSpace(name)
	switch {
	case name == "decimal" || name == "numeric":
		t, _ := column.ParseType(declared)
		return t
	case name == "date":
		return column.Type{Kind: column.Date}
	case name == "datetime" || strings.HasPrefix(name, "timestamp"):
		return column.Type{Kind: column.Timestamp}
	case name == "time":
		return column.Type{Kind: column.Time}
	case strings.HasPrefix(name, "bool"):
		return column.Type{Kind: column.Boolean}
	case strings.Contains(name, "int"):
		return column.Type{Kind: column.Integer}
	case strings.Contains(name, "char"), strings.Contains(name, "clob"), strings.Contains(name, "text"):
		return column.Type{Kind: column.Text}
	case strings.Contains(name, "real"), strings.Contains(name, "floa"), strings.Contains(name, "doub"):
		return column.Type{Kind: column.Double}
	}
	return column.Type{}
}

func (db *sqliteDB) run(ctx context.Context, sql string, args []star.Value, row func([][]byte) error) error {
	stmt, trailing, err := db.conn.PrepareTransient(sql)
	if err != nil {
		return dberror.SQLite(err)
	}
	defer stmt.Finalize()
	if trailing > 0 {
		return errors.New("the query is several statements")
	}
	for i, a := range args {
		bindSQLite(stmt, i+1, a)
	}
	values := make([][]byte, stmt.ColumnCount())
	buffers := make([][]byte, len(values))
	for {
		more, err := stmt.Step()
		if err != nil || !more {
			return dberror.SQLite(err)
		}
		for k := range values {
			switch stmt.ColumnType(k) {
			case sqlite.TypeNull:
				values[k] = nil
				continue
			case sqlite.TypeInteger:
				buffers[k] = strconv.AppendInt(buffers[k][:0], stmt.ColumnInt64(k), 10)
			case sqlite.TypeFloat:
				buffers[k] = strconv.AppendFloat(buffers[k][:0], stmt.ColumnFloat(k), 'f', -1, 64)
			default:
				n := stmt.ColumnLen(k)
				if cap(buffers[k]) < n {
					buffers[k] = make([]byte, n)
				}
				buffers[k] = buffers[k][:n]
				stmt.ColumnBytes(k, buffers[k])
			}
			values[k] = buffers[k][:len(buffers[k]):len(buffers[k])]
			if values[k] == nil {
				values[k] = []byte{}
			}
		}
		if err := row(values); err != nil {
			return err
		}
	}
}

// bindSQLite binds an integer as a number and a text as a text, whatever it looks like: SQLite compares neither
// with the other.
func bindSQLite(stmt *sqlite.Stmt, n int, value star.Value) {
	if v, err := strconv.ParseInt(value.Text, 10, 64); err == nil && value.Type.Kind == column.Integer {
		stmt.BindInt64(n, v)
	} else {
		stmt.BindText(n, value.Text)
	}
}
