package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"ironmonger/internal/startest"
)

// TestQuarter plays the example of a quarter as its README says it, and looks at what stands after each day.
func TestQuarter(t *testing.T) {
	dir := t.TempDir()
	must(t, dir, "demo", "--passages", "60", "canal")
	quarter := filepath.Join(dir, "canal", "quarter")
	stands := func() string {
		t.Helper()
		rows, fees := 0, 0.0
		star := startest.Star(t, quarter)
		for _, f := range star["fact_mooring"] {
			fee, err := strconv.ParseFloat(f["fee"], 64)
			if err != nil {
				t.Fatal(err)
			}
			rows, fees = rows+1, fees+fee
		}
		repair := ""
		for _, f := range star["fact_repair"] {
			if f["repair_no"] == "2" {
				repair = strings.Join(
					[]string{f["inspected_on"], f["settled_on"], f["cost"], f["waited"], f["worked"], f["unpaid"]},
					" ",
				)
			}
		}
		return fmt.Sprintf(
			"%d moorings, %d removed, %.2f; repair 2: %s",
			rows,
			len(star["fact_mooring_removed"]),
			fees,
			repair,
		)
	}
	days := []string{
		"14 moorings, 0 removed, 913.50; repair 2: 2025-01-20  300.00 6  ",
		"27 moorings, 0 removed, 1776.50; repair 2: 2025-01-20  815.50 6 52.500000 ",
		"25 moorings, 2 removed, 1681.50; repair 2: 2025-01-20  815.50 6 52.500000 ",
		"40 moorings, 2 removed, 107931.50; repair 2: 2025-01-21 2025-03-12 815.50 7 52.500000 35",
		"40 moorings, 2 removed, 2744.00; repair 2: 2025-01-21 2025-03-12 815.50 7 52.500000 35",
	}
	for n, want := range days {
		if out, err := exec.Command("cp", "-r", filepath.Join(quarter, "arrivals", strconv.Itoa(n+1))+"/.", quarter).CombinedOutput(); err != nil {
			t.Fatal(err, string(out))
		}
		must(t, quarter, "load")
		if got := stands(); got != want {
			t.Errorf("day %d: %s", n+1, got)
		}
		must(t, quarter, "prove", "--against-sources")
		if n == 3 {
			must(t, quarter, "undo", "--dry-run")
			if out := must(t, quarter, "undo"); !strings.Contains(
				strings.Join(strings.Fields(out), " "),
				"fact_mooring 15 – – fact_repair – 3 –",
			) {
				t.Errorf("undo says\n%s", out)
			}
			if got := stands(); got != days[2] {
				t.Errorf("taken back: %s", got)
			}
		}
	}
	if out := must(t, quarter, "runs"); !strings.Contains(out, "undone") || !strings.Contains(out, "took back run 4") {
		t.Errorf("runs says\n%s", out)
	}
	for args, says := range map[string]string{
		"undo 4":  "run 4 has been taken back already",
		"undo 99": "there is no run 99",
		"undo x":  "undo: x is not a number of a run",
	} {
		if _, stderr, status := run(t, quarter, strings.Fields(args)...); status != 2 ||
			!strings.Contains(stderr, says) {
			t.Errorf("%s: status %d, %s", args, status, stderr)
		}
	}
}

const changingModel = `warehouse:
  %s
undo: 9 runs
limits: {gone: none, set_aside: none, unmatched: none}
sources:
  visits:
    read: v/*.csv
    columns: {no: integer, boat: text, entered: date, left: date, toll: "decimal(9,2)", told: integer}
  pilots: {read: pilots.csv, columns: {pilot: text}}
  trips: {read: p/*.csv, columns: {no: integer, pilot: text, fee: "decimal(9,2)"}}
dimensions:
  date: {calendar: {from: 2024-01-01, to: data, at_most: 2030-12-31, fiscal_year: {starts: april, named_by: start}}}
  pilot: {from: pilots, natural_key: pilot}
  boat: {from: visits, natural_key: boat, type_1: []}
facts:
  visit:
    from: visits
    grain: no
    keys: {boat: {by: boat, unmatched: infer}, left: {dimension: date, by: left}}
    measures: toll
    repeated: complete
    complete: [entered, left, toll]
    newer_by: told
    lags: {stay: {from: entered, to: left}}
  passage:
    from: visits
    grain: no
    keys: {boat: boat}
    measures: toll
    repeated: replace
    delivers: files
    gone: remove
  booking:
    from: visits
    grain: no
    keys: {boat: boat}
    measures: toll
    repeated: reverse
    booked_on: entered
  pilotage:
    from: trips
    grain: no
    keys: {pilot: {by: pilot, unmatched: set_aside}}
    measures: fee
`

