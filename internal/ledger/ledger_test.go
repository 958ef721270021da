package ledger_test

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"reflect"
	"slices"
	"testing"
	"time"

	"ironmonger/internal/ledger"
	"ironmonger/internal/startest"
	"ironmonger/internal/warehouse"
)

func TestMain(m *testing.M) { os.Exit(startest.Main(m)) }

// each runs a test on a ledger in each kind of warehouse.
func each(t *testing.T, test func(t *testing.T, in func(func(tx warehouse.Tx) error), r warehouse.Reader)) {
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			dir, where := t.TempDir(), "sqlite: star.db"
			if kind == "postgres" {
				connection, schema := startest.Postgres(t)
				where = "postgres: " + connection + "\n  schema: " + schema
			}
			startest.Write(
				t,
				dir,
				"ironmonger.yaml",
				"warehouse:\n  "+where+"\ndimensions:\n  day:\n    calendar: {from: 2024-01-01, to: 2024-01-02}\n",
			)
			wh := startest.Open(t, dir)
			defer wh.Close()
			in := func(f func(tx warehouse.Tx) error) {
				t.Helper()
				tx, err := wh.Begin(context.Background())
				if err == nil {
					defer tx.Rollback()
					if err = f(tx); err == nil {
						err = tx.Commit()
					}
				}
				if err != nil {
					t.Fatal(err)
				}
			}
			in(func(tx warehouse.Tx) error {
				for _, table := range ledger.Tables() {
					if err := tx.Create(context.Background(), table); err != nil {
						return err
					}
				}
				return nil
			})
			test(t, in, wh)
		})
	}
}

// TestAsides holds the book of rows set aside against a restatement, over many random loads of two steps in which
// rows of some files are met anew, again, elsewhere, twice, or no longer, and rows of their grains are loaded.
func TestAsides(t *testing.T) {
	each(t, func(t *testing.T, in func(func(tx warehouse.Tx) error), r warehouse.Reader) {
		ctx := context.Background()
		random := rand.New(rand.NewPCG(3, 4))
		type row struct {
			step, file, content string
			line, first         int64
		}
		type entry struct {
			row
			repeats, superseded, met bool
		}
		var waits []*entry
		last := int64(0)
		for load := int64(1); load <= 150; load++ {
			step := fmt.Sprint("step ", random.IntN(2))
			files := []string{"a.csv", "b.csv", "c.csv"}[random.IntN(3):]
			fails := random.IntN(8) == 0
			var met []row
			for range random.IntN(8) {
				met = append(
					met,
					row{
						step,
						files[random.IntN(len(files))],
						[]string{"x,1", "y,\"é\n\"", ""}[random.IntN(3)],
						random.Int64N(3),
						load,
					},
				)
			}
			loaded, inserted := random.IntN(4) == 0, random.IntN(2) == 0 // a row of the grain of x,1
			in(func(tx warehouse.Tx) error {
				book, err := ledger.OpenAsides(ctx, tx, step, load, &last)
				if err != nil {
					return err
				}
				tell := func() {
					if loaded && !fails && book.Waits() {
						book.Loaded("g", inserted, func(*ledger.Aside) bool { return true })
					}
				}
				late := random.IntN(2) == 0 // which of two rows of a grain is met first makes no difference
				if !late {
					tell()
				}
				for _, x := range met {
					a := ledger.Aside{
						Step:    step,
						Source:  "s",
						File:    x.file,
						Line:    x.line,
						Content: x.content,
						Causes:  []ledger.Cause{{Reason: "r", Value: x.file}},
					}
					if x.content == "x,1" {
						a.Grain, a.Repeats = "g", x.line == 1
					}
					put := book.Put
					if fails {
						put = book.Fail
					}
					if err := put(&a); err != nil {
						return err
					}
				}
				if fails { // what a step that failed had read is not known to be right
					return book.Write()
				}
				if late {
					tell()
				}
				return book.Close(files, nil)
			})
			if !fails {
				var of []*entry
				for _, e := range waits {
					if e.met = false; e.step == step {
						of = append(of, e)
						e.superseded = e.superseded || loaded && e.content == "x,1" && (inserted || !e.repeats)
					}
				}
				for _, fits := range []func(e *entry, x row) bool{
					func(e *entry, x row) bool { return e.file == x.file && e.line == x.line },
					func(e *entry, x row) bool { return e.file == x.file },
					func(e *entry, x row) bool { return !slices.Contains(files, e.file) },
					func(e *entry, x row) bool { return true },
				} {
					met = slices.DeleteFunc(met, func(x row) bool {
						at := slices.IndexFunc(
							of,
							func(e *entry) bool { return !e.met && e.content == x.content && fits(e, x) },
						)
						if at >= 0 {
							of[at].met, of[at].file, of[at].line = true, x.file, x.line
						}
						return at >= 0
					})
				}
				waits = slices.DeleteFunc(waits, func(e *entry) bool {
					return e.step == step && !e.met && (e.superseded || slices.Contains(files, e.file))
				})
				for _, x := range met {
					waits = append(waits, &entry{row: x, repeats: x.content == "x,1" && x.line == 1})
				}
			}
			got, want := map[row]int{}, map[row]int{}
			for _, e := range waits {
				want[e.row]++
			}
			if err := ledger.EachAside(ctx, r, ledger.Waiting, func(a *ledger.Aside, first int64) error {
				if got[row{a.Step, a.File, a.Content, a.Line, first}]++; a.Reasons() != "r: "+a.File {
					t.Errorf("load %d: a row of %s is there because %s", load, a.File, a.Reasons())
				}
				return nil
			}); err != nil {
				t.Fatal(err)
			}
			if !maps.Equal(got, want) {
				t.Fatalf("after load %d of %s, %v read:\n%v wait, and should:\n%v", load, step, files, got, want)
			}
		}
		entries := 0
		if err := ledger.EachAside(ctx, r, "", func(*ledger.Aside, int64) error { entries++; return nil }); err != nil ||
			entries > 700 {
			t.Errorf("%d entries, %v: what was cleared long ago is never forgotten", entries, err)
		}
	})
}

