package load_test

import (
	"fmt"
	"math/big"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

const bridgeModel = `warehouse: {sqlite: star.db}
limits: {set_aside: none}
sources:
  read: {read: "c/*.csv", columns: {passage: integer, cargo: text, share: integer, toll: "decimal(9,2)"}}
  cargoes:
    from: read
    weights: {within: passage, by: cargo, places: %d%s, parts: {part: toll}}
dimensions:
  cargo: {from: read, natural_key: cargo, type_1: cargo_name%s}
facts:
  passage_cargo: {from: cargoes, grain: [passage, cargo], repeated: replace, keys: {cargo: {by: cargo}}, measures: [weight, part]}
`

// TestWeights are worked examples of lists of members: thirds, shares, sevenths, no places, and an amount below zero.
func TestWeights(t *testing.T) {
	for _, c := range []struct {
		places       int
		shares, rows string
		weights      string
		parts        string
	}{
		{6, "", "A,,100.00 B,,100.00 C,,100.00", "0.333334 0.333333 0.333333", "33.34 33.33 33.33"},
		{6, "", "C,,-100.00 B,,-100.00 A,,-100.00", "0.333334 0.333333 0.333333", "-33.34 -33.33 -33.33"},
		{4, ", shares: share", "A,50,1.00 B,30,1.00 C,19,1.00", "0.5051 0.3030 0.1919", "0.51 0.30 0.19"},
		{2, "", "A,,0.00 B,,0.00 C,,0.00 D,,0.00 E,,0.00 F,,0.00 G,,0.00", "0.15 0.15 0.14 0.14 0.14 0.14 0.14", "0.00 0.00 0.00 0.00 0.00 0.00 0.00"},
		{4, ", shares: share", "B,3,10.00 A,2,10.00 A,2,10.00", "0.5714 0.4286", "5.71 4.29"},
		{2, "", "A,,10.00 B,,10.00 A,,10.00", "0.50 0.50", "5.00 5.00"},
		{0, "", "A,, B,, C,,", "1 0 0", "- - -"},
		{6, ", shares: share", "A,0,5.00 B,0,5.00", "- -", "- -"},
		{6, ", shares: share", "A,-1,5.00 B,3,5.00", "- -", "- -"},
		{2, ", shares: share", "A,,5.00 B,3,5.00", "0.00 1.00", "0.00 5.00"},
	} {
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", strings.Replace(fmt.Sprintf(bridgeModel, c.places, c.shares, ""), ", type_1: cargo_name", ", type_1: []", 1))
		text := "passage,cargo,share,toll\n"
		for _, row := range strings.Fields(c.rows) {
			text += "7," + row + "\n"
		}
		startest.Write(t, dir, "c/1.csv", text)
		if _, err := startest.Load(t, dir, load.Options{}); err != nil {
			t.Fatal(err)
		}
		star := startest.Star(t, dir)
		name := map[string]string{}
		for _, row := range star["dim_cargo"] {
			name[row["cargo_key"]] = row["cargo"]
		}
		var list [][2]string
		for _, row := range star["fact_passage_cargo"] {
			list = append(list, [2]string{name[row["cargo_key"]], or(row["weight"]) + "|" + or(row["part"])})
		}
		slices.SortFunc(list, func(a, b [2]string) int { return strings.Compare(a[0], b[0]) })
		var weights, parts []string
		for _, x := range list {
			weight, part, _ := strings.Cut(x[1], "|")
			weights, parts = append(weights, weight), append(parts, part)
		}
		if got := strings.Join(weights, " ") + "; " + strings.Join(parts, " "); got != c.weights+"; "+c.parts {
			t.Errorf("%s %s: %s, want %s; %s", c.rows, c.shares, got, c.weights, c.parts)
		}
		if !startest.Proved(t, dir) {
			t.Error("the star is broken")
		}
	}
}

func or(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// TestWeightsAddUp: the weights of each list add up to 1, and the parts to the amount, in memory and on disk, also when
// a list has become another one; and each is less than a unit away from its share.
func TestWeightsAddUp(t *testing.T) {
	manyCases(t, 10, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 81))
		dir := t.TempDir()
		places := r.IntN(8)
		startest.Write(t, dir, "ironmonger.yaml", inEither(t, seed, strings.Replace(fmt.Sprintf(bridgeModel, places, ", shares: share", ""), ", type_1: cargo_name", ", type_1: []", 1)))
		shares := map[string]*big.Rat{}
		totals := map[string]*big.Rat{}
		tolls := map[string]string{}
		text := "passage,cargo,share,toll\n"
		for passage := range 40 {
			toll := fmt.Sprintf("%d.%02d", r.IntN(200)-100, r.IntN(100))
			for n := range 1 + r.IntN(9) {
				share := int64(1 + r.IntN(97))
				id := fmt.Sprint(passage)
				text += fmt.Sprintf("%d,C%d,%d,%s\n", passage, n, share, toll)
				shares[id+" C"+fmt.Sprint(n)] = big.NewRat(share, 1)
				if totals[id] == nil {
					totals[id] = new(big.Rat)
				}
				totals[id].Add(totals[id], big.NewRat(share, 1))
				tolls[id] = toll
			}
		}
		startest.Write(t, dir, "c/1.csv", text)
		if _, err := startest.Load(t, dir, load.Options{Piece: 1 + r.IntN(500), Memory: []int64{0, 1}[r.IntN(2)]}); err != nil {
			t.Fatal(err)
		}
		star := startest.Star(t, dir)
		name := map[string]string{}
		for _, row := range star["dim_cargo"] {
			name[row["cargo_key"]] = row["cargo"]
		}
		weights, parts := map[string]*big.Rat{}, map[string]*big.Rat{}
		unit := new(big.Rat).SetFrac(big.NewInt(1), new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(places)), nil))
		for _, row := range star["fact_passage_cargo"] {
			id := row["passage"]
			weight, _ := new(big.Rat).SetString(row["weight"])
			part, _ := new(big.Rat).SetString(row["part"])
			if weights[id] == nil {
				weights[id], parts[id] = new(big.Rat), new(big.Rat)
			}
			weights[id].Add(weights[id], weight)
			parts[id].Add(parts[id], part)
			exact := new(big.Rat).Quo(shares[id+" "+name[row["cargo_key"]]], totals[id])
			if off := new(big.Rat).Sub(weight, exact); off.Abs(off).Cmp(unit) >= 0 {
				t.Errorf("seed %d: a weight is %s, and its share %s", seed, row["weight"], exact.FloatString(9))
			}
		}
		for id, sum := range weights {
			toll, _ := new(big.Rat).SetString(tolls[id])
			if sum.Cmp(big.NewRat(1, 1)) != 0 || parts[id].Cmp(toll) != 0 {
				t.Errorf("seed %d: the weights of %s add up to %s, and the parts to %s of %s", seed, id, sum.FloatString(9), parts[id].FloatString(2), tolls[id])
			}
		}
		if len(weights) != 40 || !startest.Proved(t, dir) {
			t.Errorf("seed %d: %d lists, or the star is broken", seed, len(weights))
		}
	})
}
