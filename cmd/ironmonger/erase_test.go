package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestErase blanks a keeper of the example by the program, and sees that the database's file does not have the
// name, that the next load does not bring it back, and that another department's model still finds its keys.
func TestErase(t *testing.T) {
	demo := filepath.Join(t.TempDir(), "canal")
	must(t, ".", "demo", demo)
	must(t, demo, "load", "--model", "complaints.yaml")
	must(t, demo, "rehearse", "--model", "complaints.yaml") // what is looked up in is lent for it
	if out := must(t, demo, "trace", "keeper", "007"); !strings.Contains(out, "Rudder, Quiet") {
		t.Fatal("another keeper than this test thinks:", out)
	}
	var found struct {
		Keys []int64
		Dry  bool `json:"dry_run"`
	}
	decode(t, must(t, demo, "erase", "--dry-run", "--format", "json", "keeper", "007"), &found)
	if len(found.Keys) != 1 || !found.Dry {
		t.Errorf("%+v", found)
	}
	if out := must(t, demo, "erase", "keeper", "007"); !strings.Contains(
		out,
		"keeper ‹007›: name blanked in 1 row\n",
	) {
		t.Error(out)
	}
	for range 2 {
		if out := must(t, demo, "show", "dimension", "keeper", "--where", "keeper_no = '007'", "--format", "csv"); strings.Contains(
			out,
			"Rudder, Quiet",
		) ||
			!strings.Contains(out, "\n7,007,,C,") {
			t.Error(out)
		}
		must(t, demo, "load")
		must(t, demo, "load", "--model", "complaints.yaml")
	}
	must(t, demo, "prove", "--against-sources")
	must(t, demo, "prove", "--model", "complaints.yaml", "--against-sources")
	for _, call := range [][]string{{"erase", "keeper", "999"}, {"erase", "keeper"}, {"erase", "lock", "L01"}, {"erase", "keper", "007"}, {"erase", "keeper", "007", "008"}} {
		if out, _, status := run(t, demo, call...); status != 2 || out != "" {
			t.Errorf("%v: status %d, %s", call, status, out)
		}
	}
	if err := os.Remove(filepath.Join(demo, "canal.db")); err != nil {
		t.Fatal(err)
	}
	if _, told, status := run(t, demo, "erase", "keeper", "007"); status != 2 ||
		!strings.Contains(told, "nothing has been loaded yet") {
		t.Errorf("status %d, %s", status, told)
	}
}
