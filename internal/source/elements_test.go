package source

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/star"
)

// TestElements holds the rows of lists within lists against the same made by loops over random objects: in lines and in
// documents, in pieces of every size.
func TestElements(t *testing.T) {
	type crew = []string
	type leg struct {
		Port string `json:"port.of,omitempty"`
		Crew crew   `json:"crew"`
	}
	type voyage struct {
		ID   int               `json:"id"`
		Site map[string]string `json:"site,omitempty"`
		Legs []leg             `json:"legs"`
	}
	r := rand.New(rand.NewPCG(2, 9))
	for n := range 300 {
		var voyages []voyage
		var want []string
		for id := range r.IntN(5) {
			v := voyage{ID: id, Site: map[string]string{"code": fmt.Sprint("S", r.IntN(3))}}
			for k := range r.IntN(4) {
				l := leg{Port: []string{"", "Brigg", "Al\"de\nmere"}[r.IntN(3)], Crew: crew{}}
				for range r.IntN(3) {
					l.Crew = append(l.Crew, []string{"Ann", "Žofie"}[r.IntN(2)])
				}
				v.Legs = append(v.Legs, l)
				port := l.Port
				if port == "" {
					port = "null"
				}
				for c, who := range l.Crew {
					want = append(want, fmt.Sprintf("%d|%s|%s|%s|%d|%d", id, v.Site["code"], port, who, k+1, c+1))
				}
			}
			voyages = append(voyages, v)
		}
		var b strings.Builder
		name := []string{"x.jsonl", "x.json", "x.json"}[n%3]
		switch n % 3 {
		case 1:
			text, _ := json.MarshalIndent(voyages, "", "  ")
			b.Write(text)
			if voyages == nil {
				b.Reset()
				b.WriteString(" []")
			}
		default:
			for _, v := range voyages {
				text, _ := json.Marshal(v)
				b.Write(text)
				b.WriteString("\n")
			}
		}
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
		s := &star.Source{Name: star.Name{Text: "test"}, Files: star.Files{
			CSV: star.PlainCSV, Read: []star.Name{{Text: name}}, Format: map[string]string{"x.jsonl": star.JSONLines, "x.json": star.JSON}[name],
			Each: []star.Name{{Text: "legs"}, {Text: "legs.crew"}},
		}}
		for k, path := range []string{"id", "site.code", `legs.port\.of`, "legs.crew", "leg", "place"} {
			c := star.Column{Name: star.Name{Text: fmt.Sprint("c", k)}, Header: path, Type: column.Type{Kind: column.Text}}
			if k > 3 {
				c.PositionIn, c.Type.Kind = s.Each[k-4].Text, column.Integer
			}
			s.Columns = append(s.Columns, c)
		}
		root, err := os.OpenRoot(dir)
		if err != nil {
			t.Fatal(err)
		}
		f, err := (&Inputs{Model: &star.Model{}, Root: root, Piece: 1 + r.IntN(300)}).openText(s, func(string) bool { return true })
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		batch := column.NewBatch(f.Fields())
		for p, err := range f.Pieces(t.Context()) {
			if err == nil {
				err = p.Fill(batch)
			}
			if err != nil {
				t.Fatalf("%v\n%s", err, b.String())
			}
			for i := range batch.N {
				var values []string
				for k := range batch.Cols {
					if values = append(values, batch.Cols[k].Value(i)); batch.Cols[k].Null[i] {
						values[k] = "null"
					}
				}
				got = append(got, strings.Join(values, "|"))
				if batch.Bad(i) {
					t.Errorf("%+v\n%s", batch.Faults, b.String())
				}
			}
		}
		root.Close()
		if !slices.Equal(got, want) {
			t.Fatalf("read %q, want %q of\n%s", got, want, b.String())
		}
	}
}

// TestDocuments has documents that are damaged: none is read in part without a word.
func TestDocuments(t *testing.T) {
	for doc, want := range map[string]string{
		`[{"a": 1}, {"a": 2}`:                "x.json:1: the document ends too early, behind 2 objects",
		`[{"a": 1}] {"a": 2}`:                "the document goes on behind its list",
		`[{"a": 1},, {"a": 2}]`:              "this is not JSON, behind 1 objects",
		`{"a": 1} {"a": `:                    "the document ends too early, behind 1 objects",
		`nonsense`:                           "this is not JSON, behind 0 objects",
		`[1, {"a": 1}]`:                      "",
		strings.Repeat("[", 20_000):          "this is not JSON, behind 0 objects",
		"\ufeff[{\"a\": 1}]":                 "",
		`[{"a": 1, "c": {"d": [1, 2]}}, 7 ]`: "",
	} {
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, "x.json"), []byte(doc), 0o644); err != nil {
			t.Fatal(err)
		}
		s := text()
		s.Format, s.Read = star.JSON, []star.Name{{Text: "x.json"}}
		root, err := os.OpenRoot(dir)
		if err != nil {
			t.Fatal(err)
		}
		f, err := (&Inputs{Model: &star.Model{}, Root: root}).openText(s, func(string) bool { return true })
		if err == nil {
			_, err = rows(t, f)
		}
		root.Close()
		if got := fmt.Sprint(err); want == "" && err != nil || !strings.Contains(got, want) {
			t.Errorf("%.40s: %s, want %s", doc, got, want)
		}
	}
}

// FuzzDocument makes lines of any document: as many as its list has elements, where package json can read it, and each
// what the element is.
func FuzzDocument(f *testing.F) {
	f.Add([]byte(`[{"a": [1, {"b": "x\ny"}]}, 7, null]`))
	f.Add([]byte("{\"a\": 1}\n{\"a\": 2}"))
	f.Add([]byte("\ufeff [ ] "))
	f.Fuzz(func(t *testing.T, doc []byte) {
		lines := Lines(doc)
		var list []json.RawMessage
		if json.Unmarshal(doc, &list) != nil || list == nil {
			return
		}
		got := strings.Split(strings.TrimSuffix(string(lines), "\n"), "\n")
		if len(list) == 0 {
			got = got[1:]
		}
		if len(got) != len(list) {
			t.Fatalf("%q: %d lines of %d elements", doc, len(got), len(list))
		}
		for k := range list {
			var a, b any
			if json.Unmarshal(list[k], &a) != nil || json.Unmarshal([]byte(got[k]), &b) != nil || fmt.Sprint(a) != fmt.Sprint(b) {
				t.Fatalf("%q: element %d is %s, not %s", doc, k, got[k], list[k])
			}
		}
	})
}
