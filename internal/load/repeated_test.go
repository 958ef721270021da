package load_test

import (
	"cmp"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

const repeatedModel = `warehouse: {%s}
limits: {unmatched: none, set_aside: none, gone: none}
sources:
  passages:
    read: p/*
    columns: {no: integer, boat: text, day: date, toll: "decimal(9,2)", told: integer}
  boats: {read: boats.csv, columns: {boat: text, class: text, since: date}}
dimensions:
  boat: {from: boats, natural_key: boat, type_2: class, effective: since}
facts:
  passage:
    from: passages
    grain: %s
    keys: {boat: {by: boat, as_of: day, unmatched: %s}}
    measures: toll
    degenerate: [no, told]
    repeated: %s
`

// passage is a row as a test makes it up, and where it is.
type passage struct {
	no, told int
	boat     string
	toll     int
	day      int
}

func (p passage) String() string {
	toll := fmt.Sprintf("%d.00", p.toll)
	if p.toll == 0 {
		toll = "much" // which sets the row aside
	}
	return fmt.Sprintf("%d,%s,2024-01-0%d,%s,%d", p.no, p.boat, p.day, toll, p.told)
}

// arrival is the fact of a grain by a restatement of rule R17.
type arrival struct {
	passage
	file int  // when its file came
	line int  // where it stands there
	left bool // in a file that is not there any more
}

// repeatedFacts restates what stands: a load at a time, all rows of all files that are there.
type repeatedFacts struct {
	grain   func(passage) string
	rule    string
	byTold  bool
	arrived map[string]int
	came    int // how many files have
	content map[string][]passage
	before  map[string][]passage // the files of the last load
	was     map[string]int       // when they came
	waits   map[string][]arrival // rows of files that are not there any more, which may pass later
	facts   map[string]arrival
	known   string // the boats of which rows are not set aside; all if that is empty
	knew    string // and were in the last load
	unknown string // boats that are not known yet, so that facts point to no boat
}

// take takes a load: files by name, compressed ones without what compression adds.
func (r *repeatedFacts) take(files map[string][]passage) {
	names := slices.Sorted(maps.Keys(files))
	if r.rule == "replace" {
		r.move(files)
	}
	for _, name := range names {
		if _, ok := r.arrived[name]; !ok {
			r.came++
			r.arrived[name] = r.came
		}
	}
	last := map[string]arrival{}
	rows := r.rows(files)
	for _, name := range slices.Sorted(maps.Keys(rows)) {
		for _, s := range rows[name] {
			if r.aside(s.passage) {
				continue
			}
			g := r.grain(s.passage)
			was, ok := last[g]
			if r.rule == "keep" && ok || ok && r.rank(s, was) < 0 {
				continue
			}
			last[g] = s
		}
	}
	for g, s := range last {
		was, ok := r.facts[g]
		switch {
		case ok && (was.passage == s.passage || r.rule == "keep" || r.rank(s, was) < 0):
		default:
			r.facts[g] = s
		}
	}
}

// aside reports whether a row is set aside.
func (r *repeatedFacts) aside(p passage) bool {
	return p.toll == 0 || r.known != "" && !strings.Contains(r.known, p.boat)
}

// rows returns the rows of a load: those of its files, and those that wait of files that are not there any more, unless
// they stand in a file that is new or has changed.
func (r *repeatedFacts) rows(files map[string][]passage) map[string][]arrival {
	rows, moved := map[string][]arrival{}, map[passage]bool{}
	for name, list := range files {
		delete(r.waits, name)
		for line, p := range list {
			rows[name] = append(rows[name], arrival{p, r.arrived[name], line + 1, false})
			moved[p] = moved[p] || !slices.Equal(list, r.before[name])
		}
	}
	for name, list := range r.before {
		for line, p := range list {
			if _, there := files[name]; !there && p.toll != 0 && r.knew != "" && !strings.Contains(r.knew, p.boat) {
				r.waits[name] = append(r.waits[name], arrival{p, r.was[name], line + 1, true})
			}
		}
	}
	for name, list := range r.waits {
		r.waits[name] = slices.DeleteFunc(list, func(s arrival) bool { return moved[s.passage] })
		rows[name] = r.waits[name]
	}
	r.before, r.was, r.knew = maps.Clone(files), maps.Clone(r.arrived), r.known
	return rows
}

// move finds new files that have what another one had, which is not there any more, or has something else now: they
// keep its place, and its name is that of a new file.
func (r *repeatedFacts) move(files map[string][]passage) {
	if r.content == nil {
		r.content = map[string][]passage{}
	}
	before := maps.Clone(r.arrived)
	known := slices.SortedFunc(maps.Keys(before), func(a, b string) int { return cmp.Compare(before[a], before[b]) })
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if _, ok := before[name]; ok {
			continue
		}
		for _, old := range known {
			now, there := files[old]
			_, free := r.arrived[old]
			if free && slices.Equal(r.content[old], files[name]) && !(there && slices.Equal(now, r.content[old])) {
				r.arrived[name] = r.arrived[old]
				delete(r.arrived, old)
				break
			}
		}
	}
	for name, list := range files {
		r.content[name] = slices.Clone(list)
	}
}

