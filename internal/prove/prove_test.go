package prove_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	driver "zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ironmonger/internal/demo"
	"ironmonger/internal/load"
	"ironmonger/internal/prove"
	"ironmonger/internal/startest"
)

func TestMain(m *testing.M) { os.Exit(startest.Main(m)) }

// proof proves the star in dir, with or without its sources, and returns the checks that do not hold by name, with
// their finds.
func proof(t *testing.T, dir string, today time.Time, sources bool) (*prove.Report, map[string][]prove.Example) {
	t.Helper()
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	wh := startest.Open(t, dir)
	defer wh.Close()
	report, err := prove.Run(
		context.Background(),
		wh,
		startest.Model(t, dir),
		prove.Options{Today: today, Root: root, Sources: sources},
	)
	if err != nil {
		t.Fatal(err)
	}
	found := map[string][]prove.Example{}
	for _, c := range report.Checks {
		if c.State != prove.Holds {
			found[c.Name] = append(found[c.Name], c.Examples...)
		}
		if c.State == prove.Broken && (c.Against == 0 || len(c.Examples) == 0 || c.Remedy == "") {
			t.Errorf("%s of %s is broken, and says nothing: %+v", c.Name, c.Table, c)
		}
	}
	return report, found
}

var today = time.Date(2025, 6, 1, 0, 0, 0, 0, time.UTC)

// loose stands in a statement for making a table anew without its keys, so that it can be broken.
const loose = "LOOSE "

