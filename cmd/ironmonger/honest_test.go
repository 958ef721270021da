package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/ledger"
	"ironmonger/internal/startest"
)

// status runs the program and wants it to end with a status, and to say what is wanted on either output.
func status(t *testing.T, dir string, want int, call string, says ...string) string {
	t.Helper()
	out, errs, got := run(t, dir, strings.Fields(call)...)
	if got != want {
		t.Errorf("%s: status %d, not %d\n%s%s", call, got, want, out, errs)
	}
	for _, s := range says {
		if !strings.Contains(words(out+errs), s) {
			t.Errorf("%s does not say %q:\n%s%s", call, s, out, errs)
		}
	}
	return out
}

// TestFolders: what a list reads under one name in several folders is told apart, whoever reads it a second time; a
// table that is asked with several arguments, too.
func TestFolders(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "list.csv", "site,folder\nN,a\nS,b\n")
	startest.Write(t, dir, "a/rows.csv", "no,bee\n1,x\n2,y\n")
	startest.Write(t, dir, "b/rows.csv", "no,bee\n3,z\n4,w\n")
	startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
sources:
  list: {read: list.csv, columns: {site: text, folder: text}}
  rows:
    driven_by: list
    within: "{folder}"
    read: rows.csv
    columns: {no: integer, bee: text}
dimensions:
  bee: {from: rows, natural_key: bee}
facts:
  visit: {from: rows, grain: no, keys: {bee: bee}, degenerate: site}
`)
	must(t, dir, "load")
	rows := must(t, dir, "show", "visit", "--natural", "--columns", "no,bee_key,site", "--format", "csv")
	if want := "no,bee_key,site\n1,x,N\n2,y,N\n3,z,S\n4,w,S\n"; rows != want {
		t.Errorf("%s\nwant\n%s", rows, want)
	}
	status(t, dir, 0, "prove --against-sources")
}

// TestTampered: a table that is changed by hand stays known as changed, however often it is loaded over, until
// somebody says that it is right so; and from then on the account holds again.
func TestTampered(t *testing.T) {
	warehouses(t, "60", func(t *testing.T, demo string, empty func()) {
		empty()
		must(t, demo, "load")
		startest.Run(
			t,
			demo,
			"UPDATE fact_passage SET toll = toll + 1 WHERE passage_no = 7",
			"DELETE FROM fact_passage WHERE passage_no = 9",
			"DELETE FROM dim_keeper WHERE keeper_key = (SELECT max(keeper_key) FROM dim_keeper WHERE keeper_key NOT IN (SELECT keeper_key FROM fact_passage UNION SELECT keeper_key FROM fact_work))",
		)
		for range 2 {
			status(
				t,
				demo,
				3,
				"load",
				"the total of fact_passage.toll is",
				"dimension keeper: dim_keeper has",
				"something other than a load has changed these tables",
			)
			status(
				t,
				demo,
				3,
				"prove",
				"account broken",
				"the total of fact_passage.toll is",
				"ironmonger load --accept passage",
			)
			status(t, demo, 3, "prove --against-sources", "passage_no 7", "its row at the source has other values")
		}
		status(
			t,
			demo,
			2,
			"load --accept passages",
			"there is no dimension or fact of that name (did you mean passage?)",
		)
		status(t, demo, 3, "load --accept passage", "accepted as it stands by process")
		status(t, demo, 0, "load --accept keeper")
		status(t, demo, 0, "load")
		status(t, demo, 0, "prove --checks account")
		if out := must(t, demo, "runs", "4", "--format", "json"); !strings.Contains(out, `"accepted"`) ||
			!strings.Contains(out, `"holder": "process `) {
			t.Error(out)
		}
		status(t, demo, 3, "prove --against-sources", "passage_no 7", "its row at the source has other values")
	})
}

