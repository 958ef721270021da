package load_test

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"

	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

const sinceModel = `warehouse: {sqlite: star.db}
undo: 20 runs
limits: {unmatched: none, set_aside: none}
databases:
  office: {sqlite: office.db}
sources:
  tolls: {database: office, %s, order_by: id, columns: {no: integer, boat: text, toll: {type: "decimal(9,2)"}, changed: %s}, since: changed, overlap: %s}
  boats: {database: office, table: boat, order_by: boat, columns: {boat: text, class: text, at: date}, since: at}
dimensions:
  boat: {from: boats, natural_key: boat, type_1: class}
facts:
  toll:
    from: tolls
    grain: no
    keys: {boat: {by: boat, unmatched: %s}}
    measures: toll
    repeated: replace
    newer_by: changed
`

// TestSince loads facts and members from a table that grows and changes, of which only new rows are read, and holds the
// star against one for which all rows are read each time. Loads are taken back, too.
func TestSince(t *testing.T) {
	manyCases(t, 12, sinceCase)
}

func sinceCase(t *testing.T, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 91))
	from := []string{"table: toll", `query: "select * from toll where no >= 0"`}[seed%2]
	kind, overlap := "integer", "3"
	at := func(n int) string { return fmt.Sprint(n) }
	switch seed % 3 {
	case 1:
		kind, overlap = "date", "8 days"
		at = func(n int) string { return fmt.Sprintf("2024-%02d-%02d", 1+n/28, 1+n%28) }
	case 2:
		kind, overlap = "timestamp", "192 hours"
		at = func(n int) string { return fmt.Sprintf("2024-%02d-%02d 10:30:00", 1+n/28, 1+n%28) }
	}
	unmatched := []string{"set_aside", "infer", "unknown"}[seed/3%3]
	some, all := t.TempDir(), t.TempDir()
	model := fmt.Sprintf(sinceModel, from, kind, overlap, unmatched)
	startest.Write(t, some, "ironmonger.yaml", model)
	startest.Write(t, all, "ironmonger.yaml", model)
	office := func(script string) {
		for _, dir := range []string{some, all} {
			conn, err := sqlite.OpenConn(filepath.Join(dir, "office.db"))
			if err == nil {
				err = sqlitex.ExecuteScript(conn, script, nil)
				conn.Close()
			}
			if err != nil {
				t.Fatal(err)
			}
		}
	}
	office("create table toll (id integer primary key, no integer, boat text, toll text, changed " + kind + "); " +
		"create table boat (boat text, class text, at date);")
	var past []moment
	read, rows, clock := int64(0), int64(0), 5
	for n := range 6 {
		var script strings.Builder
		for range 1 + r.IntN(6) {
			clock++
			changed := "'" + at(max(0, clock-r.IntN(4))) + "'"
			if r.IntN(12) == 0 {
				changed = "null" // which cannot say which row is newer
			}
			fmt.Fprintf(&script, "insert into toll (no, boat, toll, changed) values (%d, '%s', '%s', %s);\n",
				r.IntN(12), pick(r, "A", "B", "C", "D"), pick(r, "1.00", "2.00", "3.00", "much"), changed)
		}
		if r.IntN(2) == 0 { // a row is corrected, and says so
			clock++
			fmt.Fprintf(
				&script,
				"update toll set toll = '%d.00', changed = '%s' where id = %d;\n",
				4+n,
				at(clock),
				1+r.IntN(8),
			)
		}
		fmt.Fprintf(
			&script,
			"insert into boat values ('%s', '%s', '2024-01-%02d');\n",
			string("ABC"[n/2]),
			pick(r, "x", "y"),
			1+n,
		)
		office(script.String())
		run, err := startest.Load(t, some, load.Options{Workers: 2})
		if err != nil {
			t.Fatal(err)
		}
		read += run.Steps[1].Figures.Read
		if run, err = startest.Load(t, all, load.Options{Again: true}); err != nil {
			t.Fatal(err)
		}
		rows += run.Steps[1].Figures.Read
		is, want := startest.Dump(t, some, "load_line", "load_run"), startest.Dump(t, all, "load_line", "load_run")
		if is != want {
			t.Fatalf(
				"load %d: reading only what is new, another star:\n%s\n%s",
				n,
				startest.Difference(want, is),
				script.String(),
			)
		}
		if !startest.Proved(t, some) {
			t.Fatal("the proof is broken")
		}
		// A row that was set aside, and that nobody has read since it was corrected, waits until all rows are read.
		if a, b := waiting(t, some, "tolls"), waiting(t, all, "tolls"); a < b {
			t.Fatalf("load %d: %d rows wait, and %d where all are read", n, a, b)
		}
		past = append(past, momentOf(t, some, run.ID))
		if again, err := startest.Load(t, some, load.Options{}); err != nil || again.Steps[1].Figures.Written() > 0 {
			t.Fatalf("again: %v, %+v", err, again.Steps[1].Figures)
		} else {
			past = append(past, momentOf(t, some, again.ID))
		}
		if _, err := startest.Load(t, all, load.Options{}); err != nil { // so that runs have the same numbers
			t.Fatal(err)
		}
	}
	if read > rows {
		t.Errorf("%d rows were read, of %d", read, rows)
	}
	takeBack(t, some, past, r.IntN)
	for _, dir := range []string{some, all} {
		if _, err := startest.Load(t, dir, load.Options{Again: true}); err != nil {
			t.Fatal(err)
		}
	}
	if a, b := waiting(t, some, "tolls"), waiting(t, all, "tolls"); a != b {
		t.Errorf("all are read, and %d rows wait; %d where all always were", a, b)
	}
}

// TestSinceReads: of a table of a thousand rows, a later load reads the rows of the overlap and those that are new;
// all, if the model has changed.
func TestSinceReads(t *testing.T) {
	dir := t.TempDir()
	model := fmt.Sprintf(sinceModel, "table: toll", "integer", "3", "infer")
	startest.Write(t, dir, "ironmonger.yaml", model)
	conn, err := sqlite.OpenConn(filepath.Join(dir, "office.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	script := "create table toll (id integer primary key, no integer, boat text, toll text, changed integer); " +
		"create table boat (boat text, class text, at date); insert into boat values ('A', 'x', '2024-01-01');"
	for n := range 1000 {
		script += fmt.Sprintf("insert into toll (no, boat, toll, changed) values (%d, 'A', '1.00', %d);\n", n, n)
	}
	for n, c := range []struct {
		script string
		read   int64
	}{
		{script, 1000},
		{"", 4},
		{"insert into toll (no, boat, toll, changed) values (1000, 'A', '1.00', 1000);", 5},
		{"update toll set toll = '9.00', changed = 1001 where no = 7;", 5},
		{"update toll set toll = '8.00' where no = 8;", 4}, // a change without another value of changed is not seen
		{"model", 1001},
	} {
		if c.script == "model" {
			startest.Write(t, dir, "ironmonger.yaml", model+"# another\n")
		} else if err := sqlitex.ExecuteScript(conn, c.script, nil); err != nil {
			t.Fatal(err)
		}
		run, err := startest.Load(t, dir, load.Options{})
		if err != nil {
			t.Fatal(err)
		}
		if read := run.Steps[1].Figures.Read; read != c.read {
			t.Errorf("load %d read %d rows, not %d", n, read, c.read)
		}
	}
}
