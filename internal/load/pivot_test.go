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

// TestPivot holds rows that become columns, in any order and in several files, against files that have these columns;
// and what is of no column is set aside or not counted.
func TestPivot(t *testing.T) {
	const model = `warehouse: {sqlite: star.db}
limits: {set_aside: none}
sources:
  meters: {read: "m/*", columns: {meter: integer, town: text, %s}%s}
facts:
  reading: {from: meters, grain: [meter, town], measures: [january, feb]}
dimensions:
  date: {calendar: {from: 2024-01-01, to: 2025-12-31}}
`
	manyCases(t, 20, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 46))
		wide, long := t.TempDir(), t.TempDir()
		others := []string{"", ", others: leave_out"}[r.IntN(2)]
		several := []string{"", ", several: sum", ", several: max"}[r.IntN(3)]
		startest.Write(t, wide, "ironmonger.yaml", fmt.Sprintf(model, `january: "decimal(7,2)", feb: "decimal(7,2)"`, ""))
		startest.Write(t, long, "ironmonger.yaml", fmt.Sprintf(model, `month: integer, amount: "decimal(7,2)"`,
			`, pivot: {by: [meter, town], name: month, value: amount, columns: {january: 1, feb: "2"}`+others+several+"}"))
		var rows []string
		a, odd := "meter,town,january,feb\n", 0
		for n := range 60 {
			values := [2]string{}
			for k := range values {
				cents := r.IntN(100_000)
				if r.IntN(4) == 0 {
					continue
				}
				values[k] = fmt.Sprintf("%d.%02d", cents/100, cents%100)
				switch {
				case strings.Contains(several, "sum") && cents > 50:
					rows = append(rows, fmt.Sprintf("%d,T%d,%d,0.50\n", n/2, n%2, k+1))
					cents -= 50
				case strings.Contains(several, "max") && cents > 50:
					rows = append(rows, fmt.Sprintf("%d,T%d,%d,0.50\n", n/2, n%2, k+1))
				}
				rows = append(rows, fmt.Sprintf("%d,T%d,%d,%d.%02d\n", n/2, n%2, k+1, cents/100, cents%100))
			}
			if values[0]+values[1] == "" { // a row without a value
				rows = append(rows, fmt.Sprintf("%d,T%d,%d,\n", n/2, n%2, 1+r.IntN(2)))
			}
			a += fmt.Sprintf("%d,T%d,%s,%s\n", n/2, n%2, values[0], values[1])
			if r.IntN(5) == 0 {
				rows = append(rows, fmt.Sprintf("%d,T%d,%s,7.00\n", n/2, n%2, pick(r, "3", "")))
				odd++
			}
		}
		startest.Write(t, wide, "m/x.csv", a)
		r.Shuffle(len(rows), func(i, k int) { rows[i], rows[k] = rows[k], rows[i] })
		for k := range 3 {
			startest.Write(t, long, fmt.Sprintf("m/%d.csv", k), "meter,town,month,amount\n"+strings.Join(rows[k*len(rows)/3:(k+1)*len(rows)/3], ""))
		}
		run, err := startest.Load(t, long, load.Options{Piece: 1 + r.IntN(200), Workers: 2, Memory: []int64{0, 1}[r.IntN(2)]})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := startest.Load(t, wide, load.Options{}); err != nil {
			t.Fatal(err)
		}
		facts := func(dir string) []string {
			var list []string
			for _, row := range startest.Star(t, dir)["fact_reading"] {
				list = append(list, row["meter"]+" "+row["town"]+" "+row["january"]+" "+row["feb"])
			}
			slices.Sort(list)
			return list
		}
		aside := run.Steps[len(run.Steps)-1].Figures.SetAside
		if others != "" {
			odd = 0
		}
		if got, want := facts(long), facts(wide); !slices.Equal(got, want) || aside != int64(odd) {
			t.Errorf("%q\n%q\n%d set aside, want %d", got, want, aside, odd)
		}
		if !startest.Proved(t, long) {
			t.Error("the star is broken")
		}
	})
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(model, "month: integer, amount: integer", ", pivot: {by: [meter, town], name: month, value: amount, columns: {january: 1, feb: 2}}"))
	startest.Write(t, dir, "m/x.csv", "meter,town,month,amount\n1,T,1,5\n1,T,2,6\n1,T,1,7\n")
	if run, _ := startest.Load(t, dir, load.Options{}); !strings.Contains(run.Steps[len(run.Steps)-1].Message, "m/x.csv:4: pivot: another row has a value for the column january already") {
		t.Error(run.Steps[len(run.Steps)-1].Message)
	}
}
