package main

import (
	"bytes"
	"context"
	"debug/elf"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ironmonger/internal/startest"
)

// These tests drive the built program on files in a temporary folder, as a person would.

var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "ironmonger")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "ironmonger")
	build := exec.Command("go", "build", "-o", program, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%s\n%v\n", out, err)
		os.Exit(1)
	}
	status := startest.Main(m)
	os.RemoveAll(dir)
	os.Exit(status)
}

// run runs the program in dir and returns what it printed and its exit status.
func run(t testing.TB, dir string, args ...string) (stdout, stderr string, status int) {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir = dir
	var out, err bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &err
	runErr := cmd.Run()
	var exit *exec.ExitError
	if runErr != nil && !errors.As(runErr, &exit) {
		t.Fatal(runErr)
	}
	return out.String(), err.String(), cmd.ProcessState.ExitCode()
}

// must is run for a call that has to succeed.
func must(t testing.TB, dir string, args ...string) string {
	t.Helper()
	out, errs, status := run(t, dir, args...)
	if status != 0 {
		t.Fatalf("%v: status %d\n%s%s", args, status, out, errs)
	}
	return out
}

// figures returns the steps of a run's JSON by name.
func figures(t testing.TB, out string) map[string]map[string]any {
	t.Helper()
	var r struct {
		State string
		Steps []struct {
			Step, State string
			Figures     map[string]any
		}
	}
	if err := json.Unmarshal([]byte(out), &r); err != nil {
		t.Fatalf("%v in %s", err, out)
	}
	steps := map[string]map[string]any{}
	for _, s := range r.Steps {
		s.Figures["state"] = s.State
		steps[s.Step] = s.Figures
	}
	return steps
}

func TestStatic(t *testing.T) {
	f, err := elf.Open(program)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for _, p := range f.Progs {
		if p.Type == elf.PT_INTERP || p.Type == elf.PT_DYNAMIC {
			t.Errorf("the program needs a %v", p.Type)
		}
	}
}

// TestDemo walks through the example as its README says.
func TestDemo(t *testing.T) {
	dir := t.TempDir()
	demo := filepath.Join(dir, "canal")
	text := must(t, dir, "demo", "canal")
	for _, want := range []string{"tolls by waterway and month", "grain repeated with other values", "‹C01 ›", "run 1: done"} {
		if !strings.Contains(text, want) {
			t.Errorf("the demo does not show %q:\n%s", want, text)
		}
	}
	if out := must(t, demo, "check"); !strings.Contains(out, "the model is right; ") {
		t.Error(out)
	}
	before := startest.Dump(t, demo)
	again := figures(t, must(t, demo, "load", "--format", "json"))
	if f := again["fact passage"]; f["inserted"] != nil || f["same"].(float64) != 5959 ||
		f["set_aside"].(float64) != 42 {
		t.Errorf("a second load: %v", f)
	}
	if after := startest.Dump(t, demo); after != before {
		t.Errorf("a second load changed something:\n%s", startest.Difference(before, after))
	}
	if out := must(t, demo, "runs"); !regexp.MustCompile(`(?m)^ *2 +\d{4}-.*done`).MatchString(out) {
		t.Error(out)
	}
	must(t, demo, "runs", "1", "--format", "json")

	// An inferred vessel is entered at last, in two versions: it keeps its key, and its facts find the
	// version of their day.
	startest.Write(
		t,
		demo,
		"register/2026.csv",
		"registry,vessel_reg,name,licence_class,home_basin,draught_cm,changed_on\n"+
			"N,XV-00001,Late Heron,A,Millpool,120,2024-06-01\nN,XV-00001,Late Heron,B,Millpool,120,2025-02-01\n",
	)
	key := func(from string) string {
		for _, r := range startest.Star(t, demo)["dim_vessel"] {
			if r["registry"] == "N" && r["vessel_reg"] == "XV-00001" && r["effective_from"] == from {
				return r["vessel_key"]
			}
		}
		return ""
	}
	inferred := key("")
	filled := figures(t, must(t, demo, "load", "--format", "json"))["dimension vessel"]
	if filled["filled"].(float64) != 1 || filled["versions"].(float64) != 1 {
		t.Errorf("filling: %v", filled)
	}
	if inferred == "" || key("2024-06-01") != inferred {
		t.Errorf("the inferred member had key %s, the filled one has %s", inferred, key("2024-06-01"))
	}
	moved, second := 0, key("2025-02-01")
	for _, r := range startest.Star(t, demo)["fact_passage"] {
		if (r["vessel_key"] == inferred) && r["passed_at"] >= "2025-02-01" ||
			r["vessel_key"] == second && r["passed_at"] < "2025-02-01" {
			t.Errorf("passage %s of %s points to the wrong version", r["passage_no"], r["passed_at"])
		}
		if r["vessel_key"] == second {
			moved++
		}
	}
	if repointed, _ := filled["repointed"].(map[string]any); moved == 0 ||
		repointed["fact_passage"] != float64(moved) {
		t.Errorf("%d facts point to the second version, the account says %v", moved, filled["repointed"])
	}

	// A row that was set aside is repaired in its file: it is loaded, and no longer waits.
	file := filepath.Join(demo, "passages", "2025-01.csv")
	content, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	startest.Write(t, demo, "passages/2025-01.csv", strings.Replace(string(content), "C01 ,", "C01,", 1))
	repaired := figures(t, must(t, demo, "load", "--format", "json"))["fact passage"]
	if repaired["inserted"].(float64) != 1 || repaired["set_aside"].(float64) != 41 {
		t.Errorf("after the repair: %v", repaired)
	}
}

// TestAround looks at a model and at what came of it: the order, the strays, and the tables as SQL, which a load
// finds as good as its own, and which can be dropped again.
func TestAround(t *testing.T) {
	warehouses(t, "600", func(t *testing.T, demo string, empty func()) {
		empty()
		var order []struct {
			Step  string
			Wave  int
			Waits []struct {
				Step     string
				Required bool
			}
		}
		decode(t, must(t, demo, "order", "--format", "json"), &order)
		waves := map[string]int{}
		made := []string{"fact keeper_duty", "fact owed", "fact waterway_month"} // of rows of passages
		for _, o := range order {
			waves[o.Step] = o.Wave
			for _, w := range o.Waits {
				required := strings.HasPrefix(w.Step, "dimension ") || w.Step == "fact passage" && slices.Contains(made, o.Step)
				if waves[w.Step] == 0 || waves[w.Step] >= o.Wave || w.Required != required {
					t.Errorf("%s of wave %d waits for %s of wave %d", o.Step, o.Wave, w.Step, waves[w.Step])
				}
			}
		}
		if len(order) != 21 || waves["dimension waterway"] != 1 || waves["dimension lock"] != 2 ||
			waves["fact passage"] != 3 {
			t.Error(waves)
		}

		status(t, demo, 2, "strays", "nothing has been loaded yet: ironmonger load")
		var create, drop []string
		decode(t, must(t, demo, "ddl", "--format", "json"), &create)
		decode(t, must(t, demo, "ddl", "--drop", "--format", "json"), &drop)
		startest.Run(t, demo, create...)
		must(t, demo, "load")
		want := startest.Dump(t, demo, "load_run")
		var strays struct {
			SetAside []struct {
				Reasons string
				Rows    int
				File    string
				Line    int
			} `json:"set_aside"`
			Keys []struct {
				Key, Outcome, Rule string
				Natural            string `json:"natural_key"`
				Rows               int
			}
			Inferred []struct {
				Dimension string
				Members   int
				Rows      int `json:"rows_pointing"`
			}
		}
		decode(t, must(t, demo, "strays", "--format", "json"), &strays)
		star, unmatched := startest.Star(t, demo), 0
		inferred := map[string]bool{}
		for _, v := range star["dim_vessel"] {
			if v["is_inferred"] == "true" {
				inferred[v["vessel_key"]] = true
			}
		}
		for _, f := range star["fact_passage"] {
			if inferred[f["vessel_key"]] {
				unmatched++
			}
		}
		pointing := unmatched
		for _, f := range star["fact_owed"] {
			if inferred[f["vessel_key"]] {
				pointing++
			}
		}
		if len(strays.Inferred) != 1 || strays.Inferred[0].Members != len(inferred) ||
			strays.Inferred[0].Rows != pointing ||
			pointing == 0 {
			t.Errorf(
				"%+v; %d vessels are inferred, and %d facts point there",
				strays.Inferred,
				len(inferred),
				pointing,
			)
		}
		found := map[string]int{}
		for _, k := range strays.Keys {
			found[k.Key+" "+k.Outcome+" "+k.Rule] += k.Rows
		}
		if found["lock unmatched unknown"] != 2 || found["cargo unmatched set_aside"] != 2 ||
			found["vessel unmatched infer"] != unmatched {
			t.Error(found)
		}
		for _, a := range strays.SetAside {
			content, err := os.ReadFile(filepath.Join(demo, a.File))
			if strings.HasSuffix(a.File, ".parquet") {
				continue // its rows have numbers
			}
			if err != nil || a.Rows < 1 || a.Line < 1 || a.Line > strings.Count(string(content), "\n")+1 {
				t.Errorf("%+v, %v", a, err)
			}
		}
		if len(strays.SetAside) != 7 {
			t.Errorf("%+v", strays.SetAside)
		}
		if out := must(t, demo, "strays"); !strings.Contains(out, "‹L99›") ||
			!strings.Contains(out, "inferred members of") {
			t.Error(out)
		}

		show(t, demo)
		startest.Run(t, demo, drop...)
		if left := startest.Dump(t, demo); left != "" {
			t.Error("what is left:", left)
		}
		startest.Run(t, demo, strings.TrimSuffix(strings.TrimSpace(must(t, demo, "ddl")), ";"))
		must(t, demo, "load")
		if got := startest.Dump(t, demo, "load_run"); got != want {
			t.Error(startest.Difference(want, got))
		}
	})
}

