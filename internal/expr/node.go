package expr

import (
	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/parse"
)

// node is a part of a compiled expression.
type node interface {
	typ() column.Type
	eval(*column.Batch) *Result
}

// base is what every calculating node has: its type and the buffer of its values.
type base struct{ out Result }

func newBase(t column.Type) base        { return base{Result{Column: column.Column{Type: t}}} }
func (b *base) typ() column.Type        { return b.out.Type }
func (b *base) begin(n int) *Result     { b.out.reset(n); return &b.out }
func boolean() base                     { return newBase(column.Type{Kind: column.Boolean}) }
func isKind(n node, k column.Kind) bool { return n.typ().Kind == k }

// digits returns how many digits a value of n can have before and after the point.
func digits(n node) (whole, scale int) {
	t := n.typ()
	if t.Kind == column.Integer {
		if l, ok := n.(*literal); ok {
			return l.digits, 0
		}
		return 19, 0
	}
	return int(t.Precision) - int(t.Scale), int(t.Scale)
}

// columnNode hands on a column of the batch as it is.
type columnNode struct {
	base
	at int
}

func newColumn(at int, t column.Type) node { return &columnNode{newBase(t), at} }

func (c *columnNode) eval(b *column.Batch) *Result {
	c.out.Column = b.Cols[c.at]
	return &c.out
}

// literal is a constant, spread over the rows of the batch.
type literal struct {
	base
	digits int
	filled int
}

// newLiteral reads a constant of type t; nil if text is none. A bare null has the type Null.
func newLiteral(t column.Type, text string, digits int) node {
	l := &literal{base: newBase(t), digits: digits}
	l.grow(1)
	if t.Kind == column.Null {
		l.out.SetNull(0)
	} else if parse.NewReader(nil).Set(&l.out.Column, 0, text) != nil {
		return nil
	}
	return l
}

func (l *literal) grow(n int) {
	one := column.Column{Type: l.out.Type}
	if l.filled > 0 {
		one.Append(&l.out.Column, 0)
	}
	l.out.Resize(n)
	if l.filled == 0 {
		l.out.Null[0], l.filled = false, 1
		return
	}
	l.out.Column = column.Column{Type: l.out.Type}
	for range n {
		l.out.Append(&one, 0)
	}
	l.filled = n
}

func (l *literal) eval(b *column.Batch) *Result {
	if l.filled < b.N {
		l.grow(b.N)
	}
	if b.N > 0 { // the first row is what more are made of
		l.out.Resize(b.N)
	}
	return &l.out
}

// retype returns a bare null the type t, and any other node as it is.
func retype(n node, t column.Type) node {
	if !isKind(n, column.Null) {
		return n
	}
	l := &literal{base: newBase(t)}
	l.grow(1)
	l.out.SetNull(0)
	return l
}

// evalAll returns the results of several nodes.
func evalAll(nodes []node, b *column.Batch) []*Result {
	results := make([]*Result, len(nodes))
	for k, n := range nodes {
		results[k] = n.eval(b)
	}
	return results
}

// carry marks row i null, or faulty where one of the operands is, and says whether it did either.
func carry(out *Result, i int, operands ...*Result) bool {
	null := false
	for _, o := range operands {
		if o.Null[i] {
			null = true
			if o.fault != nil && o.fault[i] != none {
				out.fail(i, o.fault[i])
				return true
			}
		}
	}
	if null {
		out.SetNull(i)
	} else {
		out.Null[i] = false
	}
	return null
}

// arithmetic is + - * / over exact numbers or doubles.
type arithmetic struct {
	base
	op          byte
	left, right node
	up          [2]int // powers of ten that bring the operands of + and - to the result's scale
	quotient    int    // the power of ten for the dividend
}

