package expr

import (
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
)

// SQL is an expression, or a part of one, as SQL of PostgreSQL that never fails.
//
// Where Clean is true, Value is what the expression gives. Where it is not, the row may have a fault, or a value that the
// database works out otherwise than [Program.Eval]: nobody knows before that has looked at it. So what is rare need not
// be put into SQL. Integers and decimals are numerics of any scale, and text is compared by its bytes.
type SQL struct {
	Value string
	Clean string // never null; "" where it is always true
}

// mostSQL is how long an expression may become: a guard has to say what it guards twice.
const mostSQL = 50_000

// SQL returns the expression over columns that stand for the fields it was compiled with. The error says what there
// is no SQL for.
func (p *Program) SQL(columns []SQL) (SQL, error) {
	r := &renderer{columns: columns}
	x := r.of(p.root)
	if r.err == nil && len(x.Value)+len(x.Clean) > mostSQL {
		r.refuse("an expression that is so long")
	}
	return x, r.err
}

// renderer writes SQL. After its first error it writes nothing of use.
type renderer struct {
	columns []SQL
	err     error
}

func (r *renderer) refuse(what string) SQL {
	if r.err == nil {
		r.err = fmt.Errorf("there is no SQL for %s", what)
	}
	return SQL{Value: "null"}
}

// all joins conditions under which parts are clean.
func all(conditions ...string) string {
	conditions = slices.DeleteFunc(slices.Clone(conditions), func(c string) bool { return c == "" })
	return strings.Join(conditions, " and ")
}

// Quoted writes a text as an SQL literal.
func Quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