// show looks at rows of all kinds, and counts them against the tables.
func show(t *testing.T, demo string) {
	type shown struct {
		Columns  []string
		Rows     [][]*string
		Places   []string
		Seen     int  `json:"rows_seen"`
		Matched  int  `json:"rows_matched"`
		SetAside int  `json:"rows_set_aside"`
		Complete bool `json:"complete"`
	}
	look := func(args ...string) (s shown) {
		decode(t, must(t, demo, append([]string{"show", "--format", "json"}, args...)...), &s)
		return
	}
	if s := look("passages", "--rows", "3"); len(s.Rows) != 3 || s.Complete ||
		s.Places[0] != "passages/2025-01.csv:2" ||
		s.Columns[13] != "toll" {
		t.Errorf("%+v", s)
	}
	star := startest.Star(t, demo)
	if s := look("passages", "--count", "--where", "toll > 100", "--columns", "passage_no, toll"); !s.Complete ||
		s.SetAside != 2 ||
		s.Matched == 0 ||
		s.Matched >= s.Seen-s.SetAside ||
		len(s.Columns) != 2 {
		t.Errorf("%+v", s)
	}
	current := 0
	for _, v := range star["dim_vessel"] {
		if v["is_current"] == "true" {
			current++
		}
	}
	if s := look("vessel", "--count", "--where", "is_current"); s.Matched != current ||
		s.Seen != len(star["dim_vessel"]) ||
		len(s.Rows) != 10 {
		t.Errorf("%+v, %d are current", s, current)
	}
	names := map[string]string{}
	for _, v := range star["dim_vessel"] {
		names[v["vessel_key"]] = v["registry"] + ", " + v["vessel_reg"]
	}
	facts := map[string]map[string]string{}
	for _, f := range star["fact_passage"] {
		facts[f["passage_no"]] = f
	}
	s := look(
		"fact",
		"passage",
		"--natural",
		"--rows",
		"1000",
		"--columns",
		"passage_no,vessel_key,lock_key,settled_date_key",
	)
	unknown, notYet := 0, 0
	for _, row := range s.Rows {
		f := facts[*row[0]]
		if *row[1] != names[f["vessel_key"]] {
			t.Errorf("passage %s is by %s, not %s", *row[0], names[f["vessel_key"]], *row[1])
		}
		if *row[2] == "Unknown" {
			unknown++
		}
		if *row[3] == "Not yet" {
			notYet++
		}
	}
	if len(s.Rows) != len(facts) || !s.Complete || unknown != 2 || notYet == 0 {
		t.Errorf(
			"%d of %d rows, complete %v, %d unknown locks, %d not settled",
			len(s.Rows),
			len(facts),
			s.Complete,
			unknown,
			notYet,
		)
	}
	// Figures, of the files as they are and of the tables.
	var profile struct {
		Figures []struct {
			Column, Fits, Unique    string
			Nulls, Distinct, Padded int
		}
		Rows [][]*string
	}
	figured := map[string]string{}
	for _, args := range []string{"passages --as-read --figures", "vessel --figures --where is_current --columns vessel_key,registry"} {
		profile.Figures = nil
		decode(t, must(t, demo, append(strings.Fields("show --format json"), strings.Fields(args)...)...), &profile)
		for _, f := range profile.Figures {
			figured[f.Column] = fmt.Sprint(
				f.Fits,
				" ",
				f.Distinct,
				" ",
				f.Unique,
				" ",
				f.Padded > 0,
				" ",
				f.Nulls > 0,
			)
		}
	}
	for name, want := range map[string]string{"remark": "text 4 no false true", "cargo_code": "text 12 no true false", "rebate": "decimal(5,4) 3 no false false",
		"vessel_key": fmt.Sprint(" ", current, " yes false false"), "registry": "text 2 no false true"} {
		if figured[name] != want {
			t.Errorf("%s: %s, want %s", name, figured[name], want)
		}
	}
	if s := look("passages", "--as-read", "--rows", "1000", "--columns", "remark"); s.SetAside != 0 ||
		s.Seen != s.Matched ||
		len(s.Rows) != s.Seen {
		t.Errorf("%+v", s)
	}
	if out := must(t, demo, "show", "lock", "--rows", "2"); !strings.Contains(out, "waterway_key") ||
		!strings.Contains(out, "2 rows shown, there are more") {
		t.Error(out)
	}
}

