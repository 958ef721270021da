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

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// TestWithdrawn loads facts from files that lose rows, get them back, and give them to others, and holds the table
// against a restatement of rule R13 for files, under each rule for gone and for repeated rows.
func TestWithdrawn(t *testing.T) {
	manyCases(t, 12, withdrawnCase)
}

// TestMissing does so for deliveries of all rows of a site, of which several may come in one load.
func TestMissing(t *testing.T) {
	manyCases(t, 12, missingCase)
}

// inEither returns a model as it is, or for one in three cases with a warehouse in PostgreSQL.
func inEither(t *testing.T, seed uint64, model string) string {
	if seed%3 != 1 {
		return model
	}
	connection, schema := startest.Postgres(t)
	return strings.Replace(model, "{sqlite: star.db}", fmt.Sprintf("{postgres: %q, schema: %s}", connection, schema), 1)
}

func manyCases(t *testing.T, cases int, f func(t *testing.T, seed uint64)) {
	for seed := range uint64(startest.Runs(cases)) {
		if !t.Run(fmt.Sprint(seed), func(t *testing.T) { f(t, seed) }) {
			return
		}
	}
}

// goneStar is a star with facts that may be gone, and what was written to it, in words.
type goneStar struct {
	t     *testing.T
	dir   string
	r     *rand.Rand
	story strings.Builder
	past  []moment
}

func newGoneStar(t *testing.T, seed uint64, model string, args ...any) *goneStar {
	s := &goneStar{t: t, dir: t.TempDir(), r: rand.New(rand.NewPCG(seed, 33))}
	warehouse := "sqlite: star.db"
	if seed%6 == 5 {
		connection, schema := startest.Postgres(t)
		warehouse = fmt.Sprintf("postgres: %q, schema: %s", connection, schema)
	}
	startest.Write(t, s.dir, "ironmonger.yaml", fmt.Sprintf(model, append([]any{warehouse}, args...)...))
	return s
}

func (s *goneStar) write(name, text string) {
	startest.Write(s.t, s.dir, name, text)
	settle(s.t, filepath.Join(s.dir, name))
	s.story.WriteString(name + "\n" + text)
}

func (s *goneStar) options() load.Options {
	opts := load.Options{Workers: 1 + s.r.IntN(3), Piece: 64 << s.r.IntN(6)}
	if s.r.IntN(2) == 0 {
		opts.Opening = load.Opening(s.r.IntN(3))
	}
	return opts
}

// holds loads the star, compares what it has with want, and checks that a second load of everything changes nothing and
// that the proof holds.
func (s *goneStar) holds(have func() string, want string) {
	s.t.Helper()
	opts := s.options()
	run, err := startest.Load(s.t, s.dir, opts)
	if err != nil {
		for _, step := range run.Steps {
			s.t.Error(step.Name, step.Message)
		}
		s.t.Fatalf("%v\n%s", err, &s.story)
	}
	s.past = append(s.past, momentOf(s.t, s.dir, run.ID))
	if got := have(); got != want {
		s.t.Fatalf("expected\n%s\nand the star has\n%s\n%s", want, got, &s.story)
	}
	once := startest.Dump(s.t, s.dir)
	opts.Again = true
	if run, err = startest.Load(s.t, s.dir, opts); err != nil {
		s.t.Fatalf("%v\n%s", err, &s.story)
	}
	if again := startest.Dump(s.t, s.dir); again != once {
		s.t.Fatalf("the same rows have changed the star:\n%s\n%s", startest.Difference(once, again), &s.story)
	}
	for _, step := range run.Steps {
		if f := step.Figures; f.Accounted() != f.Read || f.Written()+f.Removed+f.Reversed > 0 {
			s.t.Fatalf("%s: %+v\n%s", step.Name, f, &s.story)
		}
	}
	if !startest.Proved(s.t, s.dir) {
		s.t.Fatalf("the proof is broken: %v\n%s", startest.Broken(s.t, s.dir), &s.story)
	}
	s.past = append(s.past, momentOf(s.t, s.dir, run.ID))
}

