package profile

import (
	"math"
	"slices"

	"ironmonger/internal/column"
)

// most is how many distinct values a sample holds, counters how many are counted.
const (
	most     = 1 << 16
	counters = 1 << 13
)

// hash is FNV-1a, whose bits are then mixed, since it leaves the high ones alike. It is never 0.
func hash(b []byte) uint64 {
	h := uint64(14695981039346656037)
	for _, c := range b {
		h = (h ^ uint64(c)) * 1099511628211
	}
	h ^= h >> 33
	h *= 0xff51afd7ed558ccd
	h ^= h >> 33
	h *= 0xc4ceb9fe1a85ec53
	return (h ^ h>>33) | 1
}

// sample holds the values whose hash is small enough, with how small that is: halved whenever there are too
// many. Whatever is in it has been in it from its first row on.
type sample struct {
	shift uint // hashes are below 2^(64-shift)
	n     int
	seen  []uint64 // by open addressing; 0 is free
	again bool     // a value was seen twice
}

func newSample() *sample { return &sample{seen: make([]uint64, 64)} }

func (s *sample) outside(h uint64) bool { return s.shift > 0 && h>>(64-s.shift) != 0 }

func (s *sample) add(h uint64) {
	if s.outside(h) || s.has(h) {
		return
	}
	if s.n > most {
		s.shift++
		s.rebuild(len(s.seen))
	} else if s.n > len(s.seen)/2 {
		s.rebuild(2 * len(s.seen))
	}
}

// has reports whether a hash is in the sample, and puts it there.
func (s *sample) has(h uint64) bool {
	mask := uint64(len(s.seen) - 1)
	for at := (h >> 1) & mask; ; at = (at + 1) & mask {
		switch s.seen[at] {
		case h:
			s.again = true
			return true
		case 0:
			s.seen[at], s.n = h, s.n+1
			return false
		}
	}
}

func (s *sample) rebuild(size int) {
	old, again := s.seen, s.again
	s.seen, s.n = make([]uint64, size), 0
	for _, h := range old {
		if h != 0 && !s.outside(h) {
			s.has(h)
		}
	}
	s.again = again
}

// size returns the number of distinct values, and its standard error as a share of it.
func (s *sample) size() (int64, float64) {
	if s.shift == 0 {
		return int64(s.n), 0
	}
	return int64(s.n) << s.shift, 1.2 / math.Sqrt(most)
}

// counts counts the values that are met most often. When there are too many to count, each count goes down by
// one, and those at zero make room.
type counts struct {
	list []counter
	at   [4 * counters]uint16 // where a hash stands in the list, plus 1, by open addressing
	lost bool
}

type counter struct {
	hash  uint64
	rows  int64
	value []byte
}

func (c *counts) find(h uint64) *uint16 {
	at := (h >> 1) % uint64(len(c.at))
	for c.at[at] != 0 && c.list[c.at[at]-1].hash != h {
		at = (at + 1) % uint64(len(c.at))
	}
	return &c.at[at]
}

func (c *counts) add(h uint64, col *column.Column, i int) {
	at := c.find(h)
	switch {
	case *at != 0:
		c.list[*at-1].rows++
	case len(c.list) < counters:
		c.list = slices.Grow(c.list, 1)[:len(c.list)+1] // with the buffer of who stood here before
		new := &c.list[len(c.list)-1]
		new.hash, new.rows, new.value = h, 1, col.AppendValue(new.value[:0], i)
		*at = uint16(len(c.list))
	default:
		c.lower()
	}
}

func (c *counts) lower() {
	c.lost, c.at = true, [4 * counters]uint16{}
	left := 0
	for k := range c.list {
		if c.list[k].rows--; c.list[k].rows > 0 {
			c.list[left], c.list[k] = c.list[k], c.list[left]
			left++
		}
	}
	c.list = c.list[:left]
	for k := range c.list {
		*c.find(c.list[k].hash) = uint16(k + 1)
	}
}

// first returns the value counted most often; of several, the least by its bytes.
func (c *counts) first() (value string, rows int64) {
	for _, v := range c.list {
		if v.rows > rows || v.rows == rows && string(v.value) < value {
			value, rows = string(v.value), v.rows
		}
	}
	return value, rows
}