// TestTrace follows facts to their lines and members through their history, before and after an inferred one is
// filled.
func TestTrace(t *testing.T) {
	warehouses(t, "600", func(t *testing.T, demo string, empty func()) {
		empty()
		must(t, demo, "load")
		type value struct{ Name, Value string }
		var fact struct {
			Origin struct {
				Place, Fault string
				Read         []value `json:"as_read"`
				Shaped       []value `json:"as_shaped"`
			}
			Row  []value
			Keys []struct{ Key, Member, Because, Valid_from, Valid_to string }
			Runs []struct{ Run int }
		}
		outcomes := map[string]int{}
		facts := startest.Star(t, demo)["fact_passage"]
		for _, f := range facts[:min(len(facts), 60)] {
			decode(t, must(t, demo, "trace", "passage", f["passage_no"], "--format", "json"), &fact)
			file, line, _ := strings.Cut(fact.Origin.Place, ":")
			content, err := os.ReadFile(filepath.Join(demo, file))
			if err != nil {
				t.Fatal(err)
			}
			n, _ := strconv.Atoi(line)
			text := strings.Split(string(content), "\n")[n-1]
			if !strings.HasPrefix(text, f["passage_no"]+",") || fact.Origin.Fault != "" || len(fact.Runs) != 1 ||
				fact.Origin.Read[0].Value != f["passage_no"] {
				t.Fatalf("passage %s: %s, %q, %+v", f["passage_no"], fact.Origin.Place, text, fact)
			}
			for _, k := range fact.Keys {
				outcomes[k.Key+" "+strings.FieldsFunc(k.Because, func(c rune) bool { return strings.ContainsRune(" ,;:", c) })[0]]++
			}
		}
		if outcomes["lock unmatched"] != 1 || outcomes["vessel matched"] < 50 || outcomes["vessel unmatched"] == 0 ||
			outcomes["settled matched"] < 50 {
			t.Error(outcomes)
		}

		var member struct {
			Inferred     int `json:"inferred_run"`
			Filled       int `json:"filled_run"`
			Observations []struct{ Place, Became string }
			Versions     []struct {
				Key  string
				Rows map[string]int `json:"rows_pointing"`
			}
		}
		var strays struct{ Inferred []struct{ Examples []string } }
		decode(t, must(t, demo, "strays", "--format", "json"), &strays)
		natural := strings.Split(strays.Inferred[0].Examples[0], ", ")
		decode(t, must(t, demo, "trace", "vessel", natural[0], natural[1], "--format", "json"), &member)
		key, pointing := member.Versions[0].Key, member.Versions[0].Rows["fact_passage.vessel_key"]
		if member.Inferred != 1 || member.Filled != 0 || len(member.Observations) != 0 || pointing == 0 {
			t.Errorf("%+v", member)
		}
		startest.Write(
			t,
			demo,
			"register/2026.csv",
			fmt.Sprintf(
				"registry,vessel_reg,name,licence_class,home_basin,draught_cm,changed_on\n%[1]s,%[2]s,Late Heron,A,Millpool,120,2024-06-01\n%[1]s,%[2]s,Late Heron,A,Millpool,121,2024-08-01\n%[1]s,%[2]s,Late Heron,B,Millpool,122,2030-01-01\n",
				natural[0],
				natural[1],
			),
		)
		must(t, demo, "load")
		decode(t, must(t, demo, "trace", "vessel", "--key", key, "--format", "json"), &member)
		became := ""
		for _, o := range member.Observations {
			became += o.Became + "|"
		}
		if member.Inferred != 1 || member.Filled != 2 || len(member.Versions) != 2 ||
			member.Versions[0].Rows["fact_passage.vessel_key"] != pointing ||
			!regexp.MustCompile(`^vessel_key `+key+` begins with it\|it says what holds already, in vessel_key `+key+`\|vessel_key \d+ begins with it\|$`).
				MatchString(became) {
			t.Errorf("%+v", member)
		}
		// Of the facts of the filled vessel, one that is pointed to its second version says so; others do not.
		startest.Write(
			t,
			demo,
			"register/2027.csv",
			fmt.Sprintf(
				"registry,vessel_reg,name,licence_class,home_basin,draught_cm,changed_on\n%s,%s,Late Heron,C,Millpool,121,2025-01-01\n",
				natural[0],
				natural[1],
			),
		)
		must(t, demo, "load")
		star := startest.Star(t, demo)
		mine := map[string]bool{}
		for _, v := range star["dim_vessel"] {
			mine[v["vessel_key"]] = mine[v["vessel_key"]] ||
				v["registry"] == natural[0] && v["vessel_reg"] == natural[1]
		}
		moved := 0
		for n, f := range star["fact_passage"] {
			if !mine[f["vessel_key"]] && n%60 > 0 {
				continue
			}
			decode(t, must(t, demo, "trace", "passage", f["passage_no"], "--format", "json"), &fact)
			late := fact.Keys[0].Member == natural[0]+", "+natural[1]
			if late {
				moved++
			}
			if (len(fact.Runs) == 2 && fact.Runs[1].Run == 3) != late {
				t.Errorf("passage %s: %+v", f["passage_no"], fact)
			}
		}
		if moved == 0 {
			t.Error("no fact of the filled vessel")
		}
		// A file that has changed since is told.
		content, err := os.ReadFile(filepath.Join(demo, "passages/2025-01.csv"))
		if err != nil {
			t.Fatal(err)
		}
		startest.Write(t, demo, "passages/2025-01.csv", strings.Replace(string(content), "NV-", "ZV-", 1))
		if out := must(t, demo, "trace", "passage", "1"); !strings.Contains(
			out,
			"the line now says another natural key",
		) {
			t.Error(out)
		}
		startest.Write(
			t,
			demo,
			"passages/2025-01.csv",
			"passage_no,registry,vessel_reg,lock_code,cargo_code,keeper_no,booked_on,passed_at,settled_on,tonnage,rate,rebate,wait_minutes,remark\n",
		)
		if out := must(t, demo, "trace", "passage", "1"); !strings.Contains(
			out,
			"the file is gone, or has no row there any more",
		) ||
			!strings.Contains(out, "passages/2025-01.csv:2") {
			t.Error(out)
		}
	})
}

// TestRehearse: the demo's worked examples come out as they must; one that is made to differ is told as a difference,
// and what is wrong with an example has its place.
func TestRehearse(t *testing.T) {
	dir := t.TempDir()
	must(t, dir, "demo", "--passages", "60", "canal")
	demo := filepath.Join(dir, "canal")
	dump := startest.Dump(t, demo)
	if out := must(t, demo, "rehearse"); strings.Count(out, "agrees") != 5 {
		t.Error(out)
	}
	file := filepath.Join(demo, "ironmonger.examples.yaml")
	right, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		call, old, new string
		status         int
		answer         string
	}{
		{"rehearse", "61.73", "61.72", 3, `ironmonger.examples.yaml:25: a passage finds the version of its day, load 1: passage\n +passage_no,vessel_key,lock,cargo,keeper,settled,toll\n  must stand +2,"N, NV-1",L01,C01,Unknown,Not yet,61.72\n  stands +2,"N, NV-1",L01,C01,Unknown,Not yet,61.73\n$`},
		{"rehearse", "      1,NV-9,,true\n", "", 3, `load 1: vessel\n +vessel_key,vessel_reg,name,is_inferred\n  stands +1,NV-9,,true\n`},
		{"rehearse", "        1,NV-9,Late Heron,false", "        2,NV-9,Late Heron,false", 3, `a vessel that is entered late is filled in place, load 2: vessel`},
		{"rehearse", "3,tonnage not above zero", "3,tonnage", 3, `load 1: set_aside\n +line,reasons\n  must stand +3,tonnage\n  stands +3,tonnage not above zero\n`},
		{"rehearse", "1.2345,0\n", "1.2345,nil\n", 3, `must stand +1,`},
		{"rehearse", "lock_code,name,waterway_code\n", "lock_cod,name,waterway_code\n", 2, `ironmonger.examples.yaml:10: locks: source locks has no column lock_cod \(did you mean lock_code\?\)`},
		{"rehearse", "settled,toll", "settled,tol", 2, `ironmonger.examples.yaml:25: passage: passage has no column or key tol \(did you mean toll\?\)`},
		{"rehearse", "L01,Upper Gate,W1", "L01,\"Upper Gate,W1", 2, `ironmonger.examples.yaml:1\d: locks: this is not CSV`},
		{"rehearse", "  stands:\n    passage: |\n      passage_no\n", "  stand: x\n", 2, `no such key: stand \(did you mean stands\?\)`},
		{"rehearse", "line,reasons", "line,reason", 2, `rows set aside have no column reason \(did you mean reasons\?\)`},
		{"rehearse other", "", "", 2, `there is no example called other`},
		{"rehearse --examples none.yaml", "", "", 2, `there are no examples: there is no file none.yaml`},
	} {
		startest.Write(t, demo, "ironmonger.examples.yaml", strings.Replace(string(right), c.old, c.new, 1))
		out, errs, status := run(t, demo, strings.Fields(c.call)...)
		if status != c.status || !regexp.MustCompile(c.answer).MatchString(out+errs) {
			t.Errorf("%s for %q: status %d\n%s%s\nwant %s", c.call, c.old, status, out, errs, c.answer)
		}
	}
	if after := startest.Dump(t, demo); after != dump {
		t.Error("rehearsing has changed the star")
	}
}

func decode(t *testing.T, text string, to any) {
	t.Helper()
	if err := json.Unmarshal([]byte(text), to); err != nil {
		t.Fatalf("%v in %s", err, text)
	}
}

