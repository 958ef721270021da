package load_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// TestWindow holds columns that depend on other rows against the window functions of SQLite over the loaded table: with
// nulls, equal times, rows that are set aside, one window made of another, in memory and on disk; and again once more
// rows have come.
func TestWindow(t *testing.T) {
	const model = `warehouse: {sqlite: star.db}
limits: {set_aside: none}
sources:
  read: {read: "w/*", columns: {no: integer, gauge: text, site: text, day: date, level: "decimal(9,2)"}}
  levels:
    from: read
    require: {not negative: level is null or level >= 0}
    window:
      before: lag(level) over (partition by gauge order by day)
      after: lead(day) over (partition by gauge, site order by day desc, level)
      place: row_number() over (partition by site order by level desc, no)
      total: SUM ( level ) OVER (PARTITION BY gauge ORDER BY day)
      lowest: min(level) over (order by day)
      highest: max(gauge) over (partition by site)
      n: count(*) over (partition by gauge order by day desc)
      change: lag(before) over (partition by gauge order by day)
    %s
facts:
  level:
    from: levels
    grain: no
    repeated: replace
    degenerate: [gauge, site, day, after, highest]
    measures: [level, before, place, total, lowest, n, change]
dimensions:
  date: {calendar: {from: 2024-01-01, to: 2025-12-31}}
`
	expected := map[string]string{
		"before":  "lag(level) over (partition by gauge order by day nulls last, load_line)",
		"after":   "lead(day) over (partition by gauge, site order by day desc nulls first, level nulls last, load_line)",
		"place":   "row_number() over (partition by site order by level desc nulls first, no)",
		"total":   "sum(level) over (partition by gauge order by day nulls last)",
		"lowest":  "min(level) over (order by day nulls last)",
		"highest": "max(gauge) over (partition by site)",
		"n":       "count(*) over (partition by gauge order by day desc nulls first)",
		"change":  "lag(before) over (partition by gauge order by day nulls last, load_line)",
	}
	manyCases(t, 4, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 47))
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(model, []string{"", "distinct: {by: no}"}[r.IntN(2)]))
		no := 0
		write := func(file string) {
			text := "no,gauge,site,day,level\n"
			for range r.IntN(60) {
				no++
				level := fmt.Sprintf("%d.%02d", r.IntN(20), r.IntN(100))
				switch r.IntN(10) {
				case 0:
					level = ""
				case 1:
					level = "-" + level
				case 2:
					level = "x"
				}
				text += fmt.Sprintf("%d,%s,%s,%s,%s\n", no, pick(r, "G1", "G2", "", "Ä"), pick(r, "S1", "S2"), pick(r, "2024-01-03", "2024-02-01", "2024-02-02", ""), level)
			}
			startest.Write(t, dir, file, text)
		}
		check := func() {
			t.Helper()
			if _, err := startest.Load(t, dir, load.Options{Piece: 1 + r.IntN(300), Workers: 1 + r.IntN(3), Memory: []int64{0, 1, 3000}[r.IntN(3)]}); err != nil {
				t.Fatal(err)
			}
			for name, sql := range expected {
				if name == "total" {
					name, sql = "round(total, 2)", "round("+sql+", 2)"
				}
				differ := fmt.Sprintf("select count(*) from (select %s as have, %s as want from fact_level) where have is not want", name, sql)
				if !startest.Try(t, dir, "create temp table found (n check (n = 0)); insert into found "+differ) {
					t.Errorf("seed %d: %s is not %s", seed, name, sql)
				}
			}
			if !startest.Proved(t, dir) {
				t.Errorf("seed %d: the star is broken", seed)
			}
		}
		write("w/1.csv")
		write("w/3.csv")
		check()
		write("w/9.csv") // lines are numbered by when their files came
		check()
	})
}
