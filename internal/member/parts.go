package member

import (
	"cmp"
	"context"
	"hash/maphash"
	"math/bits"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/layout"
	"ironmonger/internal/spill"
	"ironmonger/internal/stream"
	"ironmonger/internal/warehouse"
)

// Parts is a dimension that memory has no room for, beside as many rows: both are kept on disk, cut by natural key, and
// one part after another is opened. All that is known of a member, and all that is said of it, is in one part.
type Parts struct {
	blind   *Roster     // a roster without members
	whole   *Roster     // the members, where memory has room for these
	members *spill.Rows // else these; nil where they aren't needed
	seed    maphash.Seed
	digest  column.Digester
	count   int
	workers int
	noted   bool // there are observations that are kept apart
}

// OpenParts reads a dimension into so many parts on disk, which will be read by as many workers.
func OpenParts(ctx context.Context, r warehouse.Reader, d *layout.Dimension, count, workers int) (*Parts, error) {
	x, err := empty(ctx, r, d)
	if err != nil {
		return nil, err
	}
	greatest, err := last(ctx, r, d)
	if err != nil {
		return nil, err
	}
	x.highest, x.blind = max(x.highest, greatest), true
	rows := x.rows()
	p := &Parts{blind: x, seed: maphash.MakeSeed(), count: count, workers: workers}
	if p.members, err = spill.New(rows.fields, count); err != nil {
		return nil, err
	}
	q := warehouse.Query{Table: d.Table.Name, Fields: rows.fields}
	err = warehouse.Each(ctx, r, q, func(b *column.Batch) {
		cols := column.Pointers(b.Cols)
		natural := cols[rows.natural:rows.type1]
		for i := range b.N {
			if !rows.special(b.Cols[0].Int[i], natural, i) {
				p.members.Put(p.of(natural, i), cols, i)
			}
		}
	})
	if err == nil && d.Observed != nil {
		var one *column.Batch
		one, err = warehouse.ReadAll(ctx, r, warehouse.Query{Table: d.Observed.Name, Fields: d.Observed.Fields()[:1], Limit: 1})
		p.noted = err == nil && one.N > 0
	}
	if err != nil {
		p.Close()
		return nil, err
	}
	return p, nil
}

// empty says whether the dimension has no members.
func (p *Parts) empty() bool {
	if p.whole != nil {
		return p.whole.Len() == 0
	}
	return p.members.N == 0
}

// Blind gives a roster of the dimension that has no members.
func (p *Parts) Blind() *Roster { return p.blind }

// of gives the part of a natural key.
func (p *Parts) of(natural []*column.Column, i int) int {
	return int(p.digest.Hash(p.seed, natural, i) % uint64(p.count))
}

// open gives the members of a part.
func (p *Parts) open(ctx context.Context, r warehouse.Reader, part int) (*Roster, error) {
	if p.whole != nil {
		return p.whole, nil
	}
	x, err := empty(ctx, r, p.blind.dim)
	if err != nil {
		return nil, err
	}
	rows := x.rows()
	if err := each(ctx, p.members.Part(part), p.workers, rows.add); err != nil {
		return nil, err
	}
	return x, x.finish(ctx, r, true, p.noted)
}

// each calls f with the rows of a source, in order.
func each(ctx context.Context, src column.Source, workers int, f func(*column.Batch)) error {
	fields := src.Fields()
	return stream.Each(ctx, src, workers, func() *column.Batch { return column.NewBatch(fields) },
		func(_ int, p column.Piece, b *column.Batch) error { return p.Fill(b) },
		func(b *column.Batch) error {
			f(b)
			return nil
		})
}

// Close gives the disk back.
func (p *Parts) Close() error {
	if p.members == nil {
		return nil
	}
	return p.members.Close()
}

// Feed starts the overlay of the step that loads the dimension.
func (p *Parts) Feed(run int64, step string) (*Feed, error) {
	f := p.blind.Feed(run, step)
	f.parts = p
	var err error
	f.rows, err = spill.New(f.rowFields(), p.count)
	return f, err
}

// Limit lets the rows that a feed takes have so many bytes of memory, about. Beyond that they go on disk, to be read by
// as many workers.
func (f *Feed) Limit(room int64, workers int) { f.limit, f.workers = room, workers }

// Close gives back what the feed has on disk.
func (f *Feed) Close() error {
	if f.rows == nil {
		return nil
	}
	return f.rows.Close()
}

// rowFields lists what is kept on disk of a row: its values, and when it was so.
func (f *Feed) rowFields() []column.Field {
	fields := slices.Clone(f.layout.fields)
	if d := f.x.dim; d.Timed() {
		fields = append(fields, column.Field{Name: layout.EffectiveFrom, Type: d.Time})
		if d.Sequence != nil {
			fields = append(fields, column.Field{Name: layout.Sequence, Type: d.Sequence.Type})
		}
	}
	return fields
}

