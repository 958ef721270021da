//go:build hunt

package warehouse_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
	"ironmonger/internal/trinodb"
)

// voyages is a model of rows that stand in Trino.
const voyages = `databases: {w: {trino: %q}}
sources:
  voyages: {database: w, table: pub.raw.voyage, order_by: no, columns: {no: integer, ship: text, port: text, day: date, paid: "decimal(9,2)"}, require: {"a day": "day is not null"}}
  ships: {read: ships.csv, columns: {ship: text, flag: text, since: date}}
dimensions:
  ship: {from: ships, natural_key: ship, type_2: flag, effective: since}
  port: {from: voyages, execute: EXECUTE, natural_key: port, type_1: []}
  date: {calendar: {from: 2024-01-01, to: 2024-12-31}}
facts:
  voyage: {from: voyages, execute: EXECUTE, grain: no, measures: paid, keys: {ship: {by: ship, as_of: day, unmatched: infer, outside: nearest}, port: port, date: day}}
`

// TestWorkerDies: where a worker of a cluster that repeats tasks dies at any moment, and another one joins, a load of rows that
// stay in Trino comes to the same star as one by the program.
func TestWorkerDies(t *testing.T) {
	c, at := startest.NewCluster(t, 2)
	db, err := trinodb.Open(at.Server, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, sql := range []string{"CREATE SCHEMA pub.raw", `CREATE TABLE pub.raw.voyage AS SELECT no,
  CASE WHEN mod(no, 977) > 0 THEN 'S' || cast(mod(no * 7919, 401) AS varchar) END AS ship, 'P' || cast(mod(no * 104729, 89) AS varchar) AS port,
  CASE WHEN mod(no, 1009) > 0 THEN date_add('day', mod(no * 31, 366), date '2024-01-01') END AS day, cast(mod(no * 48271, 99991) AS decimal(9,2)) / 100 AS paid
FROM (SELECT a * 1000 + b AS no FROM UNNEST(sequence(0, 59)) AS x (a) CROSS JOIN UNNEST(sequence(1, 1000)) AS y (b)) AS n`} {
		if _, err := db.ExecContext(t.Context(), sql); err != nil {
			t.Fatal(err)
		}
	}
	ships := "ship,flag,since\n"
	for n := range 390 {
		ships += fmt.Sprintf("S%d,a,2024-01-01\nS%[1]d,b,2024-%02d-11\n", n, 1+n%12)
	}
	star := func(warehouse, execute string) string {
		dir := t.TempDir()
		startest.Write(t, dir, "ships.csv", ships)
		startest.Write(t, dir, "ironmonger.yaml", warehouse+fmt.Sprintf(strings.ReplaceAll(voyages, "EXECUTE", execute), at.Server))
		return dir
	}
	whole := star("warehouse: {sqlite: star.db}\n", "in_process")
	mustLoad(t, whole)
	for n := range startest.Runs(3) {
		at.Schema = fmt.Sprint("star_", n)
		parts := star("warehouse:\n  "+startest.TrinoKeys(at)+"\n", "in_warehouse")
		ended := make(chan error, 1)
		began := time.Now()
		go func() {
			run, err := startest.Load(t, parts, load.Options{})
			ended <- startest.Why(run, err)
		}()
		after := time.Duration(rand.IntN(40_000)) * time.Millisecond
		died := false
		select {
		case err = <-ended:
		case <-time.After(after):
			died = true
			c.Kill()
			if err := c.Join(); err != nil {
				t.Fatal(err)
			}
			err = <-ended
		}
		if err != nil {
			t.Fatal(err)
		}
		t.Logf("load %d took %v; a worker died after %v: %v", n, time.Since(began).Round(time.Second), after.Round(time.Second), died)
		same(t, fmt.Sprint("load ", n), startest.Dump(t, parts), startest.Dump(t, whole))
	}
}
