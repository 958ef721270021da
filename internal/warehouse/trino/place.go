package trino

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/column"
	"ironmonger/internal/dberror"
	"ironmonger/internal/exact"
	"ironmonger/internal/expr"
	"ironmonger/internal/parse"
	"ironmonger/internal/trinodb"
	"ironmonger/internal/warehouse"
)

// place is a schema of a catalog: that which readers see, or a copy of its pointers.
type place struct {
	*DB
	catalog, schema string
}

// table writes the name of a table.
func (p place) table(name string) string {
	return quote(p.catalog) + "." + quote(p.schema) + "." + quote(name)
}

// pointer is where what a table or view holds is written down.
type pointer struct{ location, kind string }

// pointers returns those of a schema, by names.
func pointers(ctx context.Context, q interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}, catalog, schema string) (map[string]pointer, error) {
	const sql = "SELECT table_name, metadata_location, coalesce(iceberg_type, 'TABLE') FROM iceberg_tables WHERE catalog_name = $1 AND table_namespace = $2"
	rows, err := q.Query(ctx, sql, catalog, schema)
	if err != nil {
		return nil, dberror.Postgres(err)
	}
	list := map[string]pointer{}
	var name string
	var at pointer
	_, err = pgx.ForEachRow(rows, []any{&name, &at.location, &at.kind}, func() error {
		list[name] = at
		return nil
	})
	return list, dberror.Postgres(err)
}

// copyPointers copies what is published into the working catalog, by one statement, so that it is of one time.
func (db *DB) copyPointers(ctx context.Context) (place, map[string]pointer, error) {
	p := place{db, db.at.Working, newName()}
	if err := p.make(ctx); err != nil {
		return p, nil, err
	}
	const tables = "INSERT INTO iceberg_tables (catalog_name, table_namespace, table_name, metadata_location, iceberg_type) " +
		"SELECT $1, $2, table_name, metadata_location, iceberg_type FROM iceberg_tables WHERE catalog_name = $3 AND table_namespace = $4"
	if _, err := db.database.Exec(ctx, tables, p.catalog, p.schema, db.at.Published, db.at.Schema); err != nil {
		p.abandon()
		return p, nil, dberror.Postgres(err)
	}
	base, err := pointers(ctx, db.database, p.catalog, p.schema)
	if err != nil {
		p.abandon()
	}
	return p, base, err
}

// make makes the schema.
func (p place) make(ctx context.Context) error {
	const sql = "INSERT INTO iceberg_namespace_properties (catalog_name, namespace, property_key, property_value) VALUES ($1, $2, 'exists', 'true')"
	_, err := p.database.Exec(ctx, sql, p.catalog, p.schema)
	return dberror.Postgres(err)
}

// abandon removes the copied pointers, and nothing that they lead to. Statements that are still going on have nowhere to
// commit then.
func (p place) abandon() error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	_, err := p.database.Exec(ctx, "DELETE FROM iceberg_tables WHERE catalog_name = $1 AND table_namespace = $2", p.catalog, p.schema)
	if err == nil {
		_, err = p.database.Exec(ctx, "DELETE FROM iceberg_namespace_properties WHERE catalog_name = $1 AND namespace = $2", p.catalog, p.schema)
	}
	return dberror.Postgres(err)
}

// pointer returns that of a table or view; an empty one if there is none.
func (p place) pointer(ctx context.Context, name string) (at pointer, err error) {
	const sql = "SELECT metadata_location, coalesce(iceberg_type, 'TABLE') FROM iceberg_tables WHERE catalog_name = $1 AND table_namespace = $2 AND table_name = $3"
	err = p.database.QueryRow(ctx, sql, p.catalog, p.schema, name).Scan(&at.location, &at.kind)
	if errors.Is(err, pgx.ErrNoRows) {
		return pointer{}, nil
	}
	return at, dberror.Postgres(err)
}

// describe returns the columns of a table or view. They are asked for once for each state of it.
func (p place) describe(ctx context.Context, name string) (warehouse.Description, error) {
	at, err := p.pointer(ctx, name)
	if err != nil || at.location == "" {
		return nil, err
	}
	d, err := p.columnsOf(ctx, at.location)
	if err != nil || d != nil {
		return d, err
	}
	const sql = "SELECT column_name, data_type, is_nullable FROM %s.information_schema.columns WHERE table_schema = %s AND table_name = %s ORDER BY ordinal_position"
	err = p.engine.Ask(ctx, fmt.Sprintf(sql, quote(p.catalog), text(p.schema), text(name)), func(values [][]byte) error {
		d = append(d, warehouse.Standing{Name: string(values[0]), Type: string(values[1]), NotNull: string(values[2]) == "NO"})
		return nil
	})
	if err != nil {
		return nil, err
	}
	p.know(at.location, d)
	return d, nil
}