func (r *repeatedFacts) rank(a, b arrival) int {
	if r.byTold && a.told != b.told {
		return cmp.Compare(a.told, b.told)
	}
	if by := cmp.Compare(a.file, b.file); by != 0 || !a.left {
		return by
	}
	return cmp.Compare(a.line, b.line)
}

func (r *repeatedFacts) String() string {
	var lines []string
	for _, s := range r.facts {
		if strings.Contains(r.unknown, s.boat) {
			s.boat = ""
		}
		lines = append(lines, s.passage.String())
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// TestRepeated loads facts whose rows come again with other values, in files that grow, are corrected, archived,
// compressed, or come late under an earlier name, and holds them against a restatement of the rules. A load of the
// same rows writes nothing, the account adds up, and the proof holds.
func TestRepeated(t *testing.T) {
	for seed := range uint64(startest.Runs(20)) {
		if !t.Run(fmt.Sprint(seed), func(t *testing.T) { repeatedCase(t, seed) }) {
			return
		}
	}
}

func repeatedCase(t *testing.T, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 15))
	dir, warehouse := t.TempDir(), "sqlite: star.db"
	if seed%6 == 5 {
		connection, schema := startest.Postgres(t)
		warehouse = fmt.Sprintf("postgres: %q, schema: %s", connection, schema)
	}
	grain, byMember := "no", seed%4 == 3
	if byMember {
		grain = "[no, boat]"
	}
	want := &repeatedFacts{arrived: map[string]int{}, facts: map[string]arrival{}, waits: map[string][]arrival{}, rule: "replace", byTold: seed%2 == 1}
	want.grain = func(p passage) string { return strconv.Itoa(p.no) }
	if byMember {
		want.grain = func(p passage) string { return fmt.Sprint(p.no, p.boat) }
	}
	rule := "replace"
	if want.byTold {
		rule = "replace\n    newer_by: told"
	} else if seed%10 == 4 {
		rule, want.rule = "keep", "keep"
	} else if seed%10 == 8 {
		rule, want.rule = "set_aside", "keep" // as for what stands
	}
	if seed%5 == 3 || seed%10 == 2 { // what stands is the same, and what stood is still there
		rule = strings.Replace(rule, "replace", "reverse", 1)
	}
	unmatched := "infer"
	switch {
	case seed%3 == 1:
		unmatched, want.known = "set_aside", "AB"
	case seed%3 == 2 && !byMember:
		unmatched = "unknown" // until the boat comes
		want.unknown = "CD"
	}
	startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(repeatedModel, warehouse, grain, unmatched, rule))
	boats := "boat,class,since\nA,x,2024-01-01\nA,y,2024-01-03\nB,x,2024-01-02\n"
	startest.Write(t, dir, "boats.csv", boats)
	files, story := map[string][]passage{}, ""
	row := func() passage {
		told := 1 + r.IntN(4)
		return passage{
			no:   1 + r.IntN(4),
			told: told,
			boat: pick(r, "A", "A", "B", "C", "C", "D"),
			toll: pick(r, 1, 1, 2, 2, 3, 3, 0),
			day:  1 + r.IntN(4),
		}
	}
	write := func(name string, list []passage) {
		var b strings.Builder
		b.WriteString("no,boat,day,toll,told\n")
		for _, p := range list {
			b.WriteString(p.String() + "\n")
		}
		os.Remove(filepath.Join(dir, "p", name+".gz"))
		startest.Write(t, dir, "p/"+name, b.String())
		settle(t, filepath.Join(dir, "p", name))
		files[name] = list
		story += name + "\n" + b.String()
	}
	for n := range 5 {
		for _, name := range slices.Sorted(maps.Keys(files)) {
			path := filepath.Join(dir, "p", name)
			ways := 8
			if want.rule == "replace" { // where the order in which files came decides, they are known by what they have
				ways++
			}
			switch r.IntN(ways) {
			case 8: // it has another name; another file may have its name
				to := fmt.Sprintf("%d-%d-moved-%s", r.IntN(10), n, name)
				if err := os.Rename(path, filepath.Join(dir, "p", to)); err != nil {
					continue // it is compressed
				}
				files[to] = files[name]
				delete(files, name)
				story += "move " + name + " to " + to + "\n"
				if r.IntN(3) == 0 {
					write(name, []passage{row(), row()})
				}
			case 0:
				os.Remove(path)
				os.Remove(path + ".gz")
				delete(files, name)
				story += "archive " + name + "\n"
			case 1:
				compress(t, path)
				settle(t, path+".gz")
				story += "compress " + name + "\n"
			case 2:
				write(name, append(slices.Clone(files[name]), row()))
			case 3:
				list := slices.Clone(files[name])
				k, p := r.IntN(len(list)), row()
				if p.no = list[k].no; byMember || unmatched == "set_aside" {
					p.boat = list[k].boat
				}
				p.told, p.toll = max(p.told, list[k].told), max(p.toll, 1) // nothing is withdrawn
				if rule != "set_aside" {
					list[k] = p
				}
				write(name, list)
			}
		}
		for k := range 1 + r.IntN(2) {
			list := make([]passage, 1+r.IntN(5))
			for i := range list {
				list[i] = row()
				for _, name := range slices.Sorted(maps.Keys(files)) { // some say again what another file says
					if old := files[name]; r.IntN(8) == 0 && len(old) > 0 {
						if list[i] = old[r.IntN(len(old))]; r.IntN(2) == 0 {
							list[i].boat = pick(r, "C", "D")
						}
					}
				}
			}
			write(fmt.Sprintf("%d-%d-%d.csv", r.IntN(10), n, k), list) // some come late under an earlier name
		}
		if n == 3 {
			want.known = strings.Replace(want.known, "AB", "ABC", 1)
			want.unknown = strings.TrimPrefix(want.unknown, "C") // D never comes
			startest.Write(t, dir, "boats.csv", boats+"C,z,2024-01-02\n")
			story += "boat C\n"
		}
		story += "load\n"
		want.take(files)
		opts := load.Options{Workers: 1 + r.IntN(3), Piece: 64 << r.IntN(6)}
		if r.IntN(2) == 0 {
			opts.Opening = load.ByKeys
		}
		if run, err := startest.Load(t, dir, opts); err != nil {
			t.Fatalf("%v: %+v\n%s", err, run.Steps[len(run.Steps)-1], story)
		}
		if got := passagesBy(t, dir, byMember); got != want.String() {
			t.Fatalf("expected\n%s\nand the star has\n%s\nof %s, seed %d\n%s", want, got, rule, seed, story)
		}
		once := startest.Dump(t, dir)
		opts.Again = true // reading all makes no difference
		run, err := startest.Load(t, dir, opts)
		if err != nil {
			t.Fatal(err)
		}
		if again := startest.Dump(t, dir); again != once {
			t.Fatalf("the same rows have changed the star:\n%s\n%s", startest.Difference(once, again), story)
		}
		for _, s := range run.Steps {
			if f := s.Figures; f.Accounted() != f.Read || f.Written() > 0 {
				t.Fatalf("%s: %+v\n%s", s.Name, f, story)
			}
		}
		if !startest.Proved(t, dir) {
			t.Fatalf("the proof is broken:\n%s", story)
		}
		opts.Again = false
		if run, err = startest.Load(t, dir, opts); err != nil {
			t.Fatal(err)
		}
		for _, s := range run.Steps {
			if s.Name == "fact passage" && unmatched == "infer" && rule != "set_aside" &&
				s.Figures.Unread != int64(len(files)) {
				t.Fatalf("%d of %d files were not read\n%s", s.Figures.Unread, len(files), story)
			}
		}
	}
}

