package main

import (
	"strings"
	"testing"

	"ironmonger/internal/startest"
)

// status runs the program and wants it to end with a status, and to say what is wanted on either output.
func status(t *testing.T, dir string, want int, call string, says ...string) string {
	t.Helper()
	out, errs, got := run(t, dir, strings.Fields(call)...)
	if got != want {
		t.Errorf("%s: status %d, not %d\n%s%s", call, got, want, out, errs)
	}
	for _, s := range says {
		if !strings.Contains(words(out+errs), s) {
			t.Errorf("%s doesn't say %q:\n%s%s", call, s, out, errs)
		}
	}
	return out
}

// TestFolders: what a list reads under one name in several folders is told apart, whoever reads it a second time; a
// table that is asked with several arguments, too.
func TestFolders(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "list.csv", "site,folder\nN,a\nS,b\n")
	startest.Write(t, dir, "a/rows.csv", "no,bee\n1,x\n2,y\n")
	startest.Write(t, dir, "b/rows.csv", "no,bee\n3,z\n4,w\n")
	startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
sources:
  list: {read: list.csv, columns: {site: text, folder: text}}
  rows:
    driven_by: list
    within: "{folder}"
    read: rows.csv
    columns: {no: integer, bee: text}
dimensions:
  bee: {from: rows, natural_key: bee}
facts:
  visit: {from: rows, grain: no, keys: {bee: bee}, degenerate: site}
`)
	must(t, dir, "load")
	rows := must(t, dir, "show", "visit", "--natural", "--columns", "no,bee_key,site", "--format", "csv")
	if want := "no,bee_key,site\n1,x,N\n2,y,N\n3,z,S\n4,w,S\n"; rows != want {
		t.Errorf("%s\nwant\n%s", rows, want)
	}
	status(t, dir, 0, "prove --against-sources")
}

// TestTampered: a table that is changed by hand stays known as changed, however often it is loaded over, until somebody
// says that it is right so; and from then on the account holds again.
func TestTampered(t *testing.T) {
	warehouses(t, "60", func(t *testing.T, demo string, empty func()) {
		empty()
		must(t, demo, "load")
		startest.Run(t, demo, "UPDATE fact_passage SET toll = toll + 1 WHERE passage_no = 7", "DELETE FROM fact_passage WHERE passage_no = 9",
			"DELETE FROM dim_keeper WHERE keeper_key = (SELECT max(keeper_key) FROM dim_keeper WHERE keeper_key NOT IN (SELECT keeper_key FROM fact_passage UNION SELECT keeper_key FROM fact_work))")
		for range 2 {
			status(t, demo, 3, "load", "the total of fact_passage.toll is", "dimension keeper: dim_keeper has", "something else than a load has changed these tables")
			status(t, demo, 3, "prove", "account broken", "the total of fact_passage.toll is", "ironmonger load --accept passage")
			status(t, demo, 3, "prove --against-sources", "passage_no 7", "its row at the source has other values")
		}
		status(t, demo, 2, "load --accept passages", "there is no dimension or fact of that name (did you mean passage?)")
		status(t, demo, 3, "load --accept passage", "accepted as it stands by process")
		status(t, demo, 0, "load --accept keeper")
		status(t, demo, 0, "load")
		status(t, demo, 0, "prove --checks account")
		if out := must(t, demo, "runs", "4", "--format", "json"); !strings.Contains(out, `"accepted"`) || !strings.Contains(out, `"holder": "process `) {
			t.Error(out)
		}
		status(t, demo, 3, "prove --against-sources", "passage_no 7", "its row at the source has other values")
	})
}