// TestBroken breaks a right star in each way that a check names, and sees that check find it, in both warehouses.
// What is not named with a change may find it too, or be kept from looking.
func TestBroken(t *testing.T) {
	const vessel = `(SELECT vessel_key FROM dim_vessel WHERE is_current AND valid_from > '1990-01-01' AND valid_from < '9000-01-01' ORDER BY vessel_key LIMIT 1)`
	changes := []struct {
		check, says string // the example of the check has it
		statements  []string
	}{
		{"tables", "there is no such table", []string{"DROP TABLE dim_vessel_observed"}},
		{"tables", "there is no column wait_minutes", []string{"ALTER TABLE fact_passage DROP COLUMN wait_minutes"}},
		{
			"values",
			"lock_key is null",
			[]string{loose + "fact_passage", "UPDATE fact_passage SET lock_key = NULL WHERE passage_no = 17"},
		},
		{
			"keys",
			"another row has this key",
			[]string{loose + "dim_cargo", "UPDATE dim_cargo SET cargo_key = 1 WHERE cargo_key = 2"},
		},
		{
			"keys",
			"the key was never assigned",
			[]string{"UPDATE dim_keeper SET keeper_key = 4711 WHERE keeper_key = 3"},
		},
		{
			"members",
			"another row has this natural key",
			[]string{loose + "dim_cargo", "UPDATE dim_cargo SET cargo_code = 'C01' WHERE cargo_code = 'C02'"},
		},
		{"members", "no cargo_code", []string{"UPDATE dim_cargo SET cargo_code = NULL WHERE cargo_code = 'C02'"}},
		{
			"members",
			"0 of its versions are marked as current",
			[]string{"UPDATE dim_vessel SET is_current = (1 = 0) WHERE vessel_key = " + vessel},
		},
		{
			"members",
			"2 of its versions are marked as current",
			[]string{
				"UPDATE dim_vessel SET is_current = (1 = 1) WHERE vessel_key = (SELECT min(vessel_key) FROM dim_vessel WHERE NOT is_current)",
			},
		},
		{
			"versions",
			"a gap",
			[]string{
				"UPDATE dim_vessel SET valid_to = effective_from WHERE vessel_key = (SELECT min(vessel_key) FROM dim_vessel WHERE NOT is_current)",
			},
		},
		{"versions", "an overlap", []string{"UPDATE dim_vessel SET valid_to = '9999-12-31' WHERE NOT is_current"}},
		{
			"versions",
			"the version holds for no time",
			[]string{"UPDATE dim_vessel SET valid_to = valid_from WHERE vessel_key = " + vessel},
		},
		{
			"versions",
			"the member's last version ends 2030-01-01",
			[]string{"UPDATE dim_vessel SET valid_to = '2030-01-01' WHERE vessel_key = " + vessel},
		},
		{
			"versions",
			"the member's last version ends 2030-01-01",
			[]string{
				"UPDATE dim_vessel SET valid_to = '2030-01-01' WHERE registry || vessel_reg = (SELECT max(registry || vessel_reg) FROM dim_vessel) AND is_current",
			},
		},
		{
			"versions",
			"does not begin with time",
			[]string{"UPDATE dim_vessel SET valid_from = '2020-01-01' WHERE is_inferred"},
		},
		{
			"versions",
			"nobody has said since when",
			[]string{"UPDATE dim_vessel SET effective_from = '2020-01-01' WHERE is_inferred"},
		},
		{
			"versions",
			"valid_from is not effective_from",
			[]string{"UPDATE dim_vessel SET effective_from = '2020-01-01' WHERE vessel_key = " + vessel},
		},
		{
			"versions",
			"a special member holds for all time",
			[]string{"UPDATE dim_vessel SET valid_to = '2020-01-01' WHERE vessel_key = -1"},
		},
		{"specials", "the member Unknown is not there", []string{"DELETE FROM dim_keeper WHERE keeper_key = -1"}},
		{"specials", "name is not Unknown", []string{"UPDATE dim_keeper SET name = 'Nobody' WHERE keeper_key = -1"}},
		{
			"specials",
			"keeper_no is not null",
			[]string{"UPDATE dim_keeper SET keeper_no = '999' WHERE keeper_key = -1"},
		},
		{
			"specials",
			"no rule of the model names",
			[]string{"UPDATE dim_keeper SET keeper_key = -7 WHERE keeper_key = 5"},
		},
		{
			"specials",
			"does not come after all dates",
			[]string{"UPDATE dim_date SET sort_order = 0 WHERE date_key = -2"},
		},
		{
			"specials",
			"does not point to its namesake",
			[]string{"UPDATE dim_lock SET waterway_key = 1 WHERE lock_key = -1"},
		},
		{
			"specials",
			"it is not current",
			[]string{"UPDATE dim_vessel SET is_current = (1 = 0) WHERE vessel_key = -1"},
		},
		{
			"calendar",
			"the day is missing",
			[]string{"DELETE FROM dim_date WHERE date_key = 20220511"},
		},
		{
			"calendar",
			"the days to 2027-12-31 are missing",
			[]string{"DELETE FROM dim_date WHERE date_key > 20271130"},
		},
		{
			"calendar",
			"the day is there twice",
			[]string{loose + "dim_date", "UPDATE dim_date SET date = '2022-05-10' WHERE date_key = 20220511"},
		},
		{
			"calendar",
			"the key of this day is 20220511",
			[]string{"UPDATE dim_date SET date_key = 20290101 WHERE date_key = 20220511"},
		},
		{
			"references",
			"has no member",
			[]string{"DELETE FROM dim_lock WHERE lock_key = (SELECT max(lock_key) FROM fact_passage)"},
		},
		{"references", "waterway_key 2 has no member", []string{"DELETE FROM dim_waterway WHERE waterway_key = 2"}},
		{
			"references",
			"its version is not valid on",
			[]string{"UPDATE dim_vessel_observed SET effective_from = '1950-01-01'"},
		},
		{"references", "it has no member", []string{"UPDATE dim_vessel_observed SET vessel_key = 99999"}},
		{
			"grain",
			"another row has the same grain",
			[]string{
				loose + "fact_passage",
				"INSERT INTO fact_passage SELECT * FROM fact_passage WHERE passage_no = 17",
			},
		},
		{
			"as_of",
			", not on",
			[]string{
				"UPDATE fact_passage SET vessel_key = (SELECT max(vessel_key) FROM dim_vessel v WHERE is_current AND NOT is_inferred AND valid_from > '2025-01-05') WHERE passage_no = 1",
			},
		},
		{
			"as_of",
			"so the version is not known",
			[]string{"UPDATE fact_passage SET passed_at = NULL, passed_date_key = -1 WHERE passage_no = 17"},
		},
		{"account", "rows, and the ledger says", []string{"DELETE FROM fact_passage WHERE passage_no = 17"}},
		{"account", "rows, and the ledger says", []string{"DELETE FROM dim_keeper WHERE keeper_key = 60"}},
		{"account", "the total of", []string{"UPDATE fact_passage SET toll = toll + 0.01 WHERE passage_no = 17"}},
		{"sources", "it is not in the table", []string{"DELETE FROM fact_passage WHERE passage_no = 17"}},
		{
			"sources",
			"toll is",
			[]string{
				"UPDATE fact_passage SET toll = toll + 0.01 WHERE passage_no = 17",
				"UPDATE fact_passage SET toll = toll - 0.01 WHERE passage_no = 18",
			},
		},
		{
			"sources",
			"is not a key of the row's natural key",
			[]string{"UPDATE fact_passage SET keeper_key = keeper_key % 60 + 1 WHERE passage_no = 17"},
		},
		{
			"sources",
			"and no rule allows it",
			[]string{"UPDATE fact_passage SET cargo_key = -1 WHERE passage_no = 17"},
		},
		{"sources", "is not among those set aside", []string{"DELETE FROM load_aside"}},
		{
			"sources",
			"no member has this natural key",
			[]string{"UPDATE dim_keeper SET keeper_no = 'x' WHERE keeper_no = '001'"},
		},
		{
			"members",
			"the durable key differs from that of the version before",
			[]string{"UPDATE dim_vessel SET vessel_durable_key = 4711 WHERE is_current"},
		},
		{
			"members",
			"has this durable key",
			[]string{"UPDATE dim_vessel SET vessel_durable_key = 1 WHERE vessel_key > 0"},
		},
		{
			"references",
			"vessel_durable_key is not that of vessel_key",
			[]string{"UPDATE fact_passage SET vessel_durable_key = 4711 WHERE passage_no = 17"},
		},
		{
			"hierarchy",
			"is not the key of the parent that the row names",
			[]string{"UPDATE dim_unit SET parent_unit_key = 3 WHERE unit_code = 'U4'"},
		},
		{
			"hierarchy",
			"the row names no parent",
			[]string{"UPDATE dim_unit SET part_of = NULL WHERE unit_code = 'U4'"},
		},
		{
			"hierarchy",
			"unit_level is 7, and its parent's is 2",
			[]string{"UPDATE dim_unit SET unit_level = 7 WHERE unit_code = 'U4'"},
		},
		{
			"hierarchy",
			"2 rows of dim_unit_closure, and its level is 3",
			[]string{"DELETE FROM dim_unit_closure WHERE ancestor_key = 1 AND descendant_key = 4"},
		},
		{
			"hierarchy",
			"and not 0 above its parent",
			[]string{"UPDATE dim_unit_closure SET distance = 1 WHERE ancestor_key = 1 AND descendant_key = 4"},
		},
		{
			"hierarchy",
			"it is in dim_unit_closure, and is not a member",
			[]string{"INSERT INTO dim_unit_closure VALUES (77, 77, 0)"},
		},
		{"weights", "the weights of its list add up to", []string{"UPDATE fact_keeper_duty SET weight = weight - 0.000001 WHERE weight < 0.3"}},
		{"weights", "the weights of its list add up to", []string{"DELETE FROM fact_keeper_duty WHERE weight < 0.3"}},
		{"weights", "members of its list have no weight", []string{"UPDATE fact_keeper_duty SET weight = NULL WHERE weight < 0.3"}},
		{"weights", "is below zero", []string{"UPDATE fact_keeper_duty SET weight = weight - 2 WHERE weight < 0.3"}},
		{"balances", "and opening, added and taken come to", []string{"WIDE UPDATE fact_owed SET added = added + 0.01 WHERE month_end_date_key = 20250228"}},
		{"balances", "and the balance before it", []string{"WIDE UPDATE fact_owed SET opening = opening + 0.01, closing = closing + 0.01 WHERE month_end_date_key = 20250228"}},
		{"balances", "the period before it that the member has ends 2025-01-31", []string{"DELETE FROM fact_owed WHERE month_end_date_key = 20250228"}},
		{"balances", "the member has no periods after it; the last one ends 2025-04-30", []string{"DELETE FROM fact_owed WHERE month_end_date_key = 20250430 AND opening < 300"}},
		{"balances", "month_end_date_key is no last day of a month", []string{"UPDATE fact_owed SET month_end_date_key = 20250227 WHERE month_end_date_key = 20250228"}},
		{"derived", "toll is", []string{"WIDE UPDATE fact_waterway_month SET toll = toll + 0.01 WHERE waterway_key = 1", "WIDE UPDATE fact_waterway_month SET toll = toll - 0.01 WHERE waterway_key = 2"}},
		{"derived", "is not in the table", []string{"DELETE FROM fact_waterway_month WHERE waterway_key = 2"}},
		{"derived", "added is", []string{"WIDE UPDATE fact_owed SET added = added + 1, closing = closing + 1 WHERE month_end_date_key = 20250430"}},
		{
			"must_hold",
			"another region than rows before it with the same name",
			[]string{"UPDATE dim_waterway SET name = 'Upper Cut' WHERE code = 'W2'"},
		},
		{
			"sources",
			"is not a key of the row's natural key",
			[]string{"UPDATE fact_passage SET passage_kind_key = passage_kind_key % 2 + 1"},
		},
		{"must_hold", "not so: toll >= 0", []string{"UPDATE fact_passage SET toll = -0.01 WHERE passage_no = 17"}},
		{
			"must_hold",
			"and at most 1% may be",
			[]string{"UPDATE fact_passage SET lock_key = -1 WHERE passage_no < 30"},
		},
		{"must_hold", "and at least 100 must be", []string{"DELETE FROM fact_passage WHERE passage_no > 50"}},
		{
			"must_hold",
			"tonnage of passages comes to",
			[]string{"UPDATE fact_passage SET tonnage = 0 WHERE passage_no = 17"},
		},
	}
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			right := t.TempDir()
			if err := demo.Write(right, 300); err != nil {
				t.Fatal(err)
			}
			model, err := os.ReadFile(filepath.Join(right, "ironmonger.yaml"))
			if err != nil {
				t.Fatal(err)
			}
			text := strings.Replace(
				string(model),
				"    measures:",
				"    must_hold:\n      no toll below zero: toll >= 0\n      enough passages:\n        at_least: 100\n      few unknown locks:\n        where: lock_key = -1\n        at_most: 1%\n"+
					"      all tonnage is there:\n        total: tonnage\n        source: passages\n        column: tonnage\n    measures:",
				1,
			)
			// so that all rows that pass are loaded, and the totals agree
			text = strings.Replace(text, "unmatched: set_aside", "unmatched: infer", 1)
			file := filepath.Join(right, "passages", "2025-03.csv")
			startest.Write(t, right, "ironmonger.yaml", text)
			_ = file
			setUp := func(dir string) {
				if kind == "postgres" {
					connection, schema := startest.Postgres(t)
					startest.Write(
						t,
						dir,
						"ironmonger.yaml",
						strings.Replace(text, "sqlite: canal.db", "postgres: "+connection+"\n  schema: "+schema, 1),
					)
				}
				if _, err := startest.Load(t, dir, load.Options{}); err != nil {
					t.Fatal(err)
				}
			}
			setUp(right)
			for _, sources := range []bool{false, true} {
				if report, found := proof(t, right, today, sources); report.State != prove.Holds {
					t.Fatalf("the right star: %+v", found)
				}
			}
			if report, found := proof(t, right, today.AddDate(2, 0, 0), true); report.State != prove.Warned ||
				len(found["calendar"]) != 1 {
				t.Errorf("a calendar that ends soon: %+v", found)
			}
			for _, c := range changes {
				dir := right
				if kind == "sqlite" {
					dir = t.TempDir()
					if err := os.CopyFS(dir, os.DirFS(right)); err != nil {
						t.Fatal(err)
					}
				} else {
					setUp(dir)
				}
				spoil(t, dir, kind, c.statements)
				report, found := proof(t, dir, today, c.check == "sources")
				said := func(e prove.Example) bool { return strings.Contains(e.What, c.says) }
				if report.State != prove.Broken || !slices.ContainsFunc(found[c.check], said) {
					t.Errorf("%s, %s: not found by %s: %+v", c.statements, c.says, c.check, found)
				}
			}
		})
	}
}

