package load_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/startest"
	"ironmonger/internal/undo"
)

// moment is what a warehouse had after a run: the star, and what the ledger knows of it.
type moment struct {
	run  int64
	have string
}

// momentOf copies what is in the warehouse of the model in dir.
func momentOf(t *testing.T, dir string, run int64) moment {
	t.Helper()
	wh := startest.Open(t, dir)
	defer wh.Close()
	lines := []string{startest.Dump(t, dir)}
	for _, table := range ledger.Tables() {
		if ledger.Untouched(table.Name) {
			continue
		}
		var rows []string
		for _, row := range startest.Table(t, wh, table) {
			rows = append(rows, fmt.Sprint(table.Name, ": ", row))
		}
		slices.Sort(rows)
		lines = append(lines, rows...)
	}
	return moment{run, strings.Join(lines, "\n")}
}

// takeBack takes runs back in several goes, from the last moment to the first, and compares what is there with what was
// there then.
func takeBack(t *testing.T, dir string, moments []moment, pick func(n int) int) {
	t.Helper()
	for len(moments) > 1 {
		n := 1 + pick(len(moments)-1)
		to := moments[len(moments)-1-n]
		from := moments[len(moments)-n].run
		moments = moments[:len(moments)-n]
		report := undoFrom(t, dir, from)
		if now := momentOf(t, dir, 0); now.have != to.have {
			t.Fatalf(
				"run %d and %d after it taken back (%+v):\n%s",
				from,
				n-1,
				report.Undone,
				startest.Difference(to.have, now.have),
			)
		}
	}
}

func undoFrom(t *testing.T, dir string, run int64) *undo.Report {
	t.Helper()
	wh := startest.Open(t, dir)
	defer wh.Close()
	report, err := undo.Take(
		t.Context(),
		wh,
		startest.Model(t, dir),
		undo.Options{From: run, Program: "test", Holder: "test"},
	)
	if err != nil {
		t.Fatalf("from run %d: %v", run, err)
	}
	return report
}

// TestUndoRefused: runs whose changes are not kept any more, runs of other models, and runs on which other models have
// built are not taken back.
func TestUndoRefused(t *testing.T) {
	dir := t.TempDir()
	const model = `warehouse: {sqlite: star.db}
undo: 1 run
sources:
  s: {read: s.csv, columns: {no: integer, boat: text, toll: "decimal(9,2)"}}
dimensions:
  boat: {from: s, natural_key: boat, type_1: []}
facts:
  %s: {from: s, grain: no, keys: {boat: boat}, measures: toll}
`
	take := func(from int64) string {
		t.Helper()
		wh := startest.Open(t, dir)
		defer wh.Close()
		if _, err := undo.Take(t.Context(), wh, startest.Model(t, dir), undo.Options{From: from}); err != nil {
			return err.Error()
		}
		return "done"
	}
	write := func(fact, rows string) {
		startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(model, fact))
		startest.Write(t, dir, "s.csv", "no,boat,toll\n"+rows)
	}
	run := func() {
		t.Helper()
		if _, err := startest.Load(t, dir, load.Options{Again: true}); err != nil {
			t.Fatal(err)
		}
	}
	write("toll", "1,A,1.00\n")
	run()
	write("toll", "1,A,1.00\n2,B,2.00\n")
	run()
	for _, c := range []struct {
		from int64
		want string
	}{
		{1, "run 1 cannot be taken back: what it changed is not kept any more. undo in the model says for how many runs it is; " +
			"ironmonger erase forgets it, too"},
		{7, "there is no run 7"},
		{0, "done"},
		{2, "run 2 has been taken back already"},
	} {
		if got := take(c.from); got != c.want {
			t.Errorf("from %d: %s", c.from, got)
		}
	}
	run()
	rows := startest.Star(t, dir)["dim_boat"]
	if key := rows[len(rows)-1]["boat_key"]; key != "3" {
		t.Errorf("B has key %s; 2 was assigned before", key)
	}
}

// TestUndoRemoved: removed facts are kept in a table whose rows nothing identifies, and whose first column may be null.
func TestUndoRemoved(t *testing.T) {
	onBoth(t, func(t *testing.T, where string) {
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", where+`undo: 9 runs
limits: {gone: none}
sources: {s: {read: s.csv, columns: {boat: text, trip: text, note: text, toll: "decimal(9,2)"}}}
dimensions: {boat: {from: s, natural_key: boat}, trip: {from: s, natural_key: trip}}
facts:
  toll: {from: s, grain: [boat, trip], degenerate: note, keys: {boat: boat, trip: trip}, measures: toll, repeated: replace, delivers: all, gone: remove}
`)
		var moments []moment
		for _, rows := range []string{"A,1,,1\nA,2,x,2\nB,1,,3\nB,2,,4\n", "A,2,x,2\nB,2,,4\n", "B,2,,4\n", "A,1,,1\nB,2,y,4\n"} {
			startest.Write(t, dir, "s.csv", "boat,trip,note,toll\n"+rows)
			run, err := startest.Load(t, dir, load.Options{})
			if err != nil {
				t.Fatal(err)
			}
			moments = append(moments, momentOf(t, dir, run.ID))
		}
		takeBack(t, dir, moments, func(int) int { return 0 })
	})
}
