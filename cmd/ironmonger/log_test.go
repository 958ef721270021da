package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"ironmonger/internal/demo"
	"ironmonger/internal/startest"
)

// TestLog: each line of the log is a record, which has what the result has; the figures for collectors are those of the
// result, also of a load that failed; and neither has the value of a secret.
func TestLog(t *testing.T) {
	dir := t.TempDir()
	if err := demo.Write(dir, 200); err != nil {
		t.Fatal(err)
	}
	model := readFile(t, dir, "ironmonger.yaml")
	model = strings.Replace(model, "sources:\n", "parameters:\n  word: {type: secret}\n"+
		"notify:\n  on_call: {command: [sh, -c, cat > told.json]}\n  all_well: {when: done, command: [sh, -c, cat > well.json]}\nsources:\n", 1)
	model = strings.Replace(model, "    grain: [hazard, month]\n", "    grain: [hazard, month]\n    must_hold: {there are quotas: {at_least: 50, in_load: stop}}\n", 1)
	startest.Write(t, dir, "ironmonger.yaml", model)
	t.Setenv("CREDENTIALS_DIRECTORY", t.TempDir())
	startest.Write(t, os.Getenv("CREDENTIALS_DIRECTORY"), "word", "hush-hush\n")
	if _, errs, status := run(t, dir, "load", "--set", "word=hush-hush"); status != 2 || strings.Contains(errs, "hush-hush") || !strings.Contains(errs, "--set word: it is a secret") {
		t.Errorf("a secret in the call: %d %s", status, errs)
	}
	out, errs, status := run(t, dir, "load", "--format", "json", "--log", "json", "--metrics", "figures.prom")
	if status != 1 || strings.Contains(errs, "hush-hush") {
		t.Fatalf("%d %s", status, errs)
	}
	var entry struct {
		Run   int64
		Steps []struct {
			Step, State string
			Figures     struct{ Read, Inserted int64 }
		}
	}
	decode(t, out, &entry)
	read, begun, warned := map[string]float64{}, 0, 0
	last := ""
	for line := range strings.Lines(errs) {
		var x map[string]any
		if err := json.Unmarshal([]byte(line), &x); err != nil {
			t.Fatalf("%v: %s", err, line)
		}
		last = x["msg"].(string) + " " + x["level"].(string)
		switch x["msg"] {
		case "step begins":
			begun++
		case "step ends":
			read[x["step"].(string)+" "+x["state"].(string)] = x["read"].(float64)
		case "rows set aside":
			warned++
		}
	}
	if begun != 21 || len(read) != 21 || warned == 0 || last != "load ends ERROR" {
		t.Errorf("%d steps begin, %d end, %d warnings, and in the end %s", begun, len(read), warned, last)
	}
	figures := readFile(t, dir, "figures.prom")
	for line := range strings.Lines(figures) {
		if !regexp.MustCompile(`^(# (HELP|TYPE) ironmonger_[a-z_]+ .+|ironmonger_[a-z_]+(\{step="[a-z_ ]+"(,outcome="[a-z_]+")?\})? [0-9.e+-]+)\n$`).MatchString(line) {
			t.Errorf("not in the format: %q", line)
		}
	}
	for _, s := range entry.Steps {
		if n, ok := read[s.Step+" "+s.State]; !ok || int64(n) != s.Figures.Read {
			t.Errorf("the log says of %s %s: %v", s.Step, s.State, n)
		}
		done := map[bool]string{true: "1", false: "0"}[s.State == "done"]
		if !strings.Contains(figures, `ironmonger_step_done{step="`+s.Step+`"} `+done+"\n") {
			t.Errorf("%s is not %s in the figures", s.Step, done)
		}
	}
	if !strings.Contains(figures, "ironmonger_load_done 0\n") || !strings.Contains(figures, `ironmonger_step_rows{step="fact passage",outcome="read"} 200`+"\n") {
		t.Error(figures)
	}
	var told struct {
		Ends []string
		Run  struct{ State string }
	}
	decode(t, readFile(t, dir, "told.json"), &told)
	if strings.Join(told.Ends, " ") != "failed set_aside" || told.Run.State != "failed" {
		t.Errorf("told is %+v", told)
	}
	if _, err := os.Stat(filepath.Join(dir, "well.json")); err == nil {
		t.Error("it is told that all is well")
	}
	if left, _ := filepath.Glob(filepath.Join(dir, "figures.prom.*")); len(left) > 0 {
		t.Error(left)
	}
	os.Remove(filepath.Join(dir, "quotas.csv"))
	if _, errs, status := run(t, dir, "load", "--log", "text"); status == 0 || !strings.Contains(errs, "quotas.csv") {
		t.Errorf("a load that does not begin: %d %s", status, errs)
	}
}
