package main

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/startest"
)

// words is a text with one blank wherever it has several.
func words(s string) string { return strings.Join(strings.Fields(s), " ") }

// TestOtherDatabases: the tables of a PostgreSQL and a MariaDB server and a query over each, driven by a list, become
// one star; adding a line to the list adds that site; a site that cannot be read is passed over by rule, and told.
func TestOtherDatabases(t *testing.T) {
	dir := t.TempDir()
	connection, schema := startest.Postgres(t)
	pg, err := pgx.Connect(context.Background(), connection)
	if err != nil {
		t.Fatal(err)
	}
	defer pg.Close(context.Background())
	exec := func(sql string) {
		t.Helper()
		if _, err := pg.Exec(context.Background(), sql); err != nil {
			t.Fatal(err)
		}
	}
	exec(
		`create schema ` + schema + `; set search_path to ` + schema + `; create table berths (no int, site text, at timestamptz, paid numeric(9,2));
		insert into berths select n, case n % 3 when 0 then 'N' when 1 then 'S' else 'W' end, timestamptz '2025-01-01 10:00+00' + n * interval '1 hour', n * 1.25 from generate_series(1, 10000) n`,
	)
	place, my := startest.MariaDB(t)
	if _, err := my.Exec(`create table sites (site varchar(10) primary key, name varchar(40), depth decimal(5,2)); insert into sites values ('N', 'North Quay', 3.5), ('S', 'Süd', null)`); err != nil {
		t.Fatal(err)
	}
	startest.Write(t, dir, "list.csv", "code\nN\nS\n")
	model := `warehouse: {sqlite: star.db}
time_zone: Europe/Paris
parameters:
  since: date
  door: secret
databases:
  harbour:
    postgres: ` + connection + ` password={door}
  registry:
    mysql: ` + place + `
limits: {unmatched: none}
sources:
  list: {read: list.csv, columns: {code: text}}
  sites:
    database: registry
    table: sites
    order_by: site
  berths:
    driven_by: list
    database: harbour
    query: select no, at, paid from ` + schema + `.berths where site = :code and at >= :since  -- not :this
    order_by: no
dimensions:
  date: {calendar: {from: 2025-01-01, to: 2027-12-31}}
  site: {from: sites, natural_key: site}
facts:
  berth:
    from: berths
    grain: no
    keys:
      site: code
      day: {dimension: date, by: at}
    measures: paid
    degenerate: at
`
	startest.Write(t, dir, "ironmonger.yaml", model)
	startest.Write(t, dir, "secrets.yaml", "door: tide 'water'\nsince: 2025-01-01\n")
	star := func() map[string][]map[string]string {
		os.Setenv("IRONMONGER_SET_door", "x")
		os.Setenv("IRONMONGER_SET_since", "2025-01-01")
		defer os.Unsetenv("IRONMONGER_SET_door")
		defer os.Unsetenv("IRONMONGER_SET_since")
		return startest.Star(t, dir)
	}
	load := func(more ...string) string {
		t.Helper()
		return must(t, dir, append([]string{"load", "--parameters", "secrets.yaml"}, more...)...)
	}
	out := load()
	if !strings.Contains(out, "since = 2025-01-01\n") {
		t.Error(out)
	}
	must(t, dir, "prove", "--parameters", "secrets.yaml", "--against-sources")
	facts := star()["fact_berth"]
	if len(facts) != 3333+3334 {
		t.Errorf("%d berths", len(facts))
	}
	for _, f := range facts {
		if f["no"] == "3" &&
			(f["at"] != "2025-01-01 14:00:00" || f["paid"] != "3.75" || f["day_date_key"] != "20250101" || f["site_key"] != "1") {
			t.Error(f)
		}
	}
	startest.Write(t, dir, "list.csv", "code\nN\nS\nW\n")
	if out := load(); !strings.Contains(words(out), "10 000 3 333 6 667") {
		t.Error(out)
	}
	if out := must(t, dir, "trace", "berth", "2", "--parameters", "secrets.yaml"); !strings.Contains(
		out,
		"harbour: berths (W, 2025-01-01):1",
	) {
		t.Error(out)
	}
	if out := must(t, dir, "runs"); strings.Count(out, "done") != 2 { // without parameters, and without the sources
		t.Error(out)
	}
	if text, err := os.ReadFile(filepath.Join(dir, "star.db")); err != nil || bytes.Contains(text, []byte("tide")) {
		t.Error("the secret is in the warehouse", err)
	}
	// what is wrong has its place, and no secret in it
	for _, c := range []struct {
		call, old, new string
		status         int
		answer         string
	}{
		{"check", "", "", 2, `parameters.door: no value is given`},
		{"check --set door=x --set since=2025-01-01", "sites\n    order_by: site", "sights", 2, `ironmonger.yaml:\d+:12: sources.sites.table: .*does(n't| not) exist\n +\d+ \|     table: sights`},
		{"check --set door=x --set since=2025-01-01", "no, at, paid from", "no, att from", 2, `ironmonger.yaml:\d+:12: sources.berths.query: column "att" does not exist`},
		{"check --set door=x --set since=2025-01-01", ":code", ":cod", 2, `sources.berths.query: there is no parameter :cod \(did you mean code\?\)`},
		{"check --set door=x --set since=2025-01-01", "order_by: no", "order_by: number", 2, `sources.berths.order_by: there is no column number \(there is: no, at, paid\)`},
		{"check --set door=x --set since=2025-01-01", "dbname=test", "dbname=nowhere", 2, `database registry: .*nowhere`},
		{"check --set door=x --set since=2025-01-01", "mysql: socket=/", "mysql: socket=/nowhere/", 2, `database registry: dial unix /nowhere`},
		{"check --set door=x --set since=2025-01-01", "database: registry", "database: regstry", 2, `there is no database regstry \(did you mean registry\?\)`},
		{"check --set door=x --set since=2025-01-01", "password={door}", "password=door", 2, `a password has no place in a model`},
		{"check --set door=x --set since=2025-01-01", "table: sites", "query: delete from sites returning site", 2, `sources.sites.query`},
		{"check --set door=x --set since=2025-01-01", "read: list.csv", "read: '{door}.csv'", 2, `a secret has no place in a path`},
		{"check --set door=x --set since=2025-01-01", "measures: paid", "measures: paid\n    must_hold: {odd: \"paid > :door\"}", 2, `there is no parameter door`},
		{"check --set door=x --set since=2025-01-01", "door: secret", "door: {type: secret, default: x}", 2, `a secret has no place in a model`},
		{"check --set door=x --set since=2025-01-01", "door: secret", "door: text", 2, `databases.harbour: parameter door is a password, and would stand in the ledger: make its type secret`},
		{"check --parameters nowhere.yaml", "", "", 2, `the parameters cannot be read`},
		{"check --parameters list.csv", "", "", 2, `list.csv:1:1: expected keys and values here`},
		{"load --set door=x --set since=2025-01-01", "", "", 2, `--set door: it is a secret`},
		{"load --parameters secrets.yaml", "table: sites\n    order_by: site", "table: sites\n    columns:\n      site: text\n      name: text\n      depth: integer", 1, `depth`},
	} {
		if !strings.Contains(model, c.old) {
			t.Fatal(c.old)
		}
		startest.Write(t, dir, "ironmonger.yaml", strings.Replace(model, c.old, c.new, 1))
		out, errs, status := run(t, dir, strings.Fields(c.call)...)
		if status != c.status || !regexp.MustCompile(c.answer).MatchString(out+errs) {
			t.Errorf("%s for %q: status %d\n%s%s\nwant %s", c.call, c.new, status, out, errs, c.answer)
		}
	}
}

