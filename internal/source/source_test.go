package source

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/parse"
	"ironmonger/internal/star"
)

// text is a source of text columns a and c, of files *.csv.
func text() *star.Source {
	s := &star.Source{
		Name:  star.Name{Text: "test"},
		Files: star.Files{CSV: star.PlainCSV, Read: []star.Name{{Text: "*.csv"}}},
	}
	for _, name := range []string{"a", "c"} {
		s.Columns = append(s.Columns, star.Column{Name: star.Name{Text: name}, Type: column.Type{Kind: column.Text}})
	}
	return s
}

func open(t testing.TB, dir string, piece int) (*Files, error) {
	return openForm(t, dir, piece, star.PlainCSV)
}

func openForm(t testing.TB, dir string, piece int, form star.CSV) (*Files, error) {
	s := text()
	s.CSV = form
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { root.Close() })
	return (&Inputs{Model: &star.Model{}, Root: root, Piece: piece}).openText(s, func(string) bool { return true })
}

// rows reads all rows as line|a|c, or !line|reason for those set aside.
func rows(t testing.TB, f *Files) ([]string, error) {
	var list []string
	b := column.NewBatch(f.Fields())
	for p, err := range f.Pieces(context.Background()) {
		if err != nil {
			return list, err
		}
		if err := p.Fill(b); err != nil {
			return list, err
		}
		for i := range b.N {
			if b.Bad(i) {
				continue
			}
			list = append(
				list,
				fmt.Sprintf("%s:%d|%s|%s", b.From.File, b.From.Line[i], b.Cols[0].Value(i), b.Cols[1].Value(i)),
			)
		}
		for _, fault := range b.Faults {
			list = append(
				list,
				fmt.Sprintf("!%s:%d|%s|%s", b.From.File, b.From.Line[fault.Row], fault.Reason, fault.Detail),
			)
		}
	}
	return list, nil
}

