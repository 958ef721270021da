package diag

import (
	"fmt"
	"testing"
)

func TestError(t *testing.T) {
	for _, c := range []struct {
		err  Error
		want string
	}{
		{Error{At: Place{"m.yaml", 3, 5}, Subject: "facts.trip", Message: "wrong", Text: "\tä: wrong"}, "m.yaml:3:5: facts.trip: wrong\n    3 | \tä: wrong\n      | \t   ^"},
		{Error{At: Place{"m.yaml", 12, 0}, Message: "wrong", Text: "line"}, "m.yaml:12: wrong\n   12 | line"},
		{Error{At: Place{File: "x.csv"}, Message: "gone"}, "x.csv: gone"},
		{Error{Message: "all wrong"}, "all wrong"},
		{Error{At: Place{"m", 1, 99}, Message: "behind the end", Text: "ab\x1b[2J"}, "m:1:99: behind the end\n    1 | ab\\x1b[2J\n      |          ^"},
	} {
		if got := c.err.Error(); got != c.want {
			t.Errorf("%q\nwant\n%q", got, c.want)
		}
	}
	var none List
	if none.Err() != nil {
		t.Error("an empty list is no error")
	}
	at := func(file string, line, col int) *Error { return &Error{At: Place{file, line, col}, Message: "m"} }
	list := List{at("b", 1, 1), at("a", 2, 1), at("a", 1, 9), at("a", 1, 2), at("a", 2, 1)}
	if got := fmt.Sprint(list.Err()); got != "a:1:2: m\na:1:9: m\na:2:1: m\nb:1:1: m" {
		t.Error(got)
	}
}

func TestNearest(t *testing.T) {
	names := []string{"vessel_reg", "registry", "lock_code", "cargo", "no"}
	for word, want := range map[string]string{
		"vessel_rg": "vessel_reg", "vesselreg": "vessel_reg", "regisrty": "registry", "LOCK_CODE": "lock_code", "crago": "cargo", "nr": "no", "x": "", "keeper": "", "": "",
	} {
		if got := Nearest(word, names); got != want {
			t.Errorf("Nearest(%q) = %q, want %q", word, got, want)
		}
	}
	if got := Suggest("keeper", names); got != " (there is: vessel_reg, registry, lock_code, cargo, no)" {
		t.Error(got)
	}
}

func TestEscapes(t *testing.T) {
	for in, want := range map[string][2]string{
		"plain ünï":        {"plain ünï", "plain ünï"},
		"a\nb\r":           {`a\x0ab\x0d`, "a\nb\r"},
		"\x1b[31m\x00\x7f": {`\x1b[31m\x00\x7f`, `\x1b[31m\x00\x7f`},
		"ok\xff\xc3":       {`ok\xff\xc3`, `ok\xff\xc3`},
		"c1 \u0085":        {`c1 \xc2\x85`, `c1 \xc2\x85`},
	} {
		if got := [2]string{Printable(in), Storable(in)}; got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
	if got := Clip("äöü", 2); got != "ä…" {
		t.Error(got)
	}
}