// shaped is a model whose sources are shaped in all ways.
const shaped = `warehouse: {sqlite: star.db}
limits: {set_aside: none, unmatched: none}
sources:
  list: {read: list.csv, columns: {site: text, folder: text}}
  north:
    driven_by: list
    unreadable: pass_over
    read: "{folder}/*.csv"
    columns: {no: integer, boat: text, tons: "decimal(7,2)", on: date}
  south:
    read: south.jsonl
    columns: {no: integer, boat: {type: text, header: boat.name}, tons: "decimal(7,2)", on: date, site: text}
  tides:
    union: [north, south]
    columns: [no, boat, tons, on, site]
    join:
      rates: {by: site, effective: since, as_of: on, bring: {value: rate}, unmatched: leave_empty, several: last}
      names: {by: {code: boat}, bring: label, unmatched: drop}
      start: {source: rates, by: site, bring: {value: started}, unmatched: leave_empty, several: first}
    fill: {rate: 1}
    set_aside: {too heavy: tons > 900}
    distinct: {by: no, keep: last}
  rates: {read: rates.csv, columns: {site: text, since: date, value: "decimal(5,2)"}}
  names: {read: names.csv, columns: {code: text, label: text}}
  days:
    from: tides
    group: {by: [site, on], aggregates: {tons: sum(tons), least: min(rate), boats: count(boat), n: count, last: max(boat)}}
dimensions:
  boat:
    from: names
    natural_key: code
    matching: {code: {as: upper(trim(code)), codes: {OLD: B1}}}
facts:
  tide:
    from: tides
    grain: no
    keys: {boat: boat}
    measures: [tons, rate]
    degenerate: [site, started]
  day:
    from: days
    grain: [site, on]
    measures: [tons, least, boats, n]
    degenerate: last
`