// TestCompletion: completion knows the names of the model, and works in a bash that has no package of completions.
func TestCompletion(t *testing.T) {
	dir := t.TempDir()
	must(t, dir, "demo", "--passages", "60", "canal")
	script := must(t, dir, "completion", "bash")
	startest.Write(t, dir, "complete.bash", script)
	for words, want := range map[string]string{"ironmonger tr": "trace", "ironmonger show passa": "passage passage_kind passages", "ironmonger erase kee": "keeper", "ironmonger load --wor": "--workers"} {
		cmd := exec.Command(
			"bash",
			"--norc",
			"-c",
			`source ../complete.bash; COMP_WORDS=($1); COMP_CWORD=$((${#COMP_WORDS[@]} - 1)); _ironmonger; printf '%s\n' "${COMPREPLY[@]}" | sort -u | tr '\n' ' '`,
			"bash",
			strings.Replace(words, "ironmonger", program, 1),
		)
		cmd.Dir = filepath.Join(dir, "canal")
		out, err := cmd.CombinedOutput()
		if got := strings.TrimSpace(string(out)); err != nil || got != want {
			t.Errorf("%s: %q, %v; want %q", words, got, err, want)
		}
	}
	demo := filepath.Join(dir, "canal")
	if out := must(t, demo, "help", "load"); out != must(t, demo, "load", "--help") {
		t.Error(out)
	}
	for call, says := range map[string]string{
		"load --workres 3": "there is no option --workres (did you mean --workers?)", "load --workers many": "--workers many: expected a whole number",
		"load --workers -3": "--workers -3: expected a whole number from 0 to 1024", "load --workers 99999999": "expected a whole number from 0", "load --memory 2": "--memory 2: expected a size of 16 KiB at least",
		"runs --last -1": "expected a whole number from 0", "help laod": "there is no command laod (did you mean load?)", "load --model": "-model needs a value",
		"prove --checks foo": "there is: tables, values", "load --model nowhere/ironmonger.yaml": "the model cannot be read",
	} {
		status(t, demo, 2, call, says)
	}
	status(t, dir, 2, "load", "--model canal/ironmonger.yaml")
	status(t, t.TempDir(), 2, "load", "ironmonger demo canal writes one to begin with")
	status(t, dir, 2, "demo canal", "already has files, such as")
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer full.Close()
	for _, call := range []string{"runs", "runs --format json", "runs --format csv", "--help"} {
		cmd := exec.Command(program, strings.Fields(call)...)
		cmd.Dir, cmd.Stdout = demo, full
		if err := cmd.Run(); cmd.ProcessState.ExitCode() != 1 {
			t.Errorf("%s to a full disk: %v", call, err)
		}
	}
}

// TestEnvironments: development and production are one model with other parameters.
func TestEnvironments(t *testing.T) {
	dir := t.TempDir()
	connection, schema := startest.Postgres(t)
	model := "parameters: {env: text}\nwarehouse: {sqlite: \"{env}/star.db\"}\ndimensions:\n  kind: {natural_key: code, rows: [{code: a}]}\n"
	startest.Write(t, dir, "ironmonger.yaml", model)
	startest.Write(t, dir, "dev/x", "")
	startest.Write(t, dir, "prod/x", "")
	must(t, dir, "load", "--set", "env=dev")
	status(t, dir, 0, "prove --set env=dev")
	status(t, dir, 2, "prove --set env=prod", "nothing has been loaded yet")
	if found, _ := filepath.Glob(filepath.Join(dir, "*", "*.db")); len(found) != 1 {
		t.Error(found)
	}
	if out := must(t, dir, "runs", "--set", "env=dev"); strings.Count(out, "done") != 1 {
		t.Error(out)
	}
	status(t, dir, 2, "runs", "parameters.env: no value is given")
	status(t, dir, 2, "load --set env=../x", "cannot be part of a file's name")
	startest.Write(
		t,
		dir,
		"ironmonger.yaml",
		strings.Replace(
			model,
			"{sqlite: \"{env}/star.db\"}",
			"\n  postgres: "+connection+"\n  schema: \""+schema+"_{env}\"\n",
			1,
		),
	)
	must(t, dir, "load", "--set", "env=dev")
	status(t, dir, 0, "prove --set env=dev")
	status(t, dir, 2, "load --set env=a.b", "cannot be a name")
}

