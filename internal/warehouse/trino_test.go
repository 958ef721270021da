package warehouse_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/column"
	"ironmonger/internal/demo"
	"ironmonger/internal/load"
	"ironmonger/internal/startest"
	"ironmonger/internal/undo"
	"ironmonger/internal/warehouse"
	"ironmonger/internal/warehouse/warehousetest"
)

// inTrino has a model of an SQLite file stand in Trino.
func inTrino(t *testing.T, dir, file string) warehouse.Location {
	t.Helper()
	at := startest.Trino(t)
	path := filepath.Join(dir, "ironmonger.yaml")
	model, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	text := strings.Replace(string(model), "warehouse:\n  sqlite: "+file, "warehouse:\n  "+startest.TrinoKeys(at), 1)
	if text == string(model) {
		t.Fatal("the model is not in ", file)
	}
	startest.Write(t, dir, "ironmonger.yaml", text)
	return at
}

func mustLoad(t *testing.T, dir string) {
	t.Helper()
	if run, err := startest.Load(t, dir, load.Options{}); err != nil {
		t.Fatal(startest.Why(run, err))
	}
}

func same(t *testing.T, what, trino, sqlite string) {
	t.Helper()
	if trino != sqlite {
		t.Fatalf("%s: the star in Trino is another\n%s", what, startest.Difference(sqlite, trino))
	}
}

// TestDemo: the example, and the quarter with its changes and an undo, come to the same star in Trino as in SQLite.
func TestDemo(t *testing.T) {
	whole, parts := t.TempDir(), t.TempDir()
	for _, dir := range []string{whole, parts} {
		if err := demo.Write(dir, 300); err != nil {
			t.Fatal(err)
		}
	}
	inTrino(t, parts, "canal.db")
	mustLoad(t, whole)
	mustLoad(t, parts)
	same(t, "the example", startest.Dump(t, parts), startest.Dump(t, whole))
	if !startest.Proved(t, parts) {
		t.Error("the star in Trino does not hold")
	}
	whole, parts = filepath.Join(whole, "quarter"), filepath.Join(parts, "quarter")
	inTrino(t, parts, "quarter.db")
	days := 2
	if startest.Runs(0) > 0 {
		days = 5
	}
	for day := 1; day <= days; day++ {
		for _, dir := range []string{whole, parts} {
			if err := os.CopyFS(dir, os.DirFS(filepath.Join(dir, "arrivals", fmt.Sprint(day)))); err != nil && !errors.Is(err, os.ErrExist) {
				t.Fatal(err)
			}
			mustLoad(t, dir)
		}
		same(t, fmt.Sprint("day ", day), startest.Dump(t, parts), startest.Dump(t, whole))
		if day == 4 || day == days {
			for _, dir := range []string{whole, parts} {
				w := startest.Open(t, dir)
				if _, err := undo.Take(ctx, w, startest.Model(t, dir), undo.Options{}); err != nil {
					t.Fatal(err)
				}
				w.Close()
			}
			same(t, "what was taken back", startest.Dump(t, parts), startest.Dump(t, whole))
		}
	}
}

// clinic writes a model of a clinic and its files; each step of it adds to them.
func clinic(t *testing.T, dir string, step int) {
	t.Helper()
	startest.Write(t, dir, "ironmonger.yaml", `warehouse:
  sqlite: clinic.db
sources:
  wards: {read: "wards*.csv", columns: {ward: text, name: text, floor: text, since: date}}
  stays: {read: "stays*.csv", columns: {no: integer, ward: text, at: date, paid: "decimal(9,2)"}}
dimensions:
  ward: {from: wards, natural_key: ward, type_1: name, type_2: floor, effective: since}
facts:
  stay: {from: stays, grain: no, measures: paid, repeated: replace, keys: {ward: {by: ward, as_of: at, unmatched: infer, outside: nearest}}}
`)
	r := rand.New(rand.NewPCG(uint64(step), 3))
	wards, stays := "ward,name,floor,since\n", "no,ward,at,paid\n"
	for i := range 400 {
		wards += fmt.Sprintf("W%d,Ward %d,%d,%d-%02d-%02d\n", i, r.IntN(5), r.IntN(3), 2024+step/12, 1+step%12, 1+r.IntN(28))
	}
	for range 3000 {
		stays += fmt.Sprintf("%d,W%d,2024-%02d-%02d,%d.%02d\n", r.IntN(9000), r.IntN(450), 1+r.IntN(12), 1+r.IntN(28), r.IntN(500), r.IntN(100))
	}
	startest.Write(t, dir, fmt.Sprintf("wards%d.csv", step), wards)
	startest.Write(t, dir, fmt.Sprintf("stays%d.csv", step), stays)
}