// amounts are what statements with WIDE before them change: decimals that SQLite has in units.
var amounts = regexp.MustCompile(`(added|opening|closing|toll) = (?:added|opening|closing|toll) ([+-]) `)

// spoil runs statements in the warehouse, whatever keys they break.
func spoil(t *testing.T, dir, kind string, statements []string) {
	t.Helper()
	m := startest.Model(t, dir)
	first := "PRAGMA legacy_alter_table = ON"
	if kind == "postgres" {
		first = fmt.Sprintf("SET session_replication_role = replica; SET search_path = %s", m.Warehouse.Schema)
	}
	all := []string{first}
	for _, s := range statements {
		if table, ok := strings.CutPrefix(s, loose); ok {
			cascade := ""
			if kind == "postgres" {
				cascade = " CASCADE"
			}
			all = append(
				all,
				"CREATE TABLE loose AS SELECT * FROM "+table,
				"DROP TABLE "+table+cascade,
				"ALTER TABLE loose RENAME TO "+table,
			)
		} else if wide, ok := strings.CutPrefix(s, "WIDE "); ok && kind == "sqlite" {
			all = append(all, amounts.ReplaceAllString(wide, "${1}_units = ${1}_units $2 100 * "))
		} else {
			all = append(all, strings.TrimPrefix(s, "WIDE "))
		}
	}
	startest.Run(t, dir, all...)
}

