package expr

import (
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/exact"
)

// call applies a function to the values of each row that are all there; where one is null, so is the result.
type call struct {
	base
	name string
	unit string // of date_trunc
	args []node
	of   func(x []*Result, i int, out *Result) Fault
}

func (c *call) eval(b *column.Batch) *Result {
	x := evalAll(c.args, b)
	out := c.begin(b.N)
	for i := range b.N {
		if carry(out, i, x...) {
			continue
		}
		if f := c.of(x, i, out); f != none {
			out.fail(i, f)
		}
	}
	return out
}

var (
	textType    = column.Type{Kind: column.Text}
	integerType = column.Type{Kind: column.Integer}
)

// newCall makes a call of a function whose arguments have some types.
func newCall(t token, args []node, to column.Type, of func(x []*Result, i int, out *Result) Fault, types ...column.Type) (node, error) {
	args = slices.Clone(args)
	for k, a := range args {
		want := types[min(k, len(types)-1)]
		if args[k] = retype(a, want); args[k].typ().Kind != want.Kind {
			return nil, errorAt(t.at, "%s wants %s, not %s", strings.ToLower(t.text), typeNames(types), a.typ())
		}
	}
	return &call{base: newBase(to), name: strings.ToLower(t.text), args: args, of: of}, nil
}

func typeNames(types []column.Type) string {
	var names []string
	for _, t := range types {
		names = append(names, t.String())
	}
	return strings.Join(names, ", ")
}

// texts makes a function that returns a text.
func texts(of func(x []*Result, i int) (string, bool), types ...column.Type) func(t token, args []node) (node, error) {
	return func(t token, args []node) (node, error) {
		return newCall(t, args, textType, func(x []*Result, i int, out *Result) Fault {
			var ok bool
			if out.Text[i], ok = of(x, i); !ok {
				return unfit
			}
			return none
		}, types...)
	}
}

// splitPart returns the n-th part of a text between delimiters, from its end if n is negative; none for 0. As
// PostgreSQL has it, a text has one part if the delimiter is empty.
func splitPart(x []*Result, i int) (string, bool) {
	n := x[2].Int[i]
	if n == 0 {
		return "", false
	}
	parts := []string{x[0].Text[i]}
	if x[1].Text[i] != "" {
		parts = strings.Split(x[0].Text[i], x[1].Text[i])
	}
	if n < 0 {
		n += int64(len(parts)) + 1
	}
	if n < 1 || n > int64(len(parts)) {
		return "", true
	}
	return parts[n-1], true
}

func replaceText(x []*Result, i int) (string, bool) {
	if x[1].Text[i] == "" {
		return x[0].Text[i], true
	}
	return strings.ReplaceAll(x[0].Text[i], x[1].Text[i], x[2].Text[i]), true
}

// cut returns n characters of a text from its left or its right; with a negative n, all but so many of the other end.
func cut(s string, n int64, left bool) string {
	length := int64(utf8.RuneCountInString(s))
	if n < 0 {
		n = max(0, length+n)
	}
	n = min(n, length)
	if !left {
		n = length - n
	}
	at := len(s)
	for k := range s {
		if n == 0 {
			at = k
			break
		}
		n--
	}
	if left {
		return s[:at]
	}
	return s[at:]
}

// initcap makes the first letter of each word upper case, and the others lower; words are of letters and digits.
func initcap(s string) string {
	inside := false
	return strings.Map(func(c rune) rune {
		was := inside
		if inside = unicode.IsLetter(c) || unicode.IsDigit(c); was {
			return unicode.ToLower(c)
		}
		return unicode.ToUpper(c)
	}, s)
}

// newPosition makes strpos: where a text is first found in another, in characters from 1; 0 if it is not.
func newPosition(t token, args []node) (node, error) {
	return newCall(t, args, integerType, func(x []*Result, i int, out *Result) Fault {
		at := strings.Index(x[0].Text[i], x[1].Text[i])
		if out.Int[i] = 0; at >= 0 {
			out.Int[i] = int64(utf8.RuneCountInString(x[0].Text[i][:at])) + 1
		}
		return none
	}, textType)
}

// concatCall joins texts; what is null counts as empty.
type concatCall struct {
	base
	args []node
}