// back takes the loads back in some goes, and loads again what is still there: the proof holds.
func (s *goneStar) back() {
	s.t.Helper()
	takeBack(s.t, s.dir, s.past, s.r.IntN)
	if _, err := startest.Load(s.t, s.dir, s.options()); err != nil {
		s.t.Fatal(err)
	}
	if !startest.Proved(s.t, s.dir) {
		s.t.Fatalf("loaded again, the proof is broken:\n%s", &s.story)
	}
}

const withdrawnModel = `warehouse: {%s}
undo: 20 runs
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
    delivers: files
    gone: %s
`

func withdrawnCase(t *testing.T, seed uint64) {
	grain, byMember := "no", seed%4 == 3
	if byMember {
		grain = "[no, boat]"
	}
	rule, gone := []string{"set_aside", "replace", "keep"}[seed%3], []string{"remove", "flag", "keep"}[seed/3%3]
	unmatched := "infer"
	if seed%2 == 1 && !byMember {
		unmatched = "unknown"
	}
	says := []any{rule, gone}
	if seed%5 == 4 { // the table has what stood before, too
		rule, gone, says = "replace", "remove", []any{"reverse", "reverse"}
	}
	s := newGoneStar(t, seed, withdrawnModel, append([]any{grain, unmatched}, says...)...)
	r := s.r
	startest.Write(t, s.dir, "boats.csv", "boat,class,since\nA,x,2024-01-01\nA,y,2024-01-03\nB,x,2024-01-02\n")
	want := &repeatedFacts{arrived: map[string]int{}, facts: map[string]arrival{}, rule: rule}
	if rule == "set_aside" {
		want.rule = "keep"
	}
	if unmatched == "unknown" {
		want.unknown = "CD"
	}
	want.grain = func(p passage) string { return strconv.Itoa(p.no) }
	if byMember {
		want.grain = func(p passage) string { return fmt.Sprint(p.no, p.boat) }
	}
	flagged, files := map[string]bool{}, map[string][]passage{}
	write := func(name string, list []passage) {
		lines := "no,boat,day,toll,told\n"
		for _, p := range list {
			lines += p.String() + "\n"
		}
		files[name] = list
		os.Remove(filepath.Join(s.dir, "p", name+".gz"))
		s.write("p/"+name, lines)
	}
	row := func() passage {
		return passage{
			no:   1 + r.IntN(6),
			told: 1,
			boat: pick(r, "A", "A", "B", "C", "D"),
			toll: r.IntN(3),
			day:  1 + r.IntN(4),
		}
	}
	lost, had := []passage(nil), map[string]passage{} // by file and grain
	for n := range 6 {
		for _, name := range slices.Sorted(maps.Keys(files)) {
			list := slices.Clone(files[name])
			switch r.IntN(9) {
			case 0:
				os.Remove(filepath.Join(s.dir, "p", name))
				os.Remove(filepath.Join(s.dir, "p", name+".gz"))
				delete(files, name)
				s.story.WriteString("archive " + name + "\n")
			case 1:
				compress(t, filepath.Join(s.dir, "p", name))
				settle(t, filepath.Join(s.dir, "p", name+".gz"))
			case 2, 3, 4:
				if len(list) == 0 {
					continue
				}
				gone := list[:1+r.IntN(len(list))]
				for _, p := range gone {
					lost, had[name+want.grain(p)] = append(lost, p), p
				}
				// So that no row is corrected, all rows of their grain go.
				write(name, slices.DeleteFunc(slices.Clone(list), func(p passage) bool {
					return slices.ContainsFunc(gone, func(o passage) bool { return want.grain(o) == want.grain(p) })
				}))
			case 5:
				write(name, append(list, row()))
			case 6: // what another file had, or this one
				if len(lost) == 0 {
					continue
				}
				p := lost[r.IntN(len(lost))]
				if before, ok := had[name+want.grain(p)]; !ok || before == p {
					write(name, append(list, p))
				}
			}
		}
		list := make([]passage, 1+r.IntN(5))
		for i := range list {
			list[i] = row()
		}
		write(fmt.Sprintf("%d-%d.csv", r.IntN(10), n), list)
		takeWithdrawn(want, files, flagged, gone)
		var lines []string
		for g, f := range want.facts {
			if strings.Contains(want.unknown, f.boat) {
				f.boat = ""
			}
			lines = append(lines, fmt.Sprintf("%s,%t", f.passage, flagged[g]))
		}
		slices.Sort(lines)
		s.story.WriteString("load\n")
		s.holds(func() string { return flaggedPassages(t, s.dir, byMember) }, strings.Join(lines, "\n"))
	}
	s.back()
}

