package source

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/star"
)

// TestSpectrum: published corner cases mean what their publisher says, but for line breaks in quotes, which are
// read as newlines however they are written, and empty fields, which are null.
func TestSpectrum(t *testing.T) {
	root, err := os.OpenRoot("testdata/csv-spectrum")
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	files, _ := filepath.Glob("testdata/csv-spectrum/*.csv")
	if len(files) != 11 {
		t.Fatalf("%d files", len(files))
	}
	for _, file := range files {
		text, err := os.ReadFile(strings.TrimSuffix(file, ".csv") + ".json")
		if err != nil {
			t.Fatal(err)
		}
		var want []map[string]string
		if err := json.Unmarshal(text, &want); err != nil {
			var one map[string]string
			if err := json.Unmarshal(text, &one); err != nil {
				t.Fatal(file, err)
			}
			want = append(want, one)
		}
		in := &Inputs{Model: &star.Model{}, Root: root}
		s, err := in.AsRead(
			context.Background(),
			&star.Source{
				Name:  star.Name{Text: "s"},
				Files: star.Files{CSV: star.PlainCSV, Read: []star.Name{{Text: filepath.Base(file)}}},
			},
			nil,
		)
		if err != nil {
			t.Fatal(file, err)
		}
		f, err := in.Open(context.Background(), s, nil, func(string) bool { return true })
		if err != nil {
			t.Fatal(file, err)
		}
		rows := 0
		b := column.NewBatch(f.Fields())
		for p, err := range f.Pieces(context.Background()) {
			if err == nil {
				err = p.Fill(b)
			}
			if err != nil {
				t.Fatal(file, err)
			}
			for i := range b.N {
				for k, field := range f.Fields() {
					meant := strings.ReplaceAll(want[rows][field.Name], "\r\n", "\n")
					if got := b.Cols[k].Value(i); got != meant || b.Cols[k].Null[i] != (meant == "") {
						t.Errorf("%s: %s of row %d is %q, want %q", file, field.Name, rows+1, got, meant)
					}
				}
				rows++
			}
		}
		if rows != len(want) || len(f.Fields()) != len(want[0]) {
			t.Errorf("%s: %d rows of %d columns, want %d of %d", file, rows, len(f.Fields()), len(want), len(want[0]))
		}
	}
}
