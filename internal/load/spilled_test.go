package load_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

const spilledModel = `warehouse:
  %s
limits: {unmatched: none, set_aside: none}
sources:
  boats:
    read: boats/*.csv
    columns: {reg: text, no: integer, name: text, builder: text, class: text, basin: text, port: text, seq: integer, since: date}
  trips:
    read: trips/*.csv
    columns: {trip: integer, reg: text, no: integer, at: date, toll: "decimal(9,2)"}
dimensions:
  port:
    combinations: {port: text}
  boat:
    from: boats
    natural_key: [reg, no]
    surrogate_key: {start: 1000, step: 10}
    type_0: builder
    type_1: name
    type_2: class
    type_3: basin
    effective: since
    sequence: seq
    durable_key: kept
    first_version: from_effective
    keys:
      port: port
  hull:
    from: boats
    natural_key: [reg, no]
    type_1: [name, class]
facts:
  trip:
    from: trips
    grain: trip
    keys:
      boat:
        by: [reg, no]
        as_of: at
        holds: both
        outside: nearest
      last:
        dimension: boat
        by: [reg, no]
      hull: [reg, no]
    measures: toll
`

// spilledData writes what a load of spilledModel finds: boats that change, late and in any order, and trips, some of
// boats that nobody has told of yet.
func spilledData(t *testing.T, dir string, seed uint64, load, boats, rows, trips int) {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, uint64(load)))
	var b, f strings.Builder
	b.WriteString("reg,no,name,builder,class,basin,port,seq,since\n")
	for range rows {
		no := r.IntN(boats)
		fmt.Fprintf(
			&b,
			"%s,%d,Heron %d,B%d,%s,%s,Q%d,%d,2024-%02d-%02d\n",
			pick(r, "N", "S"),
			no,
			r.IntN(3),
			r.IntN(9),
			pick(r, "a", "b"),
			pick(r, "east", "west"),
			r.IntN(5),
			r.IntN(3),
			1+r.IntN(3*load),
			1+r.IntN(9),
		)
	}
	f.WriteString("trip,reg,no,at,toll\n")
	for n := range trips { // those of former loads come again
		r := rand.New(rand.NewPCG(seed, uint64(1000+n)))
		fmt.Fprintf(
			&f,
			"%d,%s,%d,2024-%02d-%02d,%d.25\n",
			n,
			pick(r, "N", "S"),
			r.IntN(boats+boats/20+1),
			1+r.IntN(9),
			1+r.IntN(9),
			n%100,
		)
	}
	startest.Write(t, dir, fmt.Sprintf("boats/%d.csv", load), b.String())
	startest.Write(t, dir, "trips/all.csv", f.String())
}

// TestSpilled loads dimensions that are kept on disk in parts, and such as only their rows are: star and figures
// must be those of a load that has all in memory, to the key. Nothing stays on the disk.
func TestSpilled(t *testing.T) {
	kept := t.TempDir()
	t.Setenv("TMPDIR", kept)
	ways := []load.Options{
		{Again: true},
		{Opening: load.Spilled, Workers: 2, Piece: 3000, Again: true},
		{Opening: load.Whole, Memory: 1 << 20, Workers: 3, Piece: 5000, Again: true},
	}
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			dirs := make([]string, len(ways))
			for i := range ways {
				dirs[i] = t.TempDir()
				warehouse := "sqlite: star.db"
				if kind == "postgres" {
					connection, schema := startest.Postgres(t)
					warehouse = "postgres: " + connection + "\n  schema: " + schema
				}
				startest.Write(t, dirs[i], "ironmonger.yaml", fmt.Sprintf(spilledModel, warehouse))
			}
			for n := 1; n <= 3; n++ {
				var dump, figures string
				for i, dir := range dirs {
					spilledData(t, dir, 5, n, 500, 1500, 800*n)
					run, err := startest.Load(t, dir, ways[i])
					if err != nil {
						t.Fatal(err, run.Steps[len(run.Steps)-1].Message)
					}
					told := ""
					for _, step := range run.Steps {
						step.Figures.Waited = 0 // it says nothing of rows
						text, _ := json.Marshal(step.Figures)
						told += step.Name + " " + string(text) + "\n"
					}
					is := startest.Dump(t, dir)
					if i == 0 {
						dump, figures = is, told
					}
					if is != dump {
						t.Fatalf("load %d, way %d: another star:\n%s", n, i, startest.Difference(dump, is))
					}
					if told != figures {
						t.Fatalf("load %d, way %d: other figures:\n%s", n, i, startest.Difference(figures, told))
					}
				}
			}
			if !startest.Proved(t, dirs[1]) {
				t.Error("the star is broken")
			}
		})
	}
	if left, err := os.ReadDir(kept); err != nil || len(left) > 0 {
		t.Error("temporary files stay:", left, err)
	}
}

