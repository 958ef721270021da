package load_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// TestOddInside: names that want quotes, values at the ends of their types, texts that are too long for a grain,
// tables without rows, views, junk, and facts without measures are loaded by the warehouse as the program loads them.
func TestOddInside(t *testing.T) {
	connection, schema := startest.Postgres(t)
	conn, err := pgx.Connect(t.Context(), connection)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	raw := schema + ` "odd" raw`
	exec := func(sql string) {
		sql = strings.ReplaceAll(sql, "RAW", `"`+strings.ReplaceAll(raw, `"`, `""`)+`"`)
		if _, err := conn.Exec(t.Context(), sql); err != nil {
			t.Fatalf("%v\n%s", err, sql)
		}
	}
	exec(`CREATE SCHEMA RAW; CREATE TABLE RAW."the ""rows"" of" ("No. ""1""" text, "select" text, wide numeric, big bigint, mode text, flag boolean, day timestamp, line int default 7, rule int, verdict int, c0 int default 3);
		CREATE VIEW RAW.seen AS SELECT * FROM RAW."the ""rows"" of"; CREATE TABLE RAW.none (no int, x text)`)
	defer exec("DROP SCHEMA RAW CASCADE")
	model := `
sources:
  odd: {database: w, table: 'RAW.the "rows" of', columns: {no: {type: text, header: 'No. "1"'}, select: text, wide: 'decimal(38,10)', big: integer, mode: text, flag: boolean, day: timestamp, line: integer, rule: integer, verdict: integer, c0: integer},
    derive: {twice: big * 2, more: "wide / nullif(cast(big as decimal(2,0)), 1)"}}
  seen: {database: w, table: RAW.seen, columns: {no: {type: text, header: 'No. "1"'}, big: integer, mode: text}}
  none: {database: w, table: RAW.none, columns: {no: integer, x: text}}
  choices: {read: choices.csv, columns: {select: text, note: text}}
dimensions:
  choice: {from: choices, natural_key: select, type_1: note}
  flags: {combinations: {mode: text, flag: boolean}}
  date: {calendar: {from: 2024-01-01, to: 2024-12-31}}
facts:
  odd: {from: odd, execute: EXECUTE, grain: no, measures: [wide, twice, more, c0], degenerate: [big, line, rule, verdict], repeated: replace,
    keys: {choice: {by: select, unmatched: infer}, flags: {by: [mode, flag]}, date: {by: day, unmatched: unknown, missing: not_yet}}}
  seen: {from: seen, execute: EXECUTE, grain: [no, big], keys: {choice: {by: mode, unmatched: set_aside, missing: unknown}}}
  none: {from: none, execute: EXECUTE, grain: no, keys: {choice: {by: x}}}
`
	var dirs []string
	for _, how := range []string{"in_process", "in_warehouse"} {
		dir := t.TempDir()
		_, schema := startest.Postgres(t)
		text := strings.ReplaceAll(strings.ReplaceAll(model, "EXECUTE", how), "table: 'RAW.", "table: '"+raw+".")
		text = strings.ReplaceAll(text, "table: RAW.", `table: `+raw+".")
		startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf("limits: {unmatched: none, set_aside: none}\nwarehouse: {postgres: %q, schema: %s}\ndatabases: {w: {postgres: %[1]q}}\n", connection, schema)+text)
		startest.Write(t, dir, "choices.csv", "select,note\n'a,one\n\"b\"\"\",two\n")
		past := time.Now().Add(-time.Hour)
		if err := os.Chtimes(filepath.Join(dir, "choices.csv"), past, past); err != nil {
			t.Fatal(err)
		}
		dirs = append(dirs, dir)
	}
	inside := int64(0)
	long := strings.Repeat("é", 1001)
	for n, rows := range []string{
		`('1', '''a', 1.5, 3, 'm', true, '2024-02-03 04:05:06'), ('2', 'b"', 9999999999999999999999999999.0000000001, 9223372036854775807, 'm', null, '2024-12-31 23:59:59.999999')`,
		`('3', NULL, -0.00000000001, -9223372036854775808, NULL, false, NULL), ('` + long + `', '''a', 1, 1, 'm', true, '-infinity'), ('` + long[:2000] + `', '''a', 1, 1, 'm', true, '2024-01-01')`,
		`('4', '''a', 'NaN', 4, 'k', true, '2024-01-01'), ('1', 'b"', 2, 3, 'm', true, '2024-02-03'), ('', '', 0, 0, '', true, '2025-01-01')`,
	} {
		exec(`INSERT INTO RAW."the ""rows"" of" VALUES ` + rows)
		var states [2]string
		for k, dir := range dirs {
			run, err := startest.Load(t, dir, load.Options{Workers: 2})
			if run == nil {
				t.Fatal(err)
			}
			states[k] = fmt.Sprint(err)
			for _, s := range run.Steps {
				inside += s.Figures.Inside
				states[k] += fmt.Sprintf("\n%s: %s %s %d %d %v", s.Name, s.State, s.Message, s.Figures.Inserted, s.Figures.SetAside, s.Figures.Totals)
			}
		}
		if states[0] != states[1] {
			t.Fatalf("load %d: %s", n, startest.Difference(states[0], states[1]))
		}
		if one, other := wholeDump(t, dirs[0]), wholeDump(t, dirs[1]); one != other {
			t.Fatalf("load %d: %s", n, startest.Difference(one, other))
		}
	}
	if inside == 0 {
		t.Error("the warehouse dealt with no row")
	}
	star := `"` + startest.Model(t, dirs[1]).Warehouse.Schema + `".dim_choice`
	exec("ALTER TABLE " + star + " DROP CONSTRAINT dim_choice_unique; INSERT INTO " + star + " SELECT choice_key + 100, \"select\", note, is_inferred, load_run FROM " + star + " WHERE choice_key = 1")
	run, err := startest.Load(t, dirs[1], load.Options{Part: load.Part{Names: []string{"odd"}, Alone: true}})
	if run == nil || !slices.ContainsFunc(run.Steps, func(s *ledger.Step) bool { return strings.Contains(s.Message, "twice") }) {
		t.Errorf("a member was made twice by hand: %v", err)
		for _, s := range run.Steps {
			t.Log(s.Name, s.State, s.Message)
		}
	}
}
