package source

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/star"
)

// TestHeader holds files with lines above their header, which need not be CSV, against the same files without them: but
// for their lines, the rows are the same, in pieces of every size.
func TestHeader(t *testing.T) {
	r := rand.New(rand.NewPCG(17, 3))
	lines := []string{"", "Report of \"May", "a;c;total", "x,y,z", "b,a,c", "ä \xff", strings.Repeat("long ", 20_000)}
	for n := range 300 {
		table := "a,b,c\n"
		for range r.IntN(4) {
			table += fmt.Sprintf("%d,\"two\nlines\",%d\n", r.IntN(9), r.IntN(9))
		}
		above := 1 + r.IntN(4)
		text := ""
		for range above {
			text += lines[r.IntN(len(lines))] + []string{"\n", "\r\n"}[r.IntN(2)]
		}
		if r.IntN(3) == 0 {
			text = "\ufeff" + text
		}
		plain, full := t.TempDir(), t.TempDir()
		for dir, content := range map[string]string{plain: table, full: text + table} {
			if err := os.WriteFile(filepath.Join(dir, "x.csv"), []byte(content), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		form := star.PlainCSV
		if form.Header.Line = above + 1; n%2 == 0 {
			form.Header = star.Header{Begins: []string{"a", "b"}}
		}
		want := readAll(t, plain, star.PlainCSV, 1<<20)
		got := readAll(t, full, form, 1+r.IntN(200))
		for k, row := range got {
			_, rest, _ := strings.Cut(row, ":")
			line, value, _ := strings.Cut(rest, "|")
			var at int
			fmt.Sscan(line, &at)
			got[k] = fmt.Sprintf("x.csv:%d|%s", at-above, value)
		}
		if !slices.Equal(got, want) {
			t.Fatalf("%q: read %q, want %q", text+table, got, want)
		}
	}
}

func readAll(t *testing.T, dir string, form star.CSV, piece int) []string {
	f, err := openForm(t, dir, piece, form)
	if err != nil {
		t.Fatal(err)
	}
	list, err := rows(t, f)
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// TestNoHeader says what is wrong where the header is not found.
func TestNoHeader(t *testing.T) {
	for text, wants := range map[string][2]string{
		"":                       {"the header should be on line 3, and the file has 0 lines", "no line begins with the columns a, b"},
		"a\nb":                   {"the header should be on line 3, and the file has 2 lines", "no line begins with the columns a, b"},
		"x\ny\nd,e\n":            {"x.csv:3: source test: the header has no column a", "no line begins with the columns a, b"},
		"x\ny\na,b\n":            {"x.csv:3: source test: the header has no column c", "x.csv:3: source test: the header has no column c"},
		strings.Repeat("z", 2e6): {"a line above the header is longer than 1 MiB", "a line above the header is longer than 1 MiB"},
	} {
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, "x.csv"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		for k, h := range []star.Header{{Line: 3}, {Begins: []string{"a", "b"}}} {
			form := star.PlainCSV
			form.Header = h
			if _, err := openForm(t, dir, 64, form); err == nil || !strings.Contains(err.Error(), wants[k]) {
				t.Errorf("%.20q, %+v: %v", text, h, err)
			}
		}
	}
}