// TestCalls says what calls that are wrong in some way answer, with their exit status. The folder has
// a sound demo; each case spoils a file first. What is answered is a regular expression.
func TestCalls(t *testing.T) {
	dir := t.TempDir()
	must(t, dir, "demo", "--passages", "300", "canal")
	demo := filepath.Join(dir, "canal")
	dump := startest.Dump(t, demo)
	model, err := os.ReadFile(filepath.Join(demo, "ironmonger.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, call     string
		file, old, new string // in the file, old becomes new; with no old, new comes before what is there
		status         int
		answer         string
	}{
		{"no such command", "laod", "", "", "", 2, `^ironmonger: there is no command laod \(did you mean load\?\)\n$`},
		{"no such option", "load --modle x", "", "", "", 2, `there is no option --modle \(did you mean --model\?\)`},
		{"an argument too many", "check now", "", "", "", 2, `check: too many arguments, beginning with now`},
		{"a part that is not there", "load now", "", "", "", 2, `now: there is no dimension or fact of that name`},
		{"no model", "load --model other.yaml", "", "", "", 2, `the model cannot be read: .*other.yaml.*--model names it`},
		{"a wrong format", "runs --format xml", "", "", "", 2, `xml is none of text, json, csv`},
		{"no such run", "runs 99", "", "", "", 2, `there is no run 99`},
		{"a run that is not a number", "runs first", "", "", "", 2, `first is not a number of a run`},
		{"show nothing", "show", "", "", "", 2, `show: what\? For example`},
		{"show what is not there", "show pasage", "", "", "", 2, `the model has nothing called pasage \(did you mean passage\?\)`},
		{"show a kind that is not", "show table passage", "", "", "", 2, `the model has nothing called table`},
		{"show a column that is not", "show vessel --columns nme", "", "", "", 2, `there is no column nme \(did you mean name\?\)`},
		{"show with a wrong condition", "show vessel --where nme=1", "", "", "", 2, `^--where:1:1: there is no column nme \(did you mean name\?\)\n    1 \| nme=1\n      \| \^\n$`},
		{"show with no condition", "show vessel --where name", "", "", "", 2, `--where wants a condition, and name is of type text`},
		{"show a source whose file is broken", "show cargoes", "cargoes.csv", `"gravel"`, `gra"vel`, 1, `^cargoes.csv:2:8: this is not CSV`},
		{"show fewer than none", "show vessel --rows -1", "", "", "", 2, `--rows -1 is not a number of rows`},
		{"show two kinds", "show source passages now", "", "", "", 2, `show: too many arguments, beginning with now`},
		{"order with an argument", "order passage", "", "", "", 2, `order: too many arguments, beginning with passage`},
		{"workers that are no number", "load --workers many", "", "", "", 2, `--workers many: expected a whole number`},
		{"a model that is no file", "check --model passages", "", "", "", 2, `the model cannot be read: .*passages`},
		{"a model that is no YAML", "check --model README.md", "README.md", "", "", 2, `^README.md:\d+: this is not YAML: `},
		{"tabs in the model", "check", "ironmonger.yaml", "  sqlite: canal.db", "\tsqlite: canal.db", 2, `^ironmonger.yaml:\d+: this is not YAML: `},
		{"a bracket that is not closed", "check", "ironmonger.yaml", "[registry, vessel_reg] # the same", "[registry, vessel_reg # the same", 2, `^ironmonger.yaml:\d+: this is not YAML: `},
		{"an anchor", "check", "ironmonger.yaml", "  lock:\n", "  lock: &it\n", 2, `anchors and aliases are not allowed: write it out`},
		{"a tag", "check", "ironmonger.yaml", "sqlite: canal.db", "sqlite: !file canal.db", 2, `tags such as !file are not allowed`},
		{"a key twice", "check", "ironmonger.yaml", "    read: locks.csv", "    read: locks.csv\n    read: locks.csv", 2, `sources.locks: read is written twice \(first in line \d+\)`},
		{"a list where a word belongs", "check", "ironmonger.yaml", "sqlite: canal.db", "sqlite: [canal.db]", 2, `warehouse.sqlite: expected where it is, not a list`},
		{"a word where keys belong", "check", "ironmonger.yaml", "    columns:\n      cargo_code: text\n", "    columns: all\n    x:\n", 2, `sources.cargoes.columns: expected keys and values here \(key: value\), not the word all`},
		{"an unknown type", "check", "ironmonger.yaml", "perishable: boolean", "perishable: bool", 2, `no such type: bool \(there is: integer`},
		{"a decimal in braces", "check", "ironmonger.yaml", "    columns:\n      cargo_code: text", "    columns: {a: decimal(9,2)}\n    csv: #", 2, `inside braces a comma ends a value`},
		{"an expression with a wrong type", "check", "ironmonger.yaml", "tonnage > 0", "tonnage > 'x'", 2, `> cannot compare decimal\(9,2\) with text`},
		{"an expression that is not closed", "check", "ironmonger.yaml", "tonnage > 0", "(tonnage > 0", 2, `expected \) to close the bracket, not the end`},
		{"a condition that is none", "check", "ironmonger.yaml", "tonnage > 0", "tonnage + 1", 2, `a condition is true or false, and this is of type decimal`},
		{"a function that is not", "check", "ironmonger.yaml", "tonnage > 0", "rounded(tonnage, 1) > 0", 2, `there is no function rounded \(did you mean round\?\)`},
		{"a path outside", "load", "ironmonger.yaml", "read: locks.csv", "read: ../locks.csv", 2, `sources.locks.read: ../locks.csv is outside the model's folder`},
		{"an absolute path", "load", "ironmonger.yaml", "read: locks.csv", "read: /etc/passwd", 2, `/etc/passwd is outside the model's folder`},
		{"a folder for a file", "load", "ironmonger.yaml", "read: locks.csv", "read: register", 2, `register: source locks: this is a folder or a device, not a file`},
		{"a key by too few columns", "check", "ironmonger.yaml", "by: [registry, vessel_reg]", "by: registry", 2, `the natural key of dimension vessel \(registry, vessel_reg\) and ` + "`by`" + ` differ in the number of columns: 2 and 1`},
		{"a grain that can be unknown", "check", "ironmonger.yaml", "grain: passage_no", "grain: [passage_no, lock]", 2, `lock is part of the grain, so it cannot become unknown`},
		{"versions without a time", "check", "ironmonger.yaml", "    effective: changed_on\n", "", 2, `versions need effective`},
		{"a date that is none", "check", "ironmonger.yaml", "from: 2022-01-01", "from: 2022-02-30", 2, `2022-02-30 is not a date such as 2025-03-31`},
		{"an attribute called as the table's own", "check", "ironmonger.yaml", "      hazard: text", "      hazard: text\n      load_run: text", 2, `load_run is already the run that wrote the row`},
		{"two warehouses", "check", "ironmonger.yaml", "  sqlite: canal.db", "  sqlite: canal.db\n  postgres: service=x", 2, `a star stands in one warehouse`},
		{"a password", "check", "ironmonger.yaml", "  sqlite: canal.db", "  postgres: host=x password=hush", 2, `a password has no place in a model`},
		{"a server that is not there", "load", "ironmonger.yaml", "  sqlite: canal.db", "  postgres: host=/nowhere user=x dbname=x", 1, `the warehouse cannot be opened: .*/nowhere`},
		{"a file in UTF-16", "load", "locks.csv", "", "\xff\xfel\x00", 2, `^locks.csv:1: source locks: this is not UTF-8 text; it looks like UTF-16 \(csv: encoding says so\)\n$`},
		{"a compressed file", "load", "locks.csv", "", "\x1f\x8b\x08", 2, `locks.csv: source locks: the file cannot be read: this begins like gzip but is not gzip`},
		{"semicolons", "load", "locks.csv", "lock_code,name,waterway_code,chamber_m", "lock_code;name;waterway_code;chamber_m", 2, `what separates the columns\? \(csv: separator\)`},
		{"a header that has a column twice", "load", "locks.csv", "lock_code,name,waterway_code,chamber_m", "lock_code,name,waterway_code,name,chamber_m", 2, `the header has two columns called name`},
		{"other bytes", "load", "cargoes.csv", `"gravel"`, "\"gr\xe4vel\"", 0, `dimension cargo +1 +name is not UTF-8 text or holds a zero byte \(csv: encoding says what text it is\) +cargoes.csv:2 +‹gr\\xe4vel›`},
		{"a quote that is never closed", "load", "locks.csv", "L01,", "\"L01,", 1, `dimension lock: failed: locks.csv:\d+`},
		{"a row too long", "load", "cargoes.csv", `C01,`, `C01,x,`, 0, `dimension cargo +1 +the row has too many fields +cargoes.csv:2 +‹5, and the header 4›`},
		{"a number with commas", "check", "locks.csv", "chamber_m\nL01,", "chamber_m\nL1,000,", 0, `locks +1 +the row has too many fields +locks.csv:2 +‹5, and the header 4›`},
		{"a column that does not fit", "check", "locks.csv", "all", "lock_code,name,waterway_code,chamber_m\nL01,A,W1,wide\nL02,B,W1,wide\n", 0, `locks +2 +chamber_m is not an integer`},
		{"a table that the model has grown out of", "check", "ironmonger.yaml", "      chamber_m: integer", "      chamber_m: decimal(5,1)", 2, `^ironmonger.yaml: table dim_lock: it has chamber_m as integer, but the model has decimal\(5,1\): give the new column another name`},
		{"a table that can grow", "check", "ironmonger.yaml", "type_1: [name, draught_cm]", "type_1: [name, draught_cm, draught]", 0, `\ntable dim_vessel gets the column draught, with null in existing rows\n$`},
		{"a column of another type than the table's", "load", "ironmonger.yaml", "      chamber_m: integer", "      chamber_m: date", 1, `dimension lock: failed: table dim_lock in the warehouse does not fit the model: it has chamber_m as integer, but the model has date`},
		{"a separator of two characters", "check", "ironmonger.yaml", "    read: locks.csv", "    read: locks.csv\n    csv:\n      separator: ';;'", 2, `";;" is not a mark`},
		{"a layout that is not", "check", "ironmonger.yaml", "    read: locks.csv", "    read: locks.csv\n    csv:\n      date: dd/qq/yyyy", 2, `qq has no meaning in a layout`},
		{"guard and a wrong format", "runs --guard --format tsv", "", "", "", 2, `tsv is none of text, json, csv`},
		{"schema of what", "schema passages", "", "", "", 2, `schema: too many arguments, beginning with passages`},
		{"as read of a fact", "show fact passage --as-read", "", "", "", 2, `--as-read is for sources`},
		{"as read of nothing", "show --as-read vessels", "", "", "", 2, `the model has nothing called vessels`},
		{"figures of a column that is not", "show locks --figures --columns nam", "", "", "", 2, `there is no column nam \(did you mean name\?\)`},
		{"figures of a broken file", "show locks --figures", "locks.csv", "L01,", "\"L01,", 1, `^locks.csv:\d+(:\d+)?: this is not CSV`},
		{"a folder that is not", "check", "ironmonger.yaml", "    read: locks.csv", "    read: locks.csv\n    within: ../nowhere", 2, `^ironmonger.yaml:\d+:13: sources.locks.within: there is no folder ../nowhere`},
		{"a folder that is a file", "check", "ironmonger.yaml", "    read: locks.csv", "    read: locks.csv\n    within: cargoes.csv", 2, `there is no folder cargoes.csv`},
		{"a guard that is not", "check", "ironmonger.yaml", "    read: locks.csv", "    read: locks.csv\n    csv:\n      guard: quotes", 2, `no such choice: quotes \(there is: apostrophe\)`},
		{"a position of nothing", "check", "ironmonger.yaml", "      chamber_m: integer", "      chamber_m:\n        type: integer\n        position: 0", 2, `0 is not a position: 1 is the first`},
		{"a position beyond", "check", "ironmonger.yaml", "      chamber_m: integer", "      chamber_m:\n        type: integer\n        position: 9", 2, `column chamber_m is to stand at position 9, and the header has 4 columns`},
		{"a column without a type", "check", "ironmonger.yaml", "      chamber_m: integer", "      chamber_m:\n        header: chamber_m", 2, `type is missing`},
		{"a time zone that is not", "check", "ironmonger.yaml", "sources:", "time_zone: Upper/Cut\nsources:", 2, `no time zone is called Upper/Cut`},
		{"a limit that is not a share", "check", "ironmonger.yaml", "sources:", "limits:\n  set_aside: many\nsources:", 2, `many is not a share: write 20%, or none`},
		{"a name that cannot be one", "check", "ironmonger.yaml", "  lock:\n", "  lock gate:\n", 2, `"lock gate" cannot be a name`},
		{"a name twice but for case", "check", "ironmonger.yaml", "      chamber_m: integer", "      chamber_m: integer\n      Chamber_M: integer", 2, `Chamber_M`},
		{"a circle of derived columns", "check", "ironmonger.yaml", "      toll: cast(tonnage * rate * (1 - rebate) as decimal(9,2))", "      toll: round(tonnage * twice, 2)\n      twice: toll * 2", 2, `there is no column twice`},
		{"a measure of text", "check", "ironmonger.yaml", "measures: [", "measures: [keeper_no, ", 2, `keeper_no`},
		{"an empty model", "check", "ironmonger.yaml", "all", "", 2, `^ironmonger.yaml: the model is empty\n$`},
		{"an empty file", "load", "cargoes.csv", "all", "", 2, `^cargoes.csv:1: source cargoes: the file is empty`},
		{"a rule that is not for it", "check", "ironmonger.yaml", "unmatched: unknown", "unmatched: nearest", 2, `no such choice: nearest`},
		{"a calendar that ends before it begins", "check", "ironmonger.yaml", "from: 2022-01-01", "from: 2092-01-01", 2, `sources.days.calendar: to is before from`},
		{"prove a check that is not", "prove --checks grian", "", "", "", 2, `there is no check grian \(did you mean grain\?\)`},
		{"trace nothing", "trace", "", "", "", 2, `trace: what\? For example`},
		{"trace too few values", "trace vessel N", "", "", "", 2, `the natural key of vessel is registry, vessel_reg: 2 values, not 1`},
		{"trace a value of another type", "trace passage x", "", "", "", 2, `passage_no: x is not an integer`},
		{"trace what is not there", "trace passage 999999", "", "", "", 2, `there is no such row`},
		{"trace a fact by key", "trace passage --key 3", "", "", "", 2, `--key is for dimensions`},
		{"trace by both", "trace vessel N NV-00001 --key 3", "", "", "", 2, `by its natural key or by --key, not by both`},
		{"something that must hold of nothing", "check", "ironmonger.yaml", "    measures: [", "    must_hold:\n      odd: {where: toll > 0}\n    measures: [", 2, `facts.passage.must_hold.odd: nothing is said that must hold`},
		{"something that must hold of no column", "check", "ironmonger.yaml", "    measures: [", "    must_hold:\n      odd: tol > 0\n    measures: [", 2, `must_hold.odd: there is no column tol \(did you mean toll\?\)`},
		{"a total of half a thing", "check", "ironmonger.yaml", "    measures: [", "    must_hold:\n      odd: {total: toll, source: passages}\n    measures: [", 2, `total, source and column are said together`},
		{"a bound that is none", "check", "ironmonger.yaml", "    measures: [", "    must_hold:\n      odd: {at_most: few}\n    measures: [", 2, `few is neither a number of rows nor a share`},
		{"a load that must stop", "load", "ironmonger.yaml", "    measures: [", "    must_hold:\n      dear: {every: toll > 50, in_load: stop}\n    measures: [", 1, `fact passage: failed: dear: every row has toll > 50: \d+ rows speak against it, the first with passage_no`},
		{"a proof that fails", "prove", "ironmonger.yaml", "    measures: [", "    must_hold:\n      dear: toll > 50\n    measures: [", 3, `must_hold of fact_passage, broken: dear: every row has toll > 50[\s\S]*not so: toll > 50 +passages/2025-01.csv:\d+`},
		{"demo twice", "demo .", "", "", "", 2, `already has files, such as`},
		{"demo nowhere", "demo", "", "", "", 2, `which folder`},
		{"a misspelt column", "check", "ironmonger.yaml", "by: [registry, vessel_reg]", "by: [registry, vessel_rg]", 2,
			`^ironmonger.yaml:\d+:24: facts.passage.keys.vessel: source passages has no column vessel_rg \(did you mean vessel_reg\?\)\n +\d+ \|         by: \[registry, vessel_rg\]\n +\| {24}\^\n$`},
		{"two mistakes", "load", "ironmonger.yaml", "unmatched: unknown", "unmatched: unknwon\n        mising: stop", 2, `no such choice: unknwon \(did you mean unknown[\s\S]*no such key: mising \(did you mean missing\?\)[\s\S]*2 mistakes`},
		{"a column that no header has", "load", "locks.csv", "lock_code,name", "lock_cod,name", 2, `^locks.csv:1: source locks: the header has no column lock_code \(did you mean lock_cod\?\)\n$`},
		{"no such files", "check", "ironmonger.yaml", `read: "passages/*.csv"`, `read: "passges/*.csv"`, 2, `sources.passages.read: no file matches passges/\*.csv`},
		{"a file that is no CSV", "load", "cargoes.csv", `"gravel"`, `gra"vel`, 1, `dimension cargo: failed: cargoes.csv:2:8: this is not CSV: a quote in a field that is not quoted[\s\S]*fact passage: not run: a step that it needs failed[\s\S]*run \d+: failed`},
		{"too many rows aside", "load", "ironmonger.yaml", "tonnage > 0", "tonnage > 10000", 1, `fact passage: failed: 300 of 300 rows \(100.0%\) would be set aside, more than 20.0%: nothing is kept. The most frequent reason: tonnage not above zero \(passages/2025-01.csv:2\)`},
		{"a rule says stop", "load", "ironmonger.yaml", "unmatched: unknown", "unmatched: stop", 1, `fact passage: failed: passages/2025-01.csv:\d+: key lock: unmatched lock: L99; the model says stop`},
		{"another model's tables", "load", "ironmonger.yaml", "wait_minutes: integer", "wait_minutes: decimal(9,2)", 1, `table fact_passage in the warehouse does not fit the model: it has wait_minutes as `},
		{"no database", "load", "ironmonger.yaml", "sqlite: canal.db", "sqlite: locks.csv", 1, `the warehouse cannot be opened: .*this is not an SQLite database`},
		{"an overflow", "load", "ironmonger.yaml", "tonnage > 0", "cast(tonnage * rate as decimal(4,2)) > 0", 1, `most frequent reason: .*value does not fit the cast`},
	} {
		t.Run(c.name, func(t *testing.T) {
			if c.file != "" {
				path := filepath.Join(demo, c.file)
				content, err := os.ReadFile(path)
				if c.old == "all" {
					c.old = string(content)
				}
				if err != nil || !strings.Contains(string(content), c.old) {
					t.Fatalf("%v: %q is not in %s", err, c.old, c.file)
				}
				defer os.WriteFile(path, content, 0o644)
				startest.Write(t, demo, c.file, strings.Replace(string(content), c.old, c.new, 1))
			}
			out, errs, status := run(t, demo, strings.Fields(c.call)...)
			if answer := out + errs; status != c.status || !regexp.MustCompile(c.answer).MatchString(answer) ||
				strings.Contains(answer, "panic") {
				t.Errorf("status %d, want %d\n%s\nwant %s", status, c.status, answer, c.answer)
			}
		})
	}
	if content, err := os.ReadFile(filepath.Join(demo, "ironmonger.yaml")); err != nil ||
		!bytes.Equal(content, model) {
		t.Fatal("the model is not what it was")
	}
	if after := startest.Dump(t, demo); after != dump {
		t.Errorf("calls that failed changed the star:\n%s", startest.Difference(dump, after))
	}
}

// TestCSV: every command gives its result as CSV that reads back, with a header and no lines that are wrapped or
// cut.
func TestCSV(t *testing.T) {
	dir := t.TempDir()
	must(t, dir, "demo", "--passages", "300", "canal")
	demo := filepath.Join(dir, "canal")
	for call, want := range map[string]string{
		"prove": "check,table", "trace passage 1": "from,key", "trace waterway W1": "key,code", "check": "source,files", "order": "wave,step", "load": "run,step,state", "runs": "run,step,state", "runs 1": "run,step,state", "strays": "kind,where", "ddl": "statement", "ddl --drop": "statement",
		"show passages --count --rows 100000": "passage_no,registry", "show fact passage --natural": "passage_no,passed_at", "show waterway": "waterway_key,code",
	} {
		out := must(t, demo, append(strings.Fields(call), "--format", "csv")...)
		records, err := csv.NewReader(strings.NewReader(out)).ReadAll()
		if err != nil || len(records) < 2 || !strings.HasPrefix(out, want) {
			t.Errorf("%s: %v\n%s", call, err, out)
		}
		if call == "show waterway" &&
			out != "waterway_key,code,name,region,load_run\n-1,,Unknown,Unknown,1\n1,W1,Upper Cut,Upland,1\n2,W2,Marsh Level,Lowland,1\n3,W3,Copper Reach,Lowland,1\n4,W4,Tidal Basin,Coast,1\n" {
			t.Errorf("%q", out)
		}
	}
}

// TestHelp: every command has a help with an example.
func TestHelp(t *testing.T) {
	for _, command := range []string{"", "demo", "check", "order", "show", "load", "strays", "prove", "trace", "rehearse", "erase", "runs", "ddl", "schema"} {
		out := must(t, ".", strings.Fields(command+" --help")...)
		if !strings.Contains(out, "Example:") || !strings.Contains(out, "Exit status") {
			t.Errorf("the help of %q has no example or does not tell its exit status:\n%s", command, out)
		}
	}
}

// warehouses runs a test with a demo for each kind of warehouse; empty gives the demo an empty one.
func warehouses(t *testing.T, passages string, test func(t *testing.T, demo string, empty func())) {
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			dir := t.TempDir()
			must(t, dir, "demo", "--passages", passages, "canal")
			demo := filepath.Join(dir, "canal")
			model, err := os.ReadFile(filepath.Join(demo, "ironmonger.yaml"))
			if err != nil {
				t.Fatal(err)
			}
			test(t, demo, func() {
				if kind == "postgres" {
					connection, schema := startest.Postgres(t)
					startest.Write(
						t,
						demo,
						"ironmonger.yaml",
						strings.Replace(
							string(model),
							"sqlite: canal.db",
							"postgres: "+connection+"\n  schema: "+schema,
							1,
						),
					)
				}
				for _, name := range []string{"canal.db", "canal.db-wal", "canal.db-shm"} {
					os.Remove(filepath.Join(demo, name))
				}
			})
		})
	}
}

