package load_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"ironmonger/internal/startest"
)

const sitesModel = `warehouse:
  %s
limits: {unmatched: none, set_aside: none}
sources:
  sites:
    read: sites.csv
    columns: {site: text, name: text, above: text, since: date}
  visits:
    read: visits.csv
    columns: {visit: integer, site: text}
dimensions:
  site:
    from: sites
    natural_key: site
    type_1: above
    %s
    hierarchy: {parent: above}
facts:
  visit:
    from: visits
    grain: visit
    keys: {site: site}
`

// TestHierarchy holds parents, levels and the closure against climbing from each member by itself, while members come,
// move and are inferred, with and without versions.
func TestHierarchy(t *testing.T) {
	for seed := range uint64(12) {
		t.Run(strconv.Itoa(int(seed)), func(t *testing.T) { hierarchyCase(t, seed) })
	}
}

func hierarchyCase(t *testing.T, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 3))
	f := folder{t, t.TempDir()}
	warehouse, versions := "sqlite: star.db", "type_0: [name, since]"
	if seed%4 == 3 {
		connection, schema := startest.Postgres(t)
		warehouse = "postgres: " + connection + "\n  schema: " + schema
	}
	if seed%2 == 1 {
		versions = "type_2: name\n    effective: since\n    durable_key: kept"
	}
	startest.Write(t, f.dir, "ironmonger.yaml", fmt.Sprintf(sitesModel, warehouse, versions))
	above := map[string]string{} // of each site; "" is a root
	startest.Write(t, f.dir, "visits.csv", "visit,site\n1,S1\n2,S20\n3,\n")
	for day := 1; day <= 4; day++ {
		rows := "site,name,above,since\n"
		for n := range 12 {
			if r.IntN(3) == 0 {
				continue
			}
			site, parent := fmt.Sprint("S", n), ""
			if n > 0 && r.IntN(4) > 0 {
				parent = fmt.Sprint("S", r.IntN(n))
			} else if r.IntN(4) == 0 {
				parent = pick(r, "S19", "S20") // nobody delivers these; the second is inferred by a visit
			}
			above[site] = parent
			rows += fmt.Sprintf("%s,%s,%s,2025-03-0%d\n", site, pick(r, "a", "b"), parent, day)
		}
		startest.Write(t, f.dir, "sites.csv", rows)
		f.load()
		above["S20"] = ""
		if _, ok := above["S1"]; !ok {
			above["S1"] = "" // inferred
		}
		var want []string
		for site := range above {
			distance := 0
			for at := site; ; distance++ {
				want = append(want, fmt.Sprintf("%s %s %d", at, site, distance))
				parent := above[at]
				if _, member := above[parent]; !member {
					break
				}
				at = parent
			}
			parent := above[site]
			if _, member := above[parent]; !member && parent != "" {
				parent = "unknown"
			}
			want = append(want, fmt.Sprintf("%s in %s at %d", site, parent, distance+1))
		}
		slices.Sort(want)
		tables, key := startest.Star(t, f.dir), "site_key"
		if seed%2 == 1 {
			key = "site_durable_key"
		}
		name := map[string]string{"-1": "unknown"}
		for _, row := range tables["dim_site"] {
			if row["site"] != "" {
				name[row[key]] = row["site"]
			}
		}
		got := map[string]bool{}
		for _, row := range tables["dim_site"] {
			if row["site"] != "" {
				got[fmt.Sprintf("%s in %s at %s", row["site"], name[row["parent_"+key]], row["site_level"])] = true
			}
		}
		for _, row := range tables["dim_site_closure"] {
			if row["descendant_key"] != "-1" {
				got[fmt.Sprintf("%s %s %s", name[row["ancestor_key"]], name[row["descendant_key"]], row["distance"])] = true
			}
		}
		f.want(fmt.Sprint("day ", day), strings.Join(slices.Sorted(maps.Keys(got)), "\n"), strings.Join(want, "\n"))
		if !startest.Proved(t, f.dir) {
			t.Fatal("a right star is said to be broken")
		}
	}
	before := startest.Dump(t, f.dir)
	f.load()
	f.want("again", startest.Dump(t, f.dir), before)
	startest.Write(
		t,
		f.dir,
		"sites.csv",
		"site,name,above,since\nS3,a,S4,2026-01-01\nS4,a,S5,2026-01-01\nS5,a,S3,2026-01-01\n",
	)
	f.fail("dimension site", "members stand above themselves, so there is no hierarchy: ‹S")
	f.want("after a round", startest.Dump(t, f.dir), before)
}

// TestRollUp: what must have one of the level above is looked at by a load that is told to, and by prove.
func TestRollUp(t *testing.T) {
	f := newYard(
		t,
		"    effective: since\n",
		"    effective: since\n    must_hold:\n      a name has one class:\n        each: name\n        has_one: class\n        where: is_current\n        in_load: stop\n",
	)
	f.boats(
		"A,Heron,x,2024-01-01",
		"B,Heron,y,2024-01-01",
		"B,Heron,x,2024-02-01",
		"C,,z,2024-01-01",
		"D,,y,2024-01-01",
	)
	f.load()
	f.boats("A,Heron,z,2024-03-01")
	f.fail(
		"dimension boat",
		"a name has one class: each name has one class where is_current: 1 rows speak against it",
	)
	f.boats("A,Heron,x,2024-01-01")
	startest.Run(t, f.dir, "UPDATE dim_boat SET class = 'z' WHERE reg = 'A'")
	if startest.Proved(t, f.dir) {
		t.Error("prove does not see two classes of one name")
	}
}