// TestSpilledNowhere has no room on the disk either: the step fails and says so, and keeps nothing.
func TestSpilledNowhere(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(spilledModel, "sqlite: star.db"))
	spilledData(t, dir, 1, 1, 10, 30, 10)
	t.Setenv("TMPDIR", dir+"/nowhere")
	run, err := startest.Load(t, dir, load.Options{Opening: load.Spilled})
	if err == nil {
		t.Fatal("loaded")
	}
	for _, step := range run.Steps {
		if step.Name == "dimension boat" &&
			!strings.Contains(step.Message, "what memory has no room for cannot be kept on disk") {
			t.Error(step.Message)
		}
	}
	if star := startest.Star(t, dir); len(star["dim_boat"]) > 0 {
		t.Error(star["dim_boat"])
	}
}

// TestReadTwice changes a file once it has been looked through, and while it is read in earnest: the step fails,
// rather than give rows the keys of others or make a member twice.
func TestReadTwice(t *testing.T) {
	for _, opening := range []load.Opening{load.ByKeys, load.Spilled} {
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(spilledModel, "sqlite: star.db"))
		spilledData(t, dir, 1, 1, 50, 100, 2000)
		path := dir + "/trips/all.csv"
		changed := false
		run, err := startest.Load(
			t,
			dir,
			load.Options{Opening: opening, Workers: 1, Piece: 500, Watch: func(p load.Progress) {
				if p.Step != "fact trip" || p.Rows == 0 || changed {
					return
				}
				text, err := os.ReadFile(path)
				if err != nil {
					t.Error(err)
				}
				last := strings.LastIndex(strings.TrimSpace(string(text)), "\n") + 1
				row := strings.Replace(strings.Replace(string(text[last:]), ",S,", ",X,", 1), ",N,", ",S,", 1)
				if err := os.WriteFile(path, append(text[:last:last], row...), 0o600); err != nil {
					t.Error(err)
				}
				changed = true
			}},
		)
		step := run.Steps[len(run.Steps)-1]
		if err == nil || !changed || step.Message != "trips/all.csv: the file was changed while it was read" {
			t.Error(opening, err, changed, step.Name, step.State, step.Message)
		}
		if rows := startest.Star(t, dir)["fact_trip"]; len(rows) > 0 {
			t.Error(len(rows), "rows are kept")
		}
	}
}

// TestKeysOfMerged looks members up one by one for rows of which one is kept of several: which one depends on a value that
// no key needs.
func TestKeysOfMerged(t *testing.T) {
	for name, opening := range map[string]load.Opening{"whole": load.AsFits, "by keys": load.ByKeys, "spilled": load.Spilled} {
		dir := t.TempDir()
		startest.Write(t, dir, "boats.csv", "boat\nA\nB\n")
		startest.Write(t, dir, "trips.csv", "no,boat,toll\n1,A,x\n1,B,5\n")
		startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
limits: {set_aside: none}
sources:
  boats: {read: boats.csv, columns: {boat: text}}
  trips: {read: trips.csv, columns: {no: integer, boat: text, toll: integer}, distinct: {by: no}}
dimensions: {boat: {from: boats, natural_key: boat, type_1: []}}
facts: {trip: {from: trips, grain: no, measures: toll, keys: {boat: {by: boat, unmatched: set_aside}}}}
`)
		if _, err := startest.Load(t, dir, load.Options{Opening: opening}); err != nil {
			t.Error(name, err)
		}
		if got := fmt.Sprint(startest.Star(t, dir)["fact_trip"]); !strings.Contains(got, "toll=5") && !strings.Contains(got, "toll:5") {
			t.Errorf("%s: %s", name, got)
		}
	}
}