// TestKillUndo kills loads that complete, replace, reverse and remove facts, let a calendar grow, and take up rows that
// were set aside and whose file is archived; and it kills what takes them back, at many moments. Each is run again: the
// star is that of a load, and of an undo, that nobody disturbed.
func TestKillUndo(t *testing.T) {
	moments := 2
	if n, err := strconv.Atoi(os.Getenv("IRONMONGER_KILLS")); err == nil {
		moments = n / 2
	}
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) { killUndo(t, kind, moments) })
	}
}

func killUndo(t *testing.T, kind string, moments int) {
	dir := t.TempDir()
	visits := func(from, to, told int) string {
		text := "no,boat,entered,left,toll,told\n"
		for no := from; no < to; no++ {
			left := ""
			if told > 1 {
				left = fmt.Sprintf("2026-03-%02d", 1+no%28)
			}
			text += fmt.Sprintf("%d,B%d,2025-02-%02d,%s,%d.00,%d\n", no, no%50, 1+no%28, left, no%100+told, told)
		}
		return text
	}
	base := func() {
		at := "sqlite: star.db"
		if kind == "postgres" {
			connection, schema := startest.Postgres(t)
			at = "postgres: " + connection + "\n  schema: " + schema
		}
		for _, name := range []string{"star.db", "star.db-wal", "star.db-shm"} {
			os.Remove(filepath.Join(dir, name))
		}
		startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(changingModel, at))
		startest.Write(t, dir, "v/1.csv", visits(0, 4000, 1))
		startest.Write(t, dir, "pilots.csv", "pilot\n")
		startest.Write(t, dir, "p/0.csv", "no,pilot,fee\n")
		trips := "no,pilot,fee\n"
		for no := range 1000 {
			trips += fmt.Sprintf("%d,P%d,%d.50\n", no, no%7, no%9)
		}
		startest.Write(t, dir, "p/1.csv", trips)
		os.Remove(filepath.Join(dir, "v", "2.csv"))
		must(t, dir, "load")
	}
	change := func() {
		startest.Write(t, dir, "v/1.csv", visits(700, 4000, 1))
		startest.Write(t, dir, "v/2.csv", visits(2000, 4700, 2))
		startest.Write(t, dir, "pilots.csv", "pilot\nP1\nP2\nP3\nP5\n")
		os.Remove(filepath.Join(dir, "p", "1.csv"))
	}
	base()
	before := startest.Dump(t, dir)
	change()
	loads := timed(func() { must(t, dir, "load") })
	after := startest.Dump(t, dir, "load_run", "removed_run")
	undoes := timed(func() { must(t, dir, "undo") })
	if got := startest.Dump(t, dir); got != before {
		t.Fatalf("taken back:\n%s", startest.Difference(before, got))
	}
	killed := 0
	for n := range moments {
		base()
		change()
		killed += strike(t, dir, loads*time.Duration(n+1)/time.Duration(moments+1), "load")
		must(t, dir, "load")
		if got := startest.Dump(t, dir, "load_run", "removed_run"); got != after {
			t.Fatalf("a load killed at moment %d, and run again:\n%s", n, startest.Difference(after, got))
		}
		killed += strike(t, dir, undoes*time.Duration(n+1)/time.Duration(moments+1), "undo", "2")
		for tries := 0; !strings.Contains(must(t, dir, "runs"), "took back"); tries++ {
			// The server may still be busy with what the killed process asked of it, and even commit it.
			if _, stderr, status := run(t, dir, "undo", "2"); status != 0 && tries == 20 {
				t.Fatalf("undo again: status %d, %s", status, stderr)
			}
			time.Sleep(50 * time.Millisecond)
		}
		if got := startest.Dump(t, dir); got != before {
			t.Fatalf("an undo killed at moment %d, and run again:\n%s", n, startest.Difference(before, got))
		}
	}
	base()
	change()
	must(t, dir, "load")
	var found []string
	rebuilds := loads
	for n := range moments { // a rebuild that is killed has done all or nothing
		killed += strike(t, dir, rebuilds*time.Duration(n+1)/time.Duration(moments+1), "rebuild", "--without-them")
		must(t, dir, "runs")
		found = append(found, startest.Dump(t, dir, "load_run", "removed_run"))
		if n == 0 {
			rebuilds = timed(func() { must(t, dir, "rebuild", "--without-them") })
		}
	}
	must(t, dir, "rebuild")
	anew := startest.Dump(t, dir, "load_run", "removed_run")
	for n, got := range found {
		if got != anew && (n > 0 || got != after) {
			t.Fatalf("a rebuild killed at moment %d:\n%s", n, startest.Difference(anew, got))
		}
	}
	must(t, dir, "prove", "--against-sources")
	t.Logf("%d of %d commands were killed in time", killed, 3*moments)
	if killed < moments/2 {
		t.Errorf("only %d of %d commands were killed in time", killed, 2*moments)
	}
}

