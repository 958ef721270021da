package fact

import (
	"context"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/resolve"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// openKeys notes which keys of the rows that are written no member had, with their natural keys.
type openKeys struct {
	w      *Writer
	id     []int              // the columns that tell a fact from others
	fresh  [][]ledger.OpenKey // for each link
	closed [][]ledger.OpenKey // those of rows that were replaced
	later  map[int][]pendingKey
	n      int
}

// pendingKey is an open key of a row that is to replace another.
type pendingKey struct {
	link int
	ledger.OpenKey
}

// mostOpen is how many open keys are held in memory.
const mostOpen = 10_000

// RowID lists the columns by which the ledger knows a row of a fact: those of its grain, but where a version stands
// there, which may become another, the line of the row.
func RowID(f *schema.Fact) []column.Field {
	fields := f.Table.Fields()
	var id []column.Field
	line := false
	for n, name := range f.Table.Primary {
		if k := f.Grain[n].Key; k != nil && k.Dimension.Versioned() {
			line = true
			continue
		}
		id = append(id, fields[column.Find(fields, name)])
	}
	if line {
		id = append(id, fields[column.Find(fields, schema.LoadLine)])
	}
	return id
}

func newOpenKeys(w *Writer) *openKeys {
	settles := func(l *resolve.Link) bool { return resolve.Settles(w.fact.Fact, l.Key) }
	if !slices.ContainsFunc(w.links, settles) {
		return nil
	}
	o := &openKeys{w: w, later: map[int][]pendingKey{}}
	o.fresh, o.closed = make([][]ledger.OpenKey, len(w.links)), make([][]ledger.OpenKey, len(w.links))
	for _, f := range RowID(w.fact) {
		o.id = append(o.id, column.Find(w.fact.Table.Fields(), f.Name))
	}
	return o
}

// each calls f for the open keys of the rows of a chunk that take says.
func (o *openKeys) each(c *Chunk, take func(i int32) bool, f func(link int, k ledger.OpenKey)) {
	for _, s := range c.Keys.Strays {
		l := o.w.links[s.Link]
		if s.Outside || !take(s.Row) || !resolve.Settles(o.w.fact.Fact, l.Key) {
			continue
		}
		k := ledger.OpenKey{Row: o.rowOf(c.cols, int(s.Row))}
		for _, part := range l.Says(c.Batch) {
			k.Natural = append(k.Natural, part.Value(int(s.Row)))
		}
		if at := l.Time(c.Batch); at != nil {
			asOf := at.Int[s.Row]
			k.AsOf = &asOf
		}
		f(int(s.Link), k)
	}
}

// rowOf returns what tells row i from others; cols are ordered as the fields of the table.
func (o *openKeys) rowOf(cols []*column.Column, i int) []string {
	var id []string
	for _, k := range o.id {
		id = append(id, cols[k].Value(i))
	}
	return id
}

// wrote notes rows of a chunk that are written.
func (o *openKeys) wrote(ctx context.Context, tx warehouse.Tx, c *Chunk, rows []int32) error {
	if len(c.Keys.Strays) == 0 {
		return nil
	}
	written := func(i int32) bool { _, ok := slices.BinarySearch(rows, i); return ok }
	o.each(c, written, func(link int, k ledger.OpenKey) {
		o.fresh[link] = append(o.fresh[link], k)
		o.n++
	})
	if o.n < mostOpen {
		return nil
	}
	return o.keep(ctx, tx)
}

// replaces notes that row i of a chunk is row n of the replacements.
func (o *openKeys) replaces(c *Chunk, i int32, n int) {
	o.each(c, func(row int32) bool { return row == i }, func(link int, k ledger.OpenKey) {
		o.later[n] = append(o.later[n], pendingKey{link, k})
	})
}

// replaced notes that row n of the replacements is written.
func (o *openKeys) replaced(r *replacements, n int) {
	stood := column.Pointers(r.stood.Cols)
	for link, l := range o.w.links {
		if resolve.Settles(o.w.fact.Fact, l.Key) {
			o.closed[link] = append(o.closed[link], ledger.OpenKey{Row: o.rowOf(stood, n)})
		}
	}
	for _, k := range o.later[n] {
		o.fresh[k.link] = append(o.fresh[k.link], k.OpenKey)
	}
}

// keep writes down what was noted.
func (o *openKeys) keep(ctx context.Context, tx warehouse.Tx) error {
	table := o.w.fact.Table.Name
	for link, l := range o.w.links {
		if err := ledger.CloseKeys(ctx, tx, table, l.Column(), o.closed[link]); err != nil {
			return err
		}
		if err := ledger.KeepOpenKeys(ctx, tx, table, l.Column(), o.fresh[link], o.w.run); err != nil {
			return err
		}
		o.closed[link], o.fresh[link] = nil, nil
	}
	o.n = 0
	return nil
}