// How many bytes a row takes in a feed and while it becomes a version, each of its values besides, and a member in a
// roster, as measured, with what the garbage collector leaves lying about.
const (
	rowWeight    = 700
	valueWeight  = 18
	memberWeight = 500
)

// Weight is how many bytes so many members of a dimension take in memory, about.
func Weight(members int64) int64 { return members * memberWeight }

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
	f.parts = &Parts{blind: f.x, whole: f.x, seed: maphash.MakeSeed(), count: manyParts, workers: f.workers}
	if f.rows, f.err = spill.New(f.rowFields(), manyParts); f.err != nil {
		f.limit = 0 // Settle tells
		return
	}
	cols := column.Pointers(f.kept.Cols)
	effective, sequence := column.Column{Type: f.x.dim.Time}, column.Column{Type: column.Type{Kind: column.Integer}}
	for _, s := range f.seen {
		effective.AppendInt(s.effective)
		appendSequence(&sequence, s.sighting)
	}
	for o := range f.seen {
		f.putRow(cols, &effective, &sequence, o)
	}
	f.seen, f.touched, f.last, f.keys = nil, nil, nil, nil
	f.kept, f.index = column.NewBatch(f.layout.fields), newIndex(f.x.dim)
	for k := range f.natural {
		f.natural[k] = column.Column{Type: f.natural[k].Type}
	}
}

// manyParts is how many parts rows are cut into whose number nobody knows yet.
const manyParts = 64

// put puts row i of a delivery on disk.
func (f *Feed) put(v *Delivery, i int) { f.putRow(v.Values, v.Effective, v.Sequence, i) }

func (f *Feed) putRow(values []*column.Column, effective, sequence *column.Column, i int) {
	f.cols = append(f.cols[:0], values...)
	if f.x.dim.Timed() {
		f.cols = append(f.cols, effective)
		if f.x.dim.Sequence != nil {
			f.cols = append(f.cols, sequence)
		}
	}
	f.rows.Put(f.parts.of(values[:f.layout.natural], i), f.cols, i)
}

// part gives a feed of the rows of one part.
func (f *Feed) part(ctx context.Context, r warehouse.Reader, part int) (*Feed, error) {
	x, err := f.parts.open(ctx, r, part)
	if err != nil {
		return nil, err
	}
	g, n := x.Feed(f.run, f.step), len(f.layout.fields)
	type rows struct {
		*column.Batch
		*Delivery
	}
	src := f.rows.Part(part)
	fields := src.Fields()
	fresh := func() *rows {
		r := &rows{column.NewBatch(fields), x.Delivery()}
		cols := column.Pointers(r.Cols)
		r.Values = cols[:n]
		if x.dim.Timed() {
			r.Effective = cols[n]
			if x.dim.Sequence != nil {
				r.Sequence = cols[n+1]
			}
		}
		return r
	}
	return g, stream.Each(ctx, src, f.parts.workers, fresh,
		func(_ int, p column.Piece, r *rows) error {
			err := p.Fill(r.Batch)
			if err == nil {
				r.Prepare(r.N, func(int) bool { return false })
			}
			return err
		},
		func(r *rows) error {
			for i := range r.N {
				kept := len(g.seen)
				if g.Take(r.Delivery, i); len(g.seen) > kept {
					g.numbers = append(g.numbers, r.Cols[len(fields)-1].Int[i])
				}
			}
			return nil
		})
}

