package expr

import (
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
)

// SQL is an expression, or a part of one, as SQL of a database that never fails.
//
// Where Clean is true, Value is what the expression gives. Where it is not, the row may have a fault, or a value that the
// database works out otherwise than [Program.Eval]: nobody knows before that has looked at it. So what is rare need not
// be put into SQL.
type SQL struct {
	Value string
	Clean string // never null; "" where it is always true
}

// Dialect is the SQL of a database, as far as expressions need it: [Postgres] or [Trino].
type Dialect interface {
	// Operand returns a column of a table as an expression takes it.
	Operand(name string, t column.Type) string
	// Literal writes a value of a type, as the program writes it.
	Literal(text string, t column.Type) string
	// Null is the null of a type.
	Null(t column.Type) string
	// Stored returns a value as a table has it: null where it is not clean, so that it never fails.
	Stored(x SQL, t column.Type) string
	// Read reads a text as a value of a type; false if there is no SQL for that.
	Read(text string, to column.Type) (SQL, bool)
	// Fitting brings an exact number of a database to a type. Where it is known of which type it is, its scale may say that
	// no digit is lost; else from is the zero type.
	Fitting(x SQL, from, to column.Type) SQL

	// bytes has a text compared by its bytes.
	bytes(value string) string
	// matches reports whether all of a text matches a regular expression, of which databases and programs think alike.
	matches(text, pattern string) string
	// bound has a value worked out once for an expression that has it several times.
	bound(value string, of func(name string) string) string
	// runs makes something of the parts of a text between characters that are not digits.
	runs(text string, of func(run func(nth int) string) string) string
	// compares reports whether exact numbers of two types can be compared.
	compares(l, r column.Type) bool

	// The parts of an expression that databases write in ways of their own.
	arithmetic(r *renderer, n *arithmetic) SQL
	like(r *renderer, n *like) SQL
	substring(r *renderer, n *substring) SQL
	extreme(r *renderer, n *extreme) SQL
	exactCall(r *renderer, n *exactCall) SQL
	round(r *renderer, n *round) SQL
	cast(r *renderer, n *cast) SQL
	textCall(r *renderer, n *textCall) SQL
	call(r *renderer, n *call) SQL
	times(r *renderer, n *times) SQL
	part(r *renderer, n *part) SQL
}

// NoSQL says for what there is no SQL.
type NoSQL struct{ What string }

func (e *NoSQL) Error() string { return "there is no SQL for " + e.What }

// mostSQL is how long an expression may become: a guard has to say what it guards twice.
const mostSQL = 50_000

// SQL returns the expression over columns that stand for the fields it was compiled with. The error is a
// [NoSQL].
func (p *Program) SQL(d Dialect, columns []SQL) (SQL, error) {
	_, x, err := p.SQLInSteps(d, columns, nil)
	return x, err
}

// SQLInSteps is [Program.SQL] where parts that cost much, and stand in the expression more than once, are worked out
// before it: each by a name, and from those before it. None fails.
func (p *Program) SQLInSteps(d Dialect, columns []SQL, name func(nth int) string) (steps []string, x SQL, err error) {
	r := &renderer{d: d, columns: columns, name: name}
	x = r.of(p.root)
	if r.err == nil && len(x.Value)+len(x.Clean) > mostSQL {
		r.refuse("an expression that is so long")
	}
	return r.steps, x, r.err
}

// renderer writes SQL. After its first error it writes nothing of use.
type renderer struct {
	d       Dialect
	columns []SQL
	name    func(nth int) string // of a step; nil if there are none
	steps   []string
	err     error
}

// once has a value be worked out in a step of its own, and returns what it is called then.
func (r *renderer) once(value string) string {
	if r.name == nil {
		return value
	}
	r.steps = append(r.steps, value)
	return r.name(len(r.steps) - 1)
}

func (r *renderer) refuse(what string) SQL {
	if r.err == nil {
		r.err = &NoSQL{what}
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
	case *nullIf:
		equal, x := r.of(n.equal), r.of(n.of)
		return SQL{fmt.Sprintf("(case when %s then null else %s end)", equal.Value, x.Value), all(equal.Clean, x.Clean)}
	case *coalesce:
		values, clean := r.list(n.args)
		return SQL{"coalesce(" + strings.Join(values, ", ") + ")", clean}
	case *concat:
		l, x := r.of(n.left), r.of(n.right)
		return SQL{"(" + l.Value + " || " + x.Value + ")", all(l.Clean, x.Clean)}
	case *concatCall:
		values, clean := r.list(n.args)
		for k, v := range values {
			values[k] = "coalesce(" + v + ", '')"
		}
		return SQL{"(" + strings.Join(values, " || ") + ")", clean}
	}
	return r.own(of)
}

// own writes what databases write in ways of their own.
func (r *renderer) own(of node) SQL {
	switch n := of.(type) {
	case *arithmetic:
		if isKind(n, column.Double) {
			break
		}
		return r.d.arithmetic(r, n)
	case *like:
		return r.d.like(r, n)
	case *substring:
		return r.d.substring(r, n)
	case *extreme:
		return r.d.extreme(r, n)
	case *exactCall:
		return r.d.exactCall(r, n)
	case *round:
		return r.d.round(r, n)
	case *cast:
		if n.layout != nil {
			return r.laidOut(n)
		}
		return r.d.cast(r, n)
	case *textCall:
		return r.d.textCall(r, n)
	case *call:
		return r.d.call(r, n)
	case *times:
		return r.d.times(r, n)
	case *part:
		return r.d.part(r, n)
	}
	return r.refuse("a double that is calculated with")
}

func (r *renderer) literal(n *literal) SQL {
	t := n.typ()
	switch {
	case n.out.Null[0] && t.Kind == column.Null:
		return SQL{Value: "null"}
	case n.out.Null[0]:
		return SQL{Value: r.d.Null(t)}
	}
	return SQL{Value: r.d.Literal(n.out.Value(0), t)}
}

func (r *renderer) compare(n *compare) SQL {
	l, x := r.of(n.left), r.of(n.right)
	op := ""
	for name, holds := range comparisons {
		if holds == n.holds && name != "!=" {
			op = name
		}
	}
	switch t := n.left.typ(); {
	case t.Kind == column.Null:
		return SQL{Value: r.d.Null(column.Type{Kind: column.Boolean})}
	case t.Kind == column.Text:
		l.Value, x.Value = r.d.bytes(l.Value), r.d.bytes(x.Value)
	case t.Exact() && !r.d.compares(t, n.right.typ()):
		return r.refuse(fmt.Sprintf("a comparison of %s with %s", t, n.right.typ()))
	}
	return SQL{"(" + l.Value + " " + op + " " + x.Value + ")", all(l.Clean, x.Clean)}
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

// likePattern is the pattern of a like; false if that is not written out.
func likePattern(n *like) (string, bool) {
	pattern, ok := n.pattern.(*literal)
	if !ok || pattern.out.Null[0] || strings.HasSuffix(pattern.out.Text[0], `\`) {
		return "", false
	}
	return pattern.out.Text[0], true
}

// filled is Sprintf of a format that need not use all arguments.
func filled(format string, args []any) string {
	for k, a := range args {
		format = strings.ReplaceAll(format, fmt.Sprintf("%%[%d]s", k+1), a.(string))
	}
	return format
}
