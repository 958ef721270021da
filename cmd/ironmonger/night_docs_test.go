package main

import (
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"ironmonger/internal/demo"
	"ironmonger/internal/startest"
)

// TestNightDocs follows the page of docs/every-night.md: its calls are made on the demo, its line of cron and its units
// are run or verified, and its pieces of models are read.
func TestNightDocs(t *testing.T) {
	page := readFile(t, "../../docs", "every-night.md")
	dir := t.TempDir()
	if err := demo.Write(dir, 60); err != nil {
		t.Fatal(err)
	}
	model := readFile(t, dir, "ironmonger.yaml")
	startest.Write(t, dir, "ironmonger.yaml", strings.Replace(model, "warehouse:\n  sqlite: canal.db\n",
		"warehouse: development\nwarehouses:\n  development: {sqlite: canal.db}\n  production: {sqlite: production.db}\n", 1))
	t.Run("cron", func(t *testing.T) {
		line := regexp.MustCompile("`30 2 \\* \\* \\* (.*?)`").FindStringSubmatch(page)
		if line == nil {
			t.Fatal("the page has no line of cron")
		}
		call := strings.NewReplacer("/srv/canal", dir, "/usr/local/bin/ironmonger", program).Replace(line[1])
		if out, err := exec.Command("sh", "-c", call).CombinedOutput(); err != nil || len(out) > 0 {
			t.Fatalf("%s: %v\n%s", call, err, out)
		}
		if log := readFile(t, dir, "load.log"); !strings.Contains(log, `msg="load ends"`) {
			t.Error(log)
		}
	})
	t.Run("calls", func(t *testing.T) {
		must(t, dir, "load")
		must(t, dir, "load")
		calls := regexp.MustCompile("`ironmonger ([^`]*)`").FindAllStringSubmatch(page, -1)
		for _, m := range append(calls, []string{"", strings.Split(strings.SplitAfter(page, "```\nironmonger ")[1], "\n")[0]}) {
			call := strings.NewReplacer("SOURCE", "passages", "NAME", "passage", "NUMBER", "1", "15", "2", "14", "1",
				"--model /srv/canal/ironmonger.yaml", "", "/var/lib/node_exporter", dir, "copy --into production", "copy --into production --help").Replace(m[1])
			if out, errs, status := run(t, dir, strings.Fields(call)...); status != 0 {
				t.Errorf("%s: status %d\n%s%s", call, status, out, errs)
			}
		}
	})
	t.Run("models", func(t *testing.T) {
		pieces := regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllStringSubmatch(page, -1)
		if len(pieces) < 4 {
			t.Fatal(pieces)
		}
		for _, piece := range pieces {
			text := model
			if strings.Contains(piece[1], "warehouse:") {
				text = strings.Replace(text, "warehouse:\n  sqlite: canal.db\n", "", 1)
			}
			if before, facts, ok := strings.Cut(piece[1], "facts:\n  passage:\n"); ok {
				text = strings.Replace(text, "facts:\n  passage:\n", "facts:\n  passage:\n"+facts, 1)
				piece[1] = before
			}
			of := t.TempDir()
			startest.Write(t, of, "ironmonger.yaml", piece[1]+text)
			if _, errs, status := run(t, of, "order"); status != 0 {
				t.Errorf("%s\n%s", piece[1], errs)
			}
		}
	})
	t.Run("units", func(t *testing.T) {
		of := t.TempDir()
		var units []string
		for _, m := range regexp.MustCompile("(?s)```ini\n# /etc/systemd/system/(\\S+)\n(.*?)```").FindAllStringSubmatch(page, -1) {
			text := strings.NewReplacer("/usr/local/bin/ironmonger", program, "WorkingDirectory=/srv/canal", "WorkingDirectory="+dir, "User=canal\n", "").Replace(m[2])
			for line := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
				if line != "" && !regexp.MustCompile(`^(\[[A-Z][a-z]+\]|[A-Z][A-Za-z]+=.+)$`).MatchString(line) {
					t.Errorf("%s: not a line of a unit: %s", m[1], line)
				}
			}
			startest.Write(t, of, m[1], text)
			units = append(units, filepath.Join(of, m[1]))
		}
		if len(units) != 2 {
			t.Fatal(units)
		}
		if verify, err := exec.LookPath("systemd-analyze"); err == nil {
			if out, err := exec.Command(verify, append([]string{"verify"}, units...)...).CombinedOutput(); err != nil || len(out) > 0 {
				t.Errorf("%v\n%s", err, out)
			}
		} else {
			t.Log("systemd is not installed, so the units were only read")
		}
	})
}
