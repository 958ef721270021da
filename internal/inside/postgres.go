package inside

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/database"
	"ironmonger/internal/expr"
	"ironmonger/internal/warehouse"
)

// postgres is the engine of PostgreSQL.
type postgres struct {
	expr.Dialect
	run warehouse.Statements
}

func (p *postgres) isText(c database.Column) bool {
	return slices.Contains([]string{"text", "varchar", "uuid", "name"}, c.Foreign) || p.writtenAsText(c)
}

// writtenAsText reports whether a column is of a type whose values are texts as the database writes them, whatever it
// is set to. Types that are not its own are called nothing: those that list their values, among others.
func (p *postgres) writtenAsText(c database.Column) bool {
	return slices.Contains([]string{"bpchar", "", "json", "jsonb", "inet", "cidr"}, c.Foreign)
}

// written asks for what the database writes, which for some types is not what it makes of a value that is cast to a
// text. Columns may have collations of their own, of which no two stand in one array.
func (p *postgres) written(text string, of database.Column) string {
	if of.Foreign != "text" {
		text = "(case when " + text + " is not null then concat(" + text + ") end)"
	}
	return text + ` collate "C"`
}

func (p *postgres) typed(name string, from database.Column, to column.Type, zone *time.Location) (expr.SQL, bool) {
	whole := from.Foreign == "int2" || from.Foreign == "int4" || from.Foreign == "int8"
	between := func(in string) string { return fmt.Sprintf("coalesce(%s %s, true)", name, in) }
	switch {
	case whole && to.Kind == column.Integer:
		return expr.SQL{Value: name}, true
	case from.Type.Kind == column.Decimal && to.Kind == column.Decimal && from.Type.Scale <= to.Scale &&
		from.Type.Precision-from.Type.Scale <= to.Precision-to.Scale: // only what is no number does not fit
		return expr.SQL{Value: name, Clean: between("<> 'NaN'")}, true
	case (whole || from.Type.Kind == column.Decimal || strings.HasPrefix(from.Foreign, "numeric")) && to.Kind == column.Decimal:
		return p.Fitting(expr.SQL{Value: name + "::numeric"}, from.Type, to), true
	case whole && to.Kind == column.Text:
		return expr.SQL{Value: name + "::text"}, true
	case from.Foreign == "bool" && to.Kind == column.Boolean:
		return expr.SQL{Value: name}, true
	case from.Type.Kind == column.Double && to.Kind == column.Double:
		x := expr.SQL{Value: name, Clean: between("> '-infinity' and " + name + " < 'infinity'")}
		if from.Foreign == "float4" { // the number that is written, which has fewer digits than the one that it is
			x.Value += "::text::float8"
		}
		return x, true
	case from.Foreign == "date" && to.Kind == column.Date:
		return expr.SQL{Value: name, Clean: between("between '0001-01-01' and '9999-12-31'")}, true
	case from.Foreign == "timestamp" && to.Kind == column.Timestamp:
		x := expr.SQL{Value: name, Clean: between("between '0001-01-01 00:00:00' and '9999-12-31 23:59:59.999999'")}
		if zone != nil { // a time that the clocks never show is a fault
			x.Clean += " and " + shown(name, zone)
		}
		return x, true
	case from.Foreign == "timestamptz" && to.Kind == column.Timestamp && zone != nil:
		at := fmt.Sprintf("(%s at time zone %s)", name, expr.Quoted(zone.String()))
		return expr.SQL{Value: at, Clean: "coalesce(" + at + " between '0001-01-01 00:00:00' and '9999-12-31 23:59:59.999999', true)"}, true
	case from.Foreign == "time" && to.Kind == column.Time:
		return expr.SQL{Value: name, Clean: between("< '24:00:00'")}, true
	case from.Type.Kind == column.Double && to.Exact(): // as it is written, with as many digits as it needs
		return p.Read(name+"::text", to)
	case p.isText(from):
		text := name + "::text"
		if p.writtenAsText(from) {
			text = "(" + p.written(name, from) + ")"
		}
		x, ok := p.Read(text, to)
		if ok && to.Kind == column.Timestamp && zone != nil {
			x.Clean += " and " + shown(x.Value, zone)
		}
		return x, ok
	}
	return expr.SQL{}, false
}

// shown says that the clocks of a zone show a time.
func shown(at string, zone *time.Location) string {
	return fmt.Sprintf("coalesce((%[1]s at time zone %[2]s) at time zone %[2]s = %[1]s, true)", at, expr.Quoted(zone.String()))
}

func (p *postgres) start(value string, every int64) string {
	const part = "date_trunc('hour', %s) + div(cast(extract(minute from %[1]s) as numeric), %d) * interval '%[2]d minute'"
	return startOf(value, every, part, "time")
}

func (p *postgres) long(value string) string { return "octet_length(" + value + ")" }

func (p *postgres) sum(value string, _ column.Type, over string) string {
	return "sum(" + value + ")" + over + "::numeric"
}

func (p *postgres) total(value string, t column.Type) string {
	return "coalesce(" + p.sum(value, t, "") + ", 0)"
}

