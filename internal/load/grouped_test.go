package load_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

const groupedModel = `warehouse: {sqlite: star.db}
limits: {unmatched: none, set_aside: none}
sources:
  lines:
    read: "l/*"
    columns:
      day: date
      shop: text
      amount: decimal(9,2)
    group:
      by: [day, shop]
      aggregates: {amount: sum(amount)}
  shops: {read: "l/*", columns: {shop: text}, distinct: {by: shop}}
dimensions:
  shop: {from: shops, natural_key: shop}
facts:
  sale:
    from: lines
    grain: [day, shop]
    repeated: replace
    keys: {shop: {dimension: shop, by: shop}}
    measures: amount
`

// TestGrouped: files whose rows become one are all read if one of them is new, has changed or is gone, and none
// otherwise; the star is the same as if all were always read (rule R19).
func TestGrouped(t *testing.T) {
	manyCases(t, 6, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 4))
		skips, reads := t.TempDir(), t.TempDir()
		files, sums := map[string]map[string]int{}, map[string]int{}
		for _, dir := range []string{skips, reads} {
			startest.Write(t, dir, "ironmonger.yaml", groupedModel)
		}
		for n := range 8 {
			changed := n == 0
			for _, name := range []string{"a.csv", "b.csv", "c.csv"} {
				path := filepath.Join(skips, "l", name)
				switch r.IntN(6) {
				case 0: // the file is gone
					if len(files) < 2 || files[name] == nil {
						continue
					}
					os.Remove(path)
					os.Remove(filepath.Join(reads, "l", name))
					delete(files, name)
				case 1, 2:
					text := "day,shop,amount\n"
					files[name] = map[string]int{}
					for range 1 + r.IntN(5) {
						grain, cents := fmt.Sprintf("2025-01-0%d,%c", 1+r.IntN(2), 'A'+r.IntN(3)), r.IntN(1000)
						files[name][grain] += cents
						text += fmt.Sprintf("%s,%d.%02d\n", grain, cents/100, cents%100)
					}
					if r.IntN(4) == 0 {
						text += "2025-01-01,A,much\n"
					}
					for _, dir := range []string{skips, reads} {
						startest.Write(t, dir, "l/"+name, text)
					}
					settle(t, path)
				default:
					continue
				}
				changed = true
			}
			if len(files) == 0 {
				continue
			}
			run, err := startest.Load(t, skips, load.Options{Workers: 2})
			if err != nil {
				t.Fatal(err)
			}
			if _, err := startest.Load(t, reads, load.Options{Again: true}); err != nil {
				t.Fatal(err)
			}
			for _, s := range run.Steps {
				if unread := int(s.Figures.Unread); unread != 0 && changed || unread != len(files) && !changed {
					t.Errorf("load %d, %s: %d of %d files were not read; changed: %v", n, s.Name, unread, len(files), changed)
				}
			}
			now := map[string]int{}
			for _, list := range files {
				for grain, cents := range list {
					now[grain] += cents
				}
			}
			for grain, cents := range now { // what is gone stays
				sums[grain] = cents
			}
			var want, got []string
			for grain, cents := range sums {
				want = append(want, fmt.Sprintf("%s,%d.%02d", grain, cents/100, cents%100))
			}
			slices.Sort(want)
			shops, tables := map[string]string{}, startest.Star(t, skips)
			for _, row := range tables["dim_shop"] {
				shops[row["shop_key"]] = row["shop"]
			}
			for _, row := range tables["fact_sale"] {
				got = append(got, row["day"]+","+shops[row["shop_key"]]+","+row["amount"])
			}
			if slices.Sort(got); !slices.Equal(got, want) {
				t.Fatalf("load %d: the star has\n%s\nand not\n%s", n, strings.Join(got, "\n"), strings.Join(want, "\n"))
			}
			if a, b := startest.Dump(t, skips, "load_run"), startest.Dump(t, reads, "load_run"); a != b {
				t.Fatalf("load %d: another star: %s", n, startest.Difference(a, b))
			}
			if len(now) == len(sums) && !startest.Proved(t, skips) { // else the sources do not have all facts
				t.Fatalf("load %d: the star is broken", n)
			}
		}
	})
}
