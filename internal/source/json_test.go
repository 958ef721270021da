package source

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/big"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/star"
)

// objects is a source of JSON objects with text columns found by paths.
func objects(paths ...string) *star.Source {
	s := &star.Source{
		Name:  star.Name{Text: "test"},
		Files: star.Files{Format: star.JSONLines, CSV: star.PlainCSV, Read: []star.Name{{Text: "*.json"}}},
	}
	for _, path := range paths {
		s.Columns = append(
			s.Columns,
			star.Column{Name: star.Name{Text: path}, Header: path, Type: column.Type{Kind: column.Text}},
		)
	}
	return s
}

func openSource(t testing.TB, dir string, s *star.Source, piece int) (*Files, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { root.Close() })
	return (&Inputs{Model: &star.Model{}, Root: root, Piece: piece}).openText(s, func(string) bool { return true })
}

// TestLines holds random objects, cut anywhere, against encoding/json.
func TestLines(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	names := []string{"a", "b.c", "b.d.e", "odd*name", "x|y", "@this", "q#", `dot\.ted`, "missing"}
	values := []string{
		`"text"`,
		`"qu\"oted é"`,
		`"\u00fc"`,
		"12",
		"-0.50",
		"1e3",
		"true",
		"null",
		`""`,
		`[1,2]`,
		`{"z":1}`,
		`"two\nlines"`,
	}
	pick := func() string { return values[r.IntN(len(values))] }
	for round := range 300 {
		var file strings.Builder
		var want []string
		line := 0
		for range r.IntN(40) {
			line++
			if r.IntN(8) == 0 {
				file.WriteString("  \r\n")
				continue
			}
			text := fmt.Sprintf(
				`{"a": %s, "b": {"c": %s, "d": {"e": %s}}, "odd*name": %s, "x|y": %s, "@this": %s, "q#": %s, "dot.ted": %s}`,
				pick(),
				pick(),
				pick(),
				pick(),
				pick(),
				pick(),
				pick(),
				pick(),
			)
			file.WriteString(text + []string{"\n", "\r\n"}[r.IntN(2)])
			decoder := json.NewDecoder(strings.NewReader(text))
			decoder.UseNumber()
			var object map[string]any
			if err := decoder.Decode(&object); err != nil {
				t.Fatal(err)
			}
			cells, bad := []string{}, ""
			for _, name := range names {
				var v any = object
				for _, part := range strings.Split(strings.ReplaceAll(name, `\.`, "\x00"), ".") {
					m, _ := v.(map[string]any)
					v = m[strings.ReplaceAll(part, "\x00", ".")]
				}
				switch v := v.(type) {
				case nil:
					cells = append(cells, "∅")
				case []any:
					bad = name + " is a list, not one value"
				case map[string]any:
					bad = name + " is an object, not one value"
				default:
					cells = append(cells, fmt.Sprint(v))
				}
				if bad != "" {
					break
				}
			}
			if bad != "" {
				want = append(want, fmt.Sprintf("!%d %s", line, bad))
			} else {
				want = append(want, fmt.Sprintf("%d %q", line, cells))
			}
		}
		dir := t.TempDir()
		content := strings.TrimSuffix(file.String(), "\n")
		if err := os.WriteFile(filepath.Join(dir, "x.json"), []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
		for _, piece := range []int{0, 1, 100} {
			f, err := openSource(t, dir, objects(names...), piece)
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			b := column.NewBatch(f.Fields())
			for p, err := range f.Pieces(t.Context()) {
				if err == nil {
					err = p.Fill(b)
				}
				if err != nil {
					t.Fatal(err)
				}
				for i := range b.N {
					var cells []string
					for k := range b.Cols {
						if b.Cols[k].Null[i] {
							cells = append(cells, "∅")
						} else {
							cells = append(cells, b.Cols[k].Value(i))
						}
					}
					fault := ""
					for _, f := range b.Faults {
						if int(f.Row) == i && fault == "" {
							fault = f.Reason
						}
					}
					if fault != "" {
						got = append(got, fmt.Sprintf("!%d %s", b.From.Line[i], fault))
					} else {
						got = append(got, fmt.Sprintf("%d %q", b.From.Line[i], cells))
					}
				}
			}
			if !slices.Equal(got, want) {
				t.Fatalf(
					"round %d, pieces of %d:\n%s\nwant\n%s\nof\n%s",
					round,
					piece,
					strings.Join(got, "\n"),
					strings.Join(want, "\n"),
					content,
				)
			}
		}
	}
}

// TestExponents: a number with an exponent is the number that it means, against math/big.
func TestExponents(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 2000 {
		number := fmt.Sprintf("%s%d.%de%+d", []string{"", "-"}[r.IntN(2)], r.IntN(1000), r.IntN(10000), r.IntN(60)-30)
		want, _ := new(big.Rat).SetString(number)
		got, ok := new(big.Rat).SetString(written(number))
		if !ok || got.Cmp(want) != 0 || strings.Contains(written(number), "e") {
			t.Fatalf("%s: %s", number, written(number))
		}
	}
	for _, number := range []string{"1e999", "12", "-0.5", "1e-400"} {
		if written(number) != number {
			t.Errorf("%s: %s", number, written(number))
		}
	}
}

// TestBrokenLines: what is no JSON is told with its place, what is no object is set aside.
func TestBrokenLines(t *testing.T) {
	for _, c := range []struct{ content, want string }{
		{"{\"a\":1}\n{\"a\":}\n", "x.json:2:6: this is not JSON: invalid character '}' looking for beginning of value"},
		{"{\"a\":1\n", "x.json:1:7: this is not JSON: unexpected end of JSON input"},
		{"{\"a\":1} {\"a\":2}\n", "x.json:1:9: this is not JSON"},
		{"[1]\n{\"a\":2}\n\"x\"\n", "[!x.json:1|the line is not a JSON object|[1] !x.json:3|the line is not a JSON object|\"x\"] 1"},
		{"\xff\xfe{\x00", "this is not text of JSON objects, a line each"},
		{"PAR1", "this is not text of JSON objects, a line each"},
		{"", "[] 0"},
		{"\ufeff{\"a\":\"007\"}", "[] 1"},
	} {
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, "x.json"), []byte(c.content), 0o644); err != nil {
			t.Fatal(err)
		}
		f, err := openSource(t, dir, objects("a"), 0)
		var faults []string
		n := 0
		if err == nil {
			b := column.NewBatch(f.Fields())
			for p, perr := range f.Pieces(t.Context()) {
				if err = perr; err == nil {
					err = p.Fill(b)
				}
				if err != nil {
					break
				}
				for _, fault := range b.Faults {
					faults = append(
						faults,
						fmt.Sprintf("!%s:%d|%s|%s", b.From.File, b.From.Line[fault.Row], fault.Reason, fault.Detail),
					)
				}
				n += b.N - len(b.Faults)
			}
		}
		said := fmt.Sprint(faults, " ", n)
		if err != nil {
			said = err.Error()
		}
		if !strings.Contains(said, c.want) {
			t.Errorf("%q: %s, want %s", c.content, said, c.want)
		}
	}
}

// FuzzLines: however a file is cut, its objects are the same, or it is refused with the same words.
func FuzzLines(f *testing.F) {
	f.Add([]byte("{\"a\":1,\"b\":{\"c\":\"x\"}}\n\n{\"a\":[1]}\n"), 3)
	f.Add([]byte("{\"a\":1}{\n"), 1)
	f.Fuzz(func(t *testing.T, content []byte, piece int) {
		if piece < 1 || len(content) > 1<<16 {
			return
		}
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, "f.json"), content, 0o644); err != nil {
			t.Fatal(err)
		}
		var results [2]string
		for k, size := range []int{0, piece} {
			files, err := openSource(t, dir, objects("a", "b.c"), size)
			if err != nil {
				return
			}
			got, err := rows(t, files)
			slices.Sort(got) // a piece tells its rows first, then what is wrong with others
			results[k] = fmt.Sprint(got, err)
			if err != nil {
				results[k] = err.Error() // pieces before it may have been told
			}
		}
		if results[0] != results[1] && !bytes.Contains(content, bom) {
			t.Fatalf("whole: %s\ncut: %s", results[0], results[1])
		}
	})
}
