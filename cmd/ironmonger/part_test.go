package main

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/demo"
	"ironmonger/internal/startest"
)

// loaded calls load, and lists the steps that it did by their state.
func loaded(t *testing.T, dir string, want int, args ...string) map[string][]string {
	t.Helper()
	out, errs, status := run(t, dir, append([]string{"load", "--format", "json"}, args...)...)
	if status != want {
		t.Fatalf("load %v ends with %d, want %d: %s", args, status, want, errs)
	}
	var entry struct {
		Steps []struct{ Step, State string }
	}
	if out != "" {
		decode(t, out, &entry)
	}
	steps := map[string][]string{}
	for _, s := range entry.Steps {
		steps[s.State] = append(steps[s.State], s.Step)
	}
	return steps
}

// TestParts: the parts of a star that are loaded one after the other are the star that is loaded at once, what failed
// is done again without the rest, and a part does not ask for files of others.
func TestParts(t *testing.T) {
	whole, parts := t.TempDir(), t.TempDir()
	for _, dir := range []string{whole, parts} {
		if err := demo.Write(dir, 200); err != nil {
			t.Fatal(err)
		}
		model := readFile(t, dir, "ironmonger.yaml")
		startest.Write(t, dir, "ironmonger.yaml", strings.Replace(model, "    grain: [hazard, month]\n", "    grain: [hazard, month]\n    must_hold: {there are quotas: {at_least: 5, in_load: stop}}\n", 1))
	}
	loaded(t, whole, 0)
	quotas := readFile(t, parts, "quotas.csv")
	startest.Write(t, parts, "quotas.csv", strings.ReplaceAll(quotas, "2025", "no such year"))

	got := loaded(t, parts, 0, "passage")
	for _, name := range []string{"dimension vessel", "dimension vessel_profile", "dimension waterway", "fact passage"} {
		if !slices.Contains(got["done"], name) {
			t.Errorf("%s is not loaded with passage: %v", name, got)
		}
	}
	for _, name := range []string{"dimension office", "dimension hazard", "fact quota", "fact owed"} {
		if slices.Contains(got["done"], name) {
			t.Errorf("%s is loaded with passage", name)
		}
	}
	if got := loaded(t, parts, 0, "owed", "--alone"); len(got["done"]) != 1 {
		t.Errorf("owed alone is %v", got)
	}
	if got := loaded(t, parts, 1); !slices.Equal(got["failed"], []string{"fact quota"}) || len(got["done"]) != 20 {
		t.Errorf("all is %v", got)
	}
	startest.Write(t, parts, "quotas.csv", quotas)
	if got := loaded(t, parts, 0, "--failed"); !slices.Equal(got["done"], []string{"fact quota"}) || len(got) != 1 {
		t.Errorf("what failed is %v", got)
	}
	if got := loaded(t, parts, 0, "--failed"); len(got) != 0 {
		t.Errorf("nothing failed, and done is %v", got)
	}
	if a, b := startest.Dump(t, whole, "load_run", "load_line"), startest.Dump(t, parts, "load_run", "load_line"); a != b {
		t.Error(startest.Difference(a, b))
	}
	if got := loaded(t, parts, 0, "--without", "passage", "--without", "owed"); len(got["done"]) != 19 {
		t.Errorf("without two is %v", got)
	}
	must(t, parts, "prove", "--against-sources")

	for _, c := range []struct{ call, says string }{
		{"load passag", "did you mean passage?"},
		{"load --without passag", "did you mean passage?"},
		{"load --alone", "which dimension or fact"},
		{"load passage --without passage", "is to do without it"},
		{"load passage --failed", "no other names"},
	} {
		if out, errs, status := run(t, parts, strings.Fields(c.call)...); status != 2 || !strings.Contains(errs, c.says) {
			t.Errorf("%s: %d %s %s", c.call, status, out, errs)
		}
	}
	empty := t.TempDir()
	if err := demo.Write(empty, 60); err != nil {
		t.Fatal(err)
	}
	if _, errs, status := run(t, empty, "load", "passage", "--alone"); status != 1 || !strings.Contains(errs, "fact passage needs dimension date, which has never been loaded") {
		t.Errorf("%d %s", status, errs)
	}
}

func readFile(t *testing.T, dir, name string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// TestWarehouses: one model stands in two places, of which a call or the environment chooses one, and they know nothing
// of each other.
func TestWarehouses(t *testing.T) {
	dir := t.TempDir()
	if err := demo.Write(dir, 60); err != nil {
		t.Fatal(err)
	}
	model := readFile(t, dir, "ironmonger.yaml")
	startest.Write(t, dir, "ironmonger.yaml", strings.Replace(model, "warehouse:\n  sqlite: canal.db\n",
		"warehouse: development\nwarehouses:\n  development: {sqlite: canal.db}\n  production: {sqlite: live.db}\n", 1))
	loaded(t, dir, 0)
	status(t, dir, 2, "strays --warehouse production", "nothing has been loaded yet")
	loaded(t, dir, 0, "--warehouse", "production")
	t.Setenv("IRONMONGER_WAREHOUSE", "production")
	loaded(t, dir, 0, "waterway")
	if out := must(t, dir, "runs", "--format", "csv"); !strings.Contains(out, "\n2,dimension waterway,") {
		t.Error(out)
	}
	if out := must(t, dir, "runs", "--format", "csv", "--warehouse", "development"); strings.Contains(out, "\n2,") {
		t.Error(out)
	}
	status(t, dir, 2, "load --warehouse staging", "there is no warehouse staging (there is: development, production)")
	must(t, dir, "prove", "--against-sources")
	must(t, dir, "undo")
}