// takeWithdrawn restates a load of files that have all of their rows: what a file has no longer is taken out, all files
// are taken, and what no other file had is put back where it is kept.
func takeWithdrawn(want *repeatedFacts, files map[string][]passage, flagged map[string]bool, gone string) {
	away := map[string]arrival{}
	for g, f := range want.facts {
		for name, list := range files {
			if at, came := want.arrived[name]; gone == "keep" || flagged[g] || !came || at != f.file {
				continue
			}
			if !slices.ContainsFunc(list, func(p passage) bool { return want.grain(p) == g }) {
				away[g] = f
				delete(want.facts, g)
			}
		}
	}
	asides := map[string]arrival{} // flagged facts are as if they were not there
	for g := range flagged {
		asides[g] = want.facts[g]
		delete(want.facts, g)
	}
	want.take(files)
	for g, f := range asides {
		if _, back := want.facts[g]; back {
			delete(flagged, g)
		} else {
			want.facts[g] = f
		}
	}
	for g, f := range away {
		if _, back := want.facts[g]; !back && gone == "flag" {
			want.facts[g], flagged[g] = f, true
		}
	}
}

func flaggedPassages(t *testing.T, dir string, byMember bool) string {
	star := startest.Star(t, dir)
	boats := map[string]string{}
	for _, row := range star["dim_boat"] {
		boats[row["boat_key"]] = row["boat"]
	}
	var lines []string
	for _, f := range standingEntries(t, star["fact_passage"], byNumber(boats, byMember)) {
		gone := f["is_gone"] == "1" || f["is_gone"] == "true"
		line := fmt.Sprintf("%s,%s,%s,%s,%s,%t", f["no"], boats[f["boat_key"]], f["day"], f["toll"], f["told"], gone)
		lines = append(lines, line)
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

const missingModel = `warehouse: {%s}
undo: 20 runs
limits: {unmatched: none, set_aside: none, gone: none}
sources:
  tolls:
    read: t/*
    columns: {no: integer, site: text, toll: "decimal(9,2)", on: %s}
    derive: {code: site}
dimensions:
  site: {combinations: {site: text}}
facts:
  toll:
    from: tolls
    grain: %s
    keys: {site: site}
    measures: toll
    repeated: %s
    delivers: all
    complete_for: %s
    delivered_on: on
    gone: %s
`

// tollRow is a row of a delivery; a toll of 0 sets it aside.
type tollRow struct {
	no, toll, on int
	site         string
}

func missingCase(t *testing.T, seed uint64) {
	gone := []string{"remove", "flag", "keep"}[seed%3]
	of, clock := "date", ""
	if seed%2 == 0 {
		of, clock = "timestamp", " 10:30:00"
	}
	rule, does := "replace", gone
	if seed%5 == 3 { // the table has what stood before, too
		gone, rule, does = "remove", "reverse", "reverse"
	}
	s := newGoneStar(
		t,
		seed,
		missingModel,
		of,
		[]string{"[site, no]", "[code, no]"}[seed/3%2],
		rule,
		[]string{"site", "code"}[seed/3%2],
		does,
	)
	r := s.r
	type fact struct {
		tollRow
		file int
		gone bool
	}
	type grain struct {
		no   int
		site string
	}
	facts, latest, arrived := map[grain]fact{}, map[string]int{}, map[string]int{}
	files := map[string][]tollRow{}
	write := func(name string, list []tollRow) {
		lines := "no,site,toll,on\n"
		for _, p := range list {
			toll := fmt.Sprintf("%d.00", p.toll)
			if p.toll == 0 {
				toll = "much"
			}
			lines += fmt.Sprintf("%d,%s,%s,2024-01-%02d%s\n", p.no, p.site, toll, p.on, clock)
		}
		files[name] = list
		s.write("t/"+name, lines)
	}
	day := 0
	for range 5 {
		for range 1 + r.IntN(3) {
			day++
			for _, site := range []string{"N", "S", "E"}[r.IntN(2) : 2+r.IntN(2)] {
				var list []tollRow
				for no := range 7 {
					if r.IntN(3) > 0 {
						list = append(list, tollRow{no, r.IntN(4), day, site})
					}
				}
				if list != nil {
					write(fmt.Sprintf("%d-%d-%s.csv", r.IntN(10), day, site), list)
				}
			}
		}
		for _, name := range slices.Sorted(maps.Keys(files)) {
			list := files[name]
			last := list[0].on == max(latest[list[0].site], day)
			switch k := r.IntN(len(list)); {
			case !last && r.IntN(4) == 0:
				os.Remove(filepath.Join(s.dir, "t", name))
				delete(files, name)
				s.story.WriteString("archive " + name + "\n")
			case r.IntN(6) == 0 && len(list) > 1: // it was corrected
				write(name, slices.Delete(slices.Clone(list), k, k+1))
			}
		}
		// A load, a row at a time.
		names := slices.Sorted(maps.Keys(files))
		for _, name := range names {
			if _, ok := arrived[name]; !ok {
				arrived[name] = len(arrived)
			}
		}
		now, told, best := maps.Clone(latest), map[grain]int{}, map[grain]fact{}
		for _, name := range names {
			for _, p := range files[name] {
				if p.on < latest[p.site] {
					continue
				}
				g := grain{p.no, p.site}
				now[p.site], told[g] = max(now[p.site], p.on), max(told[g], p.on)
				is, was := fact{tollRow: p, file: arrived[name]}, best[g]
				if p.toll > 0 && cmp.Or(cmp.Compare(is.on, was.on), cmp.Compare(is.file, was.file)) >= 0 {
					best[g] = is
				}
			}
		}
		delivered := map[string]bool{}
		for _, name := range names {
			for _, p := range files[name] {
				delivered[p.site] = delivered[p.site] || p.on == now[p.site]
			}
		}
		for no, is := range best {
			was, ok := facts[no]
			stood := max(was.on, latest[was.site])
			if !ok || was.gone || cmp.Or(cmp.Compare(is.on, stood), cmp.Compare(is.file, was.file)) >= 0 {
				if ok && !was.gone && was.toll == is.toll && was.site == is.site { // the same
					is.file = was.file
				}
				facts[no] = is
			}
		}
		latest = now
		for no, f := range facts {
			if !delivered[f.site] || told[no] >= latest[f.site] {
				continue
			}
			switch f.gone = gone == "flag"; gone {
			case "remove":
				delete(facts, no)
			default:
				facts[no] = f
			}
		}
		var lines []string
		for _, f := range facts {
			lines = append(lines, fmt.Sprintf("%d %s %d.00 %t", f.no, f.site, f.toll, f.gone))
		}
		slices.Sort(lines)
		s.story.WriteString("load\n")
		s.holds(func() string {
			star := startest.Star(t, s.dir)
			sites, lines := map[string]string{}, []string(nil)
			for _, row := range star["dim_site"] {
				sites[row["site_key"]] = row["site"]
			}
			grain := func(f map[string]string) string { return f["no"] + " " + sites[f["site_key"]] }
			for _, f := range standingEntries(t, star["fact_toll"], grain) {
				flag := f["is_gone"] == "1" || f["is_gone"] == "true"
				lines = append(lines, fmt.Sprintf("%s %s %s %t", f["no"], sites[f["site_key"]], f["toll"], flag))
			}
			slices.Sort(lines)
			return strings.Join(lines, "\n")
		}, strings.Join(lines, "\n"))
	}
	s.back()
}

// TestGoneStops: deliveries and files that cannot be believed fail the step, and nothing is kept.
func TestGoneStops(t *testing.T) {
	lines := func(from, to int, site, on string) string {
		s := ""
		for n := from; n < to; n++ {
			s += fmt.Sprintf("%d,%s,1.00,%s\n", n, site, on)
		}
		return s
	}
	const head = "no,site,toll,on\n"
	all := "[site, no]\n    complete_for: site\n    delivered_on: on\n    delivers: all"
	for name, c := range map[string]struct{ rule, first, second, want string }{
		"too many of a scope": {
			all,
			lines(0, 200, "N", "2024-01-01") + lines(0, 200, "S", "2024-01-01"),
			lines(0, 170, "N", "2024-01-02"),
			"30 of 200 facts of N would be gone, more than limits.gone allows: nothing is kept. Is the delivery complete?",
		},
		"nothing": {all, lines(0, 9, "N", "2024-01-01"), "", "a delivery of all is empty, so all facts would be gone: nothing is kept"},
		"an older delivery": {
			all,
			lines(0, 9, "N", "2024-01-02"),
			lines(0, 9, "N", "2024-01-01"),
			"the delivery of all of 2024-01-01 is older than the one of 2024-01-02 that run 1 loaded: " +
				"what was gone in between cannot be known any more. Load deliveries in their order",
		},
		"too many of a file": {
			"no\n    delivers: files",
			lines(0, 200, "N", "2024-01-01"),
			lines(0, 170, "N", "2024-01-01"),
			"30 of 200 facts of t.csv would be gone, more than limits.gone allows: nothing is kept. Is the delivery complete?",
		},
		"an emptied file": {
			"no\n    delivers: files",
			lines(0, 9, "N", "2024-01-01"),
			"",
			"t.csv has no rows any more, and 9 facts came from it: nothing is kept. If that is right: limits.gone: none",
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			model := strings.Replace(missingModel, "read: t/*", "read: t.csv", 1)
			model = strings.Replace(model, ", gone: none", "", 1)
			model = strings.Replace(model, "    delivers: all\n    complete_for: %s\n    delivered_on: on\n", "", 1)
			startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(model, "sqlite: star.db", "date", c.rule, "replace", "remove"))
			startest.Write(t, dir, "t.csv", head+c.first)
			if _, err := startest.Load(t, dir, load.Options{}); err != nil {
				t.Fatal(err)
			}
			once := startest.Dump(t, dir)
			startest.Write(t, dir, "t.csv", head+c.second)
			run, err := startest.Load(t, dir, load.Options{})
			if err == nil || run.Steps[1].Message != c.want {
				t.Errorf("%v: %s", err, run.Steps[1].Message)
			}
			if now := startest.Dump(t, dir); now != once {
				t.Errorf("something was kept:\n%s", startest.Difference(once, now))
			}
		})
	}
}

