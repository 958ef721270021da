package transform

import (
	"cmp"
	"hash/maphash"
	"slices"
	"sort"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/spill"
	"ironmonger/internal/star"
)

// onDisk is the rows of a join's other source where memory has no room for them. A fingerprint of each row's key stays
// in memory, in order, and its time; the rows are read when they are found.
type onDisk struct {
	table  *spill.Table
	fields []column.Field
	by     []int // the columns of the key
	timed  int   // the column of the time, or -1
	seed   maphash.Seed
	maker  digest.Maker
	key    []*column.Column

	hashes []uint64 // of the keys: by row, in the end in order
	times  []int64  // by row
	rows   []int32  // in the order of fingerprint, time and row
	begins []int32  // for the first bits of a fingerprint, where those with them begin
}

// firstBits is how many bits of a fingerprint are looked up at once.
const firstBits = 16

func newOnDisk(fields []column.Field, by []int, timed int) (*onDisk, error) {
	table, err := spill.NewTable(fields)
	return &onDisk{table: table, fields: fields, by: by, timed: timed, seed: maphash.MakeSeed()}, err
}

// add keeps row i, whose key has no null.
func (d *onDisk) add(cols []*column.Column, i int) error {
	d.key = d.key[:0]
	for _, k := range d.by {
		d.key = append(d.key, cols[k])
	}
	d.hashes = append(d.hashes, d.maker.Hash(d.seed, d.key, i))
	if d.timed >= 0 {
		d.times = append(d.times, cols[d.timed].Int[i])
	}
	return d.table.Append(cols, i)
}

// close puts the rows in order, once all have been added.
func (d *onDisk) close() error {
	d.begins = make([]int32, 1<<firstBits+1)
	for _, h := range d.hashes {
		d.begins[h>>(64-firstBits)+1]++
	}
	for n := range d.begins[1:] {
		d.begins[n+1] += d.begins[n]
	}
	d.rows = make([]int32, len(d.hashes))
	at := slices.Clone(d.begins)
	for row, h := range d.hashes {
		n := h >> (64 - firstBits)
		d.rows[at[n]] = int32(row)
		at[n]++
	}
	for n := range d.begins[1:] {
		slices.SortFunc(d.rows[d.begins[n]:d.begins[n+1]], func(a, b int32) int {
			if c := cmp.Compare(d.hashes[a], d.hashes[b]); c != 0 || d.timed < 0 {
				return cmp.Or(c, cmp.Compare(a, b))
			}
			return cmp.Or(cmp.Compare(d.times[a], d.times[b]), cmp.Compare(a, b))
		})
	}
	ordered := make([]uint64, len(d.rows))
	for n, row := range d.rows {
		ordered[n] = d.hashes[row]
	}
	d.hashes = ordered
	return d.table.Close()
}

// group returns where in d.rows those with a fingerprint are.
func (d *onDisk) group(h uint64) (from, to int) {
	n := h >> (64 - firstBits)
	from, to = int(d.begins[n]), int(d.begins[n+1])
	from += sort.Search(to-from, func(k int) bool { return d.hashes[from+k] >= h })
	end := from
	for end < to && d.hashes[end] == h {
		end++
	}
	return from, end
}

// of returns which of the rows of a group are of the latest time that is not after one: all, if they have no times.
func (d *onDisk) of(from, to int, at int64) (begin, end int) {
	if d.timed < 0 {
		return from, to
	}
	end = from + sort.Search(to-from, func(n int) bool { return d.times[d.rows[from+n]] > at })
	begin = end
	for begin > from && d.times[d.rows[begin-1]] == d.times[d.rows[end-1]] {
		begin--
	}
	return begin, end
}

// found is what was found for the rows of a batch. It is the buffers of a goroutine.
type found struct {
	reader spill.Reader
	maker  digest.Maker
	spans  []span
	need   []int32       // rows that are read, in order
	read   *column.Batch // and what they have
}

// span is the rows that seem to fit one row of a batch: part of a group.
type span struct{ from, to, begin, end int }

