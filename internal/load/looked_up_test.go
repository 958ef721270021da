package load_test

import (
	"fmt"
	"strings"
	"testing"

	"ironmonger/internal/startest"
)

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
				startest.Run(
					t,
					f.dir,
					"CREATE SCHEMA "+schema,
					"SET search_path TO "+schema+"; CREATE TABLE pilots (pilot_id int PRIMARY KEY, no varchar(9), since date, until date, name text)",
				)
				warehouse += "\n"
				startest.Run(t, f.dir, strings.ReplaceAll(pilots, "pilots", schema+".pilots"))
			} else {
				startest.Write(t, f.dir, "ironmonger.yaml", fmt.Sprintf(pilotsModel, warehouse, "nearest"))
				startest.Run(t, f.dir, "CREATE TABLE pilots (pilot_id INTEGER PRIMARY KEY, no TEXT, since TEXT, until TEXT, name TEXT)", pilots)
			}
			startest.Write(
				t,
				f.dir,
				"trips.csv",
				"trip,pilot,at\n1,007,2025-01-10\n2,007,2025-02-10\n3,007,2025-03-10\n4,008,1999-01-01\n5,7,2025-01-01\n6,,2025-01-01\n",
			)
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
			startest.Write(
				t,
				f.dir,
				"ironmonger.yaml",
				strings.Replace(
					fmt.Sprintf(pilotsModel, warehouse, "nearest"),
					"      unknown: 0\n",
					"      several: last\n      unknown: 0\n",
					1,
				),
			)
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

// TestAdopts: a dimension begins with the members of a table that stood before, under their keys; new members get
// keys beyond, and what comes of the old ones changes them as ever.
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
			startest.Run(
				t,
				f.dir,
				"CREATE TABLE "+schema+"fleet (fleet_id int PRIMARY KEY, reg varchar(9), name varchar(20), class varchar(3), since date)",
				"INSERT INTO "+schema+"fleet VALUES (0, NULL, 'nobody', NULL, NULL), (17, 'A', 'Heron', 'x', NULL), (40, 'A', 'Heron', 'y', '2024-03-01'), (5, 'B', 'Otter', 'x', '2023-01-01')",
			)
			f.boats("A,Heron,z,2024-02-01", "B,Otter,x,2024-02-01", "C,Tern,x,2024-02-01")
			f.trips("1,A,2024-01-10,1", "2,A,2024-02-10,2", "3,A,2024-03-10,3", "4,B,2020-01-01,1")
			if b := f.load()["dimension boat"]; b.Adopted != 3 || b.New != 1 || b.Versions != 1 || b.Same != 1 {
				t.Errorf("%+v", b)
			}
			f.want(
				"boats",
				f.rows("dim_boat", "boat_key", "boat_durable_key", "reg", "class", "valid_from", "valid_to"),
				strings.Join([]string{"-1 -1 ∅ Unknown 1900-01-01 9999-12-31", "17 17 A x 1900-01-01 2024-02-01",
					"40 17 A y 2024-03-01 9999-12-31", "41 17 A z 2024-02-01 2024-03-01", "42 42 C x 1900-01-01 9999-12-31", "5 5 B x 1900-01-01 9999-12-31"}, "\n"),
			)
			f.want("trips", f.rows("fact_trip", "trip", "boat_key"), "1 17\n2 41\n3 40\n4 5")
			if !startest.Proved(t, f.dir) {
				t.Error("a right star is said to be broken")
			}
			before := startest.Dump(t, f.dir)
			f.load()
			f.want("again", startest.Dump(t, f.dir), before)

			g := newYard(
				t,
				"sqlite: star.db",
				warehouse,
				"    natural_key: reg\n",
				strings.Replace(adopts, "fleet,", "armada,", 1),
			)
			if kind == "sqlite" {
				g.fail("dimension boat", "there is no table armada in the warehouse to adopt")
				startest.Run(
					t,
					g.dir,
					"CREATE TABLE armada (fleet_id int PRIMARY KEY, reg text, since date)",
					"INSERT INTO armada VALUES (1, 'A', NULL), (2, 'A', NULL)",
				)
				g.fail(
					"dimension boat",
					"table armada has several rows for one natural key at one time, with fleet_id 1 and 2",
				)
			}
		})
	}
}