func writeShaped(t *testing.T, dir string) {
	t.Helper()
	for name, text := range map[string]string{
		"ironmonger.yaml": shaped,
		"list.csv":        "site,folder\nN,a\nM,b\nX,nowhere\n",
		"a/1.csv":         "no,boat,tons,on\n1,b1,10.50,2025-01-01\n2, B2 ,20,2025-01-02\n3,gone,5,2025-01-02\n",
		"b/1.csv":         "no,boat,tons,on\n4,old,1.25,2025-01-01\n1,B2,7,2025-02-01\n5,B2,901,2025-02-01\n6,B2,x,2025-02-01\n",
		"south.jsonl":     `{"no": 7, "boat": {"name": "B2"}, "tons": 2e1, "on": "2025-01-02", "site": "N"}` + "\n" + `{"no": 8, "boat": {"name": "B1"}, "tons": 3, "on": "2024-12-31", "site": "N"}` + "\n",
		"rates.csv":       "site,since,value\nN,2025-01-01,2\nN,2025-01-02,3\nN,2025-01-02,4\nN,,5\nM,2025-01-15,7\nM,2025-01-20,x\n",
		"names.csv":       "code,label\nb1,Heron\nB2,Otter\n B2 ,Otter too\nold,Heron\nB1,Grey Heron\n",
	} {
		startest.Write(t, dir, name, text)
	}
}

