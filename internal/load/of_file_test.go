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

// TestDelivered: full extracts without dates, each of which is written over the one before it, make the same dimension
// as files with the date in their names, which all stay. Reading a file again on another day makes no difference, nor
// does compressing or moving it.
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

// TestPartOfPath holds columns that paths tell against files that have these values in their rows, and has paths that
// do not tell them.
func TestPartOfPath(t *testing.T) {
	const model = `warehouse: {sqlite: star.db}
limits: {set_aside: none}
sources:
  stock:
    read: "stock/*/*.csv"
    columns: {item: text, pieces: integer%s}
    %s
facts:
  stock: {from: stock, grain: [site, month, item], keys: {month: {dimension: date, by: month}}, degenerate: no, measures: pieces}
dimensions:
  date: {calendar: {from: 2024-01-01, to: 2025-12-31}}
`
	told, rows := t.TempDir(), t.TempDir()
	startest.Write(t, told, "ironmonger.yaml", fmt.Sprintf(model, "", `of_file:
      site: {part: "stock/{}/*.csv"}
      month: {part: "{}_*.csv", type: date, layout: [MMM-yyyy, MM.yyyy]}
      no: {part: "*_{}.csv", type: integer}`))
	startest.Write(t, rows, "ironmonger.yaml", fmt.Sprintf(model, ", site: text, month: date, no: integer", ""))
	for _, site := range []string{"North Quay", "mill"} {
		for m, month := range []string{"Jan-2025", "02.2025", "mar-2025"} {
			file := fmt.Sprintf("stock/%s/%s_%d.csv", site, month, m+7)
			startest.Write(t, told, file, "item,pieces\na,1\nb,2\n")
			startest.Write(t, rows, file, fmt.Sprintf("item,pieces,site,month,no\na,1,%s,2025-0%d-01,%d\nb,2,%s,2025-0%d-01,%d\n", site, m+1, m+7, site, m+1, m+7))
		}
	}
	for _, dir := range []string{told, rows} {
		if _, err := startest.Load(t, dir, load.Options{}); err != nil {
			t.Fatal(err)
		}
	}
	if a, b := startest.Dump(t, rows), startest.Dump(t, told); a != b {
		t.Errorf("paths tell something else:\n%s", startest.Difference(a, b))
	}
	startest.Write(t, told, "stock/mill/Smarch-2025_3.csv", "item,pieces\nc,5\n")
	startest.Write(t, told, "stock/mill/04.2025_x.csv", "item,pieces\nc,5\nd,6\n")
	startest.Write(t, told, "stock/mill/05.2025.csv", "item,pieces\nc,5\n")
	run, err := startest.Load(t, told, load.Options{})
	if err != nil {
		t.Fatal(err)
	}
	figures := run.Steps[len(run.Steps)-1].Figures
	reasons := fmt.Sprint(figures.Reasons)
	for _, want := range []string{
		"Smarch-2025 in stock/mill/Smarch-2025_3.csv is not written as MMM-yyyy or MM.yyyy",
		"x in stock/mill/04.2025_x.csv is not an integer", "stock/mill/05.2025.csv is not written as {}_*.csv",
	} {
		if !strings.Contains(reasons, want) || figures.SetAside != 4 {
			t.Errorf("%q is not in %s (%d set aside)", want, reasons, figures.SetAside)
		}
	}
}
