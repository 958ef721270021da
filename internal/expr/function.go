package expr

import (
	"slices"
	"strings"
	"unicode/utf8"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
)

// function is a function of the language: how it is written, what it gives, and how a call is compiled.
type function struct {
	form, doc   string
	least, most int
	make        func(t token, args []node) (node, error)
}

var functions = map[string]function{
	"coalesce": {
		"coalesce(a, b, ...)",
		"the first value that is not null; all of one type, or numbers",
		1,
		100,
		newCoalesce,
	},
	"round": {
		"round(number) or round(number, places)",
		"a number with so many decimal places (0 by default), rounded half away from zero. Places are a literal number",
		1,
		2,
		newRound,
	},
	"trim":  {"trim(text)", "text without blanks at its ends", 1, 1, newTextCall},
	"upper": {"upper(text)", "text in upper case", 1, 1, newTextCall},
	"lower": {"lower(text)", "text in lower case", 1, 1, newTextCall},
	"ltrim": {
		"ltrim(text, 'characters')",
		"text without any of these characters at its beginning: ltrim(code, '0') strips zeros",
		2,
		2,
		newTrimmed,
	},
	"rtrim": {"rtrim(text, 'characters')", "text without any of these characters at its end", 2, 2, newTrimmed},
	"lpad": {
		"lpad(text, length, 'character')",
		"text with as many of the character before it as make it so long: lpad(code, 6, '0'). A longer text is a fault",
		3,
		3,
		newPad,
	},
	"abs": {"abs(number)", "the number without its sign", 1, 1, newAbs},
	"mod": {
		"mod(a, b)",
		"what is left of a divided by b, with the sign of a; exact numbers. A b of zero is a fault",
		2,
		2,
		newMod,
	},
	"split_part": {"split_part(text, delimiter, n)", "the n-th part of a text between delimiters, from the end if n is negative; an empty text if there is none", 3, 3, texts(splitPart, textType, textType, integerType)},
	"replace":    {"replace(text, from, to)", "text with each occurrence of from replaced", 3, 3, texts(replaceText, textType)},
	"strpos":     {"strpos(text, part)", "where a part first stands in a text, in characters from 1; 0 if it does not", 2, 2, newPosition},
	"concat":     {"concat(a, b, ...)", "the values as text, one after the other; null counts as an empty text", 1, 100, newConcatCall},
	"left": {
		"left(text, n)", "the first n characters; with a negative n, all but the last ones", 2, 2,
		texts(func(x []*Result, i int) (string, bool) { return cut(x[0].Text[i], x[1].Int[i], true), true }, textType, integerType),
	},
	"right": {
		"right(text, n)", "the last n characters; with a negative n, all but the first ones", 2, 2,
		texts(func(x []*Result, i int) (string, bool) { return cut(x[0].Text[i], x[1].Int[i], false), true }, textType, integerType),
	},
	"initcap": {
		"initcap(text)", "text with the first letter of each word in upper case, the others in lower case", 1, 1,
		texts(func(x []*Result, i int) (string, bool) { return initcap(x[0].Text[i]), true }, textType),
	},
	"translate":     {"translate(text, from, to)", "text with each character of from replaced by the one at its place in to, or taken away if there is none", 3, 3, texts(translated, textType, textType, textType)},
	"normalize":     {"normalize(text) or normalize(text, 'NFKC')", "text in a normal form of Unicode: NFC (the default), NFD, NFKC or NFKD", 1, 2, newNormalize},
	"regexp_substr": {"regexp_substr(text, 'pattern')", "the first part of a text that a regular expression (of RE2) fits; null if it fits none", 2, 2, newRegexpSubstr},
	"regexp_replace": {
		"regexp_replace(text, 'pattern', 'by', 'flags')",
		"text with the first part that a regular expression (of RE2) fits replaced; \\1 is what its first group fits. Flags, which may be missing: g replaces all, i ignores letter case",
		3, 4, newRegexpReplace,
	},
	"floor":       {"floor(number)", "the greatest whole number that is not greater; of an exact number", 1, 1, newWhole},
	"ceil":        {"ceil(number)", "the least whole number that is not less; of an exact number", 1, 1, newWhole},
	"trunc":       {"trunc(number)", "the number without its places; of an exact number", 1, 1, newWhole},
	"date_trunc":  {"date_trunc('unit', time)", "the beginning of the year, quarter, month, week (a Monday), day, hour, minute or second of a date or a timestamp", 2, 2, newDateTrunc},
	"make_date":   {"make_date(year, month, day)", "a date. A day that is none is a fault", 3, 3, newMakeDate},
	"sorted_list": {"sorted_list(text, separator)", "a list with each of its elements once, in the order of their bytes, and without the blanks around them: lists of the same members are one text", 2, 2, texts(func(x []*Result, i int) (string, bool) { return SortedList(x[0].Text[i], x[1].Text[i]), true }, textType)},
	"nullif":      {"nullif(a, b)", "null if a = b, else a", 2, 2, newNullIf},
	"least": {
		"least(a, b, ...)",
		"the least value that is not null; all of one type, or numbers",
		1,
		100,
		newExtreme(-1),
	},
	"greatest": {
		"greatest(a, b, ...)",
		"the greatest value that is not null; all of one type, or numbers",
		1,
		100,
		newExtreme(1),
	},
}

