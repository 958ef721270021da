package column

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/exact"
)

// written is a batch as text, a row a line, with its line, its faults and the row as it was read.
func written(b *Batch) string {
	var lines []string
	for i := range b.N {
		line := fmt.Sprint(b.From.Line[i], " ", b.From.Raw(i), " ", b.Bad(i))
		for k := range b.Cols {
			line += " " + b.Cols[k].Value(i)
		}
		for _, f := range b.Faults {
			if int(f.Row) == i {
				line += " !" + f.Reason
			}
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n")
}

// TestKeep takes random rows out of batches, several times over, and compares with lines of text taken out of a list.
func TestKeep(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	fields := []Field{{"n", Type{Kind: Integer}}, {"t", Type{Kind: Text}}, {"m", Type{Kind: Decimal, Precision: 30, Scale: 1}}}
	for range 300 {
		b := NewBatch(fields)
		n := r.IntN(12)
		b.Reset(n)
		for i := range n {
			b.From.Line = append(b.From.Line, int64(i+2))
			b.Cols[0].Null[i], b.Cols[0].Int[i] = false, int64(i)
			b.Cols[1].Null[i], b.Cols[1].Text[i] = false, strings.Repeat("x", i)
			b.Cols[2].Null[i], b.Cols[2].Wide[i] = false, exact.Wide(int64(-i))
			if r.IntN(3) == 0 {
				b.Cols[r.IntN(3)].SetNull(i)
			}
			for range r.IntN(3) {
				b.SetAside(i, "n", fmt.Sprint("reason ", r.IntN(3)), "")
			}
		}
		b.From.Raw = func(i int) string { return fmt.Sprint("raw ", i) }
		for range 3 {
			lines := strings.Split(written(b), "\n")
			stay := make([]bool, b.N)
			var want []string
			for i := range stay {
				if stay[i] = r.IntN(3) > 0; stay[i] {
					want = append(want, lines[i])
				}
			}
			before := b.N
			if gone := b.Keep(func(i int) bool { return stay[i] }); gone != before-len(want) || b.N != len(want) {
				t.Fatalf("%d of %d rows went, and %d are there", gone, before, b.N)
			}
			if got := written(b); got != strings.Join(want, "\n") {
				t.Fatalf("kept\n%s\nwant\n%s", got, strings.Join(want, "\n"))
			}
		}
	}
}

// TestSetExact: an exact number fits a column exactly if its digits do.
func TestSetExact(t *testing.T) {
	for _, typ := range []Type{{Kind: Integer}, {Kind: Decimal, Precision: 4, Scale: 2}, {Kind: Decimal, Precision: 18}, {Kind: Decimal, Precision: 38, Scale: 5}} {
		c := Column{Type: typ}
		c.Resize(1)
		limit := exact.Pow10(int(typ.Precision))
		if typ.Kind == Integer {
			limit = exact.Int128{Lo: 1 << 63}
		}
		most, _ := limit.Add(exact.Wide(-1))
		for _, x := range []struct {
			v    exact.Int128
			fits bool
		}{{most, true}, {limit, false}, {most.Neg(), true}, {limit.Neg(), typ.Kind == Integer}, {exact.Wide(0), true}} {
			if fits := c.SetExact(0, x.v); fits != x.fits || fits && c.Exact(0) != x.v {
				t.Errorf("%s: %s fits: %v; it is %s", typ, x.v.Big(), fits, c.Exact(0).Big())
			}
		}
	}
}

// TestTake: the contents of two batches change places, and what points to their columns does not move.
func TestTake(t *testing.T) {
	fields := []Field{{"t", Type{Kind: Text}}}
	a, b := NewBatch(fields), NewBatch(fields)
	for k, x := range []*Batch{a, b} {
		x.Reset(k + 1)
		for i := range k + 1 {
			x.Cols[0].Null[i], x.Cols[0].Text[i] = false, fmt.Sprint("of ", k)
		}
		x.SetAside(k, "", fmt.Sprint("fault ", k), "")
	}
	column := &a.Cols[0]
	a.Take(b)
	if a.N != 2 || column.Value(1) != "of 1" || !a.Bad(1) || a.Bad(0) || a.Faults[0].Reason != "fault 1" || b.N != 1 {
		t.Errorf("%+v, %+v", a, b)
	}
	if !slices.Equal(Names(fields), []string{"t"}) || Find(fields, "u") >= 0 {
		t.Error("names")
	}
}
