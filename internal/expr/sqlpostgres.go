package expr

import (
	"fmt"
	"strings"

	"ironmonger/internal/column"
)

// Postgres is the SQL of PostgreSQL: integers and decimals are numerics of any scale, and text is compared by its bytes.
var Postgres Dialect = postgres{}

type postgres struct{}

func (postgres) Operand(name string, t column.Type) string {
	if t.Kind == column.Integer {
		name += "::numeric"
	}
	return name
}

func (postgres) Literal(text string, t column.Type) string {
	switch t.Kind {
	case column.Boolean:
		return text
	case column.Text:
		return Quoted(text) + "::text"
	}
	return "(" + Quoted(text) + "::" + postgresType(t) + ")"
}

func (postgres) Null(t column.Type) string { return "null::" + postgresType(t) }

func (postgres) Stored(x SQL, t column.Type) string {
	value := x.Value
	if x.Clean != "" {
		value = "(case when " + x.Clean + " then " + value + " end)"
	}
	switch t.Kind {
	case column.Integer:
		return value + "::bigint"
	case column.Decimal:
		return fmt.Sprintf("%s::numeric(%d,%d)", value, t.Precision, t.Scale)
	case column.Text:
		return value + `::text collate "C"`
	}
	return value
}

func (postgres) bytes(value string) string { return value + ` collate "C"` }

func (postgres) compares(column.Type, column.Type) bool { return true }

// postgresType returns what PostgreSQL calls a type in expressions, where exact numbers have any number of digits.
func postgresType(t column.Type) string {
	switch t.Kind {
	case column.Integer, column.Decimal:
		return "numeric"
	case column.Double:
		return "double precision"
	}
	return t.String()
}

const (
	inInteger   = "between -9223372036854775808 and 9223372036854775807"
	inTimes     = "between timestamp '0001-01-01 00:00:00' and timestamp '9999-12-31 23:59:59.999999'"
	inDates     = "between date '0001-01-01' and date '9999-12-31'"
	inCount     = "between -1000000000 and 1000000000"
	onlyASCII   = "octet_length(%[1]s) = length(%[1]s)"
	longestSpan = 2000 * 366 * 86400e6 // microseconds: beyond, PostgreSQL has no timestamps
)

// fits says where an exact number is one of a type, besides null.
func fits(value string, t column.Type) string {
	if t.Kind == column.Integer {
		return fmt.Sprintf("coalesce(%s %s, true)", value, inInteger)
	}
	return fmt.Sprintf("coalesce(abs(%s) < 1e%d, true)", value, t.Precision-t.Scale)
}

func (postgres) round(r *renderer, n *round) SQL {
	x := r.of(n.of)
	value := fmt.Sprintf("round(%s, %d)", x.Value, n.places)
	return SQL{value, all(x.Clean, fitting(plus(magnitude(n.of), 1), value, n.typ()))}
}

func (d postgres) extreme(r *renderer, n *extreme) SQL {
	values, clean := r.list(n.args)
	if isKind(n, column.Text) {
		for k, v := range values {
			values[k] = d.bytes(v)
		}
	}
	return SQL{extremes[n.sign > 0] + "(" + strings.Join(values, ", ") + ")", clean}
}

var extremes = map[bool]string{false: "least", true: "greatest"}

func (postgres) arithmetic(r *renderer, n *arithmetic) SQL {
	l, x := r.of(n.left), r.of(n.right)
	clean := all(l.Clean, x.Clean)
	if n.op != '/' {
		value := fmt.Sprintf("(%s %c %s)", l.Value, n.op, x.Value)
		if isKind(n, column.Integer) {
			clean = all(clean, fitting(magnitude(n), value, n.typ()))
		}
		return SQL{value, clean}
	}
	if by, ok := powerOfTen(n.right); ok {
		value := fmt.Sprintf("round(%s * 1e-%d, %d)", l.Value, by, n.typ().Scale)
		return SQL{value, all(clean, fitting(magnitude(n), value, n.typ()))}
	}
	// a whole number of units of the last place, halves away from zero
	const quotient = "(case when %[2]s <> 0 then sign(%[1]s) * sign(%[2]s) * div(abs(%[1]s) * 2e%[3]d + abs(%[2]s), abs(%[2]s) * 2) * 1e-%[3]d end)"
	value := r.once(fmt.Sprintf(quotient, l.Value, x.Value, n.typ().Scale))
	divides := fmt.Sprintf("coalesce(%s <> 0, true)", x.Value)
	return SQL{value, all(clean, divides, fitting(magnitude(n), value, n.typ()))}
}

