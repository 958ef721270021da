package render

import (
	"strings"
	"testing"
	"time"
	"unicode/utf8"
)

func TestTable(t *testing.T) {
	table := func() *Table {
		x := &Table{Columns: columns("name~", "rows>", "spare?", "why~")}
		x.Add("lock", Number(1234567), "", "a reason that is long enough to be cut somewhere")
		x.Add("漢字", Number(0), Number(0), "es\x1bcaped")
		return x
	}
	var wide strings.Builder
	table().Write(&wide, 0)
	want := `name        rows   why
──────────────────────────────────────────────────────────────────────
lock   1 234 567   a reason that is long enough to be cut somewhere
漢字           –   es\x1bcaped
`
	if wide.String() != want {
		t.Errorf("%s\nwant\n%s", wide.String(), want)
	}
	small := table()
	if left := small.Fit(20); strings.Join(left, " ") != "spare why" || len(small.Columns) != 2 ||
		len(small.Rows[0]) != 2 {
		t.Errorf("left out: %v of %v", left, small.Columns)
	}
	var narrow strings.Builder
	table().Write(&narrow, 50)
	for _, line := range strings.Split(narrow.String(), "\n") {
		if n := utf8.RuneCountInString(line); n > 50 {
			t.Errorf("%d characters: %s", n, line)
		}
	}
	if !strings.Contains(narrow.String(), "…") || strings.Contains(narrow.String(), "spare") {
		t.Error(narrow.String())
	}
}

func TestWords(t *testing.T) {
	for got, want := range map[string]string{
		Number(0): "–", Number(999): "999", Number(-1234567): "-1 234 567", Decimal("-1234.50"): "-1 234.50", Decimal("0.00"): "0.00",
		Duration(15 * time.Millisecond): "15 ms", Duration(1540 * time.Millisecond): "1.5 s", Duration(125 * time.Second): "2 min 5 s", Duration(2*time.Hour + 3*time.Minute): "2 h 3 min",
		Size(999): "999 bytes", Size(1_000_000): "1.0 MB", Size(1_234_567_890): "1.2 GB", Plural(1, "row"): "1 row", Plural(0, "row"): "0 rows", Plural(1200, "day"): "1 200 days",
		strings.Join(broken("one; two; three", 40), "|"):                                   "one; two; three",
		strings.Join(broken("a rule of some length; another; and one more rule", 30), "|"): "a rule of some length; another|and one more rule",
	} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}
