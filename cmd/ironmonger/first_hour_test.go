package main

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ironmonger/internal/startest"
)

// firstHour writes a folder of files as people send them.
func firstHour(t *testing.T) string {
	dir := t.TempDir()
	startest.Write(t, dir, "boats.csv", "reg;name;built;changed\nA1;Heron;1.3.1990;01.01.2024\nA2;\"Grey; Gull\";12.11.2001;01.01.2024\nA1;Heron II;1.3.1990;15.02.2024\n")
	startest.Write(t, dir, "trips/2025-01.csv", "Trips\n\ntrip,reg,sailed,tons\n1,A1,2025-01-03,1.50\n2,A9,2025-01-04,2.25\nTotal,,,3.75\n")
	startest.Write(t, dir, "trips/2025-02.csv", "Trips\n\ntrip,reg,sailed,tons\n3,A2,2025-02-03,4.00\n4,A1,,0.25\nTotal,,,4.25\n")
	startest.Write(t, dir, "empty.csv", "\n")
	startest.Write(t, dir, "sheet.xlsx", "PK\x03\x04 and so on")
	startest.Write(t, dir, "notes.pdf", "%PDF-1.7")
	startest.Write(t, dir, "odd.bin", "a\x00b")
	startest.Write(t, dir, "old.csv", "a,b\r1,2\r")
	startest.Write(t, dir, "wide.csv", strings.Repeat("c,", 10_000)+"d\n"+strings.Repeat("1,", 10_000)+"2\n")
	startest.Write(t, dir, "long.csv", strings.Repeat("c,", 200_000)+"d\n1\n")
	startest.Write(t, dir, ".hidden", "x,y\n1,2\n")
	return dir
}