func newArithmetic(op token, left, right node) (node, error) {
	if isTime(left) || isTime(right) || isInterval(left) || isInterval(right) {
		return newTimeArithmetic(op, left, right)
	}
	t := right.typ()
	if isKind(right, column.Null) {
		t = left.typ()
	}
	left, right = retype(left, t), retype(right, t)
	l, r := left.typ(), right.typ()
	if !l.Numeric() || !r.Numeric() {
		return nil, errorAt(op.at, "%s wants numbers, not %s and %s", op.text, l, r)
	}
	n := &arithmetic{op: op.text[0], left: left, right: right}
	if l.Kind == column.Double || r.Kind == column.Double {
		n.left, n.right = toDouble(left), toDouble(right)
		n.base = newBase(column.Type{Kind: column.Double})
		return n, nil
	}
	lw, ls := digits(left)
	rw, rs := digits(right)
	precision, scale := 0, 0
	switch n.op {
	case '+', '-':
		scale = max(ls, rs)
		precision = max(lw, rw) + scale + 1
		n.up = [2]int{scale - ls, scale - rs}
	case '*':
		scale = ls + rs
		precision = lw + rw + scale
	case '/':
		scale = max(6, ls)
		precision = lw + rs + scale
		n.quotient = scale - ls + rs
	}
	if l.Kind == column.Integer && r.Kind == column.Integer && n.op != '/' {
		n.base = newBase(column.Type{Kind: column.Integer})
		return n, nil
	}
	if precision > exact.MaxDigits {
		return nil, errorAt(
			op.at,
			"%s %s %s may need %d digits, and a decimal has at most %d: round or cast an operand",
			l,
			op.text,
			r,
			precision,
			exact.MaxDigits,
		)
	}
	n.base = newBase(column.Type{Kind: column.Decimal, Precision: uint8(precision), Scale: uint8(scale)})
	return n, nil
}

func (a *arithmetic) eval(b *column.Batch) *Result {
	l, r := a.left.eval(b), a.right.eval(b)
	out := a.begin(b.N)
	switch {
	case a.typ().Kind == column.Double:
		for i := range b.N {
			if !carry(out, i, l, r) {
				a.double(out, i, l.Float[i], r.Float[i])
			}
		}
	case a.typ().Kind == column.Decimal && !a.typ().Wide() && !l.Type.Wide() && !r.Type.Wide() && a.op != '/':
		a.narrow(out, l, r) // the type bounds the result: it can't overflow
	default:
		for i := range b.N {
			if !carry(out, i, l, r) {
				a.wide(out, i, l.Exact(i), r.Exact(i))
			}
		}
	}
	return out
}

func (a *arithmetic) narrow(out *Result, l, r *Result) {
	up0, _ := exact.Pow10(a.up[0]).Int64()
	up1, _ := exact.Pow10(a.up[1]).Int64()
	for i := range out.Int {
		if carry(out, i, l, r) {
			continue
		}
		switch x, y := l.Int[i], r.Int[i]; a.op {
		case '+':
			out.Int[i] = x*up0 + y*up1
		case '-':
			out.Int[i] = x*up0 - y*up1
		case '*':
			out.Int[i] = x * y
		}
	}
}

func (a *arithmetic) wide(out *Result, i int, x, y exact.Int128) {
	var z exact.Int128
	ok := true
	switch a.op {
	case '*':
		z, ok = x.Mul(y)
	case '/':
		if y.Sign() == 0 {
			out.fail(i, zeroDivision)
			return
		}
		z, ok = exact.QuoScaled(x, y, a.quotient)
	default:
		x, _ = x.Mul(exact.Pow10(a.up[0]))
		y, _ = y.Mul(exact.Pow10(a.up[1]))
		if a.op == '-' {
			y = y.Neg()
		}
		z, ok = x.Add(y)
	}
	if !ok || !setExact(out, i, z) {
		out.fail(i, overflow)
	}
}

func (a *arithmetic) double(out *Result, i int, x, y float64) {
	switch a.op {
	case '+':
		x += y
	case '-':
		x -= y
	case '*':
		x *= y
	case '/':
		if y == 0 {
			out.fail(i, zeroDivision)
			return
		}
		x /= y
	}
	if x-x != 0 {
		out.fail(i, overflow)
		return
	}
	out.Float[i] = x
}

// setExact stores an unscaled number in row i and says whether it fits the type.
func setExact(out *Result, i int, z exact.Int128) bool {
	if out.Type.Wide() {
		out.Wide[i] = z
		return z.Fits(int(out.Type.Precision))
	}
	v, ok := z.Int64()
	out.Int[i] = v
	return ok && (out.Type.Kind != column.Decimal || z.Fits(int(out.Type.Precision)))
}

// compare is = <> < <= > >= over values of one kind, numbers of any two kinds included.
type compare struct {
	base
	left, right node
	up          [2]int
	holds       [3]bool // for less, equal, greater
}

var comparisons = map[string][3]bool{
	"=": {false, true, false}, "<>": {true, false, true}, "!=": {true, false, true},
	"<": {true, false, false}, "<=": {true, true, false}, ">": {false, false, true}, ">=": {false, true, true},
}

