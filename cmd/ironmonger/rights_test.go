package main

import (
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/demo"
	"ironmonger/internal/startest"
)

// TestRights: a role that owns nothing but its schema loads, rebuilds and undoes; and one that may read sees all tables, those too that a
// later load makes anew, and changes none.
func TestRights(t *testing.T) {
	connection, schema := startest.Postgres(t)
	loader, reader := schema+"_load", schema+"_read"
	exec := func(as string, statements ...string) error {
		conn, err := pgx.Connect(t.Context(), strings.Replace(connection, "user=postgres", "user="+as, 1))
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
		"CREATE ROLE "+reader+" LOGIN", "GRANT USAGE ON SCHEMA "+schema+" TO "+reader,
		"ALTER DEFAULT PRIVILEGES FOR ROLE "+loader+" IN SCHEMA "+schema+" GRANT SELECT ON TABLES TO "+reader,
	); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		exec("postgres", "DROP SCHEMA "+schema+" CASCADE", "DROP OWNED BY "+loader+", "+reader, "DROP ROLE "+loader+", "+reader)
	})
	dir := t.TempDir()
	if err := demo.Write(dir, 60); err != nil {
		t.Fatal(err)
	}
	model := readFile(t, dir, "ironmonger.yaml")
	place := fmt.Sprintf("postgres: %s\n  schema: %s", strings.Replace(connection, "user=postgres", "user="+loader, 1), schema)
	startest.Write(t, dir, "ironmonger.yaml", strings.Replace(model, "sqlite: canal.db", place, 1))
	reads := func() {
		t.Helper()
		for _, table := range []string{"dim_vessel", "fact_passage", "fact_owed", "dim_date_relative", "load_run"} {
			if err := exec(reader, "SELECT count(*) FROM "+schema+"."+table); err != nil {
				t.Error(err)
			}
		}
	}
	must(t, dir, "load")
	reads()
	must(t, dir, "rebuild")
	reads()
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