func (p *postgres) outermost(value, by string, greatest bool) string {
	order := "ASC"
	if greatest {
		order = "DESC"
	}
	const first = "(array_agg(%[1]s ORDER BY %[2]s %[3]s, line %[3]s) FILTER (WHERE %[1]s IS NOT NULL AND %[2]s IS NOT NULL))[1]"
	return fmt.Sprintf(first, value, by, order)
}

func (p *postgres) list(value, separator string) string {
	return fmt.Sprintf("string_agg(DISTINCT %s, '%s' ORDER BY %[1]s)", value, separator)
}

// once makes a select that is not merged with others, since it has a volatile function: one that, unlike an offset, lets
// several processes work.
func (p *postgres) once(sql string, n int) string {
	return strings.Replace(sql, "SELECT ", fmt.Sprintf("SELECT clock_timestamp() AS closed%d, ", n), 1)
}

func (p *postgres) number(order []string) ([]string, []named, string) {
	window := "()"
	if len(order) > 0 {
		window = "(order by " + strings.Join(order, ", ") + ")"
	}
	return order, []named{{"line", "row_number() over " + window}}, window
}

func (p *postgres) count(ctx context.Context, judged string, conditions map[string]string) (map[string]bool, error) {
	return holdsOf(ctx, p.run, judged, conditions)
}

func (p *postgres) numbered(judged string) string { return judged + " AS n" }

func (p *postgres) ranked(_ context.Context, judged, holds string) (string, error) {
	return fmt.Sprintf("(SELECT *, row_number() over (order by line) AS place FROM %s WHERE %s) AS n", judged, holds), nil
}

func (p *postgres) mostBelow() int64 { return 500_000 }

func (p *postgres) below(number string, of []int64) string {
	return fmt.Sprintf("width_bucket(%s, %s::bigint[])", number, expr.Quoted("{"+numbers(of)+"}"))
}

func (p *postgres) nth(place string, of []int64) string {
	return fmt.Sprintf("(%s::bigint[])[%s]", expr.Quoted("{"+numbers(of)+"}"), place)
}

// usable refuses a database whose texts are not counted in characters of UTF-8.
func (p *postgres) usable(ctx context.Context) error {
	if is, err := p.any(ctx, "SELECT 1 WHERE current_setting('server_encoding') <> 'UTF8'"); err != nil {
		return err
	} else if is {
		return refuse("a database whose encoding is not UTF-8")
	}
	return nil
}

// plan has the database know what is in the dimensions, which may just have been loaded, and join them by hashing: all
// rows are joined with all of them. That it knows how many rows there are does not tell that: an index tells it, too.
func (p *postgres) plan(ctx context.Context, r *judging) error {
	var seen []string
	for _, k := range r.keys {
		table := r.Statements.Named(r.star.Dimension(k.Dimension).Table.Name)
		if slices.Contains(seen, table) {
			continue
		}
		seen = append(seen, table)
		const unknown = "SELECT 1 FROM pg_class AS c WHERE oid = %s::regclass AND (" +
			"pg_relation_size(oid) > 2 * relpages * current_setting('block_size')::bigint OR NOT EXISTS (SELECT 1 FROM pg_stats AS s " +
			"WHERE s.tablename = c.relname AND s.schemaname = c.relnamespace::regnamespace::name))"
		if is, err := p.any(ctx, fmt.Sprintf(unknown, expr.Quoted(table))); err != nil {
			return err
		} else if is {
			// Within the transaction it would hold a lock for which others wait, while the step waits for their turn. What
			// cannot be found out costs time, and nothing else.
			_ = r.Statements.RunApart(ctx, "ANALYZE (SKIP_LOCKED) "+table)
		}
	}
	return p.whole(ctx)
}

func (p *postgres) whole(ctx context.Context) error {
	const memory = "SELECT set_config('work_mem', '256MB', true) WHERE pg_size_bytes(current_setting('work_mem')) < pg_size_bytes('256MB')"
	return p.all(ctx, "SET LOCAL enable_mergejoin = off", "SET LOCAL enable_nestloop = off", memory)
}

func (p *postgres) planned(ctx context.Context) error {
	return p.all(ctx, "RESET enable_mergejoin", "RESET enable_nestloop", "RESET work_mem")
}

func (p *postgres) all(ctx context.Context, statements ...string) error {
	for _, sql := range statements {
		if _, err := p.run.Run(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

func (p *postgres) create(ctx context.Context, table, sql string) error {
	return p.all(ctx, "CREATE UNLOGGED TABLE "+table+" AS "+sql)
}

func (p *postgres) any(ctx context.Context, sql string) (bool, error) { return anyRow(ctx, p.run, sql) }

// unlike has no hash table, or one for each process, made of nearly all rows.
func (p *postgres) unlike(ctx context.Context, sql string) (bool, error) {
	if err := p.all(ctx, "SET LOCAL enable_hashagg = off", "SET LOCAL enable_gathermerge = off"); err != nil {
		return false, err
	}
	found, err := p.any(ctx, sql)
	if err != nil {
		return false, err
	}
	return found, p.all(ctx, "RESET enable_hashagg", "RESET enable_gathermerge")
}
