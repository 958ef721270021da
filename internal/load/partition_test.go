package load_test

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
	"ironmonger/internal/undo"
)

// TestPartitions: a table in parts has the rows of one that is whole, each in the part of its month, whether the program
// loads them or the warehouse; a row that gets another day moves; what a part cannot be made for stays with the rest.
func TestPartitions(t *testing.T) {
	connection, schema := startest.Postgres(t)
	conn, err := pgx.Connect(t.Context(), connection)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	exec := func(sql string) {
		if _, err := conn.Exec(t.Context(), sql); err != nil {
			t.Fatalf("%v\n%s", err, sql)
		}
	}
	raw := schema + "_raw"
	exec("CREATE SCHEMA " + raw + "; CREATE TABLE " + raw + ".trip (no int, day date, fare numeric(9,2))")
	defer exec("DROP SCHEMA " + raw + " CASCADE")
	const model = `
databases: {w: {postgres: %q}}
sources: {trips: {database: w, table: %s.trip, order_by: no, columns: {no: integer, day: date, fare: 'decimal(9,2)'}}}
dimensions: {date: {calendar: {from: 2023-01-01, to: 2024-12-31}}}
facts: {trip: {from: trips, execute: %s, grain: no, repeated: replace, measures: fare, keys: {date: {by: day, missing: unknown, unmatched: unknown}}%s}}
`
	var dirs, stars []string
	for _, how := range []string{"", "in_process", "in_warehouse"} {
		dir, place, parts := t.TempDir(), "sqlite: star.db", ""
		if how != "" {
			_, star := startest.Postgres(t)
			place, parts = fmt.Sprintf("postgres: %q, schema: %s", connection, star), ", partition: {by: date, every: month}"
			stars = append(stars, star)
		}
		text := "limits: {unmatched: none, set_aside: none}\nwarehouse: {" + place + "}" + fmt.Sprintf(model, connection, raw, max(how, "in_process"), parts)
		startest.Write(t, dir, "ironmonger.yaml", text)
		past := time.Now().Add(-time.Hour)
		if err := os.Chtimes(filepath.Join(dir, "ironmonger.yaml"), past, past); err != nil {
			t.Fatal(err)
		}
		dirs = append(dirs, dir)
	}
	parts := func(star string) map[string]int {
		rows, err := conn.Query(t.Context(), "SELECT tableoid::regclass::text, count(*) FROM "+star+".fact_trip GROUP BY 1")
		if err != nil {
			t.Fatal(err)
		}
		found, name, n := map[string]int{}, "", 0
		if _, err := pgx.ForEachRow(rows, []any{&name, &n}, func() error {
			found[strings.TrimPrefix(name, star+".fact_trip_")] = n
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		return found
	}
	for n, c := range []struct {
		sql  string
		want map[string]int
	}{
		{"INSERT INTO RAW.trip VALUES (1, '2024-01-05', 1), (2, '2024-01-31', 2.5), (3, '2024-02-01', 3), (4, NULL, 4), (5, '1999-01-01', 5)",
			map[string]int{"202401": 2, "202402": 1, "rest": 2}},
		{"UPDATE RAW.trip SET day = '2023-12-31' WHERE no = 1; UPDATE RAW.trip SET day = '2024-02-29' WHERE no = 4; INSERT INTO RAW.trip VALUES (6, '2024-03-01', 6)",
			map[string]int{"202312": 1, "202401": 1, "202402": 2, "202403": 1, "rest": 1}},
		{"DELETE FROM RAW.trip WHERE no = 1; INSERT INTO RAW.trip VALUES (1, '2024-12-31', 7), (7, '2024-05-02', 1)", // in May, somebody has added a row by hand
			map[string]int{"202401": 1, "202402": 2, "202403": 1, "202412": 1, "rest": 3}},
	} {
		exec(strings.ReplaceAll(c.sql, "RAW", raw))
		for k, dir := range dirs {
			if k > 0 && n == 2 {
				exec("INSERT INTO " + stars[k-1] + ".fact_trip SELECT 99, 20240505, 9, load_line, load_run FROM " + stars[k-1] + ".fact_trip WHERE no = 2")
			}
			if _, err := startest.Load(t, dir, load.Options{Workers: 2}); err != nil && n < 2 {
				t.Fatalf("load %d: %v", n, err)
			}
			if k > 0 {
				if found := parts(stars[k-1]); !maps.Equal(found, c.want) {
					t.Errorf("load %d: the parts have %v, not %v", n, found, c.want)
				}
				exec("DELETE FROM " + stars[k-1] + ".fact_trip WHERE no = 99")
			}
		}
		for _, dir := range dirs[1:] {
			if whole, inParts := startest.Dump(t, dirs[0]), startest.Dump(t, dir); whole != inParts {
				t.Fatalf("load %d: %s", n, startest.Difference(whole, inParts))
			}
		}
	}
	for _, dir := range dirs[1:] {
		if broken := startest.Broken(t, dir); broken != nil {
			t.Errorf("%v", broken)
		}
	}
	var after []string
	for _, dir := range dirs {
		wh := startest.Open(t, dir)
		if _, err := undo.Take(t.Context(), wh, startest.Model(t, dir), undo.Options{}); err != nil {
			t.Fatal(err)
		}
		wh.Close()
		after = append(after, startest.Dump(t, dir))
	}
	if after[0] != after[1] || after[0] != after[2] {
		t.Errorf("after undo: %s", startest.Difference(after[0], after[1])+startest.Difference(after[0], after[2]))
	}
	for k, dir := range dirs[1:] { // a table that was made whole gets its parts when it is rebuilt
		text, err := os.ReadFile(filepath.Join(dir, "ironmonger.yaml"))
		if err != nil {
			t.Fatal(err)
		}
		for n, every := range []string{"", ", partition: {by: date, every: year}"} {
			said := strings.Replace(string(text), ", partition: {by: date, every: month}", every, 1)
			startest.Write(t, dir, "ironmonger.yaml", said)
			if n == 0 {
				exec("DROP TABLE " + stars[k] + ".fact_trip CASCADE")
			}
			if _, err := startest.Load(t, dir, load.Options{Anew: true}); err != nil {
				t.Fatal(err)
			}
			want := []map[string]int{{stars[k] + ".fact_trip": 7}, {"2024": 6, "rest": 1}}[n]
			if found := parts(stars[k]); !maps.Equal(found, want) {
				t.Errorf("rebuilt with %q: the parts have %v, not %v", every, found, want)
			}
		}
	}
}
