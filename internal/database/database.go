// Package database streams tables and queries of other databases: read-only, row by row, every value as the text
// that the database itself writes for it. What type a column has is said beside; turning text into typed values is
// left to who reads, so that there is one way in which values become typed, whatever they came from.
//
// It writes nothing anywhere: connections are opened for reading, and transactions are read-only. Parameters are
// bound, names are quoted.
package database

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/star"
)

// Column is a column of a table or query. Where its type is none of ours, Type is Null and Foreign says what it is.
type Column struct {
	Name    string
	Type    column.Type
	Foreign string
}

// Query asks for columns of a table or query; Texts and Args are a query cut at its parameters, and their values.
type Query struct {
	Table   string
	Texts   []string
	Args    []star.Value
	Columns []string
	OrderBy []string
	Since   Since
}

// Since chooses the rows that are not before a value in a column, and those that have none there. Without a column, it
// chooses all.
type Since struct {
	Column string
	From   star.Value
}

// DB is an open database. It is used by one goroutine at a time.
type DB struct{ inner driver }

// driver is what differs between databases.
type driver interface {
	// columns describes what a select gives.
	columns(ctx context.Context, sql string, args []star.Value) ([]Column, error)
	// run returns each row of a select to row, null as nil. The values are row's until it returns.
	run(ctx context.Context, sql string, args []star.Value, row func(values [][]byte) error) error
	quote(name string) string
	// placeholder is the nth parameter, from 1.
	placeholder(n int) string
	// ordered makes an expression of a column that is ordered the same whatever the collation.
	ordered(quoted string, text bool) string
	Close()
}

// Open connects to a database. A file is seen from dir.
func Open(ctx context.Context, d *star.Database, dir string) (*DB, error) {
	open := map[string]func(context.Context, *star.Database, string) (driver, error){
		star.SQLite: openSQLite, star.Postgres: openPostgres, star.MySQL: openMySQL}
	inner, err := open[d.Kind](ctx, d, dir)
	if err != nil {
		return nil, fmt.Errorf("database %s: %w", d.Text, err)
	}
	return &DB{inner}, nil
}

// Close ends the connection.
func (db *DB) Close() { db.inner.Close() }

// from returns what stands behind from in a select.
func (db *DB) from(q *Query, parameter func(n int) string) string {
	if q.Table == "" {
		var b strings.Builder
		for i, text := range q.Texts {
			if i > 0 {
				b.WriteString(parameter(i))
			}
			b.WriteString(text)
		}
		// the newline ends a comment that the query may end with
		return "(" + strings.TrimRight(strings.TrimSpace(b.String()), ";") + "\n) " + db.inner.quote("q")
	}
	schema, table, two := strings.Cut(q.Table, ".")
	if !two {
		return db.inner.quote(schema)
	}
	return db.inner.quote(schema) + "." + db.inner.quote(table)
}

// Columns lists all columns of the table or query.
func (db *DB) Columns(ctx context.Context, q Query) ([]Column, error) {
	return db.inner.columns(ctx, "select * from "+db.from(&q, db.inner.placeholder), q.Args)
}

// Each returns the rows to row, with the columns wanted, in the order asked for: by those columns, text by its
// bytes. What they leave open is left to the database. The values are row's until it returns; null is nil.
func (db *DB) Each(ctx context.Context, q Query, row func(values [][]byte) error) error {
	c, err := db.clauses(ctx, &q, db.inner.placeholder)
	if err != nil {
		return err
	}
	if len(c.columns) == 0 {
		c.columns = []string{"1"}
	}
	sql := "select " + strings.Join(c.columns, ", ") + c.from
	if len(c.order) > 0 {
		sql += " order by " + strings.Join(c.order, ", ")
	}
	return db.inner.run(ctx, sql, c.args, row)
}

// Plain returns a select, without parameters, of what [DB.Each] reads: the columns as c0, c1 and so on, and what the rows
// are ordered by as o0, o1 and so on, of which there are order.
func (db *DB) Plain(ctx context.Context, q Query) (sql string, order int, err error) {
	values := append(slices.Clone(q.Args), q.Since.From)
	literal := func(n int) string { return "'" + strings.ReplaceAll(values[n-1].Text, "'", "''") + "'" }
	c, err := db.clauses(ctx, &q, literal)
	if err != nil {
		return "", 0, err
	}
	var parts []string
	for k, name := range c.columns {
		parts = append(parts, fmt.Sprintf("%s as c%d", name, k))
	}
	for k, by := range c.order {
		parts = append(parts, fmt.Sprintf("%s as o%d", by, k))
	}
	return "select " + strings.Join(parts, ", ") + c.from, len(c.order), nil
}

// clauses are the parts of a select.
type clauses struct {
	columns, order []string
	from           string // and where
	args           []star.Value
}

// clauses returns the parts of a select; parameter writes the nth one, from 1.
func (db *DB) clauses(ctx context.Context, q *Query, parameter func(n int) string) (*clauses, error) {
	all, err := db.Columns(ctx, *q)
	if err != nil {
		return nil, err
	}
	text := map[string]bool{}
	for _, c := range all {
		text[c.Name] = c.Type.Kind == column.Text || c.Type.Kind == column.Null
	}
	c := &clauses{from: " from " + db.from(q, parameter), args: q.Args}
	for _, name := range q.Columns {
		c.columns = append(c.columns, db.inner.quote(name))
	}
	by := q.OrderBy
	if by == nil {
		by = q.Columns
	}
	for _, name := range by {
		c.order = append(c.order, db.inner.ordered(db.inner.quote(name), text[name]))
	}
	if w := q.Since; w.Column != "" {
		c.args = append(slices.Clone(q.Args), w.From)
		name := db.inner.quote(w.Column)
		c.from += fmt.Sprintf(" where %s >= %s or %s is null", name, parameter(len(c.args)), name)
	}
	return c, nil
}
