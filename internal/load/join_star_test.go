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

// TestJoinStar has trips find their band of tonnage by its range, the waterway of the lock as of their day, and the
// vessel by its number or else by its former one, all in dimensions of the model; against a search through all rows.
func TestJoinStar(t *testing.T) {
	manyCases(t, 10, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 83))
		dir := t.TempDir()
		several, by := pick(r, "first", "last"), pick(r, "", "by: kind, ")
		startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(`warehouse: {sqlite: star.db}
limits: {set_aside: none, unmatched: none}
sources:
  locks: {read: locks.csv, columns: {code: text, waterway: text, since: date}}
  ways: {read: ways.csv, columns: {code: text}}
  vessels: {read: vessels.csv, columns: {registry: text, former: text}}
  bands: {read: bands.csv, columns: {band: integer, kind: text, least: "decimal(7,1)", below: "decimal(7,1)"}}
  trips:
    read: trips.csv
    columns: {no: integer, lock: text, day: date, vessel: text, kind: text, tonnage: "decimal(7,1)"}
    join:
      lock: {source: dimension lock, by: {code: lock}, as_of: day, bring: {%s: waterway}, unmatched: leave_empty}
      band: {source: dimension band, %srange: {of: tonnage, from: least, to: below}, bring: band, unmatched: leave_empty, several: %s}
      known: {source: dimension vessel, by: {registry: vessel}, bring: {registry: known}, unmatched: leave_empty}
      former: {source: dimension vessel, by: {former: vessel}, bring: {registry: found}, unmatched: leave_empty, several: first}
    derive: {vessel_no: "coalesce(known, found, vessel)"}
dimensions:
  way: {from: ways, natural_key: code}
  lock: {from: locks, natural_key: code, type_2: [waterway, way], effective: since, keys: {way: {by: waterway}}}
  vessel: {from: vessels, natural_key: registry}
  band: {from: bands, natural_key: band}
facts:
  trip:
    from: trips
    grain: no
    keys: {lock: {by: lock, as_of: day}, way: {by: waterway}, band: {by: band, unmatched: set_aside}, vessel: {by: vessel_no}}
    measures: tonnage
`, pick(r, "waterway", "way_code"), by, several))
		startest.Write(t, dir, "ways.csv", "code\nE\nW\n")
		startest.Write(t, dir, "vessels.csv", "registry,former\nV1,F1\nV2,V1\nV3,F3\n")
		type band struct{ kind, least, below int } // kinds 0 and 1; tenths; 0 is none
		var bands []band
		text := "band,kind,least,below\n"
		tenths := func(n int) string {
			if n == 0 {
				return ""
			}
			return fmt.Sprintf("%d.%d", n/10, n%10)
		}
		for n := range 1 + r.IntN(12) {
			b := band{r.IntN(2), r.IntN(50), r.IntN(60)}
			bands = append(bands, b)
			text += fmt.Sprintf("%d,k%d,%s,%s\n", n, b.kind, tenths(b.least), tenths(b.below))
		}
		startest.Write(t, dir, "bands.csv", text)
		startest.Write(t, dir, "locks.csv", "code,waterway,since\nL1,E,2025-01-01\nL1,W,2025-02-01\nL2,W,2025-01-01\n")
		text = "no,lock,day,vessel,kind,tonnage\n"
		var want []string
		for no := range 40 {
			lock, month, vessel, kind, tons := pick(r, "L1", "L2", "L9"), 1+r.IntN(3), pick(r, "V1", "F1", "F3", "X"), r.IntN(2), r.IntN(70)
			text += fmt.Sprintf("%d,%s,2025-%02d-15,%s,k%d,%s\n", no, lock, month, vessel, kind, tenths(tons))
			way := map[string]string{"L1": "W", "L2": "W"}[lock]
			if lock == "L1" && month == 1 {
				way = "E"
			}
			fits := ""
			for n, b := range bands {
				in := tons > 0 && b.least <= tons && (b.below == 0 || tons < b.below) && (by == "" || b.kind == kind)
				if in && (fits == "" || several == "last") {
					fits = fmt.Sprint(n)
				}
			}
			vessel = map[string]string{"V1": "V1", "F1": "V1", "F3": "V3", "X": "X"}[vessel]
			want = append(want, strings.Join([]string{fmt.Sprint(no), lock, way, fits, vessel}, " "))
		}
		startest.Write(t, dir, "trips.csv", text)
		for range 2 {
			if _, err := startest.Load(t, dir, load.Options{Piece: 1 + r.IntN(400), Memory: int64(r.IntN(2)) << 20}); err != nil {
				t.Fatal(err)
			}
		}
		rows := startest.Star(t, dir)
		said := func(dimension, column, key string) string {
			for _, row := range rows["dim_"+dimension] {
				if row[dimension+"_key"] == key {
					return row[column]
				}
			}
			return "?"
		}
		var got []string
		for _, row := range rows["fact_trip"] {
			got = append(got, strings.Join([]string{row["no"], said("lock", "code", row["lock_key"]), said("way", "code", row["way_key"]), said("band", "band", row["band_key"]), said("vessel", "registry", row["vessel_key"])}, " "))
		}
		slices.Sort(got)
		slices.Sort(want)
		if !slices.Equal(got, want) {
			t.Errorf("seed %d, %s %s\n%s\n%s", seed, by, several, text, startest.Difference(strings.Join(got, "\n"), strings.Join(want, "\n")))
		}
		if !startest.Proved(t, dir) {
			t.Error("the star is broken")
		}
	})
}