func newCompare(op token, left, right node) (node, error) {
	left, right = retype(left, right.typ()), retype(right, left.typ())
	l, r := left.typ(), right.typ()
	n := &compare{base: boolean(), left: left, right: right, holds: comparisons[op.text]}
	switch {
	case l.Kind == column.Double && r.Numeric() || r.Kind == column.Double && l.Numeric():
		n.left, n.right = toDouble(left), toDouble(right)
	case l.Exact() && r.Exact():
		scale := max(l.Scale, r.Scale)
		n.up = [2]int{int(scale - l.Scale), int(scale - r.Scale)}
	case l.Kind != r.Kind:
		hint := ""
		if _, ok := right.(*literal); ok && r.Kind == column.Text && l.Kind >= column.Date {
			hint = "; a constant is written " + l.String() + " '...'"
		}
		return nil, errorAt(op.at, "%s cannot compare %s with %s%s", op.text, l, r, hint)
	}
	return n, nil
}

func (c *compare) eval(b *column.Batch) *Result {
	l, r := c.left.eval(b), c.right.eval(b)
	out := c.begin(b.N)
	plain := !l.Type.Wide() && !r.Type.Wide() && c.up == [2]int{}
	for i := range b.N {
		if carry(out, i, l, r) {
			continue
		}
		var sign int
		switch {
		case l.Type.Kind == column.Text:
			sign = order(l.Text[i], r.Text[i])
		case l.Type.Kind == column.Double:
			sign = order(l.Float[i], r.Float[i])
		case l.Type.Kind == column.Null:
		case plain:
			sign = order(l.Int[i], r.Int[i])
		default:
			sign = compareScaled(l.Exact(i), r.Exact(i), c.up)
		}
		out.Int[i] = 0
		if c.holds[sign+1] {
			out.Int[i] = 1
		}
	}
	return out
}

func order[T int64 | float64 | string](x, y T) int {
	if x < y {
		return -1
	} else if x > y {
		return 1
	}
	return 0
}

// compareScaled compares x*10^up[0] with y*10^up[1]; a product that does not fit is beyond the other.
func compareScaled(x, y exact.Int128, up [2]int) int {
	sx, okx := x.Mul(exact.Pow10(up[0]))
	sy, oky := y.Mul(exact.Pow10(up[1]))
	if !okx {
		return x.Sign()
	} else if !oky {
		return -y.Sign()
	}
	return sx.Cmp(sy)
}

// logic is and, or: three-valued, and a fault counts only where the other side does not decide.
type logic struct {
	base
	decides     int64 // the value that decides alone: 0 for and, 1 for or
	left, right node
}

func newLogic(op token, left, right node) (node, error) {
	left, err := wantBoolean(left, op.at, op.text)
	if err != nil {
		return nil, err
	}
	if right, err = wantBoolean(right, op.at, op.text); err != nil {
		return nil, err
	}
	n := &logic{base: boolean(), left: left, right: right}
	if op.is("or") {
		n.decides = 1
	}
	return n, nil
}

func wantBoolean(n node, at int, op string) (node, error) {
	n = retype(n, column.Type{Kind: column.Boolean})
	if !isKind(n, column.Boolean) {
		return nil, errorAt(at, "%s wants a condition, not a value of type %s", op, n.typ())
	}
	return n, nil
}

func (g *logic) eval(b *column.Batch) *Result {
	l, r := g.left.eval(b), g.right.eval(b)
	out := g.begin(b.N)
	for i := range b.N {
		if !l.Null[i] && l.Int[i] == g.decides || !r.Null[i] && r.Int[i] == g.decides {
			out.Null[i], out.Int[i] = false, g.decides
		} else if !carry(out, i, l, r) {
			out.Int[i] = 1 - g.decides
		}
	}
	return out
}

type not struct {
	base
	of node
}

func newNot(n node) node { return &not{boolean(), n} }

func (n *not) eval(b *column.Batch) *Result {
	x := n.of.eval(b)
	out := n.begin(b.N)
	for i := range b.N {
		if !carry(out, i, x) {
			out.Int[i] = 1 - x.Int[i]
		}
	}
	return out
}

type isNull struct {
	base
	of      node
	negated bool
}

func newIsNull(n node, negated bool) node { return &isNull{boolean(), n, negated} }

func (n *isNull) eval(b *column.Batch) *Result {
	x := n.of.eval(b)
	out := n.begin(b.N)
	for i := range b.N {
		out.Null[i], out.Int[i] = false, 0
		if x.fault != nil && x.fault[i] != none {
			out.fail(i, x.fault[i])
		} else if x.Null[i] != n.negated {
			out.Int[i] = 1
		}
	}
	return out
}
