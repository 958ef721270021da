package survey

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/text/encoding/charmap"
)

// kind is a kind of values as a test makes them up: what a survey is to find, and how they are written.
type kind struct {
	typ, layout, marks string
	write              func(r *rand.Rand) string
}

func kinds(separator byte) []kind {
	day := func(r *rand.Rand) time.Time {
		return time.Date(1990, 1, 1+r.IntN(12000), r.IntN(24), r.IntN(60), r.IntN(60), 0, time.UTC)
	}
	date := func(layout, gos string) kind {
		return kind{typ: "date", layout: layout, write: func(r *rand.Rand) string { return day(r).Format(gos) }}
	}
	list := []kind{
		{typ: "integer", write: func(r *rand.Rand) string { return fmt.Sprint(r.IntN(1e6) - 5000) }},
		{typ: "text", write: func(r *rand.Rand) string { return fmt.Sprintf("%05d", r.IntN(9999)) }}, // leading zeros
		{typ: "decimal(8,2)", write: func(r *rand.Rand) string { return fmt.Sprintf("%d.%02d", 1000+r.IntN(9000), r.IntN(100)) + "" }},
		{typ: "boolean", write: func(r *rand.Rand) string { return []string{"yes", "no"}[r.IntN(2)] }},
		{typ: "text", write: func(r *rand.Rand) string { return []string{"Grey Heron", "žluté", "O'Hara", "5 x 5"}[r.IntN(4)] }},
		date("", "2006-01-02"), date("d.M.yyyy", "02.01.2006"), date("d/M/yyyy", "2/1/2006"), date("yyyyMMdd", "20060102"),
		{typ: "date", layout: "d. MMM yyyy", write: func(r *rand.Rand) string {
			d := day(r)
			return fmt.Sprintf("%d. %s %d", d.Day(), []string{"ledna", "února", "března", "dubna", "května", "června", "července", "srpna", "září", "října", "listopadu", "prosince"}[d.Month()-1], d.Year())
		}},
		date("d MMM yyyy", "2 Jan 2006"), date("d-MMM-yy", "02-Jan-06"), date("M/d/yyyy", "01/02/2006"),
		{typ: "timestamp", write: func(r *rand.Rand) string { return day(r).Format("2006-01-02 15:04:05") }},
		{typ: "timestamp", layout: "d.M.yyyy H:mm", write: func(r *rand.Rand) string { return day(r).Format("2.1.2006 15:04") }},
		{typ: "timestamp", layout: "M/d/yyyy h:mm a", write: func(r *rand.Rand) string { return day(r).Format("1/2/2006 3:04 PM") }},
		{typ: "time", write: func(r *rand.Rand) string { return day(r).Format("15:04:05") }},
	}
	if separator != ',' {
		list = append(list,
			kind{typ: "decimal(8,2)", marks: ",", write: func(r *rand.Rand) string { return fmt.Sprintf("%d,%02d", 1000+r.IntN(9000), r.IntN(100)) }},
			kind{typ: "decimal(9,2)", marks: ".,", write: func(r *rand.Rand) string {
				return fmt.Sprintf("%d.%03d,%02d", 10+r.IntN(90), r.IntN(1000), r.IntN(100))
			}})
	}
	return list
}

