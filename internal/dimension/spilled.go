package dimension

import (
	"context"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/history"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/spill"
	"ironmonger/internal/warehouse"
)

// overflow is what a feed has on disk, once memory has no room for it, and what it needs besides to be settled as
// if it were in memory.
type overflow struct {
	taken     *spill.Rows   // the rows taken; nil while there is room for them
	parts     *roster.Parts // and the members beside them
	limit     int64         // how many bytes of memory the rows may take; 0 for any number
	weight    int64         // and how many they take, about
	workers   int           // who read them then
	busy      func(part, of int)
	cols      []*column.Column
	err       error     // why they can't go on disk
	numbers   []int64   // of the rows kept, where they are some of many
	numbering numbering // of all new versions; nil if they are those of the rows kept
	later     *ordered  // where these go, if not into the table at once
}

// How many bytes a row takes in a feed and while it becomes a version, each of its values besides, and a member in a
// roster, as measured, with what the garbage collector leaves lying about.
const (
	rowWeight   = 700
	valueWeight = 18
)

// NewFeedInParts starts the overlay of the step that loads the dimension.
func NewFeedInParts(p *roster.Parts, run int64, step string) (*Feed, error) {
	f := NewFeed(p.Blind(), run, step)
	f.parts = p
	var err error
	f.taken, err = spill.New(f.rowFields(), p.Count)
	return f, err
}

// Limit lets the rows that a feed takes have so many bytes of memory, about. Beyond that they go on disk, to be
// read by as many workers. busy is told which part of them is gone through.
func (f *Feed) Limit(room int64, workers int, busy func(part, of int)) {
	f.limit, f.workers, f.busy = room, workers, busy
}

// OnDisk reports whether the rows have gone there.
func (f *Feed) OnDisk() bool { return f.taken != nil }

// Close returns back what the feed has on disk.
func (f *Feed) Close() error {
	if f.taken == nil {
		return nil
	}
	return f.taken.Close()
}

// rowFields lists what is kept on disk of a row: its values, and when it was so.
func (f *Feed) rowFields() []column.Field {
	fields := slices.Clone(f.layout.Fields)
	if d := f.x.Dimension(); d.Timed() {
		fields = append(fields, column.Field{Name: schema.EffectiveFrom, Type: d.Time})
		if d.Sequence != nil {
			fields = append(fields, column.Field{Name: schema.Sequence, Type: d.Sequence.Type})
		}
	}
	if f.ties != nil {
		fields = append(fields, column.Field{Name: "file", Type: column.Type{Kind: column.Integer}})
	}
	return fields
}

// weigh puts all rows on disk once they are too many.
func (f *Feed) weigh(v *Delivery, i int) {
	f.weight += rowWeight
	for _, c := range v.Values {
		if f.weight += valueWeight; c.Type.Kind == column.Text {
			f.weight += int64(len(c.Text[i]))
		}
	}
	if f.weight < f.limit {
		return
	}
	f.parts = roster.WholeInParts(f.x, manyParts, f.workers, f.busy)
	if f.taken, f.err = spill.New(f.rowFields(), manyParts); f.err != nil {
		f.limit = 0
		return
	}
	cols := column.Pointers(f.kept.Cols)
	effective, sequence := column.Column{Type: f.x.Dimension().Time}, column.Column{Type: column.Type{Kind: column.Integer}}
	file := column.Column{Type: sequence.Type}
	for _, s := range f.seen {
		effective.AppendInt(s.Effective)
		appendSequence(&sequence, s.Timing)
		file.AppendInt(int64(s.file))
	}
	for o := range f.seen {
		f.putRow(cols, &effective, &sequence, &file, o)
	}
	f.seen, f.touched, f.last, f.keys = nil, nil, nil, nil
	f.kept, f.index = column.NewBatch(f.layout.Fields), roster.NewIndex(f.x.Dimension())
}

// manyParts is how many parts rows are cut into whose number nobody knows yet.
const manyParts = 256

// put puts row i of a delivery on disk.
func (f *Feed) put(v *Delivery, i int) { f.putRow(v.Values, v.Effective, v.Sequence, v.File, i) }

