package transform

import (
	"math/rand/v2"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/star"
)

// TestOneFingerprint: rows whose keys differ and have one fingerprint are told apart by their keys.
func TestOneFingerprint(t *testing.T) {
	integer := column.Type{Kind: column.Integer}
	fields := []column.Field{{Name: "k", Type: integer}, {Name: "at", Type: integer}, {Name: "v", Type: integer}}
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 8))
		timed := []int{-1, 1}[seed%2]
		d, err := newOnDisk(fields, []int{0}, timed)
		if err != nil {
			t.Fatal(err)
		}
		x := &join{of: &star.Join{Several: []star.Outcome{star.First, star.Last, star.Stop}[seed/2%3]}, by: []int{0}, asOf: 1, disk: d}
		if timed >= 0 {
			x.of.Effective = "at"
		}
		rows := column.NewBatch(fields)
		for i := range 1 + r.IntN(8) {
			rows.Cols[0].AppendInt(r.Int64N(3))
			rows.Cols[1].AppendInt(r.Int64N(4))
			rows.Cols[2].AppendInt(int64(i))
			rows.N++
			if err := d.add(column.Pointers(rows.Cols), i); err != nil {
				t.Fatal(err)
			}
		}
		for i := range d.hashes {
			d.hashes[i] = 7
		}
		if err := d.close(); err != nil {
			t.Fatal(err)
		}
		b := column.NewBatch(fields[:2])
		f := &found{}
		for i := range 6 {
			b.Cols[0].AppendInt(r.Int64N(4))
			b.Cols[1].AppendInt(r.Int64N(4))
			b.N++
			s := span{}
			s.from, s.to = d.group(7)
			s.begin, s.end = d.of(s.from, s.to, b.Cols[1].Int[i])
			f.spans, f.need = append(f.spans, s), append(f.need, x.wanted(s)...)
		}
		if err := f.fetch(d); err != nil {
			t.Fatal(err)
		}
		for i := range b.N {
			var fits []int64 // by the book
			latest := int64(-1)
			for j := range rows.N {
				at := rows.Cols[1].Int[j]
				switch {
				case rows.Cols[0].Int[j] != b.Cols[0].Int[i] || timed >= 0 && at > b.Cols[1].Int[i]:
				case timed >= 0 && at > latest:
					fits, latest = []int64{int64(j)}, at
				case timed < 0 || at == latest:
					fits = append(fits, int64(j))
				}
			}
			got, err := x.fit(b, i, f)
			told := map[star.Outcome]int{star.Stop: 2, star.First: 1, star.Last: 1}[x.of.Several] // whether there are so many
			if err != nil || min(got.n, told) != min(len(fits), told) {
				t.Fatalf("seed %d, row %d: %v; %d fit, expected %v", seed, i, err, got.n, fits)
			}
			if got.n == 0 || len(fits) > 1 && x.of.Several == star.Stop {
				continue
			}
			want := fits[0]
			if x.of.Several == star.Last {
				want = fits[len(fits)-1]
			}
			if v := f.read.Cols[2].Int[got.pick]; v != want {
				t.Fatalf("seed %d, row %d: row %d is taken, expected %d", seed, i, v, want)
			}
		}
		d.table.Drop()
	}
}
