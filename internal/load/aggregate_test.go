package load_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// TestAggregate holds a fact that is rolled up from another one, to months and to an attribute of a dimension, against
// the query that it means, after each load: base rows that are new, corrected, gone or back, and members whose
// attribute changes.
func TestAggregate(t *testing.T) {
	const model = `warehouse: {sqlite: star.db}
limits: {set_aside: none, gone: none}
sources:
  trips: {read: "t/*.csv", columns: {no: integer, lock: text, day: date, toll: "decimal(9,2)"}}
  locks: {read: "l/*.csv", columns: {code: text, waterway: text}}
  where: {from: dimension lock, columns: [code, waterway]}
  monthly:
    from: fact trip
    leave_out: {by the dozen: toll = 12}
    join:
      where: {by: {code: lock_code}, bring: waterway, unmatched: leave_empty}
    derive: {month: "date_trunc('month', day)"}
    group:
      by: [waterway, month]
      aggregates: {trips: count, toll: sum(toll), tolls: count(toll), least: min(toll), most: max(toll)}
dimensions:
  lock: {from: locks, natural_key: code}
  waterway: {rows: [{code: East}, {code: West}], natural_key: code}
  date: {calendar: {from: 2024-01-01, to: 2026-12-31}}
facts:
  trip:
    from: trips
    grain: no
    repeated: replace
    delivers: files
    gone: remove
    keys: {lock: {by: lock, unmatched: unknown}}
    degenerate: day
    measures: toll
  monthly:
    from: monthly
    grain: [waterway, month]
    repeated: replace
    delivers: all
    gone: remove
    keys: {waterway: {by: waterway, missing: unknown}, month: {dimension: date, by: month, missing: unknown}}
    measures: [trips, toll, tolls, least, most]
`
	const means = `select nullif(l.waterway, 'Unknown'), coalesce(cast(strftime('%Y%m01', t.day) as integer), -1), count(*) as trips, sum(t.toll) as toll, count(t.toll) as tolls, min(t.toll) as least, max(t.toll) as most
		from fact_trip t join dim_lock l using (lock_key) where t.toll is not 12 group by 1, 2`
	manyCases(t, 8, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 71))
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", inEither(t, seed, model))
		for n := range 8 {
			if n == 0 || n < 5 && r.IntN(3) == 0 {
				text := "code,waterway\n"
				for _, code := range []string{"A", "B", "C", "D"} {
					text += fmt.Sprintf("%s,%s\n", code, pick(r, "East", "West"))
				}
				startest.Write(t, dir, fmt.Sprintf("l/%d.csv", n), text)
			}
			file := r.IntN(3)
			if n >= 5 { // a file of its own: the last loads only add rows
				file = n
			}
			text := "no,lock,day,toll\n"
			for k := range 20 {
				if r.IntN(4) > 0 && (n != 7 || k == 0) {
					day := fmt.Sprintf("2025-%02d-%02d", 1+r.IntN(3), 1+r.IntN(28))
					text += fmt.Sprintf("%d,%s,%s,%s\n", file*20+k, pick(r, "A", "B", "C", "D", "", "Z"), pick(r, day, day, day, ""), pick(r, "1.50", "22.25", "", "-3.00", "12.00"))
				}
			}
			startest.Write(t, dir, fmt.Sprintf("t/%d.csv", file), text)
			run, err := startest.Load(t, dir, load.Options{Piece: 1 + r.IntN(300), Memory: []int64{0, 1}[r.IntN(2)]})
			if err != nil {
				t.Fatal(err)
			}
			grew := false
			for _, s := range run.Steps {
				grew = grew || len(s.Figures.Notes) > 0 && strings.HasSuffix(s.Figures.Notes[0], "are added to the sums that stand")
			}
			if n == 6 && !grew {
				t.Errorf("seed %d: all rows were added up again: %+v", seed, run.Steps[len(run.Steps)-1].Figures)
			}
			have := "select w.code, month_date_key, trips, round(toll, 2), tolls, least, most from fact_monthly join dim_waterway w using (waterway_key)"
			want := strings.NewReplacer("sum(t.toll)", "round(sum(t.toll), 2)").Replace(means)
			for _, differ := range []string{"select count(*) from (" + have + " except " + want + ")", "select count(*) from (" + want + " except " + have + ")"} {
				if seed%3 != 1 && !startest.Try(t, dir, "create temp table found (n check (n = 0)); insert into found "+differ) {
					t.Fatalf("seed %d, load %d: the aggregate is not what its base says", seed, n)
				}
			}
			if !startest.Proved(t, dir) {
				t.Errorf("seed %d, load %d: the star is broken", seed, n)
			}
		}
	})
}

// TestAggregateOfTwice: a fact that adds up rows of another one, which are completed by others of the same, reads all
// of it, whatever came since.
func TestAggregateOfTwice(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
sources:
  trips: {read: "t/*.csv", columns: {no: integer, after: integer, boat: text, toll: "decimal(9,2)"}}
  before: {from: fact trip, columns: [no, toll]}
  boats:
    from: fact trip
    join: {before: {by: {no: after}, bring: {toll: before}, unmatched: leave_empty}}
    group: {by: boat, aggregates: {trips: count, before: sum(before)}}
dimensions:
  zone: {rows: [{code: A}], natural_key: code}
facts:
  trip: {from: trips, grain: no, repeated: replace, degenerate: [after, boat], measures: toll}
  boat: {from: boats, grain: boat, repeated: replace, measures: [trips, before]}
`)
	startest.Write(t, dir, "t/1.csv", "no,after,boat,toll\n1,,A,5.00\n2,1,A,7.00\n3,2,B,1.00\n")
	for n, want := range []string{"A 2 5, B 1 7", "A 3 12, B 1 7"} {
		if n == 1 {
			startest.Write(t, dir, "t/2.csv", "no,after,boat,toll\n4,2,A,2.00\n")
		}
		if _, err := startest.Load(t, dir, load.Options{}); err != nil {
			t.Fatal(err)
		}
		var list []string
		for _, row := range startest.Star(t, dir)["fact_boat"] {
			list = append(list, row["boat"]+" "+row["trips"]+" "+strings.TrimSuffix(row["before"], ".00"))
		}
		slices.Sort(list)
		if got := strings.Join(list, ", "); got != want || !startest.Proved(t, dir) {
			t.Errorf("load %d: %s, want %s", n, got, want)
		}
	}
}
