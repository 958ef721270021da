package load_test

import (
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/startest"
	"ironmonger/internal/undo"
)

// slowly stands between the loader and PostgreSQL: each message takes its time on its way to the server. It returns
// what a model calls the server then.
func slowly(t *testing.T, delay func() time.Duration) string {
	connection, schema := startest.Postgres(t)
	server := filepath.Join(strings.TrimPrefix(strings.Fields(connection)[0], "host="), ".s.PGSQL.5433")
	dir := t.TempDir()
	standIn(t, dir, func(client net.Conn) {
		defer client.Close()
		there, err := net.Dial("unix", server)
		if err != nil {
			return
		}
		defer there.Close()
		go func() {
			io.Copy(client, there)
			client.Close()
		}()
		buf := make([]byte, 1<<20)
		for {
			n, err := client.Read(buf)
			if err != nil {
				return
			}
			time.Sleep(delay())
			if _, err := there.Write(buf[:n]); err != nil {
				return
			}
		}
	})
	return "postgres: host=" + dir + " port=5433 user=postgres dbname=postgres\n  schema: " + schema
}

// crowd is a random star of many dimensions and facts, with the files that they are loaded from. Its steps meet
// wherever steps can: members that facts infer, versions that come late, aliases, dimensions that point to others,
// facts of the same files, rows that come again, files that are renamed.
type crowd struct {
	random     *rand.Rand
	dimensions int
	facts      int
	text       string
	of         []int // the source of each fact
	replaces   []bool
}

func newCrowd(seed uint64) *crowd {
	c := &crowd{random: rand.New(rand.NewPCG(seed, 77))}
	r := c.random
	c.dimensions, c.facts = 3+r.IntN(4), 2+r.IntN(4)
	var sources, dimensions, facts strings.Builder
	for i := range c.dimensions {
		fmt.Fprintf(&sources, "  d%d: {read: 'd%d*.csv', columns: {code: text, name: text, class: text, since: date, other: text}}\n", i, i)
		fmt.Fprintf(&dimensions, "  d%d:\n    from: d%d\n    natural_key: code\n    type_1: name\n", i, i)
		if r.IntN(3) > 0 {
			dimensions.WriteString("    type_2: class\n    effective: since\n")
		}
		if r.IntN(3) == 0 {
			fmt.Fprintf(&sources, "  a%d: {read: 'a%d.csv', columns: {old: text, now: text}}\n", i, i)
			fmt.Fprintf(&dimensions, "    aliases: {from: a%d, alias: old, is: now}\n", i)
		}
		if i > 0 && r.IntN(3) == 0 {
			rule := []string{"infer", "unknown"}[r.IntN(2)]
			fmt.Fprintf(&dimensions, "    keys: {other: {dimension: d%d, by: other, unmatched: %s, missing: unknown}}\n", r.IntN(i), rule)
		}
	}
	for i := range c.facts {
		c.of = append(c.of, i)
		if i > 0 && r.IntN(2) == 0 { // of the files of another
			c.of[i] = c.of[r.IntN(i)]
		}
		c.replaces = append(c.replaces, r.IntN(2) == 0)
		if c.of[i] == i {
			fmt.Fprintf(&sources, "  f%d: {read: 'f%d*.csv', columns: {no: integer, x: text, y: text, at: date, paid: 'decimal(9,2)'}}\n", i, i)
		}
		fmt.Fprintf(&facts, "  f%d:\n    from: f%d\n    grain: no\n    measures: paid\n    keys:\n", i, c.of[i])
		of := r.IntN(c.dimensions)
		for _, by := range []string{"x", "y"} {
			rule := []string{"infer", "unknown", "set_aside"}[r.IntN(3)]
			fmt.Fprintf(&facts, "      k%s: {dimension: d%d, by: %s, as_of: at, unmatched: %s, outside: unknown}\n", by, of, by, rule)
			of = r.IntN(c.dimensions)
		}
		if c.replaces[i] {
			facts.WriteString("    repeated: replace\n")
		}
		if i < 2 { // a sum of it
			to := c.dimensions - 1
			fmt.Fprintf(&sources, "  g%d: {from: fact f%d, columns: [kx_code, paid], group: {by: kx_code, aggregates: {paid: sum(paid)}}}\n", i, i)
			fmt.Fprintf(&facts, "  g%d:\n    from: g%d\n    grain: kx\n    measures: paid\n    repeated: replace\n    delivers: all\n    gone: remove\n"+
				"    keys: {kx: {dimension: d%d, by: kx_code, unmatched: infer, missing: unknown}}\n", i, i, to)
		}
	}
	c.text = "sources:\n" + sources.String() + "dimensions:\n" + dimensions.String() + "facts:\n" + facts.String()
	return c
}

