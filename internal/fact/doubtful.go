package fact

import (
	"ironmonger/internal/column"
	"ironmonger/internal/resolve"
)

// doubtful is rows set aside. Their facts are not gone, but they do not say what stands, and their grain may have
// members that the load makes after them, so that they count at the end.
type doubtful struct {
	grain []column.Column
	links []*resolve.Link // of the grain, nil for other columns
	by    [][]column.Column
	at    []int64
}

func newDoubtful(w *Writer) *doubtful {
	x := &doubtful{}
	for g, k := range w.grainAt {
		var l *resolve.Link
		if n := w.linkOf[k]; n != none {
			l = w.links[n]
		}
		x.links, x.by = append(x.links, l), append(x.by, nil)
		x.grain = append(x.grain, column.Column{Type: w.fields[k].Type})
		for _, f := range keyFields(l) {
			x.by[g] = append(x.by[g], column.Column{Type: f.Type})
		}
	}
	return x
}

// keyFields lists the columns of a link's natural key.
func keyFields(l *resolve.Link) []column.Field {
	if l == nil {
		return nil
	}
	return l.Dimension.NaturalKey
}

func (x *doubtful) add(w *Writer, c *Chunk, i int, at int64) {
	for g, k := range w.grainAt {
		x.grain[g].AppendOwn(c.cols[k], i)
		if x.links[g] == nil {
			continue
		}
		for n, part := range x.links[g].Says(c.Batch) {
			x.by[g][n].AppendOwn(part, i)
		}
	}
	x.at = append(x.at, at)
}

// tell notes that the rows were delivered, now that all members are made.
func (x *doubtful) tell(d *delivered) {
	v := d.w.newView()
	cols := make([]*column.Column, len(d.w.fields))
	for k := range cols {
		cols[k] = &column.Column{Type: d.w.fields[k].Type}
		cols[k].Resize(len(x.at))
	}
	for g, k := range d.w.grainAt {
		cols[k] = &x.grain[g]
		for i := range x.at {
			if l := x.links[g]; l != nil {
				if key, ok := l.Session.Find(column.Pointers(x.by[g]), i); ok {
					cols[k].Int[i] = key
				}
			}
		}
	}
	v.look(cols, len(x.at))
	for i, at := range x.at {
		d.told.raise(d.w.id(v, i), ordered(at))
	}
}
