package erase

import (
	"encoding/json"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// TestBlankText blanks random values in random texts: no value is left as a whole word, what is not a value stays as it
// was and where it was, and a second time changes nothing.
func TestBlankText(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	words := []string{"Ann", "Annabel", "Anna", "bel", "Ann Lee", "O'Neil", "12", "123", "café", "fé", "\"quoted\"", "a\\b"}
	between := []string{" ", ", ", ";", "'", "(", ")", "x", "9", "é", "", "\n", "=", "\"", ": "}
	for range 1500 {
		values := map[string]bool{}
		for range 1 + r.IntN(3) {
			if w := words[r.IntN(len(words))]; len(w) >= shortest {
				values[w] = true
			}
		}
		var text strings.Builder
		for range 1 + r.IntN(8) {
			text.WriteString(between[r.IntN(len(between))] + words[r.IntN(len(words))] + between[r.IntN(len(between))])
		}
		w := newWords(values)
		was := text.String()
		blanked := w.blankText(was)
		for v := range values {
			if wholeWord(blanked, v) {
				t.Fatalf("%q still has %q: it was %q", blanked, v, was)
			}
		}
		left := was
		for _, piece := range strings.Split(blanked, Blank) {
			at := strings.Index(left, piece)
			if at < 0 {
				t.Fatalf("%q is not what was left of %q, of which %q was blanked", blanked, was, w)
			}
			left = left[at+len(piece):]
		}
		if again := w.blankText(blanked); again != blanked {
			t.Fatalf("%q, blanked again, is %q", blanked, again)
		}
		anyWhole := slices.ContainsFunc(w, func(v string) bool { return wholeWord(was, v) })
		if !anyWhole && blanked != was {
			t.Fatalf("%q has none of %q, and became %q", was, w, blanked)
		}
	}
}

// wholeWord says so by an expression, of letters and digits around.
func wholeWord(text, word string) bool {
	at := regexp.MustCompile(`(^|[^\pL\pN])` + regexp.QuoteMeta(word) + `($|[^\pL\pN])`)
	return at.MatchString(text)
}

// TestBlankFields: only whole fields of a row are blanked, of CSV and of JSON, and a document of JSON stays one.
func TestBlankFields(t *testing.T) {
	w := newWords(map[string]bool{"Annabel": true, "bel": true, "7, Lock \"Row\"": true, "2024-17-01": true})
	for content, want := range map[string]string{
		"1,Annabel,bel\n":                        "1," + Blank + "," + Blank + "\n",
		"1,Annabella,bell":                       "1,Annabella,bell",
		"1, Annabel ,x":                          "1, " + Blank + " ,x",
		`"Annabel";2024-17-01`:                   `"` + Blank + `";` + Blank,
		`1,"7, Lock ""Row""",x`:                  `1,"` + Blank + `",x`,
		`{"name": "Annabel", "of": "Annabel B"}`: `{"name": "` + Blank + `", "of": "Annabel B"}`,
	} {
		if got := w.blankFields(content); got != want {
			t.Errorf("%q became %q, want %q", content, got, want)
		}
	}
	doc := `{"message":"row of Annabel, and Annabella","rows":[1,"7, Lock \"Row\""],"n":12345678901234567890}`
	got := w.blankJSON(doc)
	var x map[string]any
	if err := json.Unmarshal([]byte(got), &x); err != nil || !strings.Contains(got, "12345678901234567890") ||
		x["message"] != "row of "+Blank+", and Annabella" || x["rows"].([]any)[1] != Blank {
		t.Errorf("%s: %v", got, err)
	}
	if same := w.blankJSON(`{"b": 1, "a": "none"}`); same != `{"b": 1, "a": "none"}` {
		t.Errorf("a document without values became %s", same)
	}
}
