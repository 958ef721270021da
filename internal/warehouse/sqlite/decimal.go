package sqlite

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"zombiezen.com/go/sqlite"

	"ironmonger/internal/column"
	"ironmonger/internal/dberror"
	"ironmonger/internal/exact"
	"ironmonger/internal/parse"
)

// SQLite has no decimals. How one stands is decided by its column's type (rule R25), never by a value:
//
//   - up to 15 digits: a double, which reads back to exactly the decimal;
//   - up to 18 digits: an integer of units of the last place;
//   - beyond: text.
//
// Where the exact column is not what people ask for by the column's name, it has another name, and under the
// column's own name there is a double that SQLite works out: comparisons with numbers mean what they say.
const (
	exactDigits = 15
	unitDigits  = 18
	unitsSuffix = "_units"
	exactSuffix = "_exact"
)

// stored returns the name under which a column really stands.
func stored(f column.Field) string {
	switch {
	case f.Type.Kind != column.Decimal || f.Type.Precision <= exactDigits || f.Type.Precision <= unitDigits && f.Type.Scale == 0:
		return f.Name
	case f.Type.Precision <= unitDigits:
		return f.Name + unitsSuffix
	}
	return f.Name + exactSuffix
}

// declared returns the SQL type of the column that really stands. The first word tells SQLite how to keep values.
func declared(t column.Type) string {
	switch {
	case t.Kind != column.Decimal:
		return strings.ToUpper(t.String())
	case t.Precision <= exactDigits:
		return "REAL " + strings.ToUpper(t.String())
	case t.Precision <= unitDigits:
		return "INTEGER " + strings.ToUpper(t.String())
	}
	return "TEXT " + strings.ToUpper(t.String())
}

// double returns the definition of the column that people ask for, where another one really stands; else "".
func double(f column.Field) string {
	name := stored(f)
	if name == f.Name {
		return ""
	}
	value := fmt.Sprintf("CAST(%s AS REAL)", quote(name))
	if strings.HasSuffix(name, unitsSuffix) {
		value = fmt.Sprintf("%s / %s.0", quote(name), exact.Pow10(int(f.Type.Scale)).Big())
	}
	return fmt.Sprintf("%s REAL GENERATED ALWAYS AS (%s) VIRTUAL", quote(f.Name), value)
}

// quoteStored quotes the names under which columns really stand.
func quoteStored(fields []column.Field, format string) []string {
	names := make([]string, len(fields))
	for k, f := range fields {
		names[k] = stored(f)
	}
	return quoteAll(names, format)
}

// known is a column of a table as SQLite has it.
type known struct {
	name, declared    string
	notNull, computed bool
}

func (db *connection) known(table string) ([]known, error) {
	stmt, _, err := db.conn.PrepareTransient(
		"SELECT name, type, \"notnull\", hidden FROM pragma_table_xinfo(?) ORDER BY cid",
	)
	if err != nil {
		return nil, dberror.SQLite(err)
	}
	defer stmt.Finalize()
	stmt.BindText(1, table)
	var list []known
	for {
		more, err := stmt.Step()
		if err != nil || !more {
			return list, dberror.SQLite(err)
		}
		list = append(
			list,
			known{
				stmt.ColumnText(0),
				strings.ToUpper(stmt.ColumnText(1)),
				stmt.ColumnInt(2) != 0,
				stmt.ColumnInt(3) > 1,
			},
		)
	}
}

// shown returns the name that a column which really stands has for people.
func (k known) shown() string {
	for suffix, kind := range map[string]string{unitsSuffix: "INTEGER DECIMAL(", exactSuffix: "TEXT DECIMAL("} {
		if name, ok := strings.CutSuffix(k.name, suffix); ok && strings.HasPrefix(k.declared, kind) {
			return name
		}
	}
	return k.name
}

// old says which of some columns of a table stand as older versions of the program or somebody else left them: under
// their own names, each value as it fits.
func (db *connection) old(table string, fields []column.Field) ([]bool, error) {
	old := make([]bool, len(fields))
	if !slices.ContainsFunc(fields, func(f column.Field) bool { return stored(f) != f.Name }) {
		return old, nil
	}
	there, err := db.known(table)
	for k, f := range fields {
		old[k] = stored(f) != f.Name && !slices.ContainsFunc(there, func(c known) bool { return c.name == stored(f) })
	}
	return old, err
}

// Renew brings decimals of a table that an older version of the program made to how they stand now.
func (t *tx) Renew(ctx context.Context, table string, fields []column.Field) error {
	views, err := t.viewsOf(table)
	if err != nil {
		return err
	}
	for _, v := range views {
		if err := t.DropView(ctx, v[0]); err != nil {
			return err
		}
	}
	for _, f := range fields {
		if err := t.renew(ctx, table, f); err != nil {
			return fmt.Errorf("table %s: column %s cannot be rewritten: %w", table, f.Name, err)
		}
	}
	for _, v := range views {
		if err := t.exec(v[1]); err != nil {
			return err
		}
	}
	return nil
}

