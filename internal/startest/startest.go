// Package startest helps tests to load models from text and to look at what came of it.
package startest

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	driver "zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ironmonger/internal/inside"
	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/prove"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
	"ironmonger/internal/warehouse"
	_ "ironmonger/internal/warehouse/postgres" // the drivers of the tests' warehouses
	_ "ironmonger/internal/warehouse/sqlite"
	_ "ironmonger/internal/warehouse/trino"
)

// Runs is how many random cases a test has: usually so many, and in a hunt as many as IRONMONGER_HUNT says.
func Runs(usual int) int {
	if n, err := strconv.Atoi(os.Getenv("IRONMONGER_HUNT")); err == nil {
		return n
	}
	return usual
}

// Write writes a file below dir.
func Write(t testing.TB, dir, name, text string) {
	t.Helper()
	path := filepath.Join(dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	if os.Getenv(
		"IRONMONGER_SETTLED",
	) != "" { // as if it had been written some time ago, so that it need not be read again
		at := time.Now().Add(-time.Minute)
		if err := os.Chtimes(filepath.Join(dir, name), at, at); err != nil {
			t.Fatal(err)
		}
	}
}

// WriteOld writes a file as if it had been written some time ago, so that it need not be read again: the files of a load n
// before those of the next.
func WriteOld(t testing.TB, dir, name, text string, n int) {
	t.Helper()
	Write(t, dir, name, text)
	at := time.Now().Add(time.Duration(n-100) * time.Minute)
	if err := os.Chtimes(filepath.Join(dir, name), at, at); err != nil {
		t.Fatal(err)
	}
}

// Model reads the model in dir.
func Model(t testing.TB, dir string) *star.Model {
	t.Helper()
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	m, err := star.Read(
		filepath.Join(dir, "ironmonger.yaml"),
		transform.Outside(
			context.Background(),
			root,
			func(name string) (string, bool) { return os.LookupEnv("IRONMONGER_SET_" + name) },
		),
	)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// Open opens the warehouse of the model in dir.
func Open(t testing.TB, dir string) warehouse.Warehouse {
	t.Helper()
	m := Model(t, dir)
	w, err := warehouse.Open(context.Background(), schema.Location(m, dir), warehouse.ToWrite)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// Load loads the model in dir and returns the run's entry and error. IRONMONGER_OPENING says how dimensions are
// opened where the test leaves it open; with IRONMONGER_EXECUTE=in_warehouse, facts of files are loaded there, where
// they can be and the model does not say where.
func Load(t testing.TB, dir string, opts load.Options) (*ledger.Run, error) {
	t.Helper()
	if opts.Opening == load.AsFits {
		opts.Opening = map[string]load.Opening{"by_keys": load.ByKeys, "spilled": load.Spilled}[os.Getenv("IRONMONGER_OPENING")]
	}
	m := Model(t, dir)
	if os.Getenv("IRONMONGER_EXECUTE") == string(star.InWarehouse) {
		loadInside(m)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	db := Open(t, dir)
	defer db.Close()
	return load.Run(context.Background(), m, root, db, opts)
}

// Why returns the error of a load with what its steps say that have failed.
func Why(run *ledger.Run, err error) error {
	if err == nil || run == nil {
		return err
	}
	for _, s := range run.Steps {
		if s.State == ledger.Failed {
			err = fmt.Errorf("%w; %s: %s", err, s.Name, s.Message)
		}
	}
	return err
}

// loadInside has the warehouse load the facts and dimensions of files that it can load, unless the model says where they are
// loaded.
func loadInside(m *star.Model) {
	for _, f := range m.Facts {
		if said, _ := m.Execution(f); said == "" && f.Source.OnlyFiles() && inside.Check(m, f) == nil {
			f.Execute(star.InWarehouse)
		}
	}
	for _, d := range m.Dimensions {
		if said, _, _ := m.ExecutionOf(d); said == "" && d.Source != nil && d.Source.OnlyFiles() && inside.CheckMembers(m, d) == nil {
			d.Execute(star.InWarehouse)
		}
	}
}

// Run runs SQL statements in the warehouse of the model in dir, behind the loader's back.
func Run(t testing.TB, dir string, statements ...string) {
	t.Helper()
	m := Model(t, dir)
	script := strings.Join(statements, ";\n")
	if m.Warehouse.Kind == star.Postgres {
		conn, err := pgx.Connect(context.Background(), m.Warehouse.Connection)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close(context.Background())
		if _, err := conn.Exec(context.Background(), fmt.Sprintf("SET search_path = %q;\n", m.Warehouse.Schema)+script); err != nil {
			t.Fatal(err)
		}
		return
	}
	conn, err := driver.OpenConn(filepath.Join(dir, m.Warehouse.Path))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if err := sqlitex.ExecuteScript(conn, script, nil); err != nil {
		t.Fatal(err)
	}
}

// Try runs a statement in the SQLite warehouse of the model in dir, and says whether the database allowed it.
func Try(t testing.TB, dir, statement string) bool {
	t.Helper()
	conn, err := driver.OpenConn(filepath.Join(dir, Model(t, dir).Warehouse.Path))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	return sqlitex.ExecuteScript(conn, statement, nil) == nil
}

// Table reads a table as text: a map for each row, nulls left out.
func Table(t testing.TB, r warehouse.Reader, table *warehouse.Table) []map[string]string {
	t.Helper()
	ctx := context.Background()
	if there, err := r.Describe(ctx, table.Name); err != nil {
		t.Fatal(err)
	} else if there == nil {
		return nil
	}
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{Table: table.Name, Fields: table.Fields(), Convert: table.Borrowed},
	)
	if err != nil {
		t.Fatal(err)
	}
	var rows []map[string]string
	for i := range b.N {
		row := map[string]string{}
		for k, c := range table.Columns {
			if !b.Cols[k].Null[i] {
				row[c.Name] = b.Cols[k].Value(i)
			}
		}
		rows = append(rows, row)
	}
	return rows
}

// Star reads all tables of the star in dir.
func Star(t testing.TB, dir string) map[string][]map[string]string {
	t.Helper()
	m := Model(t, dir)
	db := Open(t, dir)
	defer db.Close()
	tables := map[string][]map[string]string{}
	for _, table := range Tables(m) {
		tables[table.Name] = Table(t, db, table)
	}
	return tables
}

// Tables lists the tables of a model.
func Tables(m *star.Model) []*warehouse.Table {
	var list []*warehouse.Table
	s := schema.New(m)
	for _, d := range s.Dimensions {
		list = append(list, d.Tables()...)
	}
	for _, f := range s.Facts {
		list = append(list, f.Tables()...)
	}
	return list
}

// Dump returns all rows of the star in dir as sorted lines, without the columns left out.
func Dump(t testing.TB, dir string, without ...string) string {
	t.Helper()
	var lines []string
	for table, rows := range Star(t, dir) {
		for _, row := range rows {
			var parts []string
			for name, v := range row {
				if !slices.Contains(without, name) {
					parts = append(parts, name+"="+v)
				}
			}
			slices.Sort(parts)
			lines = append(lines, table+": "+strings.Join(parts, " "))
		}
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// Proved reports whether the star in dir holds, by its tables and by its sources, and logs what does not.
func Proved(t testing.TB, dir string) bool {
	t.Helper()
	broken := checks(t, dir)
	for _, c := range broken {
		t.Logf("%s of %s is %s: %+v", c.Name, c.Table, c.State, c.Examples)
	}
	return len(broken) == 0
}

// Broken lists the checks that the star in dir breaks, each as check and table.
func Broken(t testing.TB, dir string) (broken []string) {
	t.Helper()
	for _, c := range checks(t, dir) {
		broken = append(broken, c.Name+" of "+c.Table)
	}
	return broken
}

// checks proves the star in dir, and returns the checks that are broken or could not be looked at.
func checks(t testing.TB, dir string) (broken []*prove.Check) {
	t.Helper()
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	wh := Open(t, dir)
	defer wh.Close()
	report, err := prove.Run(
		context.Background(),
		wh,
		Model(t, dir),
		prove.Options{Today: time.Now(), Root: root, Sources: true},
	)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range report.Checks {
		if c.State == prove.Broken || c.State == prove.Unseen {
			broken = append(broken, c)
		}
	}
	return broken
}

// Difference returns the first lines in which two dumps differ.
func Difference(a, b string) string {
	count := map[string]int{}
	for l := range strings.SplitSeq(a, "\n") {
		count[l]++
	}
	for l := range strings.SplitSeq(b, "\n") {
		count[l]--
	}
	var out []string
	for l, n := range count {
		if n > 0 {
			out = append(out, "- "+l)
		} else if n < 0 {
			out = append(out, "+ "+l)
		}
	}
	slices.SortFunc(out, func(x, y string) int { return strings.Compare(x[2:], y[2:]) })
	return strings.Join(out[:min(len(out), 20)], "\n")
}
