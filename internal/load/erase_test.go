package load_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/erase"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/startest"
)

// TestErase: what the star and its ledger know of a person is gone, on all versions and in rows set aside, and does
// not come back with the next load, though the source still says it; keys and facts stay.
func TestErase(t *testing.T) {
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			warehouse := "sqlite: star.db"
			if kind == "postgres" {
				connection, schema := startest.Postgres(t)
				warehouse = "postgres: " + connection + "\n  schema: " + schema
			}
			f := newYard(
				t,
				"sqlite: star.db",
				warehouse,
				"    type_1: name\n",
				"    type_3: name\n    personal: name\n",
			)
			rows := []string{
				"A,Ada Quill,x,2024-01-01",
				"A,Ada Reed,y,2024-03-01",
				"B,Bea Moss,x,2024-01-01",
				"A,Ada Quill,y,some day",
				"B,Ada Quill,y,some day",
			}
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
					t.Fatalf("%s is not there to be erased", name)
				}
			}
			before := f.rows("dim_boat", "boat_key", "reg", "class", "valid_from")
			run := func(natural string, dry bool) (*erase.Erased, error) {
				db := startest.Open(t, f.dir)
				defer db.Close()
				d := schema.New(startest.Model(t, f.dir)).Dimensions[0]
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

// TestEraseMerged finds out that somebody who was erased is another member, whom rows still tell of: that one stays
// blank, too.
func TestEraseMerged(t *testing.T) {
	f := newYard(
		t,
		"    type_1: name\n",
		"    type_1: name\n    personal: name\n    aliases: {from: same, alias: other, is: reg}\n",
		"sources:\n",
		"sources:\n  same:\n    read: same.csv\n    columns: {other: text, reg: text}\n",
	)
	startest.Write(t, f.dir, "same.csv", "other,reg\n")
	f.boats("A,Ada Quill,x,2024-01-01", "B,Ada Reed,x,2024-02-01", "B,Ada Reed,y,2024-03-01")
	f.load()
	db := startest.Open(t, f.dir)
	d := schema.New(startest.Model(t, f.dir)).Dimensions[0]
	by := column.Column{Type: d.NaturalKey[0].Type}
	by.AppendText("A")
	_, err := erase.Run(t.Context(), db, d, []column.Column{by}, false)
	if db.Close(); err != nil {
		t.Fatal(err)
	}
	startest.Write(t, f.dir, "same.csv", "other,reg\nA,B\n")
	f.boats(
		"A,Ada Quill,x,2024-01-01",
		"B,Ada Reed,x,2024-02-01",
		"B,Ada Reed,y,2024-03-01",
		"B,Ada Reed,z,2024-04-01",
	)
	if f.load()["dimension boat"].Combined != 1 {
		t.Error("they are two members still")
	}
	if text := startest.Dump(t, f.dir); strings.Contains(text, "Ada") || !strings.Contains(text, "class=z") {
		t.Error("she is still known:\n", text)
	}
}
