package strays_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/source"
	"ironmonger/internal/startest"
	"ironmonger/internal/strays"
)

// TestCorrections spoils rows of files, writes out those that were set aside, corrects them, and loads again: the star
// is that of files which were right from the beginning, also where their files are gone by then; it holds against its
// sources, nothing comes twice, and a correction of a row that stands otherwise now is told.
func TestCorrections(t *testing.T) {
	const model = `warehouse: {sqlite: star.db}
limits: {set_aside: none}
sources:
  trips: {read: "in/*%s", corrections: "mended/trips*", columns: {no: integer, boat: text, day: date, note: text, fare: "decimal(7,2)"}%s}
  boats: {read: boats.csv, columns: {code: text}}
dimensions:
  boat: {from: boats, natural_key: code}
  date: {calendar: {from: 2024-01-01, to: 2027-12-31}}
facts:
  trip: {from: trips, grain: no, keys: {boat: {by: boat, unmatched: set_aside}, day: {dimension: date, by: day}}, degenerate: note, measures: fare}
`
	forms := []struct{ end, more, head, row, eol string }{
		{".csv", "", "no,boat,day,note,fare", "%s,%s,%s,\"a, \"\"%s\"\"\",%s", "\n"},
		{".csv", ", csv: {separator: tab, quote: \"'\", encoding: windows-1252}", "no\tboat\tday\tnote\tfare", "%s\t%s\t%s\t'é\t%s'\t%s", "\r\n"},
		{".jsonl", "", "", `{"no": %s, "boat": "%s", "day": "%s", "note": "x %s", "fare": %s}`, "\n"},
		{".csv", ", csv: {header: none, separator: \";\"}", "", "%s;%s;%s;%s;%s", "\n"},
	}
	for seed := range uint64(16) {
		r := rand.New(rand.NewPCG(seed, 3))
		form := forms[seed%uint64(len(forms))]
		spoilt, right := t.TempDir(), t.TempDir()
		mend := map[string]string{} // a spoilt row, and the right one
		for _, dir := range []string{spoilt, right} {
			startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(model, form.end, form.more))
			startest.Write(t, dir, "boats.csv", "code\nA\nB\n")
		}
		encode := func(s string) string {
			if strings.Contains(form.more, "windows") {
				return strings.ReplaceAll(s, "é", "\xe9")
			}
			return s
		}
		for file := range 3 {
			var bad, good []string
			if form.head != "" {
				bad, good = []string{form.head}, []string{form.head}
			}
			for n := range 12 {
				values := []any{fmt.Sprint(file*100 + n), pick(r, "A", "B"), "2026-01-0" + fmt.Sprint(1+r.IntN(9)), fmt.Sprint(n), fmt.Sprintf("%d.50", n)}
				row := fmt.Sprintf(form.row, values...)
				good = append(good, row)
				if at := r.IntN(12); n > 0 && at < 5 && at != 3 { // note can be anything
					values[at] = []any{`"x"`, "Q", "2026-13-01", "", `"9.999"`}[at]
					if form.end == ".csv" && (at == 0 || at == 4) {
						values[at] = pick(r, "many", "1 000.5.5")
					}
					spoilt := fmt.Sprintf(form.row, values...)
					mend[encode(spoilt)] = encode(row)
					row = spoilt
				} else if n > 0 && at == 3 && form.end == ".csv" {
					separator := map[bool]string{true: "\t", false: ","}[strings.Contains(form.more, "tab")]
					if strings.Contains(form.more, "none") {
						separator = ";"
					}
					mend[encode(row+separator+"more")] = encode(row)
					row += separator + "more"
				}
				bad = append(bad, row)
			}
			name := fmt.Sprintf("in/%d%s", file, form.end)
			startest.Write(t, spoilt, name, encode(strings.Join(bad, form.eol)+form.eol))
			startest.Write(t, right, name, encode(strings.Join(good, form.eol)+form.eol))
		}
		loaded := func(dir string) []string {
			t.Helper()
			if _, err := startest.Load(t, dir, load.Options{Piece: 1 + r.IntN(300)}); err != nil {
				t.Fatal(seed, err)
			}
			var facts []string
			for _, row := range startest.Star(t, dir)["fact_trip"] {
				facts = append(facts, fmt.Sprint(row["no"], row["boat_key"], row["day_date_key"], row["note"], row["fare"], row["load_line"]))
			}
			slices.Sort(facts)
			return facts
		}
		want := loaded(right)
		loaded(spoilt)
		root, err := os.OpenRoot(spoilt)
		if err != nil {
			t.Fatal(err)
		}
		defer root.Close()
		db := startest.Open(t, spoilt)
		written, not, err := strays.Write(context.Background(), db, startest.Model(t, spoilt), root, filepath.Join(spoilt, "mended"))
		db.Close()
		if err != nil || len(not) > 0 || len(written) != 1 || written[0].Rows != int64(len(mend)) {
			t.Fatalf("seed %d: %v, %v, %v; %d rows are spoilt", seed, written, not, err, len(mend))
		}
		before := loaded(spoilt) // nothing is corrected yet
		text, err := os.ReadFile(written[0].File)
		if err != nil {
			t.Fatal(err)
		}
		corrected := "\n" + string(text)
		for bad, good := range mend {
			bad, good = "\n"+strings.TrimSuffix(bad, "}"), "\n"+strings.TrimSuffix(good, "}") // an object goes on
			if !strings.Contains(corrected, bad) {
				t.Fatalf("seed %d: %q is not in\n%s", seed, bad, corrected)
			}
			corrected = strings.ReplaceAll(corrected, bad, good)
		}
		startest.Write(t, spoilt, "mended/"+filepath.Base(written[0].File), corrected[1:])
		gone := r.IntN(2) == 0
		if gone { // a file is archived: what waits of it is kept
			os.Remove(filepath.Join(spoilt, "in/0"+form.end))
		}
		if got := loaded(spoilt); !slices.Equal(got, want) || len(before) >= len(want) {
			t.Errorf("seed %d, %s, gone %v:\n%s", seed, form.more, gone, startest.Difference(strings.Join(got, "\n"), strings.Join(want, "\n")))
		}
		if got := loaded(spoilt); !slices.Equal(got, want) || !startest.Proved(t, spoilt) {
			t.Errorf("seed %d: loaded again, or proved, it is another star", seed)
		}
	}
}