// TestBothWays: a fact has to be what a row at its source says, as long as the source names what it came from.
// Files that are moved or compressed say the same; what is not named any more cannot be compared, and is counted.
func TestBothWays(t *testing.T) {
	const first, rest = "1,a,1.50\n2,b,2.25\n3,a,0.75\n", "4,b,4.00\n5,c,5.00\n"
	for _, c := range []struct {
		name   string
		change func(dir string)
		says   string // of an example that speaks against the star; "" if it holds
		gone   int64
	}{
		{"nothing", func(dir string) {}, "", 0},
		{"a row is gone", func(dir string) { startest.Write(t, dir, "in/1.csv", "no,site,paid\n1,a,1.50\n3,a,0.75\n") }, "no row at the source says this", 0},
		{"all rows are gone", func(dir string) { startest.Write(t, dir, "in/1.csv", "no,site,paid\n") }, "no row at the source says this", 0},
		{"a row has another value", func(dir string) {
			startest.Write(t, dir, "in/1.csv", "no,site,paid\n"+strings.Replace(first, "2.25", "2.26", 1))
		}, "paid is 2.25 in the table, and 2.26 here", 0},
		{"a row has another key", func(dir string) {
			startest.Write(t, dir, "in/1.csv", "no,site,paid\n"+strings.Replace(first, "2,b", "2,a", 1))
		}, "its row at the source has other values", 0},
		{"a row does not pass any more", func(dir string) {
			startest.Write(t, dir, "in/1.csv", "no,site,paid\n"+strings.Replace(first, "2.25", "much", 1))
		}, "no row at the source says this", 0},
		{"a row more", func(dir string) { startest.Write(t, dir, "in/1.csv", "no,site,paid\n"+first+"6,a,1.00\n") }, "it is not in the table", 0},
		{"rows stand elsewhere", func(dir string) {
			startest.Write(t, dir, "in/1.csv", "no,site,paid\n"+rest)
			startest.Write(t, dir, "in/2.csv", "paid,no,site\n2.25,2,b\n0.75,3,a\n1.50,1,a\n")
		}, "", 0},
		{"a file is archived", func(dir string) { os.Remove(filepath.Join(dir, "in/1.csv")) }, "", 3},
		{"a row of a table is gone", func(dir string) { exec(t, dir, "DELETE FROM calls WHERE no = 8") }, "no row at the source says this", 0},
		{"a row of a table has another value", func(dir string) { exec(t, dir, "UPDATE calls SET paid = 1 WHERE no = 8") }, "its row at the source has other values", 0},
		{"a fact is changed", func(dir string) { startest.Run(t, dir, "UPDATE fact_call SET paid = 2.24 WHERE no = 2") }, "paid is 2.24 in the table, and 2.25 here", 0},
		{"a fact is made up", func(dir string) {
			startest.Run(t, dir, "INSERT INTO fact_call SELECT 99, site_key, paid, load_line, load_run FROM fact_call WHERE no = 2")
		}, "no row at the source says this", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			startest.Write(t, dir, "in/1.csv", "no,site,paid\n"+first)
			startest.Write(t, dir, "in/2.csv", "no,site,paid\n"+rest)
			exec(
				t,
				dir,
				"CREATE TABLE calls (no integer, site text, paid numeric(9,2)); INSERT INTO calls VALUES (7, 'a', 7.5), (8, 'd', 8), (10, 'a', 10)",
			)
			startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
limits: {set_aside: none, unmatched: none}
databases: {old: {sqlite: old.db}}
sources:
  files: {read: in/*.csv, columns: {no: integer, site: text, paid: "decimal(9,2)"}}
  table: {database: old, table: calls, columns: {no: integer, site: text, paid: "decimal(9,2)"}}
  rolling: {database: old, query: "select 100 + no as no, site, paid from calls where date('now') > '2000-01-01'", columns: {no: integer, site: text, paid: "decimal(9,2)"}}
  calls: {union: [files, table, rolling]}
dimensions:
  site: {from: calls, natural_key: site}
facts:
  call: {from: calls, grain: no, keys: {site: site}, measures: paid}
`)
			if _, err := startest.Load(t, dir, load.Options{}); err != nil {
				t.Fatal(err)
			}
			c.change(dir)
			for loads := range 2 { // before a load, and after one: it sets aside what differs
				report, found := proof(t, dir, today, true)
				said := func(e prove.Example) bool { return strings.Contains(e.What, c.says) }
				if broken := slices.ContainsFunc(found["sources"], said); broken != (c.says != "") &&
					(loads == 0 || !strings.Contains(c.says, "in the table")) {
					t.Errorf("after %d loads: %s, %+v", loads, report.State, found)
				}
				for _, check := range report.Checks {
					if check.Name == "sources" && check.Table == "fact_call" &&
						(check.NotComparable != c.gone && c.gone > 0 || (check.State == prove.Broken) != (c.says != "" && (loads == 0 || c.name != "a row more"))) {
						t.Errorf("after %d loads: %+v", loads, check)
					}
				}
				if _, err := startest.Load(t, dir, load.Options{}); err != nil && !errors.Is(err, load.ErrDiffers) {
					t.Fatal(err)
				}
			}
		})
	}
}

// exec runs statements in a database beside the star.
func exec(t *testing.T, dir, script string) {
	t.Helper()
	conn, err := driver.OpenConn(filepath.Join(dir, "old.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if err := sqlitex.ExecuteScript(conn, script, nil); err != nil {
		t.Fatal(err)
	}
}

// TestWarnings: what is measured by doubles, codes among the measures, and natural keys left in a fact are warned of,
// and nothing else.
func TestWarnings(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", `warehouse:
  sqlite: star.db
sources:
  trips:
    read: trips.csv
    columns:
      trip: integer
      port: text
      ticket: integer
      crew: integer
      depth: double
dimensions:
  port:
    natural_key: code
    rows:
      - {code: P1}
facts:
  trip:
    from: trips
    grain: trip
    keys:
      port: port
    measures: [ticket, crew, depth]
    degenerate: port
`)
	rows := "trip,port,ticket,crew,depth\n"
	for i := range 150 {
		rows += fmt.Sprintf("%d,P1,%d,%d,%d.5\n", i, 9000+i*7, i%9, i)
	}
	startest.Write(t, dir, "trips.csv", rows)
	if _, err := startest.Load(t, dir, load.Options{}); err != nil {
		t.Fatal(err)
	}
	report, found := proof(t, dir, today, true)
	var got []string
	for _, e := range found["measures"] {
		got = append(got, e.Row)
	}
	if report.State != prove.Warned || len(found) != 1 || !slices.Equal(got, []string{"depth", "port", "ticket"}) {
		t.Errorf("%s, %+v", report.State, found)
	}
}

// TestGrainOfVersions: two versions of one member are one member, in the grain.
func TestGrainOfVersions(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", `warehouse:
  sqlite: star.db
sources:
  boats:
    read: boats.csv
    columns:
      reg: text
      class: text
      since: date
  trips:
    read: trips.csv
    columns:
      reg: text
      nr: integer
      at: date
dimensions:
  boat:
    from: boats
    natural_key: reg
    type_2: class
    effective: since
facts:
  trip:
    from: trips
    grain: [boat, nr]
    keys:
      boat:
        by: reg
        as_of: at
`)
	startest.Write(t, dir, "boats.csv", "reg,class,since\nA,I,2024-01-01\nA,II,2024-06-01\nB,I,2024-01-01\n")
	startest.Write(t, dir, "trips.csv", "reg,nr,at\nA,1,2024-02-01\nA,2,2024-07-01\nB,1,2024-07-01\n")
	if _, err := startest.Load(t, dir, load.Options{}); err != nil {
		t.Fatal(err)
	}
	if report, found := proof(t, dir, today, true); report.State != prove.Holds {
		t.Fatalf("%+v", found)
	}
	// the second trip becomes another first one, in another version
	startest.Run(t, dir, "UPDATE fact_trip SET nr = 1 WHERE nr = 2")
	if _, found := proof(t, dir, today, true); len(found["grain"]) != 1 || len(found["sources"]) == 0 {
		t.Errorf("%+v", found)
	}
}

// TestAnyCell changes one cell of the facts, or of what dimensions say of keys and times, to what stands in another
// row or to something near, and the star no longer holds, whichever it was; put back, it does.
func TestAnyCell(t *testing.T) {
	dir := t.TempDir()
	if err := demo.Write(dir, 200); err != nil {
		t.Fatal(err)
	}
	if _, err := startest.Load(t, dir, load.Options{}); err != nil {
		t.Fatal(err)
	}
	star := startest.Star(t, dir)
	rng := rand.New(rand.NewPCG(20, 26))
	changed := 0
	for _, c := range []struct{ table, key, columns string }{
		{"fact_passage", "passage_no", "passage_no passed_at vessel_key lock_key cargo_key keeper_key booked_date_key passed_date_key settled_date_key tonnage toll wait_minutes"},
		{"dim_vessel", "vessel_key", "vessel_key registry vessel_reg effective_from valid_from valid_to is_current"},
		{"dim_lock", "lock_key", "lock_key lock_code"},
		{"dim_date", "date_key", "date_key date"},
	} {
		rows := star[c.table]
		for _, name := range strings.Fields(c.columns) {
			for range 12 {
				row, other := rows[rng.IntN(len(rows))], rows[rng.IntN(len(rows))]
				was, is := row[name], other[name]
				if name == "toll" || name == "tonnage" { // a cent
					is = was[:len(was)-1] + string('0'+(was[len(was)-1]-'0'+1)%10)
				}
				if was == is || strings.HasPrefix(row[c.key], "-") {
					continue
				}
				write := func(v string) string {
					switch {
					case v == "":
						return "NULL"
					case v == "true" || v == "false":
						return map[string]string{"true": "1", "false": "0"}[v]
					case strings.Trim(v, "0123456789.-") == "" && strings.Count(v, "-") < 2 && name != "keeper_no":
						return v
					}
					return "'" + v + "'"
				}
				here := row[c.key]
				if name == c.key {
					if is != "" &&
						slices.ContainsFunc(rows, func(r map[string]string) bool { return r[c.key] == is }) {
						is = fmt.Sprint(90_000_000 + rng.IntN(1000)) // a key is there once
					}
					here = is
				}
				change := fmt.Sprintf(
					"UPDATE %s SET %s = %s WHERE %s = %s",
					c.table,
					name,
					write(is),
					c.key,
					row[c.key],
				)
				if !startest.Try(t, dir, change) {
					continue // the table's own keys forbid it
				}
				changed++
				if report, _ := proof(t, dir, today, true); report.State != prove.Broken {
					t.Errorf("%s (it was %s): the star is said to hold", change, was)
				}
				startest.Run(
					t,
					dir,
					fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s = %s", c.table, name, write(was), c.key, here),
				)
			}
		}
	}
	if report, found := proof(t, dir, today, true); report.State != prove.Holds || changed < 150 {
		t.Errorf("%d cells were changed and put back: %+v", changed, found)
	}
}

// TestUntaken: what is wrong with a column that a step does not take makes no difference to it, whether its source
// reads the files or is made of another one; nor to the proof.
func TestUntaken(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
limits: {set_aside: none}
sources:
  visits: {read: "v/*.csv", columns: {visit: text, at: timestamp, room: text, fee: "decimal(9,2)"}}
  again: {from: visits, derive: {twice: fee * 2}, set_aside: {too much: twice > 100}}
  rooms: {from: visits, columns: [room], distinct: {by: room}}
dimensions:
  room: {from: rooms, natural_key: room}
facts:
  visit: {from: visits, grain: visit, measures: fee}
  other: {from: again, grain: visit, keys: {room: {by: room}}, measures: twice}
  timed: {from: visits, grain: visit, degenerate: at}
`)
	startest.Write(t, dir, "v/1.csv", "visit,at,room,fee\nv1,2025-13-01 00:00:00,A,1\nv2,2025-01-01 00:00:00,B,many\nv3,,A,60\nv4,2025-01-01 00:00:00,C,2\n")
	for range 2 {
		if _, err := startest.Load(t, dir, load.Options{}); err != nil {
			t.Fatal(err)
		}
		star := startest.Star(t, dir)
		if len(star["fact_visit"]) != 3 || len(star["fact_other"]) != 2 || len(star["fact_timed"]) != 3 || len(star["dim_room"]) != 4 {
			t.Errorf("%v", star)
		}
		if report, found := proof(t, dir, today, true); report.State != prove.Holds {
			t.Errorf("%+v", found)
		}
	}
}
