package expr

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/exact"
)

// The grammar, loosest first: or; and; not; comparison, is [not] null, [not] in, between, like; ||; + -;
// * /; sign.

type tokenKind uint8

const (
	tokEnd tokenKind = iota
	tokName
	tokQuoted // a name in double quotes
	tokNumber
	tokString
	tokParameter
	tokSign
)

type token struct {
	kind tokenKind
	text string
	at   int
}

// is reports whether the token is the keyword or sign s, given in lower case.
func (t token) is(s string) bool {
	return t.kind == tokSign && t.text == s || t.kind == tokName && strings.EqualFold(t.text, s)
}

func (t token) String() string {
	if t.kind == tokEnd {
		return "the end"
	}
	return t.text
}

type lexer struct {
	text []rune
	pos  int
}

func isWord(r rune) bool { return r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) }

func (l *lexer) next() (token, error) {
	for l.pos < len(l.text) && unicode.IsSpace(l.text[l.pos]) {
		l.pos++
	}
	at := l.pos
	if at == len(l.text) {
		return token{at: at}, nil
	}
	span := func(kind tokenKind) token { return token{kind, string(l.text[at:l.pos]), at} }
	switch r := l.text[at]; {
	case r >= '0' && r <= '9', r == '.' && at+1 < len(l.text) && unicode.IsDigit(l.text[at+1]):
		for l.pos < len(l.text) && (l.text[l.pos] >= '0' && l.text[l.pos] <= '9' || l.text[l.pos] == '.') {
			l.pos++
		}
		if l.pos < len(l.text) && isWord(l.text[l.pos]) {
			return token{}, errorAt(at, "a name cannot begin with a digit; put it in double quotes")
		}
		return span(tokNumber), nil
	case isWord(r):
		for l.pos < len(l.text) && isWord(l.text[l.pos]) {
			l.pos++
		}
		return span(tokName), nil
	case r == ':' && at+1 < len(l.text) && isWord(l.text[at+1]):
		for l.pos++; l.pos < len(l.text) && isWord(l.text[l.pos]); {
			l.pos++
		}
		return span(tokParameter), nil
	case r == '\'' || r == '"':
		var b strings.Builder
		for l.pos++; l.pos < len(l.text); l.pos++ {
			if l.text[l.pos] != r {
				b.WriteRune(l.text[l.pos])
			} else if l.pos+1 < len(l.text) && l.text[l.pos+1] == r {
				b.WriteRune(r)
				l.pos++
			} else {
				l.pos++
				kind := tokString
				if r == '"' {
					kind = tokQuoted
				}
				return token{kind, b.String(), at}, nil
			}
		}
		return token{}, errorAt(at, "the quote that opens here is never closed")
	}
	for _, sign := range []string{"||", "<>", "!=", "<=", ">=", "+", "-", "*", "/", "=", "<", ">", "(", ")", ","} {
		if strings.HasPrefix(string(l.text[at:min(at+2, len(l.text))]), sign) {
			l.pos += len(sign)
			return span(tokSign), nil
		}
	}
	return token{}, errorAt(at, "%q has no meaning here", l.text[at])
}

type parser struct {
	lex    lexer
	tok    token
	err    error // the first mistake of the lexer
	depth  int
	fields []column.Field
	used   []int

	parameters []Parameter
}

func (p *parser) next() token {
	last := p.tok
	if p.err == nil {
		p.tok, p.err = p.lex.next()
	}
	if p.err != nil {
		p.tok = token{at: len(p.lex.text)}
	}
	return last
}

func (p *parser) take(s string) bool {
	if p.tok.is(s) {
		p.next()
		return true
	}
	return false
}

func (p *parser) want(s, where string) error {
	if p.err != nil {
		return p.err
	}
	if !p.take(s) {
		return errorAt(p.tok.at, "expected %s %s, not %s", s, where, p.tok)
	}
	return nil
}

func (p *parser) parse() (node, error) {
	if p.tok.kind == tokEnd && p.err == nil {
		return nil, errorAt(0, "the expression is empty")
	}
	n, err := p.or()
	if p.err != nil {
		return nil, p.err
	}
	if err != nil {
		return nil, err
	}
	if p.tok.kind != tokEnd {
		return nil, errorAt(p.tok.at, "expected an operator or the end, not %s", p.tok)
	}
	return n, nil
}

