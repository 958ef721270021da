package load_test

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"ironmonger/internal/diag"
	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/startest"
	"ironmonger/internal/warehouse"
)

// yard is a small star whose parts the scenarios below change.
const yard = `warehouse:
  sqlite: star.db
limits:
  set_aside: none
  unmatched: none
sources:
  boats:
    read: boats.csv
    columns:
      reg: text
      name: text
      class: text
      since: date
  trips:
    read: trips.csv
    columns:
      trip: integer
      reg: text
      at: date
      paid: decimal(9,2)
dimensions:
  boat:
    from: boats
    natural_key: reg
    type_1: name
    type_2: class
    effective: since
facts:
  trip:
    from: trips
    grain: trip
    keys:
      boat:
        by: reg
        as_of: at
    measures: paid
`

// scene is a folder with a model and files.
type folder struct {
	*testing.T
	dir string
}

func newYard(t *testing.T, changes ...string) folder {
	f := folder{t, t.TempDir()}
	model := yard
	for i := 0; i < len(changes); i += 2 {
		if !strings.Contains(model, changes[i]) {
			t.Fatalf("%q is not in the model", changes[i])
		}
		model = strings.Replace(model, changes[i], changes[i+1], 1)
	}
	startest.Write(t, f.dir, "ironmonger.yaml", model)
	f.boats()
	f.trips()
	return f
}

func (f folder) boats(rows ...string) {
	startest.Write(f, f.dir, "boats.csv", "reg,name,class,since\n"+strings.Join(rows, "\n")+"\n")
}

func (f folder) trips(rows ...string) {
	startest.Write(f, f.dir, "trips.csv", "trip,reg,at,paid\n"+strings.Join(rows, "\n")+"\n")
}

// load loads and returns the figures of the steps by name.
func (f folder) load() map[string]ledger.Figures {
	f.Helper()
	run, err := startest.Load(f, f.dir, load.Options{Workers: 2, Again: true})
	if err != nil {
		for _, s := range run.Steps {
			f.Log(s.Name, s.State, s.Message)
		}
		f.Fatal(err)
	}
	figures := map[string]ledger.Figures{}
	for _, s := range run.Steps {
		figures[s.Name] = s.Figures
	}
	return figures
}

// fail loads, and wants a step to fail with a message.
func (f folder) fail(step, message string) *ledger.Run {
	f.Helper()
	run, err := startest.Load(f, f.dir, load.Options{Workers: 2, Again: true})
	if !errors.Is(err, load.ErrSteps) {
		f.Fatalf("%v, want a step that failed", err)
	}
	for _, s := range run.Steps {
		if s.Name == step && (s.State != ledger.Failed || !strings.Contains(s.Message, message)) {
			f.Errorf("%s: %s: %s; want %s", step, s.State, s.Message, message)
		}
	}
	return run
}

