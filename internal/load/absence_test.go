package load_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

const deliveredModel = `warehouse:
  %s
limits: {unmatched: none, set_aside: none, gone: none}
sources:
  boats:
    read: boats/*.csv
    columns: {reg: text, no: integer, name: text, class: text, since: date, taken: date}
  trips:
    read: trips.csv
    columns: {trip: integer, reg: text, no: integer, at: date}
dimensions:
  boat:
    from: boats
    natural_key: [reg, no]
    %s: name
    type_2: class
    effective: since
    first_version: from_effective
    delivers: all
    gone: close
    complete_for: reg
    delivered_on: taken
  hull:
    from: boats
    natural_key: [reg, no]
    type_1: [name, class]
    delivers: all
    gone: flag
    complete_for: reg
    delivered_on: taken
facts:
  trip:
    from: trips
    grain: trip
    keys:
      boat:
        by: [reg, no]
        as_of: at
      hull: [reg, no]
`

// delivered is a row of a delivery of all; times are days of March.
type delivered struct {
	reg         string
	no          int
	name, class string
	since       int
}

// TestGone holds deliveries of all against a restatement that goes through each member's days: whoever is not in a
// delivery of its registry is gone from that day on, comes back as the same member, and however deliveries are cut
// into loads, the history is one (rules R8 and R13). Deliveries loaded before may be read again.
func TestGone(t *testing.T) {
	for seed := range uint64(startest.Runs(25)) {
		warehouse := "sqlite: star.db"
		if seed%5 == 4 {
			connection, schema := startest.Postgres(t)
			warehouse = "postgres: " + connection + "\n  schema: " + schema
		}
		if !t.Run(fmt.Sprint(seed), func(t *testing.T) { goneCase(t, seed, warehouse) }) {
			return
		}
	}
}

func goneCase(t *testing.T, seed uint64, warehouse string) {
	r := rand.New(rand.NewPCG(seed, 13))
	dir := t.TempDir()
	kind := pick(r, "type_1", "type_3")
	startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(deliveredModel, warehouse, kind))
	trips := "trip,reg,no,at\n"
	for n := range 20 {
		trips += fmt.Sprintf("%d,%s,%d,2025-03-%02d\n", n, pick(r, "N", "S"), r.IntN(4), 1+r.IntN(30))
	}
	startest.Write(t, dir, "trips.csv", trips)
	deliveries := map[string]map[int][]delivered{"N": {}, "S": {}} // by registry and day
	own := r.IntN(2) == 0                                          // rows say themselves since when they are so
	last := map[string]delivered{}
	day := 1
	for load := range 3 {
		if r.IntN(2) == 0 { // what was loaded is there no longer
			if err := os.RemoveAll(dir + "/boats"); err != nil {
				t.Fatal(err)
			}
		}
		for range 1 + r.IntN(2) {
			day += 1 + r.IntN(4)
			reg := pick(r, "N", "S", "N")
			file := "reg,no,name,class,since,taken\n"
			deliveries[reg][day] = nil
			for no := range 4 {
				id := fmt.Sprint(reg, no)
				if away := r.IntN(3) == 0; away &&
					(no < 3 || len(deliveries[reg][day]) > 0) { // a delivery without any row stops
					continue
				}
				row, known := last[id]
				if !known || !own || r.IntN(3) == 0 {
					row = delivered{reg, no, pick(r, "Heron", "Otter"), pick(r, "A", "B"), day}
					if own && r.IntN(2) == 0 { // it tells of something earlier
						row.since = 1 + r.IntN(day)
					}
				}
				last[id] = row
				deliveries[reg][day] = append(deliveries[reg][day], row)
				file += fmt.Sprintf(
					"%s,%d,%s,%s,2025-03-%02d,2025-03-%02d\n",
					reg,
					no,
					row.name,
					row.class,
					row.since,
					day,
				)
			}
			if strings.Count(file, "\n") == 1 { // what has no row says nothing
				delete(deliveries[reg], day)
			}
			startest.Write(t, dir, fmt.Sprintf("boats/%02d-%s.csv", day, reg), file)
		}
		if run, err := startest.Load(t, dir, load2(r)); err != nil {
			t.Fatal(err, run.Steps[0].Message, run.Steps[1].Message)
		}
		if load == 0 {
			continue
		}
		want, got := strings.Join(standing(deliveries, kind), "\n"), strings.Join(inTables(t, dir), "\n")
		if want != got {
			t.Fatalf("after load %d:\n%s\ndeliveries:\n%s", load+1, startest.Difference(want, got), told(deliveries))
		}
		if !startest.Proved(t, dir) {
			t.Fatal("a right star is said to be broken")
		}
	}
}