// TestRuns writes runs and steps and reads them: nothing is lost, times are exact to the microsecond, and a run that
// does not say how it ended goes on.
func TestRuns(t *testing.T) {
	each(t, func(t *testing.T, in func(func(tx warehouse.Tx) error), r warehouse.Reader) {
		ctx := context.Background()
		if runs, err := ledger.Runs(ctx, r, 0); err != nil || len(runs) != 0 {
			t.Fatal(runs, err)
		}
		begin := time.Date(2026, 3, 29, 0, 59, 59, 123456000, time.UTC)
		var want []*ledger.Run
		for n := range 3 {
			run := &ledger.Run{
				StartedAt:  begin.Add(time.Duration(n) * time.Hour),
				Program:    "p",
				Holder:     "h\"é",
				ModelFile:  "m.yaml",
				ModelText:  "x: 'y'\n",
				Parameters: map[string]string{"since": fmt.Sprint("2024-01-0", n+1), "empty": ""},
			}
			in(func(tx warehouse.Tx) error { return ledger.StartRun(ctx, tx, run) })
			if going, err := ledger.Going(ctx, r); err != nil || going == nil || going.ID != run.ID {
				t.Fatal(going, err)
			}
			ended := run.StartedAt.Add(time.Minute)
			for k, state := range []string{ledger.Done, ledger.Failed, ledger.NotRun} {
				s := &ledger.Step{
					Run:     run.ID,
					Name:    fmt.Sprint("fact ", k),
					State:   state,
					Message: "it's \\ so\n",
					Figures: ledger.Figures{Read: int64(n), Inserted: 1 << 60,
						Attributes: map[string]int64{
							"name": 2,
						}, Keys: map[string]*ledger.KeyCounts{"boat": {Matched: 3, Strays: []ledger.Stray{{Outcome: "unmatched", Natural: "N, 1", Rows: 2, File: "a", Line: 7}}}},
						Totals: []ledger.Total{{Measure: "toll", Read: "99999999999999999999999999999999999.99"}}},
				}
				if state != ledger.NotRun {
					at := ended.Add(time.Duration(k) * time.Second)
					s.StartedAt, s.EndedAt = &run.StartedAt, &at
				}
				in(func(tx warehouse.Tx) error { return ledger.WriteStep(ctx, tx, s) })
				run.Steps = append(run.Steps, s)
				if is, err := ledger.Ended(ctx, r, run.ID, s.Name); err != nil || !is {
					t.Error(s.Name, is, err)
				}
			}
			if is, err := ledger.Ended(ctx, r, run.ID, "fact 9"); err != nil || is {
				t.Error("a step that is not there has ended", err)
			}
			if n < 2 {
				in(func(tx warehouse.Tx) error { return ledger.EndRun(ctx, tx, run, ledger.Failed, ended) })
				run.State, run.EndedAt = ledger.Failed, &ended
			} else {
				run.State = ledger.Running
			}
			run.ModelText = "" // isn't read back
			want = append([]*ledger.Run{run}, want...)
		}
		for _, limit := range []int{0, 2} {
			got, err := ledger.Runs(ctx, r, limit)
			if err != nil || !reflect.DeepEqual(got, want[:3-limit/2]) {
				t.Errorf("limit %d: %v\n%+v\n%+v", limit, err, got[0], want[0])
			}
		}
		for range 2 { // of the first run, numbers are left; the others are as they were
			in(func(tx warehouse.Tx) error { return ledger.Shorten(ctx, tx, begin.Add(time.Minute)) })
			for _, s := range want[2].Steps {
				s.Figures.Attributes, s.Figures.Keys["boat"] = nil, &ledger.KeyCounts{Matched: 3}
			}
			if got, err := ledger.Runs(ctx, r, 0); err != nil || !reflect.DeepEqual(got, want) {
				t.Errorf("shortened: %v\n%+v\n%+v", err, got[2], want[2])
			}
		}
		last := &ledger.Step{Run: want[1].ID, Name: "fact 9", State: ledger.Done, Figures: ledger.Figures{Notes: []string{"as it stands"}}}
		in(func(tx warehouse.Tx) error { return ledger.WriteStep(ctx, tx, last) })
		in(func(tx warehouse.Tx) error { return ledger.Shorten(ctx, tx, begin.AddDate(9, 0, 0)) })
		got, err := ledger.Runs(ctx, r, 0) // what was said last of a step is kept, and its whole run
		if err != nil || len(got[1].Steps) != 4 || !reflect.DeepEqual(got[1].Steps[:3], want[1].Steps) && !reflect.DeepEqual(got[1].Steps[1:], want[1].Steps) {
			t.Errorf("of the last: %v %+v", err, got[1].Steps)
		}
	})
}

