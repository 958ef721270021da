package load_test

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/erase"
	"ironmonger/internal/layout"
	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// TestOtherModels: a fact of another model that was loaded into the same warehouse is pointed anew, too, when a row of
// a dimension comes late: the ledger knows it.
func TestOtherModels(t *testing.T) {
	f := newYard(t)
	f.boats("A,Heron,x,2024-01-01")
	f.trips("1,A,2024-01-10,1", "2,A,2024-03-10,2")
	f.load()
	startest.Write(t, f.dir, "ironmonger.yaml", yard[:strings.Index(yard, "facts:")])
	f.boats("A,Heron,x,2024-01-01", "A,Heron,y,2024-02-01")
	if n := f.load()["dimension boat"].Repointed["fact_trip"]; n != 1 {
		t.Errorf("%d trips were pointed to another version, want 1", n)
	}
	startest.Write(t, f.dir, "ironmonger.yaml", yard)
	f.want("trips", f.rows("fact_trip", "trip", "boat_key"), "1 1\n2 2")
	if !startest.Proved(t, f.dir) {
		t.Error("a right star is said to be broken")
	}
}

// TestLateRows: where the model says so, what is older than what was loaded of its member is set aside; within a load
// any order is fine, and what is loaded already is no news.
func TestLateRows(t *testing.T) {
	f := newYard(t, "    effective: since\n", "    effective: since\n    late_rows: set_aside\n")
	f.boats("A,Heron,y,2024-03-01", "A,Heron,x,2024-01-01", "B,Otter,x,2024-05-01")
	if b := f.load()["dimension boat"]; b.New != 2 || b.Versions != 1 || b.SetAside != 0 {
		t.Errorf("in one load: %+v", b)
	}
	f.boats("A,Heron,y,2024-03-01", "A,Heron,x,2024-01-01", "A,Heron,z,2024-02-01", "A,Heron,z,2024-04-01", "B,Otter,y,2024-05-01")
	if b := f.load()["dimension boat"]; b.SetAside != 1 || b.Versions != 1 || b.Same != 2 || b.Changed != 1 || b.Reasons[0].Reason != "older than what was loaded of its member" {
		t.Errorf("one row is late: %+v", b)
	}
	f.want("versions", f.rows("dim_boat", "reg", "class", "valid_from"), "A x 1900-01-01\nA y 2024-03-01\nA z 2024-04-01\nB y 1900-01-01\n∅ Unknown 1900-01-01")
}

const pilotsModel = `warehouse:
  %s
limits: {unmatched: none, set_aside: none}
sources:
  trips:
    read: trips.csv
    columns: {trip: integer, pilot: text, at: date}
dimensions:
  pilot:
    looked_up:
      table: pilots
      key: pilot_id
      columns: {no: text, since: date, until: date}
      valid_from: since
      valid_to: until
      unknown: 0
    natural_key: no
facts:
  trip:
    from: trips
    grain: trip
    keys:
      pilot:
        by: pilot
        as_of: at
        outside: %s
`

