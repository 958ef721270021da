package fact

import (
	"context"

	"github.com/RoaringBitmap/roaring/v2/roaring64"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/warehouse"
)

// grain remembers which grains have come and which stand in the table (rule R17).
//
// A table that was empty costs a bit a row where the grain is one integer, else a digest of 8 bytes: a
// digest met again is looked up in the table, which is the truth. For a table that was not, the grain
// and the content of its rows are kept as 8 bytes each, so that a row that is already there is told
// without asking again; where they differ, the table is asked.
type grain struct {
	bits   *roaring64.Bitmap
	digest table
	stored *table

	looksUp bool // rows are looked up in the table, which is not read
}

// table is a hash table of 64-bit digests, with a value for each if values is not nil.
type table struct {
	keys   []uint64 // 0 is empty; a digest of 0 is taken as 1
	values []uint64
	n      int
}

func newTable(values bool) *table {
	t := &table{keys: make([]uint64, 1<<10)}
	if values {
		t.values = make([]uint64, 1<<10)
	}
	return t
}

func (t *table) seek(k uint64) int {
	mask := len(t.keys) - 1
	at := int(k) & mask
	for t.keys[at] != 0 && t.keys[at] != k {
		at = (at + 1) & mask
	}
	return at
}

// put adds a digest and says whether it is new.
func (t *table) put(k, value uint64) bool {
	k = max(k, 1)
	at := t.seek(k)
	if t.keys[at] == k {
		return false
	}
	if t.n++; t.n*8 > len(t.keys)*7 {
		t.double()
		at = t.seek(k)
	}
	t.keys[at] = k
	if t.values != nil {
		t.values[at] = value
	}
	return true
}

// set changes the value of a digest that was put.
func (t *table) set(k, value uint64) { t.values[t.seek(max(k, 1))] = value }

func (t *table) double() {
	keys, values := t.keys, t.values
	t.keys = make([]uint64, 2*len(keys))
	if values != nil {
		t.values = make([]uint64, 2*len(keys))
	}
	for i, k := range keys {
		if k != 0 {
			at := t.seek(k)
			t.keys[at] = k
			if values != nil {
				t.values[at] = values[i]
			}
		}
	}
}

func (t *table) get(k uint64) (uint64, bool) {
	k = max(k, 1)
	at := t.seek(k)
	return t.values[at], t.keys[at] == k
}

// openGrain reads the grain of a table's rows.
func openGrain(ctx context.Context, tx warehouse.Tx, w *Writer) (*grain, error) {
	g := &grain{digest: *newTable(false)}
	if w.plain {
		g.bits = roaring64.New()
	}
	if g.looksUp = w.lookedUp != nil; w.rows > 0 && !g.looksUp {
		g.stored = newTable(true)
	}
	if g.asks() {
		w.warm()
	}
	if g.stored == nil {
		return g, nil
	}
	v, last := w.newView(), map[uint64]int64{}
	err := warehouse.Each(
		ctx,
		tx,
		warehouse.Query{Table: w.fact.Table.Name, Fields: w.fields},
		func(b *column.Batch) error {
			v.look(column.Pointers(b.Cols), b.N)
			for i := range b.N {
				id := w.id(v, i)
				if fresh := g.stored.put(id, v.content(i)); w.entries == nil || fresh && w.entries.isFirst(v.cols, i) {
					continue
				}
				if entry := v.cols[w.entries.entry].Int[i]; entry > max(last[id], 1) {
					last[id] = entry
					g.stored.set(id, v.content(i))
				}
			}
			return nil
		},
	)
	return g, err
}

// asks reports whether grains are told by more than one integer that stands as it is, so that views must
// know members.
func (g *grain) asks() bool { return g.stored != nil || g.looksUp || g.bits == nil }

// fresh reports whether a grain comes for the first time in this load.
func (g *grain) fresh(v *view, i int) bool {
	if g.bits != nil {
		return g.bits.CheckedAdd(uint64(v.cols[v.w.grainAt[0]].Int[i]))
	}
	return g.digest.put(v.w.id(v, i), 0)
}

// warm makes the maps of rosters that goroutines then only read.
func (w *Writer) warm() {
	for _, x := range w.canon {
		if x != nil {
			x.Canon(0)
		}
	}
}

// view sees rows as they stand in the table, but members in place of their versions.
type view struct {
	w        *Writer
	cols     []*column.Column // as fields
	canon    []*column.Column // cols, keys of versioned dimensions replaced
	said     []*column.Column // of these, those that are compared when a row comes again
	grainOf  []*column.Column
	replaced []column.Column
	digest   digest.Maker
}

func (w *Writer) newView() *view {
	return &view{w: w, canon: make([]*column.Column, len(w.fields)), grainOf: make([]*column.Column, len(w.grainAt)),
		replaced: make([]column.Column, len(w.fields))}
}

// look turns the view to n rows of columns that stand as the table's fields.
func (v *view) look(cols []*column.Column, n int) {
	v.cols = cols
	for k, c := range cols {
		v.canon[k] = c
		if x := v.w.canon[k]; x != nil {
			r := &v.replaced[k]
			r.Type = c.Type
			r.Resize(n)
			for i := range n {
				r.Null[i] = c.Null[i]
				r.Int[i] = x.Canon(c.Int[i])
			}
			v.canon[k] = r
		}
	}
	v.said = v.said[:0]
	for k, c := range v.canon {
		if v.w.compared[k] {
			v.said = append(v.said, c)
		}
	}
	for g, k := range v.w.grainAt {
		v.grainOf[g] = v.canon[k]
	}
}

// refresh looks at row i once more, after its keys have come in.
func (v *view) refresh(i int) {
	for k := range v.cols {
		if x := v.w.canon[k]; x != nil {
			v.replaced[k].Int[i] = x.Canon(v.cols[k].Int[i])
		}
	}
}

// grain returns a digest of what makes row i the row it is, content a fingerprint of all it says.
func (v *view) grain(i int) digest.Sum { return v.digest.Of(v.grainOf, i) }
func (v *view) content(i int) uint64   { return v.digest.Hash(v.w.seed, v.said, i) }
