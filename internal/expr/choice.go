package expr

import (
	"unicode/utf8"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
)

// cases is case: the result of the first condition that is true. A fault counts only where it is
// reached.
type cases struct {
	base
	conditions, results []node // one result more, for else
}

func newCases(at int, conditions, results []node) (node, error) {
	results, common, err := unify(at, "case", results)
	if err != nil {
		return nil, err
	}
	return &cases{newBase(common), conditions, results}, nil
}

func (c *cases) eval(b *column.Batch) *Result {
	conditions, results := evalAll(c.conditions, b), evalAll(c.results, b)
	out := c.begin(b.N)
rows:
	for i := range b.N {
		for k, condition := range conditions {
			if condition.fault != nil && condition.fault[i] != none {
				out.fail(i, condition.fault[i])
				continue rows
			}
			if condition.True(i) {
				out.take(i, results[k])
				continue rows
			}
		}
		out.take(i, results[len(results)-1])
	}
	return out
}

// like matches a pattern: % any characters, _ one, \ before either for itself.
type like struct {
	base
	of, pattern node
}

func newLike(at int, of, pattern node) (node, error) {
	text := column.Type{Kind: column.Text}
	of, pattern = retype(of, text), retype(pattern, text)
	if !isKind(of, column.Text) || !isKind(pattern, column.Text) {
		return nil, errorAt(at, "like wants text on both sides, not %s and %s", of.typ(), pattern.typ())
	}
	return &like{boolean(), of, pattern}, nil
}

func (l *like) eval(b *column.Batch) *Result {
	x, p := l.of.eval(b), l.pattern.eval(b)
	out := l.begin(b.N)
	for i := range b.N {
		if carry(out, i, x, p) {
			continue
		}
		if out.Int[i] = 0; matches(x.Text[i], p.Text[i]) {
			out.Int[i] = 1
		}
	}
	return out
}

// matches goes back to the last % only: what was before it has matched.
func matches(s, pattern string) bool {
	back, from := -1, 0
	i, p := 0, 0
	for i < len(s) {
		_, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case p < len(pattern) && pattern[p] == '%':
			back, from = p+1, i
			p++
			continue
		case p < len(pattern) && pattern[p] == '_':
			i, p = i+n, p+1
			continue
		case p < len(pattern):
			at := p
			if pattern[at] == '\\' && at+1 < len(pattern) {
				at++
			}
			if pattern[at] == s[i] {
				i, p = i+1, at+1
				continue
			}
		}
		if back < 0 {
			return false
		}
		_, n = utf8.DecodeRuneInString(s[from:])
		from += n
		i, p = from, back
	}
	for p < len(pattern) && pattern[p] == '%' {
		p++
	}
	return p == len(pattern)
}

// substring is some characters of a text, from a start that counts from 1.
type substring struct {
	base
	args []node // text, start and perhaps length
}

func newSubstring(t token, args []node) (node, error) {
	for k, kind := range []column.Kind{column.Text, column.Integer, column.Integer} {
		if k < len(args) {
			if args[k] = retype(args[k], column.Type{Kind: kind}); !isKind(args[k], kind) {
				return nil, errorAt(t.at, "substring is written substring(text from start for length), with integers")
			}
		}
	}
	if len(args) < 2 {
		return nil, errorAt(t.at, "substring is written substring(text from start for length)")
	}
	return &substring{newBase(column.Type{Kind: column.Text}), args}, nil
}

func (s *substring) eval(b *column.Batch) *Result {
	results := evalAll(s.args, b)
	out := s.begin(b.N)
	for i := range b.N {
		if carry(out, i, results...) {
			continue
		}
		start, end := results[1].Int[i], int64(1)<<40
		if len(results) == 3 {
			if results[2].Int[i] < 0 {
				out.fail(i, misfit)
				continue
			}
			if end = start + results[2].Int[i]; end < start { // beyond all texts
				end = 1 << 40
			}
		}
		out.Text[i] = characters(results[0].Text[i], start, end)
	}
	return out
}

