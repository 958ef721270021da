package fact

import (
	"math/rand/v2"
	"testing"
)

// TestTable holds the table of digests against a map, with digests that collide in their slots, and the one that
// stands for an empty slot.
func TestTable(t *testing.T) {
	for seed := range uint64(50) {
		r := rand.New(rand.NewPCG(seed, 9))
		values := seed%2 == 0
		x, want := newTable(values), map[uint64]uint64{}
		for range r.IntN(20_000) {
			k, v := r.Uint64N(64)<<r.IntN(58)|r.Uint64N(16), r.Uint64()
			old, known := want[max(k, 1)]
			if values {
				if got, ok := x.get(k); ok != known || ok && got != old {
					t.Fatalf("digest %x: %x, %v; expected %x, %v", k, got, ok, old, known)
				}
			}
			if x.put(k, v) == known {
				t.Fatalf("digest %x is new: %v", k, !known)
			}
			if !known {
				want[max(k, 1)] = v
			}
		}
		if x.n != len(want) {
			t.Fatal(x.n, len(want))
		}
	}
}

func BenchmarkTable(b *testing.B) {
	x := newTable(true)
	k := uint64(1)
	b.ReportAllocs()
	for b.Loop() {
		k = k*0x9e3779b97f4a7c15 + 1
		x.put(k%(1<<18), k)
	}
}