// fit is the rows that fit a row of a batch.
type fit struct {
	n    int   // how many they are; where the first or last is taken, at least one
	pick int32 // which one is taken, if one is, of the rows that were read
}

// find finds the rows that fit those of a batch with some keys, and reads the ones that are taken.
func (x *join) find(b *column.Batch, key []*column.Column, f *found) error {
	d := x.disk
	f.spans, f.need = f.spans[:0], f.need[:0]
	for i := range b.N {
		s := span{}
		null := func(c *column.Column) bool { return c.Null[i] }
		if at, ok := x.time(b, i); ok && !b.Bad(i) && !slices.ContainsFunc(key, null) {
			s.from, s.to = d.group(f.maker.Hash(d.seed, key, i))
			s.begin, s.end = d.of(s.from, s.to, at)
		}
		f.spans = append(f.spans, s)
		f.need = append(f.need, x.wanted(s)...)
	}
	return f.fetch(d)
}

// wanted lists which rows of a span tell what is taken: one, or two that differ.
func (x *join) wanted(s span) []int32 {
	rows := x.disk.rows[s.begin:s.end]
	switch {
	case len(rows) == 0 || x.of.Several == star.First:
		return rows[:min(1, len(rows))]
	case x.of.Several == star.Last:
		return rows[len(rows)-1:]
	}
	return rows[:min(2, len(rows))]
}

// fetch reads the rows that are needed.
func (f *found) fetch(d *onDisk) error {
	slices.Sort(f.need)
	f.need = slices.Compact(f.need)
	if f.read == nil {
		f.read = column.NewBatch(d.fields)
	}
	f.read.Reset(0)
	return d.table.Read(&f.reader, f.need, f.read)
}

// fit returns the rows that fit row i. Where keys that differ have one fingerprint, the whole group is read.
func (x *join) fit(b *column.Batch, i int, f *found) (fit, error) {
	s := f.spans[i]
	wanted := x.wanted(s)
	if len(wanted) == 0 {
		return fit{}, nil
	}
	for _, row := range wanted {
		at, _ := slices.BinarySearch(f.need, row)
		if !x.equal(b, i, f.read, at) {
			return x.fitInGroup(b, i, f, s)
		}
	}
	at, _ := slices.BinarySearch(f.need, wanted[0])
	return fit{s.end - s.begin, int32(at)}, nil
}

// fitInGroup is fit where not all rows of a group have the key. What it reads comes behind the rows of the batch.
func (x *join) fitInGroup(b *column.Batch, i int, f *found, s span) (fit, error) {
	d := x.disk
	rows := slices.Clone(d.rows[s.from:s.to])
	slices.Sort(rows)
	all := column.NewBatch(d.fields)
	if err := d.table.Read(&f.reader, rows, all); err != nil {
		return fit{}, err
	}
	at, _ := x.time(b, i)
	var fits []int
	for _, row := range d.rows[s.from:s.to] { // in the order of time and row
		n, _ := slices.BinarySearch(rows, row)
		switch {
		case !x.equal(b, i, all, n) || d.timed >= 0 && d.times[row] > at:
		case d.timed >= 0 && len(fits) > 0 && d.times[row] != d.times[rows[fits[0]]]:
			fits = append(fits[:0], n)
		default:
			fits = append(fits, n)
		}
	}
	if len(fits) == 0 {
		return fit{}, nil
	}
	pick := fits[0]
	if x.of.Several == star.Last {
		pick = fits[len(fits)-1]
	}
	for k := range f.read.Cols {
		f.read.Cols[k].Append(&all.Cols[k], pick)
	}
	f.read.N++
	return fit{len(fits), int32(f.read.N - 1)}, nil
}

// equal reports whether row i of a batch has the key of row j of the other source.
func (x *join) equal(b *column.Batch, i int, other *column.Batch, j int) bool {
	for n, k := range x.by {
		if !b.Cols[k].Equal(i, &other.Cols[x.disk.by[n]], j) {
			return false
		}
	}
	return true
}