// TestLookedUp looks keys up in a table that somebody else has made, with types of its own, with gaps between versions
// and an unknown member; nothing of it is changed.
func TestLookedUp(t *testing.T) {
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			f := folder{t, t.TempDir()}
			warehouse := "sqlite: star.db"
			if kind == "postgres" {
				connection, schema := startest.Postgres(t)
				warehouse = "postgres: " + connection + "\n  schema: " + schema
				startest.Write(t, f.dir, "ironmonger.yaml", fmt.Sprintf(pilotsModel, warehouse, "nearest"))
				startest.Run(t, f.dir, "CREATE SCHEMA "+schema, "SET search_path TO "+schema+"; CREATE TABLE pilots (pilot_id int PRIMARY KEY, no varchar(9), since date, until date, name text)")
				warehouse += "\n"
				startest.Run(t, f.dir, strings.ReplaceAll(pilots, "pilots", schema+".pilots"))
			} else {
				startest.Write(t, f.dir, "ironmonger.yaml", fmt.Sprintf(pilotsModel, warehouse, "nearest"))
				startest.Run(t, f.dir, "CREATE TABLE pilots (pilot_id INTEGER PRIMARY KEY, no TEXT, since TEXT, until TEXT, name TEXT)", pilots)
			}
			startest.Write(t, f.dir, "trips.csv", "trip,pilot,at\n1,007,2025-01-10\n2,007,2025-02-10\n3,007,2025-03-10\n4,008,1999-01-01\n5,7,2025-01-01\n6,,2025-01-01\n")
			figures := f.load()["fact trip"].Keys["pilot"]
			if figures.Matched != 3 || figures.Outside != 1 || figures.Unmatched != 1 || figures.Missing != 1 {
				t.Errorf("%+v", figures)
			}
			f.want("trips", f.rows("fact_trip", "trip", "pilot_id"), "1 5\n2 5\n3 7\n4 -3\n5 0\n6 0")
			if !startest.Proved(t, f.dir) {
				t.Error("a right star is said to be broken")
			}
			startest.Write(t, f.dir, "ironmonger.yaml", fmt.Sprintf(pilotsModel, warehouse, "set_aside"))
			startest.Write(t, f.dir, "trips.csv", "trip,pilot,at\n8,007,2025-02-01\n9,007,2025-01-31\n")
			if n := f.load()["fact trip"]; n.SetAside != 1 || n.Inserted != 1 {
				t.Errorf("in the gap: %+v", n)
			}
			if kind == "postgres" {
				return
			}
			startest.Run(t, f.dir, "INSERT INTO pilots VALUES (9, '007', '2025-01-01', NULL, 'Twin')")
			f.fail("dimension pilot", "table pilots has several rows for ‹007›, and the model says stop")
			startest.Write(t, f.dir, "ironmonger.yaml", strings.Replace(fmt.Sprintf(pilotsModel, warehouse, "nearest"), "      unknown: 0\n", "      several: last\n      unknown: 0\n", 1))
			startest.Write(t, f.dir, "trips.csv", "trip,pilot,at\n10,007,2025-02-10\n")
			f.load()
			f.want("trips", f.rows("fact_trip", "trip", "pilot_id"), "1 5\n10 9\n2 5\n3 7\n4 -3\n5 0\n6 0\n9 5")
			startest.Run(t, f.dir, "ALTER TABLE pilots RENAME COLUMN no TO number")
			f.fail("dimension pilot", "table pilots in the warehouse has no column no")
		})
	}
}

const pilots = `INSERT INTO pilots VALUES (0, NULL, NULL, NULL, 'nobody'), (5, '007', '2025-01-01', '2025-02-01', 'Ada'),
	(7, '007', '2025-03-01', NULL, 'Ada'), (-3, '008', NULL, NULL, 'Bea')`

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
	startest.Write(t, f.dir, "sites.csv", "site,name,above,since\nS3,a,S4,2026-01-01\nS4,a,S5,2026-01-01\nS5,a,S3,2026-01-01\n")
	f.fail("dimension site", "members stand above themselves, so there is no hierarchy: ‹S")
	f.want("after a round", startest.Dump(t, f.dir), before)
}

// TestRollUp: what must have one of the level above is looked at by a load that is told to, and by prove.
func TestRollUp(t *testing.T) {
	f := newYard(t, "    effective: since\n", "    effective: since\n    must_hold:\n      a name has one class:\n        each: name\n        has_one: class\n        where: is_current\n        in_load: stop\n")
	f.boats("A,Heron,x,2024-01-01", "B,Heron,y,2024-01-01", "B,Heron,x,2024-02-01", "C,,z,2024-01-01", "D,,y,2024-01-01")
	f.load()
	f.boats("A,Heron,z,2024-03-01")
	f.fail("dimension boat", "a name has one class: each name has one class where is_current: 1 rows speak against it")
	f.boats("A,Heron,x,2024-01-01")
	startest.Run(t, f.dir, "UPDATE dim_boat SET class = 'z' WHERE reg = 'A'")
	if startest.Proved(t, f.dir) {
		t.Error("prove doesn't see two classes of one name")
	}
}

