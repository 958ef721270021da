package load_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// heldModel is a fact of files that may not be complete, or not be readable at all.
const heldModel = `
warehouse: {sqlite: star.db}
sources:
  trips: {read: "in/*.csv", %s, columns: {no: integer, boat: text, fare: "decimal(7,2)"}}
  boats: {read: boats.csv, columns: {code: text}}
dimensions:
  boat: {from: boats, natural_key: code}
facts:
  trip: {from: trips, grain: no, keys: {boat: {by: boat, unmatched: infer}}, measures: fare}
`

// TestHeld leaves files for a later load: those that were written just now, that have no companion, or that cannot be
// opened. Each is told in every load until it is read, and what stands of it stays.
func TestHeld(t *testing.T) {
	loaded := func(t *testing.T, dir string, rows int, notes ...string) {
		t.Helper()
		run, err := startest.Load(t, dir, load.Options{})
		if err != nil {
			t.Fatal(err)
		}
		step := run.Steps[len(run.Steps)-1]
		said := strings.Join(step.Figures.Notes, "\n")
		for _, note := range notes {
			if !strings.Contains(said, note) {
				t.Errorf("%q is not said in %q", note, said)
			}
		}
		if there := len(startest.Star(t, dir)["fact_trip"]); len(notes) == 0 && said != "" || there != rows || step.State != ledger.Done {
			t.Errorf("%s, %d rows, want %d: %q", step.State, there, rows, said)
		}
		if !startest.Proved(t, dir) {
			t.Error("the star is broken")
		}
	}
	old := time.Now().Add(-time.Hour)
	put := func(t *testing.T, dir, name, text string, at time.Time) {
		startest.Write(t, dir, name, text)
		if err := os.Chtimes(filepath.Join(dir, name), at, at); err != nil {
			t.Fatal(err)
		}
	}
	folder := func(t *testing.T) string {
		dir := t.TempDir()
		startest.Write(t, dir, "boats.csv", "code\nx\n")
		return dir
	}
	model := func(key string) string { return strings.Replace(heldModel, "%s", key, 1) }

	t.Run("settle", func(t *testing.T) {
		dir := folder(t)
		startest.Write(t, dir, "ironmonger.yaml", model("settle: 5 min"))
		put(t, dir, "in/a.csv", "no,boat,fare\n1,x,2.00\n", old)
		put(t, dir, "in/b.csv", "no,boat,fare\n2,x,3.00\n3,y,", time.Now())
		loaded(t, dir, 1, "in/b.csv is left for a later load: it was written at")
		loaded(t, dir, 1, "in/b.csv is left for a later load: it was written at")
		put(t, dir, "in/b.csv", "no,boat,fare\n2,x,3.00\n3,y,4.00\n", old)
		loaded(t, dir, 3)
		put(t, dir, "in/a.csv", "no,boat,fare\n1,x,", time.Now()) // it is written anew
		loaded(t, dir, 3, "in/a.csv is left for a later load")
		put(t, dir, "in/a.csv", "no,boat,fare\n1,x,2.00\n4,z,1.00\n", old)
		loaded(t, dir, 4)
	})
	t.Run("companion", func(t *testing.T) {
		dir := folder(t)
		startest.Write(t, dir, "ironmonger.yaml", strings.Replace(model("companion: .done"), "*.csv", "*", 1))
		put(t, dir, "in/a.csv", "no,boat,fare\n1,x,2.00\n", old)
		put(t, dir, "in/b.csv", "no,boat,fare\n2,x,3.00\n", old)
		put(t, dir, "in/a.csv.done", "", old)
		loaded(t, dir, 1, "in/b.csv is left for a later load: there is no b.csv.done yet")
		put(t, dir, "in/b.done", "", old)
		loaded(t, dir, 2)
	})
	t.Run("pass over", func(t *testing.T) {
		dir := folder(t)
		startest.Write(t, dir, "ironmonger.yaml", model("unreadable: pass_over"))
		put(t, dir, "in/a.csv", "no,boat,fare\n1,x,2.00\n", old)
		put(t, dir, "in/b.csv", "", old)
		put(t, dir, "in/c.csv", "number,boat\n5,y\n", old)
		loaded(t, dir, 1, "in/b.csv is left for a later load: the file is empty", "in/c.csv is left for a later load: the header has no column no")
		loaded(t, dir, 1, "in/b.csv is left", "in/c.csv is left")
		put(t, dir, "in/b.csv", "no,boat,fare\n2,x,3.00\n", old)
		loaded(t, dir, 2, "in/c.csv is left")
		put(t, dir, "in/c.csv", "no,boat,fare\n5,y,1.00\n", old)
		loaded(t, dir, 3)
	})
	t.Run("a delivery of all", func(t *testing.T) {
		dir := folder(t)
		startest.Write(t, dir, "ironmonger.yaml", strings.Replace(model("settle: 5 min"), "measures:", "delivers: all, gone: remove, measures:", 1))
		put(t, dir, "in/a.csv", "no,boat,fare\n1,x,2.00\n", old)
		put(t, dir, "in/b.csv", "no,boat,fare\n2,x,3.00\n", time.Now())
		run, err := startest.Load(t, dir, load.Options{})
		if step := run.Steps[len(run.Steps)-1]; err == nil || !strings.Contains(step.Message, "in/b.csv cannot be left for a later load: a delivery of all needs all of its files") {
			t.Error(err, step.Message)
		}
	})
}