// TestShowPath looks at files and folders without a model.
func TestShowPath(t *testing.T) {
	dir := firstHour(t)
	out := must(t, dir, "show", "./boats.csv")
	for _, want := range []string{"boats.csv: csv; semicolons; 4 fields in 100% of the records", "3 rows, 4 columns", "built     date   d.M.yyyy"} {
		if !strings.Contains(strings.Join(strings.Fields(out), " "), strings.Join(strings.Fields(want), " ")) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	var found struct {
		Files []struct {
			Files   []string
			Written string
			Rows    int64
			Columns []struct {
				Column, Type, Layout string
				Unfit                int64
				Example              string `json:"unfit_example"`
			}
		}
		Skipped []string `json:"not_looked_at"`
	}
	if err := json.Unmarshal([]byte(must(t, dir, "show", "./", "--format", "json")), &found); err != nil {
		t.Fatal(err)
	}
	trips := found.Files[1]
	if len(found.Files) != 2 || len(trips.Files) != 2 || trips.Written != "commas, the header on line 3" || trips.Rows != 6 ||
		trips.Columns[0].Type != "integer" || trips.Columns[0].Unfit != 2 || trips.Columns[0].Example != "Total" || trips.Columns[3].Type != "decimal(5,2)" {
		t.Errorf("%+v", found)
	}
	skipped := strings.Join(found.Skipped, "\n")
	for _, want := range []string{"empty.csv: the file is empty", "sheet.xlsx: this is not a workbook", "notes.pdf: a PDF document", "odd.bin: not text",
		"old.csv: its lines end in a carriage return alone", "wide.csv: 10001 columns are too many", "long.csv: its first line is longer than 256 KiB"} {
		if !strings.Contains(skipped, want) || len(found.Skipped) != 7 {
			t.Errorf("%q is not in %q", want, found.Skipped)
		}
	}
	for _, c := range []struct{ args, want string }{
		{"show ./boats.csv --columns name", "Grey; Gull"},
		{"show ./trips/2025-01.csv --figures", "‹A9›"},
		{"show ./trips/2025-01.csv --where reg='A9' --format csv", "2,A9,2025-01-04,2.25"},
	} {
		if out := must(t, dir, strings.Fields(c.args)...); !strings.Contains(out, c.want) {
			t.Errorf("%s: %q is not in\n%s", c.args, c.want, out)
		}
	}
	for _, c := range []struct {
		args, want string
		status     int
	}{
		{"show ./none.csv", "there is no file or folder ./none.csv", 2},
		{"show ./boats.csv --natural", "are for what a model names", 2},
		{"show ./sheet.xlsx", "./sheet.xlsx: this is not a workbook", 1},
		{"show ./empty.csv", "./empty.csv: the file is empty", 1},
		{"draft none", "there is no folder none", 2},
		{"draft", "of which folder?", 2},
		{"draft . --into a/b.yaml", "--into is the name of a file in the folder", 2},
		{"draft . --unmatched stop", "stop is neither infer nor unknown", 2},
	} {
		if _, stderr, status := run(t, dir, strings.Fields(c.args)...); status != c.status || !strings.Contains(stderr, c.want) {
			t.Errorf("%s: status %d, %s", c.args, status, stderr)
		}
	}
}

// TestDraftCalls drafts a model, loads and proves it; the draft is not overwritten, and its options change it.
func TestDraftCalls(t *testing.T) {
	dir := firstHour(t)
	if text := must(t, dir, "draft", ".", "--into", "-"); !strings.HasPrefix(text, "# A draft") || exists(dir, "ironmonger.yaml") {
		t.Errorf("a draft on standard output:\n%s", text)
	}
	out := must(t, dir, "draft", ".")
	for _, want := range []string{"boats dimension reg, as of changed", "trips fact trip boats (reg)", "not looked at: sheet.xlsx", "ironmonger.yaml is written"} {
		if !strings.Contains(strings.Join(strings.Fields(out), " "), want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	if text, err := os.ReadFile(filepath.Join(dir, "ironmonger.yaml")); err != nil || !strings.Contains(string(text), "# doubt: 1 row without sailed: they will be set aside") {
		t.Errorf("%v\n%s", err, text)
	}
	must(t, dir, "check")
	if out := must(t, dir, "load"); !strings.Contains(out, "rows left out: totals 2") || !strings.Contains(out, "boat without sailed") {
		t.Errorf("%s", out)
	}
	must(t, dir, "prove", "--against-sources")
	facts := startest.Star(t, dir)["fact_trip"]
	if len(facts) != 3 {
		t.Errorf("%d facts: %v", len(facts), facts)
	}
	if _, stderr, status := run(t, dir, "draft", "."); status != 2 || !strings.Contains(stderr, "is there already, and is not overwritten") {
		t.Errorf("status %d, %s", status, stderr)
	}
	must(t, dir, "draft", ".", "--into", "other.yaml", "--no-history", "--unmatched", "unknown", "--warehouse", "other.db")
	text, err := os.ReadFile(filepath.Join(dir, "other.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"sqlite: other.db", "unmatched: unknown", "type_1: [name, built]"} {
		if !strings.Contains(string(text), want) || strings.Contains(string(text), "as_of") {
			t.Errorf("%q is not in\n%s", want, text)
		}
	}
	must(t, dir, "load", "--model", "other.yaml")
	startest.Write(t, dir, "repairs.csv", "repair,boat,begun,cost\nR1,B1,2024-01-02,3.50\nR2,B2,2024-01-03,4.50\n")
	if out := must(t, dir, "draft", ".", "--into", "other.yaml"); !strings.Contains(out, "  repairs:\n    read: repairs.csv") {
		t.Error(out)
	}
	must(t, dir, "load", "--model", "other.yaml")
	if out := must(t, dir, "draft", ".", "--into", "other.yaml"); !strings.Contains(out, "other.yaml lacks nothing") {
		t.Error(out)
	}
}

func exists(dir, name string) bool {
	_, err := os.Stat(filepath.Join(dir, name))
	return err == nil
}

// TestDraftDatabase drafts models of databases, and loads them.
func TestDraftDatabase(t *testing.T) {
	const tables = `create table keeper (keeper_no varchar(9) primary key, name text, grade text);
		insert into keeper values ('007', 'Ada', 'X'), ('008', 'Bo', 'Y'), ('009', 'Cy', 'X');
		create table shift (shift_no integer primary key, keeper_no varchar(9), started date, hours numeric(5,2));
		insert into shift values (1, '007', '2025-01-03', 7.5), (2, '008', '2025-01-03', 8), (3, '007', '2025-01-04', 6.25);
		create table bare (a integer); create view long_shift as select * from shift where hours > 7`
	dir := t.TempDir()
	conn, err := sqlite.OpenConn(filepath.Join(dir, "office.db"))
	if err == nil {
		err = sqlitex.ExecuteScript(conn, tables+"; create table image (content blob)", nil)
		conn.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	connection, schema := startest.Postgres(t)
	ctx := context.Background()
	server, err := pgx.Connect(ctx, connection)
	if err != nil {
		t.Fatal(err)
	}
	defer server.Close(ctx)
	if _, err := server.Exec(ctx, "drop database if exists "+schema); err != nil {
		t.Fatal(err)
	}
	if _, err := server.Exec(ctx, "create database "+schema); err != nil {
		t.Fatal(err)
	}
	connection = strings.Replace(connection, "dbname=postgres", "dbname="+schema, 1)
	office, err := pgx.Connect(ctx, connection)
	if err != nil {
		t.Fatal(err)
	}
	_, err = office.Exec(ctx, tables)
	office.Close(ctx)
	if err != nil {
		t.Fatal(err)
	}
	place, maria := startest.MariaDB(t)
	if _, err := maria.Exec(tables); err != nil {
		t.Fatal(err)
	}
	for _, database := range []string{"office.db", "postgres: " + connection, "mysql: " + place} {
		os.Remove(filepath.Join(dir, "ironmonger.yaml"))
		out := strings.Join(strings.Fields(must(t, dir, "draft", database, "--warehouse", schema+database[:2]+".db")), " ")
		for _, want := range []string{"keeper dimension keeper_no", "shift fact shift_no keeper (keeper_no)", "origin: bare: it has no rows"} {
			if !strings.Contains(out, want) {
				t.Errorf("%s: %q is not in\n%s", database, want, out)
			}
		}
		if image := "image: it has no column of a type that is read"; database == "office.db" && !strings.Contains(out, image) {
			t.Errorf("%q is not in\n%s", image, out)
		}
		must(t, dir, "load")
		must(t, dir, "prove", "--against-sources")
		if out := must(t, dir, "draft", database, "--into", "ironmonger.yaml"); !strings.Contains(out, "lacks nothing") {
			t.Errorf("%s: %s", database, out)
		}
		if out := must(t, dir, "show", "fact", "shift", "--natural", "--format", "csv"); !strings.Contains(out, "3,007,2025-01-04,6.25") {
			t.Errorf("%s: %s", database, out)
		}
	}
	if out := must(t, dir, "show", "./office.db"); !strings.Contains(out, "origin: shift: table") {
		t.Errorf("%s", out)
	}
	if _, stderr, status := run(t, dir, "draft", "postgres: host=/nowhere dbname=x", "--into", "-"); status != 1 || !strings.Contains(stderr, "origin") {
		t.Errorf("status %d, %s", status, stderr)
	}
}