// SQLType returns what PostgreSQL calls a type in expressions, where exact numbers have any number of digits.
func SQLType(t column.Type) string {
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

func (r *renderer) list(nodes []node) (values []string, clean string) {
	var conditions []string
	for _, n := range nodes {
		x := r.of(n)
		values, conditions = append(values, x.Value), append(conditions, x.Clean)
	}
	return values, all(conditions...)
}

func (r *renderer) of(of node) SQL {
	if r.err != nil {
		return SQL{Value: "null"}
	}
	switch n := of.(type) {
	case *columnNode:
		return r.columns[n.at]
	case *literal:
		return r.literal(n)
	case *arithmetic:
		return r.arithmetic(n)
	case *compare:
		return r.compare(n)
	case *logic:
		l, x := r.of(n.left), r.of(n.right)
		op := " and "
		if n.decides == 1 {
			op = " or "
		}
		return SQL{"(" + l.Value + op + x.Value + ")", all(l.Clean, x.Clean)}
	case *not:
		x := r.of(n.of)
		return SQL{"(not " + x.Value + ")", x.Clean}
	case *isNull:
		x, is := r.of(n.of), " is null)"
		if n.negated {
			is = " is not null)"
		}
		return SQL{"(" + x.Value + is, x.Clean}
	case *cases:
		return r.cases(n)
	case *like:
		return r.like(n)
	case *substring:
		return r.substring(n)
	case *nullIf:
		equal, x := r.of(n.equal), r.of(n.of)
		return SQL{fmt.Sprintf("(case when %s then null else %s end)", equal.Value, x.Value), all(equal.Clean, x.Clean)}
	case *extreme:
		values, clean := r.list(n.args)
		name := "least("
		if n.sign > 0 {
			name = "greatest("
		}
		return SQL{name + strings.Join(byBytes(n.typ(), values), ", ") + ")", clean}
	case *coalesce:
		values, clean := r.list(n.args)
		return SQL{"coalesce(" + strings.Join(values, ", ") + ")", clean}
	case *concat:
		l, x := r.of(n.left), r.of(n.right)
		return SQL{"(" + l.Value + " || " + x.Value + ")", all(l.Clean, x.Clean)}
	case *concatCall:
		values, clean := r.list(n.args)
		return SQL{"concat(" + strings.Join(values, ", ") + ")", clean}
	case *exactCall:
		return r.exactCall(n)
	case *round:
		x := r.of(n.of)
		value := fmt.Sprintf("round(%s, %d)", x.Value, n.places)
		return SQL{value, all(x.Clean, fitting(plus(magnitude(n.of), 1), value, n.typ()))}
	case *cast:
		return r.cast(n)
	case *textCall:
		return r.textCall(n)
	case *call:
		return r.call(n)
	case *times:
		return r.times(n)
	case *part:
		return r.part(n)
	}
	return r.refuse("a double that is calculated with")
}

func byBytes(t column.Type, values []string) []string {
	if t.Kind != column.Text {
		return values
	}
	var list []string
	for _, v := range values {
		list = append(list, v+` collate "C"`)
	}
	return list
}

func (r *renderer) literal(n *literal) SQL {
	t := n.typ()
	if n.out.Null[0] {
		if t.Kind == column.Null {
			return SQL{Value: "null"}
		}
		return SQL{Value: "null::" + SQLType(t)}
	}
	text := n.out.Value(0)
	switch t.Kind {
	case column.Boolean:
		return SQL{Value: text}
	case column.Text:
		return SQL{Value: Quoted(text) + "::text"}
	}
	return SQL{Value: "(" + Quoted(text) + "::" + SQLType(t) + ")"}
}

func (r *renderer) arithmetic(n *arithmetic) SQL {
	if isKind(n, column.Double) {
		return r.refuse("a double that is calculated with")
	}
	l, x := r.of(n.left), r.of(n.right)
	clean := all(l.Clean, x.Clean)
	if n.op != '/' {
		value := fmt.Sprintf("(%s %c %s)", l.Value, n.op, x.Value)
		if isKind(n, column.Integer) {
			clean = all(clean, fitting(magnitude(n), value, n.typ()))
		}
		return SQL{value, clean}
	}
	// a whole number of units of the last place, halves away from zero
	const quotient = "(case when %[2]s <> 0 then sign(%[1]s) * sign(%[2]s) * div(abs(%[1]s) * 2e%[3]d + abs(%[2]s), abs(%[2]s) * 2) * 1e-%[3]d end)"
	value := fmt.Sprintf(quotient, l.Value, x.Value, n.typ().Scale)
	return SQL{value, all(clean, fmt.Sprintf("coalesce(%s <> 0, true)", x.Value), fits(value, n.typ()))}
}

func (r *renderer) compare(n *compare) SQL {
	l, x := r.of(n.left), r.of(n.right)
	op := ""
	for name, holds := range comparisons {
		if holds == n.holds && name != "!=" {
			op = name
		}
	}
	if isKind(n.left, column.Null) {
		return SQL{Value: "null::boolean"}
	}
	both := byBytes(n.left.typ(), []string{l.Value, x.Value})
	return SQL{"(" + both[0] + " " + op + " " + both[1] + ")", all(l.Clean, x.Clean)}
}

func (r *renderer) cases(n *cases) SQL {
	var value, clean strings.Builder
	value.WriteString("(case")
	clean.WriteString("(case")
	every := ""
	for k, c := range n.conditions {
		when, then := r.of(c), r.of(n.results[k])
		fmt.Fprintf(&value, " when %s then %s", when.Value, then.Value)
		if when.Clean != "" {
			fmt.Fprintf(&clean, " when not (%s) then false", when.Clean)
		}
		fmt.Fprintf(&clean, " when %s then %s", when.Value, orTrue(then.Clean))
		every += when.Clean + then.Clean
	}
	last := r.of(n.results[len(n.results)-1])
	fmt.Fprintf(&value, " else %s end)", last.Value)
	fmt.Fprintf(&clean, " else %s end)", orTrue(last.Clean))
	if every+last.Clean == "" {
		return SQL{value.String(), ""}
	}
	return SQL{value.String(), clean.String()}
}

func orTrue(clean string) string {
	if clean == "" {
		return "true"
	}
	return clean
}

func (r *renderer) like(n *like) SQL {
	pattern, ok := n.pattern.(*literal)
	if !ok || pattern.out.Null[0] || strings.HasSuffix(pattern.out.Text[0], `\`) {
		return r.refuse("like, unless its pattern is written out")
	}
	x := r.of(n.of)
	return SQL{"(" + x.Value + ` collate "C" like ` + Quoted(pattern.out.Text[0]) + ")", x.Clean}
}

func (r *renderer) substring(n *substring) SQL {
	values, clean := r.list(n.args)
	guard := values[1] + " " + inCount
	call := fmt.Sprintf("substring(%s from (%s)::int", values[0], values[1])
	if len(values) == 3 {
		guard += fmt.Sprintf(" and %s between 0 and 1000000000", values[2])
		call += fmt.Sprintf(" for (%s)::int", values[2])
	}
	return SQL{fmt.Sprintf("(case when %s then %s) end)", guard, call), all(clean, "coalesce("+guard+", true)")}
}

func (r *renderer) exactCall(n *exactCall) SQL {
	values, clean := r.list(n.args)
	if n.name == "abs" {
		value := "abs(" + values[0] + ")"
		return SQL{value, all(clean, fitting(magnitude(n), value, n.typ()))}
	}
	value := fmt.Sprintf("(case when %[2]s <> 0 then mod(%[1]s, %[2]s) end)", values[0], values[1])
	return SQL{value, all(clean, fmt.Sprintf("coalesce(%s <> 0, true)", values[1]))}
}

func (r *renderer) textCall(n *textCall) SQL {
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

func (r *renderer) call(n *call) SQL {
	values, clean := r.list(n.args)
	if n.name == "date_trunc" {
		return r.dateTrunc(n, values[0], clean)
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

// filled is Sprintf of a format that need not use all arguments.
func filled(format string, args []any) string {
	for k, a := range args {
		format = strings.ReplaceAll(format, fmt.Sprintf("%%[%d]s", k+1), a.(string))
	}
	return format
}

func (r *renderer) dateTrunc(n *call, value, clean string) SQL {
	if !isKind(n, column.Date) {
		return SQL{fmt.Sprintf("date_trunc('%s', %s)", n.unit, value), clean}
	}
	if n.unit == "hour" || n.unit == "minute" || n.unit == "second" {
		return SQL{value, clean}
	}
	return SQL{fmt.Sprintf("date_trunc('%s', %s::timestamp)::date", n.unit, value), clean}
}

func (r *renderer) times(n *times) SQL {
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

func (r *renderer) part(n *part) SQL {
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
	dateForm    = "^[0-9]{4}-[0-9]{2}-[0-9]{2}$"
)

func (r *renderer) cast(n *cast) SQL {
	x := r.of(n.of)
	from, to := n.of.typ(), n.typ()
	if n.laidOut {
		return r.refuse("a cast with a layout")
	}
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
	case from.Kind == column.Boolean && to.Kind == column.Text:
		return SQL{x.Value + "::text", x.Clean}
	case from.Kind == column.Boolean && to.Kind == column.Integer:
		return SQL{fmt.Sprintf("(%s::int)::numeric", x.Value), x.Clean}
	case from.Kind == column.Timestamp && to.Kind == column.Date, from.Kind == column.Timestamp && to.Kind == column.Time,
		from.Kind == column.Date && to.Kind == column.Timestamp:
		return SQL{fmt.Sprintf("(%s)::%s", x.Value, to), x.Clean}
	case from.Kind == column.Text:
		read, ok := ReadSQL(x.Value, to)
		if !ok {
			return r.refuse("a cast of text to " + to.String())
		}
		return SQL{read.Value, all(x.Clean, read.Clean)}
	}
	return r.refuse(fmt.Sprintf("a cast of %s to %s", from, to))
}

// ReadSQL reads a text as a value of a type; false if there is no SQL for that.
func ReadSQL(text string, to column.Type) (SQL, bool) {
	guarded := func(guard, value string) SQL {
		return SQL{"(case when " + guard + " then " + value + " end)", "coalesce(" + guard + ", true)"}
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
	case column.Date:
		part := func(from, n int) string { return fmt.Sprintf("substring(%s from %d for %d)::int", text, from, n) }
		day := filled(isDate, []any{part(1, 4), part(6, 2), part(9, 2)})
		return guarded("case when "+form(dateForm)+" then "+day+" else "+text+" <> "+text+" end", text+"::date"), true
	}
	return SQL{}, false
}

// Fitting brings a number of a database to a type. Where it is known of which type it is, its scale may say that no digit
// is lost.
func Fitting(x SQL, from, to column.Type) SQL {
	whole := ""
	if from.Kind != column.Decimal || from.Scale > to.Scale {
		whole = fmt.Sprintf("coalesce(%[1]s = round(%[1]s, %[2]d), true)", x.Value, to.Scale)
	}
	return SQL{x.Value, all(x.Clean, whole, fits(x.Value, to))}
}
