package preview_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/preview"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/startest"
)

func TestMain(m *testing.M) { os.Exit(startest.Main(m)) }

const model = `warehouse:
  %s
limits: {set_aside: none, unmatched: none}
sources:
  trips:
    read: trips/*.csv
    columns: {trip: integer, lock: text, day: date, toll: "decimal(9,2)"}
dimensions:
  lock:
    natural_key: code
    rows:
      - {code: L1, name: Upper Gate}
      - {code: L2, name: Lower Gate}
facts:
  trip:
    from: trips
    grain: trip
    degenerate: day
    keys:
      lock:
        by: lock
        unmatched: unknown
    measures: toll
`

// trip is a row as the test wrote it, with its place; one without a day that can be read is set aside.
type trip struct {
	values []string // empty is null
	place  string
	aside  bool
}

// wishes are conditions, and which rows each means, by trip, lock, day and toll.
var wishes = []struct {
	where string
	holds func(v []string) bool
}{
	{"", func([]string) bool { return true }},
	{"toll > 1.5", func(v []string) bool { return len(v[3]) == 4 && v[3] > "1.50" }},
	{"toll is null", func(v []string) bool { return v[3] == "" }},
	{"day >= date '2024-03-01' and trip < 40", func(v []string) bool {
		return v[2] >= "2024-03-01" && len(v[0]) < 3 && fmt.Sprintf("%02s", v[0]) < "40"
	}},
	{"trip < 0", func([]string) bool { return false }},
}

func plain(rows [][]*string) []string {
	var list []string
	for _, row := range rows {
		s := ""
		for _, v := range row {
			if v == nil {
				s += "|"
			} else {
				s += *v + "|"
			}
		}
		list = append(list, s)
	}
	return list
}

// TestSample asks for rows of a source and of the fact made of it, by any condition, number and choice of columns:
// they are those that a loop over what the test wrote finds, in order, with their places, and what is said of how
// many there are is so.
func TestSample(t *testing.T) {
	for _, kind := range []string{"sqlite", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			dir, where := t.TempDir(), "sqlite: star.db"
			if kind == "postgres" {
				connection, schema := startest.Postgres(t)
				where = "postgres: " + connection + "\n  schema: " + schema
			}
			startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(model, where))
			r := rand.New(rand.NewPCG(4, 2))
			var all []trip
			for n := range 2 {
				text := "trip,lock,day,toll\n"
				for line := range 60 {
					x := trip{
						[]string{
							fmt.Sprint(len(all)),
							[]string{"L1", "L2", "L9", ""}[r.IntN(4)],
							fmt.Sprintf("2024-%02d-11", 1+r.IntN(5)),
							[]string{"1.25", "1.50", "3.75", ""}[r.IntN(4)],
						},
						fmt.Sprintf("trips/%d.csv:%d", n, line+2),
						r.IntN(9) == 0,
					}
					row := strings.Join(x.values, ",")
					if x.aside {
						row = strings.Replace(row, "2024-", "some day ", 1)
					}
					text += row + "\n"
					all = append(all, x)
				}
				startest.Write(t, dir, fmt.Sprintf("trips/%d.csv", n), text)
			}
			if _, err := startest.Load(t, dir, load.Options{}); err != nil {
				t.Fatal(err)
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
			for range 200 {
				w := wishes[r.IntN(len(wishes))]
				wish := preview.Wish{
					Rows:    r.IntN(150),
					Where:   w.where,
					Count:   r.IntN(2) == 0,
					Natural: r.IntN(2) == 0,
				}
				var rows, facts, places []string
				asides := int64(0)
				for _, x := range all {
					if x.aside {
						asides++
					} else if w.holds(x.values) {
						rows = append(rows, strings.Join(x.values, "|")+"|")
						places = append(places, x.place)
						member := map[string]string{"L1": "1", "L2": "2", "L9": "-1", "": "-1"}[x.values[1]]
						if wish.Natural {
							member = map[string]string{"L1": "L1", "L2": "L2", "L9": "Unknown", "": "Unknown"}[x.values[1]]
						}
						facts = append(facts, fmt.Sprintf("%s|%s|", x.values[3], member))
					}
				}
				n := min(wish.Rows, len(rows))
				got, err := preview.Source(context.Background(), &source.Inputs{Model: m, Root: root}, m.Sources[0], wish)
				if err != nil || !slices.Equal(plain(got.Rows), rows[:n]) || !slices.Equal(got.Places, places[:n]) {
					t.Fatalf("%+v: %v\n%v\n%v", wish, err, plain(got.Rows), rows[:n])
				}
				if got.All &&
					(got.Matched != int64(len(rows)) || got.SetAside != asides || got.Seen != int64(len(all))) ||
					wish.Count && !got.All {
					t.Fatalf("%+v: %+v", wish, got)
				}
				wish.Columns = []string{"toll", "lock_key"}
				got, err = preview.Fact(context.Background(), wh, s, s.Facts[0], wish)
				if err != nil || !slices.Equal(plain(got.Rows), facts[:n]) {
					t.Fatalf("%+v: %v\n%v\n%v", wish, err, plain(got.Rows), facts[:n])
				}
				if got.All && got.Matched != int64(len(facts)) || (wish.Count || wish.Rows > len(all)) && !got.All {
					t.Fatalf("%+v: %+v", wish, got)
				}
			}
			for _, wish := range []preview.Wish{{Columns: []string{"tol"}}, {Where: "toll +"}, {Where: "toll"}} {
				if got, err := preview.Source(context.Background(), &source.Inputs{Model: m, Root: root}, m.Sources[0], wish); err == nil {
					t.Errorf("%+v: %+v", wish, got)
				}
			}
		})
	}
}
