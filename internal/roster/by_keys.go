package roster

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/keyindex"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Wanted is natural keys of a dimension, for which alone it is to be opened.
type Wanted struct {
	index *keyindex.Index
	keys  []column.Column
	most  int64
}

// NewWanted returns an empty set that takes at most so many keys.
func NewWanted(d *star.Dimension, most int64) *Wanted {
	w := &Wanted{index: keyindex.New(typesOf(d.NaturalKey)), most: most}
	for _, f := range d.NaturalKey {
		w.keys = append(w.keys, column.Column{Type: f.Type})
	}
	return w
}

// Add adds the keys of n rows, and says false if they are too many.
func (w *Wanted) Add(cols []*column.Column, n int) bool {
rows:
	for i := range n {
		for _, c := range cols {
			if c.Null[i] {
				continue rows
			}
		}
		if _, fresh := w.index.Add(cols, i); fresh {
			for k := range w.keys {
				w.keys[k].Append(cols[k], i)
			}
		}
	}
	return int64(len(w.keys[0].Null)) <= w.most
}

// OpenWanted reads the members of a dimension that have one of the keys. For others the roster knows nothing, not even
// that they are there.
func OpenWanted(ctx context.Context, r warehouse.Reader, d *schema.Dimension, w *Wanted) (*Roster, error) {
	return open(ctx, r, d, warehouse.Query{By: column.Names(d.NaturalKey), Match: column.Pointers(w.keys)})
}

// last returns the greatest key in a dimension's table; 0 if it is empty.
func last(ctx context.Context, r warehouse.Reader, d *schema.Dimension) (int64, error) {
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{
			Table:      d.Table.Name,
			Fields:     d.Table.Fields()[:1],
			OrderBy:    []string{d.KeyColumn()},
			Descending: true,
			Limit:      1,
		},
	)
	if err != nil || b.N == 0 {
		return 0, err
	}
	return b.Cols[0].Int[0], nil
}
