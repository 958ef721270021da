package load_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// listModel has passages with lists of cargoes: a dimension of the lists, a bridge from it to the cargoes, and a fact
// with the parts of tolls.
const listModel = `warehouse: {sqlite: star.db}
limits: {set_aside: none, unmatched: none}
sources:
  known: {read: known.csv, columns: {code: text}}
  passages:
    read: "p/*.csv"
    columns: {no: integer, cargoes: text, toll: "decimal(9,2)"}
    derive: {cargo_list: "sorted_list(cargoes, ';')"}
  carried:
    from: passages
    split: {column: %s, at: ";", into: cargo, empty: %s}
    fill: {cargo: none}
    distinct: {by: [no, cargo]}
    weights: {within: no, by: cargo, parts: {part: toll}}
  members:
    from: dimension cargoes
    split: {column: cargo_list, at: ";", into: cargo, empty: keep}
    fill: {cargo: none}
    weights: {within: cargo_list, by: cargo}
  again:
    from: fact carried
    group: {by: no, aggregates: {cargo_list: list(cargo_code)}}
dimensions:
  cargo: {from: known, natural_key: code}
  cargoes: {combinations: {cargo_list: text}}
facts:
  passage: {from: passages, grain: no, repeated: replace, keys: {cargoes: {by: cargo_list}}, measures: toll}
  member: {from: members, grain: [cargoes, cargo], repeated: replace, keys: {cargoes: {by: cargo_list}, cargo: {by: {code: cargo}, unmatched: infer}}, measures: weight}
  carried: {from: carried, grain: [no, cargo], repeated: replace, delivers: all, gone: remove, keys: {cargo: {by: {code: cargo}, unmatched: infer}}, measures: part}
  again: {from: again, grain: no, repeated: replace, delivers: all, gone: remove, degenerate: cargo_list}
`

// lists loads, and returns passages with the number of their list, the lists with their members and weights, the parts
// by cargo, and the lists made of rows again.
func lists(t *testing.T, dir string, options load.Options) (passages, members, parts, again string) {
	t.Helper()
	startest.Write(t, dir, "known.csv", "code\ncoal\nnone\n")
	if _, err := startest.Load(t, dir, options); err != nil {
		t.Fatal(err)
	}
	star := startest.Star(t, dir)
	code := map[string]string{}
	for _, row := range star["dim_cargo"] {
		code[row["cargo_key"]] = row["code"]
	}
	gather := func(table string, form func(row map[string]string) string) string {
		var list []string
		for _, row := range star[table] {
			list = append(list, form(row))
		}
		slices.Sort(list)
		return strings.Join(list, ", ")
	}
	passages = gather("fact_passage", func(row map[string]string) string { return row["no"] + ">" + row["cargoes_key"] })
	members = gather("fact_member", func(row map[string]string) string {
		return row["cargoes_key"] + " " + code[row["cargo_key"]] + " " + row["weight"]
	})
	parts = gather("fact_carried", func(row map[string]string) string {
		return row["no"] + " " + code[row["cargo_key"]] + " " + or(row["part"])
	})
	again = gather("fact_again", func(row map[string]string) string { return row["no"] + "=" + row["cargo_list"] })
	if !startest.Proved(t, dir) {
		t.Error("the star is broken")
	}
	return passages, members, parts, again
}

// TestLists is a worked example of a dimension of lists: the same members are one list, in whatever order and however
// often they are named; a list without members and none at all are lists, too, and no toll is lost on the way to the
// cargoes.
func TestLists(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(listModel, "cargoes", "keep"))
	startest.Write(t, dir, "p/1.csv", "no,cargoes,toll\n1,coal;grain,10.01\n2,grain; coal ;coal;,20.00\n3,oil,5.00\n4,;,7.00\n5,,8.00\n6,coal;grain;oil,10.00\n")
	passages, members, parts, again := lists(t, dir, load.Options{})
	for _, x := range [][2]string{
		{passages, "1>1, 2>1, 3>2, 4>3, 5>4, 6>5"},
		{members, "1 coal 0.500000, 1 grain 0.500000, 2 oil 1.000000, 3 none 1.000000, 4 none 1.000000, 5 coal 0.333334, 5 grain 0.333333, 5 oil 0.333333"},
		{parts, "1 coal 5.01, 1 grain 5.00, 2 coal 10.00, 2 grain 10.00, 3 oil 5.00, 4 none 7.00, 5 none 8.00, 6 coal 3.34, 6 grain 3.33, 6 oil 3.33"},
		{again, "1=coal;grain, 2=coal;grain, 3=oil, 4=none, 5=none, 6=coal;grain;oil"},
	} {
		if x[0] != x[1] {
			t.Errorf("%s\nwant %s", x[0], x[1])
		}
	}
}

