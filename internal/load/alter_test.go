package load_test

import (
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// TestModelChanges: a model that has changed since its tables were made is loaded into them where that is safe, and
// refused with what to do where it is not (rule R15). An attribute of type 2 that is new is filled on all versions,
// and makes none.
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
						t.Fatalf("%q is not in the model", changes[i])
					}
					model = strings.Replace(model, changes[i], changes[i+1], 1)
				}
				startest.Write(t, f.dir, "ironmonger.yaml", model)
			}
			change(
				"    measures: paid\n",
				"      skiff:\n        dimension: boat\n        by: reg\n    measures: paid\n",
			)
			f.boats("A,Heron,x,2024-01-01", "A,Heron,y,2024-03-01", "B,Otter,x,2024-01-01")
			f.trips("1,A,2024-01-10,1")
			f.load()

			wide := []string{
				"      class: text\n",
				"      class: text\n      home: text\n      hull: text\n",
				"type_1: name",
				"type_1: [name, hull]",
				"type_2: class",
				"type_2: [class, home]",
				"    measures: paid\n",
				"      skiff:\n        dimension: boat\n        by: reg\n    measures: paid\n",
			}
			change(wide...)
			startest.Write(
				t,
				f.dir,
				"boats.csv",
				"reg,name,class,home,hull,since\nA,Heron,y,Quay,oak,2024-05-01\nC,Tern,x,,,2024-05-01\n",
			)
			if b := f.load()["dimension boat"]; b.New != 1 || b.Versions != 0 {
				t.Errorf("filled for the first time: %+v", b)
			}
			versions := func() string { return f.rows("dim_boat", "reg", "class", "home", "hull", "valid_from") }
			f.want(
				"filled",
				versions(),
				"A x Quay oak 1900-01-01\nA y Quay oak 2024-03-01\nB x ∅ ∅ 1900-01-01\nC x ∅ ∅ 1900-01-01\n∅ Unknown Unknown Unknown 1900-01-01",
			)
			startest.Write(
				t,
				f.dir,
				"boats.csv",
				"reg,name,class,home,hull,since\nA,Heron,y,Wharf,oak,2024-06-01\nB,Otter,x,Quay,elm,2024-06-01\nC,Tern,x,Quay,elm,2024-06-01\n",
			)
			if b := f.load()["dimension boat"]; b.Versions != 2 {
				t.Errorf("two boats have moved since, and one is told of for the first time: %+v", b)
			}
			f.want(
				"moved",
				versions(),
				"A x Quay oak 1900-01-01\nA y Quay oak 2024-03-01\nA y Wharf oak 2024-06-01\nB x Quay elm 1900-01-01\nC x Quay elm 2024-06-01\nC x ∅ elm 1900-01-01\n∅ Unknown Unknown Unknown 1900-01-01",
			)
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
			f.want(
				"what was there is kept",
				versions(),
				"A x Quay oak 1900-01-01\nA y Quay oak 2024-03-01\nA y Wharf oak 2024-06-01\nB x Quay elm 1900-01-01\nC x Quay elm 2024-06-01\nC x ∅ elm 1900-01-01\nD x ∅ ∅ 1900-01-01\n∅ Unknown Unknown Unknown 1900-01-01",
			)

			change(append([]string{"      paid: decimal(9,2)", "      paid: decimal(11,2)"}, skiff...)...)
			f.fail("fact trip", "has paid as ")
			change(
				"      paid: decimal(9,2)\n",
				"      paid: decimal(9,2)\n    derive: {twice: paid * 2}\n",
				"    measures: paid\n",
				skiff[1][:len(skiff[1])-len("    measures: paid\n")]+"    measures: [paid, twice]\n",
			)
			if b := f.load()["fact trip"]; b.Changed == 0 || b.Inserted > 0 || b.SetAside > 0 {
				t.Errorf("a measure that is added is filled: %+v", b)
			}
			change()
			f.fail("fact trip", "has skiff_boat_key, which is not in the model and cannot be null")
			change(append([]string{"    type_2: class\n    effective: since\n", "    others: type_1\n"}, skiff...)...)
			f.fail("dimension boat", "has valid_from, which is not in the model")
			change(
				append(
					[]string{
						"    natural_key: reg\n",
						"    natural_key: reg_no\n",
						"      reg: text\n",
						"      reg_no: {type: text, header: reg}\n",
					},
					skiff...)...)
			f.fail("dimension boat", "lacks reg_no, which a load cannot add")
		})
	}
}

