package load_test

import (
	"cmp"
	"fmt"
	"maps"
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

const completedModel = `warehouse: {%s}
undo: 20 runs
limits: {unmatched: none, set_aside: none}
sources:
  voyages:
    read: v/*
    columns:
      no: integer
      vessel: text
      requested: date
      entered: %s
      left: %s
      keeper: text
      toll: "decimal(9,2)"
      told: integer
  keepers: {read: keepers.csv, columns: {keeper: text, name: text}}
dimensions:
  date: {calendar: {from: 2024-01-01, to: 2024-12-31}}
  keeper: {from: keepers, natural_key: keeper, type_1: name}
facts:
  voyage:
    from: voyages
    grain: no
    keys:
      entered: {dimension: date, by: entered}
      keeper: {by: keeper, unmatched: %s}
    measures: toll
    degenerate: vessel
    repeated: complete
    complete: [requested, entered, left, keeper, toll]
    rows_tell: %s
    lags:
      wait: {from: requested, to: entered}
      transit: {from: entered, to: left, in: %s}
%s`

// voyage is a row as a test makes it up; "" is null.
type voyage struct {
	no                                       int
	vessel, requested, entered, left, keeper string
	toll                                     string
	told                                     int
	file, at                                 int // when it came
}

func (v voyage) String() string {
	return fmt.Sprintf(
		"%d,%s,%s,%s,%s,%s,%s,%d",
		v.no,
		v.vessel,
		v.requested,
		v.entered,
		v.left,
		v.keeper,
		v.toll,
		v.told,
	)
}

const voyageHead = "no,vessel,requested,entered,left,keeper,toll,told\n"

// foldVoyages restates rule R33: for each fact, column by column, the value of the newest row that tells it.
func foldVoyages(rows []voyage, byTold, tellAll bool) map[int]*voyage {
	rows = slices.Clone(rows)
	slices.SortStableFunc(rows, func(a, b voyage) int {
		newer := 0
		if byTold {
			newer = cmp.Compare(a.told, b.told)
		}
		return cmp.Or(newer, cmp.Compare(a.file, b.file), cmp.Compare(a.at, b.at))
	})
	facts := map[int]*voyage{}
	for _, r := range rows {
		f := facts[r.no]
		if f == nil {
			f = &voyage{no: r.no, vessel: r.vessel}
			facts[r.no] = f
		}
		for _, c := range [][2]*string{{&f.requested, &r.requested}, {&f.entered, &r.entered}, {&f.left, &r.left}} {
			if *c[1] != "" || tellAll {
				*c[0] = *c[1]
			}
		}
		f.keeper, f.toll = r.keeper, r.toll
		if f.told = max(f.told, r.told); !byTold {
			f.told = 0
		}
	}
	return facts
}

// lagOf works out a lag with the library's times.
func lagOf(from, to, unit string) string {
	parse := func(s string) time.Time {
		for _, layout := range []string{time.DateOnly, time.DateTime} {
			if t, err := time.Parse(layout, s); err == nil {
				return t
			}
		}
		return time.Time{}
	}
	if from == "" || to == "" {
		return ""
	}
	a, b := parse(from), parse(to)
	if unit == "days" {
		day := 24 * time.Hour
		return strconv.Itoa(int(b.Truncate(day).Sub(a.Truncate(day)) / day))
	}
	return strconv.FormatFloat(b.Sub(a).Hours(), 'f', 6, 64)
}

// TestCompleted loads facts that later rows complete, in any order and any split, with files that grow, are compressed
// and archived, and holds them against a restatement of rule R33.
func TestCompleted(t *testing.T) {
	manyCases(t, 12, completedCase)
}

func completedCase(t *testing.T, seed uint64) {
	byTold, tellAll := seed%2 == 0, seed%3 == 0
	clock, unit, unmatched := "date", "days", "infer"
	if seed%4 >= 2 {
		clock = "timestamp"
		if seed%8 >= 4 {
			unit = "hours"
		}
	}
	if seed%5 < 2 {
		unmatched = "unknown"
	}
	tell, newer := "parts", ""
	if tellAll {
		tell = "all"
	}
	if byTold {
		newer = "    newer_by: told\n"
	}
	s := newGoneStar(t, seed, completedModel, clock, clock, unmatched, tell, unit, newer)
	r := s.r
	startest.Write(t, s.dir, "keepers.csv", "keeper,name\nA,Ada\nB,Bea\n")
	day := func() string {
		if r.IntN(3) == 0 {
			return ""
		}
		d := fmt.Sprintf("2024-0%d-0%d", 1+r.IntN(2), 1+r.IntN(4))
		return d
	}
	at := func() string {
		d := day()
		if d != "" && clock == "timestamp" {
			d += pick(r, " 00:00:00", " 10:30:00", " 23:45:00")
		}
		return d
	}
	row := func() voyage {
		return voyage{
			no: 1 + r.IntN(
				4,
			), vessel: pick(r, "V", "V", "V", "V", "V", "W"), requested: day(), entered: at(), left: at(),
			keeper: pick(
				r,
				"A",
				"B",
				"B",
				"C",
				"D",
				"",
			), toll: pick(r, "1.00", "2.00", "3.00", "", "much"), told: 1 + r.IntN(4),
		}
	}
	files, arrived, archived := map[string][]voyage{}, map[string]int{}, map[string]bool{}
	first, knows := map[int]string{}, "AB"
	for n := range 5 {
		for range 1 + r.IntN(2) {
			list := make([]voyage, 1+r.IntN(4))
			for i := range list {
				list[i] = row()
			}
			files[fmt.Sprintf("%d-%d.csv", r.IntN(10), n)] = list
		}
		for _, name := range slices.Sorted(maps.Keys(files)) {
			path := filepath.Join(s.dir, "v", name)
			switch k := r.IntN(6); {
			case archived[name]:
				continue
			case k == 0 && arrived[name] > 0:
				os.Remove(path)
				os.Remove(path + ".gz")
				archived[name] = true
				s.story.WriteString("archive " + name + "\n")
				continue
			case k == 1 && arrived[name] > 0:
				if _, err := os.Stat(path); err == nil {
					compress(t, path)
					settle(t, path+".gz")
				}
				continue
			case k == 2:
				files[name] = append(files[name], row())
			case k == 3 && len(archived) == 0 && arrived[name] > 0: // a row is corrected; what it told is not withdrawn
				list := slices.Clone(files[name])
				if v := &list[r.IntN(len(list))]; v.toll != "much" {
					v.toll, v.told = pick(r, "5.00", "6.00"), min(v.told+r.IntN(2), 4)
					if v.entered != "" {
						v.entered = strings.Replace(v.entered, "-0", "-1", 1)
					}
				}
				files[name] = list
			}
			text := voyageHead
			for _, v := range files[name] {
				text += v.String() + "\n"
			}
			os.Remove(path + ".gz")
			s.write("v/"+name, text)
		}
		if n == 3 {
			knows += "C"
			startest.Write(t, s.dir, "keepers.csv", "keeper,name\nA,Ada\nB,Bea\nC,Cid\n")
			s.story.WriteString("keeper C\n")
		}
		var all []voyage
		for _, name := range slices.Sorted(maps.Keys(files)) {
			if arrived[name] == 0 {
				arrived[name] = len(arrived) + 1
			}
			for i, v := range files[name] {
				v.file, v.at = arrived[name], i
				if v.toll == "much" {
					continue
				}
				if first[v.no] == "" && !archived[name] {
					first[v.no] = v.vessel
				}
				if v.vessel == first[v.no] {
					all = append(all, v)
				}
			}
		}
		var lines []string
		for _, f := range foldVoyages(all, byTold, tellAll) {
			if unmatched == "unknown" && !strings.Contains(knows, f.keeper) {
				f.keeper = ""
			}
			line := f.String()
			lines = append(lines, line+" "+lagOf(f.requested, f.entered, "days")+" "+lagOf(f.entered, f.left, unit))
		}
		slices.Sort(lines)
		s.story.WriteString("load\n")
		s.holds(func() string { return voyagesIn(t, s.dir, byTold) }, strings.Join(lines, "\n"))
	}
	s.back()
}

// voyagesIn writes facts as [foldVoyages] has them, with their lags. The key of a milestone is that of its day.
func voyagesIn(t *testing.T, dir string, byTold bool) string {
	star := startest.Star(t, dir)
	keepers := map[string]string{}
	for _, row := range star["dim_keeper"] {
		keepers[row["keeper_key"]] = row["keeper"]
	}
	clean := func(s string) string { return strings.TrimSuffix(strings.ReplaceAll(s, "T", " "), "Z") }
	var lines []string
	for _, f := range star["fact_voyage"] {
		told := f["told"]
		if !byTold {
			told = "0"
		}
		entered, key := clean(f["entered"]), "-2"
		if entered != "" {
			key = strings.ReplaceAll(entered[:10], "-", "")
		}
		if f["entered_date_key"] != key {
			t.Errorf("voyage %s: entered %s, and its key is %s", f["no"], entered, f["entered_date_key"])
		}
		lines = append(
			lines,
			strings.Join([]string{f["no"], f["vessel"], clean(f["requested"]), entered, clean(f["left"]),
				keepers[f["keeper_key"]], f["toll"], told}, ",")+" "+f["wait"]+" "+f["transit"],
		)
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// TestCompletedOrders loads three rows of one voyage in each of the six orders, in one load and in three: the fact is
// the same, to the rows that told its milestones.
func TestCompletedOrders(t *testing.T) {
	rows := []string{
		"7,V,,,2024-05-09,A,80.00,30",
		"7,V,,2024-05-06,,A,75.00,20",
		"7,V,2024-05-01,2024-05-05,,A,70.00,10",
	}
	const want = "7,V,2024-05-01,2024-05-06,2024-05-09,A,80.00,30 5 3"
	for _, order := range [][]int{{0, 1, 2}, {0, 2, 1}, {1, 0, 2}, {1, 2, 0}, {2, 0, 1}, {2, 1, 0}} {
		for _, once := range []bool{true, false} {
			dir := t.TempDir()
			model := fmt.Sprintf(
				completedModel,
				"sqlite: star.db",
				"date",
				"date",
				"infer",
				"parts",
				"days",
				"    newer_by: told\n",
			)
			startest.Write(t, dir, "ironmonger.yaml", model)
			startest.Write(t, dir, "keepers.csv", "keeper,name\nA,Ada\n")
			for n, k := range order {
				startest.Write(t, dir, fmt.Sprintf("v/%d.csv", n), voyageHead+rows[k]+"\n")
				if once && n < 2 {
					continue
				}
				if _, err := startest.Load(t, dir, load.Options{}); err != nil {
					t.Fatal(err)
				}
			}
			if got := voyagesIn(t, dir, true); got != want {
				t.Errorf("order %v, in one load %t: the star has %s", order, once, got)
			}
			if !startest.Proved(t, dir) {
				t.Errorf("order %v: the proof is broken", order)
			}
		}
	}
}

// TestCompletedStory loads rows that move a milestone back, that disagree, that change what may not change, that come
// again, and that would put milestones out of order, and looks at what became of each.
func TestCompletedStory(t *testing.T) {
	dir := t.TempDir()
	model := fmt.Sprintf(completedModel, "sqlite: star.db", "date", "date", "infer", "parts", "days",
		"    newer_by: told\n    in_order: [entered, left]\n")
	startest.Write(t, dir, "ironmonger.yaml", model)
	startest.Write(t, dir, "keepers.csv", "keeper,name\nA,Ada\n")
	for n, c := range []struct{ rows, want, figures string }{
		{
			"1,V,2024-06-01,2024-06-03,,A,50.00,1\n",
			"1,V,2024-06-01,2024-06-03,,A,50.00,1 2 ",
			"read 1 new 1 changed 0 same 0 older 0 aside 0 disagree 0",
		},
		{
			"1,V,,2024-05-30,,A,50.00,2\n1,V,,,2024-06-04,A,55.00,2\n1,W,,,,A,55.00,3\n",
			"1,V,2024-06-01,2024-05-30,2024-06-04,A,55.00,2 -2 5",
			"read 3 new 0 changed 2 same 0 older 0 aside 1 disagree 1",
		},
		{
			"1,V,2024-06-01,2024-06-03,,A,50.00,1\n",
			"1,V,2024-06-01,2024-05-30,2024-06-04,A,55.00,2 -2 5",
			"read 1 new 0 changed 0 same 0 older 1 aside 0 disagree 0",
		},
		{
			"1,V,,,2024-05-29,A,55.00,4\n2,V,,2024-06-02,2024-06-01,N,1.00,1\n2,V,,2024-06-02,,N,1.00,1\n",
			"1,V,2024-06-01,2024-05-30,2024-06-04,A,55.00,2 -2 5\n2,V,,2024-06-02,,N,1.00,1  ",
			"read 3 new 1 changed 0 same 0 older 0 aside 2 disagree 0",
		},
	} {
		startest.Write(t, dir, "v/1.csv", voyageHead+c.rows)
		run, err := startest.Load(t, dir, load.Options{})
		if err != nil {
			t.Fatal(err)
		}
		f := run.Steps[2].Figures
		figures := fmt.Sprintf("read %d new %d changed %d same %d older %d aside %d disagree %d",
			f.Read, f.Inserted, f.Changed, f.Same, f.Older, f.SetAside, f.Disagree)
		if got := voyagesIn(t, dir, true); got != c.want || figures != c.figures {
			t.Errorf("load %d: the star has %s; %s", n, got, figures)
		}
	}
}

// TestCompletedDamaged changes completed facts by hand: the proof finds each.
func TestCompletedDamaged(t *testing.T) {
	dir := t.TempDir()
	model := fmt.Sprintf(
		completedModel,
		"sqlite: star.db",
		"date",
		"date",
		"infer",
		"parts",
		"days",
		"    newer_by: told\n",
	)
	startest.Write(t, dir, "ironmonger.yaml", model)
	startest.Write(t, dir, "keepers.csv", "keeper,name\nA,Ada\nB,Bea\n")
	startest.Write(t, dir, "v/1.csv", voyageHead+"1,V,2024-06-01,2024-06-03,,A,50.00,1\n1,V,,,2024-06-05,B,60.00,2\n")
	if _, err := startest.Load(t, dir, load.Options{}); err != nil {
		t.Fatal(err)
	}
	if !startest.Proved(t, dir) {
		t.Fatal("the star is broken")
	}
	for _, c := range []struct{ damage, repair, broken string }{
		{"fact_voyage SET wait = 3", "fact_voyage SET wait = 2", "milestones of fact_voyage"},
		{"fact_voyage SET transit = NULL", "fact_voyage SET transit = 2", "milestones of fact_voyage"},
		{"fact_voyage SET entered_date_key = -2", "fact_voyage SET entered_date_key = 20240603", "milestones of fact_voyage"},
		{"fact_voyage SET keeper_key = 1", "fact_voyage SET keeper_key = 2", "sources of fact_voyage"},
		{"fact_voyage SET toll = 50", "fact_voyage SET toll = 60", "sources of fact_voyage"},
		{"fact_voyage SET vessel = 'W'", "fact_voyage SET vessel = 'V'", "sources of fact_voyage"},
		{"fact_voyage SET told = 1", "fact_voyage SET told = 2", "sources of fact_voyage"},
		{"fact_voyage SET requested = '2024-06-02', wait = 1", "fact_voyage SET requested = '2024-06-01', wait = 2",
			"sources of fact_voyage"},
		{"fact_voyage_told SET milestone = 'lost' WHERE milestone = 'entered'",
			"fact_voyage_told SET milestone = 'entered' WHERE milestone = 'lost'", "sources of fact_voyage"},
	} {
		startest.Run(t, dir, "UPDATE "+c.damage)
		if broken := startest.Broken(t, dir); !slices.Contains(broken, c.broken) {
			t.Errorf("%s: broken is %v", c.damage, broken)
		}
		startest.Run(t, dir, "UPDATE "+c.repair)
		if !startest.Proved(t, dir) {
			t.Errorf("%s: the right star is said to be broken: %v", c.repair, startest.Broken(t, dir))
		}
	}
}