// TestRepeatedStop: a repeated row with other values fails the step, with its place, where the model says stop.
func TestRepeatedStop(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(repeatedModel, "sqlite: star.db", "no", "infer", "stop"))
	startest.Write(t, dir, "boats.csv", "boat,class,since\nA,x,2024-01-01\n")
	startest.Write(t, dir, "p/1.csv", "no,boat,day,toll,told\n1,A,2024-01-01,1.00,1\n")
	for range 2 {
		if _, err := startest.Load(t, dir, load.Options{Again: true}); err != nil {
			t.Fatal(err)
		}
	}
	startest.Write(t, dir, "p/2.csv", "no,boat,day,toll,told\n2,A,2024-01-01,1.00,1\n1,A,2024-01-01,2.00,1\n")
	run, err := startest.Load(t, dir, load.Options{})
	const want = "p/2.csv:3: grain repeated with other values: toll is 1.00 in the table, and 2.00 here, " +
		"and fact passage says stop"
	if err == nil || run.Steps[1].Message != want {
		t.Errorf("%v: %+v", err, run.Steps)
	}
	if got := passagesIn(t, dir); got != "1,A,2024-01-01,1.00,1" {
		t.Errorf("the star has\n%s", got)
	}
}

// TestReplacedProof changes a fact whose row was corrected by hand: the proof against the sources finds what a load
// does not write.
func TestReplacedProof(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(repeatedModel, "sqlite: star.db", "no", "infer", "replace"))
	startest.Write(t, dir, "boats.csv", "boat,class,since\nA,x,2024-01-01\nB,x,2024-01-01\n")
	startest.Write(t, dir, "p/1.csv", "no,boat,day,toll,told\n1,A,2024-01-01,1.00,1\n2,A,2024-01-01,5.00,1\n")
	startest.Write(t, dir, "p/2.csv", "no,boat,day,toll,told\n1,A,2024-01-01,2.00,2\n")
	if _, err := startest.Load(t, dir, load.Options{}); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ damage, repair string }{
		{"toll = 1, told = 1", "toll = 2, told = 2"}, // what the row was before
		{"toll = 3", "toll = 2"},
		{"told = 3", "told = 2"},
		{"boat_key = 2", "boat_key = 1"},
	} {
		startest.Run(t, dir, "UPDATE fact_passage SET "+c.damage+" WHERE no = 1")
		if broken := startest.Broken(t, dir); !slices.Contains(broken, "sources of fact_passage") {
			t.Errorf("%s: broken is %v", c.damage, broken)
		}
		startest.Run(t, dir, "UPDATE fact_passage SET "+c.repair+" WHERE no = 1")
		if !startest.Proved(t, dir) {
			t.Errorf("%s: the right star is said to be broken", c.repair)
		}
	}
}

