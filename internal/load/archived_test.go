package load_test

import (
	"compress/gzip"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

const archivedModel = `warehouse: {sqlite: star.db}
limits: {unmatched: none, set_aside: none, gone: none}
sources:
  boats: {read: boats/*, columns: {no: integer, name: text, class: text, basin: text, since: date}}
dimensions:
  versioned: {from: boats, natural_key: no, type_1: name, type_2: [class, basin], effective: since}
  timed: {from: boats, natural_key: no, type_1: [name, class, basin], effective: since}
  past: {from: boats, natural_key: no, type_1: name, type_2: class, type_3: basin, effective: since}
`

// TestArchived holds dimensions of which old files are archived or compressed between loads against ones whose
// files all stay: rows of one effective time differ all the time, and which of them counts must be the same (rules
// R8 and R11).
func TestArchived(t *testing.T) {
	cases := 12
	if n, err := strconv.Atoi(os.Getenv("IRONMONGER_HUNT")); err == nil {
		cases = n / 5 // they take longer than others
	}
	for seed := range uint64(cases) {
		if !t.Run(fmt.Sprint(seed), func(t *testing.T) { archivedCase(t, seed) }) {
			return
		}
	}
}

func archivedCase(t *testing.T, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 23))
	ways := []load.Options{
		{Workers: 2, Piece: 64},
		{Workers: 2, Opening: load.ByKeys},
		{Workers: 2, Opening: load.Spilled},
		{Workers: 2, Opening: load.Whole, Memory: 12_000},
	}
	stays, goes := t.TempDir(), t.TempDir()
	for _, dir := range []string{stays, goes} {
		startest.Write(t, dir, "ironmonger.yaml", archivedModel)
	}
	apart := []string{"load_run", "versioned_key", "timed_key", "past_key"} // keys depend on which rows a load meets
	story := ""
	for n := range 5 {
		for _, old := range glob(goes) {
			switch r.IntN(4) {
			case 0:
				story += "archive " + filepath.Base(old) + "\n"
				os.Remove(old)
			case 1:
				story += "compress " + filepath.Base(old) + "\n"
				compress(t, old)
			}
		}
		for k := range 1 + r.IntN(2) {
			var b strings.Builder
			b.WriteString("no,name,class,basin,since\n")
			for range 1 + r.IntN(5) {
				fmt.Fprintf(
					&b,
					"%d,%s,%s,%s,2024-01-0%d\n",
					1+r.IntN(2),
					pick(r, "x", "y"),
					pick(r, "A", "B"),
					pick(r, "e", "w"),
					1+r.IntN(2),
				)
			}
			name := fmt.Sprintf("boats/%d-%d.csv", n, k)
			story += name + "\n" + b.String()
			startest.Write(t, stays, name, b.String())
			startest.Write(t, goes, name, b.String())
		}
		story += "load\n"
		for again := range 1 + r.IntN(2) {
			for _, dir := range []string{stays, goes} {
				if _, err := startest.Load(t, dir, ways[(int(seed)+n+again)%len(ways)]); err != nil {
					t.Fatal(err)
				}
			}
			if a, b := startest.Dump(t, stays, apart...), startest.Dump(t, goes, apart...); a != b {
				t.Fatalf("archiving files has changed history:\n%s\n%s", startest.Difference(a, b), story)
			}
		}
	}
}

func glob(dir string) []string {
	files, _ := filepath.Glob(dir + "/boats/*")
	return files
}

// compress puts a compressed file in place of a plain one.
func compress(t *testing.T, path string) {
	text, err := os.ReadFile(path)
	if err != nil || strings.HasSuffix(path, ".gz") {
		return
	}
	f, err := os.Create(path + ".gz")
	if err != nil {
		t.Fatal(err)
	}
	z := gzip.NewWriter(f)
	z.Write(text)
	z.Close()
	f.Close()
	os.Remove(path)
}