// rows returns a table's columns of each row as text, sorted.
func (f folder) rows(table string, columns ...string) string {
	f.Helper()
	var lines []string
	for _, r := range startest.Star(f, f.dir)[table] {
		var parts []string
		for _, c := range columns {
			parts = append(parts, cmp.Or(r[c], "∅"))
		}
		lines = append(lines, strings.Join(parts, " "))
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// asides returns the ledger's rows set aside, as line, reasons, content and state.
func (f folder) asides() string {
	f.Helper()
	db, err := warehouse.Open(
		context.Background(),
		warehouse.Location{Kind: "sqlite", Path: filepath.Join(f.dir, "star.db")},
		warehouse.ToRead,
	)
	if err != nil {
		f.Fatal(err)
	}
	defer db.Close()
	var lines []string
	for _, table := range ledger.Tables() {
		if table.Name == "load_aside" {
			for _, r := range startest.Table(f, db, table) {
				lines = append(
					lines,
					fmt.Sprintf(
						"%s:%s %s | %s | %s %s-%s %s",
						r["file"],
						r["line"],
						r["reasons"],
						r["content"],
						r["state"],
						r["first_run"],
						r["last_run"],
						r["cleared_by"],
					),
				)
			}
		}
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

func (f folder) want(what, got, want string) {
	f.Helper()
	if got != want {
		f.Errorf("%s:\n%s\nwant\n%s", what, got, want)
	}
}

// TestHistory follows one boat: inferred, filled, changed, split by a late row, corrected until a version
// vanishes. Keys stay with what they named first (R12, R14), none comes twice (R6), and the trips are always at
// the version of their day.
func TestHistory(t *testing.T) {
	f := newYard(t)
	versions := func() string {
		return f.rows(
			"dim_boat",
			"reg",
			"boat_key",
			"class",
			"effective_from",
			"valid_from",
			"valid_to",
			"is_current",
			"name",
		)
	}
	trips := func() string { return f.rows("fact_trip", "trip", "boat_key") }
	f.trips("1,A,2024-01-10,1", "2,A,2024-02-10,2", "3,A,2024-03-10,3")
	figures := f.load()
	if got := figures["fact trip"].Inferred["boat"]; got != 1 {
		t.Errorf("%d inferred", got)
	}
	unknown := "∅ -1 Unknown ∅ 1900-01-01 9999-12-31 true Unknown\n"
	f.want("inferred", versions(), "A 1 ∅ ∅ 1900-01-01 9999-12-31 true ∅\n"+unknown[:len(unknown)-1])

	f.boats("A,Heron,x,2024-01-01", "A,Otter,y,2024-03-01")
	figures = f.load()
	if b := figures["dimension boat"]; b.Filled != 1 || b.Versions != 1 || b.Repointed["fact_trip"] != 1 {
		t.Errorf("filled: %+v", b)
	}
	f.want(
		"filled",
		versions(),
		"A 1 x 2024-01-01 1900-01-01 2024-03-01 false Otter\nA 2 y 2024-03-01 2024-03-01 9999-12-31 true Otter\n"+unknown[:len(unknown)-1],
	)
	f.want("filled", trips(), "1 1\n2 1\n3 2")

	f.boats("A,Heron,x,2024-01-01", "A,Otter,y,2024-03-01", "A,Tern,z,2024-02-01", "A,Swan,y,2024-04-01")
	figures = f.load()
	if b := figures["dimension boat"]; b.Versions != 1 || b.Changed != 1 || b.Same != 2 ||
		b.Repointed["fact_trip"] != 1 {
		t.Errorf("a late row: %+v", b)
	}
	f.want(
		"a late row",
		versions(),
		"A 1 x 2024-01-01 1900-01-01 2024-02-01 false Swan\nA 2 y 2024-03-01 2024-03-01 9999-12-31 true Swan\nA 3 z 2024-02-01 2024-02-01 2024-03-01 false Swan\n"+unknown[:len(unknown)-1],
	)
	f.want("a late row", trips(), "1 1\n2 3\n3 2")
	f.want("what made no version", f.rows("dim_boat_observed", "boat_key", "effective_from"), "2 2024-04-01")

	// z was y all along: two versions become one, which began earlier, and keeps the key of the first
	f.boats("A,Tern,y,2024-02-01")
	figures = f.load()
	if b := figures["dimension boat"]; b.Changed != 1 || b.Repointed["fact_trip"] != 1 {
		t.Errorf("a correction: %+v", b)
	}
	f.want("a correction", trips(), "1 1\n2 2\n3 2")
	f.want(
		"a correction",
		versions(),
		"A 1 x 2024-01-01 1900-01-01 2024-02-01 false Swan\nA 2 y 2024-02-01 2024-02-01 9999-12-31 true Swan\n"+unknown[:len(unknown)-1],
	)

	// a new boat gets a key beyond the highest ever given, though that is gone
	f.boats("B,Reed,x,2024-01-01")
	f.load()
	f.want("the next key", f.rows("dim_boat", "reg", "boat_key"), "A 1\nA 2\nB 4\n∅ -1")
	if again := f.load()["dimension boat"]; again.Written() != 0 || again.Same != 1 {
		t.Errorf("again: %+v", again)
	}
}

// TestSetAside follows rows that are set aside: all their reasons, met again, repaired, gone; and those of a
// step that fails.
func TestSetAside(t *testing.T) {
	f := newYard(
		t,
		"    measures: paid",
		"    measures: paid\n    limits:\n      set_aside: none",
		"dimensions:",
		"    require:\n      some payment: paid > 0\n      a boat: reg is not null\ndimensions:",
	)
	f.trips("1,A,2024-01-10,1", "2,,2024-01-10,-1", "x,A,2024-13-10,1", `4,"A, ""B""",,5`, "1,A,2024-01-10,2")
	figures := f.load()["fact trip"]
	if figures.SetAside != 4 || figures.Inserted != 1 {
		t.Errorf("%+v", figures)
	}
	f.want("first", f.asides(), `trips.csv:3 some payment; a boat | 2,,2024-01-10,-1 | waiting 1-1 
trips.csv:4 trip is not an integer: x; at is not a date such as 2025-03-31: 2024-13-10 | x,A,2024-13-10,1 | waiting 1-1 
trips.csv:5 boat without at: A, "B" | 4,"A, ""B""",,5 | waiting 1-1 
trips.csv:6 grain repeated with other values: paid is 1.00 in the table, and 2.00 here | 1,A,2024-01-10,2 | waiting 1-1 `)
	f.trips("1,A,2024-01-10,1", "2,A,2024-01-10,1", "x,A,2024-13-10,1")
	f.load()
	f.want(
		"repaired, met again, gone",
		f.asides(),
		`trips.csv:3 some payment; a boat | 2,,2024-01-10,-1 | cleared 1-1 2
trips.csv:4 trip is not an integer: x; at is not a date such as 2025-03-31: 2024-13-10 | x,A,2024-13-10,1 | waiting 1-2 
trips.csv:5 boat without at: A, "B" | 4,"A, ""B""",,5 | cleared 1-1 2
trips.csv:6 grain repeated with other values: paid is 1.00 in the table, and 2.00 here | 1,A,2024-01-10,2 | cleared 1-1 2`,
	)
	want := 0
	for _, r := range f.load()["fact trip"].Reasons {
		want += int(r.Rows)
	}
	if want != 2 { // one row, two reasons
		t.Errorf("%d reasons", want)
	}
}

// TestLimits: a step beyond a limit keeps nothing but its reasons and first rows; up to 100 rows there is no
// limit.
func TestLimits(t *testing.T) {
	var good, bad []string
	for i := range 200 {
		row := fmt.Sprintf("%d,A,2024-01-10,1", i)
		if good = append(good, row); i%4 == 0 {
			row = fmt.Sprintf("%d,A,never,1", i)
		}
		bad = append(bad, row)
	}
	f := newYard(t, "limits:\n  set_aside: none\n  unmatched: none\n", "")
	f.boats("A,Heron,x,2024-01-01")
	f.trips(bad...)
	run := f.fail(
		"fact trip",
		"50 of 200 rows (25.0%) would be set aside, more than 20.0%: nothing is kept. The most frequent reason: at is not a date such as 2025-03-31: never (trips.csv:2)",
	)
	f.want("a failed step", f.rows("fact_trip", "trip"), "")
	if got := strings.Count(f.asides(), "of a failed step"); got != 50 {
		t.Errorf("%d rows of the failed step are kept", got)
	}
	if len(run.Steps) != 2 || run.State != ledger.Failed {
		t.Errorf("%+v", run)
	}
	f.trips(bad[:100]...)
	f.load()
	f.trips(good...)
	f.load()
	if strings.Contains(f.asides(), "waiting") {
		t.Error(f.asides())
	}
	var strange []string
	for i := range 200 {
		strange = append(strange, fmt.Sprintf("%d,Z,2024-01-10,1", 1000+i))
	}
	f.trips(strange...)
	f.fail("fact trip", "key boat: 200 of 200 rows (100.0%) are unmatched, more than 20.0%: nothing is kept")
}

// TestFailedStepsApart: what does not need a failed step is loaded all the same.
func TestFailedStepsApart(t *testing.T) {
	f := newYard(t, "dimensions:\n", "dimensions:\n  zone:\n    natural_key: code\n    rows:\n      - {code: Z}\n")
	f.boats(`A,"Heron,x,2024-01-01`)
	run := f.fail("dimension boat", "this is not CSV: a quoted field is not closed")
	states := map[string]string{}
	for _, s := range run.Steps {
		states[s.Name] = s.State
	}
	if states["dimension zone"] != ledger.Done || states["fact trip"] != ledger.NotRun {
		t.Error(states)
	}
	f.want("the other dimension", f.rows("dim_zone", "zone_key", "code"), "-1 ∅\n1 Z")
}

// TestWideMoney keeps decimals of more digits than a double has, in tables, totals and comparisons.
func TestWideMoney(t *testing.T) {
	f := newYard(t, "paid: decimal(9,2)", "paid: decimal(30,4)")
	f.trips("1,A,2024-01-10,12345678901234567890123456.7891", "2,A,2024-01-10,-0.0001", "3,A,2024-01-10,0.1")
	figures := f.load()["fact trip"]
	if got := figures.Totals[0].Inserted; got != "12345678901234567890123456.8890" {
		t.Error(got)
	}
	f.want("money", f.rows("fact_trip", "trip", "paid"), "1 12345678901234567890123456.7891\n2 -0.0001\n3 0.1000")
	f.trips("1,A,2024-01-10,12345678901234567890123456.7891", "2,A,2024-01-10,-0.0002", "4,A,2024-01-10,7")
	again := f.load()["fact trip"]
	if again.Same != 1 || again.SetAside != 1 || again.Inserted != 1 ||
		again.Totals[0].Same != "12345678901234567890123456.7891" {
		t.Errorf("%+v", again)
	}
}

// TestSetAsideOfUnread: a row that is set aside in a file that is not read again goes on waiting, whatever became of
// others of its grain.
func TestSetAsideOfUnread(t *testing.T) {
	t.Setenv("IRONMONGER_SETTLED", "1")
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
sources: {trips: {read: "t/*", columns: {no: integer, qty: integer}, require: {some: qty > 0}}}
dimensions: {kind: {natural_key: code, rows: [{code: A}]}}
facts: {trip: {from: trips, grain: no, keys: {}, measures: qty}}
`)
	startest.Write(t, dir, "t/a.csv", "no,qty\n1,-1\n2,1\n")
	for n := range 4 { // only this one is read again
		startest.Write(t, dir, "t/b.csv", "no,qty\n1,5\n3,many\n"+strings.Repeat("4,4\n", n))
		if _, err := startest.Load(t, dir, load.Options{}); err != nil {
			t.Fatal(err)
		}
		if waits := waiting(t, dir, "trips"); waits != 2 || !startest.Proved(t, dir) {
			t.Fatalf("after %d loads %d rows wait", n+1, waits)
		}
	}
	startest.Write(t, dir, "t/a.csv", "no,qty\n2,1\n")
	if _, err := startest.Load(t, dir, load.Options{}); err != nil || waiting(t, dir, "trips") != 1 || !startest.Proved(t, dir) {
		t.Errorf("%v: the row is not there any more, and waits", err)
	}
}

// TestUnmatchedSettles: a fact whose natural key no member had is pointed to the member when it comes, without its
// file; a row without a natural key stays at Unknown until it comes again with one, which is another row.
func TestUnmatchedSettles(t *testing.T) {
	for _, replaces := range []bool{false, true} {
		options := []string{"        as_of: at\n", "        as_of: at\n        unmatched: unknown\n"}
		if replaces {
			options = append(options, "    grain: trip\n", "    grain: trip\n    repeated: replace\n")
		}
		f := newYard(t, options...)
		f.trips("1,A,2024-01-10,1", "2,A,2024-03-10,1", "4,,2024-01-10,1", "5,Z,2024-01-10,1", "6,,2024-01-10,1")
		f.load()
		f.boats("A,Heron,x,2024-01-01", "A,Heron,y,2024-02-01")
		f.trips("3,A,2024-01-10,1")
		if got := f.load()["fact trip"]; got.Settled["boat"] != 2 || got.Inserted != 1 {
			t.Errorf("%+v", got)
		}
		f.want("keys", f.rows("fact_trip", "trip", "boat_key"), "1 1\n2 2\n3 1\n4 -1\n5 -1\n6 -1")
		f.trips("1,A,2024-01-10,1", "2,A,2024-03-10,1", "3,A,2024-01-10,1", "4,A,2024-01-10,1", "5,Z,2024-01-10,1", "6,Y,2024-01-10,1")
		got := f.load()["fact trip"]
		if !replaces && (got.Same != 4 || got.SetAside != 2) || replaces && (got.Same != 4 || got.Changed != 2) || got.Settled != nil {
			t.Errorf("%+v", got)
		}
		if replaces {
			f.want("keys", f.rows("fact_trip", "trip", "boat_key"), "1 1\n2 2\n3 1\n4 1\n5 -1\n6 -1")
		}
	}
}

// TestOtherFact: an open key of a fact that is gone does not move the fact that has its grain now.
func TestOtherFact(t *testing.T) {
	for _, versions := range []bool{false, true} { // facts are known by their grain, or by their line
		grain, key := "    grain: trip\n", "      boat:\n"
		if versions {
			grain = "    grain: [trip, home]\n"
			key = "      home:\n        dimension: boat\n        by: home\n        as_of: at\n      boat:\n"
		}
		f := newYard(t, "        as_of: at\n", "        as_of: at\n        unmatched: unknown\n",
			"    grain: trip\n", grain, "      boat:\n", key,
			"      paid: decimal(9,2)\n", "      paid: decimal(9,2)\n      home: text\n")
		row := func(boats ...string) {
			text := "trip,reg,at,paid,home\n"
			for n, boat := range boats {
				text += fmt.Sprintf("%d,%s,2024-01-10,1,H\n", n+1, boat)
			}
			startest.Write(f, f.dir, "trips.csv", text)
		}
		f.boats("A,Heron,x,2024-01-01", "H,Home,x,2024-01-01")
		row("Z", "Z", "Z", "Z")
		f.load()
		startest.Run(t, f.dir, "DELETE FROM fact_trip WHERE trip < 4")
		row("A", "", "Y", "Z") // and their rows say something else now
		if _, err := startest.Load(t, f.dir, load.Options{Accept: []string{"trip"}}); err != nil {
			t.Fatal(err)
		}
		f.boats("A,Heron,x,2024-01-01", "H,Home,x,2024-01-01", "Z,Zander,x,2024-01-01")
		f.load()
		f.want(fmt.Sprint(versions), f.rows("fact_trip", "trip", "boat_key"), "1 1\n2 -1\n3 -1\n4 3")
	}
}

// TestOutriggerMoves: an outrigger points to the current version, and moves when there is a new one.
func TestOutriggerMoves(t *testing.T) {
	f := newYard(
		t,
		"facts:",
		"  crew:\n    from: crews\n    natural_key: crew\n    keys:\n      boat: reg\nfacts:",
		"  trips:\n",
		"  crews:\n    read: crews.csv\n    columns:\n      crew: text\n      reg: text\n  trips:\n",
	)
	startest.Write(t, f.dir, "crews.csv", "crew,reg\nred,A\nblue,Q\n")
	f.boats("A,Heron,x,2024-01-01")
	f.load()
	f.want("first", f.rows("dim_crew", "crew", "boat_key"), "blue 2\nred 1\n∅ -1")
	f.boats("A,Heron,x,2024-01-01", "A,Heron,y,2024-02-01", "Q,Reed,x,2024-01-01", "Q,Reed,y,2024-03-01")
	if got := f.load()["dimension boat"].Repointed["dim_crew"]; got != 2 {
		t.Errorf("%d crews moved", got)
	}
	f.want("moved", f.rows("dim_crew", "crew", "boat_key"), "blue 4\nred 3\n∅ -1")
	if again := f.load(); again["dimension crew"].Written() != 0 {
		t.Errorf("again: %+v", again["dimension crew"])
	}
}

// TestAccountIsChecked: if the warehouse holds other rows than were given to it, the step fails and is rolled
// back. A trigger plays the warehouse that cheats.
func TestAccountIsChecked(t *testing.T) {
	for trigger, message := range map[string]string{
		"CREATE TRIGGER cheat AFTER INSERT ON fact_trip WHEN new.trip = 2 BEGIN DELETE FROM fact_trip WHERE trip = 2; END":                   "the account does not hold: table fact_trip had 1 rows, 2 were added, 0 were removed, and it has 2",
		"CREATE TRIGGER cheat AFTER INSERT ON fact_trip WHEN new.trip = 2 BEGIN UPDATE fact_trip SET paid = paid + 0.01 WHERE trip = 1; END": "the account does not hold: the total of paid in table fact_trip should be 6.00 and is 6.01",
	} {
		f := newYard(t)
		f.trips("1,A,2024-01-10,1")
		f.load()
		startest.Run(t, f.dir, trigger)
		before := startest.Dump(t, f.dir)
		f.trips("1,A,2024-01-10,1", "2,A,2024-01-10,2", "3,A,2024-01-10,3")
		f.fail("fact trip", message)
		f.want("rolled back", startest.Dump(t, f.dir), before)
	}
}

// TestStop: a run whose context ends keeps nothing of the step, and the ledger says so.
func TestStop(t *testing.T) {
	f := newYard(t)
	f.trips("1,A,2024-01-10,1")
	ctx, cancel := context.WithCancel(context.Background())
	run, err := f.watched(ctx, func(p load.Progress) {
		if p.Step == "fact trip" && p.Rows > 0 {
			cancel()
		}
	})
	if !errors.Is(err, load.ErrSteps) || run.State != ledger.Failed || run.Steps[1].Message != "stopped" {
		t.Errorf("%v, %+v", err, run)
	}
	f.want("nothing kept", f.rows("fact_trip", "trip"), "")
	f.load()
}

func (f folder) watched(ctx context.Context, watch func(load.Progress)) (*ledger.Run, error) {
	m := startest.Model(f, f.dir)
	root, err := os.OpenRoot(f.dir)
	if err != nil {
		f.Fatal(err)
	}
	defer root.Close()
	db, err := warehouse.Open(
		context.Background(),
		warehouse.Location{Kind: "sqlite", Path: filepath.Join(f.dir, "star.db")},
		warehouse.ToWrite,
	)
	if err != nil {
		f.Fatal(err)
	}
	defer db.Close()
	return load.Run(ctx, m, root, db, load.Options{Watch: watch})
}

// TestMissingFiles: all that is missing is told before anything is written.
func TestMissingFiles(t *testing.T) {
	f := newYard(t)
	os.Remove(filepath.Join(f.dir, "boats.csv"))
	startest.Write(t, f.dir, "trips.csv", "trip,reg,on,paid\n")
	_, err := startest.Load(t, f.dir, load.Options{})
	var list diag.List
	if !errors.As(err, &list) || len(list) != 2 {
		t.Fatal(err)
	}
	db, err := warehouse.Open(
		context.Background(),
		warehouse.Location{Kind: "sqlite", Path: filepath.Join(f.dir, "star.db")},
		warehouse.ToRead,
	)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if names, err := warehouse.Reader(db).Describe(context.Background(), "load_run"); names != nil || err != nil {
		t.Error("something was written:", names, err)
	}
}

// TestKeysInOrder: surrogate keys are given in the order of appearance (rule R5), over files and pieces,
// members that facts infer after those that their source delivers.
func TestKeysInOrder(t *testing.T) {
	f := newYard(t)
	r := rand.New(rand.NewPCG(3, 3))
	var boats, trips []string
	var order []string // of what gets a key
	seen := map[string]string{}
	for i := range 400 {
		reg, class := fmt.Sprint("B", r.IntN(60)), pick(r, "x", "y")
		boats = append(boats, fmt.Sprintf("%s,Heron,%s,2024-%02d-%02d", reg, class, 1+i/28%12, 1+i%28))
		if i < 336 && seen[reg] != class { // the days rise: each change is a version
			order = append(order, reg+" "+class)
			seen[reg] = class
		}
	}
	boats = boats[:336]
	for i := range 300 {
		reg := fmt.Sprint(pick(r, "B", "X"), r.IntN(60))
		trips = append(trips, fmt.Sprintf("%d,%s,2024-06-01,1", i, reg))
		if reg[0] == 'X' && seen[reg] == "" || reg[0] == 'B' && seen[reg] == "" {
			order = append(order, reg+" ∅")
			seen[reg] = "inferred"
		}
	}
	f.boats(boats...)
	f.trips(trips...)
	if _, err := startest.Load(t, f.dir, load.Options{Workers: 4, Piece: 300}); err != nil {
		t.Fatal(err)
	}
	got := make([]string, len(order))
	for _, row := range startest.Star(t, f.dir)["dim_boat"] {
		if k, _ := strconv.Atoi(row["boat_key"]); k > 0 && k <= len(got) {
			got[k-1] = row["reg"] + " " + cmp.Or(row["class"], "∅")
		}
	}
	f.want("keys in order", strings.Join(got, "\n"), strings.Join(order, "\n"))
}

// TestMustHold: what the model says a load must stop for, stops it, and nothing of the step is kept; what only
// prove looks at does not.
func TestMustHold(t *testing.T) {
	for _, c := range []struct{ says, message string }{
		{"paid at all: paid > 0", ""},
		{"paid at all:\n        every: paid > 0\n        in_load: stop", "paid at all: every row has paid > 0: 1 rows speak against it, the first with trip 2: nothing is kept"},
		{"few:\n        at_most: 1\n        in_load: stop", "few: at most 1 rows: 2 rows, and at most 1 may be: nothing is kept"},
		{"mostly paid:\n        where: paid > 0\n        at_least: 50.1%\n        in_load: stop", "mostly paid: at least 50.1% of the rows where paid > 0: 1 of 2 rows, and at least 50.1% must be: nothing is kept"},
		{"half paid:\n        where: paid > 0\n        at_least: 50%\n        in_load: stop", ""},
		{"as delivered:\n        total: paid\n        source: trips\n        column: paid\n        in_load: stop", ""},
		{"as counted:\n        total: paid\n        source: trips\n        column: trip\n        in_load: stop", "as counted: the total of paid is that of trip in trips: the total is 7.50, and trip of trips comes to 3: nothing is kept"},
	} {
		f := newYard(t, "    measures: paid", "    must_hold:\n      "+c.says+"\n    measures: paid")
		f.boats("A1,Heron,I,2024-01-01")
		f.trips("1,A1,2024-02-01,7.50", "2,A1,2024-07-01,0")
		if c.message == "" {
			f.load()
			continue
		}
		f.fail("fact trip", c.message)
		if rows := f.rows("fact_trip", "trip"); rows != "" {
			t.Errorf("%s: kept %s", c.says, rows)
		}
	}
}
