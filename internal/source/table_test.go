package source

import (
	"math/rand/v2"
	"testing"

	"ironmonger/internal/database"
)

// TestTableRaw: the text of a row of a table is that of its values, wherever nulls are, and in whatever order rows are asked
// for.
func TestTableRaw(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 1))
	for range 200 {
		columns := 1 + random.IntN(4)
		p := &tablePiece{of: &table{query: database.Query{Columns: make([]string, columns)}}}
		var want []string
		for range 1 + random.IntN(30) {
			row, texts := make([][]byte, columns), make([]string, columns)
			for k := range row {
				switch random.IntN(4) {
				case 0:
				case 1:
					row[k] = []byte{}
				default:
					texts[k] = []string{"Ada", "a,b", "say \"so\"", "ä", "two\nlines"}[random.IntN(5)]
					row[k] = []byte(texts[k])
				}
			}
			p.add(row)
			want = append(want, Record(texts))
		}
		for _, i := range random.Perm(p.n) {
			if got := p.raw(i); got != want[i] {
				t.Fatalf("row %d of %d is %q, want %q", i, p.n, got, want[i])
			}
		}
	}
}