// TestModelChanges: a model that has changed since its tables were made is loaded into them where that is safe, and
// refused with what to do where it isn't (rule R15). An attribute of type 2 that is new is filled on all versions, and
// makes none.
func TestModelChanges(t *testing.T) {
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			warehouse := "sqlite: star.db"
			if kind == "postgres" {
				connection, schema := startest.Postgres(t)
				warehouse = "postgres: " + connection + "\n  schema: " + schema
			}
			was := strings.Replace(yard, "sqlite: star.db", warehouse, 1)
			f := newYard(t)
			change := func(changes ...string) {
				model := was
				for i := 0; i < len(changes); i += 2 {
					if !strings.Contains(model, changes[i]) {
						t.Fatalf("%q isn't in the model", changes[i])
					}
					model = strings.Replace(model, changes[i], changes[i+1], 1)
				}
				startest.Write(t, f.dir, "ironmonger.yaml", model)
			}
			change("    measures: paid\n", "      skiff:\n        dimension: boat\n        by: reg\n    measures: paid\n")
			f.boats("A,Heron,x,2024-01-01", "A,Heron,y,2024-03-01", "B,Otter,x,2024-01-01")
			f.trips("1,A,2024-01-10,1")
			f.load()

			wide := []string{"      class: text\n", "      class: text\n      home: text\n      hull: text\n", "type_1: name", "type_1: [name, hull]", "type_2: class", "type_2: [class, home]",
				"    measures: paid\n", "      skiff:\n        dimension: boat\n        by: reg\n    measures: paid\n"}
			change(wide...)
			startest.Write(t, f.dir, "boats.csv", "reg,name,class,home,hull,since\nA,Heron,y,Quay,oak,2024-05-01\nC,Tern,x,,,2024-05-01\n")
			if b := f.load()["dimension boat"]; b.New != 1 || b.Versions != 0 {
				t.Errorf("filled for the first time: %+v", b)
			}
			versions := func() string { return f.rows("dim_boat", "reg", "class", "home", "hull", "valid_from") }
			f.want("filled", versions(), "A x Quay oak 1900-01-01\nA y Quay oak 2024-03-01\nB x ∅ ∅ 1900-01-01\nC x ∅ ∅ 1900-01-01\n∅ Unknown Unknown Unknown 1900-01-01")
			startest.Write(t, f.dir, "boats.csv", "reg,name,class,home,hull,since\nA,Heron,y,Wharf,oak,2024-06-01\nB,Otter,x,Quay,elm,2024-06-01\nC,Tern,x,Quay,elm,2024-06-01\n")
			if b := f.load()["dimension boat"]; b.Versions != 2 {
				t.Errorf("two boats have moved since, and one is told of for the first time: %+v", b)
			}
			f.want("moved", versions(), "A x Quay oak 1900-01-01\nA y Quay oak 2024-03-01\nA y Wharf oak 2024-06-01\nB x Quay elm 1900-01-01\nC x Quay elm 2024-06-01\nC x ∅ elm 1900-01-01\n∅ Unknown Unknown Unknown 1900-01-01")
			if !startest.Proved(t, f.dir) {
				t.Error("a right star is said to be broken")
			}

			skiff := wide[len(wide)-2:]
			change(skiff...)
			f.boats("D,Swan,x,2024-07-01")
			f.load()
			if got := f.rows("dim_boat", "reg", "class"); !strings.Contains(got, "D x") {
				t.Errorf("an attribute less: %s", got)
			}
			change(wide...)
			f.want("what was there is kept", versions(), "A x Quay oak 1900-01-01\nA y Quay oak 2024-03-01\nA y Wharf oak 2024-06-01\nB x Quay elm 1900-01-01\nC x Quay elm 2024-06-01\nC x ∅ elm 1900-01-01\nD x ∅ ∅ 1900-01-01\n∅ Unknown Unknown Unknown 1900-01-01")

			change(append([]string{"      paid: decimal(9,2)", "      paid: decimal(11,2)"}, skiff...)...)
			f.fail("fact trip", "has paid as ")
			change("      paid: decimal(9,2)\n", "      paid: decimal(9,2)\n    derive: {twice: paid * 2}\n", "    measures: paid\n", skiff[1][:len(skiff[1])-len("    measures: paid\n")]+"    measures: [paid, twice]\n")
			f.fail("fact trip", "lacks twice, which a load can't add to rows that are there")
			change()
			f.fail("fact trip", "has skiff_boat_key, which the model doesn't mean and which can't be null")
			change(append([]string{"    type_2: class\n    effective: since\n", "    others: type_1\n"}, skiff...)...)
			f.fail("dimension boat", "has valid_from, which the model doesn't mean")
			change(append([]string{"    natural_key: reg\n", "    natural_key: reg_no\n", "      reg: text\n", "      reg_no: {type: text, header: reg}\n"}, skiff...)...)
			f.fail("dimension boat", "lacks reg_no, which a load can't add")
		})
	}
}

