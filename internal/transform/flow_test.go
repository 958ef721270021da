package transform_test

import (
	"cmp"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
)

// row is a row of a test's source as text; "" is null.
type row map[string]string

// trial is a random source with all that may be done to it, and the same done by the book.
type trial struct {
	r                  *rand.Rand
	joinOn             []string // columns of rates that the rows are joined by
	timed              string   // "", date, timestamp: what the rows are as of
	unmatched, several string
	distinct           []string
	last               bool
	group              []string
	rows, rates        []row
	aside, drop, merge int64
}

var words = []string{"", "a", "b", "ä", "a b", "\"", "0"}

func newTrial(seed uint64) *trial {
	r := rand.New(rand.NewPCG(seed, 3))
	some := func(list ...string) []string {
		r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
		return list[:1+r.IntN(len(list))]
	}
	w := &trial{r: r, joinOn: some("k", "n"), timed: []string{"", "date", "timestamp"}[r.IntN(3)],
		unmatched: []string{"set_aside", "leave_empty", "drop"}[r.IntN(3)], several: []string{"first", "last", "set_aside"}[r.IntN(3)]}
	if r.IntN(2) == 0 {
		w.distinct, w.last = some("k", "n", "day"), r.IntN(2) == 0
	}
	if r.IntN(2) == 0 {
		w.group = some("k", "n", "day", "rate")
	}
	day := func() string { return []string{"", fmt.Sprintf("2025-01-%02d", 1+r.IntN(9))}[min(1, r.IntN(8))] }
	for range r.IntN(400) {
		at := ""
		if d := day(); d != "" {
			at = d + fmt.Sprintf(" %02d:00:00", r.IntN(24))
		}
		w.rows = append(
			w.rows,
			row{
				"k":   words[r.IntN(len(words))],
				"n":   []string{"", "1", "2", "-3", "x"}[r.IntN(5)],
				"day": day(),
				"at":  at,
				"v":   []string{"", "1.50", "-2.25", "99999.99", "0.00"}[r.IntN(5)],
			},
		)
	}
	for range r.IntN(40) {
		w.rates = append(
			w.rates,
			row{
				"k":     words[r.IntN(len(words))],
				"n":     []string{"", "1", "2", "-3"}[r.IntN(4)],
				"since": day(),
				"rate":  []string{"", "1.0", "2.5", "3.0"}[r.IntN(4)],
			},
		)
	}
	return w
}

func (w *trial) model() string {
	join := "        by: [" + strings.Join(
		w.joinOn,
		", ",
	) + "]\n        bring: rate\n        unmatched: " + w.unmatched + "\n        several: " + w.several + "\n"
	if w.timed != "" {
		join += "        effective: since\n        as_of: " + map[string]string{"date": "day", "timestamp": "at"}[w.timed] + "\n"
	}
	text := "warehouse: {sqlite: s.db}\nsources:\n  rates:\n    read: rates.csv\n    columns: {k: text, n: integer, since: date, rate: \"decimal(5,1)\"}\n" +
		"  rows:\n    read: rows-*.csv\n    columns: {k: text, n: integer, day: date, at: timestamp, v: \"decimal(7,2)\"}\n    join:\n      rates:\n" + join +
		"    derive:\n      twice: v * 2\n    fill:\n      v: 1\n    require:\n      not too much: v < 90000\n"
	if w.distinct != nil {
		text += "    distinct: {by: [" + strings.Join(
			w.distinct,
			", ",
		) + "], keep: " + map[bool]string{true: "last", false: "first"}[w.last] + "}\n"
	}
	if w.group != nil {
		text += "    group:\n      by: [" + strings.Join(
			w.group,
			", ",
		) + "]\n      aggregates: {sum: sum(v), least: min(v), most: max(at), n_of: count(twice), rows: count, text: min(k), middle: avg(v), last: 'latest(v, at)', first: 'earliest(k, day)', all: list(k)}\n"
	}
	return text + "dimensions:\n  d: {rows: [{a: 1}], natural_key: a}\n"
}

// cents reads a decimal of two places.
func cents(s string) int64 {
	v, err := strconv.ParseInt(strings.Replace(s, ".", "", 1), 10, 64)
	if err != nil {
		panic(err)
	}
	return v
}

func decimal(cents int64) string {
	s := fmt.Sprintf("%03d", max(cents, -cents))
	if s = s[:len(s)-2] + "." + s[len(s)-2:]; cents < 0 {
		s = "-" + s
	}
	return s
}

func millionths(n int64) string {
	sign := ""
	if n < 0 {
		sign, n = "-", -n
	}
	return fmt.Sprintf("%s%d.%06d", sign, n/1_000_000, n%1_000_000)
}

