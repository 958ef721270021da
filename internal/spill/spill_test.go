package spill

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/pipeline"
)

// fields has one of each kind that is encoded in a way of its own.
var fields = []column.Field{
	{Name: "text", Type: column.Type{Kind: column.Text}},
	{Name: "integer", Type: column.Type{Kind: column.Integer}},
	{Name: "double", Type: column.Type{Kind: column.Double}},
	{Name: "wide", Type: column.Type{Kind: column.Decimal, Precision: 38, Scale: 2}},
	{Name: "date", Type: column.Type{Kind: column.Date}},
}

// random fills a batch with values, extreme ones and nulls among them.
func random(r *rand.Rand, n int) *column.Batch {
	b := column.NewBatch(fields)
	b.Reset(n)
	for i := range n {
		for k := range b.Cols {
			b.Cols[k].SetNull(i)
		}
		if r.IntN(4) > 0 {
			b.Cols[0].Null[i], b.Cols[0].Text[i] = false, strings.Repeat("é,\n\x00", r.IntN(1<<r.IntN(16)))
		}
		ints := []int64{0, -1, 1, math.MaxInt64, math.MinInt64, r.Int64(), -r.Int64N(1000)}
		if r.IntN(4) > 0 {
			b.Cols[1].Null[i], b.Cols[1].Int[i] = false, ints[r.IntN(len(ints))]
			b.Cols[2].Null[i], b.Cols[2].Float[i] = false, math.Float64frombits(r.Uint64()&^(1<<62))
			b.Cols[3].Null[i], b.Cols[3].Wide[i] = false, exact.Int128{Hi: ints[r.IntN(len(ints))], Lo: r.Uint64()}
			b.Cols[4].Null[i], b.Cols[4].Int[i] = false, -r.Int64N(99999)
		}
	}
	b.N = n
	return b
}

// TestRows puts rows in parts and reads them, each part twice: every value comes back in its part, in order, with
// the number of its row.
func TestRows(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("TMPDIR", dir)
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 1))
		b := random(r, r.IntN(3000))
		rows, err := New(fields, 1+r.IntN(5))
		if err != nil {
			t.Fatal(err)
		}
		of := make([]int, b.N)
		for i := range b.N {
			of[i] = r.IntN(rows.Parts())
			rows.Put(of[i], column.Pointers(b.Cols), i)
		}
		if left, _ := os.ReadDir(dir); len(left) > 0 {
			t.Fatal("an open file has a name:", left)
		}
		seen := 0
		for part := range 2 * rows.Parts() {
			part %= rows.Parts()
			last := -1
			err := pipeline.Batches(context.Background(), rows.Part(part), 2, func(x *column.Batch) error {
				for i := range x.N {
					n := int(x.Cols[len(fields)].Int[i])
					if n <= last || of[n] != part {
						return fmt.Errorf("row %d after %d in part %d", n, last, part)
					}
					for k := range fields {
						if !x.Cols[k].Equal(i, &b.Cols[k], n) {
							return fmt.Errorf(
								"%s of row %d is %s and not %s",
								fields[k].Name,
								n,
								x.Cols[k].Value(i),
								b.Cols[k].Value(n),
							)
						}
					}
					last = n
					seen++
				}
				return nil
			})
			if err != nil {
				t.Fatal(seed, err)
			}
		}
		if seen != 2*b.N || rows.N != int64(b.N) {
			t.Fatal(seed, seen, b.N, rows.N)
		}
		if err := rows.Close(); err != nil {
			t.Error(err)
		}
	}
}

// TestRowsLost reads rows that could not be written: that is told, and none is missing in silence.
func TestRowsLost(t *testing.T) {
	rows, err := New(fields, 1)
	if err != nil {
		t.Fatal(err)
	}
	rows.file.File.Close()
	b := random(rand.New(rand.NewPCG(1, 1)), 5000)
	for i := range b.N {
		rows.Put(0, column.Pointers(b.Cols), i)
	}
	err = pipeline.Batches(context.Background(), rows.Part(0), 1, func(*column.Batch) error { return nil })
	if err == nil || !strings.Contains(err.Error(), "what memory has no room for cannot be kept on disk") {
		t.Error(err)
	}
}

func BenchmarkRows(b *testing.B) {
	rows, err := New(fields[1:], 16)
	if err != nil {
		b.Fatal(err)
	}
	defer rows.Close()
	batch := random(rand.New(rand.NewPCG(1, 1)), 4096)
	cols := column.Pointers(batch.Cols[1:])
	b.ReportAllocs()
	for n := 0; b.Loop(); n++ {
		rows.Put(n%16, cols, n%4096)
	}
}
