package hierarchy

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// TestLevels holds levels against climbing from each node by itself; a cycle is one of the forest's, and told where
// there is any.
func TestLevels(t *testing.T) {
	rounds := 0
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 1))
		parent := make([]int32, 1+r.IntN(12))
		for n := range parent {
			if parent[n] = int32(r.IntN(len(parent)+3)) - 3; parent[n] < 0 {
				parent[n] = None
			}
		}
		want := make([]int32, len(parent))
		round := false
		for n := range parent {
			for at := int32(n); at != None && !round; at = parent[at] {
				want[n]++
				round = int(want[n]) > len(parent)
			}
		}
		level, cycle := Levels(parent)
		if round != (cycle != nil) || !round && !slices.Equal(level, want) {
			t.Fatalf("%v: levels %v, want %v; cycle %v", parent, level, want, cycle)
		}
		if !round {
			continue
		}
		rounds++
		for k := range cycle[1:] {
			if parent[cycle[k]] != cycle[k+1] {
				t.Fatalf("%v: %v is no round", parent, cycle)
			}
		}
		if cycle[0] != cycle[len(cycle)-1] {
			t.Fatalf("%v: %v does not close", parent, cycle)
		}
	}
	if rounds < 100 {
		t.Fatalf("only %d forests with a round", rounds)
	}
}