// TestRandomLists holds random lists against a count by the book, over three loads with other lists of the same
// passages, and what is undone against what was there before.
func TestRandomLists(t *testing.T) {
	manyCases(t, 10, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 95))
		dir := t.TempDir()
		column, empty := pick(r, "cargoes", "cargo_list"), pick(r, "keep", "leave_out")
		model := inEither(t, seed, fmt.Sprintf(listModel, column, empty))
		if column == "cargo_list" { // which is derived later: a source in between has it
			model = strings.Replace(model, "  carried:\n    from: passages", "  between: {from: passages}\n  carried:\n    from: between", 1)
		}
		startest.Write(t, dir, "ironmonger.yaml", model)
		numbers, before := map[string]int{}, ""
		var run int64
		for n := range 3 {
			text := "no,cargoes,toll\n"
			want := map[string][]string{}
			for no := range 25 {
				var list []string
				for range r.IntN(5) {
					list = append(list, pick(r, "coal", " coal", "grain", "oil ", "", "wood", "ä", "coal grain"))
				}
				toll := r.IntN(6000) - 1000 // cents
				text += fmt.Sprintf("%d,%s,%s\n", no, strings.Join(list, ";"), amount(toll))
				byTheBook(want, no, list, toll, empty == "keep", numbers)
			}
			startest.Write(t, dir, "p/1.csv", text)
			if n > 0 {
				before = startest.Dump(t, dir)
			}
			run++
			passages, _, parts, again := lists(t, dir, load.Options{Piece: 1 + r.IntN(500), Memory: []int64{0, 1}[r.IntN(2)], Workers: 1 + r.IntN(3)})
			got := map[string]string{"passages": passages, "parts": parts, "again": again}
			for name, x := range got {
				slices.Sort(want[name])
				if x != strings.Join(want[name], ", ") {
					t.Fatalf("seed %d, load %d, %s: %s\nwant %s", seed, n, name, x, strings.Join(want[name], ", "))
				}
			}
		}
		undoFrom(t, dir, run)
		if diff := startest.Difference(before, startest.Dump(t, dir)); diff != "" {
			t.Errorf("seed %d: once it is undone\n%s", seed, diff)
		}
	})
}

// byTheBook notes what a passage with a list has to be in the star.
func byTheBook(want map[string][]string, no int, list []string, toll int, empty bool, numbers map[string]int) {
	var members []string
	for _, x := range list {
		if x = strings.Trim(x, " "); x != "" && !slices.Contains(members, x) {
			members = append(members, x)
		}
	}
	slices.Sort(members)
	id := strings.Join(members, ";")
	if strings.Join(list, ";") == "" {
		id = "(null)"
	}
	if numbers[id] == 0 {
		numbers[id] = len(numbers) + 1
	}
	want["passages"] = append(want["passages"], fmt.Sprintf("%d>%d", no, numbers[id]))
	if len(members) == 0 && empty {
		members = []string{"none"}
	}
	if len(members) == 0 {
		return
	}
	want["again"] = append(want["again"], fmt.Sprintf("%d=%s", no, strings.Join(members, ";")))
	size := max(toll, -toll)
	for k, x := range members {
		part := size / len(members)
		if k < size%len(members) {
			part++
		}
		if toll < 0 {
			part = -part
		}
		want["parts"] = append(want["parts"], fmt.Sprintf("%d %s %s", no, x, amount(part)))
	}
}

// amount writes cents.
func amount(cents int) string {
	if cents < 0 {
		return "-" + amount(-cents)
	}
	return fmt.Sprintf("%d.%02d", cents/100, cents%100)
}