// TestSample: check looks at rows from the beginning, the middle and the end of a file, and says where a step would
// pass its limit.
func TestSample(t *testing.T) {
	dir := t.TempDir()
	rows := func(bad func(i int) bool) string {
		var text strings.Builder
		text.WriteString("no,paid\n")
		for i := range 200_000 {
			paid := "1.00"
			if bad(i) {
				paid = "much"
			}
			fmt.Fprintf(&text, "%d,%s\n", i, paid)
		}
		return text.String()
	}
	startest.Write(
		t,
		dir,
		"ironmonger.yaml",
		"warehouse: {sqlite: star.db}\nsources:\n  rows:\n    read: rows.csv\n    columns:\n      no: integer\n      paid: decimal(9,2)\ndimensions:\n  kind: {natural_key: code, rows: [{code: a}]}\nfacts:\n  row:\n    from: rows\n    grain: no\n    measures: paid\n",
	)
	for _, c := range []struct {
		bad    func(i int) bool
		status int
		says   string
	}{
		{func(i int) bool { return false }, 0, "the model is right and fits the sampled rows"},
		{func(i int) bool { return i == 199_999 }, 0, "the model is right; a load would set aside 1 row of those sampled"},
		{func(i int) bool { return i > 20_000 && i < 180_000 }, 3, "fact row would stop: in the sample,"},
		{func(i int) bool { return i > 60_000 && i%4 > 0 }, 3, "paid is not a decimal number (rows.csv:"},
		{func(i int) bool { return i > 190_000 }, 0, "would be set aside"},
	} {
		startest.Write(t, dir, "rows.csv", rows(c.bad))
		status(t, dir, c.status, "check", c.says)
		if out := status(t, dir, c.status, "check --format json"); strings.Contains(
			out,
			`"limits"`,
		) != (c.status == 3) {
			t.Error(out)
		}
	}
}

// TestUnstarted: a load that does not start is among the runs, with its reason, where there is a warehouse; none is
// made for it, and check and dry runs write nothing.
func TestUnstarted(t *testing.T) {
	warehouses(t, "60", func(t *testing.T, demo string, empty func()) {
		empty()
		locks, err := os.ReadFile(filepath.Join(demo, "locks.csv"))
		if err != nil {
			t.Fatal(err)
		}
		os.Remove(filepath.Join(demo, "locks.csv"))
		status(t, demo, 2, "load", "no file matches locks.csv")
		if _, err := os.Stat(filepath.Join(demo, "canal.db")); err == nil {
			t.Error("a warehouse was made for a load that did not start")
		}
		startest.Write(t, demo, "locks.csv", string(locks))
		must(t, demo, "load")
		os.Remove(filepath.Join(demo, "locks.csv"))
		status(t, demo, 2, "check")
		status(t, demo, 2, "load --dry-run")
		status(t, demo, 2, "load", "no file matches locks.csv")
		model, err := os.ReadFile(filepath.Join(demo, "ironmonger.yaml"))
		if err != nil {
			t.Fatal(err)
		}
		startest.Write(t, demo, "ironmonger.yaml", strings.Replace(string(model), "grain:", "grian:", 1))
		status(t, demo, 2, "load", "grian")
		startest.Write(t, demo, "ironmonger.yaml", string(model))
		status(t, demo, 0, "runs", "no file matches locks.csv", "grian")
		status(t, demo, 0, "runs 2", "it did not start:", "run 2: failed")
		if out := must(t, demo, "runs", "--format", "json"); strings.Count(out, `"message"`) != 2 ||
			strings.Count(out, `"run":`) != 3 {
			t.Error(out)
		}
		startest.Write(t, demo, "locks.csv", string(locks))
		must(t, demo, "load")
		status(t, demo, 0, "prove")
	})
}

