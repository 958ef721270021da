package inside

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/database"
	"ironmonger/internal/expr"
	"ironmonger/internal/warehouse"
)

// trino is the engine of Trino.
//
// One server would number all rows, if they were numbered by one window. So they are divided into ranges of the first
// column that orders them, each of which is numbered for itself, by any server; the ranges before it say at which number
// it begins.
type trino struct {
	expr.Dialect
	run     warehouse.Statements
	bounds  string // between the ranges, as an array; "" if there is one range
	ranged  string // what is compared with them
	offsets []string
}

func (e *trino) isText(c database.Column) bool { return c.Foreign == "varchar" || c.Foreign == "char" }

func (e *trino) written(text string, of database.Column) string {
	if e.isText(of) { // texts of some length have another type
		return "cast(" + text + " as varchar)"
	}
	return text
}

// mostDecimal is the type of the most digits.
const mostDecimal = 38

func (e *trino) typed(name string, from database.Column, to column.Type, zone *time.Location) (expr.SQL, bool) {
	whole := map[string]bool{"tinyint": true, "smallint": true, "integer": true, "bigint": true}[from.Foreign]
	between := func(in string) string { return fmt.Sprintf("coalesce(%s %s, true)", name, in) }
	switch {
	case whole && to.Kind == column.Integer:
		return expr.SQL{Value: "cast(" + name + " as bigint)"}, true
	case whole && to.Kind == column.Decimal:
		return e.Fitting(expr.SQL{Value: "cast(" + name + " as bigint)"}, column.Type{Kind: column.Integer}, to), true
	case from.Foreign == "decimal" && to.Kind == column.Decimal:
		return e.Fitting(expr.SQL{Value: name}, from.Type, to), true
	case whole && to.Kind == column.Text:
		return expr.SQL{Value: "cast(" + name + " as varchar)"}, true
	case from.Foreign == "boolean" && to.Kind == column.Boolean:
		return expr.SQL{Value: name}, true
	case from.Foreign == "double" && to.Kind == column.Double:
		return expr.SQL{Value: name, Clean: "coalesce(is_finite(" + name + "), true)"}, true
	case from.Foreign == "date" && to.Kind == column.Date:
		return expr.SQL{Value: name, Clean: between("between date '0001-01-01' and date '9999-12-31'")}, true
	case from.Foreign == "timestamp" && to.Kind == column.Timestamp:
		at := "cast(" + name + " as timestamp(6))"
		x := expr.SQL{Value: at, Clean: fmt.Sprintf("coalesce(%s = %s, true) and ", at, name) +
			between("between timestamp '0001-01-01 00:00:00' and timestamp '9999-12-31 23:59:59.999999'")}
		if zone != nil { // a time that the clocks never show is a fault
			x.Clean += fmt.Sprintf(" and (%s is null or %s)", name, shownInTrino(at, zone))
		}
		return x, true
	case from.Foreign == "timestamp with time zone" && to.Kind == column.Timestamp && zone != nil:
		at := fmt.Sprintf("cast(at_timezone(%s, %s) as timestamp(6))", name, expr.Quoted(zone.String()))
		const fits = "coalesce(cast(%s as timestamp(6) with time zone) = %[1]s and " +
			"%s between timestamp '0001-01-01 00:00:00' and timestamp '9999-12-31 23:59:59.999999', true)"
		return expr.SQL{Value: at, Clean: fmt.Sprintf(fits, name, at)}, true
	case e.isText(from):
		x, ok := e.Read("cast("+name+" as varchar)", to)
		if ok && to.Kind == column.Timestamp && zone != nil {
			x.Clean += fmt.Sprintf(" and (%s is null or %s)", name, shownInTrino(x.Value, zone))
		}
		return x, ok
	}
	return expr.SQL{}, false
}

// shownInTrino says that the clocks of a zone show a time.
func shownInTrino(at string, zone *time.Location) string {
	return fmt.Sprintf("coalesce(try(cast(with_timezone(%[1]s, %[2]s) as timestamp(6))) = %[1]s, false)", at, expr.Quoted(zone.String()))
}

func (e *trino) start(value string, every int64) string {
	return startOf(value, every, "date_add('minute', minute(%s) / %d * %[2]d, date_trunc('hour', %[1]s))", "time(6)")
}

func (e *trino) long(value string) string { return "length(to_utf8(" + value + "))" }

func (e *trino) sum(value string, t column.Type, over string) string {
	return fmt.Sprintf("sum(cast(%s as decimal(%d,%d)))%s", value, mostDecimal, t.Scale, over)
}

func (e *trino) total(value string, t column.Type) string {
	return "cast(coalesce(" + e.sum(value, t, "") + ", 0) as varchar)"
}

// outermost needs no memory for all rows of a group, as an array would.
func (e *trino) outermost(value, by string, greatest bool) string {
	function := "min_by"
	if greatest {
		function = "max_by"
	}
	const one = "%s(%[2]s, ROW(%[3]s, line)) FILTER (WHERE %[2]s IS NOT NULL AND %[3]s IS NOT NULL)"
	return fmt.Sprintf(one, function, value, by)
}

func (e *trino) list(value, separator string) string {
	const list = "array_join(array_sort(array_distinct(array_agg(%s) FILTER (WHERE %[1]s IS NOT NULL))), '%s')"
	return fmt.Sprintf(list, value, separator)
}

// once has nothing to do: what is used several times is worked out once.
func (e *trino) once(sql string, _ int) string { return sql }