// TestKill kills loads at many moments and runs them again: the star is that of a load that nobody
// disturbed (property 2), but for the runs that wrote it.
func TestKill(t *testing.T) {
	moments := 8
	if n, err := strconv.Atoi(os.Getenv("IRONMONGER_KILLS")); err == nil {
		moments = n
	}
	warehouses(t, "5000", func(t *testing.T, demo string, empty func()) { kill(t, demo, empty, moments) })
}

// TestKillChanges kills second loads: of changes that come late, of members that are gone, merged, renamed and
// moved in a hierarchy.
func TestKillChanges(t *testing.T) {
	moments := 4
	if n, err := strconv.Atoi(os.Getenv("IRONMONGER_KILLS")); err == nil {
		moments = n / 2
	}
	warehouses(t, "4000", func(t *testing.T, demo string, empty func()) {
		read := func(name string) string {
			text, err := os.ReadFile(filepath.Join(demo, name))
			if err != nil {
				t.Fatal(err)
			}
			return string(text)
		}
		model, units, staff := read("ironmonger.yaml"), read("units.csv"), read("staff.db")
		kill(t, demo, func() {
			startest.Write(t, demo, "ironmonger.yaml", model)
			empty()
			startest.Write(t, demo, "units.csv", units)
			startest.Write(t, demo, "staff.db", staff)
			startest.Write(
				t,
				demo,
				"register/2026.csv",
				"registry,vessel_reg,name,licence_class,home_basin,draught_cm,changed_on\n",
			)
			must(t, demo, "load")
			late := "registry,vessel_reg,name,licence_class,home_basin,draught_cm,changed_on\n"
			for v := range 90 {
				late += fmt.Sprintf(
					"%s,NV-%05d,Late Heron,%s,Millpool,%d,2025-01-%02d\n",
					[]string{"N", "S"}[v%2],
					v/2+1,
					[]string{"A", "B", "X"}[v%3],
					60+v,
					1+v%28,
				)
			}
			startest.Write(t, demo, "register/2026.csv", late)
			startest.Write(t, demo, "units.csv", strings.Replace(units, "Tidal Works,U3", "Tidal Works,U2", 1))
			conn, err := sqlite.OpenConn(filepath.Join(demo, "staff.db"))
			if err == nil {
				err = sqlitex.ExecuteScript(
					conn,
					"delete from keeper where keeper_no < '005'; update keeper set grade = 'Z' where keeper_no < '040'",
					nil,
				)
				conn.Close()
			}
			if err != nil {
				t.Fatal(err)
			}
			startest.Write(
				t,
				demo,
				"same.csv",
				"registry,vessel_reg,is_registry,is_reg\nN,NV-00002,S,NV-00002\nN,XV-00001,N,NV-00007\nS,NV-00009,S,NV-99999\n",
			)
			text := strings.Replace(
				read("ironmonger.yaml"),
				"dimensions:\n",
				"  same:\n    read: same.csv\n    columns: {registry: text, vessel_reg: text, is_registry: text, is_reg: text}\n\ndimensions:\n",
				1,
			)
			text = strings.Replace(
				text,
				"    with_current: licence_class",
				"    aliases: {from: same, alias: [registry, vessel_reg], is: [is_registry, is_reg]}\n    with_current: licence_class",
				1,
			)
			startest.Write(t, demo, "ironmonger.yaml", text)
		}, moments)
		if out := must(t, demo, "runs", "--format", "json"); !strings.Contains(out, `"combined":`) &&
			!strings.Contains(must(t, demo, "runs", "2", "--format", "json"), `"combined"`) {
			t.Errorf("no vessel was made part of another:\n%s", out)
		}
	})
}