// TestSpelled: trace and erase take a natural key as it arrives, and in the form that it is brought to; a mistake
// of YAML is told with its own line; an empty line of a file of one column is a row; a natural key that no index
// takes is set aside.
func TestSpelled(t *testing.T) {
	dir := t.TempDir()
	model := `warehouse: {sqlite: star.db}
limits: {set_aside: none}
sources:
  bees:
    read: bees.csv
    columns: {code: text, name: text}
  codes: {read: codes.csv, columns: {code: text}}
dimensions:
  bee:
    from: bees
    natural_key: code
    matching: {code: {as: upper(trim(code)), codes: {OLD: B1}}}
    personal: name
  code: {from: codes, natural_key: code}
`
	startest.Write(t, dir, "ironmonger.yaml", model)
	startest.Write(
		t,
		dir,
		"bees.csv",
		"code,name\n b1 ,Ann\n"+strings.Repeat("x", 20000)+",Long\nb2,Annabel\n,\"Ann \"\"Bo\"\" Lee\"\nb7,Ann\n",
	)
	startest.Write(t, dir, "codes.csv", "code\na\n\nb\n\"\"\n")
	out := must(t, dir, "load")
	for _, want := range []string{"no code, which is the natural key codes.csv:3", "code is longer than 2000 bytes, which is too long for a key bees.csv:3"} {
		if !strings.Contains(words(out), want) {
			t.Errorf("%s\nwant %s", out, want)
		}
	}
	if out := must(t, dir, "show", "code", "--columns", "code", "--format", "csv"); out != "code\n\"\"\na\nb\n" &&
		out != "code\n\na\nb\n" {
		t.Errorf("%q", out)
	}
	for _, call := range []string{"trace bee B1", "trace bee b1", "trace bee old"} {
		status(t, dir, 0, call, "bees.csv:2")
	}
	status(t, dir, 2, "trace bee zz", "there is no such row")
	status(t, dir, 0, "erase bee b1", "B1")
	if out := must(t, dir, "show", "bee", "--columns", "code,name", "--format", "csv"); !strings.Contains(
		out,
		"B1,\n",
	) ||
		!strings.Contains(out, "B2,Annabel\n") ||
		!strings.Contains(out, "B7,Ann\n") {
		t.Error(out)
	}
	for _, c := range []struct{ old, new, says string }{
		{"    read: bees.csv\n", "    read: bees.csv\n   odd: 1\n", "ironmonger.yaml:6: this is not YAML"},
		{"    personal: name\n", "    personal: name\n    must_hold: {odd: [a}\n", "ironmonger.yaml:14: this is not YAML"},
		{"    columns: {code: text, name: text}\n", "    columns: {code: text, name: text}\n    derive:\n      long: 'M' || code\n", "put the whole expression in the other quotes"},
	} {
		startest.Write(t, dir, "ironmonger.yaml", strings.Replace(model, c.old, c.new, 1))
		status(t, dir, 2, "check", c.says)
	}
}

