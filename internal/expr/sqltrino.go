package expr

import (
	"fmt"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
)

// Trino is the SQL of Trino. Each value has the very type that the expression has here: an integer is a bigint, a decimal has
// its digits. What may fail stands in TRY, which makes a null of it; so a null is not clean where no operand is null.
var Trino Dialect = trino{}

type trino struct{}

// TrinoType returns what Trino calls a type.
func TrinoType(t column.Type) string {
	switch t.Kind {
	case column.Integer:
		return "bigint"
	case column.Text:
		return "varchar"
	case column.Timestamp:
		return "timestamp(6)"
	case column.Time:
		return "time(6)"
	}
	return t.String()
}

func (trino) Operand(name string, _ column.Type) string { return name }

func (trino) Literal(text string, t column.Type) string {
	switch t.Kind {
	case column.Boolean:
		return text
	case column.Decimal:
		text = "decimal " + Quoted(text)
	default:
		text = Quoted(text)
	}
	return "cast(" + text + " as " + TrinoType(t) + ")"
}

func (trino) Null(t column.Type) string { return "cast(null as " + TrinoType(t) + ")" }

func (trino) Stored(x SQL, t column.Type) string {
	if x.Clean == "" {
		return x.Value
	}
	return "(case when " + x.Clean + " then " + x.Value + " end)"
}

func (trino) bytes(value string) string { return value }

// digitsOf is how many digits before the point, and behind it, values of an exact type have.
func digitsOf(t column.Type) (whole, scale int) { return typeDigits(t), int(t.Scale) }

func (trino) compares(l, r column.Type) bool {
	lw, ls := digitsOf(l)
	rw, rs := digitsOf(r)
	return max(lw, rw)+max(ls, rs) <= exact.MaxDigits
}

// strict is a value that is null, besides where an operand is, only where it could not be worked out.
func strict(value, clean string, operands ...string) SQL {
	null := ""
	for _, o := range operands {
		null += " or " + o + " is null"
	}
	return SQL{value, all(clean, "("+value+" is not null"+null+")")}
}

// tried works a value of a type out, or makes a null of it.
func tried(value string, t column.Type) string {
	return "try(cast(" + value + " as " + TrinoType(t) + "))"
}

// as brings a number to another exact type.
func (trino) as(value, clean string, from, to column.Type) SQL {
	fw, fs := digitsOf(from)
	tw, ts := digitsOf(to)
	if fs > ts { // a half is rounded up, which may make one digit more
		fw++
	}
	switch {
	case from == to:
		return SQL{value, clean}
	case fw <= tw && to.Kind == column.Decimal || fw < integerDigits && to.Kind == column.Integer:
		return SQL{"cast(" + value + " as " + TrinoType(to) + ")", clean}
	}
	return strict(tried(value, to), clean, value)
}

func (d trino) round(r *renderer, n *round) SQL {
	x := r.of(n.of)
	return d.as(x.Value, x.Clean, n.of.typ(), n.typ())
}

func (trino) exactCall(r *renderer, n *exactCall) SQL {
	values, clean := r.list(n.args)
	if n.name == "abs" {
		return strict(tried("abs("+values[0]+")", n.typ()), clean, values[0])
	}
	value := tried("mod("+values[0]+", "+values[1]+")", n.typ())
	return strict("(case when "+values[1]+" <> 0 then "+value+" end)", clean, values...) // TRY does not catch this
}

// extreme says of each value which other one stands in its place if it is null, since one null makes all null.
func (trino) extreme(r *renderer, n *extreme) SQL {
	values, clean := r.list(n.args)
	others := make([]string, len(values))
	for k, v := range values {
		others[k] = "coalesce(" + v + ", " + strings.Join(values, ", ") + ")"
	}
	return SQL{extremes[n.sign > 0] + "(" + strings.Join(others, ", ") + ")", clean}
}

