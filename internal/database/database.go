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
	"ironmonger/internal/expr"
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
	// levels is of how many names the name of a table is at most.
	levels() int
	// placeholder is the nth parameter, from 1, of a value.
	placeholder(n int, v star.Value) string
	// text is a column as the text that is read.
	text(quoted string, c Column) string
	// literal is a value as it stands in a select that has no parameters.
	literal(v star.Value) string
	// ordered makes an expression of a column that is ordered the same whatever the collation.
	ordered(quoted string, text bool) string
	Close()
}

// usual is what most drivers have in common.
type usual struct{}

func (usual) levels() int { return 2 }

func (usual) text(quoted string, _ Column) string { return quoted }

func (usual) literal(v star.Value) string { return expr.Quoted(v.Text) }

// Open connects to a database. A file is seen from dir.
func Open(ctx context.Context, d *star.Database, dir string) (*DB, error) {
	open := map[string]func(context.Context, *star.Database, string) (driver, error){
		star.SQLite: openSQLite, star.Postgres: openPostgres, star.MySQL: openMySQL, star.Trino: openTrino}
	inner, err := open[d.Kind](ctx, d, dir)
	if err != nil {
		return nil, fmt.Errorf("database %s: %w", d.Text, err)
	}
	return &DB{inner}, nil
}

// Close ends the connection.
func (db *DB) Close() { db.inner.Close() }

// from returns what stands behind from in a select.
func (db *DB) from(q *Query, parameter parameter) string {
	if q.Table == "" {
		var b strings.Builder
		for i, text := range q.Texts {
			if i > 0 {
				b.WriteString(parameter(i, q.Args[i-1]))
			}
			b.WriteString(text)
		}
		// the newline ends a comment that the query may end with
		return "(" + strings.TrimRight(strings.TrimSpace(b.String()), ";") + "\n) " + db.inner.quote("q")
	}
	var parts []string
	for _, name := range strings.SplitN(q.Table, ".", db.inner.levels()) {
		parts = append(parts, db.inner.quote(name))
	}
	return strings.Join(parts, ".")
}

// parameter writes the nth parameter, from 1, of a value.
type parameter func(n int, v star.Value) string

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
	wanted := []string{"1"}
	for k, read := range c.columns {
		wanted = append(wanted[:k], db.inner.text(db.inner.quote(read.Name), read))
	}
	sql := "select " + strings.Join(wanted, ", ") + c.from
	if len(c.by) > 0 {
		sql += " order by " + strings.Join(c.by, ", ")
	}
	return db.inner.run(ctx, sql, c.args, row)
}

// Select is a select, without parameters, of what [DB.Each] reads.
type Select struct {
	SQL     string   // the columns as c0, c1 and so on, and what orders the rows as o0, o1 and so on
	Columns []Column // what c0 is, and so on
	Order   []Column // what o0 is
	Texts   []string // of c0 and so on, the SQL of the text that is read
}

// Plain returns the select of what [DB.Each] reads, of a database that [DB.Each] and statements of others can read.
func (db *DB) Plain(ctx context.Context, q Query) (s Select, err error) {
	literal := func(_ int, v star.Value) string { return db.inner.literal(v) }
	c, err := db.clauses(ctx, &q, literal)
	if err != nil {
		return s, err
	}
	var parts []string
	for k, read := range c.columns {
		name := fmt.Sprintf("c%d", k)
		parts = append(parts, db.inner.quote(read.Name)+" as "+name)
		s.Texts = append(s.Texts, db.inner.text(name, read))
	}
	for k, by := range c.by {
		parts = append(parts, fmt.Sprintf("%s as o%d", by, k))
	}
	s.SQL, s.Columns, s.Order = "select "+strings.Join(parts, ", ")+c.from, c.columns, c.order
	return s, nil
}

// clauses are the parts of a select.
type clauses struct {
	columns, order []Column
	by             []string // how the columns of the order are written
	from           string   // and where
	args           []star.Value
}

// clauses returns the parts of a select.
func (db *DB) clauses(ctx context.Context, q *Query, parameter parameter) (*clauses, error) {
	all, err := db.Columns(ctx, *q)
	if err != nil {
		return nil, err
	}
	named := func(name string) Column {
		for _, c := range all {
			if c.Name == name {
				return c
			}
		}
		return Column{Name: name}
	}
	c := &clauses{from: " from " + db.from(q, parameter), args: q.Args}
	for _, name := range q.Columns {
		c.columns = append(c.columns, named(name))
	}
	by := q.OrderBy
	if by == nil {
		by = q.Columns
	}
	for _, name := range by {
		of := named(name)
		text := of.Type.Kind == column.Text || of.Type.Kind == column.Null
		c.order, c.by = append(c.order, of), append(c.by, db.inner.ordered(db.inner.quote(name), text))
	}
	if w := q.Since; w.Column != "" {
		c.args = append(slices.Clone(q.Args), w.From)
		name := db.inner.quote(w.Column)
		c.from += fmt.Sprintf(" where %s >= %s or %s is null", name, parameter(len(c.args), w.From), name)
	}
	return c, nil
}