// powerOfTen returns how many noughts a constant has behind its one, if that is all it has.
func powerOfTen(n node) (by int, ok bool) {
	c, ok := n.(*literal)
	if !ok || c.out.Null[0] {
		return 0, false
	}
	whole, part, _ := strings.Cut(c.out.Value(0), ".")
	noughts, one := strings.CutPrefix(whole, "1")
	return len(noughts), one && strings.Trim(noughts+part, "0") == ""
}

func (postgres) like(r *renderer, n *like) SQL {
	pattern, ok := likePattern(n)
	if !ok {
		return r.refuse("like, unless its pattern is written out")
	}
	x := r.of(n.of)
	return SQL{"(" + x.Value + ` collate "C" like ` + Quoted(pattern) + ")", x.Clean}
}

func (postgres) substring(r *renderer, n *substring) SQL {
	values, clean := r.list(n.args)
	guard := values[1] + " " + inCount
	call := fmt.Sprintf("substring(%s from (%s)::int", values[0], values[1])
	if len(values) == 3 {
		guard += fmt.Sprintf(" and %s between 0 and 1000000000", values[2])
		call += fmt.Sprintf(" for (%s)::int", values[2])
	}
	return SQL{fmt.Sprintf("(case when %s then %s) end)", guard, call), all(clean, "coalesce("+guard+", true)")}
}

func (postgres) exactCall(r *renderer, n *exactCall) SQL {
	values, clean := r.list(n.args)
	if n.name == "abs" {
		value := "abs(" + values[0] + ")"
		return SQL{value, all(clean, fitting(magnitude(n), value, n.typ()))}
	}
	value := fmt.Sprintf("(case when %[2]s <> 0 then mod(%[1]s, %[2]s) end)", values[0], values[1])
	return SQL{value, all(clean, fmt.Sprintf("coalesce(%s <> 0, true)", values[1]))}
}

func (postgres) textCall(r *renderer, n *textCall) SQL {
	x := r.of(n.of)
	switch n.name {
	case "trim":
		return SQL{"btrim(" + x.Value + ", ' ')", x.Clean}
	case "upper", "lower":
		return SQL{n.name + "(" + x.Value + ` collate "C")`, all(x.Clean, ascii(x.Value))}
	case "lpad":
		long := fmt.Sprintf("coalesce(length(%s) <= %d, true)", x.Value, n.length)
		return SQL{fmt.Sprintf("lpad(%s, %d, %s)", x.Value, n.length, Quoted(n.characters)), all(x.Clean, long)}
	}
	return SQL{fmt.Sprintf("%s(%s, %s)", n.name, x.Value, Quoted(n.characters)), x.Clean}
}

func ascii(value string) string {
	return "coalesce(" + fmt.Sprintf(onlyASCII, value) + ", true)"
}

// calls says how functions are written, where that is not as they are called. Arguments stand for %[1]s and so on; a
// guard says where they may be called at all.
var calls = map[string]struct{ form, guard string }{
	"split_part": {"split_part(%[1]s, %[2]s, (%[3]s)::int)", "%[3]s <> 0 and %[3]s " + inCount},
	"replace":    {"replace(%[1]s, %[2]s, %[3]s)", ""},
	"strpos":     {"strpos(%[1]s, %[2]s)::numeric", ""},
	"left":       {"left(%[1]s, (%[2]s)::int)", "%[2]s " + inCount},
	"right":      {"right(%[1]s, (%[2]s)::int)", "%[2]s " + inCount},
	"initcap":    {"initcap(%[1]s)", onlyASCII},
	"normalize":  {"%[1]s", onlyASCII},
	"translate":  {"translate(%[1]s, %[2]s, %[3]s)", ""},
	"floor":      {"floor(%[1]s)", ""},
	"ceil":       {"ceil(%[1]s)", ""},
	"trunc":      {"trunc(%[1]s)", ""},
	"make_date":  {"make_date((%[1]s)::int, (%[2]s)::int, (%[3]s)::int)", isDate},
}

// isDate says where year, month and day are a day; null where one of them is.
const isDate = "case when %[1]s between 1 and 9999 and %[2]s between 1 and 12 and %[3]s between 1 and 31 then " +
	"%[3]s <= extract(day from make_date((%[1]s)::int, (%[2]s)::int, 1) + interval '1 month' - interval '1 day') " +
	"when %[1]s is not null and %[2]s is not null and %[3]s is not null then false end"

