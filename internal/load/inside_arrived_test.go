package load_test

import (
	"cmp"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"ironmonger/internal/demo"
	"ironmonger/internal/inside"
	"ironmonger/internal/load"
	"ironmonger/internal/rehearse"
	"ironmonger/internal/star"
	"ironmonger/internal/startest"
)

// TestArrived is [TestInside] with rows in files, which are sent to the warehouse: files of earlier loads change, too,
// and come again under other names.
func TestArrived(t *testing.T) { insideCases(t, arrivedTogether(8), onPostgres, 40, 2, 4) }

// TestTrinoArrived is [TestMembersUnion], [TestArrived], [TestInsideUnion] and [TestMembersArrived] in Trino, in turn.
func TestTrinoArrived(t *testing.T) {
	cases := inTurn(membersUnion, arrivedTogether(1), unionTogether(1), membersOfFiles)
	insideCases(t, cases, onTrino, 53, 1, 2)
}

// inFiles has the rows of a clinic in files.
func (c *clinic) inFiles() {
	for _, x := range [][2]string{
		{`(visit\d+s): \{database: w, (table: \S+|query: "[^"]*"),`, `$1: {read: "visits*.csv",`},
		{`tariffs: \{database: w, table: \S+,`, `tariffs: {read: "tariffs*.csv",`},
		{`visit0s, execute: EXECUTE`, `visit0s`}, {`fee = 0`, `fee = '0'`}, {`, order_by: \[[^]]*\]`, ``}, {`, since: no`, ``},
	} {
		c.text = regexp.MustCompile(x[0]).ReplaceAllString(c.text, x[1])
	}
}

// csv writes rows, with a header of the names that columns of a table have.
func csv(columns string, rows [][]string) string {
	var names []string
	for _, m := range regexp.MustCompile(`(\w+) \w+(\([0-9,]+\))?`).FindAllStringSubmatch(columns, -1) {
		names = append(names, m[1])
	}
	text := strings.Join(names, ",") + "\n"
	for _, row := range rows {
		for k, v := range row {
			if strings.ContainsAny(v, ",\" ") {
				v = `"` + v + `"`
			}
			text += v + map[bool]string{true: "\n", false: ","}[k == len(row)-1]
		}
	}
	return text
}

// arrivedTogether is of a clinic with some facts, whose rows are in files.
func arrivedTogether(facts int) randomCase {
	return func(t *testing.T, seed uint64, g *ground, loads int) (read, inside int64) {
		c := newClinic(seed, g.name, facts)
		c.inFiles()
		return c.loadFiles(t, g, loads)
	}
}

// loadFiles loads the model some times, with new files and changed ones.
func (c *clinic) loadFiles(t *testing.T, g *ground, loads int) (read, inside int64) {
	dirs := g.stars(t, c.text, "wards.csv", "code,at\nW1,one\nW2,two\nW3,three\n")
	write := func(name, text string, n int) {
		for _, dir := range dirs {
			startest.WriteOld(t, dir, name, text, n)
		}
	}
	var visits [][][]string // of each file
	var was []moment
	for n := range loads {
		var rows [][]string
		for range 5 + c.r.IntN(60) {
			rows = append(rows, c.row())
		}
		switch visits = append(visits, rows); c.r.IntN(5) {
		case 2: // rows are gone from one
			of := &visits[c.r.IntN(len(visits))]
			*of = (*of)[len(*of)/3:]
		case 0: // an earlier file changes
			of := visits[c.r.IntN(len(visits))]
			for k := range of {
				if c.r.IntN(3) == 0 {
					of[k][5] = "7.25"
				}
			}
		case 1: // rows come again in a new file, in another order
			visits = append(visits, append(rows[len(rows)/2:len(rows):len(rows)], rows[:len(rows)/3]...))
		}
		for k, of := range visits {
			write(fmt.Sprintf("visits%d.csv", len(visits)-k), csv(c.visits(), of), n)
		}
		write(fmt.Sprintf("tariffs%d.csv", n), csv(tariff, c.tariffs(n)), n)
		write(fmt.Sprintf("doctors%d.csv", n), fmt.Sprintf("code,line,grade,since\nd1,a,%d,2024-0%d-01\nD2,b,1,2023-05-01\nd%d ,c,2,2024-06-15\n", n, n+1, n+2), n)
		all, by := loadBoth(t, dirs, "fact visit", n, c.text)
		read, inside = read+all, inside+by
		was = append(was, momentOf(t, dirs[0], int64(n+1)))
	}
	endAlike(t, dirs, c.text, was...)
	return read, inside
}