// byTheBook does to the rows what the model says, one after the other, and gives them as lines.
func (w *trial) byTheBook() []string {
	used := w.group == nil // what nothing uses isn't read
	joinOn := w.joinOn
	if w.unmatched == "leave_empty" && w.several != "set_aside" && !slices.Contains(w.group, "rate") {
		joinOn = nil // what it would bring isn't wanted
	}
	for _, list := range [][]string{joinOn, w.distinct, w.group} {
		used = used || slices.Contains(list, "n")
	}
	var rates, rows []row
	for _, rate := range w.rates {
		if w.timed == "" || rate["since"] != "" {
			rates = append(rates, rate)
		}
	}
	for _, of := range w.rows {
		f := row{}
		for k, v := range of {
			f[k] = v
		}
		if f["n"] == "x" && used {
			w.aside++
			continue
		}
		asOf := map[string]string{"date": f["day"], "timestamp": f["at"]}[w.timed]
		var fit []row
		for _, rate := range rates {
			ok := w.timed == "" || asOf != "" && rate["since"] <= asOf[:10]
			for _, name := range w.joinOn {
				ok = ok && f[name] != "" && rate[name] == f[name]
			}
			if ok {
				fit = append(fit, rate)
			}
		}
		if w.timed != "" && fit != nil {
			latest := slices.MaxFunc(fit, func(a, b row) int { return cmp.Compare(a["since"], b["since"]) })["since"]
			fit = slices.DeleteFunc(fit, func(rate row) bool { return rate["since"] != latest })
		}
		switch {
		case len(fit) == 0 && w.unmatched == "set_aside", len(fit) > 1 && w.several == "set_aside":
			w.aside++
			continue
		case len(fit) == 0 && w.unmatched == "drop":
			w.drop++
			continue
		case len(fit) == 0:
			f["rate"] = ""
		case w.several == "last":
			f["rate"] = fit[len(fit)-1]["rate"]
		default:
			f["rate"] = fit[0]["rate"]
		}
		if f["twice"] = ""; f["v"] != "" {
			f["twice"] = decimal(2 * cents(f["v"]))
		} else {
			f["v"] = "1.00"
		}
		if cents(f["v"]) >= 9000000 {
			w.aside++
			continue
		}
		rows = append(rows, f)
	}
	id := func(f row, names []string) string {
		var parts []string
		for _, name := range names {
			parts = append(parts, f[name])
		}
		return strings.Join(parts, "|")
	}
	if w.distinct != nil {
		stays := map[string]int{}
		for i, f := range rows {
			if _, there := stays[id(f, w.distinct)]; !there || w.last {
				stays[id(f, w.distinct)] = i
			}
		}
		var kept []row
		for i, f := range rows {
			if stays[id(f, w.distinct)] == i {
				kept = append(kept, f)
			}
		}
		w.merge += int64(len(rows) - len(kept))
		rows = kept
	}
	var lines []string
	if w.group == nil {
		for _, f := range rows {
			lines = append(lines, id(f, []string{"k", "n", "day", "at", "v", "rate", "twice"}))
		}
		return lines
	}
	var order []string
	groups := map[string][]row{}
	for _, f := range rows {
		if groups[id(f, w.group)] == nil {
			order = append(order, id(f, w.group))
		}
		groups[id(f, w.group)] = append(groups[id(f, w.group)], f)
	}
	for _, name := range order {
		sum, least, most, twice, text := int64(0), "", "", 0, ""
		last, at, first, day := "", "", "", ""
		var all []string
		for _, f := range groups[name] {
			sum += cents(f["v"])
			if least == "" || cents(f["v"]) < cents(least) {
				least = f["v"]
			}
			most = max(most, f["at"])
			if f["twice"] != "" {
				twice++
			}
			if f["k"] != "" && (text == "" || f["k"] < text) {
				text = f["k"]
			}
			if f["k"] != "" && !slices.Contains(all, f["k"]) {
				all = append(all, f["k"])
			}
			if f["at"] != "" && f["at"] >= at {
				last, at = f["v"], f["at"]
			}
			if f["k"] != "" && f["day"] != "" && (day == "" || f["day"] < day) {
				first, day = f["k"], f["day"]
			}
		}
		slices.Sort(all)
		n := int64(len(groups[name]))
		middle := (max(sum, -sum)*20000/n + 1) / 2 // millionths, half away from zero
		if sum < 0 {
			middle = -middle
		}
		lines = append(
			lines,
			fmt.Sprintf("%s|%s|%s|%s|%d|%d|%s|%s|%s|%s|%s", name, decimal(sum), least, most, twice, n, text, millionths(middle), last, first, strings.Join(all, ";")),
		)
	}
	w.merge += int64(len(rows) - len(order))
	return lines
}