// TestErase: what the star and its ledger know of a person is gone, on all versions and in rows set aside, and doesn't come
// back with the next load, though the source still says it; keys and facts stay.
func TestErase(t *testing.T) {
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			warehouse := "sqlite: star.db"
			if kind == "postgres" {
				connection, schema := startest.Postgres(t)
				warehouse = "postgres: " + connection + "\n  schema: " + schema
			}
			f := newYard(t, "sqlite: star.db", warehouse, "    type_1: name\n", "    type_3: name\n    personal: name\n")
			rows := []string{"A,Ada Quill,x,2024-01-01", "A,Ada Reed,y,2024-03-01", "B,Bea Moss,x,2024-01-01", "A,Ada Quill,y,some day", "B,Ada Quill,y,some day"}
			f.boats(rows...)
			f.trips("1,A,2024-01-10,1", "2,A,2024-03-10,2")
			f.load()
			everything := func() string {
				db := startest.Open(t, f.dir)
				defer db.Close()
				text := startest.Dump(t, f.dir)
				for _, table := range ledger.Tables() {
					if table.Name != "load_run" { // the model's text is there, which says no names
						text += fmt.Sprint(startest.Table(t, db, table))
					}
				}
				return text
			}
			for _, name := range []string{"Ada Quill", "Ada Reed", "Bea Moss"} {
				if !strings.Contains(everything(), name) {
					t.Fatalf("%s isn't there to be erased", name)
				}
			}
			before := f.rows("dim_boat", "boat_key", "reg", "class", "valid_from")
			run := func(natural string, dry bool) (*erase.Erased, error) {
				db := startest.Open(t, f.dir)
				defer db.Close()
				d := layout.New(startest.Model(t, f.dir)).Dimensions[0]
				by := column.Column{Type: d.NaturalKey[0].Type}
				by.AppendText(natural)
				return erase.Run(t.Context(), db, d, []column.Column{by}, dry)
			}
			if _, err := run("Z", false); !errors.Is(err, erase.ErrNone) {
				t.Error("somebody whom nobody knows:", err)
			}
			all := everything()
			if would, err := run("A", true); err != nil || !would.Dry || everything() != all {
				t.Errorf("a dry run wrote: %+v, %v", would, err)
			}
			found, err := run("A", false)
			if err != nil || len(found.Keys) != 2 || found.SetAside != 2 {
				t.Fatalf("%+v, %v", found, err)
			}
			check := func(when string) {
				t.Helper()
				text := everything()
				if strings.Contains(text, "Ada") || !strings.Contains(text, "Bea Moss") {
					t.Errorf("%s, Ada is still known, or Bea no longer", when)
				}
				f.want(when, f.rows("dim_boat", "boat_key", "reg", "class", "valid_from"), before)
				f.want(when, f.rows("fact_trip", "trip", "boat_key"), "1 1\n2 2")
			}
			check("when erased")
			f.load()
			f.boats(append(rows[:3], "A,Ada Quill,x,another day", "A,Ada Quill,y,2024-03-01")...)
			f.load()
			check("when loaded again")
			if !startest.Proved(t, f.dir) {
				t.Error("a right star is said to be broken")
			}
		})
	}
}

