package star

import (
	"slices"
	"strings"
	"testing"
)

// TestSplitQuery: names are what stands neither in quotes nor in comments, as each database writes these.
func TestSplitQuery(t *testing.T) {
	for _, c := range []struct{ kind, query, names string }{
		{SQLite, "select a from t where b = :b and c=:c_1", "b c_1"},
		{SQLite, "select ':no', \":no\", `:no`, 'it''s :no' from t -- :no\nwhere x = :x /* :no */", "x"},
		{SQLite, "select '10:30', 12:30, a:: text from t", ""},
		{SQLite, ":a:b", "a b"},
		{SQLite, "select 1 -- :no", ""},
		{SQLite, "select 'never closed :no", ""},
		{SQLite, "select $tag$ :yes $tag$", "yes"},
		{Postgres, "select a::text, $tag$ :no $tag$, $1, $$:no$$ from t where x = :x::int", "x"},
		{Postgres, `select E'\' :no' || :x || typE'\' || :y`, "x y"},
		{MySQL, `select 'it\'s :no', "\":no" from t where x = :x # :no`, "x"},
		{MySQL, "select `a``b:no` from t where :é > 1", "é"},
		{SQLite, "", ""},
		{SQLite, ":", ""},
		{SQLite, "x = :", ""},
	} {
		texts, names := SplitQuery(c.query, c.kind)
		if got := strings.Join(names, " "); got != c.names || len(texts) != len(names)+1 {
			t.Errorf("%s: %q has %q", c.kind, c.query, got)
		}
	}
}

// FuzzSplitQuery: what a query is cut into makes the query again.
func FuzzSplitQuery(f *testing.F) {
	for _, s := range []string{"select :a, ':b' -- :c", "$x$ :a $x$::b", `'\':a'`, "/* :a", "\":a", ":a:", "`"} {
		f.Add(s, uint8(0))
		f.Add(s, uint8(1))
		f.Add(s, uint8(2))
	}
	f.Fuzz(func(t *testing.T, query string, kind uint8) {
		texts, names := SplitQuery(query, []string{SQLite, Postgres, MySQL}[kind%3])
		if len(texts) != len(names)+1 {
			t.Fatalf("%q: %q, %q", query, texts, names)
		}
		again := texts[0]
		for i, name := range names {
			again += ":" + name + texts[i+1]
		}
		if again != query || slices.Contains(names, "") {
			t.Fatalf("%q is made into %q", query, again)
		}
	})
}

// TestPlaceholders: a value is part of one element of a path, and leads nowhere else.
func TestPlaceholders(t *testing.T) {
	for text, want := range map[string]string{"{a}/x-{b}.csv": "1/x-2.csv", "x": "x", "{a}{a}": "11", "}": "}", "": ""} {
		if got, closed := Placeholders(text, func(name string) string { return map[string]string{"a": "1", "b": "2"}[name] }); got != want ||
			!closed {
			t.Errorf("%s: %s", text, got)
		}
	}
	if _, closed := Placeholders("x{a", strings.ToUpper); closed {
		t.Error("a brace that is never closed")
	}
	for _, value := range []string{"", ".", "..", "../x", "a/b", `a\b`, "/etc", "a*", "a?", "[a]", "{a}", "c:", "a\x00", ".hidden", "a..b"} {
		if FitsPath(value) {
			t.Errorf("%q is taken", value)
		}
	}
	for _, value := range []string{"a", "Nord-2025.01", "Zoë", "a b", "-"} {
		if !FitsPath(value) {
			t.Errorf("%q is not taken", value)
		}
	}
}