func (d postgres) call(r *renderer, n *call) SQL {
	values, clean := r.list(n.args)
	if n.name == "date_trunc" {
		return d.dateTrunc(n, values[0], clean)
	}
	c, ok := calls[n.name]
	if !ok {
		return r.refuse(n.name)
	}
	args := make([]any, len(values))
	for k, v := range values {
		args[k] = v
	}
	value := filled(c.form, args)
	if n.typ().Exact() && n.name != "strpos" {
		clean = all(clean, fits(value, n.typ()))
	}
	if c.guard == "" {
		return SQL{value, clean}
	}
	guard := filled(c.guard, args)
	return SQL{"(case when " + guard + " then " + value + " end)", all(clean, "coalesce("+guard+", true)")}
}

func (postgres) dateTrunc(n *call, value, clean string) SQL {
	if !isKind(n, column.Date) {
		return SQL{fmt.Sprintf("date_trunc('%s', %s)", n.unit, value), clean}
	}
	if n.unit == "hour" || n.unit == "minute" || n.unit == "second" {
		return SQL{value, clean}
	}
	return SQL{fmt.Sprintf("date_trunc('%s', %s::timestamp)::date", n.unit, value), clean}
}

func (postgres) times(r *renderer, n *times) SQL {
	l, x := r.of(n.left), SQL{}
	clean := l.Clean
	if n.op != addSpan {
		x = r.of(n.right)
		clean = all(clean, x.Clean)
	}
	sign := "+"
	if n.sign < 0 {
		sign = "-"
	}
	switch n.op {
	case addSpan:
		if max(n.micros, -n.micros) > longestSpan || max(n.months, -n.months) > 12*2000 {
			return r.refuse("so long an interval")
		}
		span := fmt.Sprintf("interval '%d month'", n.months)
		if n.micros != 0 {
			span = fmt.Sprintf("interval '%d second'", n.micros/1e6)
		}
		value := fmt.Sprintf("(%s::timestamp %s %s)", l.Value, sign, span)
		return SQL{value, all(clean, "coalesce("+value+" "+inTimes+", true)")}
	case addDays:
		guard := x.Value + " between -4000000 and 4000000 and " + l.Value + " is not null"
		value := fmt.Sprintf("(case when %s then %s %s (%s)::int end)", guard, l.Value, sign, x.Value)
		return SQL{value, all(clean, fmt.Sprintf("coalesce(%s between -4000000 and 4000000, true)", x.Value), "coalesce("+value+" "+inDates+", true)")}
	}
	if isKind(n.left, column.Timestamp) {
		return SQL{fmt.Sprintf("extract(epoch from (%s - %s))", l.Value, x.Value), clean}
	}
	return SQL{fmt.Sprintf("(%s - %s)::numeric", l.Value, x.Value), clean}
}

func (postgres) part(r *renderer, n *part) SQL {
	x := r.of(n.of)
	switch {
	case isKind(n.of, column.Time) && n.name != "hour" && n.name != "minute" && n.name != "second":
		return r.refuse("the day of a time")
	case isKind(n.of, column.Time) || isKind(n.of, column.Timestamp):
	default:
		x.Value = "(" + x.Value + ")::timestamp"
	}
	return SQL{fmt.Sprintf("extract(%s from %s)", n.name, x.Value), x.Clean}
}

// forms are the texts that are sure to be values of a kind.
const (
	wholeForm   = "^[-+]?[0-9]{1,18}$"
	decimalForm = `^[-+]?[0-9]{1,19}(\.[0-9]{0,19})?$`
	dateForm    = "[0-9]{4}-[0-9]{2}-[0-9]{2}"
	usualDay    = "[0-9]{4}-((0[13578]|1[02])-(0[1-9]|[12][0-9]|3[01])|" + // of any year
		"(0[469]|11)-(0[1-9]|[12][0-9]|30)|02-(0[1-9]|1[0-9]|2[0-8]))"
	clockForm  = `([01][0-9]|2[0-3]):[0-5][0-9](:[0-5][0-9](\.[0-9]{1,6})?)?`
	trueWords  = "'true', 't', 'yes', 'y', '1'"
	falseWords = "'false', 'f', 'no', 'n', '0'"
)