// TestPieces reads random files in pieces of every size and holds the rows against encoding/csv reading
// the whole file at once.
func TestPieces(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	words := []string{
		"",
		"x",
		"plain text",
		`"quoted"`,
		`"with, comma"`,
		`"with ""quotes"""`,
		"\"two\nlines\"",
		"\"\r\n\n\"",
		`""`,
		"ü",
		"\"\n\n\n\"",
	}
	for round := range 300 {
		dir := t.TempDir()
		var file strings.Builder
		eol := []string{"\n", "\r\n"}[r.IntN(2)]
		file.WriteString([]string{"", "\ufeff"}[r.IntN(2)] + "a,b,c" + eol)
		for range r.IntN(60) {
			for k := range 3 {
				if k > 0 {
					file.WriteByte(',')
				}
				file.WriteString(words[r.IntN(len(words))])
			}
			file.WriteString(eol)
			if r.IntN(10) == 0 {
				file.WriteString(eol)
			}
		}
		content := file.String()
		if r.IntN(2) == 0 {
			content = strings.TrimSuffix(content, eol)
		}
		if err := os.WriteFile(filepath.Join(dir, "x.csv"), []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
		var want []string
		rd := csv.NewReader(strings.NewReader(strings.TrimPrefix(content, "\ufeff")))
		for header := true; ; header = false {
			record, err := rd.Read()
			if err == io.EOF {
				break
			} else if err != nil {
				t.Fatal(err)
			}
			if line, _ := rd.FieldPos(0); !header {
				want = append(want, fmt.Sprintf("x.csv:%d|%s|%s", line, record[0], record[2]))
			}
		}
		// the same rows in another form: quotes and apostrophes, commas and semicolons change places
		other := strings.NewReplacer(`"`, `'`, `'`, `"`, `,`, `;`, `;`, `,`)
		form := star.PlainCSV
		if round%2 == 1 {
			form = star.CSV{Separator: ';', Quote: '\''}
			if err := os.WriteFile(filepath.Join(dir, "x.csv"), []byte(other.Replace(content)), 0o644); err != nil {
				t.Fatal(err)
			}
			for i := range want {
				want[i] = other.Replace(want[i])
			}
		}
		for _, piece := range []int{1, 7, 50, 333, 0} {
			f, err := openForm(t, dir, piece, form)
			if err != nil {
				t.Fatal(err)
			}
			if got, err := rows(t, f); err != nil || !slices.Equal(got, want) {
				t.Fatalf("round %d, pieces of %d: %v\n%q\nwant\n%q\nof\n%q", round, piece, err, got, want, content)
			}
		}
	}
}

func TestFiles(t *testing.T) {
	for _, c := range []struct {
		name, content, want string // want begins with ! for an error
	}{
		{"columns elsewhere", "c,x,a\n1,2,3\n", "[t.csv:2|3|1]"},
		{"too many fields", "a,b,c\n1,2,3,4\n1,2,3\n", "[!t.csv:2|the row has too many fields|4, and the header 3 t.csv:3|1|3]"},
		{"too few fields", "a,b,c\n1\n", "[!t.csv:2|the row has too few fields|1, and the header 3]"},
		{"no UTF-8", "a,b,c\n1,2,\xff\n\xff,2,1\x00\n", `[!t.csv:2|c is not UTF-8 text or holds a zero byte (csv: encoding says what text it is)|\xff !t.csv:3|a is not UTF-8 text or holds a zero byte (csv: encoding says what text it is)|\xff !t.csv:3|c is not UTF-8 text or holds a zero byte|1\x00]`},
		{"only a header", "a,b,c", "[]"},
		{"empty", "", "!t.csv:1: source test: the file is empty; its first line must be a header with the names of the columns"},
		{"no such column", "a,b,d\n", "!t.csv:1: source test: the header has no column c (there is: a, b, d)"},
		{"twice", "a,c,c\n", "!t.csv:1: source test: the header has two columns called c; position tells which"},
		{"other separator", "a;b;c\n", "!t.csv:1: source test: the header is one column, a;b;c: what separates the columns? (csv: separator)"},
		{"UTF-16", "\xff\xfea\x00", "!t.csv:1: source test: this is not UTF-8 text; it looks like UTF-16 (csv: encoding says so)"},
		{"gzip", "\x1f\x8b\x08\x00", "!t.csv: source test: the file cannot be read: this begins like gzip but is not gzip: unexpected EOF"},
		{"bare quote", "a,b,c\n1,2,3\n1,2\"x,3\n", "!t.csv:3:4: this is not CSV: a quote in a field that is not quoted; such a field stands in quotes, its own quotes doubled\n    3 | 1,2\"x,3\n      |    ^"},
		{"open quote", "a,b,c\n1,\"2,3\n4,5,6\n", "!t.csv:2: this is not CSV: a quoted field is not closed, or goes on behind its closing quote\n    2 | 1,\"2,3"},
		{"behind a quote", "a,b,c\n1,\"2\"x,3\n", "!t.csv:2:5: this is not CSV: a quoted field is not closed, or goes on behind its closing quote\n    2 | 1,\"2\"x,3\n      |     ^"},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			if err := os.WriteFile(filepath.Join(dir, "t.csv"), []byte(c.content), 0o644); err != nil {
				t.Fatal(err)
			}
			for _, piece := range []int{4, 0} {
				var list []string
				f, err := open(t, dir, piece)
				if err == nil {
					list, err = rows(t, f)
					slices.Sort(list)
				}
				got := fmt.Sprint(list)
				if err != nil {
					got = "!" + err.Error()
				}
				if got != c.want {
					t.Errorf("pieces of %d:\n%s\nwant\n%s", piece, got, c.want)
				}
			}
		})
	}
}

