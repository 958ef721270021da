package trino

import (
	"context"
	"fmt"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
)

// So few rows, of so few bytes, stand in a statement itself.
const (
	fewRows  = 300
	fewBytes = 100_000
)

// given is rows that a statement is given: SQL of a table called m with columns c0, c1 and so on.
type given struct {
	sql  string
	drop func()
}

// give gives some rows of columns to a statement.
func (db *DB) give(ctx context.Context, cols []*column.Column, rows []int32) (given, error) {
	if len(rows) <= fewRows {
		if sql := inline(cols, rows); len(sql) <= fewBytes {
			return given{sql, func() {}}, nil
		}
	}
	s, err := db.newStage(typesOf(cols))
	if err != nil {
		return given{}, err
	}
	if err := s.Add(cols, rows); err != nil {
		s.drop()
		return given{}, err
	}
	return s.give(ctx)
}

// inline writes rows in SQL.
func inline(cols []*column.Column, rows []int32) string {
	casts, names, lines := make([]string, len(cols)), make([]string, len(cols)), make([]string, len(rows))
	for k, c := range cols {
		casts[k], names[k] = fmt.Sprintf("CAST(v%d AS %s) AS c%[1]d", k, expr.TrinoType(c.Type)), fmt.Sprintf("v%d", k)
	}
	values := make([]string, len(cols))
	for n, i := range rows {
		for k, c := range cols {
			values[k] = literal(c, int(i))
		}
		lines[n] = "(" + strings.Join(values, ", ") + ")"
	}
	return fmt.Sprintf("(SELECT %s FROM (VALUES %s) AS v (%s)) AS m",
		strings.Join(casts, ", "), strings.Join(lines, ", "), strings.Join(names, ", "))
}
