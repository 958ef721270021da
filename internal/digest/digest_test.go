package digest

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
)

var kinds = []column.Type{{Kind: column.Integer}, {Kind: column.Text}, {Kind: column.Double}, {Kind: column.Date},
	{Kind: column.Decimal, Precision: 9, Scale: 2}, {Kind: column.Decimal, Precision: 38, Scale: 4}, {Kind: column.Boolean}}

// rows makes rows of a domain so small that some are equal.
func rows(r *rand.Rand, n int) []*column.Column {
	var cols []*column.Column
	for _, t := range kinds {
		c := &column.Column{Type: t}
		c.Resize(n)
		for i := range n {
			v := int64(r.IntN(3)-1) << (r.IntN(2) * 40)
			switch c.Null[i] = false; {
			case r.IntN(4) == 0:
				c.SetNull(i)
			case t.Kind == column.Text:
				c.Text[i] = strings.Repeat("a\x00b", r.IntN(3)) + fmt.Sprint(v)[:r.IntN(2)]
			case t.Kind == column.Double:
				c.Float[i] = float64(v) / 3
			case t.Wide():
				c.Wide[i] = exact.Int128{Hi: v, Lo: uint64(v)}
			default:
				c.Int[i] = v
			}
		}
		cols = append(cols, c)
	}
	return cols
}

// TestRows: rows are equal exactly where their bytes are, no row's bytes are the beginning of another's, and what is
// written is read back, one row after another. Digests tell the same.
func TestRows(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 5))
	for range 60 {
		n := 1 + r.IntN(20)
		cols := rows(r, n)
		from := r.IntN(len(cols))
		some := cols[from : from+1+r.IntN(len(cols)-from)]
		var maker Maker
		equal := func(i, j int) bool {
			for _, c := range some {
				if !c.Equal(i, c, j) {
					return false
				}
			}
			return true
		}
		all := ""
		for i := range n {
			mine := string(AppendRow(nil, some, i))
			all += mine
			for j := range n {
				other := string(AppendRow(nil, some, j))
				if equal(i, j) != (mine == other) || equal(i, j) != (maker.Of(some, i) == maker.Of(some, j)) {
					t.Fatalf("rows %d and %d: equal %v, bytes %q and %q", i, j, equal(i, j), mine, other)
				}
				if mine != other && strings.HasPrefix(other, mine) {
					t.Fatalf("%q begins as %q", other, mine)
				}
			}
		}
		var back []*column.Column
		for _, c := range some {
			back = append(back, &column.Column{Type: c.Type})
		}
		for rest := all; rest != ""; {
			rest = TakeRow(rest, back)
		}
		for k, c := range some {
			for i := range n {
				if len(back[k].Null) != n || !c.Equal(i, back[k], i) {
					t.Fatalf("row %d of %v is read back as another", i, c.Type)
				}
			}
		}
	}
	if (&Maker{}).Of(nil, 0) != (Sum{}) {
		t.Error("the digest of no columns is not zero")
	}
	nan := &column.Column{Type: column.Type{Kind: column.Double}, Null: []bool{false}, Float: []float64{math.Inf(1)}}
	if len(AppendRow(nil, []*column.Column{nan}, 0)) != 9 {
		t.Error("a double takes other than 9 bytes")
	}
}