func (e *trino) number(order []string) ([]string, []named, string) {
	if order == nil {
		return []string{"0 AS part"}, []named{{"part", "part"}, {"nth", "row_number() over ()"}}, ""
	}
	part := "0"
	if e.bounds != "" {
		part = fmt.Sprintf("coalesce(width_bucket(%s, %s), %d)", e.ranged, e.bounds, mostRanges) // what is null comes last
	}
	window := "(partition by part order by " + strings.Join(order, ", ") + ")"
	return append([]string{part + " AS part"}, order...), []named{{"part", "part"}, {"nth", "row_number() over " + window}}, window
}

// count counts at which number each range begins.
func (e *trino) count(ctx context.Context, judged string, conditions map[string]string) (holds map[string]bool, err error) {
	e.offsets, holds, err = e.begin(ctx, judged, conditions)
	return holds, err
}

// begin counts how many rows of a table come before each range, as rows of values, and says which conditions hold of any.
func (e *trino) begin(
	ctx context.Context, of string, conditions map[string]string,
) (offsets []string, holds map[string]bool, err error) {
	before := int64(0)
	names, also := filters(conditions)
	offsets, holds = []string{"(-1, 0)"}, map[string]bool{} // no range: there may be none
	sql := "SELECT part, count(*)" + also + " FROM " + of + " GROUP BY part ORDER BY part"
	err = e.run.Ask(ctx, sql, func(values [][]byte) error {
		offsets = append(offsets, fmt.Sprintf("(%s, %d)", values[0], before))
		before += count(values[1])
		note(holds, names, values[2:])
		return nil
	})
	return offsets, holds, err
}

func (e *trino) numbered(judged string) string {
	const sql = "(SELECT j.*, o.before + j.nth AS line FROM %s AS j JOIN (VALUES %s) AS o (part, before) ON o.part = j.part) AS n"
	return fmt.Sprintf(sql, judged, strings.Join(e.offsets, ", "))
}

func (e *trino) ranked(ctx context.Context, judged, holds string) (string, error) {
	offsets, _, err := e.begin(ctx, judged+" WHERE "+holds, nil)
	const sql = "(SELECT n.*, r.before + row_number() over (partition by n.part order by n.nth) AS place " +
		"FROM %s JOIN (VALUES %s) AS r (part, before) ON r.part = n.part WHERE %s) AS n"
	return fmt.Sprintf(sql, e.numbered(judged), strings.Join(offsets, ", "), holds), err
}

// mostBelow is as many as stand in a statement, which may have a million characters.
func (e *trino) mostBelow() int64 { return 50_000 }

func (e *trino) below(number string, of []int64) string {
	return fmt.Sprintf("width_bucket(cast(%s as double), cast(split(%s, ',') as array(double)))", number, expr.Quoted(numbers(of)))
}

func (e *trino) nth(place string, of []int64) string {
	return fmt.Sprintf("cast(element_at(split(%s, ','), %s) as bigint)", expr.Quoted(numbers(of)), place)
}

func (e *trino) usable(context.Context) error { return nil }

// Many rows are divided into some ranges at least, and into as many that a server has room for the rows of one.
const (
	manyRows   = 200_000
	rangeRows  = 250_000
	fewRanges  = 64
	mostRanges = 2_000 // which all stand in a statement
)

// plan looks for the bounds between ranges that have about as many rows.
func (e *trino) plan(ctx context.Context, r *judging) error {
	e.bounds = ""
	if len(r.raw().Order) == 0 {
		return nil
	}
	if e.ranged = measured("o0", r.raw().Order[0]); e.ranged == "" {
		return nil
	}
	rows, err := e.run.Estimate(ctx, r.raw().SQL)
	if err != nil || rows < manyRows {
		return err
	}
	ranges := min(max(fewRanges, rows/rangeRows), mostRanges)
	at := make([]string, ranges-1)
	for k := range at {
		at[k] = fmt.Sprintf("double '%d' / %d", k+1, ranges)
	}
	const quantiles = "SELECT cast(b AS varchar) FROM (SELECT approx_percentile(%s, ARRAY[%s]) AS list FROM (%s) AS s) AS q CROSS JOIN UNNEST(list) AS u (b) " +
		"WHERE is_finite(b) GROUP BY b ORDER BY b"
	var bounds []string
	err = e.run.Ask(ctx, fmt.Sprintf(quantiles, e.ranged, strings.Join(at, ", "), r.raw().SQL), func(values [][]byte) error {
		bounds = append(bounds, "double '"+string(values[0])+"'")
		return nil
	})
	if bounds != nil {
		e.bounds = "ARRAY[" + strings.Join(bounds, ", ") + "]"
	}
	return err
}

// measured makes a number of a value, in the order of the values; "" if its type has none.
func measured(value string, c database.Column) string {
	switch c.Foreign {
	case "tinyint", "smallint", "integer", "bigint", "decimal":
		return "cast(" + value + " as double)"
	case "timestamp with time zone":
		return "to_unixtime(" + value + ")"
	case "date", "timestamp":
		return "to_unixtime(cast(" + value + " as timestamp(6)))"
	case "varchar": // its first seven bytes
		return "cast(from_big_endian_64(x'00' || substr(to_utf8(" + value + ") || x'00000000000000', 1, 7)) as double)"
	}
	return ""
}

func (e *trino) whole(context.Context) error { return nil }

func (e *trino) planned(context.Context) error { return nil }

func (e *trino) create(ctx context.Context, table, sql string) error {
	_, err := e.run.Run(ctx, "CREATE TABLE "+table+" AS "+sql)
	return err
}

func (e *trino) any(ctx context.Context, sql string) (bool, error) { return anyRow(ctx, e.run, sql) }

func (e *trino) unlike(ctx context.Context, sql string) (bool, error) { return e.any(ctx, sql) }