// TestForms reads files that are written otherwise.
func TestForms(t *testing.T) {
	read := func(content string, form star.CSV, columns ...star.Column) string {
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, "t.csv"), []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
		root, err := os.OpenRoot(dir)
		if err != nil {
			t.Fatal(err)
		}
		defer root.Close()
		s := text()
		s.CSV = form
		if columns != nil {
			s.Columns = columns
		}
		f, err := (&Inputs{Model: &star.Model{}, Root: root}).openText(s, func(string) bool { return true })
		if err != nil {
			return "!" + err.Error()
		}
		list, err := rows(t, f)
		if err != nil {
			return "!" + err.Error()
		}
		return strings.Join(list, " ")
	}
	col := func(name, typ, header string, position int) star.Column {
		parsed, err := column.ParseType(typ)
		if err != nil {
			t.Fatal(err)
		}
		return star.Column{Name: star.Name{Text: name}, Type: parsed, Header: header, Position: position}
	}
	layout := func(text string, kind column.Kind) parse.Layouts {
		l, err := parse.NewLayout(text, kind, parse.Words{})
		if err != nil {
			t.Fatal(err)
		}
		return parse.Layouts{l}
	}
	tab, none, marks := star.PlainCSV, star.PlainCSV, star.PlainCSV
	tab.Separator, tab.Nulls = '\t', []string{"NA", "-"}
	none.Quote, none.Headless = 0, true
	marks.Separator, marks.Style = ';', parse.Style{
		Decimal:   ',',
		Thousands: '.',
		Date:      layout("d.M.yyyy", column.Date),
		Timestamp: layout("dd.MM.yyyy HH:mm:ss.SSS", column.Timestamp),
	}
	for _, c := range []struct{ got, want string }{
		{read("c\ta\n-\t x\nNA\t1\"\n", tab), "!t.csv:3:5: this is not CSV: a quote in a field that is not quoted; such a field stands in quotes, its own quotes doubled\n    3 | NA\t1\"\n      |   \t ^"},
		{read("c\ta\n-\t x\nNA\tNAB\n", tab), "t.csv:2| x| t.csv:3|NAB|"},
		{read("1\",2\n\"3,4\n5,6,7\n", none), `t.csv:1|1"|2 t.csv:2|"3|4 !t.csv:3|the row has too many fields|3, and the first row 2`},
		{read("", none), ""},
		{read("1\n", none), "!t.csv:1: source test: column c is to stand at position 2, and the row has 1 fields"},
		{read("x,Name,x\n1,2,3\n", star.PlainCSV, col("a", "text", "Name", 0), col("c", "integer", "", 3)), "t.csv:2|2|3"},
		{read("x,Nam,x\n1,2,3\n", star.PlainCSV, col("a", "text", "Name", 0), col("c", "integer", "", 4)), "!t.csv:1: source test: the header has no column Name (did you mean Nam?)\nt.csv:1: source test: column c is to stand at position 4, and the header has 3 columns"},
		{read("a;c\n1.234.567,5;1.2.2024\n-1234,50;31.12.1999\n", marks, col("a", "decimal(9,2)", "", 0), col("c", "date", "", 0)), "t.csv:2|1234567.50|2024-02-01 t.csv:3|-1234.50|1999-12-31"},
		{read("a;c\n1.23;30.02.2024\n12.34,5;2024-01-01\n1,2,3;1.1.24\n", marks, col("a", "decimal(9,2)", "", 0), col("c", "date", "", 0)),
			"!t.csv:2|a is not a number with the declared marks|1.23 !t.csv:2|c is not written as d.M.yyyy|30.02.2024 !t.csv:3|a is not a number with the declared marks|12.34,5 !t.csv:3|c is not written as d.M.yyyy|2024-01-01 !t.csv:4|a is not a number with the declared marks|1,2,3 !t.csv:4|c is not written as d.M.yyyy|1.1.24"},
		{read("a;c\n1.000;01.02.2024 10:20:30.5\n1,0;01.02.2024 24:00:00.0\n", marks, col("a", "integer", "", 0), col("c", "timestamp", "", 0)), "t.csv:2|1000|2024-02-01 10:20:30.5 !t.csv:3|a is not an integer|1,0 !t.csv:3|c is not written as dd.MM.yyyy HH:mm:ss.SSS|01.02.2024 24:00:00.0"},
	} {
		if c.got != c.want {
			t.Errorf("%s\nwant\n%s", c.got, c.want)
		}
	}
}

