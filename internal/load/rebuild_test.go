package load_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironmonger/internal/erase"
	"ironmonger/internal/load"
	"ironmonger/internal/schema"
	"ironmonger/internal/startest"
	"ironmonger/internal/trace"
)

const rebuiltModel = `warehouse: {sqlite: star.db}
sources:
  passages: {read: "p/*", columns: {no: integer, boat: text, day: date, toll: "decimal(9,2)"}}
  boats: {read: "b/*", columns: {boat: text, owner: text, class: text, since: date}}
  last_paid: {from: passages, distinct: {by: boat, keep: last}}
dimensions:
  boat: {from: boats, natural_key: boat, type_1: owner, type_2: class, effective: since, personal: owner, durable_key: kept}
  payer: {from: passages, natural_key: boat, type_1: toll}
  paid: {from: last_paid, natural_key: boat, type_1: toll, effective: day}
facts:
  passage:
    from: passages
    grain: no
    keys: {boat: {by: boat, as_of: day}}
    measures: toll
    repeated: set_aside
`

// TestRebuild: the star is made anew from the files that are there, in the order in which they came, with the keys that
// members had; what was erased stays blank; and where that cannot be, everything stays as it was.
func TestRebuild(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", rebuiltModel)
	loads := func(opts load.Options) (string, error) {
		t.Helper()
		run, err := startest.Load(t, dir, opts)
		for _, s := range run.Steps {
			if s.Message != "" && !opts.Anew {
				t.Error(s.Message)
			}
		}
		return startest.Dump(t, dir, "load_run"), err
	}
	const passages = "no,boat,day,toll\n"
	startest.Write(t, dir, "p/b.csv", passages+"1,B,2024-01-03,1.00\n2,A,2024-01-03,2.00\n3,C,2024-01-03,3.00\n")
	startest.Write(t, dir, "b/1.csv", "boat,owner,class,since\nA,Ann,x,2024-01-01\nA,Ann,y,2024-01-03\nB,Bob,x,2024-01-01\n")
	if _, err := loads(load.Options{}); err != nil {
		t.Fatal(err)
	}
	startest.Write(t, dir, "p/a.csv", passages+"1,B,2024-01-03,9.00\n4,A,2024-01-02,4.00\n") // 1 is there already
	startest.Write(t, dir, "b/0.csv", "boat,owner,class,since\nC,Cid,x,2024-01-02\nB,Bob,z,2024-01-02\n")
	if _, err := loads(load.Options{}); err != nil {
		t.Fatal(err)
	}
	eraseBoat(t, dir, "B")
	before := startest.Dump(t, dir, "load_run")
	if after, err := loads(load.Options{Anew: true, Dry: true}); err != nil || after != before {
		t.Errorf("%v: a dry run has changed the star:\n%s", err, startest.Difference(before, after))
	}
	if after, err := loads(load.Options{Anew: true}); err != nil || after != before {
		t.Errorf("%v: made anew, the star is another:\n%s", err, startest.Difference(before, after))
	}
	if strings.Contains(before, "Bob") || !startest.Proved(t, dir) {
		t.Error("the star is not what it has to be:\n", before)
	}
	once := startest.Dump(t, dir)
	refused := func(want string, opts load.Options) {
		t.Helper()
		opts.Anew = true
		run, err := startest.Load(t, dir, opts)
		said := ""
		for _, s := range run.Steps {
			said += s.Message + "\n"
		}
		if err == nil || !strings.Contains(err.Error()+"\n"+said, want) {
			t.Errorf("%v: %s", err, said)
		}
		if now := startest.Dump(t, dir); now != once {
			t.Errorf("something has changed:\n%s", startest.Difference(once, now))
		}
	}
	move := func(from, to string) {
		t.Helper()
		if err := os.Rename(filepath.Join(dir, from), filepath.Join(dir, to)); err != nil {
			t.Fatal(err)
		}
	}
	move("b/0.csv", "0.csv")
	refused("not made anew: rows came from what is not read any more: 2 versions of members of dimension boat", load.Options{})
	move("0.csv", "b/0.csv")
	move("p/b.csv", "b.csv")
	refused("not made anew: rows came from what is not read any more: p/b.csv of fact passage (3 rows)", load.Options{})
	startest.Write(t, dir, "p/c.csv", passages+strings.Repeat("5,,x,\n", 200))
	refused("more than", load.Options{Without: true}) // a step stops
	os.Remove(filepath.Join(dir, "p/c.csv"))
	if !startest.Proved(t, dir) {
		t.Error("the star is broken")
	}
	startest.Write(t, dir, "b/0.csv", "boat,owner,class,since\nC,Cid,x,2024-01-02\n")
	if after, err := loads(load.Options{Anew: true, Without: true}); err != nil ||
		strings.Count(after, "fact_passage:") != 2 || strings.Contains(after, "class=z") || !startest.Proved(t, dir) {
		t.Errorf("%v\n%s", err, after)
	}
	// a model of other columns
	startest.Write(t, dir, "ironmonger.yaml", strings.NewReplacer("grain: no", "grain: [no, day]", "decimal(9,2)", "decimal(12,3)").Replace(rebuiltModel))
	if run, err := startest.Load(t, dir, load.Options{}); err == nil {
		t.Errorf("%+v", run)
	}
	if after, err := loads(load.Options{Anew: true}); err != nil || !strings.Contains(after, "toll=9.000") || !startest.Proved(t, dir) {
		t.Errorf("%v\n%s", err, after)
	}
}

func eraseBoat(t *testing.T, dir, boat string) {
	t.Helper()
	m, wh := startest.Model(t, dir), startest.Open(t, dir)
	defer wh.Close()
	d := schema.New(m).Dimensions[0]
	key, err := trace.Typed(d.NaturalKey, []string{boat}, "the natural key")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := erase.Run(t.Context(), wh, d, key, false); err != nil {
		t.Fatal(err)
	}
}
