package strays_test

import (
	"context"
	"fmt"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/schema"
	"ironmonger/internal/startest"
	"ironmonger/internal/strays"
)

// TestOutside: causes tell by how many days rows are before the first version of their member, or after a date that it
// ended on, whatever rule they follow.
func TestOutside(t *testing.T) {
	for _, rule := range []string{"nearest", "unknown", "set_aside"} {
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(`warehouse: {sqlite: star.db}
limits: {set_aside: none}
sources:
  depots: {read: depots.csv, columns: {code: text, town: text, since: date}}
  runs: {read: runs.csv, columns: {no: integer, depot: text, day: timestamp}}
dimensions:
  depot: {from: depots, natural_key: code, type_2: town, effective: since, first_version: from_effective}
facts:
  run: {from: runs, grain: no, keys: {depot: {by: depot, as_of: day, outside: %s}}}
`, rule))
		startest.Write(t, dir, "depots.csv", "code,town,since\nA,T,2025-03-01\nB,T,2025-02-01\nC,T,2024-01-01\nB,U,2025-04-01\n")
		startest.Write(t, dir, "runs.csv", "no,depot,day\n1,A,2025-02-27 10:00:00\n2,A,2025-01-30 00:00:00\n3,B,2025-01-31 23:59:59\n4,C,2025-01-01 00:00:00\n")
		for n := range 2 {
			if _, err := startest.Load(t, dir, load.Options{Again: n > 0}); err != nil {
				t.Fatal(err)
			}
			db := startest.Open(t, dir)
			causes, err := strays.Causes(context.Background(), db, schema.New(startest.Model(t, dir)))
			db.Close()
			if err != nil {
				t.Fatal(err)
			}
			const want = "[depot the member begins later by 1 to 30 days 2 3 A runs.csv:2 first_version: from_beginning]"
			got := []string{}
			for _, c := range causes {
				got = append(got, fmt.Sprintf("%s %s %d %d %s %s:%d %s", c.Dimension, c.What, c.Keys, c.Rows, c.Example, c.File, c.Line, c.Mend))
			}
			if fmt.Sprint(got) != want || causes[0].Outcome[0] != rule {
				t.Errorf("%s, load %d: %v %+v", rule, n, got, causes)
			}
		}
	}
}