// chain parses operands of one level joined by some operators, from left to right.
func (p *parser) chain(
	operand func() (node, error),
	join func(token, node, node) (node, error),
	ops ...string,
) (node, error) {
	left, err := operand()
	for err == nil {
		if !slices.ContainsFunc(ops, p.tok.is) {
			return left, nil
		}
		op := p.next()
		var right node
		if right, err = operand(); err == nil {
			left, err = join(op, left, right)
		}
	}
	return nil, err
}

func (p *parser) or() (node, error) {
	if p.depth++; p.depth > MaxDepth {
		return nil, errorAt(p.tok.at, "the expression is nested more than %d deep", MaxDepth)
	}
	defer func() { p.depth-- }()
	return p.chain(p.and, newLogic, "or")
}

func (p *parser) and() (node, error) { return p.chain(p.not, newLogic, "and") }

func (p *parser) not() (node, error) {
	nots := 0
	at := p.tok.at
	for p.take("not") {
		nots++
	}
	n, err := p.comparison()
	if err != nil || nots == 0 {
		return n, err
	}
	if n, err = wantBoolean(n, at, "not"); err != nil || nots%2 == 0 {
		return n, err
	}
	return newNot(n), nil
}

func (p *parser) comparison() (node, error) {
	left, err := p.concat()
	for err == nil {
		at := p.tok.at
		switch {
		case p.take("is"):
			negated := p.take("not")
			if err = p.want("null", "after is"); err == nil {
				left = newIsNull(left, negated)
			}
		case p.take("not"):
			if left, err = p.membership(left, at); err == nil && left == nil {
				err = cmp.Or(p.err, errorAt(p.tok.at, "expected in, between or like after not, not %s", p.tok))
			} else if err == nil {
				left = newNot(left)
			}
		case p.tok.is("in"), p.tok.is("between"), p.tok.is("like"):
			left, err = p.membership(left, at)
		case slices.ContainsFunc([]string{"=", "<>", "!=", "<", "<=", ">", ">="}, p.tok.is):
			op := p.next()
			var right node
			if right, err = p.concat(); err == nil {
				left, err = newCompare(op, left, right)
			}
		default:
			return left, nil
		}
	}
	return nil, err
}

// membership reads what can be negated: in, between, like; nil if there is none of them.
func (p *parser) membership(left node, at int) (node, error) {
	switch {
	case p.take("in"):
		return p.in(left, at)
	case p.take("between"):
		low, err := p.concat()
		if err == nil {
			err = p.want("and", "in between a and b")
		}
		if err != nil {
			return nil, err
		}
		high, err := p.concat()
		if err != nil {
			return nil, err
		}
		above, err := newCompare(token{tokSign, ">=", at}, left, low)
		if err != nil {
			return nil, err
		}
		below, err := newCompare(token{tokSign, "<=", at}, left, high)
		if err != nil {
			return nil, err
		}
		return newLogic(token{tokName, "and", at}, above, below)
	case p.take("like"):
		pattern, err := p.concat()
		if err != nil {
			return nil, err
		}
		return newLike(at, left, pattern)
	}
	return nil, nil
}

// cases reads case when ... then ... else ... end, or case value when ...
func (p *parser) cases(at int) (node, error) {
	var value node
	var err error
	if !p.tok.is("when") {
		if value, err = p.or(); err != nil {
			return nil, err
		}
	}
	var conditions, results []node
	for {
		whenAt := p.tok.at
		if !p.take("when") {
			break
		}
		c, err := p.or()
		if err == nil && value != nil {
			c, err = newCompare(token{tokSign, "=", whenAt}, value, c)
		} else if err == nil {
			c, err = wantBoolean(c, whenAt, "when")
		}
		if err == nil {
			err = p.want("then", "after a condition of case")
		}
		if err != nil {
			return nil, err
		}
		r, err := p.or()
		if err != nil {
			return nil, err
		}
		conditions, results = append(conditions, c), append(results, r)
	}
	if len(conditions) == 0 {
		return nil, cmp.Or(p.err, errorAt(p.tok.at, "expected when in case, not %s", p.tok))
	}
	var otherwise node = newLiteral(column.Type{}, "", 0)
	if p.take("else") {
		if otherwise, err = p.or(); err != nil {
			return nil, err
		}
	}
	if err := p.want("end", "to close case"); err != nil {
		return nil, err
	}
	return newCases(at, conditions, append(results, otherwise))
}