// TestShaped: union, list, joins, fill, distinct, group and matching in one star, each row accounted for.
func TestShaped(t *testing.T) {
	dir := t.TempDir()
	writeShaped(t, dir)
	out := must(t, dir, "load")
	for _, want := range []string{
		"tide done 9 5 – 1 1 2", "skipped: list.csv:4: no file matches nowhere", "fact tide tides join names 8 1 7",
		"fact tide tides join rates 8 2 8", "fact tide rates read 6 2 4", "fact tide rates read 6 1 5", "fact tide tides distinct 6 1 5",
	} {
		if !strings.Contains(words(out), want) {
			t.Errorf("%s\nwant %s", out, want)
		}
	}
	must(t, dir, "prove", "--against-sources")
	rows := must(t, dir, "show", "tide", "--natural", "--columns", "no,boat_key,tons,rate,site", "--format", "csv")
	if want := "no,boat_key,tons,rate,site\n1,B2,7.00,7.00,M\n2,B2,20.00,4.00,N\n4,B1,1.25,1.00,M\n7,B2,20.00,4.00,N\n8,B1,3.00,1.00,N\n"; rows != want {
		t.Errorf("%s\nwant\n%s", rows, want)
	}
	rows = must(t, dir, "show", "fact", "day", "--columns", "site,on,tons,least,boats,n,last", "--format", "csv")
	if want := "site,on,tons,least,boats,n,last\nM,2025-01-01,1.25,1.00,1,1,old\nM,2025-02-01,7.00,7.00,1,1,B2\nN,2024-12-31,3.00,1.00,1,1,B1\nN,2025-01-02,40.00,4.00,2,2,B2\n"; rows != want {
		t.Errorf("%s\nwant\n%s", rows, want)
	}
	rows = must(t, dir, "show", "dimension", "boat", "--columns", "code,label,is_inferred", "--format", "csv")
	if want := "code,label,is_inferred\n,Unknown,false\nB2,Otter too,false\nB1,Grey Heron,false\n"; rows != want {
		t.Errorf("%s\nwant\n%s", rows, want)
	}
	if out := must(t, dir, "trace", "tide", "7"); !strings.Contains(out, "south.jsonl:1") ||
		!strings.Contains(out, `"name": "B2"`) ||
		!strings.Contains(out, "join rates, from rates.csv:4 (source rates)") {
		t.Error(out)
	}
	if out := must(t, dir, "trace", "day", "M", "2025-02-01"); !strings.Contains(out, "b/1.csv:3") {
		t.Error(out)
	}
	if out := must(t, dir, "strays"); !strings.Contains(out, "no since, so nobody knows since when") {
		t.Error(out)
	}
	if out := must(t, dir, "load"); !strings.Contains(out, "skipped") ||
		!strings.Contains(words(out), "tide done 9 – 5 1 1 2") {
		t.Error(out)
	}
	if out := must(t, dir, "show", "tides", "--until", "read", "--format", "csv"); strings.Count(out, "\n") != 9 ||
		!strings.HasPrefix(out, "no,boat,tons,on,site\n") {
		t.Error(out)
	}
	for _, c := range []struct {
		name, call, file, old, new string
		status                     int
		answer                     string
	}{
		{"a join that multiplies", "load", "ironmonger.yaml", ", several: last", "", 1, `fact tide: failed: a/1.csv:3: join rates: 2 rows of rates fit N: several says which to take`},
		{"a join that sets aside", "load", "ironmonger.yaml", "unmatched: drop", "unmatched: set_aside", 0, `fact tide +1 +unmatched in names +a/1.csv:4 +‹gone›`},
		{"a join that stops", "load", "ironmonger.yaml", "unmatched: drop", "unmatched: stop", 1, `a/1.csv:4: join names: no row of names fits gone; the model says stop`},
		{"several set aside", "load", "ironmonger.yaml", "several: last", "several: set_aside", 0, `several rows of rates fit +a/1.csv:3 +‹N›`},
		{"a join by another type", "check", "ironmonger.yaml", "names: {by: {code: boat}", "names: {by: {code: no}", 2, `join.names.by: no is of type integer, but code of source names is of type text: nothing would ever match`},
		{"a join with no such column", "check", "ironmonger.yaml", "bring: label", "bring: labl", 2, `source names has no column labl \(did you mean label\?\)`},
		{"a join that brings what is there", "check", "ironmonger.yaml", "bring: label", "bring: {label: tons}", 2, `there is already a column tons: \{label: another_name\}`},
		{"a join half as of a time", "check", "ironmonger.yaml", ", as_of: on", "", 2, `effective and as_of are said together`},
		{"a join with itself", "check", "ironmonger.yaml", "union: [north, south]\n    columns: [no, boat, tons, on, site]", "from: days", 2, `the source is made of itself`},
		{"a union of others", "check", "ironmonger.yaml", "on: date, site: text}", "on: text, site: text}", 2, `sources.tides.union: on is of type text in source south, and of type date in north`},
		{"a union that lacks one", "check", "ironmonger.yaml", "on: date, site: text}", "on: date, sit: text}", 2, `source south has no column site, which north has \(did you mean sit\?\)`},
		{"a union with one more", "check", "ironmonger.yaml", "    columns: [no, boat, tons, on, site]\n", "", 2, `source south has no column folder, which north has`},
		{"a fill that does not fit", "check", "ironmonger.yaml", "fill: {rate: 1}", "fill: {rate: much}", 2, `sources.tides.fill.rate: much is not a decimal number`},
		{"an aggregate that is none", "check", "ironmonger.yaml", "sum(tons)", "total(tons)", 2, `total\(tons\) is not an aggregate`},
		{"a sum of text", "check", "ironmonger.yaml", "sum(tons)", "sum(boat)", 2, `boat is of type text; a sum is of numbers`},
		{"distinct by nothing", "check", "ironmonger.yaml", "distinct: {by: no, keep: last}", "distinct: {keep: last}", 2, `sources.tides.distinct: by is missing`},
		{"a matching of another column", "check", "ironmonger.yaml", "matching: {code:", "matching: {cod:", 2, `the natural key has no column cod \(did you mean code\?\)`},
		{"a matching that does not fit", "check", "ironmonger.yaml", "upper(trim(code))", "code + 1", 2, `dimensions.boat.matching.code`},
		{"a list that is missing", "check", "ironmonger.yaml", "driven_by: list", "driven_by: lst", 2, `there is no source lst \(did you mean list\?\)`},
		{"a placeholder that is none", "check", "ironmonger.yaml", "{folder}/", "{foldr}/", 2, `there is no parameter foldr`},
		{"a hostile folder", "load", "list.csv", "N,a", "N,../../etc", 2, `list.csv:2: source north: folder cannot be part of a file's name: "../../etc"`},
		{"an empty folder", "load", "list.csv", "N,a", "N,", 2, `list.csv:2: source north: folder is empty, and says nothing of what to read`},
		{"a pattern for a folder", "load", "list.csv", "N,a", "N,*", 2, `folder cannot be part of a file's name`},
		{"a site that cannot be read", "load", "ironmonger.yaml", "    unreadable: pass_over\n", "", 2, `list.csv:4: source north: no file matches nowhere`},
		{"nothing to read", "check", "ironmonger.yaml", "  rates: {read: rates.csv,", "  rates: {", 2, `sources.rates: rows come from files \(read\), a database \(table or query\), another source \(from\), several \(union\), a calendar or a clock: one of these`},
		{"a type that no file tells", "check", "ironmonger.yaml", "value: \"decimal(5,2)\"", "value: {header: v}", 2, `sources.rates.columns.value: its type is missing`},
		{"a sum that is too large", "load", "names.csv", "\nold,", "\nold,", 0, `run \d+: done`},
		{"an unknown stage", "show tides --until chek", "", "", "", 2, `there is no stage chek`},
	} {
		t.Run(c.name, func(t *testing.T) {
			writeShaped(t, dir)
			before := startest.Dump(t, dir, "load_run", "load_aside", "load_aside_reason")
			if c.file != "" {
				text, err := os.ReadFile(filepath.Join(dir, c.file))
				if err != nil || !strings.Contains(string(text), c.old) {
					t.Fatal(c.old, err)
				}
				startest.Write(t, dir, c.file, strings.Replace(string(text), c.old, c.new, 1))
			}
			out, errs, status := run(t, dir, strings.Fields(c.call)...)
			if status != c.status || !regexp.MustCompile(c.answer).MatchString(out+errs) {
				t.Errorf("status %d\n%s%s\nwant %s", status, out, errs, c.answer)
			}
			startest.Write(t, dir, "ironmonger.yaml", shaped)
			if status != 0 && startest.Dump(t, dir, "load_run", "load_aside", "load_aside_reason") != before {
				t.Error("something was half loaded")
			}
		})
	}
}