// TestOutside: nothing outside the model's folder can be named, and a link does not lead there.
func TestOutside(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "secret.csv"), []byte("a,c\n1,2\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	inner := filepath.Join(dir, "inner")
	if err := os.Mkdir(inner, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("../secret.csv", filepath.Join(inner, "link.csv")); err != nil {
		t.Fatal(err)
	}
	root, err := os.OpenRoot(inner)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	for pattern, want := range map[string]string{
		"../secret.csv":                  "../secret.csv is outside the model's folder (within names another folder)",
		"x/../../secret.csv":             "x/../../secret.csv is outside the model's folder (within names another folder)",
		filepath.Join(dir, "secret.csv"): filepath.Join(dir, "secret.csv") + " is outside the model's folder (within names another folder)",
		"nothing-*.csv":                  "no file matches nothing-*.csv in " + inner,
		"link.csv":                       "the file is a link that leads out of the folder of the files",
		"[":                              "[ is not a pattern: syntax error in pattern",
	} {
		s := text()
		s.Read[0].Text = pattern
		if _, err := (&Inputs{Model: &star.Model{}, Root: root}).openText(s, func(string) bool { return true }); err == nil ||
			!strings.HasSuffix(err.Error(), want) {
			t.Errorf("%s: %v, want %s", pattern, err, want)
		}
	}
	// A folder that the model names is read, and a link does not lead out of that.
	s := text()
	s.Read[0].Text, s.Within.Text = "secret.csv", ".."
	f, err := (&Inputs{Model: &star.Model{}, Root: root}).openText(s, func(string) bool { return true })
	if err != nil {
		t.Fatal(err)
	}
	if got, err := rows(t, f); err != nil || fmt.Sprint(got) != "[../secret.csv:2|1|2]" {
		t.Error(got, err)
	}
	s.Within.Text, s.Read[0].Text = inner, "link.csv"
	if _, err := (&Inputs{Model: &star.Model{}, Root: root}).openText(s, func(string) bool { return true }); err == nil ||
		!strings.HasSuffix(err.Error(), "leads out of the folder of the files") {
		t.Error(err)
	}
}

// TestLongRecord: a record of more than 16 MiB is refused where it begins, however it is cut, and memory is not
// filled with it.
func TestLongRecord(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "f.csv"), []byte("a,b,c\n1,2,3\n4,\""+strings.Repeat("x\n", maxRecord)), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, piece := range []int{0, 5 << 20} {
		f, err := open(t, dir, piece)
		if err != nil {
			t.Fatal(err)
		}
		got, err := rows(t, f)
		if err == nil || !strings.HasPrefix(err.Error(), "f.csv:3") || len(got) != 1 {
			t.Errorf("%d rows, %v", len(got), err)
		}
	}
}

// FuzzPieces: however a file is cut, its rows are the same, or it is refused at the same place.
func FuzzPieces(f *testing.F) {
	f.Add([]byte("a,b,c\n1,\"x\ny\",3\n"), 5)
	f.Add([]byte("a,c\r\n\"\"\"\",2\r\n\r\n"), 2)
	f.Add([]byte("a,c\n1\"2,3\n\"\n"), 3)
	f.Add([]byte("\n\r\na,c\n1,2"), 1)
	f.Fuzz(func(t *testing.T, content []byte, piece int) {
		if piece < 1 || len(content) > 1<<16 {
			return
		}
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, "f.csv"), content, 0o644); err != nil {
			t.Fatal(err)
		}
		whole, err := open(t, dir, 0)
		if err != nil {
			return
		}
		want, wantErr := rows(t, whole)
		cut, err := open(t, dir, piece)
		if err != nil {
			t.Fatal(err)
		}
		got, gotErr := rows(t, cut)
		if fmt.Sprint(wantErr) != fmt.Sprint(gotErr) {
			t.Fatalf("whole: %v\ncut: %v", wantErr, gotErr)
		}
		if slices.Sort(want); wantErr == nil {
			if slices.Sort(got); !slices.Equal(got, want) {
				t.Fatalf("whole: %q\ncut: %q", want, got)
			}
		}
	})
}

func BenchmarkFill(b *testing.B) {
	var buf bytes.Buffer
	buf.WriteString("a,n,p,d,t,c\n")
	for i := range 50_000 {
		fmt.Fprintf(
			&buf,
			"V%06d,%d,%d.%02d,2024-%02d-%02d,2024-01-01 10:%02d:00,\"x, y\"\n",
			i,
			i,
			i,
			i%100,
			i%12+1,
			i%28+1,
			i%60,
		)
	}
	dir := b.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "b.csv"), buf.Bytes(), 0o644); err != nil {
		b.Fatal(err)
	}
	s := text()
	for name, typ := range map[string]string{"n": "integer", "p": "decimal(9,2)", "d": "date", "t": "timestamp"} {
		parsed, _ := column.ParseType(typ)
		s.Columns = append(s.Columns, star.Column{Name: star.Name{Text: name}, Type: parsed})
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		b.Fatal(err)
	}
	defer root.Close()
	f, err := (&Inputs{Model: &star.Model{}, Root: root}).openText(s, func(string) bool { return true })
	if err != nil {
		b.Fatal(err)
	}
	batch := column.NewBatch(f.Fields())
	b.SetBytes(int64(buf.Len()))
	b.ReportAllocs()
	for b.Loop() {
		for p := range f.Pieces(context.Background()) {
			if err := p.Fill(batch); err != nil {
				b.Fatal(err)
			}
		}
	}
}
