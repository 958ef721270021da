package profile

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/column"
)

func text(values ...string) *column.Column {
	c := &column.Column{Type: column.Type{Kind: column.Text}}
	for _, v := range values {
		if v == "" {
			c.AppendNull()
		} else {
			c.AppendText(v)
		}
	}
	return c
}

func of(c *column.Column) Column {
	p := New([]column.Field{{Name: "x", Type: c.Type}})
	var rows []int32
	for i := range c.Null {
		if rows = append(rows, int32(i)); len(rows) == 100 {
			p.Add([]*column.Column{c}, rows)
			rows = rows[:0]
		}
	}
	p.Add([]*column.Column{c}, rows)
	return p.Columns()[0]
}

// TestFits: the narrowest type that all values fit, codes with leading zeros being text.
func TestFits(t *testing.T) {
	for want, values := range map[string][]string{
		"integer":      {"1", "-20", "", "0"},
		"decimal(5,3)": {"10.25", "0.125", "7"},
		"text":         {"007", "12"},
		"boolean":      {"yes", "no"},
		"date":         {"2025-02-28", "2024-02-29"},
		"timestamp":    {"2025-02-28 09:00:00", "2025-02-28 10:00"},
		"time":         {"10:00", "23:59:59"},
	} {
		if got := of(text(values...)).Fits; got != want {
			t.Errorf("%q: %s, want %s", values, got, want)
		}
	}
	if f := of(text("", "")); f.Fits != "" || f.Least != nil || f.Nulls != 2 || f.Unique != Yes {
		t.Errorf("%+v", f)
	}
}

// TestFigures holds the figures of random columns against what looking at all values at once gives.
func TestFigures(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		var values []string
		kinds := 1 + rng.IntN(60)
		for range rng.IntN(400) {
			v := fmt.Sprint(
				strings.Repeat(" ", rng.IntN(8)/7),
				[]string{"a", "B", "b", "é", "É", "zz"}[rng.IntN(6)],
				rng.IntN(kinds),
			)
			if rng.IntN(10) == 0 {
				v = ""
			}
			values = append(values, v)
		}
		got := of(text(values...))
		count, folded := map[string]int64{}, map[string]bool{}
		var nulls, padded int64
		longest := 0
		for _, v := range values {
			if v == "" {
				nulls++
				continue
			}
			count[v]++
			folded[strings.ToLower(strings.TrimSpace(v))] = true
			if v != strings.TrimSpace(v) {
				padded++
			}
			longest = max(longest, len([]rune(v)))
		}
		var all []string
		var most int64
		for v, n := range count {
			all = append(all, v)
			most = max(most, n)
		}
		slices.Sort(all)
		if got.Rows != int64(len(values)) || got.Nulls != nulls || got.Distinct != int64(len(all)) || got.Error != 0 || got.Padded != padded || got.Alike != int64(len(all)-len(folded)) ||
			got.Longest != longest || got.FrequentRows != most ||
			got.AtLeast ||
			(got.Unique == Yes) != (most <= 1) {
			t.Fatalf("%q: %+v", values, got)
		}
		if len(all) > 0 &&
			(*got.Least != all[0] || *got.Greatest != all[len(all)-1] || count[*got.Frequent] != most) {
			t.Fatalf("%q: %s %s %s", values, *got.Least, *got.Greatest, *got.Frequent)
		}
	}
}

// TestMany: beyond what is kept, the number of distinct values is an estimate as good as said, and the most
// frequent value is found.
func TestMany(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	for _, distinct := range []int{most, most + 1, 300_000, 1_000_000} {
		c := &column.Column{Type: column.Type{Kind: column.Integer}}
		for v := range distinct {
			c.AppendInt(int64(v) * 1000)
		}
		unique := of(c)
		for range distinct / 50 {
			c.AppendInt(7000)
		}
		for range distinct {
			c.AppendInt(int64(rng.IntN(distinct)) * 1000)
		}
		got := of(c)
		off := math.Abs(float64(got.Distinct)/float64(distinct) - 1)
		if distinct == most && (got.Error != 0 || off != 0 || unique.Unique != Yes) || off > 4*got.Error ||
			distinct > most && (got.Error == 0 || unique.Unique != Probably) {
			t.Errorf("%d: %+v, off by %f", distinct, got, off)
		}
		if got.Unique != No || *got.Frequent != "7000" || !got.AtLeast ||
			got.FrequentRows > int64(distinct/50+distinct) ||
			unique.Rows != int64(distinct) {
			t.Errorf("%d: %+v", distinct, got)
		}
	}
}

func BenchmarkProfile(b *testing.B) {
	rng := rand.New(rand.NewPCG(5, 6))
	c := text()
	var rows []int32
	for i := range 4096 {
		c.AppendText(fmt.Sprintf("NV-%05d", rng.IntN(100_000)))
		rows = append(rows, int32(i))
	}
	p := New([]column.Field{{Name: "x", Type: c.Type}})
	b.ReportAllocs()
	for b.Loop() {
		p.Add([]*column.Column{c}, rows)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*len(rows)), "ns/value")
}