// viewsOf returns the names and statements of the views that speak of a table.
func (db *connection) viewsOf(table string) ([][2]string, error) {
	stmt, _, err := db.conn.PrepareTransient(
		"SELECT name, sql FROM sqlite_master WHERE type = 'view' AND instr(sql, ?) > 0",
	)
	if err != nil {
		return nil, dberror.SQLite(err)
	}
	defer stmt.Finalize()
	stmt.BindText(1, quote(table))
	var list [][2]string
	for {
		more, err := stmt.Step()
		if err != nil || !more {
			return list, dberror.SQLite(err)
		}
		list = append(list, [2]string{stmt.ColumnText(0), stmt.ColumnText(1)})
	}
}

// renewing is how many rows are rewritten at a time.
const renewing = 10_000

func (t *tx) renew(ctx context.Context, table string, f column.Field) error {
	name, from := stored(f), quote(f.Name)
	if name == f.Name { // the new column takes the name of the old one
		from = quote(f.Name + "_before")
		if err := t.exec(fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s", quote(table), quote(f.Name), from)); err != nil {
			return err
		}
	}
	if err := t.exec(fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s", quote(table), quote(name), declared(f.Type))); err != nil {
		return err
	}
	read, _, err := t.conn.PrepareTransient(
		fmt.Sprintf("SELECT %s, rowid FROM %s WHERE rowid > ? ORDER BY rowid LIMIT %d", from, quote(table), renewing),
	)
	if err != nil {
		return dberror.SQLite(err)
	}
	defer read.Finalize()
	write, _, err := t.conn.PrepareTransient(
		fmt.Sprintf("UPDATE %s SET %s = ? WHERE rowid = ?", quote(table), quote(name)),
	)
	if err != nil {
		return dberror.SQLite(err)
	}
	defer write.Finalize()
	var bind binder
	values := column.Column{Type: f.Type}
	values.Resize(renewing)
	reader, rowids := parse.NewReader(nil), make([]int64, renewing)
	for last := int64(-1 << 63); ; {
		n := 0
		read.BindInt64(1, last)
		for ; ; n++ {
			more, err := read.Step()
			if err != nil {
				return dberror.SQLite(err)
			}
			if !more {
				break
			}
			if err := readDecimal(read, 0, reader, &values, n, false); err != nil {
				return err
			}
			rowids[n] = read.ColumnInt64(1)
		}
		if err := read.Reset(); err != nil {
			return dberror.SQLite(err)
		}
		for i := range n {
			bind.bind(write, 1, &values, i)
			write.BindInt64(2, rowids[i])
			if _, err := write.Step(); err != nil {
				return dberror.SQLite(err)
			}
			if err := write.Reset(); err != nil {
				return dberror.SQLite(err)
			}
		}
		if n < renewing {
			break
		}
		last = rowids[n-1]
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	if err := t.exec(fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", quote(table), from)); err != nil {
		return err
	}
	if computed := double(f); computed != "" {
		return t.exec(fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s", quote(table), computed))
	}
	return nil
}

// readDecimal reads a decimal of an answer into row i of c; units says that an integer is one of units of the last
// place.
func readDecimal(stmt *sqlite.Stmt, at int, r *parse.Reader, c *column.Column, i int, units bool) error {
	scale := int(c.Type.Scale)
	kind := stmt.ColumnType(at)
	if kind == sqlite.TypeNull {
		c.SetNull(i)
		return nil
	}
	c.Null[i] = false
	switch kind {
	case sqlite.TypeFloat:
		if v, ok := nearest(stmt.ColumnFloat(at), scale); ok {
			return set(stmt, at, c, i, exact.Wide(v))
		}
	case sqlite.TypeInteger:
		v, ok := exact.Wide(stmt.ColumnInt64(at)), true
		if !units {
			v, ok = v.Rescale(0, scale)
		}
		if ok {
			return set(stmt, at, c, i, v)
		}
	}
	text := stmt.ColumnText(at)
	if err := r.Set(c, i, text); err != nil {
		return fmt.Errorf("column %s: %s %v", stmt.ColumnName(at), text, err)
	}
	return nil
}

// set sets an unscaled value that has to fit.
func set(stmt *sqlite.Stmt, at int, c *column.Column, i int, v exact.Int128) error {
	if !v.Fits(int(c.Type.Precision)) || !c.SetExact(i, v) {
		return fmt.Errorf("column %s: %s has too many digits", stmt.ColumnName(at), stmt.ColumnText(at))
	}
	return nil
}
