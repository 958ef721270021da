package keyindex

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"strings"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
)

var kinds = map[string][]column.Type{
	"integer":      {{Kind: column.Integer}},
	"text":         {{Kind: column.Text}},
	"text text":    {{Kind: column.Text}, {Kind: column.Text}},
	"text integer": {{Kind: column.Text}, {Kind: column.Integer}},
	"wide":         {{Kind: column.Decimal, Precision: 30, Scale: 2}},
}

func columns(types []column.Type) []*column.Column {
	var cols []*column.Column
	for _, t := range types {
		cols = append(cols, &column.Column{Type: t})
	}
	return cols
}

// fill adds n random keys, of a domain so small that they repeat; spread moves integers apart.
func fill(r *rand.Rand, cols []*column.Column, n int, spread int64) {
	for range n {
		for _, c := range cols {
			v := int64(r.IntN(300)) * spread
			switch {
			case r.IntN(50) == 0:
				c.AppendNull()
			case c.Type.Kind == column.Text:
				c.AppendText(strings.Repeat("x", r.IntN(3)*8) + fmt.Sprint(v))
			case c.Type.Wide():
				c.Null, c.Wide = append(c.Null, false), append(c.Wide, exact.Wide(v))
			default:
				c.AppendInt(v - 100)
			}
		}
	}
}

// TestIndexAgainstMap adds and finds random keys, in an index and in a map of their texts.
func TestIndexAgainstMap(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for name, types := range kinds {
		for _, spread := range []int64{1, 1 << 40} {
			x, m := New(types), map[string]int32{}
			for round := range 4 {
				cols := columns(types)
				fill(r, cols, 1000, spread)
				id := func(i int) string {
					var parts []string
					for _, c := range cols {
						if c.Null[i] {
							return ""
						}
						parts = append(parts, c.Value(i))
					}
					return strings.Join(parts, "\x00")
				}
				found := make([]int32, 1000)
				x.Find(cols, found)
				for i := range found {
					want, ok := m[id(i)]
					if id(i) == "" {
						want = Missing
					} else if !ok {
						want = Absent
					}
					if found[i] != want {
						t.Fatalf("%s: Find(%q) = %d, want %d", name, id(i), found[i], want)
					}
				}
				o, known := x, int32(0) // every other time, new keys go into an index of their own first
				if round%2 == 0 {
					o, known = New(types), int32(len(m))
				}
				for i := range found {
					if id(i) == "" || o != x && found[i] != Absent {
						continue
					}
					want, ok := m[id(i)]
					if !ok {
						want = int32(len(m))
						m[id(i)] = want
					}
					if got, fresh := o.Add(cols, i); got+known != want || fresh == ok {
						t.Fatalf("%s: Add(%q) = %d, %v; want %d, %v", name, id(i), got, fresh, want, !ok)
					}
				}
				if o != x {
					x.Take(o)
				}
				if round%2 == 0 {
					x.Freeze()
				}
			}
		}
	}
}

// TestLongKeys finds keys that fill chunks, and more than one.
func TestLongKeys(t *testing.T) {
	cols := columns(kinds["text"])
	for n := range 400 {
		cols[0].AppendText(
			strings.Repeat(
				string(rune('a'+n%2)),
				[]int{16, 300, 20_000, chunkSize - 7, 3 * chunkSize}[min(n%100, 4)]+n,
			),
		)
	}
	x := New(kinds["text"])
	for round := range 2 {
		for i := range cols[0].Text {
			if got, fresh := x.Add(cols, i); got != int32(i) || fresh == (round == 1) {
				t.Fatalf("Add of key %d: %d, %v", i, got, fresh)
			}
		}
	}
}

// BenchmarkLong looks up keys of 36 characters; bytes/key is what the index takes for each.
func BenchmarkLong(b *testing.B) {
	const size = 500_000
	cols, r := columns(kinds["text"]), rand.New(rand.NewPCG(7, 8))
	for range size {
		cols[0].AppendText(
			fmt.Sprintf(
				"%08x-%04x-4%03x-a%03x-%012x",
				r.Uint32(),
				r.IntN(1<<16),
				r.IntN(1<<12),
				r.IntN(1<<12),
				r.Int64N(1<<48),
			),
		)
	}
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	x := New(kinds["text"])
	for i := range size {
		x.Add(cols, i)
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	order := r.Perm(size)
	asked := columns(kinds["text"])
	for _, i := range order {
		asked[0].AppendText(strings.Clone(cols[0].Text[i])) // as they stand in a piece of a file: side by side
	}
	found := make([]int32, size)
	for b.Loop() {
		x.Find(asked, found)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*size), "ns/key")
	b.ReportMetric(float64(after.HeapAlloc-before.HeapAlloc)/size, "bytes/key")
}

func BenchmarkFind(b *testing.B) {
	for name, types := range kinds {
		for _, size := range []int{200_000} {
			b.Run(fmt.Sprintf("%s/%d", name, size), func(b *testing.B) {
				cols := columns(types)
				r := rand.New(rand.NewPCG(7, 8))
				for range size {
					v := r.Int64N(1 << 40)
					for _, c := range cols {
						switch {
						case c.Type.Kind == column.Text:
							c.AppendText(fmt.Sprintf("V%06d", v%1000000)[:8-len(cols)])
						case c.Type.Wide():
							c.Null, c.Wide = append(c.Null, false), append(c.Wide, exact.Wide(v))
						default:
							c.AppendInt(v)
						}
					}
				}
				x := New(types)
				for i := range size {
					x.Add(cols, i)
				}
				x.Freeze()
				found := make([]int32, size)
				b.ReportAllocs()
				for b.Loop() {
					x.Find(cols, found)
				}
				b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*size), "ns/key")
			})
		}
	}
}
