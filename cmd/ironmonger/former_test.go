package main

import (
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironmonger/internal/startest"
)

const formerModel = `warehouse:
  sqlite: star.db
sources:
  boats:
    read: boats.csv
    columns: {reg: text, name: text, class: text, since: date}
  trips:
    read: "trips*.csv"
    columns:
      trip: integer
      reg: text
      at: date
      paid: decimal(9,2)
dimensions:
  boat: {from: boats, natural_key: reg, type_1: name, type_2: class, effective: since}
facts:
  trip:
    from: trips
    grain: trip
    keys:
      boat: {by: reg, as_of: at, unmatched: infer}
    measures: paid
`

// TestFormer: a star that an older version of the program has loaded is read, loaded further and proved, whatever its
// ledger was like; and it is the star that a new one becomes, but for its keys. testdata/former has a star for each
// layout that a ledger had, the oldest first, each loaded by the program of its time from boats.csv and trips-1.csv as
// they are here at first. The first two have facts that don't say where they come from, which a load can't find out:
// they are made anew.
func TestFormer(t *testing.T) {
	stars, err := filepath.Glob("testdata/former/*.db.gz")
	if err != nil || len(stars) < 14 {
		t.Fatal(err, stars)
	}
	write := func(dir string, later bool) {
		startest.Write(t, dir, "ironmonger.yaml", formerModel)
		boats, trips := "reg,name,class,since\nA1,Heron,I,2024-01-01\n", "trip,reg,at,paid\n1,A1,2024-02-01,10.00\n2,A1,2024-07-01,11.00\n3,C9,2024-07-01,12.00\n4,B1,2024-07-01,much\n"
		if later {
			boats += "A1,Heron,III,2024-06-15\nC9,Tern,I,2024-01-01\n"
			startest.Write(t, dir, "trips-2.csv", "trip,reg,at,paid\n5,A1,2024-03-01,1.00\n4,B1,2024-07-01,4.00\n")
		}
		startest.Write(t, dir, "boats.csv", boats+"A1,Heron,II,2024-06-01\nB1,Otter,I,2024-02-01\n")
		startest.Write(t, dir, "trips-1.csv", trips)
	}
	fresh := t.TempDir()
	write(fresh, true)
	must(t, fresh, "load")
	want := byNature(t, fresh)
	for n, name := range stars {
		dir := t.TempDir()
		unpack(t, name, filepath.Join(dir, "star.db"))
		write(dir, true)
		if out := must(t, dir, "runs"); strings.Count(out, "done") != 1 {
			t.Errorf("%s: %s", name, out)
		}
		if n < 2 {
			status(t, dir, 1, "load", "ironmonger rebuild makes the star anew")
			must(t, dir, "rebuild")
		} else {
			must(t, dir, "load")
			must(t, dir, "undo")
			must(t, dir, "load")
		}
		must(t, dir, "prove", "--against-sources")
		if got := byNature(t, dir); got != want {
			t.Errorf("%s: %s", name, startest.Difference(want, got))
		}
		for step, f := range figures(t, must(t, dir, "load", "--again", "--format", "json")) {
			if f["inserted"] != nil || f["new"] != nil || f["versions"] != nil || f["changed"] != nil {
				t.Errorf("%s: another load of the same changes %s: %v", name, step, f)
			}
		}
	}
}

func unpack(t *testing.T, from, to string) {
	packed, err := os.Open(from)
	if err != nil {
		t.Fatal(err)
	}
	defer packed.Close()
	in, err := gzip.NewReader(packed)
	if err != nil {
		t.Fatal(err)
	}
	out, err := os.Create(to)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.Copy(out, in); err != nil {
		t.Fatal(err)
	}
	if err := out.Close(); err != nil {
		t.Fatal(err)
	}
}
