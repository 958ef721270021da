package load_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

const ofFileModel = `warehouse: {sqlite: star.db}
parameters:
  day: {type: date, default: 2025-01-%02d}
limits: {gone: none}
sources:
  customers:
    read: "d/*"
    columns: {no: text, city: text, name: text}
    of_file: {as_at: delivered}
    delivered_by: day
dimensions:
  customer:
    from: customers
    natural_key: no
    type_1: name
    type_2: city
    effective: as_at
    delivers: all
    gone: close
    delivered_on: as_at
`

// TestDelivered: full extracts without dates, each of which is written over the one before it, make the same dimension as
// files with the date in their names, which all stay. Reading a file again on another day makes no difference, nor does
// compressing or moving it.
func TestDelivered(t *testing.T) {
	manyCases(t, 6, func(t *testing.T, seed uint64) {
		settled(t, seed)
		r := rand.New(rand.NewPCG(seed, 36))
		over, dated := t.TempDir(), t.TempDir()
		name, story := "d/c.csv", ""
		loads := func(dir string, day int, again bool) {
			startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(ofFileModel, day))
			if _, err := startest.Load(t, dir, load.Options{Again: again}); err != nil {
				t.Fatalf("%v\n%s", err, story)
			}
		}
		for day := 1; day < 25; day += 1 + r.IntN(4) {
			rows := "no,city,name\n"
			for no := range 6 {
				if r.IntN(4) > 0 {
					rows += fmt.Sprintf("%d,%s,n%d\n", no, pick(r, "Aberlock", "Brigg"), r.IntN(3))
				}
			}
			rows += fmt.Sprintf("9,Brigg,%d\n", day) // no two are alike
			story += fmt.Sprintf("%d\n%s", day, rows)
			os.Remove(filepath.Join(over, name))
			startest.Write(t, over, strings.TrimSuffix(name, ".gz"), rows)
			name = strings.TrimSuffix(name, ".gz")
			startest.Write(t, dated, fmt.Sprintf("d/c-2025-01-%02d.csv", day), rows)
			loads(over, day, false)
			loads(dated, 28, r.IntN(3) == 0)
			later := day + r.IntN(3)
			switch r.IntN(4) {
			case 0:
				compress(t, filepath.Join(over, name))
				name = "d/c.csv.gz"
			case 1:
				to := fmt.Sprintf("d/c%d.csv", day)
				if err := os.Rename(filepath.Join(over, name), filepath.Join(over, to)); err != nil {
					t.Fatal(err)
				}
				name = to
			}
			loads(over, later, r.IntN(2) == 0)
			got := startest.Dump(t, over, "customer_key", "load_run")
			if want := startest.Dump(t, dated, "customer_key", "load_run"); got != want {
				t.Fatalf("%s\n%s", startest.Difference(want, got), story)
			}
			if !startest.Proved(t, over) || !startest.Proved(t, dated) {
				t.Fatalf("the proof is broken:\n%s", story)
			}
		}
	})
}