// sheets is a workbook of one sheet, whose part begins with some rows.
func sheets(t *testing.T, rows string) string {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range map[string]string{
		"xl/workbook.xml":            `<workbook><sheets><sheet name="x" id="a"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="a" Type="/worksheet" Target="/one.xml"/></Relationships>`,
		"one.xml":                    `<worksheet><sheetData>` + rows,
	} {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(w, text)
	}
	z.Close()
	return b.String()
}

// TestHostile: input that nobody should send is told, and nothing of it is loaded.
func TestHostile(t *testing.T) {
	const model = "warehouse: {sqlite: star.db}\nsources:\n  s: {read: %s, columns: {a: text, b: integer}%s}\ndimensions:\n  d: {from: s, natural_key: a}\n"
	var squeezed bytes.Buffer
	z := gzip.NewWriter(&squeezed)
	z.Write([]byte("a,b\n" + strings.Repeat("x,1\n", 100_000)))
	z.Close()
	parquetFile, err := os.ReadFile("../../internal/source/testdata/parquet/duckdb-snappy.parquet")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, file, content, more string
		status                    int
		answer                    string
	}{
		{"gzip cut off", "x.csv.gz", squeezed.String()[:squeezed.Len()/2], "", 1, `x.csv.gz:?\d*: the file ends in the middle of its gzip data`},
		{"a field of 100 MB", "x.csv", "a,b\n\"" + strings.Repeat("x", 100_000_000) + "\",1\n", "", 1, `a record is longer than 16 MiB`},
		{"a line of 100 MB", "x.jsonl", `{"a": "` + strings.Repeat("x", 100_000_000) + `"}` + "\n", "", 1, `a line is longer than 16 MiB`},
		{"a million columns", "x.csv", strings.Repeat("c,", 1_000_000) + "a,b\n" + strings.Repeat(",", 1_000_000) + "x,1\n", "", 0, `run 1: done`},
		{"zero bytes", "x.csv", "a,b\nx\x00y,1\n", "", 0, `a is not UTF-8 text or holds a zero byte`},
		{"zero bytes at the start", "x.csv", "\x00\x00\x00\x00", "", 2, `this is not UTF-8 text`},
		{"another encoding", "x.csv", "a,b\n\xe4,1\n", "", 0, `a is not UTF-8 text or holds a zero byte`},
		{"a footer that lies", "x.parquet", string(parquetFile[:len(parquetFile)-8]) + "\xff\xff\xff\x7fPAR1", "", 2, `x.parquet: source s: the Parquet file is damaged: its footer is said to have 2147483647 bytes`},
		{"Parquet cut off", "x.parquet", string(parquetFile[:len(parquetFile)/2]), "", 2, `x.parquet: source s: the Parquet file is cut off`},
		{"Parquet of other columns", "x.parquet", string(parquetFile), "", 2, `x.parquet: source s: the file has no column a`},
		{"Parquet that is CSV", "x.parquet", "a,b\nx,1\n", "", 2, `x.parquet: source s: this is not a Parquet file`},
		{"CSV that is Parquet", "x.csv", string(parquetFile), "", 2, `this is not CSV text, but a Parquet or zip file`},
		{"objects nested without end", "x.jsonl", strings.Repeat(`{"a":`, 100_000), "", 1, `x.jsonl:1:?\d*: this is not JSON`},
		{"XML cut off", "x.xml", "<l>\n<r><a>x</a><b>1</b></r>\n<r><a>y</a>", ", record: l.r", 1, `x.xml: the document ends too early, at line 3, in row 2`},
		{"XML that grows", "x.xml", `<!DOCTYPE l [<!ENTITY a "xxxxxxxxxx"><!ENTITY b "&a;&a;&a;&a;">]><l><r><a>&b;</a></r></l>`, ", record: l.r", 2, `x.xml: source s: this is not XML, at line 1, in row 1: invalid character entity &b;`},
		{"XML without end", "x.xml", strings.Repeat("<l>", 100_000), ", record: l.r", 2, `more than 200 elements stand one within the other`},
		{"a text of XML of 100 MB", "x.xml", "<l><r><a>" + strings.Repeat("x", 100_000_000) + "</a></r></l>", ", record: l.r", 2, `an element that is a row is longer than 16 MiB`},
		{"XML with rows elsewhere", "x.xml", "<l><q><a>x</a></q></l>", ", record: l.r", 2, `no element is called l.r: there is l.q`},
		{"XML of another root", "x.xml", "<m><r/></m>", ", record: l.r", 2, `there is no element l,`},
		{"XML without rows", "x.xml", "<l/>", ", record: l.r", 0, `run 1: done`},
		{"XML in an unknown encoding", "x.xml", `<?xml version="1.0" encoding="klingon"?><l/>`, ", record: l.r", 2, `in the encoding klingon, which is not known`},
		{"a workbook that is CSV", "x.xlsx", "a,b\nx,1\n", "", 2, `x.xlsx: source s: this is not a workbook`},
		{"a workbook of large XML", "x.xlsx", sheets(t, `<row><c t="str"><v>a</v></c><c t="str"><v>b</v></c></row><row><c t="str"><v>`+strings.Repeat("x", 100_000_000)), "", 1, `part one.xml: a text or a tag has more than 16 MiB`},
		{"a workbook cut off", "x.xlsx", sheets(t, `<row><c t="str"><v>a</v></c><c t="str"><v>b</v></c></row>`+strings.Repeat(`<row><c t="str"><v>x</v></c><c><v>1</v></c></row>`, 50_000)+"<row><c>"), "", 1, `the workbook is damaged, in its part one.xml: XML syntax error on line 1: unexpected EOF`},
		{"a workbook with an error", "x.xlsx", sheets(t, `<row><c t="str"><v>a</v></c><c t="str"><v>b</v></c></row><row r="7"><c t="str"><v>x</v></c><c t="e"><v>#DIV/0!</v></c></row>`+"</sheetData></worksheet>"), "", 0, `b is not an integer(.|\n)*x.xlsx:7`},
		{"fields behind the header", "x.xlsx", sheets(t, `<row><c t="str"><v>a</v></c><c t="str"><v>b</v></c></row><row><c t="str"><v>x</v></c><c><v>1</v></c><c><v>2</v></c></row>`+"</sheetData></worksheet>"), "", 0, `the row has too many fields   x.xlsx:2              ‹3, and the header 2›`},
		{"a line of fixed width of 100 MB", "x.txt", strings.Repeat("x", 100_000_000), ", format: fixed_width", 2, `a line is longer than 16 MiB`},
		{"a number without end", "x.csv", "a,b\nx," + strings.Repeat("9", 1_000_000) + "\n", "", 0, `b is not an integer`},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			text := "limits: {set_aside: none}\n" + fmt.Sprintf(model, c.file, c.more)
			if strings.Contains(c.more, "fixed") {
				text = strings.Replace(text, "a: text, b: integer", "a: {type: text, characters: 1-3}, b: {type: integer, characters: 4}", 1)
			}
			startest.Write(t, dir, "ironmonger.yaml", text)
			startest.Write(t, dir, c.file, c.content)
			out, errs, status := run(t, dir, "load")
			if status != c.status || !regexp.MustCompile(c.answer).MatchString(out+errs) {
				t.Errorf("status %d\n%.2000s%.2000s\nwant %s", status, out, errs, c.answer)
			}
			if _, err := os.Stat(filepath.Join(dir, "star.db")); err == nil && status != 0 {
				if rows := startest.Star(t, dir)["dim_d"]; len(rows) > 0 {
					t.Errorf("%d rows were half loaded", len(rows))
				}
			}
		})
	}
	t.Run("no permission", func(t *testing.T) {
		dir, err := os.MkdirTemp("", "im")
		if err != nil {
			t.Fatal(err)
		}
		defer os.RemoveAll(dir)
		binary, err := os.ReadFile(program)
		if err != nil {
			t.Fatal(err)
		}
		startest.Write(t, dir, "program", string(binary))
		startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(model, "x.csv", ""))
		startest.Write(t, dir, "x.csv", "a,b\nx,1\n")
		for name, mode := range map[string]os.FileMode{"": 0o777, "program": 0o755, "x.csv": 0} {
			if err := os.Chmod(filepath.Join(dir, name), mode); err != nil {
				t.Fatal(err)
			}
		}
		cmd := exec.Command(filepath.Join(dir, "program"), "load")
		cmd.Dir = dir
		if os.Getuid() == 0 { // who may read everything
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		}
		out, err := cmd.CombinedOutput()
		if err == nil || !strings.Contains(string(out), "x.csv: source s: the file cannot be read: no permission") {
			t.Errorf("%v: %s", err, out)
		}
	})
	t.Run("what is no readable file", func(t *testing.T) {
		dir := t.TempDir()
		startest.Write(t, dir, "secret.csv", "a,b\nx,1\n")
		in := filepath.Join(dir, "in")
		startest.Write(t, in, "ironmonger.yaml", fmt.Sprintf(model, "x.*", ""))
		for name, make := range map[string]func() error{
			"leads out of the folder":           func() error { return os.Symlink("../secret.csv", filepath.Join(in, "x.csv")) },
			"a folder or a device, not a file":  func() error { return os.Mkdir(filepath.Join(in, "x.csv"), 0o755) },
			"a folder or a device, not a file ": func() error { return os.Mkdir(filepath.Join(in, "x.parquet"), 0o755) },
		} {
			os.RemoveAll(filepath.Join(in, "x.csv"))
			os.RemoveAll(filepath.Join(in, "x.parquet"))
			if err := make(); err != nil {
				t.Fatal(err)
			}
			if out, errs, status := run(t, in, "load"); status != 2 ||
				!strings.Contains(errs, strings.TrimSpace(name)) {
				t.Errorf("%s: %d %s%s", name, status, out, errs)
			}
		}
	})
}

