package spill

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"ironmonger/internal/column"
)

// TestTable reads random rows of tables back, and compares them with what was appended.
func TestTable(t *testing.T) {
	fields := []column.Field{
		{Name: "n", Type: column.Type{Kind: column.Integer}}, {Name: "s", Type: column.Type{Kind: column.Text}},
		{Name: "d", Type: column.Type{Kind: column.Decimal, Precision: 30, Scale: 2}},
	}
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 4))
		table, err := NewTable(fields)
		if err != nil {
			t.Fatal(err)
		}
		want := column.NewBatch(fields)
		for i := range 1 + r.IntN(3000) {
			want.Cols[0].AppendInt(int64(i))
			want.Cols[1].AppendText(strings.Repeat("x", r.IntN(1<<r.IntN(12))))
			if want.Cols[2].AppendNull(); r.IntN(3) > 0 {
				want.Cols[2].Null[i] = false
				want.Cols[2].Wide[i].Lo = r.Uint64()
			}
			want.N++
			if err := table.Append(column.Pointers(want.Cols), i); err != nil {
				t.Fatal(err)
			}
		}
		if err := table.Close(); err != nil {
			t.Fatal(err)
		}
		reader := &Reader{}
		for range 20 {
			var rows []int32
			for i, every := 0, 1+r.IntN(400); i < want.N; i++ {
				if r.IntN(every) == 0 {
					rows = append(rows, int32(i))
				}
			}
			got := column.NewBatch(fields)
			if err := table.Read(reader, rows, got); err != nil || got.N != len(rows) {
				t.Fatal(got.N, len(rows), err)
			}
			for n, i := range rows {
				for k := range fields {
					if !got.Cols[k].Equal(n, &want.Cols[k], int(i)) {
						t.Fatal(fmt.Sprint("seed ", seed, ", row ", i, ", column ", k))
					}
				}
			}
		}
		table.Drop()
	}
}
