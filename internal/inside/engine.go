package inside

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/database"
	"ironmonger/internal/expr"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// engine is what the databases differ in, besides their expressions.
type engine interface {
	expr.Dialect
	// typed reads a column of a table as a value of a type; false if there is no SQL for that.
	typed(name string, from database.Column, to column.Type, zone *time.Location) (expr.SQL, bool)
	// isText reports whether a column of a table is text, which may be read as a value although it is not written as most are.
	isText(c database.Column) bool
	// written is a text, as it is read of a column, as a value that an array of texts has.
	written(text string, of database.Column) string
	// start is the time of a clock, with a time every so many seconds, that a timestamp is in.
	start(value string, every int64) string
	// long is how many bytes a text has.
	long(value string) string
	// sum adds up the values of a column that is exact, none to null, over a window or over nothing, and total none
	// to zero, as a text.
	sum(value string, t column.Type, over string) string
	total(value string, t column.Type) string
	// outermost is the value of a row with the greatest of some others, or the least: of several the last row, or the first.
	outermost(value, by string, greatest bool) string
	// list is the texts of rows, each once, in the order of their bytes, with a separator between them; null if there
	// are none.
	list(value, separator string) string
	// once has the columns of the nth select worked out once, whoever uses them.
	once(sql string, n int) string
	// number numbers rows by what orders them. It returns columns of the select before, and the names and SQL of those
	// of the select itself, which order its rows as their numbers do, the last one by a function of windows; and its window.
	number(order []string) (before []string, columns []named, window string)
	// count finds out what has to be known of all judged rows before they are numbered, and which of some conditions, that
	// have names, hold of any row.
	count(ctx context.Context, judged string, conditions map[string]string) (holds map[string]bool, err error)
	// numbered is the table of the judged rows with their numbers, called line.
	numbered(judged string) string
	// ranked is the same of those rows of which a condition holds, with the place of each among them, from 1, called place.
	ranked(ctx context.Context, judged, holds string) (string, error)
	// mostBelow is how many numbers below can compare with.
	mostBelow() int64
	// below is how many of some numbers, which are in order, are not above a number.
	below(number string, of []int64) string
	// nth is the number at a place of a list, from 1, where there is one.
	nth(place string, of []int64) string

	// usable refuses a database that is not set up for this.
	usable(ctx context.Context) error
	// plan prepares the judging of all rows, and planned is called after it. In between, and after whole, statements are
	// expected to read most rows of what they join.
	plan(ctx context.Context, r *judging) error
	whole(ctx context.Context) error
	planned(ctx context.Context) error
	// create makes a table of the rows of a select.
	create(ctx context.Context, table, sql string) error
	// any reports whether a select has rows, and unlike whether one has that groups rows of which nearly all are unlike.
	any(ctx context.Context, sql string) (bool, error)
	unlike(ctx context.Context, sql string) (bool, error)
}

// engineOf returns the engine of the warehouse of a model.
func engineOf(m *star.Model, run warehouse.Statements) engine {
	if m.Warehouse.Kind == star.Trino {
		return &trino{Dialect: expr.Trino, run: run}
	}
	return &postgres{Dialect: expr.Postgres, run: run}
}

// dialectOf returns the SQL of the warehouse of a model.
func dialectOf(m *star.Model) expr.Dialect { return engineOf(m, nil) }

// startOf is the time of a clock, of a type, that a timestamp is in: that of a unit, or of a part of an hour that has so many
// minutes.
func startOf(value string, every int64, part, as string) string {
	start := fmt.Sprintf(part, value, every/60)
	if unit := map[int64]string{1: "second", 60: "minute", 3600: "hour"}[every]; unit != "" {
		start = "date_trunc('" + unit + "', " + value + ")"
	}
	return "cast(" + start + " as " + as + ")"
}

// anyRow reports whether a select has rows.
func anyRow(ctx context.Context, run warehouse.Statements, sql string) (found bool, err error) {
	err = run.Ask(ctx, "SELECT 1 FROM ("+sql+") AS found LIMIT 1", func([][]byte) error {
		found = true
		return nil
	})
	return found, err
}

// filters counts the rows of which each condition holds, behind other columns of a select, in the order of the names.
func filters(conditions map[string]string) (names []string, sql string) {
	names = slices.Sorted(maps.Keys(conditions))
	for _, name := range names {
		sql += ", count(*) FILTER (WHERE " + conditions[name] + ")"
	}
	return names, sql
}

// holdsOf says which conditions hold of any rows of a table.
func holdsOf(
	ctx context.Context, run warehouse.Statements, table string, conditions map[string]string,
) (holds map[string]bool, err error) {
	if len(conditions) == 0 {
		return nil, nil
	}
	names, sql := filters(conditions)
	holds = map[string]bool{}
	err = run.Ask(ctx, "SELECT 1"+sql+" FROM "+table, func(values [][]byte) error {
		note(holds, names, values[1:])
		return nil
	})
	return holds, err
}

// note adds which conditions hold of some rows, by the counts of these.
func note(holds map[string]bool, names []string, counts [][]byte) {
	for k, name := range names {
		holds[name] = holds[name] || count(counts[k]) > 0
	}
}

// numbers writes numbers as a list.
func numbers(list []int64) string {
	var b []byte
	for k, n := range list {
		if k > 0 {
			b = append(b, ',')
		}
		b = strconv.AppendInt(b, n, 10)
	}
	return string(b)
}