// settleParts settles one part after another. Each is gone through twice: once to learn which versions need keys, so that
// these can be given in the order of appearance (rule R5), as if all had been in memory; and once in earnest.
func (f *Feed) settleParts(ctx context.Context, tx warehouse.Tx) (map[string]int64, error) {
	if f.err != nil {
		return nil, f.err
	}
	n := newNumbering(f.rows.N)
	for part := range f.parts.count {
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
	if f.parts.empty() {
		var err error
		if later, err = newOrdered(f, n); err != nil {
			return nil, err
		}
		defer later.close()
	}
	moved := map[string]int64{}
	for part := range f.parts.count {
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

// ordered is the rows of new versions on their way into an empty table, to which they are added by key, as a database
// likes it best; and what is noted besides. No other table points to them yet.
type ordered struct {
	n     *numbering
	rows  *spill.Rows
	notes *spill.Rows // nil if nothing is noted
}

func newOrdered(f *Feed, n *numbering) (*ordered, error) {
	d := f.x.dim
	o := &ordered{n: n}
	var err error
	if o.rows, err = spill.New(d.Table.Fields(), int(n.all/orderedRows)+1); err == nil && d.Observed != nil {
		o.notes, err = spill.New(d.Observed.Fields(), 1)
	}
	return o, err
}

// orderedRows is how many rows are brought into order at a time.
const orderedRows = 1 << 17

// put takes the rows of a batch.
func (o *ordered) put(b *column.Batch) {
	cols := column.Pointers(b.Cols)
	for i := range b.N {
		o.rows.Put(int(o.n.place(b.Cols[0].Int[i])/orderedRows), cols, i)
	}
}

// write adds all rows to the tables.
func (o *ordered) write(ctx context.Context, tx warehouse.Tx, f *Feed) error {
	d := f.x.dim
	order := make([]int32, 0, orderedRows)
	for part := range o.rows.Parts() {
		rows := column.NewBatch(d.Table.Fields())
		cols := column.Pointers(rows.Cols)
		err := each(ctx, o.rows.Part(part), f.parts.workers, func(b *column.Batch) {
			for k, c := range cols {
				for i := range b.N {
					c.Append(&b.Cols[k], i)
				}
			}
			rows.N += b.N
		})
		if err != nil {
			return err
		}
		first := int64(part) * orderedRows
		order = order[:rows.N]
		for i, key := range rows.Cols[0].Int {
			order[o.n.place(key)-first] = int32(i)
		}
		for from := 0; from < rows.N; from += insertRows {
			if err := f.appendRows(ctx, tx, cols, order[from:min(from+insertRows, rows.N)]); err != nil {
				return err
			}
		}
	}
	if err := f.written(ctx, tx); err != nil || o.notes == nil {
		return err
	}
	to, err := tx.Append(ctx, d.Observed.Name, d.Observed.Fields())
	if err != nil {
		return err
	}
	notes := o.notes.Part(0)
	fields := notes.Fields()
	err = stream.Each(ctx, notes, f.parts.workers, func() *column.Batch { return column.NewBatch(fields) },
		func(_ int, p column.Piece, b *column.Batch) error { return p.Fill(b) },
		func(b *column.Batch) error { return to.Append(column.Pointers(b.Cols[:len(fields)-1]), upTo(b.N)) })
	_, cerr := to.Close()
	return cmp.Or(err, cerr)
}

func (o *ordered) close() {
	o.rows.Close()
	if o.notes != nil {
		o.notes.Close()
	}
}

// absorb counts what a part has done.
func (f *Feed) absorb(g *Feed) {
	f.Counts = Counts{f.Counts.New + g.Counts.New, f.Counts.Versions + g.Counts.Versions, f.Counts.Filled + g.Counts.Filled,
		f.Counts.Changed + g.Counts.Changed, f.Counts.Same + g.Counts.Same, f.Counts.Conflicts + g.Counts.Conflicts}
	f.Added, f.Removed, f.changed = f.Added+g.Added, f.Removed+g.Removed, f.changed || g.changed
	for name, n := range g.Attributes {
		if f.Attributes == nil {
			f.Attributes = map[string]int64{}
		}
		f.Attributes[name] += n
	}
	for did, list := range g.examples {
		for _, e := range list {
			f.exemplify(did, e)
		}
	}
}

// numbering is which place each new version of a dimension in parts has among all: a row that one begins with has a bit.
type numbering struct {
	bits   []uint64
	before []int64  // how many bits are set in words before
	known  []latter // versions that begin with what was known, in their order
	all    int64
	first  int64 // the key of the first
	step   int64
}

// latter tells a version that begins with what was known: the row that its member was heard of in, and which it is.
type latter struct {
	touch int64
	heir  int
}

func (a latter) compare(b latter) int {
	return cmp.Or(cmp.Compare(a.touch, b.touch), cmp.Compare(a.heir, b.heir))
}

func newNumbering(rows int64) *numbering { return &numbering{bits: make([]uint64, rows/64+1)} }

func (n *numbering) add(c *change, b beginning) {
	if b.start == none {
		n.known = append(n.known, latter{c.f.touch(c.outcomes[b.outcome].member), b.which})
		return
	}
	row := c.f.numbers[b.start]
	n.bits[row/64] |= 1 << (row % 64)
}

// allocate gives all of them their keys.
func (n *numbering) allocate(f *Feed) {
	slices.SortFunc(n.known, latter.compare)
	n.before = make([]int64, len(n.bits)+1)
	for k, word := range n.bits {
		n.before[k+1] = n.before[k] + int64(bits.OnesCount64(word))
	}
	if n.all = n.before[len(n.bits)] + int64(len(n.known)); n.all == 0 {
		return
	}
	n.first, n.step = f.next(), f.x.dim.KeyStep
	f.highest = n.first + (n.all-1)*n.step
}

// place is the reverse of key: which of all new versions has a key.
func (n *numbering) place(key int64) int64 { return (key - n.first) / n.step }

// key gives the key of a version.
func (n *numbering) key(c *change, b beginning) int64 {
	if b.start == none {
		at, _ := slices.BinarySearchFunc(n.known, latter{c.f.touch(c.outcomes[b.outcome].member), b.which}, latter.compare)
		return n.first + (n.before[len(n.bits)]+int64(at))*n.step
	}
	row := c.f.numbers[b.start]
	return n.first + (n.before[row/64]+int64(bits.OnesCount64(n.bits[row/64]&(1<<(row%64)-1))))*n.step
}
