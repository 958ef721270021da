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

// ownerModel has the owners of vessels since when, with weights.
const ownerModel = `warehouse: {sqlite: star.db}
limits: {set_aside: none, gone: none, unmatched: none}
sources:
  owned: {read: "o/*.csv", columns: {vessel: text, owner: text, share: integer, since: date, until: date}}
  spans: {from: owned, spans: {within: vessel, from: since, to: until}}
  owners: {from: spans, weights: {within: [vessel, since], by: owner, shares: share, places: 4}}
dimensions:
  owner: {from: owned, natural_key: owner}
facts:
  owners: {from: owners, grain: [vessel, since, owner], repeated: replace, delivers: all, gone: remove, keys: {owner: {by: owner}}, degenerate: until, measures: weight}
`

// owners loads, and lists the spans with their owners.
func owners(t *testing.T, dir string, options load.Options) []string {
	t.Helper()
	if _, err := startest.Load(t, dir, options); err != nil {
		t.Fatal(err)
	}
	star := startest.Star(t, dir)
	name := map[string]string{}
	for _, row := range star["dim_owner"] {
		name[row["owner_key"]] = row["owner"]
	}
	var list []string
	for _, row := range star["fact_owners"] {
		list = append(list, fmt.Sprintf("%s %s to %s %s %s", row["vessel"], row["since"], or(row["until"]), name[row["owner_key"]], row["weight"]))
	}
	slices.Sort(list)
	if !startest.Proved(t, dir) {
		t.Error("the star is broken")
	}
	return list
}

// TestOwners is a worked example of lists with versions: time is cut where an owner comes or goes, a contract that only
// goes on is one span, and a time without owners has none.
func TestOwners(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", ownerModel)
	startest.Write(t, dir, "o/1.csv", "vessel,owner,share,since,until\n"+
		"V,Abel,1,2025-01-01,2025-03-01\nV,Abel,1,2025-03-01,\nV,Bea,2,2025-02-01,2025-04-01\nV,Cy,1,2025-02-01,2025-04-01\n"+
		"W,Bea,1,2025-01-01,2025-02-01\nW,Cy,5,2025-03-01,2025-04-01\nW,Cy,5,2025-04-01,2025-05-01\nW,Cy,5,,\nW,Bea,1,2025-05-01,2025-05-01\n")
	got := strings.Join(owners(t, dir, load.Options{}), "\n")
	want := strings.Join([]string{
		"V 2025-01-01 to 2025-02-01 Abel 1.0000",
		"V 2025-02-01 to 2025-04-01 Abel 0.2500",
		"V 2025-02-01 to 2025-04-01 Bea 0.5000",
		"V 2025-02-01 to 2025-04-01 Cy 0.2500",
		"V 2025-04-01 to - Abel 1.0000",
		"W 2025-01-01 to 2025-02-01 Bea 1.0000",
		"W 2025-03-01 to 2025-05-01 Cy 1.0000",
	}, "\n")
	if got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
}

// TestCut holds random spans against what holds on each day, over loads in which they change.
func TestCut(t *testing.T) {
	manyCases(t, 12, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 97))
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", inEither(t, seed, ownerModel))
		const days = 25 // of January; what holds longer holds for good
		day := func(d int) string {
			if d > days {
				return ""
			}
			return fmt.Sprintf("2025-01-%02d", d)
		}
		for range 3 {
			holds := map[string][days + 1]map[string]int{} // the shares of owners by vessel and day
			files := []string{"vessel,owner,share,since,until\n", "vessel,owner,share,since,until\n"}
			for n := range 1 + r.IntN(40) {
				vessel, owner, share := pick(r, "V", "W", "X"), pick(r, "Abel", "Bea", "Cy", "Di"), 1+r.IntN(3)
				from, to := 1+r.IntN(days), 1+r.IntN(days+5)
				if n == 0 {
					from, to = 1, days+1 // a delivery has rows
				}
				files[r.IntN(2)] += fmt.Sprintf("%s,%s,%d,%s,%s\n", vessel, owner, share, day(from), day(to))
				on := holds[vessel]
				for d := from; d < min(to, days+1); d++ {
					if on[d] == nil {
						on[d] = map[string]int{}
					}
					on[d][owner] += share
				}
				holds[vessel] = on
			}
			startest.Write(t, dir, "o/1.csv", files[0])
			startest.Write(t, dir, "o/2.csv", files[1])
			got := map[string][days + 1][]string{}
			for _, line := range owners(t, dir, load.Options{Piece: 1 + r.IntN(300), Workers: 1 + r.IntN(3)}) {
				f := strings.Fields(line)
				on := got[f[0]]
				for d := 1; d <= days; d++ {
					if f[1] <= day(d) && (f[3] == "-" || day(d) < f[3]) {
						on[d] = append(on[d], f[4]+" "+f[5])
					}
				}
				got[f[0]] = on
			}
			for vessel, on := range holds {
				for d := 1; d <= days; d++ {
					if want := inTenThousandths(on[d]); strings.Join(got[vessel][d], ", ") != want {
						t.Fatalf("seed %d: %s has on day %d %v, want %s", seed, vessel, d, got[vessel][d], want)
					}
				}
			}
		}
	})
}

// inTenThousandths are the weights of owners with shares, by largest remainder.
func inTenThousandths(shares map[string]int) string {
	if len(shares) == 0 {
		return ""
	}
	sum, left := 0, 10_000
	var names []string
	for name, share := range shares {
		names, sum = append(names, name), sum+share
	}
	units := map[string]int{}
	for _, name := range names {
		units[name] = shares[name] * 10_000 / sum
		left -= units[name]
	}
	slices.Sort(names)
	most := slices.Clone(names)
	slices.SortStableFunc(most, func(a, b string) int { return shares[b]*10_000%sum - shares[a]*10_000%sum })
	for _, name := range most[:left] {
		units[name]++
	}
	var list []string
	for _, name := range names {
		list = append(list, fmt.Sprintf("%s %d.%04d", name, units[name]/10_000, units[name]%10_000))
	}
	return strings.Join(list, ", ")
}