func (w *trial) write(t *testing.T, dir string) {
	t.Helper()
	write := func(name, head string, rows []row) {
		lines := []string{head}
		for _, f := range rows {
			var values []string
			for _, name := range strings.Split(head, ",") {
				values = append(values, `"`+strings.ReplaceAll(f[name], `"`, `""`)+`"`)
			}
			lines = append(lines, strings.Join(values, ","))
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(strings.Join(lines, "\n")+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	half := len(w.rows) / 3
	write("rows-1.csv", "k,n,day,at,v", w.rows[:half])
	write("rows-2.csv", "k,n,day,at,v", w.rows[half:])
	write("rates.csv", "k,n,since,rate", w.rates)
}

// TestFlow: what comes out, in its order, is what the model says, whatever the number of workers and the size of
// pieces; and no row goes unnoticed.
func TestFlow(t *testing.T) {
	for seed := range uint64(150) {
		w := newTrial(seed)
		dir := t.TempDir()
		w.write(t, dir)
		root, err := os.OpenRoot(dir)
		if err != nil {
			t.Fatal(err)
		}
		m, err := star.Parse("m.yaml", []byte(w.model()), star.Outside{})
		if err != nil {
			t.Fatal(err, "\n", w.model())
		}
		want, places := strings.Join(w.byTheBook(), "\n"), ""
		for _, workers := range []int{1, 5} {
			in := &source.Inputs{Model: m, Root: root, Workers: workers, Piece: 50 * workers}
			in.Memory = []int64{0, 1, 8 * 300}[(seed+uint64(workers))%3] // what is joined goes to disk, at once or later
			flow, err := transform.Open(context.Background(), in, m.Sources[1], func(string) bool { return true })
			if err != nil {
				t.Fatal(err)
			}
			var lines []string
			aside, from := int64(0), ""
			err = pipeline.Batches(context.Background(), flow, workers, func(b *column.Batch) error {
				for i := range b.N {
					if b.Bad(i) {
						aside++
						if raw := b.From.Raw(i); strings.Count(raw, ",") != 4 {
							t.Errorf("a row set aside is %q", raw)
						}
						continue
					}
					var values []string
					for k := range b.Cols {
						values = append(values, b.Cols[k].Value(i))
					}
					lines = append(lines, strings.Join(values, "|"))
					from += fmt.Sprintf("%s:%d ", b.From.File, b.From.Line[i])
				}
				return nil
			})
			if err != nil {
				t.Fatal(err, "\n", w.model())
			}
			if places = cmp.Or(places, from); places != from {
				t.Fatalf("seed %d: rows come from\n%s\nor from\n%s", seed, places, from)
			}
			got := strings.Join(lines, "\n")
			if got != want {
				t.Fatalf("seed %d, %d workers:\n%s\ngot\n%s\nwant\n%s", seed, workers, w.model(), got, want)
			}
			dropped, merged := flow.Gone()
			if flow.Read() != int64(len(w.rows)) || aside != w.aside || dropped != w.drop || merged != w.merge {
				t.Fatalf(
					"seed %d: %d read, %d set aside, %d dropped, %d merged; want %d, %d, %d, %d",
					seed,
					flow.Read(),
					aside,
					dropped,
					merged,
					len(w.rows),
					w.aside,
					w.drop,
					w.merge,
				)
			}
			left := int64(0)
			for _, c := range flow.Counts() {
				if c.Source == "rows" {
					if left > 0 && c.Rows != left {
						t.Fatalf(
							"seed %d: %d rows go on to %s, and %d come: %+v",
							seed,
							left,
							c.Stage,
							c.Rows,
							flow.Counts(),
						)
					}
					left = c.Rows - c.SetAside - c.Dropped - c.Merged
				}
			}
			if left != int64(len(lines)) {
				t.Fatalf("seed %d: %d rows are left, and %d came out", seed, left, len(lines))
			}
		}
		root.Close()
	}
}

// BenchmarkJoin completes rows with the rate of their day.
func BenchmarkJoin(b *testing.B) {
	w := newTrial(0)
	w.joinOn, w.timed, w.unmatched, w.several, w.distinct, w.group = []string{
		"k",
	}, "date", "leave_empty", "last", nil, nil
	for len(w.rows) < 100_000 {
		w.rows = append(w.rows, w.rows[:min(len(w.rows), 1000)]...)
	}
	dir := b.TempDir()
	w.write(&testing.T{}, dir)
	root, err := os.OpenRoot(dir)
	if err != nil {
		b.Fatal(err)
	}
	defer root.Close()
	m, err := star.Parse("m.yaml", []byte(w.model()), star.Outside{})
	if err != nil {
		b.Fatal(err)
	}
	for _, name := range []string{"read", "join"} {
		b.Run(name, func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				flow, err := transform.Open(
					context.Background(),
					&source.Inputs{Model: m, Root: root},
					m.Sources[1].Until(name),
					func(string) bool { return true },
				)
				if err != nil {
					b.Fatal(err)
				}
				batch := column.NewBatch(flow.Fields())
				for p, err := range flow.Pieces(context.Background()) {
					if err == nil {
						err = p.Fill(batch)
					}
					if err != nil {
						b.Fatal(err)
					}
				}
			}
			b.ReportMetric(float64(len(w.rows)*b.N)/b.Elapsed().Seconds(), "rows/s")
		})
	}
}
