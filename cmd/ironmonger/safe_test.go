package main

import (
	"fmt"
	"strings"
	"testing"

	"ironmonger/internal/ledger"
	"ironmonger/internal/startest"
)

// TestGuard: what a spreadsheet would take for a formula is guarded in CSV when asked for, and the loader gives back
// what it was.
func TestGuard(t *testing.T) {
	dir := t.TempDir()
	names := "code,name\n"
	for i, v := range []string{"=1+1", "+a", "-12.50", "-x", "@sum", "'quoted", "''", "plain", "\tb", "\"a,b\""} {
		names += fmt.Sprintf("%d,%s\n", i, v)
	}
	startest.Write(t, dir, "names.csv", names)
	model := "warehouse:\n  sqlite: x.db\nsources:\n  names:\n    read: names.csv\n    columns:\n      code: integer\n      name: text\ndimensions:\n  thing:\n    from: names\n    natural_key: code\n"
	startest.Write(t, dir, "ironmonger.yaml", model)
	plain := must(t, dir, "show", "names", "--format", "csv")
	guarded := must(t, dir, "show", "names", "--format", "csv", "--guard")
	if want := "code,name\n0,'=1+1\n1,'+a\n2,-12.50\n3,'-x\n4,'@sum\n5,''quoted\n6,'''\n7,plain\n8,'\tb\n9,\"a,b\"\n"; guarded != want {
		t.Errorf("%q\nwant\n%q", guarded, want)
	}
	startest.Write(t, dir, "names.csv", guarded)
	startest.Write(
		t,
		dir,
		"ironmonger.yaml",
		strings.Replace(model, "    columns:", "    csv:\n      guard: apostrophe\n    columns:", 1),
	)
	if again := must(t, dir, "show", "names", "--format", "csv"); again != plain {
		t.Errorf("%q\nwas\n%q", again, plain)
	}
}

// TestSecrets: a password that the environment gives is in no output and not in the warehouse.
func TestSecrets(t *testing.T) {
	const password = "hush-4711"
	warehouses(t, "300", func(t *testing.T, demo string, empty func()) {
		empty()
		t.Setenv("PGPASSWORD", password)
		startest.Write(
			t,
			demo,
			"elsewhere.yaml",
			"warehouse:\n  postgres: host=/nowhere user=x dbname=x\ndimensions:\n  thing:\n    natural_key: code\n    rows:\n      - {code: a}\n",
		)
		var said string
		for _, call := range []string{"check", "load", "load --format json", "runs", "runs 1", "strays", "show passage", "ddl", "load --model elsewhere.yaml", "runs --model elsewhere.yaml"} {
			out, errs, _ := run(t, demo, strings.Fields(call)...)
			said += out + errs
		}
		wh := startest.Open(t, demo)
		defer wh.Close()
		for _, table := range ledger.Tables() {
			said += fmt.Sprint(startest.Table(t, wh, table))
		}
		for what, wanted := range map[string]bool{"run 1: done": true, "the warehouse cannot be opened": true, password: false} {
			if strings.Contains(said, what) != wanted {
				t.Errorf("%s: said %v", what, !wanted)
			}
		}
	})
}