// TestCalendarFiles: calendars are drawn and written without a model, and what is written is what others read.
func TestCalendarFiles(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "days.csv", "date,name\n2025-07-04,\"Founders' Day, in full\"\n2025-12-24,Eve\n")
	drawn := must(t, dir, "calendar", "--years", "2025", "--holidays", "days.csv", "--language", "cs")
	for _, want := range []string{"červenec", "4*", "24*", "pátek 4. července 2025", "Founders' Day, in full"} {
		if !strings.Contains(drawn, want) {
			t.Errorf("%s is not in\n%s", want, drawn)
		}
	}
	if out := must(t, dir, "calendar", "--month", "2025-04", "--weeks", "4-5-4"); !strings.Contains(out, "April 2025") || strings.Count(out, "\n") != 7 {
		t.Error(out)
	}
	must(t, dir, "calendar", "--years", "2025", "--holidays", "days.csv", "--format", "icalendar", "--out", "days.ics")
	if again := must(t, dir, "calendar", "--years", "2025", "--holidays", "days.ics", "--language", "cs"); again != drawn {
		t.Errorf("from iCalendar, another calendar:\n%s", again)
	}
	// what cannot be taken of a list is told, with its place, and where the list ends
	startest.Write(t, dir, "damaged.csv", "date,name\n2025-07-04,Founders' Day\n,none\n2025-13-01,bad\n")
	for _, form := range []string{"text", "csv"} {
		status(t, dir, 0, "calendar --years 2025..2026 --holidays damaged.csv --format "+form, "damaged.csv:3: set aside: no date",
			"damaged.csv:4: set aside: date is not a date", "the holidays of damaged.csv end in 2025")
	}
	startest.Write(t, dir, "ironmonger.yaml", "warehouse: {sqlite: told.db}\nsources: {off: {read: damaged.csv, columns: {date: date, name: text}}}\n"+
		"dimensions: {date: {calendar: {from: 2025-01-01, to: 2025-12-31, attributes: [basic, working_days], working_days: {holidays: [{from: off, date: date}]}}}}\n")
	if out := strings.Join(strings.Fields(must(t, dir, "load")), " "); !strings.Contains(out, "off read 3 2 1") {
		t.Errorf("2 of the 3 rows of the list are set aside:\n%s", out)
	}
	// what each format has is read back as sources, and held against the calendar of a model
	rows := []string{"calendar", "--years", "2024..2025", "--attributes", "basic,retail,working_days,labels", "--weeks", "4-4-5", "--language", "de,ja", "--holidays", "days.csv"}
	for _, format := range []string{"csv", "json_lines", "parquet"} {
		must(t, dir, append(rows, "--format", format, "--out", "all."+map[string]string{"csv": "csv", "json_lines": "jsonl", "parquet": "parquet"}[format])...)
	}
	var list []map[string]any
	decode(t, must(t, dir, append(rows, "--format", "json")...), &list)
	if len(list) != 731 || list[0]["date"] != "2024-01-01" || list[0]["is_holiday"] != false || list[0]["holiday_name"] != nil || list[0]["month_name_ja"] != "1月" {
		t.Errorf("%d rows, the first %v", len(list), list[0])
	}
	columns := ""
	for _, c := range strings.Split(strings.SplitN(must(t, dir, append(rows, "--format", "csv")...), "\n", 2)[0], ",") {
		kind := "text"
		switch v := list[200][c].(type) {
		case bool:
			kind = "boolean"
		case float64:
			kind = "integer"
		case string:
			if _, err := time.Parse(time.DateOnly, v); err == nil && c != "iso_date" {
				kind = "date"
			}
		}
		columns += "      " + c + ": " + kind + "\n"
	}
	startest.Write(t, dir, "ironmonger.yaml", "warehouse: {sqlite: s.db}\nsources:\n"+
		"  a:\n    read: all.csv\n    columns:\n"+columns+"  b:\n    read: all.jsonl\n    columns:\n"+columns+"  c: {read: all.parquet}\n"+
		"dimensions: {kind: {natural_key: code, rows: [{code: A}]}}\n")
	plain := func(source string) string {
		out := must(t, dir, "show", "source", source, "--rows", "1000", "--format", "csv")
		var lines []string
		for _, line := range strings.Split(out, "\n")[1:] { // without the place
			_, rest, _ := strings.Cut(line, ",")
			_, rest, _ = strings.Cut(rest, ",")
			lines = append(lines, rest)
		}
		return strings.Join(lines, "\n")
	}
	a, b, c := plain("a"), plain("b"), plain("c")
	if a != b || a != c || strings.Count(a, "\n") != 731 {
		t.Errorf("the formats differ: %s", startest.Difference(a, c))
	}
	for args, want := range map[string]string{
		"--format csv":                  "of which years",
		"--years 2025..2020":            "expected a year",
		"--years 2025 --weeks 4-4-4":    "no such choice: 4-4-4",
		"--language xx":                 "xx is not a language tag",
		"--month 2025-13":               "expected a month",
		"--holidays none.csv":           "no file matches none.csv",
		"kind":                          "no calendar called kind",
		"--years 2025 --attributes foo": "no set and no attribute foo",
	} {
		status(t, dir, 2, "calendar "+args, want)
	}
}