// TestAliases: a member that is renamed keeps its keys; two that are found to be one become one, whose history is that of both,
// and facts follow; the lost keys are written down and never given again; an alias is understood wherever it is met.
func TestAliases(t *testing.T) {
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			warehouse := "sqlite: star.db"
			if kind == "postgres" {
				connection, schema := startest.Postgres(t)
				warehouse = "postgres: " + connection + "\n  schema: " + schema
			}
			f := newYard(t, "sqlite: star.db", warehouse, "dimensions:\n", "  others:\n    read: others.csv\n    columns: {old: text, now: text}\ndimensions:\n",
				"    natural_key: reg\n", "    natural_key: reg\n    durable_key: kept\n    aliases: {from: others, alias: old, is: now}\n", "        as_of: at\n", "        as_of: at\n        holds: both\n")
			alias := func(rows ...string) {
				startest.Write(t, f.dir, "others.csv", "old,now\n"+strings.Join(rows, "\n")+"\n")
			}
			alias()
			f.boats("A,Heron,x,2024-01-01", "B,Otter,y,2024-02-01", "B,Otter,z,2024-04-01", "C,Tern,x,2024-01-01")
			f.trips("1,A,2024-01-10,1", "2,B,2024-02-10,2", "3,B,2024-04-10,3", "4,C,2024-01-10,4", "5,D,2024-01-10,5")
			f.load()
			boats := func() string {
				return f.rows("dim_boat", "reg", "boat_key", "boat_durable_key", "name", "class", "valid_from", "valid_to")
			}
			trips := func() string { return f.rows("fact_trip", "trip", "boat_key", "boat_durable_key") }
			f.want("at first", trips(), "1 1 1\n2 2 2\n3 3 2\n4 4 4\n5 5 5")

			alias("C,K", "D,A", "B,D", "Z,Y") // C is renamed; D, which is inferred, and B by way of D are A
			f.trips("1,A,2024-01-10,1", "2,B,2024-02-10,2", "3,B,2024-04-10,3", "4,C,2024-01-10,4", "5,D,2024-01-10,5", "6,B,2024-03-10,6", "7,K,2024-03-10,7", "8,Z,2024-03-10,8")
			f.boats("A,Heron,x,2024-01-01", "B,Otter,y,2024-02-01", "C,Tern,x,2024-01-01", "B,Otter,w,2024-03-01")
			b := f.load()["dimension boat"]
			if b.Renamed != 1 || b.Combined != 2 || b.Versions != 2 || b.Same != 2 || b.Repointed["fact_trip"] == 0 {
				t.Errorf("merged: %+v", b)
			}
			f.want("boats", boats(), strings.Join([]string{"A 1 1 Otter x 1900-01-01 2024-02-01", "A 6 1 Otter z 2024-04-01 9999-12-31", "A 7 1 Otter y 2024-02-01 2024-03-01", "A 8 1 Otter w 2024-03-01 2024-04-01",
				"K 4 4 Tern x 1900-01-01 9999-12-31", "Y 9 9 ∅ ∅ 1900-01-01 9999-12-31", "∅ -1 -1 Unknown Unknown 1900-01-01 9999-12-31"}, "\n"))
			f.want("trips", trips(), "1 1 1\n2 7 1\n3 6 1\n4 4 4\n5 1 1\n6 8 1\n7 4 4\n8 9 9")
			f.want("lost keys", f.rows("dim_boat_alias", "alias_key", "boat_key"), "2 6\n3 6\n5 6")
			if !startest.Proved(t, f.dir) {
				t.Error("a right star is said to be broken")
			}
			before := startest.Dump(t, f.dir)
			if again := f.load()["dimension boat"]; again.Written()+again.Renamed+again.Combined != 0 {
				t.Errorf("again: %+v", again)
			}
			f.want("again", startest.Dump(t, f.dir), before)

			alias("C,K", "C,A")
			if _, err := startest.Load(t, f.dir, load.Options{}); err == nil {
				t.Error("an alias of two members passes")
			}
			alias("A,B", "B,A")
			f.fail("dimension boat", "comes round to itself")
			f.want("after failures", startest.Dump(t, f.dir), before)
		})
	}
}