// FunctionNames lists the functions, sorted.
func FunctionNames() []string {
	names := make([]string, 0, len(functions))
	for name := range functions {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// textCall applies a function of text to each row.
type textCall struct {
	base
	of         node
	name       string
	characters string // that the function takes away, or puts before the text
	length     int    // that it makes the text
}

// textCalls says what the functions of text do; ok is false for a text that does not fit.
var textCalls = map[string]func(t *textCall, s string) (out string, ok bool){
	"trim":  func(_ *textCall, s string) (string, bool) { return strings.Trim(s, " "), true },
	"upper": func(_ *textCall, s string) (string, bool) { return strings.ToUpper(s), true },
	"lower": func(_ *textCall, s string) (string, bool) { return strings.ToLower(s), true },
	"ltrim": func(t *textCall, s string) (string, bool) { return strings.TrimLeft(s, t.characters), true },
	"rtrim": func(t *textCall, s string) (string, bool) { return strings.TrimRight(s, t.characters), true },
	"lpad": func(t *textCall, s string) (string, bool) {
		missing := t.length - utf8.RuneCountInString(s)
		if missing <= 0 {
			return s, missing == 0
		}
		return strings.Repeat(t.characters, missing) + s, true
	},
}

func newTextCall(t token, args []node) (node, error) {
	of := retype(args[0], column.Type{Kind: column.Text})
	if !isKind(of, column.Text) {
		return nil, errorAt(t.at, "%s wants text, not %s", t.text, of.typ())
	}
	return &textCall{base: newBase(of.typ()), of: of, name: strings.ToLower(t.text)}, nil
}

// newTrimmed makes a function of text and of characters that are written out.
func newTrimmed(t token, args []node) (node, error) {
	l, ok := args[1].(*literal)
	if !ok || !isKind(l, column.Text) || l.out.Null[0] {
		return nil, errorAt(t.at, "%s wants its characters in quotes", t.text)
	}
	n, err := newTextCall(t, args)
	if err == nil {
		n.(*textCall).characters = l.out.Text[0]
	}
	return n, err
}

// longest is what lpad may make of a text.
const longest = 1000

func newPad(t token, args []node) (node, error) {
	n, ok := args[1].(*literal)
	if !ok || !isKind(n, column.Integer) || n.out.Null[0] || n.out.Int[0] < 1 || n.out.Int[0] > longest {
		return nil, errorAt(t.at, "lpad wants its length as a plain number, 1 to %d", longest)
	}
	with, ok := args[2].(*literal)
	if !ok || !isKind(with, column.Text) || utf8.RuneCountInString(with.out.Text[0]) != 1 {
		return nil, errorAt(t.at, "lpad wants one character in quotes to put before the text")
	}
	call, err := newTextCall(t, args)
	if err == nil {
		c := call.(*textCall)
		c.length, c.characters = int(n.out.Int[0]), with.out.Text[0]
	}
	return call, err
}

func (t *textCall) eval(b *column.Batch) *Result {
	x, call := t.of.eval(b), textCalls[t.name]
	out := t.begin(b.N)
	for i := range b.N {
		if !carry(out, i, x) {
			text, ok := call(t, x.Text[i])
			if out.Text[i] = text; !ok {
				out.fail(i, tooLong)
			}
		}
	}
	return out
}

type concat struct {
	base
	left, right node
}

func newConcat(op token, left, right node) (node, error) {
	text := column.Type{Kind: column.Text}
	left, right = retype(left, text), retype(right, text)
	if !isKind(left, column.Text) || !isKind(right, column.Text) {
		return nil, errorAt(
			op.at,
			"|| wants text on both sides, not %s and %s: cast(... as text)",
			left.typ(),
			right.typ(),
		)
	}
	return &concat{newBase(text), left, right}, nil
}

func (c *concat) eval(b *column.Batch) *Result {
	l, r := c.left.eval(b), c.right.eval(b)
	out := c.begin(b.N)
	for i := range b.N {
		if !carry(out, i, l, r) {
			out.Text[i] = l.Text[i] + r.Text[i]
		}
	}
	return out
}

// coalesce takes the first value that is not null; a fault behind it does not count.
type coalesce struct {
	base
	args []node
}

func newCoalesce(t token, args []node) (node, error) {
	args, common, err := unify(t.at, "coalesce", args)
	if err != nil {
		return nil, err
	}
	return &coalesce{newBase(common), args}, nil
}

// unify returns values the one type that all of them fit.
func unify(at int, what string, args []node) ([]node, column.Type, error) {
	common := column.Type{}
	whole, scale := 0, 0
	for _, a := range args {
		t := a.typ()
		switch {
		case t.Kind == column.Null:
		case common.Kind == column.Null:
			common = t
		case common.Numeric() && t.Numeric():
			if common.Kind == column.Double || t.Kind == column.Double {
				common = column.Type{Kind: column.Double}
			} else if common.Kind == column.Decimal || t.Kind == column.Decimal {
				common.Kind = column.Decimal
			}
		case common.Kind != t.Kind:
			return nil, common, errorAt(at, "%s wants values of one type, not %s and %s", what, common, t)
		}
		if t.Exact() {
			w, s := digits(a)
			whole, scale = max(whole, w), max(scale, s)
		}
	}
	if common.Kind == column.Decimal {
		if whole+scale > exact.MaxDigits {
			return nil, common, errorAt(
				at,
				"%s may need %d digits, and a decimal has at most %d",
				what,
				whole+scale,
				exact.MaxDigits,
			)
		}
		common.Precision, common.Scale = uint8(whole+scale), uint8(scale)
	}
	if common.Kind == column.Null {
		return nil, common, errorAt(at, "%s wants at least one value that has a type", what)
	}
	unified := make([]node, len(args))
	for k, a := range args {
		if unified[k] = retype(a, common); unified[k].typ() != common {
			unified[k], _ = newCast(at, unified[k], common)
		}
	}
	return unified, common, nil
}

func (c *coalesce) eval(b *column.Batch) *Result {
	results := evalAll(c.args, b)
	out := c.begin(0)
	out.Resize(b.N)
	for i := range b.N {
		out.SetNull(i)
		for _, r := range results {
			if r.fault != nil && r.fault[i] != none {
				out.fail(i, r.fault[i])
				break
			}
			if !r.Null[i] {
				out.take(i, r)
				break
			}
		}
	}
	return out
}

// round brings an exact number to fewer places, half away from zero.
type round struct {
	base
	of     node
	places int
}

func newRound(t token, args []node) (node, error) {
	places := 0
	if len(args) == 2 {
		l, ok := args[1].(*literal)
		if !ok || !isKind(l, column.Integer) || l.out.Null[0] || l.out.Int[0] < 0 || l.out.Int[0] > exact.MaxDigits {
			return nil, errorAt(t.at, "round wants its places as a plain number, 0 to %d", exact.MaxDigits)
		}
		places = int(l.out.Int[0])
	}
	of := retype(args[0], column.Type{Kind: column.Decimal, Precision: 1})
	switch {
	case isKind(of, column.Double):
		return nil, errorAt(t.at, "round wants an exact number: cast the double to a decimal, which rounds it")
	case !of.typ().Numeric():
		return nil, errorAt(t.at, "round wants a number, not %s", of.typ())
	}
	whole, scale := digits(of)
	if isKind(of, column.Integer) || places >= scale {
		return of, nil
	}
	typ := column.Type{
		Kind:      column.Decimal,
		Precision: uint8(min(whole+1+places, exact.MaxDigits)),
		Scale:     uint8(places),
	}
	return &round{newBase(typ), of, places}, nil
}

func (r *round) eval(b *column.Batch) *Result {
	x := r.of.eval(b)
	out := r.begin(b.N)
	by := exact.Pow10(int(x.Type.Scale) - r.places)
	for i := range b.N {
		if carry(out, i, x) {
			continue
		}
		if z, ok := x.Exact(i).Quo(by); !ok || !setExact(out, i, z) {
			out.fail(i, overflow)
		}
	}
	return out
}
