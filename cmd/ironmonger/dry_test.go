package main

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"ironmonger/internal/startest"
)

// TestDryRun: it says what the load behind it does, to the last figure, and writes nothing; nor where it fails.
func TestDryRun(t *testing.T) {
	warehouses(t, "600", func(t *testing.T, demo string, empty func()) {
		empty()
		// times aside, and the fields that say that it was dry
		told := func(out string) string {
			steps := figures(t, out)
			for _, step := range steps {
				delete(step, "waited_ms")
			}
			return fmt.Sprint(steps)
		}
		temporary := t.TempDir()
		t.Setenv("TMPDIR", temporary)
		compare := func() {
			t.Helper()
			pretended := must(t, demo, "load", "--dry-run", "--format", "json")
			if !strings.Contains(pretended, `"dry_run": true`) {
				t.Error(pretended)
			}
			if said, done := told(pretended), told(must(t, demo, "load", "--format", "json")); said != done {
				t.Errorf("the dry run says\n%s\nand the load\n%s", said, done)
			}
		}
		compare() // into nothing
		dump := startest.Dump(t, demo)
		startest.Write(
			t,
			demo,
			"register/2026.csv",
			"registry,vessel_reg,name,licence_class,home_basin,draught_cm,changed_on\nN,XV-00001,Late Heron,A,Millpool,120,2024-06-01\nN,NV-00001,Grey Otter,D,Greenquay,99,2024-03-03\n",
		)
		out := must(t, demo, "load", "--dry-run")
		for _, line := range []string{`\nchange +vessel`, `\nread, and leave as they are +(.*, )?keeper,`, `\n(read, and leave as they are|not read, since no file has changed) +(.*, )?lock,`} {
			if !regexp.MustCompile(line).MatchString(out) {
				t.Errorf("not foretold: %s\n%s", line, out)
			}
		}
		if !strings.Contains(out, "dry run: done") || startest.Dump(t, demo) != dump {
			t.Errorf("%s\nor something was written", out)
		}
		right, err := os.ReadFile(filepath.Join(demo, "cargoes.csv"))
		if err != nil {
			t.Fatal(err)
		}
		startest.Write(t, demo, "cargoes.csv", string(right)+"C99,\"never closed\n")
		if out, _, status := run(t, demo, "load", "--dry-run"); status != 1 ||
			!strings.Contains(out, "dimension cargo: failed: cargoes.csv:") ||
			startest.Dump(t, demo) != dump {
			t.Errorf("%d: %s\nor something was written", status, out)
		}
		startest.Write(t, demo, "cargoes.csv", string(right))
		compare() // into a star, with late changes
		if left, _ := os.ReadDir(temporary); len(left) > 0 {
			t.Errorf("%v is left behind", left)
		}
	})
}
