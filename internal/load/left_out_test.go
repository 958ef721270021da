package load_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

const leftOutModel = `warehouse: {sqlite: star.db}
sources:
  meals:
    read: m.*
    %s
    columns: {no: integer, day: date, dish: text, price: "decimal(6,2)", eaten: integer}
    %s
facts:
  meal: {from: meals, grain: no, degenerate: [day, dish], measures: [price, eaten]}
limits: {set_aside: none}
dimensions:
  date: {calendar: {from: 2025-01-01, to: 2025-12-31}}
`

// TestLeftOut holds files with lines that are not meant against the same files without them. Such a line may have too
// few fields, or a text where a number belongs, and it is counted as left out, and as nothing else.
func TestLeftOut(t *testing.T) {
	manyCases(t, 20, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 43))
		form, ext := "csv: {nulls: [none]}", "csv"
		switch seed % 4 {
		case 1:
			form = "csv: {header: none}"
		case 2:
			form = "csv: {header: {line: 3}, separator: \";\"}"
		case 3:
			form, ext = "format: json_lines", "jsonl"
		}
		write := func(dir string, all bool) (left, aside int) {
			r := rand.New(rand.NewPCG(seed, 44))
			var b strings.Builder
			switch form {
			case "csv: {nulls: [none]}":
				b.WriteString("no,day,dish,price,eaten\n")
			case "csv: {header: {line: 3}, separator: \";\"}":
				b.WriteString("\"Meals;\n\nno;day;dish;price;eaten\n")
			}
			sep := ","
			if seed%4 == 2 {
				sep = ";"
			}
			for n := range 60 {
				fields := []string{fmt.Sprint(n), "2025-01-0" + fmt.Sprint(1+r.IntN(9)), pick(r, "soup", "fish", "\"a, b\""), pick(r, "1.50", "2.00"), "1"}
				meant := true
				switch r.IntN(6) {
				case 0:
					fields, meant = []string{pick(r, "Total", "Total (12)"), "", "", "99.99", "7"}, false
				case 1:
					fields[2], meant = "TEST", false
					fields[3] = pick(r, "x", "1.00")
				case 2:
					if fields[3] = pick(r, "dear", "1.00"); fields[3] == "dear" {
						aside++
					}
				}
				if ext == "csv" && !meant && r.IntN(3) == 0 && n > 0 { // the first row says how many fields there are without a header
					fields = fields[:3] // a short line
					fields[0] = "Total of the day"
				}
				if !meant {
					left++
				}
				if !meant && !all {
					continue
				}
				if ext == "csv" {
					b.WriteString(strings.Join(fields, sep) + "\n")
					continue
				}
				fmt.Fprintf(&b, "{\"no\": %q, \"day\": %q, \"dish\": %q, \"price\": %q, \"eaten\": %s}\n",
					fields[0], fields[1], strings.Trim(fields[2], `"`), fields[3], fields[4])
			}
			startest.Write(t, dir, "m."+ext, strings.ReplaceAll(b.String(), `""`, "null"))
			return left, aside
		}
		clean, messy := t.TempDir(), t.TempDir()
		startest.Write(t, clean, "ironmonger.yaml", fmt.Sprintf(leftOutModel, form, ""))
		startest.Write(t, messy, "ironmonger.yaml",
			fmt.Sprintf(leftOutModel, form, "leave_out: {total: no like 'Total%', test: dish = 'TEST' and eaten = '1'}"))
		write(clean, false)
		left, aside := write(messy, true)
		was, err := startest.Load(t, clean, load.Options{Piece: 1 + r.IntN(300)})
		if err != nil {
			t.Fatal(err)
		}
		is, err := startest.Load(t, messy, load.Options{Piece: 1 + r.IntN(300)})
		if err != nil {
			t.Fatal(err)
		}
		if a, b := startest.Dump(t, clean, "load_line"), startest.Dump(t, messy, "load_line"); a != b {
			t.Fatalf("lines that are left out have changed the star:\n%s", startest.Difference(a, b))
		}
		want, got := was.Steps[len(was.Steps)-1].Figures, is.Steps[len(is.Steps)-1].Figures
		if got.Read != want.Read+int64(left) || got.LeftOut != int64(left) || got.SetAside != want.SetAside || got.SetAside != int64(aside) ||
			got.Left["total"]+got.Left["test"] != int64(left) || fmt.Sprint(got.Totals) != fmt.Sprint(want.Totals) {
			t.Errorf("%d lines are not meant, and %d are set aside; without them %+v, with them %+v", left, aside, want, got)
		}
		if !startest.Proved(t, messy) {
			t.Error("the star is broken")
		}
	})
}