// TestAliasesPure: whenever it is found that two members are one, the star is the one that would stand had it been known
// from the start, but for the numbers of keys (rule R8): versions, attributes of all types, and the versions of facts.
func TestAliasesPure(t *testing.T) {
	cases := 20
	if n, err := strconv.Atoi(os.Getenv("IRONMONGER_HUNT")); err == nil {
		cases = n
	}
	for seed := range uint64(cases) {
		if !t.Run(strconv.Itoa(int(seed)), func(t *testing.T) { aliasCase(t, seed) }) {
			return
		}
	}
}

func aliasCase(t *testing.T, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 17))
	changes := []string{"dimensions:\n", "  others:\n    read: others.csv\n    columns: {old: text, now: text}\ndimensions:\n",
		"    natural_key: reg\n", "    natural_key: reg\n    aliases: {from: others, alias: old, is: now}\n", "      name: text\n", "      name: text\n      hull: text\n      home: text\n",
		"    type_1: name\n", pick(r, "    type_1: name\n", "    type_1: [name, home]\n    type_0: hull\n", "    type_1: name\n    type_3: home\n    type_0: hull\n")}
	if r.IntN(3) == 0 {
		changes = append(changes, "    type_2: class\n", "    type_2: [class]\n    first_version: from_effective\n")
	} else if r.IntN(3) == 0 { // an effective time without versions
		changes = append(changes, "    type_2: class\n", "", "        as_of: at\n", "", "type_1: name", "type_1: [name, class]", "type_1: [name, home]", "type_1: [name, class, home]")
	}
	apply := func(f folder) {
		model := yard
		for i := 0; i < len(changes); i += 2 {
			model = strings.Replace(model, changes[i], changes[i+1], 1)
		}
		startest.Write(f, f.dir, "ironmonger.yaml", model)
	}
	var boats, trips []string
	days := r.Perm(28)
	for i := range 4 + r.IntN(20) { // no two of one time: of these it matters who was the alias
		boats = append(boats, fmt.Sprintf("%s,%s,%s,%s,%s,2024-01-%02d", pick(r, "A", "B", "C"), pick(r, "Heron", "Otter"), pick(r, "oak", "elm"), pick(r, "Quay", "Wharf", "Pool"), pick(r, "x", "y"), 1+days[i]))
	}
	for n := range 20 {
		trips = append(trips, fmt.Sprintf("%d,%s,2024-01-%02d,1", n, pick(r, "A", "B", "C", "D"), 1+r.IntN(28)))
	}
	aliases := pick(r, "B,A\n", "B,A\nD,B\n", "A,C\n", "D,A\n", "B,N\nA,N\n", "A,N\n")
	cut, found := []int{r.IntN(len(boats)), r.IntN(len(boats)), len(boats)}, r.IntN(3)
	slices.Sort(cut)
	star := func(loads []int, from int) string {
		f := folder{t, t.TempDir()}
		apply(f)
		done := 0
		for n, to := range loads {
			startest.Write(t, f.dir, "others.csv", "old,now\n")
			if n >= from {
				startest.Write(t, f.dir, "others.csv", "old,now\n"+aliases)
			}
			startest.Write(t, f.dir, "boats.csv", "reg,name,hull,home,class,since\n"+strings.Join(boats[done:to], "\n")+"\n")
			done = to
			f.trips(trips[:len(trips)*(n+1)/len(loads)]...)
			f.load()
			if !startest.Proved(t, f.dir) {
				t.Fatal("a right star is said to be broken")
			}
		}
		key := map[string]string{}
		var lines []string
		for _, b := range startest.Star(t, f.dir)["dim_boat"] {
			key[b["boat_key"]] = b["reg"] + " " + b["effective_from"]
			lines = append(lines, fmt.Sprint(b["reg"], b["name"], b["hull"], b["home"], b["previous_home"], b["class"], b["effective_from"], b["valid_from"], b["valid_to"], b["is_inferred"]))
		}
		for _, b := range startest.Star(t, f.dir)["fact_trip"] {
			lines = append(lines, b["trip"]+" "+key[b["boat_key"]])
		}
		slices.Sort(lines)
		return strings.Join(lines, "\n")
	}
	want, got := star([]int{len(boats)}, 0), star(cut, found)
	if want != got {
		t.Errorf("found in load %d of %v that %s:\n%s\nboats:\n%s\n%v", found+1, cut, aliases, startest.Difference(want, got), strings.Join(boats, "\n"), changes)
	}
}

