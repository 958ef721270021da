package main

import (
	"encoding/csv"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestExamples loads the examples in copies of their folders, proves them, and compares the stars with what is
// expected. The model of the library is what a draft of its files is.
func TestExamples(t *testing.T) {
	examples, err := filepath.Abs("../../examples")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"library", "orchard", "clinic"} {
		t.Run(name, func(t *testing.T) {
			from, dir := filepath.Join(examples, name), t.TempDir()
			if err := os.CopyFS(dir, os.DirFS(from)); err != nil {
				t.Fatal(err)
			}
			if err := os.RemoveAll(filepath.Join(dir, "expected")); err != nil {
				t.Fatal(err)
			}
			if name == "library" {
				want, err := os.ReadFile(filepath.Join(dir, "ironmonger.yaml"))
				if err != nil || os.Remove(filepath.Join(dir, "ironmonger.yaml")) != nil {
					t.Fatal(err)
				}
				must(t, dir, "draft", ".")
				if got, err := os.ReadFile(filepath.Join(dir, "ironmonger.yaml")); err != nil || string(got) != string(want) {
					t.Errorf("%v: the draft is another than the model:\n%s", err, got)
				}
			}
			must(t, dir, "check")
			if name == "orchard" { // whose sources leave lines out and make rows of columns
				must(t, dir, "rehearse")
			}
			must(t, dir, "load")
			must(t, dir, "prove", "--against-sources")
			expected, err := fs.Glob(os.DirFS(from), "expected/*.csv")
			if err != nil || len(expected) < 2 {
				t.Fatal(expected, err)
			}
			for _, file := range expected {
				want, err := os.ReadFile(filepath.Join(from, file))
				if err != nil {
					t.Fatal(err)
				}
				kind, table, _ := strings.Cut(strings.TrimSuffix(filepath.Base(file), ".csv"), "_")
				got := must(t, dir, "show", kind, table, "--natural", "--rows", "100000", "--format", "csv")
				if got = withoutRuns(t, got); got == string(want) {
					continue
				}
				if t.Errorf("%s is another than expected:\n%s", file, got); os.Getenv("IRONMONGER_UPDATE") != "" {
					if err := os.WriteFile(filepath.Join(from, file), []byte(got), 0o644); err != nil {
						t.Fatal(err)
					}
				}
			}
		})
	}
}

// withoutRuns takes the columns of the ledger out of CSV.
func withoutRuns(t *testing.T, text string) string {
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	w := csv.NewWriter(&b)
	for _, row := range rows {
		var kept []string
		for k, name := range rows[0] {
			if !strings.HasPrefix(name, "load_") {
				kept = append(kept, row[k])
			}
		}
		if err := w.Write(kept); err != nil {
			t.Fatal(err)
		}
	}
	w.Flush()
	return b.String()
}
