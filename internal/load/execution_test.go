package load_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// TestExecution: a fact says where it is loaded, or else the model; what nobody says, a dry run tells the reason of; and it is
// loaded there.
func TestExecution(t *testing.T) {
	connection, schema := startest.Postgres(t)
	conn, err := pgx.Connect(t.Context(), connection)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	if _, err := conn.Exec(t.Context(), fmt.Sprintf("CREATE SCHEMA %s_raw; CREATE TABLE %[1]s_raw.trip AS SELECT n AS no, 'B' || n %% 3 AS boat, DATE '2024-02-01' AS day FROM generate_series(1, 50) AS n", schema)); err != nil {
		t.Fatal(err)
	}
	defer conn.Exec(t.Context(), "DROP SCHEMA "+schema+"_raw CASCADE")
	for _, c := range []struct {
		top, fact string
		inside    int64
		why       string
	}{
		{"", "", 0, "executed in process: the warehouse is on this machine"},
		{"execute: in_warehouse\n", "", 50, "executed in warehouse: as it was said"},
		{"execute: in_warehouse\n", "execute: in_process, ", 0, "executed in process: as it was said"},
		{"execute: in_process\n", "execute: in_warehouse, ", 50, "executed in warehouse: as it was said"},
		{"", "delivers: all, delivered_on: day, ", 0, "executed in process: there is no SQL for delivered_on"},
	} {
		dir := t.TempDir()
		_, star := startest.Postgres(t)
		startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(`%swarehouse: {postgres: %q, schema: %s}
databases: {w: {postgres: %[2]q}}
sources: {trips: {database: w, table: %[4]s_raw.trip, columns: {no: integer, boat: text, day: date}}}
dimensions: {boat: {natural_key: code, rows: [{code: B0}, {code: B1}, {code: B2}]}}
facts: {trip: {from: trips, %[5]sgrain: no, keys: {boat: boat}}}
`, c.top, connection, star, schema, c.fact))
		for _, dry := range []bool{true, false} {
			run, err := startest.Load(t, dir, load.Options{Dry: dry})
			if err != nil {
				t.Fatal(err)
			}
			f := run.Steps[len(run.Steps)-1].Figures
			told := slices.ContainsFunc(f.Notes, func(n string) bool { return strings.HasPrefix(n, c.why) })
			if f.Inside != c.inside || f.Inserted != 50 || told != dry {
				t.Errorf("%q, %q: %d of %d rows in the warehouse, and the notes are %q", c.top, c.fact, f.Inside, f.Inserted, f.Notes)
			}
		}
	}
}
