// Package digest writes typed values as bytes that tell them apart, and makes fingerprints of them.
package digest

import (
	"encoding/binary"
	"hash/maphash"
	"math"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
)

// AppendKey writes row i of c, which is not null, to b as bytes that end where they end: different
// values of one type have different bytes, and none is the beginning of another.
func AppendKey(b []byte, c *column.Column, i int) []byte {
	switch {
	case c.Type.Kind == column.Text:
		b = binary.AppendUvarint(b, uint64(len(c.Text[i])))
		return append(b, c.Text[i]...)
	case c.Type.Kind == column.Double:
		return binary.LittleEndian.AppendUint64(b, math.Float64bits(c.Float[i]))
	case c.Type.Wide():
		b = binary.LittleEndian.AppendUint64(b, uint64(c.Wide[i].Hi))
		return binary.LittleEndian.AppendUint64(b, c.Wide[i].Lo)
	}
	return binary.AppendVarint(b, c.Int[i])
}

// AppendRow writes row i of the columns to b, nulls too, as bytes that end where they end.
func AppendRow(b []byte, cols []*column.Column, i int) []byte {
	for _, c := range cols {
		if c.Null[i] {
			b = append(b, 0)
		} else {
			b = AppendKey(append(b, 1), c, i)
		}
	}
	return b
}

// TakeRow adds a row that [AppendRow] has written to columns of the same types, and returns what follows it. Text is
// part of s from then on.
func TakeRow(s string, cols []*column.Column) string {
	for _, c := range cols {
		null := s[0] == 0
		if s = s[1:]; null {
			c.AppendNull()
			continue
		}
		c.Null = append(c.Null, false)
		switch {
		case c.Type.Kind == column.Text:
			n, at := uvarint(s)
			c.Text = append(c.Text, s[at:at+int(n)])
			s = s[at+int(n):]
		case c.Type.Kind == column.Double:
			c.Float = append(c.Float, math.Float64frombits(word(s)))
			s = s[8:]
		case c.Type.Wide():
			c.Wide = append(c.Wide, exact.Int128{Hi: int64(word(s)), Lo: word(s[8:])})
			s = s[16:]
		default:
			u, at := uvarint(s)
			c.Int = append(c.Int, int64(u>>1)^-int64(u&1))
			s = s[at:]
		}
	}
	return s
}

// uvarint is binary.Uvarint for a string, whose values can be cut from it.
func uvarint(s string) (v uint64, n int) {
	for shift := 0; ; shift += 7 {
		b := s[n]
		n++
		if v |= uint64(b&0x7f) << shift; b < 0x80 {
			return v, n
		}
	}
}

func word(s string) uint64 {
	return uint64(
		s[0],
	) | uint64(
		s[1],
	)<<8 | uint64(
		s[2],
	)<<16 | uint64(
		s[3],
	)<<24 | uint64(
		s[4],
	)<<32 | uint64(
		s[5],
	)<<40 | uint64(
		s[6],
	)<<48 | uint64(
		s[7],
	)<<56
}

// Sum is a fingerprint of typed values: 128 bits, so that two that are equal may be taken for equal values. Nobody can
// foresee them, and they mean something only within a run of the program.
type Sum [2]uint64

// seeds make that nobody can.
var seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

// Maker makes digests; it is a buffer for one goroutine.
type Maker struct{ buf []byte }

// Of returns the digest of row i of the columns; nulls count as values. That of no columns is zero.
func (d *Maker) Of(cols []*column.Column, i int) Sum {
	if len(cols) == 0 {
		return Sum{}
	}
	d.buf = AppendRow(d.buf[:0], cols, i)
	return Sum{maphash.Bytes(seeds[0], d.buf), maphash.Bytes(seeds[1], d.buf)}
}

// Hash returns a fingerprint of row i of 64 bits, which mean something only beside others of the same seed.
func (d *Maker) Hash(seed maphash.Seed, cols []*column.Column, i int) uint64 {
	d.buf = AppendRow(d.buf[:0], cols, i)
	return maphash.Bytes(seed, d.buf)
}