// settled has every other case write files that look as if they had been written some time ago, so that loads leave out
// those that have not changed.
func settled(t *testing.T, seed uint64) {
	if seed%2 == 0 {
		t.Setenv("IRONMONGER_SETTLED", "1")
	}
}

// settle makes a file look as if it had been written some time ago, so that it need not be read again.
func settle(t *testing.T, path string) {
	t.Helper()
	at := time.Now().Add(-time.Minute)
	if _, err := os.Stat(path); err == nil {
		if err := os.Chtimes(path, at, at); err != nil {
			t.Fatal(err)
		}
	}
}

// passagesIn writes the facts of a star as rows of their source.
func passagesIn(t *testing.T, dir string) string {
	t.Helper()
	return passagesBy(t, dir, false)
}

// passagesBy is passagesIn of facts whose grain may have the boat in it.
func passagesBy(t *testing.T, dir string, byMember bool) string {
	t.Helper()
	star := startest.Star(t, dir)
	boats := map[string]string{}
	for _, row := range star["dim_boat"] {
		boats[row["boat_key"]] = row["boat"]
	}
	var lines []string
	for _, f := range standingEntries(t, star["fact_passage"], byNumber(boats, byMember)) {
		lines = append(
			lines,
			fmt.Sprintf("%s,%s,%s,%s,%s", f["no"], boats[f["boat_key"]], f["day"], f["toll"], f["told"]),
		)
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

func byNumber(boats map[string]string, byMember bool) func(map[string]string) string {
	return func(row map[string]string) string {
		if byMember {
			return row["no"] + boats[row["boat_key"]]
		}
		return row["no"]
	}
}

// standingEntries returns the facts that stand, where what was booked stays: else all. The entries of each fact come to
// what stands of it.
func standingEntries(t *testing.T, rows []map[string]string, grain func(row map[string]string) string) []map[string]string {
	t.Helper()
	if len(rows) == 0 || rows[0]["entry"] == "" {
		return rows
	}
	number := func(s string) int {
		n, err := strconv.Atoi(strings.Replace(s, ".", "", 1))
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	last, sums := map[string]map[string]string{}, map[string]int{}
	for _, row := range rows {
		g := grain(row)
		if sums[g] += number(row["toll"]); last[g] == nil || number(last[g]["entry"]) < number(row["entry"]) {
			last[g] = row
		}
	}
	var stand []map[string]string
	for g, row := range last {
		want := 0
		if row["entry_sign"] == "1" {
			stand, want = append(stand, row), number(row["toll"])
		}
		if sums[g] != want {
			t.Fatalf("the entries of %s come to %d, and %d stands", g, sums[g], want)
		}
	}
	return stand
}

// TestNewCombination: a row that comes again with a combination that is new is not taken for one that says the
// combination of another row that stood at its place in a batch before.
func TestNewCombination(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
sources:
  tolls: {read: t/*, columns: {no: integer, site: text, toll: "decimal(9,2)"}}
dimensions:
  site: {combinations: {site: text}}
facts:
  toll: {from: tolls, grain: no, keys: {site: site}, measures: toll, repeated: replace}
`)
	rows, again := "no,site,toll\n", "no,site,toll\n"
	for no := range 200 {
		rows += fmt.Sprintf("%d,A,1.00\n", no)
		site := "A"
		if no >= 100 {
			site = "Z"
		}
		again += fmt.Sprintf("%d,%s,1.00\n", no, site)
	}
	startest.Write(t, dir, "t/1.csv", rows)
	if _, err := startest.Load(t, dir, load.Options{}); err != nil {
		t.Fatal(err)
	}
	startest.Write(t, dir, "t/2.csv", again)
	if _, err := startest.Load(t, dir, load.Options{Workers: 1, Piece: 200}); err != nil {
		t.Fatal(err)
	}
	z := 0
	for _, f := range startest.Star(t, dir)["fact_toll"] {
		if f["site_key"] == "2" {
			z++
		}
	}
	if z != 100 {
		t.Errorf("%d facts have the new combination, and 100 rows say it", z)
	}
}

// TestSum: rows of one load that differ in nothing but measures are added up; what is in the table is not added to.
func TestSum(t *testing.T) {
	dir := t.TempDir()
	model := strings.Replace(
		fmt.Sprintf(repeatedModel, "sqlite: star.db", "no", "infer", "sum"),
		"measures: toll",
		"measures: [toll, told]",
		1,
	)
	startest.Write(t, dir, "ironmonger.yaml", strings.Replace(model, "degenerate: [no, told]", "degenerate: no", 1))
	startest.Write(t, dir, "boats.csv", "boat,class,since\nA,x,2024-01-01\n")
	const head = "no,boat,day,toll,told\n"
	startest.Write(
		t,
		dir,
		"p/1.csv",
		head+"1,A,2024-01-01,1.10,1\n1,A,2024-01-01,2.20,1\n2,A,2024-01-01,5.00,\n2,B,2024-01-01,1.00,1\n",
	)
	startest.Write(t, dir, "p/2.csv", head+"1,A,2024-01-01,0.07,\n")
	for range 2 {
		run, err := startest.Load(t, dir, load.Options{})
		if err != nil {
			t.Fatal(err)
		}
		if f := run.Steps[1].Figures; f.Read != 5 || f.Merged != 2 || f.SetAside != 1 || f.Accounted() != 5 {
			t.Errorf("%+v", f)
		}
		var got []string
		for _, f := range startest.Star(t, dir)["fact_passage"] {
			got = append(got, strings.Join([]string{f["no"], f["toll"], f["told"]}, " "))
		}
		slices.Sort(got)
		if strings.Join(got, ", ") != "1 3.37 2, 2 5.00 " {
			t.Errorf("the star has %v", got)
		}
		if !startest.Proved(t, dir) {
			t.Error("the proof is broken")
		}
	}
}
