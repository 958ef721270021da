package database

import (
	"context"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/dberror"
	"ironmonger/internal/exact"
	"ironmonger/internal/expr"
	"ironmonger/internal/star"
	"ironmonger/internal/trinodb"
)

// trinoDB asks Trino, which says all values as it writes them. Each statement sees one state of each table.
type trinoDB struct{ db *trinodb.DB }

func openTrino(ctx context.Context, d *star.Database, _ string) (driver, error) {
	db, err := trinodb.Open(d.Connection, nil)
	if err != nil {
		return nil, err
	}
	if err := db.First(ctx, "SELECT 1", func([][]byte) error { return nil }); err != nil {
		db.Close()
		return nil, err
	}
	return &trinoDB{db}, nil
}

func (t *trinoDB) Close() { t.db.Close() }

func (t *trinoDB) quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// levels: a catalog, a schema and a table.
func (t *trinoDB) levels() int { return 3 }

// placeholder writes the value itself: the server has no others.
func (t *trinoDB) placeholder(_ int, v star.Value) string { return t.literal(v) }

func (t *trinoDB) literal(v star.Value) string {
	if v.Type.Kind == column.Text || v.Type.Kind == column.Null {
		return expr.Quoted(v.Text)
	}
	return expr.Trino.Literal(v.Text, v.Type)
}

func (t *trinoDB) ordered(quoted string, _ bool) string { return quoted }

// text writes a time that has a zone as in UTC, arrays, maps and rows as JSON, and bytes as digits.
func (t *trinoDB) text(quoted string, c Column) string {
	switch kind, _, _ := strings.Cut(c.Foreign, "("); kind {
	case "varchar":
		return quoted
	case "timestamp with time zone":
		return "replace(cast(" + quoted + " at time zone 'UTC' as varchar), ' UTC', '+00')"
	case "varbinary":
		return "lower(to_hex(" + quoted + "))"
	case "array", "map", "row", "json":
		return "json_format(cast(" + quoted + " as json))"
	}
	return "cast(" + quoted + " as varchar)"
}

func (t *trinoDB) columns(ctx context.Context, sql string, _ []star.Value) ([]Column, error) {
	answer, err := t.db.QueryContext(ctx, sql+" limit 0")
	if err != nil {
		return nil, dberror.Trino(err)
	}
	defer answer.Close()
	types, err := answer.ColumnTypes()
	if err != nil {
		return nil, dberror.Trino(err)
	}
	var list []Column
	for _, of := range types {
		c := Column{Name: of.Name(), Foreign: strings.ToLower(of.DatabaseTypeName())}
		c.Type = column.Type{Kind: trinoKinds[c.Foreign]}
		if precision, scale, ok := of.DecimalSize(); c.Foreign == "decimal" && ok && precision <= exact.MaxDigits {
			c.Type = column.Type{Kind: column.Decimal, Precision: uint8(precision), Scale: uint8(scale)}
		}
		list = append(list, c)
	}
	return list, dberror.Trino(answer.Err())
}

var trinoKinds = map[string]column.Kind{
	"tinyint": column.Integer, "smallint": column.Integer, "integer": column.Integer, "bigint": column.Integer,
	"real": column.Double, "double": column.Double, "boolean": column.Boolean, "varchar": column.Text, "char": column.Text,
	"uuid": column.Text, "json": column.Text, "ipaddress": column.Text, "date": column.Date, "time": column.Time,
	"timestamp": column.Timestamp, "timestamp with time zone": column.Timestamp,
}

func (t *trinoDB) run(ctx context.Context, sql string, _ []star.Value, row func([][]byte) error) error {
	return t.db.Ask(ctx, sql, row)
}