// TestErasedWords: what is erased of one is not part of what is said of another; the longest is looked for first,
// between quotes too; and numbers of another row are left alone.
func TestErasedWords(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
limits: {set_aside: none}
sources:
  boats: {read: boats.csv, columns: {no: integer, owner: text, since: date}}
dimensions:
  boat: {from: boats, natural_key: no, type_2: owner, effective: since, personal: owner}
`)
	startest.Write(
		t,
		dir,
		"boats.csv",
		"no,owner,since\n7,Ann,2024-01-01\n7,Annabel,2024-02-01\n7,\"Ann \"\"Bo\"\" Lee\",2024-03-01\n8,Annabella,2024-17-01\n9,Bea,2024-17-07\n9,Annabel,some day\n7,Cid,some day\n10,\"Ann \"\"Bo\"\" Lee\",some day\n",
	)
	must(t, dir, "load")
	status(t, dir, 0, "erase boat 7")
	wh := startest.Open(t, dir)
	defer wh.Close()
	var contents []string
	for _, table := range ledger.Tables() {
		if table.Name == "load_aside" {
			for _, r := range startest.Table(t, wh, table) {
				contents = append(contents, r["content"])
			}
		}
	}
	slices.Sort(contents)
	want := []string{
		"(erased)",
		"10,\"(erased)\",some day",
		"8,Annabella,2024-17-01",
		"9,(erased),some day",
		"9,Bea,2024-17-07",
	}
	if !slices.Equal(contents, want) {
		t.Errorf("%q\nwant\n%q", contents, want)
	}
	if text, err := os.ReadFile(filepath.Join(dir, "star.db")); err != nil ||
		bytes.Contains(text, []byte("Annabel,")) ||
		bytes.Contains(text, []byte("Cid")) {
		t.Error("what was erased is still in the file", err)
	}
}

// TestOwner: a role that owns the schema loads into it without the right to make one; names that PostgreSQL would
// cut are refused before anything is made.
func TestOwner(t *testing.T) {
	connection, schema := startest.Postgres(t)
	conn, err := pgx.Connect(t.Context(), connection)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	role := schema + "_owner"
	if _, err := conn.Exec(t.Context(), fmt.Sprintf("CREATE ROLE %s LOGIN; CREATE SCHEMA %s AUTHORIZATION %s", role, schema, role)); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	where := regexp.MustCompile(`user=\S+`).ReplaceAllString(connection, "user="+role)
	if !strings.Contains(where, role) {
		where += " user=" + role
	}
	model := "warehouse:\n  postgres: " + where + "\n  schema: " + schema + "\ndimensions:\n  kind: {natural_key: code, rows: [{code: a, name: x}], type_1: name}\n"
	startest.Write(t, dir, "ironmonger.yaml", model)
	status(t, dir, 0, "load", "run 1: done")
	long := strings.Repeat("k", 40)
	startest.Write(
		t,
		dir,
		"ironmonger.yaml",
		model+"  "+long+":\n    natural_key: code\n    rows: [{code: a}]\n  other:\n    natural_key: code\n    rows: [{code: a, to: a}]\n    keys: {"+strings.Repeat(
			"r",
			40,
		)+": {dimension: "+long+", by: to}}\n",
	)
	status(t, dir, 2, "check", "is longer than the 63 bytes that the warehouse takes")
	status(t, dir, 2, "load", "is longer than the 63 bytes")
}

// TestOddValues: bytes and halves of characters that are no text set their rows aside, and a dimension whose keys
// end says so and keeps nothing.
func TestOddValues(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "plain.txt", "no,bee\n1,a\x00b\n2,c\"d\n")
	startest.Write(
		t,
		dir,
		"lines.jsonl",
		`{"no":1,"bee":"\ud83d"}`+"\n"+`{"no":2,"bee":"\ud83d\ude00"}`+"\n"+`{"no":3,"bee":"x\udc00y"}`+"\n"+`{"no":4,"bee":"z\u0000"}`+"\n",
	)
	startest.Write(t, dir, "few.csv", "no\n1\n")
	startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
limits: {set_aside: none}
sources:
  plain: {read: plain.txt, csv: {quote: none}, columns: {no: integer, bee: text}}
  lines: {read: lines.jsonl, format: json_lines, columns: {no: integer, bee: text}}
  few: {read: few.csv, columns: {no: integer}}
dimensions:
  quoted: {from: plain, natural_key: no, type_1: bee}
  paired: {from: lines, natural_key: no, type_1: bee}
  last: {from: few, natural_key: no}
`)
	must(t, dir, "load")
	for dimension, want := range map[string]string{"quoted": "no,bee\n2,\"c\"\"d\"\n,Unknown\n", "paired": "no,bee\n2,😀\n,Unknown\n"} {
		if got := must(t, dir, "show", dimension, "--columns", "no,bee", "--format", "csv"); !sameLines(got, want) {
			t.Errorf("%s: %q, want %q", dimension, got, want)
		}
	}
	status(t, dir, 0, "strays", "holds a zero byte", "plain.txt:2", "half a character", "lines.jsonl:1")
	startest.Run(
		t,
		dir,
		"UPDATE dim_last SET last_key = 9223372036854775807 WHERE no = 1",
		"UPDATE load_key SET highest_key = 9223372036854775807 WHERE dimension = 'last'",
	)
	startest.Write(t, dir, "few.csv", "no\n1\n2\n")
	status(t, dir, 1, "load", "dimension last has no key left: the highest is 9223372036854775807")
	if got := must(t, dir, "show", "dimension", "last", "--count"); !strings.Contains(got, "2") {
		t.Errorf("after a step that failed: %s", got)
	}
}

func sameLines(a, b string) bool {
	x, y := strings.Split(a, "\n"), strings.Split(b, "\n")
	slices.Sort(x)
	slices.Sort(y)
	return slices.Equal(x, y)
}

// TestTwice: a list that names one folder twice makes two facts of one line; each is traced as its own row shapes it.
func TestTwice(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "list.csv", "site,folder\nN,a\nS,a\n")
	startest.Write(t, dir, "a/rows.csv", "no,visits\n1,10\n2,20\n")
	startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
sources:
  list: {read: list.csv, columns: {site: text, folder: text}}
  rows: {driven_by: list, within: "{folder}", read: rows.csv, columns: {no: integer, visits: integer}}
dimensions:
  site: {from: list, natural_key: site}
facts:
  count: {from: rows, grain: [site, no], keys: {site: site}, measures: visits}
`)
	must(t, dir, "load")
	status(t, dir, 0, "trace count N 2", "from a/rows.csv:3", "site ‹N› 1 N matched")
	status(t, dir, 0, "trace count S 2", "from a/rows.csv:3", "site ‹S› 2 S matched")
}
