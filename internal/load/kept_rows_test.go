package load_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

const keptModel = `warehouse: {%s}
limits: {unmatched: none, set_aside: none, gone: none}
sources:
  tariffs: {read: tariffs.csv, columns: {class: text, rate: "decimal(5,2)"}}
  passages:
    read: p/*
    %s
    columns: {no: integer, boat: text, lock: text, day: date, class: text, toll: "decimal(9,2)", told: integer, note: text}
    %s
  boats: {read: boats.csv, columns: {boat: text, kind: text, since: date}}
  locks: {read: locks.csv, columns: {lock: text}}
dimensions:
  boat: {from: boats, natural_key: boat, type_2: kind, effective: since, first_version: from_effective}
  lock: {from: locks, natural_key: lock}
  date: {calendar: {from: 2024-01-01, to: 2024-01-04}}
facts:
  passage:
    from: passages
    grain: no
    keys:
      boat: {by: boat, as_of: day, unmatched: set_aside, outside: set_aside}
      lock: lock
      day: {dimension: date, by: day, unmatched: set_aside}
    measures: [toll, told]
    degenerate: note
    repeated: %s
`

// TestKeptRows holds facts of which files go away against ones whose files all stay: rows that were set aside pass in
// the same load, when a boat comes, a tariff, or a day of the calendar, or when the model reads them otherwise. What
// waits in the end is the same, too.
func TestKeptRows(t *testing.T) {
	passed := 0
	manyCases(t, 24, func(t *testing.T, seed uint64) { passed += keptCase(t, seed) })
	if passed < 20 && os.Getenv("IRONMONGER_HUNT") == "" {
		t.Errorf("%d loads read rows from the ledger", passed)
	}
}

func keptCase(t *testing.T, seed uint64) (passed int) {
	settled(t, seed)
	r := rand.New(rand.NewPCG(seed, 41))
	rule := pick(r, "set_aside", "set_aside", "replace", "replace\n    newer_by: told", "reverse", "keep",
		"complete\n    complete: [toll, note, lock, day]\n    newer_by: told", "complete\n    complete: [toll, told, note, lock, day]")
	shape := ""
	if r.IntN(3) == 0 {
		shape = "join: {tariffs: {by: class, bring: rate}}"
	}
	json := r.IntN(4) == 0
	stays, goes := t.TempDir(), t.TempDir()
	database := [2]string{"sqlite: star.db", "sqlite: star.db"}
	if seed%6 == 5 {
		for k := range database {
			connection, schema := startest.Postgres(t)
			database[k] = fmt.Sprintf("postgres: %q, schema: %s", connection, schema)
		}
	}
	story := ""
	write := func(name, text string) {
		story += name + "\n" + text
		for k, dir := range []string{stays, goes} {
			startest.Write(t, dir, name, strings.Replace(text, "DATABASE", database[k], 1))
		}
	}
	boats, locks, tariffs := "boat,kind,since\n", "lock\nL1\n", "class,rate\nI,1.00\n"
	reading := ""
	model := func() {
		format := `csv: {separator: ";", quote: "'"` + reading + `}`
		if json {
			format = "format: json_lines"
		}
		write("ironmonger.yaml", fmt.Sprintf(keptModel, "DATABASE", format, shape, rule))
	}
	model()
	write("p/0", keptRows(r, json, 0))
	ways := []load.Options{{Workers: 2, Piece: 64}, {Workers: 2, Opening: load.ByKeys}, {Workers: 1, Opening: load.Spilled}}
	for n := range 6 {
		for _, path := range glob2(goes) {
			if r.IntN(2) == 0 && filepath.Base(path) != "0" {
				story += "archive " + filepath.Base(path) + "\n"
				os.Remove(path)
			}
		}
		for k := range r.IntN(3) {
			write(fmt.Sprintf("p/%d-%d-%d", r.IntN(3), n, k), keptRows(r, json, 1+r.IntN(4)))
		}
		switch r.IntN(7) {
		case 0, 1:
			boats += fmt.Sprintf("%s,x,2024-01-0%d\n", pick(r, "A", "B", "C", "D"), 1+r.IntN(3))
		case 2:
			tariffs = "class,rate\nI,1.00\nII,2.00\n"
		case 3:
			reading = `, nulls: [much]`
			model()
		case 4:
			if !strings.Contains(shape, "leave_out") { // rows that wait are not meant after all
				shape = strings.TrimSpace("leave_out: {late: note like 'late%'}\n    " + shape)
				model()
			}
		}
		write("boats.csv", boats)
		write("locks.csv", locks)
		write("tariffs.csv", tariffs)
		story += "load\n"
		for again := range 1 + r.IntN(2) {
			for _, dir := range []string{stays, goes} {
				run, err := startest.Load(t, dir, ways[(int(seed)+n+again)%len(ways)])
				if err != nil {
					t.Fatal(err, story)
				}
				if strings.Contains(fmt.Sprint(run.Steps[len(run.Steps)-1].Figures.Notes), "from the ledger") {
					passed++
					if again > 0 {
						t.Errorf("rows pass once more, and nothing has changed\n%s", story)
					}
				}
			}
			if a, b := starOf(t, stays), starOf(t, goes); a != b {
				t.Fatalf("%s: rows of files that are gone are treated otherwise:\n%s\n%s", rule, startest.Difference(a, b), story)
			}
			waits := waitingIn(t, stays)
			for _, row := range waitingIn(t, goes) { // some do not, because another row of their grain was loaded
				if !slices.Contains(waits, row) {
					t.Fatalf("%s: a row waits that is in the star where its file is: %s\n%s", rule, row, story)
				}
			}
		}
	}
	if !strings.Contains(shape, "leave_out") && !startest.Proved(t, goes) { // facts that are left out now stand without a source
		t.Error(story)
	}
	return passed
}

// keptRows makes up rows of passages, some of which have to wait.
func keptRows(r *rand.Rand, json bool, n int) string {
	var b strings.Builder
	if !json {
		b.WriteString("no;boat;lock;day;class;toll;told;note\n")
	}
	for range n {
		toll := pick(r, "1.00", "1.00", "2.00", "3.50", "much")
		no, boat, day, class, told := r.IntN(9), pick(r, "A", "B", "C", "D"), 1+r.IntN(4), pick(r, "I", "I", "II"), r.IntN(3)
		lock, note := pick(r, "L1", "L2", ""), pick(r, "", "late; 'tis", "two\nlines")
		if json {
			fmt.Fprintf(&b, `{"no": %d, "boat": %q, "lock": %q, "day": "2024-01-0%d", "class": %q, "toll": %q, "told": %d, "note": %q}`+"\n",
				no, boat, lock, day, class, toll, told, note)
			continue
		}
		fmt.Fprintf(&b, "%d;%s;%s;2024-01-0%d;%s;%s;%d;'%s'\n", no, boat, lock, day, class, toll, told, strings.ReplaceAll(note, "'", "''"))
	}
	return b.String()
}

func glob2(dir string) []string {
	files, _ := filepath.Glob(dir + "/p/*")
	return files
}

func starOf(t *testing.T, dir string) string {
	return startest.Dump(t, dir, "load_run", "load_line", "booked_on")
}

// waitingIn lists the rows that wait in a star.
func waitingIn(t *testing.T, dir string) []string {
	wh := startest.Open(t, dir)
	defer wh.Close()
	var rows []string
	err := ledger.EachAside(context.Background(), wh, ledger.Waiting, func(a *ledger.Aside, _ int64) error {
		rows = append(rows, fmt.Sprint(a.File, " ", a.Line, " ", a.Content, ": ", a.Reasons()))
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return rows
}
