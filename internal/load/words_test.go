package load_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// TestWords: what the model says in words stands in PostgreSQL as comments, follows the model, and does not touch what
// others say.
func TestWords(t *testing.T) {
	connection, schema := startest.Postgres(t)
	dir := t.TempDir()
	model := func(title, words string) {
		startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(`warehouse: {postgres: %q, schema: %s}
sources:
  tolls:
    read: tolls.csv
    columns: {no: integer, lock: text, day: date, due: "decimal(7,2)"}
    words: {lock: "The lock's code, as \\ painted on it.", day: Not said of any key., due: {title: Toll, unit: Crowns}}
dimensions:
  lock: {from: tolls, natural_key: lock}
  date: {calendar: {from: 2025-01-01, to: 2025-12-31}}
facts:
  toll:
    from: tolls
    grain: no
    keys: {lock: {by: lock}, paid: {dimension: date, by: day}}
    measures: due
    title: %s
    words: {%s}
`, connection, schema, title, words))
	}
	startest.Write(t, dir, "tolls.csv", "no,lock,day,due\n1,L'1,2025-02-03,4.50\n")
	said := func() string {
		conn, err := pgx.Connect(context.Background(), connection)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close(context.Background())
		rows, err := conn.Query(context.Background(), `SELECT c.relname || coalesce('.' || a.attname, '') || ' = ' || d.description
			FROM pg_description d JOIN pg_class c ON c.oid = d.objoid JOIN pg_namespace n ON n.oid = c.relnamespace
			LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = d.objsubid AND d.objsubid > 0
			WHERE n.nspname = $1 ORDER BY 1`, schema)
		if err != nil {
			t.Fatal(err)
		}
		list, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			t.Fatal(err)
		}
		return strings.Join(list, "\n")
	}
	loaded := func(want ...string) {
		t.Helper()
		if _, err := startest.Load(t, dir, load.Options{}); err != nil {
			t.Fatal(err)
		}
		if got := said(); got != strings.Join(want, "\n") {
			t.Errorf("%s\nwant %s", got, strings.Join(want, "\n"))
		}
	}
	lock := "dim_lock.day = Not said of any key.\ndim_lock.due = Toll (Crowns)\ndim_lock.lock = The lock's code, as \\ painted on it."
	key := "fact_toll.lock_key = The lock's code, as \\ painted on it."
	model("Tolls paid", "paid: {title: Day}")
	loaded(lock, "fact_toll = Tolls paid", "fact_toll.due = Toll (Crowns)", key, "fact_toll.paid_date_key = Day")
	startest.Run(t, dir, "COMMENT ON COLUMN fact_toll.no IS 'by somebody else'")
	model("Tolls", "due: {meaning: What is owed., unit: Crowns}")
	loaded(lock, "fact_toll = Tolls", "fact_toll.due = (Crowns): What is owed.", key, "fact_toll.no = by somebody else", "fact_toll.paid_date_key = Day")
	if !startest.Proved(t, dir) {
		t.Error("the star is broken")
	}
}