// TestAdopts: a dimension begins with the members of a table that stood before, under their keys; new members get keys beyond,
// and what comes of the old ones changes them as ever.
func TestAdopts(t *testing.T) {
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			warehouse, schema := "sqlite: star.db", ""
			if kind == "postgres" {
				connection, name := startest.Postgres(t)
				warehouse, schema = "postgres: "+connection+"\n  schema: "+name, name+"."
			}
			adopts := "    natural_key: reg\n    durable_key: kept\n    adopts: {table: fleet, key: fleet_id, valid_from: since}\n"
			f := newYard(t, "sqlite: star.db", warehouse, "    natural_key: reg\n", adopts)
			if schema != "" {
				startest.Run(t, f.dir, "CREATE SCHEMA "+strings.TrimSuffix(schema, "."))
			}
			startest.Run(t, f.dir, "CREATE TABLE "+schema+"fleet (fleet_id int PRIMARY KEY, reg varchar(9), name varchar(20), class varchar(3), since date)",
				"INSERT INTO "+schema+"fleet VALUES (0, NULL, 'nobody', NULL, NULL), (17, 'A', 'Heron', 'x', NULL), (40, 'A', 'Heron', 'y', '2024-03-01'), (5, 'B', 'Otter', 'x', '2023-01-01')")
			f.boats("A,Heron,z,2024-02-01", "B,Otter,x,2024-02-01", "C,Tern,x,2024-02-01")
			f.trips("1,A,2024-01-10,1", "2,A,2024-02-10,2", "3,A,2024-03-10,3", "4,B,2020-01-01,1")
			if b := f.load()["dimension boat"]; b.Adopted != 3 || b.New != 1 || b.Versions != 1 || b.Same != 1 {
				t.Errorf("%+v", b)
			}
			f.want("boats", f.rows("dim_boat", "boat_key", "boat_durable_key", "reg", "class", "valid_from", "valid_to"), strings.Join([]string{"-1 -1 ∅ Unknown 1900-01-01 9999-12-31", "17 17 A x 1900-01-01 2024-02-01",
				"40 17 A y 2024-03-01 9999-12-31", "41 17 A z 2024-02-01 2024-03-01", "42 42 C x 1900-01-01 9999-12-31", "5 5 B x 1900-01-01 9999-12-31"}, "\n"))
			f.want("trips", f.rows("fact_trip", "trip", "boat_key"), "1 17\n2 41\n3 40\n4 5")
			if !startest.Proved(t, f.dir) {
				t.Error("a right star is said to be broken")
			}
			before := startest.Dump(t, f.dir)
			f.load()
			f.want("again", startest.Dump(t, f.dir), before)

			g := newYard(t, "sqlite: star.db", warehouse, "    natural_key: reg\n", strings.Replace(adopts, "fleet,", "armada,", 1))
			if kind == "sqlite" {
				g.fail("dimension boat", "there is no table armada in the warehouse to adopt")
				startest.Run(t, g.dir, "CREATE TABLE armada (fleet_id int PRIMARY KEY, reg text, since date)", "INSERT INTO armada VALUES (1, 'A', NULL), (2, 'A', NULL)")
				g.fail("dimension boat", "table armada has several rows for one natural key at one time, with fleet_id 1 and 2")
			}
		})
	}
}
