package assert_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"ironmonger/internal/assert"
	"ironmonger/internal/column"
	"ironmonger/internal/source"
	"ironmonger/internal/startest"
)

// row is a row of the table that is judged; a null is told apart by has.
type row struct {
	toll    int64 // in hundredths
	hasToll bool
	lock    string // null if empty
	water   string
	big     bool
}

// TestJudge holds what is said of random rows, in batches of any size, against a restatement: what every row has to
// be, of each lock the one waterway, shares and numbers of rows, and totals, of all rows or those that are chosen.
func TestJudge(t *testing.T) {
	const model = `warehouse:
  sqlite: star.db
sources:
  s:
    read: s.csv
    columns: {trip: integer, toll: "decimal(9,2)", lock: text, water: text, big: boolean}
dimensions:
  lock:
    natural_key: code
    rows:
      - {code: L1}
facts:
  trip:
    from: s
    grain: trip
    degenerate: [lock, water, big]
    keys:
      key:
        dimension: lock
        by: lock
    measures: toll
    must_hold:
      paid: {every: toll > 1}
      big ones paid: {every: toll > 1, where: big}
      one water: {each: lock, has_one: water}
      one water of the big: {each: lock, has_one: water, where: big}
      many: {at_least: 3, where: big}
      not too many: {at_most: 40%%, where: big}
      all there: {total: toll, source: s, column: toll, where: big}
`
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 2))
		rows := make([]row, r.IntN(14))
		text := "trip,toll,lock,water,big\n"
		for i := range rows {
			rows[i] = row{
				r.Int64N(300),
				r.IntN(6) > 0,
				[]string{"", "L1", "L2"}[r.IntN(3)],
				[]string{"", "W1", "W1", "W2"}[r.IntN(4)],
				r.IntN(2) == 0,
			}
			if !rows[i].hasToll {
				rows[i].toll = 0
			}
			toll := ""
			if rows[i].hasToll {
				toll = fmt.Sprintf("%d.%02d", rows[i].toll/100, rows[i].toll%100)
			}
			text += fmt.Sprintf("%d,%s,%s,%s,%v\n", i, toll, rows[i].lock, rows[i].water, rows[i].big)
		}
		dir := t.TempDir()
		startest.Write(t, dir, "s.csv", text)
		startest.Write(t, dir, "ironmonger.yaml", strings.ReplaceAll(model, "%%", "%"))
		m := startest.Model(t, dir)
		root, err := os.OpenRoot(dir)
		if err != nil {
			t.Fatal(err)
		}
		defer root.Close()
		fields := []column.Field{
			{Name: "toll", Type: column.Type{Kind: column.Decimal, Precision: 9, Scale: 2}},
			{Name: "lock", Type: column.Type{Kind: column.Text}},
			{
				Name: "water",
				Type: column.Type{Kind: column.Text},
			},
			{Name: "big", Type: column.Type{Kind: column.Boolean}},
		}
		size := 1 + r.IntN(5)
		for _, rule := range m.Facts[0].MustHold {
			j, err := assert.New(rule, fields)
			if err != nil {
				t.Fatal(err)
			}
			var got []int
			for from := 0; from < len(rows); from += size {
				part := rows[from:min(from+size, len(rows))]
				j.Look(batch(fields, part), func(i int) { got = append(got, from+i) })
			}
			verdict, err := j.Verdict(context.Background(), &source.Inputs{Model: m, Root: root})
			if err != nil {
				t.Fatal(err)
			}
			against, fails := expect(rule.Text, rows)
			if fmt.Sprint(got) != fmt.Sprint(against) || (verdict != "") != fails {
				t.Fatalf(
					"seed %d, %s: rows %v and %q; expected %v and %v\n%s",
					seed,
					j.Says(),
					got,
					verdict,
					against,
					fails,
					text,
				)
			}
		}
	}
}

func batch(fields []column.Field, rows []row) *column.Batch {
	b := column.NewBatch(fields)
	b.Reset(len(rows))
	for i, x := range rows {
		for k, s := range []string{x.lock, x.water} {
			b.Cols[1+k].Null[i], b.Cols[1+k].Text[i] = s == "", s
		}
		b.Cols[0].Null[i], b.Cols[0].Int[i] = !x.hasToll, x.toll
		b.Cols[3].Null[i], b.Cols[3].Int[i] = false, 0
		if x.big {
			b.Cols[3].Int[i] = 1
		}
	}
	return b
}

// expect says which rows speak against a rule, and whether all together do.
func expect(rule string, rows []row) (against []int, fails bool) {
	big, all, bigs := 0, int64(0), int64(0)
	first := map[string]string{}
	for i, x := range rows {
		chosen := x.big || !strings.Contains(rule, "big")
		if all += x.toll; x.big {
			big++
			bigs += x.toll
		}
		switch {
		case !chosen:
		case strings.Contains(rule, "paid") && !(x.hasToll && x.toll > 100):
			against = append(against, i)
		case strings.Contains(rule, "water") && x.lock != "":
			if water, known := first[x.lock]; !known {
				first[x.lock] = x.water
			} else if water != x.water {
				against = append(against, i)
			}
		}
	}
	switch rule {
	case "many":
		fails = big < 3
	case "not too many":
		fails = 100*big > 40*len(rows)
	case "all there":
		fails = all != bigs
	}
	return against, fails
}
