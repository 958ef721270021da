package demo

import (
	"encoding/csv"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func read(t *testing.T, dir, name string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// TestTrouble: the example is the same each time, and has the trouble that it promises, at its usual size
// and at others.
func TestTrouble(t *testing.T) {
	for _, passages := range []int{60, Passages, 20_000} {
		dir, twin := t.TempDir(), t.TempDir()
		for _, d := range []string{dir, twin} {
			if err := Write(d, passages); err != nil {
				t.Fatal(err)
			}
		}
		for _, name := range []string{"register/2023.csv", "register/2025.csv", "passages/2025-02.csv", "locks.csv", "staff.db", "works/tide/2025.jsonl", "gauges/2025-02.parquet", "ironmonger.yaml"} {
			if read(t, dir, name) != read(t, twin, name) {
				t.Errorf("%s is not the same twice", name)
			}
		}
		if err := Write(dir, passages); err == nil || !strings.Contains(err.Error(), "already has") {
			t.Error("a second example in one folder:", err)
		}
		if !strings.HasPrefix(read(t, dir, "register/2023.csv"), "\ufeff") ||
			!strings.Contains(read(t, dir, "passages/2025-02.csv"), "\r\n") {
			t.Error("no byte order mark, or no CRLF")
		}
		registers := map[string]map[string]bool{}
		for _, year := range []string{"2023", "2024", "2025"} {
			for _, r := range records(t, read(t, dir, "register/"+year+".csv")) {
				if registers[r[1]] == nil {
					registers[r[1]] = map[string]bool{}
				}
				registers[r[1]][r[0]] = true
			}
		}
		both := 0
		for _, by := range registers {
			both += len(by) / 2
		}
		var all [][]string
		for _, month := range []string{"01", "02", "03"} {
			all = append(all, records(t, read(t, dir, "passages/2025-"+month+".csv"))...)
		}
		if len(all) < passages*9/10 || both == 0 {
			t.Errorf("%d passages, %d numbers in both registers", len(all), both)
		}
		if passages < Passages {
			continue
		}
		count := func(f func(r []string) bool) (n int) {
			for _, r := range all {
				if f(r) {
					n++
				}
			}
			return
		}
		seen := map[string][]string{}
		for what, n := range map[string]int{
			"unknown vessel":  count(func(r []string) bool { return registers[r[2]] == nil }),
			"unknown lock":    count(func(r []string) bool { return r[3] == "L99" }),
			"trailing blank":  count(func(r []string) bool { return strings.HasSuffix(r[4], " ") }),
			"zero in front":   count(func(r []string) bool { return strings.HasPrefix(r[5], "0") }),
			"no keeper":       count(func(r []string) bool { return r[5] == "" }),
			"no time":         count(func(r []string) bool { return r[7] == "" }),
			"not settled":     count(func(r []string) bool { return r[8] == "" }),
			"negative":        count(func(r []string) bool { return strings.HasPrefix(r[9], "-") }),
			"comma in quotes": count(func(r []string) bool { return strings.Contains(r[13], ", then") }),
			"doubled quotes":  count(func(r []string) bool { return strings.Contains(r[13], `"no draught"`) }),
			"twice, equal": count(func(r []string) bool {
				before := seen[r[0]]
				seen[r[0]] = r
				return before != nil && slices.Equal(before[:13], r[:13])
			}),
		} {
			if n == 0 {
				t.Errorf("%d passages: no row with: %s", passages, what)
			}
		}
	}
}

func records(t *testing.T, text string) [][]string {
	t.Helper()
	list, err := csv.NewReader(strings.NewReader(strings.TrimPrefix(text, "\ufeff"))).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	return list[1:]
}