// deliver changes the files for the next load.
func (c *crowd) deliver(files map[string]string, load int) {
	r := c.random
	code := func() string { return string(rune('A' + r.IntN(7))) }
	day := func() string { return fmt.Sprintf("2024-%02d-01", 1+r.IntN(9)) }
	for i := range c.dimensions {
		rows := "code,name,class,since,other\n"
		for range 1 + r.IntN(5) {
			rows += fmt.Sprintf("%s,n%d,%d,%s,%s\n", code(), r.IntN(3), r.IntN(3), day(), code())
		}
		if r.IntN(5) == 0 {
			rows += ",nobody,1,2024-01-01,A\n"
		}
		files[fmt.Sprintf("d%d-%d.csv", i, load)] = rows
		aliases := fmt.Sprintf("a%d.csv", i)
		if load == 0 {
			files[aliases] = "old,now\n"
		}
		if r.IntN(3) == 0 {
			files[aliases] += []string{"A,B\n", "C,D\nE,F\n"}[strings.Count(files[aliases], "A")%2]
		}
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if name[0] == 'f' && r.IntN(6) == 0 { // a file has another name
			files[fmt.Sprintf("%s-%d-moved.csv", name[:2], load*100+r.IntN(100))] = files[name]
			delete(files, name)
		}
	}
	for i := range c.facts {
		rows := "no,x,y,at,paid\n"
		for n := range 1 + r.IntN(8) {
			no := load*10 + n
			if c.replaces[i] && r.IntN(2) == 0 {
				no = r.IntN(20)
			}
			paid := fmt.Sprintf("%d.50", r.IntN(9))
			if r.IntN(8) == 0 {
				paid = "much"
			}
			rows += fmt.Sprintf("%d,%s,%s,%s,%s\n", no, code(), code(), day(), paid)
		}
		files[fmt.Sprintf("f%d-%d-%d.csv", i, r.IntN(9), load)] = rows
	}
}