func timed(f func()) time.Duration {
	begin := time.Now()
	f()
	return time.Since(begin)
}

// strike starts a command, kills it after a while, and returns 1 if it was killed before it ended.
func strike(t *testing.T, dir string, after time.Duration, args ...string) int {
	t.Helper()
	cmd := exec.CommandContext(context.Background(), program, args...)
	cmd.Dir = dir
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(after)
	cmd.Process.Signal(syscall.SIGKILL)
	if cmd.Wait() != nil {
		return 1
	}
	return 0
}

// TestUndoModels: a run to which the facts of another model point is taken back after them, and a load of the other
// model does not make the ledger forget what this one has told it.
func TestUndoModels(t *testing.T) {
	dir := t.TempDir()
	must(t, dir, "demo", "--passages", "300", "canal")
	canal := filepath.Join(dir, "canal")
	must(t, canal, "load", "--model", "complaints.yaml")
	_, stderr, status := run(t, canal, "undo", "1")
	const want = "run 1 cannot be taken back: fact_complaint, which another model loads, points to members of dim_vessel that it made"
	if status != 1 || !strings.Contains(stderr, want) {
		t.Errorf("status %d: %s", status, stderr)
	}
	must(t, canal, "undo", "--model", "complaints.yaml")
	must(t, canal, "undo", "1")
	if left := startest.Dump(t, canal); left != "" {
		t.Errorf("taken back, the star has\n%s", left)
	}
	must(t, canal, "load")
	must(t, canal, "load", "--model", "complaints.yaml")
	for _, model := range []string{"ironmonger.yaml", "complaints.yaml"} {
		must(t, canal, "prove", "--against-sources", "--model", model)
	}
}

// TestUndoAfterOthers: a run is not taken back if another model has written to its dimension since, even if nobody
// keeps what that one changed.
func TestUndoAfterOthers(t *testing.T) {
	dir := t.TempDir()
	for name, undo := range map[string]string{"a": "2 runs", "b": "none"} {
		startest.Write(t, dir, name+".yaml", "warehouse: {sqlite: star.db}\nundo: "+undo+`
sources:
  s: {read: s.csv, columns: {no: integer, boat: text, name: text}}
dimensions:
  boat: {from: s, natural_key: boat, type_1: name}
facts:
  `+name+": {from: s, grain: no, keys: {boat: boat}}\n")
	}
	for n, model := range []string{"a", "a", "b"} {
		startest.Write(t, dir, "s.csv", fmt.Sprintf("no,boat,name\n1,A,Heron %d\n", n))
		must(t, dir, "load", "--model", model+".yaml")
	}
	for model, want := range map[string]string{
		"a": "run 3 of b.yaml has written to dim_boat since: take it back first",
		"b": "run 3 cannot be taken back: what it changed is not kept any more",
	} {
		if _, stderr, status := run(t, dir, "undo", "--model", model+".yaml"); status != 2 || !strings.Contains(stderr, want) {
			t.Errorf("%s: status %d, %s", model, status, stderr)
		}
	}
}
