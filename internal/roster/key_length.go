package roster

import (
	"fmt"

	"ironmonger/internal/column"
)

// MostKey is how many bytes the texts of a natural key, or of a grain, may have together: databases have no room
// for more in an index (PostgreSQL: a third of a page).
const MostKey = 2000

// TooLong sets aside the rows of a batch whose texts in some columns, which are a natural key or a grain, are longer.
func TooLong(b *column.Batch, cols []*column.Column, name string) {
	for i := range b.N {
		if n := length(cols, i); n > MostKey && !b.Bad(i) {
			b.SetAside(
				i,
				name,
				fmt.Sprintf("%s is longer than %d bytes, which is too long for a key", name, MostKey),
				fmt.Sprintf("%d bytes", n),
			)
		}
	}
}

func length(cols []*column.Column, i int) int {
	n := 0
	for _, c := range cols {
		if c.Type.Kind == column.Text {
			n += len(c.Text[i])
		}
	}
	return n
}