func (d postgres) cast(r *renderer, n *cast) SQL {
	x := r.of(n.of)
	from, to := n.of.typ(), n.typ()
	switch {
	case from.Exact() && to.Exact():
		value := x.Value
		if from.Scale > to.Scale {
			value = fmt.Sprintf("round(%s, %d)", value, to.Scale)
		}
		if to.Precision-to.Scale >= from.Precision-from.Scale+1 && from.Kind == column.Decimal && to.Kind == column.Decimal {
			return SQL{value, x.Clean}
		}
		return SQL{value, all(x.Clean, fitting(plus(magnitude(n.of), 1), value, to))}
	case from.Exact() && to.Kind == column.Text:
		return SQL{fmt.Sprintf("round(%s, %d)::text", x.Value, from.Scale), x.Clean}
	case from.Kind == column.Date && to.Kind == column.Text:
		return SQL{fmt.Sprintf("to_char(%s, 'YYYY-MM-DD')", x.Value), x.Clean}
	case from.Kind == column.Timestamp && to.Kind == column.Text:
		return SQL{fmt.Sprintf("rtrim(rtrim(to_char(%s, 'YYYY-MM-DD HH24:MI:SS.US'), '0'), '.')", x.Value), x.Clean}
	case (from.Kind == column.Boolean || from.Kind == column.Time) && to.Kind == column.Text:
		return SQL{x.Value + "::text", x.Clean}
	case from.Kind == column.Boolean && to.Kind == column.Integer:
		return SQL{fmt.Sprintf("(%s::int)::numeric", x.Value), x.Clean}
	case from.Kind == column.Timestamp && to.Kind == column.Date, from.Kind == column.Timestamp && to.Kind == column.Time,
		from.Kind == column.Date && to.Kind == column.Timestamp:
		return SQL{fmt.Sprintf("(%s)::%s", x.Value, to), x.Clean}
	case from.Kind == column.Text:
		read, ok := d.Read(x.Value, to)
		if !ok {
			return r.refuse("a cast of text to " + to.String())
		}
		return SQL{read.Value, all(x.Clean, read.Clean)}
	}
	return r.refuse(fmt.Sprintf("a cast of %s to %s", from, to))
}

func (postgres) matches(text, pattern string) string {
	return text + ` collate "C" ~ ` + Quoted("^"+pattern+"$")
}

// bound makes a select of its own, which the offset keeps from being merged with others.
func (postgres) bound(value string, of func(name string) string) string {
	return fmt.Sprintf("(select %s from (select %s as written offset 0) as w)", of("w.written"), value)
}

// runs splits the text: to ask for the groups of a regular expression takes PostgreSQL twenty times as long.
func (postgres) runs(text string, of func(run func(nth int) string) string) string {
	const sql = `(select %s from (select regexp_split_to_array(%s collate "C", '[^0-9]+') as g offset 0) as m)`
	return fmt.Sprintf(sql, of(func(nth int) string { return fmt.Sprintf("m.g[%d]", nth) }), text)
}

func (postgres) Read(text string, to column.Type) (SQL, bool) {
	guarded := func(guard, value string) SQL {
		value = "(case when " + guard + " then " + value + " end)"
		return SQL{value, "(" + text + " is null or " + value + " is not null)"}
	}
	form := func(pattern string) string { return fmt.Sprintf("%s collate \"C\" ~ '%s'", text, pattern) }
	switch to.Kind {
	case column.Text:
		return SQL{Value: text}, true
	case column.Integer:
		return guarded(form(wholeForm), text+"::numeric"), true
	case column.Decimal:
		x := guarded(form(decimalForm), text+"::numeric")
		x.Clean = all(x.Clean, fmt.Sprintf("coalesce(%[1]s = round(%[1]s, %[2]d), true)", x.Value, to.Scale), fits(x.Value, to))
		return x, true
	case column.Boolean:
		lower := "lower(" + text + " collate \"C\")"
		return guarded(lower+" in ("+trueWords+", "+falseWords+")", lower+" in ("+trueWords+")"), true
	case column.Time:
		return guarded(form("^"+clockForm+"$"), text+"::time"), true
	case column.Date, column.Timestamp:
		rest, cast := "$", "::date"
		if to.Kind == column.Timestamp {
			rest, cast = "[ T]"+clockForm+"$", "::timestamp"
		}
		year := "left(" + text + ", 4)::int"
		leap := fmt.Sprintf("%s %% 4 = 0 and (%[1]s %% 100 <> 0 or %[1]s %% 400 = 0)", year)
		usual, last := form("^"+usualDay+rest), form("^[0-9]{4}-02-29"+rest)
		const day = "case when %s then %s > 0 when %s then %[2]s > 0 and %[4]s end"
		return guarded(fmt.Sprintf(day, usual, year, last, leap), text+cast), true
	}
	return SQL{}, false
}

func (postgres) Fitting(x SQL, from, to column.Type) SQL {
	whole := ""
	if from.Kind != column.Decimal || from.Scale > to.Scale {
		whole = fmt.Sprintf("coalesce(%[1]s = round(%[1]s, %[2]d), true)", x.Value, to.Scale)
	}
	return SQL{x.Value, all(x.Clean, whole, fits(x.Value, to))}
}