func load2(r *rand.Rand) load.Options { return load.Options{Workers: 1 + r.IntN(3)} }

// told writes deliveries for whoever reads a failure.
func told(deliveries map[string]map[int][]delivered) string {
	s := ""
	for reg, days := range deliveries {
		for _, day := range slices.Sorted(maps.Keys(days)) {
			s += fmt.Sprintln(reg, day, days[day])
		}
	}
	return s
}

// standing says what stands of boats and hulls after all deliveries.
func standing(deliveries map[string]map[int][]delivered, kind string) []string {
	var lines []string
	for reg, days := range deliveries {
		for no := range 4 {
			rows := map[int]delivered{} // by the day since when they are so; what was delivered last counts
			marks := map[int]bool{}     // gone or back
			seen, away := false, false
			var latest delivered
			for _, day := range slices.Sorted(maps.Keys(days)) {
				here := slices.IndexFunc(days[day], func(d delivered) bool { return d.no == no })
				if here >= 0 {
					latest = days[day][here]
					rows[latest.since] = latest
				}
				if seen && away == (here >= 0) {
					away = here < 0
					marks[day] = away
				}
				seen = seen || here >= 0
			}
			if !seen {
				continue
			}
			lines = append(lines, fmt.Sprintf("hull %s %d %s %s %v", reg, no, latest.name, latest.class, away))
			type version struct {
				from, class string
				away        bool
			}
			var versions []version
			name, before := "", ""
			for day := range 32 {
				row, told := rows[day]
				gone, marked := marks[day]
				now := version{fmt.Sprintf("2025-03-%02d", day), row.class, gone}
				if told {
					if kind == "type_3" && name != "" && row.name != name {
						before = name
					}
					now.away, name = false, row.name
				} else if !marked || len(versions) == 0 {
					continue
				} else {
					now.class = versions[len(versions)-1].class
				}
				if n := len(versions); n == 0 || versions[n-1].class != now.class || versions[n-1].away != now.away {
					versions = append(versions, now)
				}
			}
			for i, v := range versions {
				to := "9999-12-31"
				if i+1 < len(versions) {
					to = versions[i+1].from
				}
				lines = append(
					lines,
					fmt.Sprintf(
						"boat %s %d %s<%s %s %s %s %v %v",
						reg,
						no,
						name,
						before,
						v.class,
						v.from,
						to,
						i+1 == len(versions),
						v.away,
					),
				)
			}
		}
	}
	slices.Sort(lines)
	return lines
}

// inTables lists what is in the tables, in the words of standing.
func inTables(t *testing.T, dir string) []string {
	var lines []string
	star := startest.Star(t, dir)
	for _, r := range star["dim_boat"] {
		if r["reg"] != "" && r["is_inferred"] == "false" {
			lines = append(
				lines,
				fmt.Sprintf(
					"boat %s %s %s<%s %s %s %s %s %s",
					r["reg"],
					r["no"],
					r["name"],
					r["previous_name"],
					r["class"],
					r["valid_from"],
					r["valid_to"],
					r["is_current"],
					r["is_gone"],
				),
			)
		}
	}
	for _, r := range star["dim_hull"] {
		if r["reg"] != "" && r["is_inferred"] == "false" {
			lines = append(
				lines,
				fmt.Sprintf("hull %s %s %s %s %s", r["reg"], r["no"], r["name"], r["class"], r["is_gone"]),
			)
		}
	}
	slices.Sort(lines)
	return lines
}