// TestTypeChanges: an attribute of type 2 that becomes one of type 1 leaves the versions as they are, with their
// keys and facts, and has one value on all of them from the next row on; one of type 1 that becomes one of type 2
// makes versions from then on.
func TestTypeChanges(t *testing.T) {
	f := newYard(t, "    type_1: name\n    type_2: class\n", "    type_2: [name, class]\n")
	f.boats("A,Heron,x,2024-01-01", "A,Otter,x,2024-02-01", "A,Otter,y,2024-03-01", "B,Swan,x,2024-01-01")
	f.trips("1,A,2024-01-10,1", "2,A,2024-02-10,2", "3,A,2024-03-10,3")
	f.load()
	versions := func() string { return f.rows("dim_boat", "boat_key", "reg", "name", "class", "valid_from") }
	trips := f.rows("fact_trip", "trip", "boat_key")
	startest.Write(t, f.dir, "ironmonger.yaml", yard)
	f.boats(
		"A,Heron,x,2024-01-01",
		"A,Otter,x,2024-02-01",
		"A,Otter,y,2024-03-01",
		"B,Swan,x,2024-01-01",
		"A,Tern,y,2024-05-01",
	)
	if b := f.load()["dimension boat"]; b.Versions != 0 || b.Changed == 0 {
		t.Errorf("to type 1: %+v", b)
	}
	f.want(
		"to type 1",
		versions(),
		"-1 ∅ Unknown Unknown 1900-01-01\n1 A Tern x 1900-01-01\n2 A Tern x 2024-02-01\n3 A Tern y 2024-03-01\n4 B Swan x 1900-01-01",
	)
	f.want("to type 1", f.rows("fact_trip", "trip", "boat_key"), trips)
	before := startest.Dump(t, f.dir)
	if b := f.load()["dimension boat"]; b.Written() != 0 {
		t.Errorf("again: %+v", b)
	}
	f.want("again", startest.Dump(t, f.dir), before)
	f.boats("A,Tern,z,2024-02-20")
	f.load()
	f.want(
		"a late row",
		versions(),
		"-1 ∅ Unknown Unknown 1900-01-01\n1 A Tern x 1900-01-01\n2 A Tern x 2024-02-01\n3 A Tern y 2024-03-01\n4 B Swan x 1900-01-01\n5 A Tern z 2024-02-20",
	)
	if !startest.Proved(t, f.dir) {
		t.Error("a right star is said to be broken")
	}

	startest.Write(
		t,
		f.dir,
		"ironmonger.yaml",
		strings.Replace(yard, "    type_1: name\n    type_2: class\n", "    type_2: [name, class]\n", 1),
	)
	f.boats("B,Swan,x,2024-01-01", "B,Heron,x,2024-06-01")
	if b := f.load()["dimension boat"]; b.Versions != 1 || b.Same != 1 {
		t.Errorf("to type 2: %+v", b)
	}
}