// TestDemoInside loads the example into two stars, in one of which the warehouse loads all facts that it can; then once
// more with changed files. They are the same, and when the last load is taken back, too.
func TestDemoInside(t *testing.T) {
	g := onPostgres(t)
	var dirs []string
	for k := range 2 {
		dir := filepath.Join(t.TempDir(), "canal")
		if err := demo.Write(dir, 1500); err != nil {
			t.Fatal(err)
		}
		old := time.Now().Add(-time.Hour)
		err := filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error { return cmp.Or(err, os.Chtimes(path, old, old)) })
		if err != nil {
			t.Fatal(err)
		}
		text, err := os.ReadFile(filepath.Join(dir, "ironmonger.yaml"))
		if err != nil {
			t.Fatal(err)
		}
		place, _, _ := strings.Cut(g.model[k], "\n")
		model := strings.Replace(string(text), "warehouse:\n  sqlite: canal.db", place, 1)
		startest.Write(t, dir, "ironmonger.yaml", model)
		if dirs = append(dirs, dir); k == 0 {
			continue
		}
		m := startest.Model(t, dir)
		before, facts, _ := strings.Cut(model, "\nfacts:\n")
		for _, f := range m.Facts {
			if inside.Check(m, f) == nil {
				begins := regexp.MustCompile("(?m)^  " + f.Text + ":.*\n")
				facts = begins.ReplaceAllString(facts, "$0    execute: in_warehouse\n")
			}
		}
		if n := strings.Count(facts, "execute: in_warehouse"); n < 5 {
			t.Errorf("the warehouse can load only %d facts", n)
		}
		startest.Write(t, dir, "ironmonger.yaml", before+"\nfacts:\n"+facts)
	}
	rehearsed(t, dirs[1])
	for n := range 2 {
		all, by := loadBoth(t, dirs, "fact passage", n, "the example")
		if by*2 < all {
			t.Errorf("load %d: of %d passages, the warehouse loaded %d", n, all, by)
		}
		for _, dir := range dirs {
			changePassages(t, dir, n)
		}
	}
	endAlike(t, dirs, "the example")
}

// rehearsed checks the worked examples of a model, which are loaded into another warehouse, that runs no statements.
func rehearsed(t *testing.T, dir string) {
	m := startest.Model(t, dir)
	examples, err := star.ReadExamples(filepath.Join(dir, "ironmonger.examples.yaml"), m)
	if err != nil || len(examples) == 0 {
		t.Fatalf("%d examples: %v", len(examples), err)
	}
	for _, e := range examples {
		if r, err := rehearse.Run(t.Context(), m, e); err != nil || len(r.Differences) > 0 {
			t.Errorf("the example %s: %v, %v", e.Text, r, err)
		}
	}
}

// changePassages has some passages in other words, takes some away and adds some.
func changePassages(t *testing.T, dir string, n int) {
	names, err := filepath.Glob(filepath.Join(dir, "passages", "*.csv"))
	if err != nil || len(names) < 3 {
		t.Fatal(names, err)
	}
	for k, name := range names[:3] {
		content, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		lines := strings.SplitAfter(string(content), "\n")
		for i := 1; i < len(lines); i++ {
			switch (i + k) % 7 {
			case 0:
				lines[i] = strings.Replace(lines[i], "L0", "L9", 1)
			case 1:
				lines[i] = ""
			}
		}
		startest.WriteOld(t, dir, filepath.Join("passages", filepath.Base(name)), strings.Join(lines, ""), n+1)
	}
}

// TestInsideMoving loads a fact from a table that gets rows while it is read: a function that gives another row of the
// same grain from some call on.
func TestInsideMoving(t *testing.T) {
	for k := range 10 {
		calls, order := k/2, []string{"fee", "[no, fee]"}[k%2]
		g := onPostgres(t)
		dir := t.TempDir()
		g.exec(fmt.Sprintf("CREATE SEQUENCE %s.calls MINVALUE 0", g.name))
		g.exec(fmt.Sprintf(`CREATE FUNCTION %[1]s.visits() RETURNS TABLE (no int, fee numeric(7,2)) LANGUAGE plpgsql VOLATILE AS $f$ BEGIN
			RETURN QUERY SELECT 1, 5.00; IF nextval('%[1]s.calls') >= %[2]d THEN RETURN QUERY SELECT 1, 7.00; END IF; END $f$`, g.name, calls))
		startest.Write(t, dir, "ironmonger.yaml", g.model[1]+`
limits: {set_aside: none}
sources: {visits: {database: w, query: "select * from `+g.name+`.visits()", order_by: `+order+`, columns: {no: integer, fee: "decimal(7,2)"}}}
dimensions: {size: {combinations: {fee: "decimal(7,2)"}}}
facts: {visit: {from: visits, execute: in_warehouse, grain: no, keys: {size: fee}, measures: fee, repeated: keep}}
`)
		run, err := startest.Load(t, dir, load.Options{})
		if err != nil {
			t.Fatalf("%d calls, by %s: %v: %+v", calls, order, err, run)
		}
		f := run.Steps[1].Figures
		if f.Inserted != 1 || f.Kept != f.Read-1 || f.Totals[0].Table != "5.00" {
			t.Errorf("%d calls, by %s: %+v", calls, order, f)
		}
	}
}