// TestGoneDamaged marks, unmarks and brings back facts by hand: the proof against the sources finds each.
func TestGoneDamaged(t *testing.T) {
	for _, delivers := range []string{"files", "all"} {
		dir := t.TempDir()
		model := strings.Replace(withdrawnModel, "delivers: files", "delivers: "+delivers, 1)
		startest.Write(
			t,
			dir,
			"ironmonger.yaml",
			fmt.Sprintf(model, "sqlite: star.db", "no", "infer", "replace", "flag"),
		)
		startest.Write(t, dir, "boats.csv", "boat,class,since\nA,x,2024-01-01\n")
		for n := 4; n > 2; n-- {
			rows := "no,boat,day,toll,told\n"
			for no := range n {
				rows += fmt.Sprintf("%d,A,2024-01-01,%d.00,1\n", no, no)
			}
			startest.Write(t, dir, "p/1.csv", rows)
			if _, err := startest.Load(t, dir, load.Options{}); err != nil {
				t.Fatal(err)
			}
		}
		for _, c := range []struct{ damage, repair string }{
			{"SET is_gone = 0 WHERE no = 3", "SET is_gone = 1 WHERE no = 3"},
			{"SET is_gone = 1 WHERE no = 2", "SET is_gone = 0 WHERE no = 2"},
		} {
			startest.Run(t, dir, "UPDATE fact_passage "+c.damage)
			if broken := startest.Broken(t, dir); !slices.Contains(broken, "sources of fact_passage") {
				t.Errorf("%s, %s: broken is %v", delivers, c.damage, broken)
			}
			startest.Run(t, dir, "UPDATE fact_passage "+c.repair)
			if !startest.Proved(t, dir) {
				t.Errorf("%s, %s: the right star is said to be broken", delivers, c.repair)
			}
		}
	}
}