// kill compares what comes of a load that was killed and run again with what comes of one that was not; prepare brings
// everything to where the load begins.
func kill(t *testing.T, whole string, prepare func(), moments int) {
	prepare()
	begin := time.Now()
	must(t, whole, "load")
	lasts := time.Since(begin)
	want := startest.Dump(t, whole, "load_run")
	kept := t.TempDir()
	t.Setenv("TMPDIR", kept)
	var killed, between, broken int
	for n := range moments {
		prepare()
		ctx, cancel := context.WithCancel(context.Background())
		cmd := exec.CommandContext(ctx, program, "load")
		if n%2 == 1 { // with dimensions in parts on disk
			cmd.Args = append(cmd.Args, "--memory", "50kB")
		}
		cmd.Dir = whole
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(lasts * time.Duration(n+1) / time.Duration(moments+1))
		cmd.Process.Signal(syscall.SIGKILL)
		if err := cmd.Wait(); err != nil {
			killed++
		}
		cancel()
		if partial := startest.Dump(t, whole, "load_run"); partial != "" && partial != want {
			between++
		}
		after := must(t, whole, "runs")
		must(t, whole, "load")
		if runs := after + must(t, whole, "runs"); strings.Contains(runs, "running") {
			t.Errorf("killed at moment %d, and run again:\n%s", n, runs)
		}
		if strings.Contains(after, "broken off") {
			broken++
		}
		if got := startest.Dump(t, whole, "load_run"); got != want {
			t.Fatalf("killed at moment %d of %d, and run again:\n%s", n, moments, startest.Difference(want, got))
		}
		must(t, whole, "prove", "--against-sources")
	}
	left, err := os.ReadDir(kept)
	for _, file := range left { // where a file must have a name first, an empty one may stay
		if info, err := file.Info(); err != nil || info.Size() > 0 {
			t.Error("a temporary file stays:", file.Name(), err)
		}
	}
	if err != nil {
		t.Error(err)
	}
	t.Logf(
		"%d of %d loads were killed in time, %d between steps or within, %d known as broken off",
		killed,
		moments,
		between,
		broken,
	)
	if killed < moments/4 || between < moments/5 || broken < moments/5 {
		t.Errorf("only %d of %d loads were killed in time, %d with something loaded", killed, moments, between)
	}
}

