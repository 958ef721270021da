package history

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"ironmonger/internal/digest"
)

// rules keep versions from an effective time, as a dimension with type 1 and type 2 attributes does.
var rules = Rules{Timed: true, Observed: true, Versioned: true, FromStart: true, Beginning: 0, End: 100}

// load brings a member to what a load observes, as a committed step does, and returns what became of each row.
func load(h *Maker, p *Member, list []Observation, key *int64) map[int32]Verdict {
	told := map[int32]Verdict{}
	h.Tell = func(row int32, v Verdict) { told[row] = v }
	slices.SortStableFunc(list, func(a, b Observation) int { return a.Compare(b.Timing) })
	out := h.Of(p, list)
	p.Versions = nil
	for _, next := range out.Versions {
		if next.Claims == None {
			*key++
			next.Key = *key
		}
		p.Versions = append(p.Versions, next.Version)
	}
	for _, o := range list {
		if o.Number == out.Type1 {
			p.Type1 = o.Type1
		}
		if o.Number == out.Type0 {
			p.Type0 = o.Type0
		}
	}
	p.Noted = slices.DeleteFunc(p.Noted, func(n Note) bool { return slices.Contains(out.Renoted, n) })
	p.Noted = append(p.Noted, out.Noted...)
	slices.SortFunc(p.Noted, Note.Compare)
	return told
}

// restated is the history that observations, in the order of their arrival, have by the rules alone: of each time
// counts the greatest sequence, the latest of these; where values change, a version begins.
func restated(arrived []Observation) string {
	counts := map[int64]Observation{}
	for _, o := range arrived {
		if is, ok := counts[o.Effective]; !ok || o.Sequence >= is.Sequence {
			counts[o.Effective] = o
		}
	}
	var list []Observation
	for _, o := range counts {
		list = append(list, o)
	}
	slices.SortFunc(list, func(a, b Observation) int { return cmp.Compare(a.Effective, b.Effective) })
	s, from := "", rules.Beginning
	for k, o := range list {
		if k > 0 && o.Type2 == list[k-1].Type2 {
			continue
		}
		if k > 0 {
			from = o.Effective
		}
		s += fmt.Sprintf("[%d %d %d]", from, o.Effective, o.Type2[0])
	}
	first, last := list[0], list[len(list)-1]
	return s + fmt.Sprint(first.Type0[0], last.Type1[0])
}

func written(p *Member) string {
	s := ""
	for _, v := range p.Versions {
		s += fmt.Sprintf("[%d %d %d]", v.From, v.Effective, v.Type2[0])
	}
	return s + fmt.Sprint(p.Type0[0], p.Type1[0])
}

// TestMaker cuts random observations of a member into loads and holds its history against a restatement of the rules
// over all of them. No key comes twice, a version whose start stays keeps its key, and each row has one verdict.
func TestMaker(t *testing.T) {
	for seed := range uint64(20_000) {
		r := rand.New(rand.NewPCG(seed, 14))
		h, p, key := &Maker{Rules: rules}, &Member{}, int64(0)
		var arrived []Observation
		for n := range 1 + r.IntN(5) {
			var list []Observation
			for range 1 + r.IntN(4) {
				list = append(list, Observation{
					Timing: Timing{1 + r.Int64N(4), r.Int64N(2)},
					Number: int32(len(list)),
					Digests: Digests{
						Type0: digest.Sum{r.Uint64N(2)},
						Type1: digest.Sum{r.Uint64N(2)},
						Type2: digest.Sum{r.Uint64N(2)},
					},
				})
			}
			arrived = append(arrived, list...)
			before := map[string]int64{} // start and values: key
			for _, v := range p.Versions {
				before[fmt.Sprint(v.Effective, v.Type2)] = v.Key
			}
			told := load(h, p, list, &key)
			if got, want := written(p), restated(arrived); got != want {
				t.Fatalf("seed %d, load %d: %s, expected %s, of\n%v", seed, n, got, want, arrived)
			}
			if len(told) != len(list) {
				t.Fatalf("seed %d: %d rows have %d verdicts", seed, len(list), len(told))
			}
			for k, v := range p.Versions {
				if k > 0 && v.From <= p.Versions[k-1].From {
					t.Fatalf("seed %d: a version without time: %v", seed, p.Versions)
				}
				if was, ok := before[fmt.Sprint(v.Effective, v.Type2)]; ok && was != v.Key {
					t.Fatalf("seed %d: the version from %d has key %d, and had %d", seed, v.Effective, v.Key, was)
				}
				if slices.ContainsFunc(p.Versions[:k], func(o Version) bool { return o.Key == v.Key }) {
					t.Fatalf("seed %d: key %d comes twice", seed, v.Key)
				}
			}
		}
	}
}

// A member was in class A from day 10. A late row says that it was in class B from day 5: a version begins there, and
// the one that stands keeps its key.
func ExampleMaker_Of() {
	a, b := digest.Sum{'A'}, digest.Sum{'B'}
	member := &Member{Versions: []Version{{Key: 7, From: 0, Timing: Timing{10, 0}, Type2: a}}}
	h := &Maker{Rules: rules, Tell: func(int32, Verdict) {}}
	out := h.Of(member, []Observation{{Timing: Timing{5, 0}, Digests: Digests{Type2: b}}})
	for _, v := range out.Versions {
		fmt.Printf("class %c, days %d to %d, key %d\n", v.Type2[0], v.From, v.To, v.Key)
	}
	// Output:
	// class B, days 0 to 10, key 0
	// class A, days 10 to 100, key 7
}