// TestLook writes files in random forms, with lines above the header, words for nothing, encodings and layouts, and
// holds what is found against how they were written.
func TestLook(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 8))
	for n := range 250 {
		separator := []byte{',', ';', '\t', '|'}[r.IntN(4)]
		quote := []string{`"`, `"`, "'"}[r.IntN(3)]
		all := kinds(separator)
		var columns []kind
		var names []string
		for k := range 2 + r.IntN(7) {
			columns = append(columns, all[r.IntN(len(all))])
			names = append(names, []string{"No.", "Name", "Paid on", "Amount", "Zone", "Class", "When", "Left", "Sum"}[k])
		}
		field := func(s string, always bool) string {
			if always || strings.ContainsAny(s, string(separator)+quote+"\n") {
				return quote + strings.ReplaceAll(s, quote, quote+quote) + quote
			}
			return s
		}
		var b strings.Builder
		above := 0
		headless := r.IntN(6) == 0
		if !headless && r.IntN(3) == 0 {
			above = 1 + r.IntN(3)
			for range above {
				b.WriteString([]string{"Report of the harbour", "", "printed \"1.2.2025", "Page 1"}[r.IntN(4)] + "\n")
			}
		}
		quoted := r.IntN(2) == 0 || quote == "'"
		row := func(values []string) {
			for k, s := range values {
				if k > 0 {
					b.WriteByte(separator)
				}
				b.WriteString(field(s, quoted && s != ""))
			}
			b.WriteString([]string{"\n", "\r\n"}[n%2])
		}
		if !headless {
			row(names)
		}
		empty, rows := make([]int64, len(columns)), 60+r.IntN(100)
		for range rows {
			var values []string
			for k, c := range columns {
				v := c.write(r)
				if c.typ != "text" && k > 0 && r.IntN(12) == 0 {
					v = []string{"", "NA"}[r.IntN(2)]
					empty[k]++
				}
				values = append(values, v)
			}
			row(values)
		}
		text, encoding := b.String(), ""
		if !strings.Contains(text, "ž") && !strings.Contains(text, "ř") && r.IntN(2) == 0 {
			text = strings.ReplaceAll(text, "Heron", "Héron")
		}
		if r.IntN(3) == 0 && strings.Contains(text, "é") || strings.Contains(text, "žluté") && r.IntN(2) == 0 {
			if in, err := charmap.Windows1252.NewEncoder().String(text); err == nil {
				text, encoding = in, "windows-1252"
			}
		}
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, "x.csv"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		root, err := os.OpenRoot(dir)
		if err != nil {
			t.Fatal(err)
		}
		found, err := Look(context.Background(), root, "x.csv")
		root.Close()
		if err != nil {
			t.Fatalf("%d: %v\n%.800s", n, err, text)
		}
		got := found[0]
		if got.Form.Separator != separator || got.Form.Headless != headless || got.Encoding != encoding || got.Rows != int64(rows) || got.Ragged > 0 {
			t.Fatalf("%d: found %+v, %q, %d rows; wrote separator %q, headless %v, encoding %q, %d rows\n%.800s",
				n, got.Form, got.Encoding, got.Rows, separator, headless, encoding, rows, text)
		}
		for k, c := range got.Columns {
			want := columns[k]
			same := c.Type == want.typ || strings.HasPrefix(want.typ, "decimal") && strings.HasPrefix(c.Type, "decimal")
			if !same || c.Layout != want.layout || (c.Months == "cs") != (c.Layout == "d. MMM yyyy") || c.Marks != want.marks || c.Unfit > 0 || want.typ != "text" && c.Empty != empty[k] {
				t.Errorf("%d: column %d is %s in %q and %q, %d empty, %d unfit such as %q; wrote %+v, %d empty\n%.400s",
					n, k, c.Type, c.Layout, c.Marks, c.Empty, c.Unfit, c.Example, want, empty[k], text)
			}
		}
	}
}

// TestFormOf finds out forms that the marks of decimals, titles and names with commas speak against.
func TestFormOf(t *testing.T) {
	for _, c := range []struct {
		text      string
		separator byte
		width     int
		head      string
	}{
		{"no;price\n1;2,50\n2;3,50\n3;4,50\n", ';', 2, "no price"},
		{"x;y\n1,5;2,5\n3,5;2,25\n", ';', 2, "x y"},
		{"no;a;b\n0;1,250;7,5\n1;12,500;8,25\n", ';', 3, "no a b"},
		{"Prices\n\nno;a;b\n0;1,250;7,5\n1;12,500;8,25\n", ';', 3, "no a b"},
		{"no,name\n1,a;b\n2,c;d\n", ',', 2, "no name"},
		{"no\tname\n1\tHill, Ann\n2\tOak, Ben\n", '\t', 2, "no name"},
		{"reader\tlender\nHill, Ann\tOak, Ben\nFir, Cleo\tElm, Dora\n", '\t', 2, "reader lender"},
		{"Prices, all\nno;price\n" + strings.Repeat("1;2,50\n", 900), ';', 2, "no price"},
		{"1,2,3\n4,5,6\n", ',', 3, ""},
	} {
		if x := formOf([]byte(c.text), separators); x.csv.Separator != c.separator || x.width != c.width || strings.Join(x.head, " ") != c.head {
			t.Errorf("%q: separator %q, %d fields, header %q", c.text, x.csv.Separator, x.width, x.head)
		}
	}
}

// FuzzForm finds out the form of any text: it comes to an end, and what it finds can be said in words.
func FuzzForm(f *testing.F) {
	f.Add([]byte("a,b\n1,\"x\ny\"\n"))
	f.Add([]byte("Title;\"\n\nn;m\n1;'2'\n"))
	f.Add([]byte("'a'\t'b'\r\n'c''d'\t\"\r\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		x := formOf(text, separators)
		if x.width < 0 || x.share > 1 || x.head != nil && (len(x.head) != x.width || x.line < 1) {
			t.Fatalf("%q: %+v", text, x)
		}
		_ = x.evidence() + (&Table{Form: x.csv}).inWords(x.line)
	})
}
