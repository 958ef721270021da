package dimension

import (
	"cmp"
	"math/bits"
	"slices"
)

// numbering gives versions their keys, where others have keys between theirs.
type numbering interface {
	key(c *change, b beginning) int64
}

// places is the numbering of a dimension in parts: a row that a new version begins with has a bit.
type places struct {
	bits   []uint64
	before []int64  // how many bits are set in words before
	known  []latter // versions that begin with what was known, in their order
	all    int64
	first  int64 // the key of the first
	step   int64
}

// latter tells a version that begins with what was known: the row that its member was heard of in, and which it is.
type latter struct {
	touch   int64
	version int
}

func (c *change) latter(b beginning) latter {
	return latter{c.f.touch(c.outcomes[b.outcome].member), b.which}
}

func (a latter) compare(b latter) int {
	return cmp.Or(cmp.Compare(a.touch, b.touch), cmp.Compare(a.version, b.version))
}

func newPlaces(rows int64) *places { return &places{bits: make([]uint64, rows/64+1)} }

func (n *places) add(c *change, b beginning) {
	if b.Start == none {
		n.known = append(n.known, c.latter(b))
		return
	}
	row := c.f.numbers[b.Start]
	n.bits[row/64] |= 1 << (row % 64)
}

// allocate returns all of them their keys.
func (n *places) allocate(f *Feed) {
	slices.SortFunc(n.known, latter.compare)
	n.before = make([]int64, len(n.bits)+1)
	for k, word := range n.bits {
		n.before[k+1] = n.before[k] + int64(bits.OnesCount64(word))
	}
	if n.all = n.before[len(n.bits)] + int64(len(n.known)); n.all == 0 {
		return
	}
	n.first, n.step = f.keysFor(n.all), f.x.Dimension().KeyStep
}

// place is the reverse of key: which of all new versions has a key.
func (n *places) place(key int64) int64 { return (key - n.first) / n.step }

// key returns the key of a version.
func (n *places) key(c *change, b beginning) int64 {
	if b.Start == none {
		at, _ := slices.BinarySearchFunc(n.known, c.latter(b), latter.compare)
		return n.first + (n.before[len(n.bits)]+int64(at))*n.step
	}
	row := c.f.numbers[b.Start]
	return n.first + (n.before[row/64]+int64(bits.OnesCount64(n.bits[row/64]&(1<<(row%64)-1))))*n.step
}
