// Package keyindex is an index from natural keys to member numbers, and knows no warehouse.
//
// A natural key is one or several typed values; equality is exact (rule R3), and null equals nothing, or null where
// it is a value (the combinations of a junk dimension). Each whose bytes fit 15 is kept whole in its slot of a hash
// table, so that a lookup costs one cache miss. The bytes of longer keys stand one after another in memory of their
// own, and a lookup costs two. Keys of one integer (dates are integers here) in a close range are found by position
// alone.
//
// Any number of goroutines may call Find while none calls Add.
package keyindex

import (
	"encoding/binary"
	"math/bits"
	"math/rand/v2"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
)

// Results of Find that are no member number.
const (
	Absent  = -1 // no member has the key
	Missing = -2 // a part of the key is null
)

// Index maps natural keys to member numbers, which count from 0 in the order of Add.
type Index struct {
	single bool // one part that is an integer, and isn't null
	nulls  bool // null is a value like others
	slots  []slot
	count  int32
	short  int32 // how many keys stand in slots
	long   longKeys
	salt   uint64

	base  int64 // dense[k-base] is the member of the integer key k, plus 1
	dense []int32
}

type slot struct {
	lo, hi uint64
	member int32 // plus 1; 0 is an empty slot
}

// New returns an empty index for keys of the given types. Doubles cannot be keys.
func New(types []column.Type) *Index {
	one := len(types) == 1 && types[0].Kind != column.Text && types[0].Kind != column.Double && !types[0].Wide()
	return &Index{single: one, slots: make([]slot, 16), salt: rand.Uint64()}
}

// NewWithNulls returns an index in which null is a value like others, equal to itself.
func NewWithNulls(types []column.Type) *Index {
	x := New(types)
	x.single, x.nulls = false, true
	return x
}

// pack returns the 16 bytes of a key, or all bytes of one that is longer.
func (x *Index) pack(cols []*column.Column, i int, buf []byte) (lo, hi uint64, long []byte) {
	if x.single {
		return uint64(cols[0].Int[i]), 0, nil
	}
	b := buf[:0]
	for _, c := range cols {
		if x.nulls && c.Null[i] {
			b = append(b, 0)
			continue
		} else if x.nulls {
			b = append(b, 1)
		}
		b = digest.AppendKey(b, c, i)
	}
	if len(b) > 15 {
		return 0, 0, b
	}
	n := len(b)
	b = append(b, padding[:16-n]...)
	return binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[8:]) | uint64(n)<<56, nil
}

var padding [16]byte

func (x *Index) home(lo, hi uint64) uint64 {
	h, l := bits.Mul64(lo^bits.RotateLeft64(hi*0x9e3779b97f4a7c15, 29)^x.salt, 0xd6e8feb86659fd93)
	return h ^ l
}

// seek returns the slot of a key that fits one: its own, or the empty one where it belongs.
func (x *Index) seek(lo, hi uint64) *slot {
	mask := uint64(len(x.slots) - 1)
	for at := x.home(lo, hi) & mask; ; at = (at + 1) & mask {
		s := &x.slots[at]
		if s.member == 0 || s.lo == lo && s.hi == hi {
			return s
		}
	}
}

// member returns the member of a packed key, plus 1; 0 if there is none.
func (x *Index) member(lo, hi uint64, long []byte) int32 {
	if long != nil {
		return x.long.find(long)
	}
	return x.seek(lo, hi).member
}

// Find looks up the keys of rows 0 to len(member)-1 and writes their member numbers, or Absent, or
// Missing, to member.
func (x *Index) Find(cols []*column.Column, member []int32) {
	if x.dense != nil {
		c := cols[0]
		for i := range member {
			if c.Null[i] {
				member[i] = Missing
			} else if at := uint64(c.Int[i] - x.base); at < uint64(len(x.dense)) {
				member[i] = x.dense[at] - 1
			} else {
				member[i] = Absent
			}
		}
		return
	}
	if x.single {
		c := cols[0]
		for i := range member {
			if c.Null[i] {
				member[i] = Missing
			} else {
				member[i] = x.seek(uint64(c.Int[i]), 0).member - 1
			}
		}
		return
	}
	x.findPacked(cols, member)
}

// findPacked is Find for keys that have to be packed.
func (x *Index) findPacked(cols []*column.Column, member []int32) {
	var f finder
	for i := range member {
		if !x.nulls && anyNull(cols, i) {
			member[i] = Missing
			continue
		}
		lo, hi, long := x.pack(cols, i, f.bytes[f.used:])
		if long == nil {
			member[i] = x.seek(lo, hi).member - 1
		} else if f.wait(i, long) {
			f.find(&x.long, member)
		}
	}
	f.find(&x.long, member)
}

func anyNull(cols []*column.Column, i int) bool {
	for _, c := range cols {
		if c.Null[i] {
			return true
		}
	}
	return false
}

// Get looks up one key, of which no part may be null unless nulls are values.
func (x *Index) Get(cols []*column.Column, i int) int32 {
	var buf [64]byte
	return x.member(x.pack(cols, i, buf[:])) - 1
}

// Add returns the member number of the key of row i, a new one if the key is new. No part may be null
// unless nulls are values.
func (x *Index) Add(cols []*column.Column, i int) (member int32, fresh bool) {
	var buf [64]byte
	lo, hi, long := x.pack(cols, i, buf[:])
	if m := x.member(lo, hi, long); m != 0 {
		return m - 1, false
	}
	x.count++
	x.put(lo, hi, long, x.count)
	return x.count - 1, true
}

// put adds a packed key that no member has. member is its number, plus 1.
func (x *Index) put(lo, hi uint64, long []byte, member int32) {
	x.dense = nil
	if long != nil {
		x.long.add(long, member)
		return
	}
	if int(x.short) >= len(x.slots)/8*5 {
		x.grow()
	}
	x.short++
	*x.seek(lo, hi) = slot{lo, hi, member}
}

// Take moves all keys of an index of the same types into x, which has none of them. Their members are numbered on from
// those that x has, in the order of their numbers. The other index is of no use afterwards.
func (x *Index) Take(o *Index) {
	if x.count == 0 {
		*x = *o
		return
	}
	for _, s := range o.slots {
		if s.member != 0 {
			x.put(s.lo, s.hi, nil, x.count+s.member)
		}
	}
	for member, key := range o.long.all() {
		x.put(0, 0, key, x.count+member)
	}
	x.count += o.count
}

func (x *Index) grow() {
	old := x.slots
	x.slots = make([]slot, 2*len(old))
	mask := uint64(len(x.slots) - 1)
	for _, s := range old {
		if s.member != 0 {
			at := x.home(s.lo, s.hi) & mask
			for x.slots[at].member != 0 {
				at = (at + 1) & mask
			}
			x.slots[at] = s
		}
	}
}

// Freeze makes the index ready for many lookups. Adding to it later is allowed.
func (x *Index) Freeze() {
	if !x.single || x.dense != nil || x.count == 0 {
		return
	}
	least, most := int64(0), int64(0)
	first := true
	for _, s := range x.slots {
		if s.member != 0 {
			k := int64(s.lo)
			if first {
				least, most, first = k, k, false
			}
			least, most = min(least, k), max(most, k)
		}
	}
	if span := uint64(most) - uint64(least); span < 8*uint64(x.count)+1024 {
		x.base, x.dense = least, make([]int32, span+1)
		for _, s := range x.slots {
			if s.member != 0 {
				x.dense[int64(s.lo)-least] = s.member
			}
		}
	}
}
