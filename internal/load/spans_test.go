package load_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

const coverageModel = `warehouse: {sqlite: star.db}
limits: {set_aside: none, gone: none}
sources:
  spans: {read: spans.csv, columns: {lock: text, opened: %s, closed: %s}}
  open: {from: spans, periods: {by: lock, from: opened, to: closed, every: %s%s}}
dimensions:
  date: {calendar: {from: 2024-01-01, to: 2026-12-31}}
facts:
  open: {from: open, grain: [lock, period], repeated: replace, delivers: all, gone: remove, keys: {period: {dimension: date, by: period}}}
`

// coverage loads, and lists the rows of a fact of what could have happened.
func coverage(t *testing.T, dir string) string {
	run, err := startest.Load(t, dir, load.Options{})
	if err != nil {
		t.Fatal(err)
	}
	var list []string
	for _, row := range startest.Star(t, dir)["fact_open"] {
		list = append(list, row["lock"]+" "+row["period_date_key"][4:])
	}
	slices.Sort(list)
	f := run.Steps[len(run.Steps)-1].Figures
	return fmt.Sprintf("%s; new %d same %d removed %d", strings.Join(list, ", "), f.Inserted, f.Same, f.Removed)
}

// TestCoverage are worked examples of coverage: spans that overlap cover a day once, one is open, and a correction
// takes days back.
func TestCoverage(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(coverageModel, "date", "date", "day", `, through: "date '2025-03-05'"`))
	for _, x := range [][2]string{
		{"L01,2025-03-01,2025-03-04\nL01,2025-03-03,2025-03-05\nL02,2025-03-04,\n", "L01 0301, L01 0302, L01 0303, L01 0304, L02 0304, L02 0305; new 6 same 0 removed 0"},
		{"L01,2025-03-01,2025-03-03\nL01,2025-03-03,2025-03-05\nL02,2025-03-05,\n", "L01 0301, L01 0302, L01 0303, L01 0304, L02 0305; new 0 same 5 removed 1"},
	} {
		startest.Write(t, dir, "spans.csv", "lock,opened,closed\n"+x[0])
		if got := coverage(t, dir); got != x[1] {
			t.Errorf("%s\nwant %s", got, x[1])
		}
	}
	if !startest.Proved(t, dir) {
		t.Error("the star is broken")
	}
}

// TestSpans holds random spans, of days or times, against a count of each day of each: for all kinds of periods, with
// spans that are open, empty, reversed or twice there, and with corrections.
func TestSpans(t *testing.T) {
	manyCases(t, 8, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 91))
		dir := t.TempDir()
		every, kind, said := pick(r, "day", "week", "month"), pick(r, "date", "timestamp"), r.IntN(2) == 0
		through := time.Date(2025, 2, 1+r.IntN(60), 0, 0, 0, 0, time.UTC)
		option := ""
		if said {
			option = fmt.Sprintf(`, through: "date '%s'"`, through.Format(time.DateOnly))
		}
		startest.Write(t, dir, "ironmonger.yaml", inEither(t, seed, fmt.Sprintf(coverageModel, kind, kind, every, option)))
		for range 3 {
			text := "lock,opened,closed\n"
			covers, aside, last := map[string]bool{}, 0, time.Time{}
			type one struct {
				lock     string
				from, to time.Time
			}
			var spans []one
			unit, layout := 24*time.Hour, time.DateOnly
			if kind == "timestamp" {
				unit, layout = 6*time.Hour, time.DateTime
			}
			for range 1 + r.IntN(8) {
				s := one{pick(r, "A", "B"), time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(r.IntN(60)) * unit), time.Time{}}
				to := ""
				if r.IntN(5) > 0 {
					s.to = s.from.Add(time.Duration(r.IntN(30)-3) * unit)
					to = s.to.Format(layout)
				}
				text += fmt.Sprintf("%s,%s,%s\n", s.lock, s.from.Format(layout), to)
				if to != "" && !s.to.After(s.from) {
					aside++
					continue
				}
				spans = append(spans, s)
				for _, at := range []time.Time{s.from, s.to.Add(-1)} {
					if at.After(last) {
						last = at
					}
				}
			}
			if said {
				last = through
			}
			last = endOf(every, last.Truncate(24*time.Hour))
			for _, s := range spans {
				for day := s.from.Truncate(24 * time.Hour); !day.After(last) && (s.to.IsZero() || day.Before(s.to)); day = day.AddDate(0, 0, 1) {
					if end := endOf(every, day); !end.After(last) {
						covers[s.lock+" "+end.Format("0102")] = true
					}
				}
			}
			var want []string
			for x := range covers {
				want = append(want, x)
			}
			slices.Sort(want)
			startest.Write(t, dir, "spans.csv", text)
			if len(want) == 0 {
				continue // a delivery without rows stops the step
			}
			if got, _, _ := strings.Cut(coverage(t, dir), ";"); got != strings.Join(want, ", ") {
				t.Fatalf("seed %d, %s\n%s\n%s", seed, every, text, startest.Difference(strings.ReplaceAll(got, ", ", "\n"), strings.Join(want, "\n")))
			}
			if !startest.Proved(t, dir) {
				t.Error("the star is broken")
			}
		}
	})
}