// TestMarks sets the marks that the ledger keeps of dimensions: each is told as it was set last, and of its own
// dimension.
func TestMarks(t *testing.T) {
	each(t, func(t *testing.T, in func(func(tx warehouse.Tx) error), r warehouse.Reader) {
		ctx := context.Background()
		for n := range int64(3) {
			for _, d := range []string{"boat", "port"} {
				erased := 0
				in(func(tx warehouse.Tx) error {
					if err := ledger.SetHighest(ctx, tx, d, n*10+int64(len(d)), fmt.Sprint(n, " ", d)); err != nil {
						return err
					}
					if err := ledger.Inferred(ctx, tx, d, []int64{n, n + 100}, n); err != nil {
						return err
					}
					if err := ledger.Filled(ctx, tx, d, []int64{n}, n+5); err != nil {
						return err
					}
					if d == "port" {
						return nil
					}
					erased = int(n) + 1
					return ledger.Erase(ctx, tx, d, []int64{n, n, 0}) // one that is part of another may be told twice
				})
				by := fmt.Sprint(n, " ", d)
				if erased > 0 { // who has the dimension in memory reads it again
					by += fmt.Sprintf(", %d erased", erased)
				}
				if highest, is, err := ledger.Highest(ctx, r, d); err != nil || highest != n*10+4 || is != by {
					t.Error(d, highest, by, err)
				}
			}
			made, filled, err := ledger.InferredIn(ctx, r, "port", n)
			if err != nil || made != n || filled != n+5 {
				t.Error(n, made, filled, err)
			}
			if made, filled, err = ledger.InferredIn(ctx, r, "port", n+100); err != nil || made != n || filled != 0 {
				t.Error(n, made, filled, err)
			}
		}
		if keys, err := ledger.Erased(ctx, r, "boat"); err != nil ||
			!maps.Equal(keys, map[int64]bool{0: true, 1: true, 2: true}) {
			t.Error(keys, err)
		}
		if keys, err := ledger.Erased(ctx, r, "port"); err != nil || len(keys) > 0 {
			t.Error(keys, err)
		}
		if highest, by, err := ledger.Highest(ctx, r, "lock"); err != nil || highest != 0 || by != "" {
			t.Error(highest, by, err)
		}
	})
}