// TestTwoLoads starts loads of one warehouse at once: the keys that they give never clash, and the star is
// that of one load (property 5).
func TestTwoLoads(t *testing.T) {
	warehouses(t, "10000", together)
}

func together(t *testing.T, demo string, empty func()) {
	empty()
	must(t, demo, "load")
	want := startest.Dump(t, demo, "load_run")
	waits := regexp.MustCompile(
		`^waiting for (run [12] \(process \d+ of \S+ on \S+, since \d{4}-\d\d-\d\d \d\d:\d\d:\d\d UTC\)|another load), which is loading the warehouse\n$`,
	)
	var waited, known atomic.Int64
	for round := range 3 {
		empty()
		var wait sync.WaitGroup
		for range 3 {
			wait.Go(func() {
				out, errs, status := run(t, demo, "load")
				if status != 0 || errs != "" && !waits.MatchString(errs) {
					t.Errorf("round %d: status %d\n%s%s", round, status, out, errs)
				}
				if errs != "" {
					waited.Add(1)
				}
				if strings.Contains(errs, "process") {
					known.Add(1)
				}
			})
		}
		wait.Wait()
		if got := startest.Dump(t, demo, "load_run"); got != want {
			t.Fatalf("round %d:\n%s", round, startest.Difference(want, got))
		}
	}
	t.Logf("%d of 9 loads waited, %d of them knew for whom", waited.Load(), known.Load())
	if waited.Load() < 3 || known.Load() < 2 { // on a busy computer one may begin when another has ended
		t.Errorf("%d of 9 loads waited, %d of them knew for whom", waited.Load(), known.Load())
	}
}

// TestStop: an interrupt ends a load within two seconds, and nothing of the step is kept, also where somebody is to be
// told who does not listen; a second one ends it at once.
func TestStop(t *testing.T) {
	warehouses(t, "150000", interrupt)
}

func interrupt(t *testing.T, demo string, empty func()) {
	plain := readFile(t, demo, "ironmonger.yaml")
	stop := func(notify string, signals ...os.Signal) (took time.Duration, said string, status *os.ProcessState) {
		startest.Write(t, demo, "ironmonger.yaml", plain)
		empty()
		startest.Write(t, demo, "ironmonger.yaml", notify+readFile(t, demo, "ironmonger.yaml"))
		cmd := exec.Command(program, "load")
		cmd.Dir = demo
		var out bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &out
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(700 * time.Millisecond)
		begin := time.Now()
		for _, s := range signals {
			cmd.Process.Signal(s)
			time.Sleep(50 * time.Millisecond)
		}
		cmd.Wait()
		return time.Since(begin), out.String(), cmd.ProcessState
	}
	const deaf = "notify: {who: {command: [sleep, \"60\"]}}\n"
	for _, notify := range []string{"", deaf} {
		for _, signal := range []os.Signal{os.Interrupt, syscall.SIGTERM} {
			took, said, status := stop(notify, signal)
			if took > 10*time.Second || status.ExitCode() != 1 || !strings.Contains(said, "stopped") || (notify != "") != strings.Contains(said, "took longer") {
				t.Errorf("%s, %s: it took %v, status %d\n%s", notify, signal, took, status.ExitCode(), said)
			}
			if rows := startest.Star(t, demo)["fact_passage"]; len(rows) != 0 {
				t.Errorf("%d facts were kept", len(rows))
			}
		}
	}
	if took, said, status := stop(deaf, os.Interrupt, os.Interrupt); took > 10*time.Second || status.Exited() {
		t.Errorf("twice: it took %v, %v\n%s", took, status, said)
	}
	startest.Write(t, demo, "ironmonger.yaml", strings.TrimPrefix(readFile(t, demo, "ironmonger.yaml"), deaf))
	must(t, demo, "load")
}