// TestKilled: loads that are killed at any moment leave what stood before or what they have published, and the next load
// goes on from there; so it is where the database of the catalog dies.
func TestKilled(t *testing.T) {
	program := filepath.Join(t.TempDir(), "ironmonger")
	if out, err := exec.Command("go", "build", "-o", program, "ironmonger/cmd/ironmonger").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	whole, parts := t.TempDir(), t.TempDir()
	var at warehouse.Location
	killed := 0
	for step := range startest.Runs(3) {
		clinic(t, whole, step)
		clinic(t, parts, step)
		if step == 0 {
			at = startest.Trino(t)
		}
		model, _ := os.ReadFile(filepath.Join(parts, "ironmonger.yaml"))
		here := at
		if step == 1 { // rows go there in statements
			here.Staging, here.StagedAt = "", ""
		}
		startest.Write(t, parts, "ironmonger.yaml",
			strings.Replace(string(model), "warehouse:\n  sqlite: clinic.db", "warehouse:\n  "+startest.TrinoKeys(here), 1))
		mustLoad(t, whole)
		for range 2 {
			cmd := exec.Command(program, "load")
			cmd.Dir = parts
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			time.Sleep(time.Duration(50+rand.IntN(4000)) * time.Millisecond)
			if step == 2 {
				startest.RestartCatalog(t)
			} else {
				cmd.Process.Kill()
			}
			if cmd.Wait() != nil {
				killed++
			}
		}
		mustLoad(t, parts)
		same(t, fmt.Sprint("after the kills of step ", step), startest.Dump(t, parts, "load_run"), startest.Dump(t, whole, "load_run"))
	}
	if t.Logf("%d loads were killed", killed); killed == 0 {
		t.Error("no load was killed")
	}
	if !startest.Proved(t, parts) {
		t.Error("the star does not hold")
	}
}

// TestAtOnce: of two loads at the same time, each does its work or says that the other holds the warehouse; and a state that a
// run has left can be read when others have followed.
func TestAtOnce(t *testing.T) {
	whole, parts := t.TempDir(), t.TempDir()
	for _, dir := range []string{whole, parts} {
		clinic(t, dir, 0)
	}
	at := inTrino(t, parts, "clinic.db")
	mustLoad(t, whole)
	var both sync.WaitGroup
	done := 0
	var mu sync.Mutex
	for range 2 {
		both.Go(func() {
			_, err := startest.Load(t, parts, load.Options{})
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				done++
			} else if !errors.Is(err, warehouse.ErrHeld) {
				t.Error(err)
			}
		})
	}
	both.Wait()
	if done == 0 {
		t.Fatal("no load was done")
	}
	first := startest.Dump(t, parts, "load_run")
	same(t, "two at once", first, startest.Dump(t, whole, "load_run"))
	w := open(t, at)
	defer w.Close()
	runs := 0
	for _, row := range startest.Table(t, w, &warehouse.Table{Name: "load_run", Columns: []warehouse.Column{{Field: warehousetest.Field("run", "integer")}}}) {
		fmt.Sscan(row["run"], &runs)
	}
	frozen := at
	frozen.Schema = fmt.Sprintf("%s_run_%d", at.Schema, runs)
	clinicAgain(t, parts, at)
	mustLoad(t, parts)
	old := open(t, frozen)
	defer old.Close()
	stay := warehouse.Query{Table: "fact_stay", Fields: []column.Field{warehousetest.Field("no", "integer")}, OrderBy: []string{"no"}}
	before, now := warehousetest.Rows(t, old, stay), warehousetest.Rows(t, w, stay)
	if n := strings.Count(first, "fact_stay: "); strings.Count(before, "\n")+1 != n || len(now) <= len(before) {
		t.Errorf("the state of run %d has %d rows, and had %d; now there are %d", runs, strings.Count(before, "\n")+1, n, strings.Count(now, "\n")+1)
	}
}