func newConcatCall(t token, args []node) (node, error) {
	c := &concatCall{base: newBase(textType)}
	for _, a := range args {
		a = retype(a, textType)
		if !isKind(a, column.Text) {
			var err error
			if a, err = newCast(t.at, a, textType); err != nil {
				return nil, err
			}
		}
		c.args = append(c.args, a)
	}
	return c, nil
}

func (c *concatCall) eval(b *column.Batch) *Result {
	x := evalAll(c.args, b)
	out := c.begin(b.N)
	var text strings.Builder
	for i := range b.N {
		text.Reset()
		out.Null[i] = false
		for _, r := range x {
			if r.fault != nil && r.fault[i] != none {
				out.fail(i, r.fault[i])
				break
			}
			if !r.Null[i] {
				text.WriteString(r.Text[i])
			}
		}
		if !out.Null[i] {
			out.Text[i] = text.String()
		}
	}
	return out
}

// pattern reads a regular expression that is written out, with its flags.
func pattern(t token, args []node, flagsAt int) (re *regexp.Regexp, global bool, err error) {
	word := func(n node) (string, bool) {
		l, ok := n.(*literal)
		if !ok || !isKind(l, column.Text) || l.out.Null[0] {
			return "", false
		}
		return l.out.Text[0], true
	}
	form, ok := word(args[1])
	flags := ""
	if ok && flagsAt < len(args) {
		flags, ok = word(args[flagsAt])
	}
	if !ok || strings.Trim(flags, "gi") != "" {
		return nil, false, errorAt(t.at, "%s wants its pattern, and flags of g and i, in quotes", strings.ToLower(t.text))
	}
	if strings.Contains(flags, "i") {
		form = "(?i)" + form
	}
	if re, err = regexp.Compile(form); err != nil {
		return nil, false, errorAt(t.at, "%s: %v", strings.ToLower(t.text), err)
	}
	return re, strings.Contains(flags, "g"), nil
}

func newRegexpSubstr(t token, args []node) (node, error) {
	re, _, err := pattern(t, args, len(args))
	if err != nil {
		return nil, err
	}
	return newCall(t, args, textType, func(x []*Result, i int, out *Result) Fault {
		at := re.FindStringIndex(x[0].Text[i])
		if at == nil {
			out.SetNull(i)
			return none
		}
		out.Text[i] = x[0].Text[i][at[0]:at[1]]
		return none
	}, textType)
}

var backReference = regexp.MustCompile(`\\(\d|&|\\)|\$`)