// TestParameters: a run is told values on its call or in the environment; they stand in paths and expressions, and
// in the ledger.
func TestParameters(t *testing.T) {
	dir := t.TempDir()
	model := `warehouse:
  sqlite: star.db
parameters:
  site: text
  run_date:
    type: date
    default: 2025-03-31
  least:
    type: decimal(9,2)
    default: 1
sources:
  tolls:
    read: "tolls-{site}-{run_date}.csv"
    columns:
      no: integer
      paid: decimal(9,2)
    derive:
      paid_on: :run_date
      site: ":site || '!'"
    require:
      enough: paid >= :least
dimensions:
  site:
    from: tolls
    natural_key: site
    type_1: paid_on
facts:
  toll:
    from: tolls
    grain: no
    keys:
      site: site
    measures: paid
    must_hold:
      nothing small: paid >= :least
limits:
  set_aside: none
`
	startest.Write(t, dir, "ironmonger.yaml", model)
	startest.Write(t, dir, "tolls-A, B-2025-03-31.csv", "no,paid\n1,0.50\n2,1.50\n")
	startest.Write(t, dir, "tolls-N-2025-04-30.csv", "no,paid\n3,2.50\n4,3.50\n")
	must(t, dir, "load", "--set", "site=A, B")
	if out := must(t, dir, "load", "--set", "site=N", "--set", "run_date=2025-04-30", "--set", "least=3"); !strings.Contains(
		out,
		"least = 3.00\nrun_date = 2025-04-30\nsite = N\nrun 2: done",
	) {
		t.Error(out)
	}
	if out := must(t, dir, "show", "toll", "--natural", "--columns", "no,site_key,paid", "--set", "site=N", "--format", "csv"); out != "no,site_key,paid\n2,\"A, B!\",1.50\n4,N!,3.50\n" {
		t.Errorf("%q", out)
	}
	t.Setenv("IRONMONGER_SET_site", "A, B")
	t.Setenv("IRONMONGER_SET_other", "of another model")
	if out := must(t, dir, "show", "tolls", "--columns", "no,paid_on", "--format", "csv"); out != "no,paid_on\n2,2025-03-31\n" {
		t.Errorf("%q", out)
	}
	var second struct{ Parameters map[string]string }
	decode(t, must(t, dir, "runs", "2", "--set", "site=N", "--format", "json"), &second)
	if fmt.Sprint(second.Parameters) != "map[least:3.00 run_date:2025-04-30 site:N]" {
		t.Error(second.Parameters)
	}
	must(t, dir, "prove", "--against-sources")
	os.Unsetenv("IRONMONGER_SET_site")
	for _, call := range []string{"strays", "prove", "show toll", "trace toll 4", "trace toll 2"} { // the last run was of site N
		must(t, dir, strings.Fields(call)...)
	}
	if out := must(t, dir, "trace", "toll", "4"); !strings.Contains(out, "tolls-N-2025-04-30.csv:3") {
		t.Error(out)
	}
	for _, c := range []struct {
		call, old, new string
		status         int
		answer         string
	}{
		{"check", "", "", 2, `^ironmonger.yaml:4:3: parameters.site: no value is given, and there is no default: --set site=...\n`},
		{"check --set site=N --set sit=N", "", "", 2, `there is a value for sit, but the model has no such parameter \(did you mean site\?\)`},
		{"check --set site", "", "", 2, `--set site: a parameter is given as name=value`},
		{"check --set site=N --set run_date=soon", "", "", 2, `ironmonger.yaml:5:3: parameters.run_date: soon is not of type date`},
		{"check --set site=../N", "", "", 2, `sources.tolls.read: the value of site cannot be part of a file's name: "../N"`},
		{"check --set site=a/b", "", "", 2, `cannot be part of a file's name`},
		{"check --set site=*", "", "", 2, `cannot be part of a file's name`},
		{"check --set site=N", "default: 1", "default: x", 2, `ironmonger.yaml:10:14: parameters.least: x is not of type decimal\(9,2\)`},
		{"check --set site=N", "-{run_date}", "-{run_day}", 2, `there is no parameter run_day \(did you mean run_date\?\)`},
		{"check --set site=N", "-{run_date}", "-{run_date", 2, `\{ is never closed`},
		{"check --set site=N", "paid >= :least", "paid >= :lest", 2, `^ironmonger.yaml:2\d:23: sources.tolls.require.enough: there is no parameter lest \(did you mean least\?\)`},
		{"check --set site=N", "paid >= :least", "paid >= :site", 2, `cannot compare decimal\(9,2\) with text`},
		{"check --set site=N", "least:\n    type", "least:\n    typ", 2, `no such key: typ \(did you mean type\?\)`},
	} {
		startest.Write(t, dir, "ironmonger.yaml", strings.Replace(model, c.old, c.new, 1))
		out, errs, status := run(t, dir, strings.Fields(c.call)...)
		if status != c.status || !regexp.MustCompile(c.answer).MatchString(out+errs) {
			t.Errorf("%s for %q: status %d\n%s%s\nwant %s", c.call, c.new, status, out, errs, c.answer)
		}
	}
}

// TestMemory loads 350,000 vessels, and as many passages that point to them, with all in memory and with next to
// nothing of it: both stars are right, and the second load takes a fraction of the memory.
func TestMemory(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", `warehouse:
  sqlite: star.db
limits: {unmatched: none}
sources:
  vessels:
    read: vessels.csv
    columns: {reg: text, name: text, class: text, since: date}
  passages:
    read: passages.csv
    columns: {passage: integer, reg: text, at: date}
dimensions:
  vessel:
    from: vessels
    natural_key: reg
    type_1: name
    type_2: class
    effective: since
facts:
  passage:
    from: passages
    grain: passage
    keys:
      vessel:
        by: reg
        as_of: at
`)
	const members = 350_000
	var vessels, passages strings.Builder
	vessels.WriteString("reg,name,class,since\n")
	passages.WriteString("passage,reg,at\n")
	for i := range members {
		fmt.Fprintf(&vessels, "NV-%d,The Grey Heron %d,A,2024-01-%02d\n", i*7919%members, i, 1+i%28)
		fmt.Fprintf(&passages, "%d,NV-%d,2024-02-%02d\n", i, i*101%(members+50), 1+i%28)
	}
	startest.Write(t, dir, "vessels.csv", vessels.String())
	startest.Write(t, dir, "passages.csv", passages.String())
	var peak [2]int
	for n, memory := range []string{"8GiB", "20MB"} {
		os.Remove(filepath.Join(dir, "star.db"))
		cmd := exec.Command(program, "load", "--memory", memory)
		cmd.Dir = dir
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		ended := make(chan error)
		go func() { ended <- cmd.Wait() }()
		for running := true; running; { // what the system says of a process that has ended counts ours, too
			status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid))
			if _, line, ok := strings.Cut(string(status), "VmHWM:"); ok {
				var kB int
				fmt.Sscan(line, &kB)
				peak[n] = max(peak[n], kB/1024)
			}
			select {
			case err := <-ended:
				if running = false; err != nil {
					t.Fatal(err)
				}
			case <-time.After(10 * time.Millisecond):
			}
		}
		must(t, dir, "prove", "--against-sources")
	}
	t.Logf("%d MB in memory, %d MB with parts on disk", peak[0], peak[1])
	if peak[1]*2 > peak[0] {
		t.Errorf("%d MB in memory, and %d MB with parts on disk", peak[0], peak[1])
	}
}