// clinicAgain adds files to a clinic in Trino.
func clinicAgain(t *testing.T, dir string, at warehouse.Location) {
	t.Helper()
	clinic(t, dir, 1)
	model, _ := os.ReadFile(filepath.Join(dir, "ironmonger.yaml"))
	startest.Write(t, dir, "ironmonger.yaml",
		strings.Replace(string(model), "warehouse:\n  sqlite: clinic.db", "warehouse:\n  "+startest.TrinoKeys(at), 1))
}

// TestMoved: what somebody else has changed meanwhile is not overwritten.
func TestMoved(t *testing.T) {
	at := startest.Trino(t)
	w := open(t, at)
	defer w.Close()
	one := &warehouse.Table{Name: "one", Columns: []warehouse.Column{{Field: warehousetest.Field("id", "integer")}}}
	add := func(tx warehouse.Tx, id int64) {
		b := column.NewBatch(one.Fields())
		b.Cols[0].AppendInt(id)
		b.N = 1
		if err := warehouse.AppendAll(ctx, tx, one, b); err != nil {
			t.Fatal(err)
		}
	}
	warehousetest.Transact(t, w, func(tx warehouse.Tx) {
		if err := tx.Create(ctx, one); err != nil {
			t.Fatal(err)
		}
		add(tx, 1)
	})
	slow, err := w.Beside(ctx, "slow")
	if err != nil {
		t.Fatal(err)
	}
	defer slow.Rollback()
	add(slow, 2)
	other, err := w.Beside(ctx, "other")
	if err != nil {
		t.Fatal(err)
	}
	add(other, 3)
	if err := other.Commit(); err != nil {
		t.Fatal(err)
	}
	if err := slow.Commit(); err == nil || !strings.Contains(err.Error(), "somebody else") {
		t.Errorf("the commit came to %v", err)
	}
	if err := slow.Rollback(); err != nil {
		t.Error(err)
	}
	if got := warehousetest.Rows(t, w, warehouse.Query{Table: "one", Fields: one.Fields()}); got != "1\n3" {
		t.Errorf("the table has %q", got)
	}
	if _, err := w.Read(context.Background(), warehouse.Query{Table: "none", Fields: one.Fields()}); err == nil {
		t.Error("a table that is not there was read")
	}
}

// TestPasses: the states of the latest ten runs stay, and what killed loads have left goes after seven days; what is newer, and
// what others have, stays.
func TestPasses(t *testing.T) {
	at := startest.Trino(t)
	w := open(t, at)
	defer w.Close()
	conn, err := pgx.Connect(ctx, at.Connection)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	const add = "INSERT INTO iceberg_namespace_properties VALUES ($1, $2, 'exists', 'true')"
	young := time.Now().UTC().Add(-time.Hour).Format("w_20060102_150405_") + at.Schema
	for catalog, names := range map[string][]string{"work": {"w_20200101_000000_a", young}, "pub": {at.Schema + "_run_x", at.Schema + "_runs"}} {
		for _, name := range names {
			if _, err := conn.Exec(ctx, add, catalog, name); err != nil {
				t.Fatal(err)
			}
		}
	}
	for _, name := range []string{"w_20200101_000000_a", young} {
		if err := os.Mkdir(filepath.Join(at.Staging, name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for run := range int64(13) {
		warehousetest.Transact(t, w, func(tx warehouse.Tx) {
			if err := tx.Freeze(ctx, run+1); err != nil {
				t.Fatal(err)
			}
		})
	}
	hold, err := w.Hold(ctx)
	if err != nil {
		t.Fatal(err)
	}
	hold.Release()
	rows, err := conn.Query(ctx, "SELECT namespace FROM iceberg_namespace_properties WHERE starts_with(namespace, $1) OR namespace IN ('w_20200101_000000_a', $2)", at.Schema+"_", young)
	if err != nil {
		t.Fatal(err)
	}
	got, err := pgx.CollectRows(rows, pgx.RowTo[string])
	want := []string{at.Schema + "_run_x", at.Schema + "_runs", young}
	for run := 4; run <= 13; run++ {
		want = append(want, fmt.Sprint(at.Schema, "_run_", run))
	}
	slices.Sort(got)
	slices.Sort(want)
	if err != nil || !slices.Equal(got, want) {
		t.Errorf("%v\nwant %v, %v", got, want, err)
	}
	_, old := os.Stat(filepath.Join(at.Staging, "w_20200101_000000_a"))
	if _, err := os.Stat(filepath.Join(at.Staging, young)); err != nil || !os.IsNotExist(old) {
		t.Errorf("the folders: %v, %v", err, old)
	}
}