func pick(r *rand.Rand, words ...string) string { return words[r.IntN(len(words))] }

// TestCorrectionOfNoRow: a correction is of a row as it stands; of another row at its place it is told, and so is a
// file that is none.
func TestCorrectionOfNoRow(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
sources:
  trips: {read: in.csv, corrections: "mended.csv", columns: {no: integer, tons: integer}}
dimensions:
  date: {calendar: {from: 2024-01-01, to: 2027-12-31}}
facts:
  trip: {from: trips, grain: no, measures: tons}
`)
	startest.Write(t, dir, "in.csv", "no,tons\n1,5\n2,x\n")
	of := fmt.Sprintf("in.csv,3,%s", source.RowMark("2,x"))
	for _, c := range []struct{ in, mended, facts, says string }{
		{"no,tons\n1,5\n2,x\n", "no,tons,of file,of line,of row\n2,7," + of + "\n", "1:5 2:7", ""},
		{"no,tons\n1,5\n2,y\n", "no,tons,of file,of line,of row\n2,7," + of + "\n", "1:5", "a correction is of no row, since that stands otherwise in its file now: mended.csv:2"},
		{"no,tons\n1,5\n2,x\n", "no,tons,of file,of line\n2,7,in.csv,3\n", "", "mended.csv:1: source trips: a file of corrections has the columns of file, of line, of row behind"},
		{"no,tons\n1,5\n2,x\n", "no,tons,of file,of line,of row\n2,7," + of + "\n2,8," + of + "\n", "", "mended.csv:3: source trips: in.csv:3 is corrected at mended.csv:2 already"},
		{"no,tons\n1,5\n2,x\n", "no,tons,of file,of line,of row\n2,7,in.csv,third,q\n", "", "mended.csv:2: source trips: it does not say which row it corrects"},
	} {
		os.Remove(filepath.Join(dir, "star.db"))
		startest.Write(t, dir, "in.csv", c.in)
		startest.Write(t, dir, "mended.csv", c.mended)
		run, err := startest.Load(t, dir, load.Options{})
		said := ""
		if err != nil {
			said = err.Error()
		}
		if run != nil {
			for _, step := range run.Steps {
				said += strings.Join(step.Figures.Notes, "\n")
			}
		}
		var facts []string
		if c.facts != "" {
			for _, row := range startest.Star(t, dir)["fact_trip"] {
				facts = append(facts, row["no"]+":"+row["tons"])
			}
		}
		if !strings.Contains(said, c.says) || c.says == "" && said != "" || strings.Join(facts, " ") != c.facts {
			t.Errorf("%q: %q, %q", c.mended, said, facts)
		}
	}
}
