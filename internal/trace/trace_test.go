package trace_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/startest"
	"ironmonger/internal/trace"
	"ironmonger/internal/warehouse"
)

func TestMain(m *testing.M) { os.Exit(startest.Main(m)) }

const model = `warehouse:
  %s
limits: {unmatched: none, set_aside: none}
sources:
  boats:
    read: boats/*.csv
    columns: {reg: text, class: text, since: date}
  trips:
    read: trips/*.csv
    columns: {trip: integer, reg: text, at: date, remark: text, toll: "decimal(9,2)"}
    require:
      no toll: toll is not null
dimensions:
  boat:
    from: boats
    natural_key: reg
    type_2: class
    effective: since
facts:
  trip:
    from: trips
    grain: trip
    keys:
      boat:
        by: reg
        as_of: at
    measures: toll
`

// written is a row as the test wrote it, and where.
type written struct {
	file string
	line int
	row  string
}

// write writes rows to the first of three files, or to all, and says where each begins: behind rows with line
// breaks in them.
func write(t *testing.T, dir, name, header string, rows []string, files int) map[string]written {
	t.Helper()
	places := map[string]written{}
	for n := range files {
		file, text, line := fmt.Sprintf("%s/%d.csv", name, n), header+"\n", 2
		for _, row := range rows[len(rows)*n/3 : len(rows)*(n+1)/3] {
			places[row] = written{file, line, row}
			text += row + "\n"
			line += 1 + strings.Count(row, "\n")
		}
		startest.Write(t, dir, file, text)
	}
	return places
}

func text(values []trace.Value, name string) string {
	for _, v := range values {
		if v.Name == name && v.Value != nil {
			return *v.Value
		}
	}
	return ""
}

// TestTrace traces every fact and every member of a star from random files: each comes from the row that the test
// wrote there, which says what the table says, whichever of the loads brought it.
func TestTrace(t *testing.T) {
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			dir, where := t.TempDir(), "sqlite: star.db"
			if kind == "postgres" {
				connection, schema := startest.Postgres(t)
				where = "postgres: " + connection + "\n  schema: " + schema
			}
			startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(model, where))
			r := rand.New(rand.NewPCG(8, 8))
			var boats, trips []string
			seen := map[string]bool{}
			for range 60 {
				row := fmt.Sprintf("B%d,%c,2024-%02d-%02d", r.IntN(9), 'a'+r.IntN(3), 1+r.IntN(6), 1+r.IntN(28))
				if key := row[:2] + row[4:]; !seen[key] {
					seen[key] = true
					boats = append(boats, row)
				}
			}
			for n := range 120 {
				remark := []string{"", "calm", "\"wind,\nand rain\"", "\"a \"\"gust\"\"\n\n\""}[r.IntN(4)]
				toll := []string{"1.50", "0.05", "12.00", ""}[r.IntN(4)]
				trips = append(
					trips,
					fmt.Sprintf("%d,B%d,2024-%02d-10,%s,%s", n, r.IntN(10), 1+r.IntN(7), remark, toll),
				)
			}
			ctx := context.Background()
			var boatAt, tripAt map[string]written
			for _, files := range []int{1, 3} {
				boatAt = write(t, dir, "boats", "reg,class,since", boats, files)
				tripAt = write(t, dir, "trips", "trip,reg,at,remark,toll", trips, files)
				if _, err := startest.Load(t, dir, load.Options{Piece: 200, Workers: 3}); err != nil {
					t.Fatal(err)
				}
			}
			m := startest.Model(t, dir)
			s := schema.New(m)
			root, err := os.OpenRoot(dir)
			if err != nil {
				t.Fatal(err)
			}
			defer root.Close()
			wh := startest.Open(t, dir)
			defer wh.Close()
			facts := 0
			for row, at := range tripAt {
				fields := strings.Split(row, ",")
				found, err := trace.OfFact(ctx, wh, root, m, s.Facts[0], fields[:1])
				if strings.HasSuffix(row, ",") {
					if !errors.Is(err, trace.ErrNone) {
						t.Errorf("trip %s, which was set aside: %v", fields[0], err)
					}
					continue
				}
				if err != nil {
					t.Fatal(err)
				}
				facts++
				if at := fmt.Sprintf("%s:%d", at.file, at.line); found.Origin.Place != at ||
					found.Origin.Fault != "" {
					t.Errorf(
						"trip %s stands at %s, and is said to at %s %s",
						fields[0],
						at,
						found.Origin.Place,
						found.Origin.Fault,
					)
				}
				if key := found.Keys[0]; text(found.Origin.Read, "reg") != fields[1] ||
					text(found.Origin.Shaped, "reg") != fields[1] ||
					key.Delivered != "reg ‹"+fields[1]+"›" ||
					key.Member != fields[1] {
					t.Errorf("trip %s: %+v, %+v", row, key, found.Origin)
				}
				if key := found.Keys[0]; fields[2] < key.From || fields[2] >= key.To {
					t.Errorf("trip %s points to the version of %s to %s", row, key.From, key.To)
				}
				if text(found.Row, "toll") != fields[len(fields)-1] {
					t.Errorf("trip %s has toll %s", row, text(found.Row, "toll"))
				}
			}
			if facts < 60 {
				t.Error("only", facts, "facts")
			}
			members(t, wh, root, m, s.Dimensions[0], boatAt)
		})
	}
}

// members traces each boat: all its rows are told, with their places, and no other's.
func members(
	t *testing.T,
	wh warehouse.Warehouse,
	root *os.Root,
	m *star.Model,
	d *schema.Dimension,
	boatAt map[string]written,
) {
	t.Helper()
	for n := range 10 {
		reg := fmt.Sprint("B", n)
		var want []string
		for row, at := range boatAt {
			if strings.HasPrefix(row, reg+",") {
				want = append(want, fmt.Sprintf("%s:%d", at.file, at.line))
			}
		}
		found, err := trace.OfMember(context.Background(), wh, root, m, d, []string{reg}, nil)
		if err != nil {
			t.Fatal(reg, err)
		}
		var got []string
		for _, o := range found.Observations {
			got = append(got, o.Place)
		}
		slices.Sort(want)
		slices.Sort(got)
		if !slices.Equal(got, want) {
			t.Errorf("%s is told of at %v, and should be at %v", reg, got, want)
		}
		if len(want) == 0 && found.Inferred == 0 {
			t.Errorf("%s was inferred: %+v", reg, found)
		}
		if last := found.Versions[len(found.Versions)-1]; text(last.Row, "is_current") != "true" {
			t.Errorf("the last version of %s is not current", reg)
		}
		for _, v := range found.Versions {
			began := 0
			for _, o := range found.Observations {
				if o.Became == "boat_key "+v.Key+" begins with it" &&
					text(o.Shaped, "class") == text(v.Row, "class") &&
					text(o.Shaped, "since") == text(v.Row, "effective_from") {
					began++
				}
			}
			if began != min(len(want), 1) {
				t.Errorf(
					"%s: %d rows say that version %s begins with them: %+v",
					reg,
					began,
					v.Key,
					found.Observations,
				)
			}
		}
	}
	if _, err := trace.OfMember(context.Background(), wh, root, m, d, []string{"B99"}, nil); !errors.Is(
		err,
		trace.ErrNone,
	) {
		t.Error(err)
	}
}
