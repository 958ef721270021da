package erase

import (
	"cmp"
	"encoding/json"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"ironmonger/internal/diag"
)

// shortest is how many characters a value has at least that is looked for in texts: shorter ones are in everything.
const shortest = 3

// words are the values to be forgotten in all the forms in which the ledger may have them, the longest first, so that
// none is taken for a part of another.
type words []string

// shown is how much of a value is kept in reasons and figures, in characters.
const shown = 60

func newWords(values map[string]bool) words {
	forms := map[string]bool{}
	for v := range values {
		quoted, _ := json.Marshal(v) // a string always can
		for _, form := range []string{v, diag.Storable(v), strings.ReplaceAll(v, `"`, `""`), strings.Trim(string(quoted), `"`), diag.Clip(diag.Printable(v), shown)} {
			forms[form] = true
		}
	}
	var w words
	for form := range forms {
		w = append(w, form)
	}
	slices.SortFunc(w, func(a, b string) int { return cmp.Or(cmp.Compare(len(b), len(a)), cmp.Compare(a, b)) })
	return w
}

// blankFields blanks values that are whole fields of a row: of separated values or of a JSON object, quoted or not.
func (w words) blankFields(content string) string {
	return w.blank(content, func(before, after string) bool {
		before = strings.TrimRight(before, " ")
		after = strings.TrimLeft(after, " ")
		return (before == "" || strings.ContainsRune(",;|\t\n\"':[", rune(before[len(before)-1]))) &&
			(after == "" || strings.ContainsRune(",;|\t\r\n\"'}]", rune(after[0])))
	})
}

// blankText blanks values that stand in a text as whole words.
func (w words) blankText(text string) string {
	return w.blank(text, func(before, after string) bool {
		last, _ := utf8.DecodeLastRuneInString(before)
		next, _ := utf8.DecodeRuneInString(after)
		inWord := func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
		return !inWord(last) && !inWord(next)
	})
}

// blankJSON blanks values in the texts of a JSON document.
func (w words) blankJSON(text string) string {
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	var doc any
	if d.Decode(&doc) != nil {
		return w.blankText(text)
	}
	changed := false
	var walk func(x any) any
	walk = func(x any) any {
		switch x := x.(type) {
		case string:
			s := w.blankText(x)
			changed = changed || s != x
			return s
		case []any:
			for i := range x {
				x[i] = walk(x[i])
			}
		case map[string]any:
			for k := range x {
				x[k] = walk(x[k])
			}
		}
		return x
	}
	doc = walk(doc)
	out, err := json.Marshal(doc)
	if err != nil || !changed {
		return text
	}
	return string(out)
}

// blank replaces the values between which stands what whole allows.
func (w words) blank(s string, whole func(before, after string) bool) string {
	for _, word := range w {
		if word == "" {
			continue
		}
		from := 0
		for {
			at := strings.Index(s[from:], word)
			if at < 0 {
				break
			}
			if at += from; whole(s[:at], s[at+len(word):]) {
				s = s[:at] + Blank + s[at+len(word):]
				from = at + len(Blank)
			} else {
				from = at + 1
			}
		}
	}
	return s
}