func (d trino) arithmetic(r *renderer, n *arithmetic) SQL {
	l, x := r.of(n.left), r.of(n.right)
	clean := all(l.Clean, x.Clean)
	value := fmt.Sprintf("(%s %c %s)", l.Value, n.op, x.Value)
	lw, ls := digitsOf(n.left.typ())
	rw, rs := digitsOf(n.right.typ())
	needs := max(lw, rw) + max(ls, rs) + 1
	switch {
	case n.op == '/':
		return strict(d.quotient(n, l.Value, x.Value), clean, l.Value, x.Value)
	case isKind(n, column.Integer):
		return strict("try"+value, clean, l.Value, x.Value)
	case n.op == '*':
		needs = lw + ls + rw + rs
	}
	if needs <= exact.MaxDigits {
		return SQL{"cast(" + value + " as " + TrinoType(n.typ()) + ")", clean}
	}
	return strict(tried(value, n.typ()), clean, l.Value, x.Value)
}

// quotient divides whole numbers of units of the last place, which rounds halves away from zero.
func (d trino) quotient(n *arithmetic, l, r string) string {
	scale, rs := int(n.typ().Scale), int(n.right.typ().Scale)
	power := func(by int) string { return "decimal '1" + strings.Repeat("0", by) + "'" }
	const whole = "cast(%s * %s as decimal(38,0))"
	by := "decimal '0." + strings.Repeat("0", scale-1) + "1'"
	return tried(fmt.Sprintf(whole+" / "+whole+" * %s", l, power(scale+rs), r, power(rs), by), n.typ())
}