// TestMeantOtherwise: what a table's columns do not tell is kept, so that a model which means its rows otherwise is
// refused, or told what stays.
func TestMeantOtherwise(t *testing.T) {
	const calendar = "dimensions:\n  date:\n    calendar: {from: 2024-01-01, to: 2024-12-31, fiscal_year: {starts: april, named_by: end}, " +
		"retail_year: {ends_on: saturday, month: january, rule: last, named_by: end, pattern: 4-4-5}}\n"
	for _, c := range []struct{ old, new, says string }{
		{"natural_key: reg", "natural_key: [reg, name]", "has the natural key reg, but the model has reg, name"},
		{"    effective: since", "    effective: since\n    first_version: from_effective", "has first versions that are valid from_beginning, but the model has from_effective"},
		{"grain: trip", "grain: [trip, at]", "has the grain trip, but the model has trip, at"},
		{"from: 2024-01-01, to: 2024-12-31", "from: 2024-02-01, to: 2024-12-31", "has the days 2024-01-01 to 2024-12-31, but the model has 2024-02-01 to 2024-12-31"},
		{"from: 2024-01-01, to: 2024-12-31", "from: 2024-01-01, to: 2024-12-30", "days are not removed"},
		{"from: 2024-01-01, to: 2024-12-31", "from: 2023-12-01, to: 2025-12-30", ""},
		{"to: 2024-12-31", "to: 2024-12-31, key: numbered", "has the key 20241231 for 2024-12-31, and with key: numbered the model means another"},
		{"to: 2024-12-31", "to: 2024-12-31, key: {days_since: 2000-01-01}", "has the key 20241231 for 2024-12-31"},
		{"starts: april", "starts: may", "has the fiscal year {starts: april, named_by: end}, but the model has {starts: may, named_by: end}"},
		{"rule: last", "rule: nearest", "named_by: end, pattern: 4-4-5, week_53: 12}: the years of reports"},
		{"4-4-5", "4-4-5, period_names: [a, b, c, d, e, f, g, h, i, j, k, l]", ""},
		{"4-4-5", "4-4-5, week_53: none", "but the model has {ends_on: saturday, month: january, rule: last, named_by: end, pattern: 4-4-5, week_53: none}"},
	} {
		f := newYard(t, "dimensions:\n", calendar)
		f.boats("A,Heron,x,2024-01-01", "A,Heron,y,2024-03-01")
		f.trips("1,A,2024-01-10,1")
		f.load()
		model := strings.Replace(yard, "dimensions:\n", calendar, 1)
		if c.new == "natural_key: [reg, name]" {
			model = strings.Replace(model, "    type_1: name\n", "", 1)
			model = strings.Replace(model, "        by: reg\n", "        by: {reg: reg, name: reg}\n", 1)
		}
		if !strings.Contains(model, c.old) {
			t.Fatal(c.old)
		}
		startest.Write(t, f.dir, "ironmonger.yaml", strings.Replace(model, c.old, c.new, 1))
		before := startest.Dump(t, f.dir)
		run, err := startest.Load(t, f.dir, load.Options{})
		said := ""
		for _, s := range run.Steps {
			said += s.Message
		}
		if (err != nil) != (c.says != "") || !strings.Contains(said, c.says) {
			t.Errorf("%s: %v: %s", c.new, err, said)
		}
		if c.says != "" && !strings.Contains(c.new, "natural_key") && startest.Dump(t, f.dir) != before {
			t.Errorf("%s was refused, and something has changed", c.new)
		}
	}
}

// TestType2To1: versions that only an attribute of type 2 told apart stay when it becomes one of type 1, which
// check tells; the star holds, and later loads go on from there.
func TestType2To1(t *testing.T) {
	f := newYard(t, "    type_1: name\n    type_2: class", "    type_2: [name, class]")
	f.boats("A,Heron,x,2024-01-01", "A,Heron,y,2024-03-01", "A,Otter,y,2024-05-01")
	f.trips("1,A,2024-01-10,1", "2,A,2024-04-10,1", "3,A,2024-06-10,1")
	f.load()
	startest.Write(
		t,
		f.dir,
		"ironmonger.yaml",
		strings.Replace(yard, "    type_1: name\n    type_2: class", "    type_1: class\n    type_2: name", 1),
	)
	db := startest.Open(t, f.dir)
	list, err := load.Alterations(t.Context(), db, startest.Model(t, f.dir))
	db.Close()
	if err != nil || len(list) != 1 || list[0].Refused ||
		list[0].Does != "keeps the versions that class made, although it is no longer of type 2" {
		t.Errorf("%+v, %v", list, err)
	}
	f.load()
	f.want(
		"type 1",
		f.rows("dim_boat", "boat_key", "name", "class", "valid_from"),
		"-1 Unknown Unknown 1900-01-01\n1 Heron y 1900-01-01\n2 Heron y 2024-03-01\n3 Otter y 2024-05-01",
	)
	f.boats(
		"A,Heron,x,2024-01-01",
		"A,Heron,y,2024-03-01",
		"A,Otter,y,2024-05-01",
		"A,Otter,z,2024-07-01",
		"A,Tern,z,2024-08-01",
	)
	f.load()
	f.want(
		"later",
		f.rows("dim_boat", "boat_key", "name", "class", "valid_from"),
		"-1 Unknown Unknown 1900-01-01\n1 Heron z 1900-01-01\n2 Heron z 2024-03-01\n3 Otter z 2024-05-01\n4 Tern z 2024-08-01",
	)
	f.want("facts", f.rows("fact_trip", "trip", "boat_key"), "1 1\n2 2\n3 3")
	if !startest.Proved(t, f.dir) {
		t.Error("a right star is said to be broken")
	}
}
