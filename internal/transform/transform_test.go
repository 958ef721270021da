package transform

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/parse"
	"ironmonger/internal/star"
)

const model = `warehouse: {sqlite: s.db}
sources:
  s:
    read: s.csv
    columns:
      a: integer
      b: integer
      unused: text
      c: text
    derive:
      half: a / b
      twice: half * 2
      other: c || '!'
    require:
      some a: a > 0
    set_aside:
      a bad word: c = 'bad'
      too much: twice > 10
dimensions:
  d: {from: s, natural_key: a}
`

func sample(t *testing.T) *star.Source {
	t.Helper()
	m, err := star.Parse("m.yaml", []byte(model), star.Outside{})
	if err != nil {
		t.Fatal(err)
	}
	return m.Sources[0]
}

// TestWanted: what is asked for, what that is made of, and what the conditions read; nothing else.
func TestWanted(t *testing.T) {
	s := sample(t)
	for asked, want := range map[string]string{
		"":       "a b c half twice",
		"other":  "a b c half twice other",
		"unused": "a b unused c half twice",
	} {
		need := needed(s, func(c string) bool { return slices.Contains(strings.Fields(asked), c) })
		var got []string
		var taken []column.Field
		for _, f := range s.Fields() {
			if need[f.Name] {
				got = append(got, f.Name)
			}
		}
		for _, f := range s.Taken() {
			if need[f.Name] {
				taken = append(taken, f)
			}
		}
		if strings.Join(got, " ") != want {
			t.Errorf("for %q: %v, want %s", asked, got, want)
		}
		sh, err := newShaper(&star.Model{}, s, taken, need)
		if err != nil || !slices.Equal(column.Names(sh.fields), got) {
			t.Errorf("for %q: %v, %v", asked, sh.fields, err)
		}
	}
}

// TestApply: derived columns in order; a row fails all its conditions at once; a row with a value that cannot be
// had, or that was set aside before, is judged by none.
func TestApply(t *testing.T) {
	s := sample(t)
	sh, err := newShaper(&star.Model{}, s, s.Taken(), needed(s, func(string) bool { return true }))
	if err != nil {
		t.Fatal(err)
	}
	b := column.NewBatch(sh.fields)
	rows := []struct{ a, b, c, want string }{
		{"6", "4", "x", "1.500000 3.000000 x!"},
		{"", "4", "x", "some a"},
		{"0", "4", "bad", "a bad word; some a"},
		{"7", "0", "bad", "half: division by zero"},
		{"70", "1", "bad", "a bad word; too much"},
		{"-1", "1", "bad", "unreadable"},
		{"5", "1", "", "5.000000 10.000000 "},
	}
	b.Reset(len(rows))
	reader := parse.NewReader(nil)
	for i, row := range rows {
		for k, v := range []string{row.a, row.b, "", row.c} {
			if v == "" {
				b.Cols[k].SetNull(i)
			} else if err := reader.Set(&b.Cols[k], i, v); err != nil {
				t.Fatal(err)
			}
		}
	}
	b.SetAside(5, "", "unreadable", "")
	sh.apply(b)
	for i, row := range rows {
		var faults []string
		for _, f := range b.Faults {
			if int(f.Row) == i {
				faults = append(faults, f.Reason)
			}
		}
		got := strings.Join(faults, "; ")
		if faults == nil {
			got = fmt.Sprintf("%s %s %s", b.Cols[4].Value(i), b.Cols[5].Value(i), b.Cols[6].Value(i))
		}
		if got != row.want || b.Bad(i) != (faults != nil) {
			t.Errorf("row %d: %q, want %q", i, got, row.want)
		}
	}
}
