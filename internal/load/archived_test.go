package load_test

import (
	"compress/gzip"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
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
	for seed := range uint64(startest.Runs(6)) {
		if !t.Run(fmt.Sprint(seed), func(t *testing.T) { archivedCase(t, seed) }) {
			return
		}
	}
}

func archivedCase(t *testing.T, seed uint64) {
	settled(t, seed)
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

// TestBackInFile corrects a row that has lost, once the file of the winner is archived, and takes the correction back:
// what comes back is news.
func TestBackInFile(t *testing.T) {
	const head = "no,name,class,basin,since\n"
	const loses, wins = "1,x,A,e,2024-01-01\n", "1,y,B,w,2024-01-01\n"
	for n, way := range []load.Options{{}, {Opening: load.ByKeys}, {Opening: load.Spilled}} {
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", archivedModel)
		loaded := func(old, new string) string {
			t.Helper()
			os.Remove(filepath.Join(dir, "boats/2.csv"))
			startest.Write(t, dir, "boats/1.csv", head+old)
			if new != "" {
				startest.Write(t, dir, "boats/2.csv", head+new)
			}
			if _, err := startest.Load(t, dir, way); err != nil {
				t.Fatal(err)
			}
			return startest.Dump(t, dir, "load_run", "versioned_key", "timed_key", "past_key", "current_hash")
		}
		won, again := loaded(loses, wins), loaded(loses, "")
		if won != again {
			t.Errorf(
				"%d: a row that has lost counts, since the winner is archived:\n%s",
				n,
				startest.Difference(won, again),
			)
		}
		loaded("1,z,C,e,2024-01-01\n", "")
		back := loaded(loses, "")
		if still := loaded(loses, ""); back != still {
			t.Errorf("%d: the row is not known after a load:\n%s", n, startest.Difference(back, still))
		}
		for _, want := range []string{"x", "A"} {
			if !strings.Contains(back, want) {
				t.Errorf("%d: %q is not in\n%s", n, want, back)
			}
		}
	}
}
