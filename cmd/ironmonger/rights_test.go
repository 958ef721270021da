package main

import (
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/demo"
	"ironmonger/internal/startest"
)

// TestRights: a role that owns nothing but its schema loads, rebuilds and undoes; and the readers that the model names
// see all tables, those too that a later load makes anew, and change none.
func TestRights(t *testing.T) {
	connection, schema := startest.Postgres(t)
	loader, reader, later := schema+"_load", schema+"_read", schema+" later"
	exec := func(as string, statements ...string) error {
		conn, err := pgx.Connect(t.Context(), strings.Replace(connection, "user=postgres", "user='"+as+"'", 1))
		if err != nil {
			return err
		}
		defer conn.Close(t.Context())
		for _, s := range statements {
			if _, err := conn.Exec(t.Context(), s); err != nil {
				return fmt.Errorf("%s: %w", s, err)
			}
		}
		return nil
	}
	if err := exec("postgres",
		"CREATE ROLE "+loader+" LOGIN", "CREATE SCHEMA "+schema+" AUTHORIZATION "+loader,
		"CREATE ROLE "+reader+" LOGIN", `CREATE ROLE "`+later+`" LOGIN`,
	); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		exec("postgres", "DROP SCHEMA "+schema+" CASCADE", "DROP OWNED BY "+loader+", "+reader+`, "`+later+`"`, "DROP ROLE "+loader+", "+reader+`, "`+later+`"`)
	})
	dir := t.TempDir()
	if err := demo.Write(dir, 60); err != nil {
		t.Fatal(err)
	}
	model := readFile(t, dir, "ironmonger.yaml")
	place := fmt.Sprintf("postgres: %s\n  readers: %s\n  schema: %s", strings.Replace(connection, "user=postgres", "user="+loader, 1), reader, schema)
	startest.Write(t, dir, "ironmonger.yaml", strings.Replace(model, "sqlite: canal.db", place, 1))
	reads := func(reader string) {
		t.Helper()
		for _, table := range []string{"dim_vessel", "fact_passage", "fact_owed", "dim_date_relative", "load_run"} {
			if err := exec(reader, "SELECT count(*) FROM "+schema+"."+table); err != nil {
				t.Error(err)
			}
		}
	}
	must(t, dir, "load")
	reads(reader)
	must(t, dir, "rebuild")
	reads(reader)
	startest.Write(t, dir, "ironmonger.yaml", strings.Replace(readFile(t, dir, "ironmonger.yaml"), "readers: "+reader, "readers: ["+reader+", "+later+"]", 1))
	must(t, dir, "load")
	reads(later)
	must(t, dir, "rebuild")
	reads(later)
	startest.Write(t, dir, "locks.csv", readFile(t, dir, "locks.csv")+"L98,New Lock,W1,40\n")
	must(t, dir, "load")
	must(t, dir, "undo")
	must(t, dir, "load")
	must(t, dir, "prove", "--against-sources")
	for _, change := range []string{"DELETE FROM %s.fact_passage", "UPDATE %s.dim_lock SET name = 'x'", "DROP TABLE %s.load_run", "CREATE TABLE %s.own (a int)"} {
		if err := exec(reader, fmt.Sprintf(change, schema)); err == nil {
			t.Errorf("a reader may do this: "+change, schema)
		}
	}
}

// TestCopy: a star is copied from SQLite to PostgreSQL and back, with its ledger: it is the same to the key, is proved
// in both, and loads and undo go on as if nothing had happened. Nothing is written over.
func TestCopy(t *testing.T) {
	connection, schema := startest.Postgres(t)
	dir := t.TempDir()
	if err := demo.Write(dir, 200); err != nil {
		t.Fatal(err)
	}
	model := readFile(t, dir, "ironmonger.yaml")
	places := fmt.Sprintf("warehouse: development\nwarehouses:\n  development: {sqlite: canal.db}\n  production: {postgres: %q, schema: %s}\n  back: {sqlite: back.db}\n", connection, schema)
	startest.Write(t, dir, "ironmonger.yaml", strings.Replace(model, "warehouse:\n  sqlite: canal.db\n", places, 1))
	status(t, dir, 2, "copy --into production", "nothing has been loaded yet")
	must(t, dir, "load")
	startest.Write(t, dir, "locks.csv", readFile(t, dir, "locks.csv")+"L98,New Lock,W1,40\n")
	must(t, dir, "load")
	dump := func(place string) string {
		t.Setenv("IRONMONGER_WAREHOUSE", place)
		defer t.Setenv("IRONMONGER_WAREHOUSE", "")
		return strings.Join([]string{
			must(t, dir, "show", "fact", "passage", "--format", "csv", "--rows", "1000000"), must(t, dir, "show", "dimension", "vessel", "--format", "csv", "--rows", "1000000"),
			must(t, dir, "show", "fact", "owed", "--format", "csv", "--rows", "1000000"), must(t, dir, "runs", "--format", "json"), must(t, dir, "strays", "--format", "json"),
		}, "\n")
	}
	first := dump("development")
	for _, hop := range [][2]string{{"development", "production"}, {"production", "back"}} {
		out := must(t, dir, "copy", "--warehouse", hop[0], "--into", hop[1])
		if !strings.Contains(out, "they are the same in both") {
			t.Error(out)
		}
		if got := dump(hop[1]); got != first {
			t.Errorf("%s is not %s:\n%s", hop[1], hop[0], startest.Difference(first, got))
		}
		must(t, dir, "prove", "--against-sources", "--warehouse", hop[1])
		status(t, dir, 2, "copy --warehouse "+hop[0]+" --into "+hop[1], "has it already")
	}
	status(t, dir, 2, "copy --into development", "that is the warehouse that the star is in")
	status(t, dir, 2, "copy --into nowhere", "there is no warehouse nowhere")
	for _, place := range []string{"production", "back"} {
		var again struct {
			Steps []struct {
				Figures struct{ Inserted, New, Changed, Versions int64 }
			}
		}
		decode(t, must(t, dir, "load", "--format", "json", "--warehouse", place), &again)
		for _, s := range again.Steps {
			if s.Figures != (struct{ Inserted, New, Changed, Versions int64 }{}) {
				t.Errorf("a load of the same files into %s writes %+v", place, s)
			}
		}
		must(t, dir, "undo", "--warehouse", place)
		must(t, dir, "prove", "--warehouse", place)
		must(t, dir, "load", "--warehouse", place)
		must(t, dir, "prove", "--against-sources", "--warehouse", place)
	}
}