// run runs a statement and returns how many rows it has changed.
func (p place) run(ctx context.Context, sql string) (int64, error) {
	result, err := p.engine.ExecContext(ctx, sql)
	if err != nil {
		return 0, dberror.Trino(err)
	}
	return result.RowsAffected()
}

// read sends a query.
func (p place) read(ctx context.Context, q warehouse.Query) (warehouse.Rows, error) {
	r := &rows{query: q, reader: parse.NewReader(nil)}
	if len(q.By) > 0 && len(q.Match[0].Null) == 0 {
		return r, nil
	}
	if at, err := p.pointer(ctx, q.Table); err != nil || p.isEmpty(at) {
		return r, err
	}
	parts := make([]string, len(q.Fields))
	for k, f := range q.Fields {
		parts[k] = "t." + quote(f.Name)
		if q.Convert {
			parts[k] = fmt.Sprintf("CAST(%s AS %s)", parts[k], expr.TrinoType(f.Type))
		}
		parts[k] = said(parts[k], f.Type)
	}
	if len(parts) == 0 {
		parts = []string{"1"}
	}
	r.values, r.into = trinodb.Values(len(parts))
	sql := "SELECT " + strings.Join(parts, ", ") + " FROM " + p.table(q.Table) + " AS t"
	if len(q.By) > 0 {
		m, err := p.give(ctx, q.Match, every(len(q.Match[0].Null)))
		if err != nil {
			return nil, err
		}
		r.close = m.drop
		sql += " JOIN " + m.sql + " ON " + equal(q.By, 0)
	}
	if len(q.OrderBy) > 0 {
		direction := " ASC NULLS LAST"
		if q.Descending {
			direction = " DESC NULLS FIRST"
		}
		sql += " ORDER BY " + quoteAll(q.OrderBy, "t.%"+direction)
	}
	if q.Limit > 0 {
		sql += fmt.Sprintf(" LIMIT %d", q.Limit)
	}
	var err error
	if r.answer, err = p.engine.QueryContext(ctx, sql); err != nil {
		r.Close()
		return nil, dberror.Trino(err)
	}
	return r, nil
}

func every(n int) []int32 {
	rows := make([]int32, n)
	for i := range rows {
		rows[i] = int32(i)
	}
	return rows
}

// tally counts the rows of a table and adds up columns, as numbers of 38 digits. A sum of more is an error. What was counted once
// of what a pointer leads to is not counted again.
func (p place) tally(ctx context.Context, table string, measures []column.Field) (warehouse.Tally, error) {
	at, err := p.pointer(ctx, table)
	if err != nil {
		return warehouse.Tally{}, err
	}
	if t, ok := p.tallied(at, measures); ok {
		return t, nil
	}
	t, err := p.count(ctx, table, measures)
	if err != nil {
		return t, err
	}
	after, err := p.pointer(ctx, table)
	if err == nil && after == at { // nobody has published another state meanwhile
		p.keepTally(at, measures, t)
	}
	return t, err
}

func (p place) count(ctx context.Context, table string, measures []column.Field) (warehouse.Tally, error) {
	parts := []string{"count(*)"}
	for _, f := range measures {
		parts = append(parts, fmt.Sprintf("CAST(sum(CAST(%s AS decimal(38,%d))) AS varchar)", quote(f.Name), f.Type.Scale))
	}
	t := warehouse.Tally{Totals: make([]exact.Int128, len(measures))}
	sql := "SELECT " + strings.Join(parts, ", ") + " FROM " + p.table(table)
	err := p.engine.Ask(ctx, sql, func(values [][]byte) error {
		if _, err := fmt.Sscan(string(values[0]), &t.Rows); err != nil {
			return err
		}
		for k, f := range measures {
			if values[k+1] == nil {
				continue
			}
			sum := column.Column{Type: column.Type{Kind: column.Decimal, Precision: exact.MaxDigits, Scale: f.Type.Scale}}
			sum.Resize(1)
			if err := parse.NewReader(nil).Set(&sum, 0, string(values[k+1])); err != nil {
				return fmt.Errorf("the total of %s.%s: %w", table, f.Name, err)
			}
			t.Totals[k] = sum.Exact(0)
		}
		return nil
	})
	return t, err
}
