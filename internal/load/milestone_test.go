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

// TestVersionOfMilestone: a key as of a milestone points to the version of the milestone once it is told, and to the
// current one until then, in whatever order rows and versions come; both warehouses, members that come late or never.
func TestVersionOfMilestone(t *testing.T) {
	manyCases(t, 10, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 11))
		dir := t.TempDir()
		where := "warehouse: {sqlite: star.db}\n"
		if seed%4 == 3 {
			connection, schema := startest.Postgres(t)
			where = "warehouse: {postgres: \"" + connection + "\", schema: " + schema + "}\n"
		}
		all, kind := r.IntN(2) == 0, []string{"date", "timestamp"}[r.IntN(2)]
		startest.Write(t, dir, "ironmonger.yaml", where+`sources:
  boats: {read: "b/*", columns: {boat: text, class: text, since: date}}
  repairs: {read: "r/*", columns: {no: integer, boat: text, done: `+kind+`, cost: integer, told: integer}}
dimensions:
  boat: {from: boats, natural_key: boat, type_2: class, effective: since, durable_key: kept}
facts:
  repair:
    from: repairs
    grain: no
    repeated: complete
    complete: [done, cost]
    rows_tell: `+map[bool]string{true: "all", false: "parts"}[all]+`
    newer_by: told
    keys: {boat: {by: boat, as_of: done, holds: both, unmatched: `+[]string{"infer", "unknown"}[r.IntN(2)]+`}}
    measures: cost
`)
		day := func() string {
			return time.Date(2025, 1, 1+r.IntN(20), 0, 0, 0, 0, time.UTC).Format(time.DateOnly)
		}
		classes := map[string]map[string]string{} // of each boat, by the day since when
		type repair struct{ boat, done string }
		stands := map[int]repair{}
		told := 0
		for step := range 3 + r.IntN(4) {
			boats, repairs := "boat,class,since\n", "no,boat,done,cost,told\n"
			for range r.IntN(4) {
				boat, since, class := string("ABC"[r.IntN(3)]), day(), string("xyz"[r.IntN(3)])
				if classes[boat] == nil {
					classes[boat] = map[string]string{}
				}
				if classes[boat][since] == "" {
					classes[boat][since] = class
					boats += boat + "," + class + "," + since + "\n"
				}
			}
			for range r.IntN(5) {
				told++
				no := r.IntN(6)
				is, there := stands[no]
				if !there {
					is.boat = string("ABCD"[r.IntN(4)])
				}
				done, written := "", ""
				if r.IntN(2) == 0 {
					done = day()
					written = done + strings.Repeat(" 12:00:00", map[string]int{"timestamp": 1}[kind])
				}
				if done != "" || all {
					is.done = done
				}
				stands[no] = is
				repairs += fmt.Sprintf("%d,%s,%s,%d,%d\n", no, is.boat, written, no, told)
			}
			startest.Write(t, dir, fmt.Sprintf("b/%d.csv", step), boats)
			startest.Write(t, dir, fmt.Sprintf("r/%d.csv", step), repairs)
			for range 1 + r.IntN(2) {
				if _, err := startest.Load(t, dir, load.Options{Workers: 1 + r.IntN(3), Piece: 40}); err != nil {
					t.Fatal(err)
				}
			}
			star := startest.Star(t, dir)
			row := map[string]map[string]string{}
			for _, d := range star["dim_boat"] {
				row[d["boat_key"]] = d
			}
			for _, f := range star["fact_repair"] {
				var no int
				fmt.Sscan(f["no"], &no)
				want, d := stands[no], row[f["boat_key"]]
				var days []string
				for since := range classes[want.boat] {
					days = append(days, since)
				}
				if slices.Sort(days); len(days) == 0 {
					continue // inferred, or unknown
				}
				at := days[len(days)-1]
				if want.done != "" {
					at = days[0]
					for _, since := range days {
						if since <= want.done {
							at = since
						}
					}
				}
				if class := classes[want.boat][at]; d["boat"] != want.boat || d["class"] != class || f["boat_durable_key"] != d["boat_durable_key"] ||
					want.done == "" && d["is_current"] != "true" {
					t.Fatalf("repair %d, done %q, points to %v, want class %s of %v\n%v", no, want.done, d, class, classes[want.boat], f)
				}
			}
			if len(star["fact_repair"]) != len(stands) || !startest.Proved(t, dir) {
				t.Fatalf("%d repairs, want %d", len(star["fact_repair"]), len(stands))
			}
		}
		star := startest.Star(t, dir)
		for _, f := range star["fact_repair"] {
			for _, d := range star["dim_boat"] {
				if f["done"] == "" && d["is_current"] == "false" && d["boat_durable_key"] == f["boat_durable_key"] {
					startest.Run(t, dir, "UPDATE fact_repair SET boat_key = "+d["boat_key"]+" WHERE no = "+f["no"])
					if broken := startest.Broken(t, dir); !slices.Contains(broken, "as_of of fact_repair") {
						t.Errorf("a fact that points to another version than the current one is not told: %v", broken)
					}
					return
				}
			}
		}
	})
}
