package cause

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// step is one way in which two texts for the same thing differ. Steps are taken in the order in which they stand here.
type step int

const (
	blanks   step = iota // around it, or several in it
	composed             // characters that Unicode writes in several ways
	alike                // characters that look like others
	letters              // upper and lower case
	marks                // points, strokes, blanks within
	zeros                // at the beginning of numbers
	stepCount
)

// names are what people are told of a step.
var names = [stepCount]string{
	"blanks", "another form in Unicode", "a character that looks like another", "upper and lower case", "separators", "leading zeros",
}

// expressions are the steps as expressions of a text, which stands for %s.
var expressions = [stepCount]string{
	`trim(regexp_replace(%s, '[\s\p{Zs}]+', ' ', 'g'))`,
	`normalize(%s, 'NFKC')`,
	`translate(%s, '` + lookalikes + `', '` + latin + `')`,
	`upper(%s)`,
	`regexp_replace(%s, '[^\pL\pN]+', '', 'g')`,
	`regexp_replace(%s, '(^|[^0-9])0+([0-9])', '\1\2', 'g')`,
}

// The characters that look like others, and these. Of letters and digits that look alike, the digit counts.
const (
	lookalikes = `OoIl|SBZ` + `АВЕКМНОРСТУХасеорухіѕ` + `ΑΒΕΖΗΙΚΜΝΟΡΤΥΧο`
	latin      = `00111582` + `A8EKMH0PCTYXace0pyxis` + `A8E2H1KMN0PTYX0`
)

var looksLike = func() map[rune]rune {
	m := map[rune]rune{}
	as := []rune(latin)
	for k, c := range []rune(lookalikes) {
		m[c] = as[k]
	}
	return m
}()

// set is some of the steps.
type set uint8

func (s set) has(x step) bool { return s&(1<<x) != 0 }

// The steps without and with those that replace characters by others: a text of lower case could become another one by
// them.
const (
	sure = 1<<blanks | 1<<composed | 1<<letters | 1<<marks | 1<<zeros
	all  = sure | 1<<alike
)

// apply takes some steps with a text.
func (s set) apply(text string) string {
	if s.has(blanks) {
		text = strings.Join(strings.Fields(text), " ")
	}
	if s.has(composed) {
		text = norm.NFKC.String(text)
	}
	if s.has(alike) {
		text = strings.Map(func(c rune) rune {
			if as, ok := looksLike[c]; ok {
				return as
			}
			return c
		}, text)
	}
	if s.has(letters) {
		text = strings.ToUpper(text)
	}
	if s.has(marks) {
		text = strings.Map(func(c rune) rune {
			if unicode.IsLetter(c) || unicode.IsNumber(c) {
				return c
			}
			return -1
		}, text)
	}
	if s.has(zeros) {
		text = withoutZeros(text)
	}
	return text
}

// withoutZeros takes zeros off the beginning of the numbers in a text.
func withoutZeros(text string) string {
	digit := func(c byte) bool { return c >= '0' && c <= '9' }
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] == '0' && (i == 0 || !digit(text[i-1])) {
			for i+1 < len(text) && text[i] == '0' && digit(text[i+1]) {
				i++
			}
		}
		b.WriteByte(text[i])
	}
	return b.String()
}

// between returns the fewest steps that make two natural keys equal; false if all of them do not.
func between(a, b []string, most set) (set, bool) {
	equal := func(s set) bool {
		for k := range a {
			if a[k] != b[k] && s.apply(a[k]) != s.apply(b[k]) {
				return false
			}
		}
		return true
	}
	if !equal(most) {
		return 0, false
	}
	for _, x := range []step{alike, marks, composed, zeros, letters, blanks} {
		if fewer := most &^ (1 << x); equal(fewer) {
			most = fewer
		}
	}
	return most, true
}

// String names the steps.
func (s set) String() string {
	var list []string
	for x := range stepCount {
		if s.has(x) {
			list = append(list, names[x])
		}
	}
	return strings.Join(list, ", ")
}

// expression takes the steps in an expression of a column. plain does as much as is mostly needed of blanks.
func (s set) expression(column string, plain bool) string {
	e := column
	for x := range stepCount {
		switch {
		case x == blanks && s.has(x) && plain:
			e = "trim(" + e + ")"
		case s.has(x):
			e = strings.Replace(expressions[x], "%s", e, 1)
		}
	}
	return e
}