// TestBack: a fact that is gone and comes again is counted, whatever was done with it.
func TestBack(t *testing.T) {
	for does, rule := range map[string]string{"remove": "replace", "flag": "replace", "reverse": "reverse"} {
		dir := t.TempDir()
		startest.Write(
			t,
			dir,
			"ironmonger.yaml",
			fmt.Sprintf(missingModel, "sqlite: star.db", "date", "[site, no]", rule, "site", does),
		)
		for n, rows := range []string{"1,N,1.00,2024-01-01\n2,N,2.00,2024-01-01\n", "1,N,1.00,2024-01-02\n", "1,N,1.00,2024-01-03\n2,N,2.00,2024-01-03\n"} {
			startest.Write(t, dir, fmt.Sprintf("t/%d.csv", n), "no,site,toll,on\n"+rows)
			run, err := startest.Load(t, dir, load.Options{})
			if err != nil {
				t.Fatal(err)
			}
			if f := run.Steps[1].Figures; f.Gone != []int64{0, 1, 0}[n] || f.Back != []int64{0, 0, 1}[n] {
				t.Errorf("%s, delivery %d: %d gone, %d back", does, n+1, f.Gone, f.Back)
			}
		}
		if !startest.Proved(t, dir) {
			t.Error("the proof is broken")
		}
	}
}

