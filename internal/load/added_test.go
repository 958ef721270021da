package load_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// TestAddedColumns gives a fact measures, columns and keys when it has rows already: the next load fills them where the
// files are still there, as if they had been there from the beginning, and nothing else of a row changes; rows of
// archived files have none. A column that is taken out of the model again stays, and new rows have null there.
func TestAddedColumns(t *testing.T) {
	const model = `%s
limits: {set_aside: none}
sources:
  trips: {read: "in/*.csv", columns: {no: integer, boat: text, quay: text, note: text, fare: "decimal(7,2)", tons: integer}}
  boats: {read: boats.csv, columns: {code: text}}
  quays: {read: quays.csv, columns: {name: text}}
dimensions:
  boat: {from: boats, natural_key: code}
  quay: {from: quays, natural_key: name}
facts:
  trip: {from: trips, grain: no, repeated: %s, keys: {boat: {by: boat}%s}, measures: [fare%s]%s}
`
	manyCases(t, 8, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 51))
		place := "warehouse: {sqlite: star.db}"
		where := func() string {
			if seed%2 == 0 {
				return place
			}
			connection, schema := startest.Postgres(t)
			return fmt.Sprintf("warehouse: {postgres: %q, schema: %s}", connection, schema)
		}
		rule := []string{"set_aside", "replace", "keep", "stop"}[r.IntN(4)]
		key := pick(r, ", quay: {by: quay}", ", quay: {by: quay, missing: leave_empty, unmatched: infer}", "")
		measure, kept := pick(r, ", tons", ""), pick(r, ", degenerate: note", "")
		grown, whole := t.TempDir(), t.TempDir()
		model0, model1 := fmt.Sprintf(model, where(), rule, "", "", ""), ""
		startest.Write(t, grown, "ironmonger.yaml", model0)
		model1 = strings.Replace(fmt.Sprintf(model, "%s", rule, key, measure, kept), "%s", strings.SplitN(model0, "\n", 2)[0], 1)
		startest.Write(t, whole, "ironmonger.yaml", strings.Replace(model1, strings.SplitN(model1, "\n", 2)[0], where(), 1))
		put := func(name, text string) {
			startest.Write(t, grown, name, text)
			startest.Write(t, whole, name, text)
		}
		put("boats.csv", "code\nA\nB\n")
		put("quays.csv", "name\nEast\nWest\n")
		no := 0
		file := func(n int) {
			text := "no,boat,quay,note,fare,tons\n"
			for range 1 + r.IntN(20) {
				no++
				row := fmt.Sprintf("%d,%s,%s,%s,%d.50,%s\n", no, pick(r, "A", "B", "C"), pick(r, "East", "West", "North", ""), pick(r, "x", "", "y"), r.IntN(9), pick(r, "1", "22", ""))
				if text += row; r.IntN(6) == 0 {
					text += row // twice
				}
			}
			put(fmt.Sprintf("in/%d.csv", n), text)
		}
		run := func(dir string) {
			t.Helper()
			if run, err := startest.Load(t, dir, load.Options{Piece: 1 + r.IntN(400), Workers: 1 + r.IntN(3)}); err != nil {
				t.Fatalf("seed %d, %s%s%s: %v: %s", seed, key, measure, kept, err, run.Steps[len(run.Steps)-1].Message)
			}
			if !startest.Proved(t, dir) {
				t.Errorf("seed %d: the star is broken", seed)
			}
		}
		file(0)
		file(1)
		run(grown)
		file(2)
		run(grown)
		archived := ""
		if r.IntN(2) == 0 {
			archived = fmt.Sprintf("in/%d.csv", r.IntN(2))
		}
		run(whole)
		before := facts(t, whole, "")
		if archived != "" {
			os.Remove(filepath.Join(grown, archived))
			os.Remove(filepath.Join(whole, archived))
		}
		startest.Write(t, grown, "ironmonger.yaml", model1)
		run(grown)
		file(3)
		run(grown)
		run(whole)
		want := facts(t, whole, archived)
		if got := facts(t, grown, archived); !slices.Equal(got, want) || len(want) <= len(before) {
			t.Errorf("seed %d, %s%s%s, archived %q:\n%s", seed, key, measure, kept, archived, startest.Difference(strings.Join(got, "\n"), strings.Join(want, "\n")))
		}
		startest.Write(t, grown, "ironmonger.yaml", model0) // they are taken out again
		file(4)
		if key == "" || strings.Contains(key, "leave_empty") {
			run(grown)
		}
	})
}

// facts lists the trips of a star, by what they say and not by how it is numbered; those of an archived file without
// what was added.
func facts(t *testing.T, dir, archived string) []string {
	t.Helper()
	star := startest.Star(t, dir)
	names := map[string]string{}
	for _, of := range []struct{ table, key, name string }{{"dim_boat", "boat_key", "code"}, {"dim_quay", "quay_key", "name"}} {
		for _, row := range star[of.table] {
			names[of.key+row[of.key]] = row[of.name]
			if strings.HasPrefix(row[of.key], "-") {
				names[of.key+row[of.key]] = "special " + row[of.key]
			}
		}
	}
	db := startest.Open(t, dir)
	defer db.Close()
	numbers, err := ledger.FileNames(context.Background(), db)
	if err != nil {
		t.Fatal(err)
	}
	var list []string
	for _, row := range star["fact_trip"] {
		line, err := strconv.ParseInt(row["load_line"], 10, 64)
		if err != nil {
			t.Fatal(err)
		}
		number, _ := ledger.FileAndLine(line)
		said := []string{row["no"], names["boat_key"+row["boat_key"]], row["fare"]}
		if archived == "" || numbers[number] != archived {
			said = append(said, names["quay_key"+row["quay_key"]], row["note"], row["tons"])
		}
		list = append(list, strings.Join(said, " "))
	}
	slices.Sort(list)
	return list
}
