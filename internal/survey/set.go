package survey

import (
	"hash/maphash"
	"slices"
)

// Set is the distinct values of a column, as hashes of 64 bits.
type Set struct {
	list []uint64 // sorted up to sorted
	done int
	Over bool // there are more than are kept
}

// mostKept is how many distinct values of a column are told apart.
const mostKept = 8 << 20

var seed = maphash.MakeSeed()

func (s *Set) add(value string) {
	if s.Over {
		return
	}
	s.list = append(s.list, maphash.String(seed, value))
	if len(s.list) > 2*s.done+1<<16 {
		s.compact()
		s.Over = len(s.list) > mostKept
	}
}

func (s *Set) compact() {
	if s.done < len(s.list) {
		slices.Sort(s.list)
		s.list = slices.Compact(s.list)
		s.done = len(s.list)
	}
}

// Len is how many distinct values there are.
func (s *Set) Len() int64 {
	s.compact()
	return int64(len(s.list))
}

// In returns how many of the values are in another set.
func (s *Set) In(o *Set) int64 {
	s.compact()
	o.compact()
	n, k := int64(0), 0
	for _, h := range s.list {
		for k < len(o.list) && o.list[k] < h {
			k++
		}
		if k < len(o.list) && o.list[k] == h {
			n++
		}
	}
	return n
}