// TestOpenUntil: deliveries have the open facts only, so that one that is closed is not gone with them.
func TestOpenUntil(t *testing.T) {
	for gone, want := range map[string]string{"flag": "1:9 2:8 3:7:gone", "remove": "1:9 2:8", "keep": "1:9 2:8 3:7"} {
		onBoth(t, func(t *testing.T, where string) {
			dir := t.TempDir()
			startest.Write(t, dir, "ironmonger.yaml", where+`limits: {gone: none}
sources: {repairs: {read: "r.csv", columns: {no: integer, settled: date, cost: integer}}}
dimensions: {kind: {natural_key: code, rows: [{code: A}]}}
facts:
  repair: {from: repairs, grain: no, repeated: complete, complete: [settled, cost], delivers: all, gone: `+gone+`, open_until: settled, keys: {}, measures: cost}
`)
			for _, rows := range []string{"1,,5\n2,,6\n3,,7\n", "1,2025-02-01,9\n2,,6\n3,,7\n", "2,,8\n", "2,,8\n"} {
				startest.Write(t, dir, "r.csv", "no,settled,cost\n"+rows)
				if _, err := startest.Load(t, dir, load.Options{}); err != nil {
					t.Fatal(err)
				}
				if !startest.Proved(t, dir) {
					t.Fatalf("gone: %s: the star is broken after %q", gone, rows)
				}
			}
			var got []string
			for _, f := range startest.Star(t, dir)["fact_repair"] {
				s := f["no"] + ":" + f["cost"]
				if f["is_gone"] == "true" {
					s += ":gone"
				}
				got = append(got, s)
			}
			slices.Sort(got)
			if s := strings.Join(got, " "); s != want {
				t.Errorf("gone: %s: %s, want %s", gone, s, want)
			}
			if gone == "flag" { // of an open one it is told
				startest.Run(t, dir, "UPDATE fact_repair SET settled = NULL WHERE no = 1")
				if broken := startest.Broken(t, dir); !slices.Contains(broken, "sources of fact_repair") {
					t.Errorf("a fact that is gone and not marked is not told: %v", broken)
				}
			}
		})
	}
}
