package load_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

const limitsModel = `warehouse: {sqlite: star.db}
time_zone: %s
limits: {set_aside: none, %s}
sources:
  trips: {read: "t/*.csv", columns: {no: integer, day: date, at: timestamp, qty: integer}}
dimensions:
  zone: {rows: [{code: A}], natural_key: code}
facts:
  trip: {from: trips, grain: no, degenerate: [day, at], measures: qty%s}
`

// TestEnds: a step that reads far fewer rows than usual keeps nothing; one that takes too long stops; and what is kept,
// but not as the model asks, is told.
func TestEnds(t *testing.T) {
	rows := func(from, n int) string {
		text := "no,day,at,qty\n"
		for no := range n {
			text += fmt.Sprintf("%d,2025-03-01,2025-03-01 10:00:00,1\n", from+no)
		}
		return text
	}
	t.Run("fewer than usual", func(t *testing.T) {
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(limitsModel, "UTC", "fewer_than_usual: 50%", ""))
		deliver := func(n, count int) { // a file that is old enough not to be read again
			name := fmt.Sprintf("t/%d.csv", n)
			startest.Write(t, dir, name, rows(n*100, count))
			then := time.Now().Add(time.Duration(n+count-100) * time.Minute)
			if err := os.Chtimes(filepath.Join(dir, name), then, then); err != nil {
				t.Fatal(err)
			}
		}
		for n, c := range []struct {
			rows int
			fits bool
		}{{10, true}, {1, true}, {12, true}, {11, true}, {6, true}, {4, false}, {0, true}, {10, true}} {
			deliver(n, c.rows)
			run, err := startest.Load(t, dir, load.Options{})
			if (err == nil) != c.fits {
				t.Fatalf("load %d of %d rows: %v", n, c.rows, err)
			}
			if s := last(run); !c.fits && !strings.Contains(s.Message, "4 rows were read, and usually it is 10: nothing is kept") {
				t.Errorf("it says %s", s.Message)
			}
			if !c.fits { // the file was cut off, and comes whole
				deliver(n, 9)
				if _, err := startest.Load(t, dir, load.Options{}); err != nil {
					t.Fatal(err)
				}
			}
		}
		if got := len(startest.Star(t, dir)["fact_trip"]); got != 10+1+12+11+6+9+10 {
			t.Errorf("%d rows", got)
		}
	})
	t.Run("time", func(t *testing.T) {
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(limitsModel, "UTC", "time: 1 s", ""))
		startest.Write(t, dir, "t/1.csv", rows(0, 10))
		slow := true
		watch := func(p load.Progress) {
			if slow && p.Rows > 0 {
				time.Sleep(1200 * time.Millisecond)
			}
		}
		run, err := startest.Load(t, dir, load.Options{Watch: watch})
		if s := last(run); err == nil || s.State != ledger.Failed || s.Message != "the step took longer than limits.time allows: 1s" {
			t.Errorf("%v: %+v", err, s)
		}
		if slow = false; len(startest.Star(t, dir)["fact_trip"]) != 0 {
			t.Error("rows are kept")
		}
		if run, err := startest.Load(t, dir, load.Options{Watch: watch}); err != nil || last(run).Figures.Inserted != 10 {
			t.Errorf("in time: %v", err)
		}
	})
	t.Run("as asked", func(t *testing.T) {
		now := time.Now().UTC()
		for _, c := range []struct {
			zone, limits, newest, day, at string
			want                          string
		}{
			{"UTC", "unmatched: none", "", "x", "", ""},
			{"UTC", "set_aside_counts_as: broken", "", "x", "", "1 rows are set aside, which counts as broken"},
			{"UTC", "set_aside_counts_as: broken", "", "2025-03-01", "", ""},
			{"UTC", "unmatched: none", "day: 2 days", now.AddDate(0, 0, -2).Format(time.DateOnly), "", ""},
			{"UTC", "unmatched: none", "day: 2 days", now.AddDate(0, 0, -4).Format(time.DateOnly), "", "the newest day is " + now.AddDate(0, 0, -4).Format(time.DateOnly) + ", which is 3 days old; it may be 2 days"},
			{"UTC", "unmatched: none", "at: 2 h", "", now.Add(-time.Hour).Format(time.DateTime), ""},
			{"UTC", "unmatched: none", "at: 2 h", "", now.Add(-3 * time.Hour).Format(time.DateTime), "which is 3 h old; it may be 2 days"[:17]},
			{"Asia/Tokyo", "unmatched: none", "at: 2 h", "", now.Add(8 * time.Hour).Format(time.DateTime), ""},
			{"Asia/Tokyo", "unmatched: none", "at: 2 h", "", now.Add(5 * time.Hour).Format(time.DateTime), "which is 4 h old"},
			{"UTC", "unmatched: none", "at: 2 h", "", "", "there is no at, which may be 2 h old"},
		} {
			dir := t.TempDir()
			newest := ""
			if c.newest != "" {
				newest = ", newest: {" + c.newest + "}"
			}
			startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(limitsModel, c.zone, c.limits, newest))
			startest.WriteOld(t, dir, "t/1.csv", "no,day,at,qty\n1,"+c.day+","+c.at+",1\n", 0)
			for n, again := range []bool{false, false, true} { // the second one reads nothing
				want := c.want
				if n == 1 && strings.Contains(want, "set aside") {
					want = "" // it sets nothing aside
				}
				run, err := startest.Load(t, dir, load.Options{Again: again})
				said := strings.Join(last(run).Figures.Unmet, "; ")
				if (err != nil) != (want != "") || err != nil && err != load.ErrUnmet || want == "" && said != "" || !strings.Contains(said, want) {
					t.Errorf("load %d of %+v: %v, %s", n, c, err, said)
				}
				if n == 1 && last(run).Figures.Read != 0 {
					t.Errorf("the second load of %+v reads the file", c)
				}
			}
		}
	})
}

// last is the last step of a run.
func last(run *ledger.Run) *ledger.Step { return run.Steps[len(run.Steps)-1] }