// extract reads extract(part from value).
func (p *parser) extract(t token) (node, error) {
	if err := p.want("(", "after extract"); err != nil {
		return nil, err
	}
	part := p.next()
	if err := p.want("from", "in extract(part from value)"); err != nil {
		return nil, err
	}
	value, err := p.or()
	if err == nil {
		err = p.want(")", "to close extract")
	}
	if err != nil {
		return nil, err
	}
	return newExtract(part, value)
}

// substring reads substring(text from start for length), or the same with commas; length may be left
// out.
func (p *parser) substring(t token) (node, error) {
	if err := p.want("(", "after substring"); err != nil {
		return nil, err
	}
	args := make([]node, 0, 3)
	for {
		n, err := p.or()
		if err != nil {
			return nil, err
		}
		args = append(args, n)
		if len(args) == 3 ||
			!p.take(",") && !(len(args) == 1 && p.take("from")) && !(len(args) == 2 && p.take("for")) {
			break
		}
	}
	if err := p.want(")", "to close substring"); err != nil {
		return nil, err
	}
	return newSubstring(t, args)
}

// in reads a list of expressions: x in (a, b) is x = a or x = b, nulls included.
func (p *parser) in(left node, at int) (node, error) {
	list, err := p.list("after in")
	if err != nil {
		return nil, err
	}
	var whole node
	for _, item := range list {
		n, err := newCompare(token{tokSign, "=", at}, left, item)
		if err == nil && whole != nil {
			n, err = newLogic(token{tokName, "or", at}, whole, n)
		}
		if err != nil {
			return nil, err
		}
		whole = n
	}
	return whole, nil
}

// list reads one or more expressions in brackets.
func (p *parser) list(where string) ([]node, error) {
	if err := p.want("(", where); err != nil {
		return nil, err
	}
	var list []node
	for {
		n, err := p.or()
		if err != nil {
			return nil, err
		}
		list = append(list, n)
		if !p.take(",") {
			return list, p.want(")", "or a comma")
		}
	}
}

func (p *parser) concat() (node, error)  { return p.chain(p.sum, newConcat, "||") }
func (p *parser) sum() (node, error)     { return p.chain(p.product, newArithmetic, "+", "-") }
func (p *parser) product() (node, error) { return p.chain(p.sign, newArithmetic, "*", "/") }

func (p *parser) sign() (node, error) {
	at, negative := p.tok.at, false
	for {
		if p.take("-") {
			negative = !negative
		} else if !p.take("+") {
			break
		}
	}
	if negative && p.tok.kind == tokNumber {
		p.tok.text = "-" + p.tok.text
		return p.primary()
	}
	n, err := p.primary()
	if err == nil && negative {
		return newArithmetic(token{tokSign, "-", at}, newLiteral(column.Type{Kind: column.Integer}, "0", 1), n)
	}
	return n, err
}

func (p *parser) primary() (node, error) {
	t := p.next()
	switch {
	case t.kind == tokNumber:
		return number(t)
	case t.kind == tokString:
		if n := newLiteral(column.Type{Kind: column.Text}, t.text, 0); n != nil {
			return n, nil
		}
		return nil, errorAt(t.at, "a text cannot hold a zero byte")
	case t.kind == tokParameter:
		return p.parameter(t)
	case t.is("("):
		n, err := p.or()
		if err == nil {
			err = p.want(")", "to close the bracket")
		}
		return n, err
	case t.kind == tokQuoted:
		return p.column(t)
	case t.kind != tokName:
		if p.err != nil {
			return nil, p.err
		}
		return nil, errorAt(t.at, "expected a value, not %s", t)
	case t.is("null"):
		return newLiteral(column.Type{}, "", 0), nil
	case t.is("true"), t.is("false"):
		return newLiteral(column.Type{Kind: column.Boolean}, t.text, 0), nil
	case p.tok.kind == tokString && (t.is("date") || t.is("timestamp") || t.is("time")):
		typ, _ := column.ParseType(t.text)
		value := p.next()
		n := newLiteral(typ, value.text, 0)
		if n == nil {
			return nil, errorAt(value.at, "'%s' is not a valid %s", value.text, typ)
		}
		return n, nil
	case t.is("case"):
		return p.cases(t.at)
	case t.is("interval") && p.tok.kind == tokString:
		value := p.next()
		return newInterval(value, p.next())
	case t.is("extract") && p.tok.is("("):
		return p.extract(t)
	case t.is("substring") && p.tok.is("("):
		return p.substring(t)
	case p.tok.is("("):
		return p.call(t)
	}
	return p.column(t)
}