// like escapes by a backslash, which stands for itself before what needs no escape.
func (trino) like(r *renderer, n *like) SQL {
	pattern, ok := likePattern(n)
	if !ok {
		return r.refuse("like, unless its pattern is written out")
	}
	var plain strings.Builder
	escaped := false
	for _, c := range pattern {
		if escaped && strings.ContainsRune(`%_\`, c) {
			plain.WriteByte('\\')
		}
		if escaped = c == '\\' && !escaped; !escaped {
			plain.WriteRune(c)
		}
	}
	x := r.of(n.of)
	return SQL{"(" + x.Value + " like " + Quoted(plain.String()) + ` escape '\')`, x.Clean}
}

func (trino) substring(r *renderer, n *substring) SQL {
	values, clean := r.list(n.args)
	guard := values[1] + " between 1 and 1000000000"
	if len(values) == 3 {
		guard += fmt.Sprintf(" and %s between 0 and 1000000000", values[2])
	}
	value := "(case when " + guard + " then substr(" + strings.Join(values, ", ") + ") end)"
	return SQL{value, all(clean, "coalesce("+guard+", true)")}
}

const trinoASCII = "length(to_utf8(%[1]s)) = length(%[1]s)"

func (trino) textCall(r *renderer, n *textCall) SQL {
	x := r.of(n.of)
	part := map[string]string{"trim": "both", "ltrim": "leading", "rtrim": "trailing"}[n.name]
	switch n.name {
	case "upper", "lower":
		return SQL{n.name + "(" + x.Value + ")", all(x.Clean, "coalesce("+fmt.Sprintf(trinoASCII, x.Value)+", true)")}
	case "lpad":
		if n.characters == "" {
			return r.refuse("lpad with nothing")
		}
		long := fmt.Sprintf("coalesce(length(%s) <= %d, true)", x.Value, n.length)
		return SQL{fmt.Sprintf("lpad(%s, %d, %s)", x.Value, n.length, Quoted(n.characters)), all(x.Clean, long)}
	case "trim":
		return SQL{"trim(both ' ' from " + x.Value + ")", x.Clean}
	}
	if n.characters == "" || part == "" {
		return r.refuse(n.name)
	}
	return SQL{fmt.Sprintf("trim(%s %s from %s)", part, Quoted(n.characters), x.Value), x.Clean}
}

// trinoCalls says how functions are written, as [calls] does. Where there is no guard, a null that no operand explains is not
// clean.
var trinoCalls = map[string]struct{ form, guard string }{
	"split_part": {"coalesce(split_part(%[1]s, %[2]s, %[3]s), '')", "%[1]s is not null and %[2]s <> '' and %[3]s between 1 and 1000000000"},
	"replace":    {"replace(%[1]s, %[2]s, %[3]s)", "%[2]s <> ''"},
	"strpos":     {"strpos(%[1]s, %[2]s)", "%[2]s <> ''"},
	"left":       {"substr(%[1]s, 1, %[2]s)", "%[2]s between 0 and 1000000000"},
	"right":      {"substr(%[1]s, greatest(length(%[1]s) - %[2]s, 0) + 1)", "%[2]s between 0 and 1000000000"},
	"normalize":  {"%[1]s", trinoASCII},
	"translate":  {"translate(%[1]s, %[2]s, %[3]s)", ""},
	"floor":      {"floor(%[1]s)", ""},
	"ceil":       {"ceil(%[1]s)", ""},
	"trunc":      {"truncate(%[1]s)", ""},
	"make_date": {"(%[4]s%[1]s as varchar), 4, '0') || '-' || %[4]s%[2]s as varchar), 2, '0') || '-' || %[4]s%[3]s as varchar), 2, '0'))",
		"%[1]s between 1 and 9999 and %[2]s between 1 and 12 and %[3]s between 1 and 31"},
}

func (d trino) call(r *renderer, n *call) SQL {
	values, clean := r.list(n.args)
	if n.name == "date_trunc" {
		return d.dateTrunc(n, values[0], clean)
	}
	c, ok := trinoCalls[n.name]
	if !ok {
		return r.refuse(n.name)
	}
	args := make([]any, len(values))
	for k, v := range values {
		args[k] = v
	}
	if n.name == "make_date" {
		args = append(args, "lpad(cast(")
	}
	value := filled(c.form, args)
	switch {
	case c.guard == "":
		return strict(tried(value, n.typ()), clean, values...)
	case n.name == "make_date":
		guard := filled(c.guard, args)
		return strict("(case when "+guard+" then "+tried(value, n.typ())+" end)", clean, values...)
	}
	guard := filled(c.guard, args)
	return SQL{"(case when " + guard + " then " + value + " end)", all(clean, "coalesce("+guard+", true)")}
}

func (trino) dateTrunc(n *call, value, clean string) SQL {
	if isKind(n, column.Date) && (n.unit == "hour" || n.unit == "minute" || n.unit == "second") {
		return SQL{value, clean}
	}
	return strict("try(date_trunc('"+n.unit+"', "+value+"))", clean, value)
}

const (
	trinoTimes = "between timestamp '0001-01-01 00:00:00' and timestamp '9999-12-31 23:59:59.999999'"
	trinoDates = "between date '0001-01-01' and date '9999-12-31'"
)

func (trino) times(r *renderer, n *times) SQL {
	l, x := r.of(n.left), SQL{}
	clean := l.Clean
	if n.op != addSpan {
		x = r.of(n.right)
		clean = all(clean, x.Clean)
	}
	within := func(value, in string) string { return fmt.Sprintf("(case when %s %s then %[1]s end)", value, in) }
	switch n.op {
	case addSpan:
		if max(n.micros, -n.micros) > longestSpan || max(n.months, -n.months) > 12*2000 {
			return r.refuse("so long an interval")
		}
		unit, by := "month", n.sign*n.months
		if n.micros != 0 {
			unit, by = "second", n.sign*n.micros/1e6
		}
		value := fmt.Sprintf("try(date_add('%s', %d, cast(%s as timestamp(6))))", unit, by, l.Value)
		return strict(within(value, trinoTimes), clean, l.Value)
	case addDays:
		by := x.Value
		if n.sign < 0 {
			by = "-" + by
		}
		value := fmt.Sprintf("(case when %s between -4000000 and 4000000 then try(date_add('day', %s, %s)) end)", x.Value, by, l.Value)
		return strict(within(value, trinoDates), clean, l.Value, x.Value)
	}
	if !isKind(n.left, column.Timestamp) {
		return SQL{fmt.Sprintf("date_diff('day', %s, %s)", x.Value, l.Value), clean}
	}
	seconds := fmt.Sprintf("date_diff('second', date_trunc('second', %s), date_trunc('second', %s))", x.Value, l.Value)
	value := fmt.Sprintf("%s + (%s - %s)", seconds, secondsOf(l.Value, 20), secondsOf(x.Value, 20))
	return strict(tried(value, n.typ()), clean, l.Value, x.Value)
}

// secondsOf are the seconds of a timestamp, or what is behind their point, by where they are written.
func secondsOf(value string, from int) string {
	return fmt.Sprintf("cast('0' || substr(cast(%s as varchar), %d) as decimal(8,6))", value, from)
}

// trinoParts says what parts of times are called, where that is not as here.
var trinoParts = map[string]string{"isoyear": "year_of_week", "isodow": "day_of_week"}

func (trino) part(r *renderer, n *part) SQL {
	if isKind(n.of, column.Time) {
		return r.refuse("a part of a time")
	}
	x, name := r.of(n.of), n.name
	at := "cast(" + x.Value + " as timestamp(6))"
	if name == "second" {
		return SQL{secondsOf(at, 18), x.Clean}
	}
	if called, ok := trinoParts[name]; ok {
		name = called
	}
	return SQL{name + "(" + at + ")", x.Clean}
}

func (d trino) cast(r *renderer, n *cast) SQL {
	x := r.of(n.of)
	from, to := n.of.typ(), n.typ()
	switch {
	case from.Exact() && to.Exact():
		return d.as(x.Value, x.Clean, from, to)
	case from.Exact() && to.Kind == column.Text,
		from.Kind == column.Date && to.Kind == column.Text,
		from.Kind == column.Boolean && (to.Kind == column.Text || to.Kind == column.Integer),
		from.Kind == column.Timestamp && to.Kind == column.Date, from.Kind == column.Date && to.Kind == column.Timestamp:
		return SQL{"cast(" + x.Value + " as " + TrinoType(to) + ")", x.Clean}
	case from.Kind == column.Timestamp && to.Kind == column.Text:
		return SQL{fmt.Sprintf(`regexp_replace(cast(cast(%s as timestamp(6)) as varchar), '\.?0*\z')`, x.Value), x.Clean}
	case from.Kind == column.Text:
		read, ok := d.Read(x.Value, to)
		if !ok {
			return r.refuse("a cast of text to " + to.String())
		}
		return SQL{read.Value, all(x.Clean, read.Clean)}
	}
	return r.refuse(fmt.Sprintf("a cast of %s to %s", from, to))
}

func (trino) matches(text, pattern string) string {
	return fmt.Sprintf("regexp_like(%s, %s)", text, Quoted(`\A`+pattern+`\z`))
}

// bound has nothing to do: what is there several times is worked out once.
func (trino) bound(value string, of func(name string) string) string { return of(value) }

func (trino) runs(text string, of func(run func(nth int) string) string) string {
	return of(func(nth int) string { return fmt.Sprintf("element_at(regexp_split(%s, '[^0-9]+'), %d)", text, nth) })
}

// Read says by the form of a text which is a value: a cast takes more, and rounds.
func (trino) Read(text string, to column.Type) (SQL, bool) {
	form, also, written := "", "", text
	switch to.Kind {
	case column.Text:
		return SQL{Value: text}, true
	case column.Integer:
		form = `[-+]?[0-9]{1,18}`
	case column.Decimal:
		form = fmt.Sprintf(`[-+]?[0-9]{1,%d}(\.[0-9]{0,%d}0*)?`, typeDigits(to), to.Scale)
	case column.Date:
		form, also = dateForm, " and "+text+" >= '0001'"
	case column.Timestamp:
		form, also = dateForm+`[ T]([01][0-9]|2[0-3]):[0-5][0-9]:[0-5][0-9](\.[0-9]{1,6})?`, " and "+text+" >= '0001'"
		written = "replace(" + text + ", 'T', ' ')"
	case column.Boolean:
		lower := "lower(" + text + ")"
		value := "(case when " + lower + " in (" + trueWords + ") then true when " + lower + " in (" + falseWords + ") then false end)"
		return SQL{value, fmt.Sprintf("(%s is null or regexp_like(%[1]s, '\\A[A-Za-z01]+\\z') and %[2]s is not null)", text, value)}, true
	default:
		return SQL{}, false
	}
	guard := fmt.Sprintf(`regexp_like(%s, '\A%s\z')`, text, form) + also
	value := "(case when " + guard + " then try_cast(" + written + " as " + TrinoType(to) + ") end)"
	return SQL{value, "(" + text + " is null or " + guard + " and " + value + " is not null)"}, true
}

// Fitting knows the types of all numbers: from is one.
func (d trino) Fitting(x SQL, from, to column.Type) SQL {
	fitted := d.as(x.Value, x.Clean, from, to)
	if from.Scale <= to.Scale {
		return fitted
	}
	if !d.compares(from, to) {
		return SQL{fitted.Value, all(fitted.Clean, x.Value+" is null")}
	}
	return SQL{fitted.Value, all(fitted.Clean, fmt.Sprintf("coalesce(%s = %s, true)", fitted.Value, x.Value))}
}