// characters returns the characters of s from number start to before number end, counting from 1.
func characters(s string, start, end int64) string {
	n, from, to := int64(1), len(s), len(s)
	for i := range s {
		if n >= start && from == len(s) {
			from = i
		}
		if n >= end {
			to = i
			break
		}
		n++
	}
	if to < from {
		return ""
	}
	return s[from:to]
}

type nullIf struct {
	base
	of, equal node
}

func newNullIf(t token, args []node) (node, error) {
	of := retype(args[0], args[1].typ())
	if isKind(of, column.Null) {
		return nil, errorAt(t.at, "nullif wants a value that has a type")
	}
	equal, err := newCompare(token{tokSign, "=", t.at}, of, args[1])
	if err != nil {
		return nil, err
	}
	return &nullIf{newBase(of.typ()), of, equal}, nil
}

func (n *nullIf) eval(b *column.Batch) *Result {
	equal := n.equal.eval(b)
	x := n.of.eval(b)
	out := n.begin(b.N)
	for i := range b.N {
		switch {
		case equal.fault != nil && equal.fault[i] != none:
			out.fail(i, equal.fault[i])
		case equal.True(i):
			out.SetNull(i)
		default:
			out.take(i, x)
		}
	}
	return out
}

// extreme is least and greatest: nulls do not count, faults do.
type extreme struct {
	base
	args []node
	sign int
}

func newExtreme(sign int) func(token, []node) (node, error) {
	return func(t token, args []node) (node, error) {
		args, common, err := unify(t.at, t.text, args)
		if err != nil {
			return nil, err
		}
		return &extreme{newBase(common), args, sign}, nil
	}
}

func (e *extreme) eval(b *column.Batch) *Result {
	results := evalAll(e.args, b)
	out := e.begin(b.N)
	for i := range b.N {
		best := (*Result)(nil)
		for _, r := range results {
			if r.fault != nil && r.fault[i] != none {
				best = r
				break
			}
			if !r.Null[i] && (best == nil || r.Compare(i, &best.Column, i) == e.sign) {
				best = r
			}
		}
		if best == nil {
			best = results[0]
		}
		out.take(i, best)
	}
	return out
}

// exactCall applies a function to exact numbers of one scale.
type exactCall struct {
	base
	args []node
	name string
}

// exactCalls says what these functions do.
var exactCalls = map[string]func(x, y exact.Int128) (exact.Int128, Fault){
	"abs": func(x, _ exact.Int128) (exact.Int128, Fault) {
		if x.Sign() < 0 {
			x = x.Neg()
		}
		return x, none
	},
	"mod": func(x, y exact.Int128) (exact.Int128, Fault) {
		if y.Sign() == 0 {
			return x, zeroDivision
		}
		return x.Rem(y), none
	},
}

func newAbs(t token, args []node) (node, error) {
	x := retype(args[0], column.Type{Kind: column.Integer})
	if isKind(x, column.Double) {
		return newExtreme(1)(t, []node{x, &negated{newBase(x.typ()), x}})
	}
	if !x.typ().Exact() {
		return nil, errorAt(t.at, "abs wants a number, not %s", x.typ())
	}
	return &exactCall{newBase(x.typ()), []node{x, x}, "abs"}, nil
}

type negated struct {
	base
	of node
}

func (n *negated) eval(b *column.Batch) *Result {
	x := n.of.eval(b)
	out := n.begin(b.N)
	for i := range b.N {
		if !carry(out, i, x) {
			out.Float[i] = -x.Float[i]
		}
	}
	return out
}

func newMod(t token, args []node) (node, error) {
	args, common, err := unify(t.at, "mod", args)
	if err != nil {
		return nil, err
	}
	if !common.Exact() {
		return nil, errorAt(t.at, "mod wants exact numbers, not %s", common)
	}
	return &exactCall{newBase(common), args, "mod"}, nil
}

func (e *exactCall) eval(b *column.Batch) *Result {
	l, r, call := e.args[0].eval(b), e.args[1].eval(b), exactCalls[e.name]
	out := e.begin(b.N)
	for i := range b.N {
		if carry(out, i, l, r) {
			continue
		}
		z, fault := call(l.Exact(i), r.Exact(i))
		if fault == none && !setExact(out, i, z) {
			fault = overflow
		}
		if fault != none {
			out.fail(i, fault)
		}
	}
	return out
}