func number(t token) (node, error) {
	if whole, frac, point := strings.Cut(strings.TrimPrefix(t.text, "-"), "."); point {
		typ := column.Type{
			Kind:      column.Decimal,
			Precision: uint8(min(len(whole)+len(frac), 255)),
			Scale:     uint8(min(len(frac), 255)),
		}
		if typ.Precision > exact.MaxDigits {
			return nil, errorAt(t.at, "%s has more than %d digits", t.text, exact.MaxDigits)
		}
		if n := newLiteral(typ, t.text, 0); n != nil {
			return n, nil
		}
		return nil, errorAt(t.at, "%s is not a number", t.text)
	}
	if _, err := strconv.ParseInt(t.text, 10, 64); err != nil {
		typ, err := column.ParseType("decimal(" + strconv.Itoa(len(strings.TrimPrefix(t.text, "-"))) + ",0)")
		if err != nil {
			return nil, errorAt(t.at, "%s has more than %d digits", t.text, exact.MaxDigits)
		}
		return newLiteral(typ, t.text, 0), nil
	}
	return newLiteral(column.Type{Kind: column.Integer}, t.text, len(strings.TrimPrefix(t.text, "-"))), nil
}

func (p *parser) parameter(t token) (node, error) {
	var names []string
	for _, x := range p.parameters {
		if x.Name == t.text[1:] {
			if n := newLiteral(x.Type, x.Value, 0); n != nil {
				return n, nil
			}
			return retype(newLiteral(column.Type{}, "", 0), x.Type), nil
		}
		names = append(names, x.Name)
	}
	return nil, errorAt(t.at, "there is no parameter %s%s", t.text[1:], diag.Suggest(t.text[1:], names))
}

func (p *parser) column(t token) (node, error) {
	i := column.Find(p.fields, t.text)
	if i < 0 {
		return nil, errorAt(t.at, "there is no column %s%s", t.text, diag.Suggest(t.text, column.Names(p.fields)))
	}
	if !slices.Contains(p.used, i) {
		p.used = append(p.used, i)
	}
	return newColumn(i, p.fields[i].Type), nil
}

func (p *parser) call(t token) (node, error) {
	name := strings.ToLower(t.text)
	if name == "cast" {
		return p.cast(t)
	}
	f, ok := functions[name]
	if !ok {
		names := append(FunctionNames(), "cast", "extract", "substring")
		return nil, errorAt(t.at, "there is no function %s%s", t.text, diag.Suggest(name, names))
	}
	args, err := p.list("after " + name)
	if err != nil {
		return nil, err
	}
	if len(args) < f.least || len(args) > f.most {
		return nil, errorAt(t.at, "%s is written %s", name, f.form)
	}
	return f.make(t, args)
}

func (p *parser) cast(t token) (node, error) {
	if err := p.want("(", "after cast"); err != nil {
		return nil, err
	}
	n, err := p.or()
	if err != nil {
		return nil, err
	}
	if err := p.want("as", "in cast(value as type)"); err != nil {
		return nil, err
	}
	from := p.tok.at
	for depth := 0; p.tok.kind != tokEnd && (depth > 0 || !p.tok.is(")") && !p.tok.is("layout")); p.next() {
		if p.tok.is("(") {
			depth++
		} else if p.tok.is(")") {
			depth--
		}
	}
	typ, err := column.ParseType(string(p.lex.text[from:p.tok.at]))
	if err != nil {
		return nil, errorAt(from, "%v", err)
	}
	layout := p.tok
	if layout.is("layout") {
		p.next()
		if layout = p.tok; layout.kind != tokString {
			return nil, errorAt(p.tok.at, "a layout stands in quotes: cast(value as date layout 'dd.MM.yyyy')")
		}
		p.next()
	}
	if err := p.want(")", "to close the cast"); err != nil {
		return nil, err
	}
	if layout.kind == tokString {
		return newLaidOut(layout, n, typ)
	}
	return newCast(t.at, n, typ)
}
