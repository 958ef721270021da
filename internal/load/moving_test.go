package load_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/startest"
)

const movingModel = `warehouse: {sqlite: star.db}
limits: {unmatched: none, set_aside: none, gone: none}
sources:
  boats:
    read: boats/*.csv
    columns: {no: integer, depot: text, class: text, since: date, taken: date}
dimensions:
  closed: {from: boats, natural_key: no, type_1: [], type_2: [class, depot], effective: taken, first_version: from_effective, delivers: all, gone: close, complete_for: depot, delivered_on: taken}
  flagged: {from: boats, natural_key: no, type_1: [class, depot], delivers: all, gone: flag, complete_for: depot, delivered_on: taken}
  own: {from: boats, natural_key: no, type_1: [class, depot], effective: since, delivers: all, gone: flag, complete_for: depot, delivered_on: taken}
`

// TestMoving holds deliveries of all of a scope that members move between against a restatement by days: each
// delivery counts with the scope that its own rows have, in the order of the deliveries, whatever their files are
// called, however they are cut into loads, and whichever files are still there.
func TestMoving(t *testing.T) {
	for seed := range uint64(startest.Runs(40)) {
		if !t.Run(fmt.Sprint(seed), func(t *testing.T) { movingCase(t, seed) }) {
			return
		}
	}
}

func movingCase(t *testing.T, seed uint64) {
	type row struct {
		depot, class string
		since        int
	}
	settled(t, seed)
	r := rand.New(rand.NewPCG(seed, 17))
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", movingModel)
	at := map[int]string{}                         // where each boat really is; nowhere is ""
	deliveries := map[int]map[string]map[int]row{} // by day and depot
	day := 0
	for load := range 4 {
		if files, _ := filepath.Glob(dir + "/boats/*"); r.IntN(2) == 0 {
			for _, f := range files {
				if r.IntN(2) == 0 {
					os.Remove(f) // archived
				}
			}
		}
		for range 1 + r.IntN(3) {
			day += 1 + r.IntN(3)
			for no := range 6 {
				if r.IntN(3) == 0 {
					at[no] = pick(r, "N", "S", "W", "")
				}
			}
			deliveries[day] = map[string]map[int]row{}
			for _, depot := range []string{"N", "S", "W"} {
				rows := map[int]row{}
				text := "no,depot,class,since,taken\n"
				for no := range 6 {
					if at[no] == depot {
						x := row{depot, pick(r, "A", "B"), 1 + r.IntN(day)}
						rows[no] = x
						text += fmt.Sprintf("%d,%s,%s,2025-03-%02d,2025-03-%02d\n", no, depot, x.class, x.since, day)
					}
				}
				if len(rows) > 0 && (r.IntN(3) > 0) {
					deliveries[day][depot] = rows
					startest.Write(
						t,
						dir,
						fmt.Sprintf("boats/%s-%d.csv", pick(r, "a", "b", "c"), day*10+int(depot[0])%7),
						text,
					)
				}
			}
		}
		if files, _ := filepath.Glob(dir + "/boats/*"); len(files) == 0 {
			return
		}
		if run, err := startest.Load(t, dir, load2(r)); err != nil {
			t.Fatal(err, run.Steps[0].Message, run.Steps[1].Message, run.Steps[2].Message)
		}
		var want []string
		for no := range 6 {
			var last row
			var versions []string
			depot, state, away := "", "", false
			owned := map[int]row{} // by since, what was delivered last
			for _, day := range slices.Sorted(maps.Keys(deliveries)) {
				now := state
				for _, d := range slices.Sorted(maps.Keys(deliveries[day])) {
					if x, here := deliveries[day][d][no]; here {
						last, depot, away = x, d, false
						owned[x.since] = x
						now = fmt.Sprintf("%s %s false", x.class, d)
					}
				}
				if rows, came := deliveries[day][depot]; came && depot != "" && last.class != "" {
					if _, here := rows[no]; !here {
						away = true
						now = fmt.Sprintf("%s %s true", last.class, depot)
					}
				}
				if now != state {
					versions = append(versions, fmt.Sprintf("closed %d %s 2025-03-%02d", no, now, day))
					state = now
				}
			}
			if last.class == "" {
				continue
			}
			latest := owned[slices.Max(slices.Collect(maps.Keys(owned)))]
			want = append(want, versions...)
			want = append(
				want,
				fmt.Sprintf("flagged %d %s %s %v", no, last.class, last.depot, away),
				fmt.Sprintf("own %d %s %s %v", no, latest.class, latest.depot, away),
			)
		}
		slices.Sort(want)
		var got []string
		for table, rows := range startest.Star(t, dir) {
			for _, x := range rows {
				if x["no"] != "" {
					got = append(
						got,
						strings.TrimRight(
							fmt.Sprintf(
								"%s %s %s %s %s %s",
								strings.TrimPrefix(table, "dim_"),
								x["no"],
								x["class"],
								x["depot"],
								x["is_gone"],
								x["valid_from"],
							),
							" ",
						),
					)
				}
			}
		}
		slices.Sort(got)
		if a, b := strings.Join(want, "\n"), strings.Join(got, "\n"); a != b {
			t.Fatalf("after load %d:\n%s\ndeliveries: %v", load+1, startest.Difference(a, b), deliveries)
		}
		if !startest.Proved(t, dir) {
			t.Fatal("a right star is said to be broken")
		}
	}
}