// TestBeside holds loads whose steps run at the same time against loads of the same files in which one runs after the
// other: the stars are the same to the key, and so are their ledgers, whatever takes how long.
func TestBeside(t *testing.T) {
	for seed := range uint64(startest.Runs(2)) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			c := newCrowd(seed)
			jitter := func() time.Duration { return time.Duration(rand.IntN(2000)) * time.Microsecond }
			var dirs []string
			places := []string{slowly(t, func() time.Duration { return 0 }), slowly(t, jitter), "sqlite: star.db", "sqlite: star.db"}
			for _, place := range places {
				dirs = append(dirs, t.TempDir())
				startest.Write(t, dirs[len(dirs)-1], "ironmonger.yaml", "warehouse:\n  "+place+"\nlimits: {set_aside: none, unmatched: none}\n"+c.text)
			}
			files := map[string]string{}
			for n := range 4 {
				before := maps.Clone(files)
				c.deliver(files, n)
				var states []string
				for k, dir := range dirs {
					for name := range before {
						os.Remove(filepath.Join(dir, name))
					}
					for name, text := range files {
						startest.Write(t, dir, name, text)
						at := time.Now().Add(-time.Hour + time.Duration(n)*time.Minute)
						if before[name] == text {
							at = time.Now().Add(-2 * time.Hour).Truncate(time.Hour)
						}
						if err := os.Chtimes(filepath.Join(dir, name), at, at); err != nil {
							t.Fatal(err)
						}
					}
					opts := load.Options{Workers: 2, AtOnce: 1 - k%2}
					if k == 3 {
						opts.Watch = func(load.Progress) { time.Sleep(jitter()) }
					}
					run, err := startest.Load(t, dir, opts)
					if err != nil && run == nil {
						t.Fatal(err)
					}
					states = append(states, fmt.Sprint(err))
					for _, s := range run.Steps {
						states[k] += fmt.Sprintf("\n%s: %s %s", s.Name, s.State, s.Message)
					}
					if err == nil && n == 3 && !startest.Proved(t, dir) {
						t.Fatalf("the star does not hold: %v\n%s", files, c.text)
					}
				}
				for _, k := range []int{0, 2} {
					if states[k] != states[k+1] {
						t.Fatalf("load %d ended in two ways: %s\nand %s\n%s", n, states[k], states[k+1], c.text)
					}
					one, other := wholeDump(t, dirs[k]), wholeDump(t, dirs[k+1])
					if one != other {
						t.Fatalf("load %d into %s: %s\n%s", n, places[k], startest.Difference(one, other), c.text)
					}
				}
			}
			var after []string
			for _, dir := range dirs { // what was written at the same time is taken back
				wh := startest.Open(t, dir)
				defer wh.Close()
				if _, err := undo.Take(t.Context(), wh, startest.Model(t, dir), undo.Options{}); err != nil {
					t.Fatal(err)
				}
				after = append(after, wholeDump(t, dir))
			}
			for _, k := range []int{0, 2} {
				if after[k] != after[k+1] {
					t.Fatalf("after undo in %s: %s\n%s", places[k], startest.Difference(after[k], after[k+1]), c.text)
				}
			}
		})
	}
}

// otherwise is what figures have of how a step ran.
var otherwise = regexp.MustCompile(`"(waited_ms|in_warehouse)":\d+,`)

// wholeDump returns all rows of a star and of its ledger, but for times and for what tells in which order steps ran.
func wholeDump(t *testing.T, dir string) string {
	wh := startest.Open(t, dir)
	defer wh.Close()
	lines := []string{startest.Dump(t, dir)}
	for _, table := range ledger.Tables() {
		if table.Name == "load_before" {
			continue
		}
		for _, row := range startest.Table(t, wh, table) {
			for _, name := range []string{"started_at", "ended_at", "holder", "model", "model_file", "changed", "depends_on"} {
				delete(row, name)
			}
			lines = append(lines, otherwise.ReplaceAllString(fmt.Sprint(table.Name, row), ""))
		}
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// TestFarAway: over a connection on which each message takes its time, thirty dimensions are loaded in a third of the
// time that they take one after the other.
func TestFarAway(t *testing.T) {
	var model, took = "", map[int]time.Duration{}
	for i := range 30 {
		model += fmt.Sprintf("  d%d: {read: d%d.csv, columns: {code: text, name: text, since: date}}\n", i, i)
	}
	model = "sources:\n" + model + "dimensions:\n"
	for i := range 30 {
		model += fmt.Sprintf("  d%d: {from: d%d, natural_key: code, type_2: name, effective: since}\n", i, i)
	}
	for _, atOnce := range []int{1, 0} {
		dir := t.TempDir()
		place := slowly(t, func() time.Duration { return 6 * time.Millisecond })
		startest.Write(t, dir, "ironmonger.yaml", "warehouse:\n  "+place+"\n"+model)
		for i := range 30 {
			startest.Write(t, dir, fmt.Sprintf("d%d.csv", i), "code,name,since\nA,x,2024-01-01\nB,y,2024-02-01\n")
		}
		begin := time.Now()
		if _, err := startest.Load(t, dir, load.Options{AtOnce: atOnce}); err != nil {
			t.Fatal(err)
		}
		took[atOnce] = time.Since(begin)
	}
	t.Logf("%s at the same time, %s one after the other", took[0], took[1])
	if took[0]*3 > took[1] {
		t.Errorf("30 dimensions took %s, and %s one after the other", took[0], took[1])
	}
}
