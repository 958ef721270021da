package load_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// TestUnpivot holds files with a column for each month against files with a row for each: what is empty, does not fit
// or is left out is the same.
func TestUnpivot(t *testing.T) {
	const model = `warehouse: {sqlite: star.db}
limits: {set_aside: none}
sources:
  meters:
    read: "m/*"
    columns: {meter: integer, town: text, %s}
    leave_out: {total: meter = 'Total'}
    of_file: {file: name}
    %s
    require: {not negative: amount >= 0%s}
facts:
  reading: {from: meters, grain: [file, meter, month], degenerate: town, measures: amount}
dimensions:
  date: {calendar: {from: 2024-01-01, to: 2025-12-31}}
`
	manyCases(t, 20, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 45))
		keep := []string{"", "empty: keep, "}[r.IntN(2)]
		null := ""
		if keep != "" {
			null = " or amount is null"
		}
		wide, long := t.TempDir(), t.TempDir()
		startest.Write(t, wide, "ironmonger.yaml", fmt.Sprintf(model, `jan: "decimal(7,2)", feb: "decimal(7,2)", mar: "decimal(7,2)"`,
			"unpivot: {columns: [mar, jan, feb], "+keep+"name: month, value: amount}", null))
		startest.Write(t, long, "ironmonger.yaml", fmt.Sprintf(model, `month: text, amount: "decimal(7,2)"`, "", null))
		left, aside := 0, 0
		for file := range 3 {
			a, b := "meter,town,jan,feb,mar\n", "meter,town,month,amount\n"
			for n := range 20 {
				meter, town := fmt.Sprint(n), pick(r, "Brigg", "Aldmere", "")
				switch r.IntN(9) {
				case 0:
					meter = "Total"
				case 1:
					meter = "x" + meter
				}
				var values [3]string
				for k := range values {
					values[k] = pick(r, "1.00", "2.50", "", "-3.00", "many")
				}
				a += fmt.Sprintf("%s,%s,%s\n", meter, town, strings.Join(values[:], ","))
				if meter == "Total" {
					left++
					continue
				}
				for k, v := range values {
					if v == "" && keep == "" && meter[0] != 'x' {
						left++
						continue
					}
					if v == "many" || v == "-3.00" || meter[0] == 'x' {
						aside++
					}
					b += fmt.Sprintf("%s,%s,%s,%s\n", meter, town, []string{"jan", "feb", "mar"}[k], v)
				}
			}
			startest.Write(t, wide, fmt.Sprintf("m/%d.csv", file), a)
			startest.Write(t, long, fmt.Sprintf("m/%d.csv", file), b)
		}
		run, err := startest.Load(t, wide, load.Options{Piece: 1 + r.IntN(200), Workers: 2})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := startest.Load(t, long, load.Options{}); err != nil {
			t.Fatal(err)
		}
		if a, b := startest.Dump(t, long, "load_line"), startest.Dump(t, wide, "load_line"); a != b {
			t.Fatalf("columns and rows make other stars:\n%s", startest.Difference(a, b))
		}
		f := run.Steps[len(run.Steps)-1].Figures
		if f.LeftOut != int64(left) || f.SetAside != int64(aside) || f.Accounted() != f.Read {
			t.Errorf("%d are left out and %d set aside: %+v", left, aside, f)
		}
		if !startest.Proved(t, wide) {
			t.Error("the star is broken")
		}
	})
}