func newRegexpReplace(t token, args []node) (node, error) {
	re, global, err := pattern(t, args, 3)
	if err != nil {
		return nil, err
	}
	with, ok := args[2].(*literal)
	if !ok || !isKind(with, column.Text) || with.out.Null[0] {
		return nil, errorAt(t.at, "regexp_replace wants the text to put in its place in quotes")
	}
	template := backReference.ReplaceAllStringFunc(with.out.Text[0], func(s string) string {
		switch {
		case s == "$":
			return "$$"
		case s == `\&`:
			return "${0}"
		case s == `\\`:
			return `\`
		}
		return "${" + s[1:] + "}"
	})
	return newCall(t, args, textType, func(x []*Result, i int, out *Result) Fault {
		s := x[0].Text[i]
		if global {
			out.Text[i] = re.ReplaceAllString(s, template)
			return none
		}
		at := re.FindStringSubmatchIndex(s)
		if out.Text[i] = s; at != nil {
			out.Text[i] = s[:at[0]] + string(re.ExpandString(nil, template, s, at)) + s[at[1]:]
		}
		return none
	}, textType)
}

// newWhole makes floor, ceil and trunc: an exact number without its places.
func newWhole(t token, args []node) (node, error) {
	name := strings.ToLower(t.text)
	of := retype(args[0], column.Type{Kind: column.Decimal, Precision: 1})
	if !of.typ().Exact() {
		return nil, errorAt(t.at, "%s wants an exact number, not %s", name, of.typ())
	}
	whole, scale := digits(of)
	if scale == 0 {
		return of, nil
	}
	by := exact.Pow10(scale)
	to := column.Type{Kind: column.Decimal, Precision: uint8(min(whole+1, exact.MaxDigits))}
	c := &call{base: newBase(to), name: name, args: []node{of}, of: func(x []*Result, i int, out *Result) Fault {
		v := x[0].Exact(i)
		rest := v.Rem(by)
		z, _ := v.Add(rest.Neg())
		z, _ = z.Quo(by)
		switch one := exact.Wide(1); {
		case name == "floor" && rest.Sign() < 0:
			z, _ = z.Add(one.Neg())
		case name == "ceil" && rest.Sign() > 0:
			z, _ = z.Add(one)
		}
		if !setExact(out, i, z) {
			return overflow
		}
		return none
	}}
	return c, nil
}

// newDateTrunc makes date_trunc: the beginning of the year, quarter, month, week, day, hour, minute or second of a
// time.
func newDateTrunc(t token, args []node) (node, error) {
	l, ok := args[0].(*literal)
	if !ok || !isKind(l, column.Text) || l.out.Null[0] {
		return nil, errorAt(t.at, "date_trunc wants its unit in quotes")
	}
	of := retype(args[1], column.Type{Kind: column.Timestamp})
	unit := strings.ToLower(l.out.Text[0])
	micros := map[string]int64{"hour": 3600e6, "minute": 60e6, "second": 1e6}[unit]
	start, known := dayStarts[unit]
	switch {
	case !isTime(of):
		return nil, errorAt(t.at, "date_trunc wants a date or a timestamp, not %s", of.typ())
	case !known && micros == 0:
		return nil, errorAt(t.at, "date_trunc knows no %s: year, quarter, month, week, day, hour, minute, second", unit)
	}
	date := isKind(of, column.Date)
	return &call{base: newBase(of.typ()), name: "date_trunc", unit: unit, args: []node{of}, of: func(x []*Result, i int, out *Result) Fault {
		v := x[0].Int[i]
		switch {
		case date && micros > 0:
			out.Int[i] = v
		case date:
			out.Int[i] = start(v)
		case micros > 0:
			out.Int[i] = v - ((v%micros)+micros)%micros
		default:
			out.Int[i] = start(civil.DayOf(v)) * civil.DayMicros
		}
		return none
	}}, nil
}

// dayStarts are the first days of the units that a day is in.
var dayStarts = map[string]func(day int64) int64{
	"year":    func(day int64) int64 { y, _, _ := civil.Date(day); return civil.Day(y, 1, 1) },
	"quarter": func(day int64) int64 { y, m, _ := civil.Date(day); return civil.Day(y, (m-1)/3*3+1, 1) },
	"month":   func(day int64) int64 { y, m, _ := civil.Date(day); return civil.Day(y, m, 1) },
	"week":    func(day int64) int64 { return day - ((day+3)%7+7)%7 },
	"day":     func(day int64) int64 { return day },
}

// newMakeDate makes make_date(year, month, day); a day that is none is a fault.
func newMakeDate(t token, args []node) (node, error) {
	return newCall(t, args, column.Type{Kind: column.Date}, func(x []*Result, i int, out *Result) Fault {
		y, m, d := x[0].Int[i], x[1].Int[i], x[2].Int[i]
		if y < 1 || y > 9999 || m < 1 || m > 12 || d < 1 || d > int64(civil.DaysIn(int(y), int(m))) {
			return unfit
		}
		out.Int[i] = civil.Day(int(y), int(m), int(d))
		return none
	}, integerType)
}

// translated replaces characters; of two that are the same in from, the first counts.
func translated(x []*Result, i int) (string, bool) {
	from, to := []rune(x[1].Text[i]), []rune(x[2].Text[i])
	return strings.Map(func(c rune) rune {
		switch at := slices.Index(from, c); {
		case at < 0:
			return c
		case at < len(to):
			return to[at]
		}
		return -1
	}, x[0].Text[i]), true
}

// normalForms are the forms that normalize knows.
var normalForms = map[string]norm.Form{"NFC": norm.NFC, "NFD": norm.NFD, "NFKC": norm.NFKC, "NFKD": norm.NFKD}

func newNormalize(t token, args []node) (node, error) {
	form := norm.NFC
	if len(args) == 2 {
		named, ok := args[1].(*literal)
		if ok = ok && isKind(named, column.Text) && !named.out.Null[0]; ok {
			form, ok = normalForms[named.out.Text[0]]
		}
		if !ok {
			return nil, errorAt(t.at, "normalize wants its form in quotes: 'NFC', 'NFD', 'NFKC' or 'NFKD'")
		}
		args = args[:1]
	}
	return texts(func(x []*Result, i int) (string, bool) { return form.String(x[0].Text[i]), true }, textType)(t, args)
}