func (f *Feed) putRow(values []*column.Column, effective, sequence, file *column.Column, i int) {
	f.cols = append(f.cols[:0], values...)
	if f.x.Dimension().Timed() {
		f.cols = append(f.cols, effective)
		if f.x.Dimension().Sequence != nil {
			f.cols = append(f.cols, sequence)
		}
	}
	if f.ties != nil {
		f.cols = append(f.cols, file)
	}
	f.taken.Put(f.parts.Of(values[:f.layout.Natural], i), f.cols, i)
}

// part returns a feed of the rows of one part.
func (f *Feed) part(ctx context.Context, r warehouse.Reader, part int) (*Feed, error) {
	x, err := f.parts.Open(ctx, r, part)
	if err != nil {
		return nil, err
	}
	g, n := NewFeed(x, f.run, f.step), len(f.layout.Fields)
	g.ties, g.saidIn = f.ties, map[moment]history.Repeated{}
	type rows struct {
		*column.Batch
		*Delivery
	}
	src := f.taken.Part(part)
	fields := src.Fields()
	fresh := func() *rows {
		r := &rows{column.NewBatch(fields), NewDelivery(x)}
		cols := column.Pointers(r.Cols)
		r.Values = cols[:n]
		if x.Dimension().Timed() {
			r.Effective = cols[n]
			if x.Dimension().Sequence != nil {
				r.Sequence = cols[n+1]
			}
		}
		if f.ties != nil {
			r.File = cols[len(fields)-2] // the number of the row comes last
		}
		return r
	}
	return g, pipeline.Each(ctx, src, f.parts.Workers, fresh,
		func(_ int, p column.Piece, r *rows) error {
			err := p.Fill(r.Batch)
			if r.Numbers = r.Cols[len(fields)-1].Int; err == nil {
				r.Prepare(r.N, func(int) bool { return false })
			}
			return err
		},
		func(r *rows) error {
			for i := range r.N {
				g.Take(r.Delivery, i)
			}
			return nil
		})
}

// settleParts settles one part after another. Each is gone through twice: once to learn which versions need keys,
// so that these can be given in the order of appearance (rule R5), as if all had been in memory; and once in
// earnest.
func (f *Feed) settleParts(ctx context.Context, tx warehouse.Tx) (map[string]int64, error) {
	n := newPlaces(f.taken.N)
	for part := range f.parts.Count {
		f.parts.Busy(part+1, 2*f.parts.Count)
		g, err := f.part(ctx, tx, part)
		if err != nil {
			return nil, err
		}
		c, err := g.outlined(ctx, tx)
		if err != nil {
			return nil, err
		}
		for _, b := range c.beginnings() {
			n.add(c, b)
		}
	}
	n.allocate(f)
	var later *ordered
	if f.parts.Empty() {
		var err error
		if later, err = newOrdered(f, n); err != nil {
			return nil, err
		}
		defer later.close()
	}
	moved := map[string]int64{}
	for part := range f.parts.Count {
		f.parts.Busy(f.parts.Count+part+1, 2*f.parts.Count)
		g, err := f.part(ctx, tx, part)
		if err != nil {
			return nil, err
		}
		g.numbering, g.later = n, later
		counts, err := g.Settle(ctx, tx)
		if err != nil {
			return nil, err
		}
		if err := g.written(ctx, tx); err != nil {
			return nil, err
		}
		for table, n := range counts {
			moved[table] += n
		}
		f.absorb(g)
	}
	if later != nil {
		return moved, later.write(ctx, tx, f)
	}
	return moved, nil
}

// absorb counts what a part has done.
func (f *Feed) absorb(g *Feed) {
	f.Counts = Counts{
		f.Counts.New + g.Counts.New,
		f.Counts.Versions + g.Counts.Versions,
		f.Counts.Filled + g.Counts.Filled,
		f.Counts.Changed + g.Counts.Changed,
		f.Counts.Same + g.Counts.Same,
		f.Counts.Conflicts + g.Counts.Conflicts,
	}
	for id, l := range g.losers {
		f.adopt(id, l)
	}
	for id, l := range g.relost {
		f.relose(id, l)
	}
	f.Added, f.Removed, f.changed = f.Added+g.Added, f.Removed+g.Removed, f.changed || g.changed
	f.Differ(g.Attributes)
	for did, list := range g.examples {
		for _, e := range list {
			f.exemplify(did, e)
		}
	}
}
