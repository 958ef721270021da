package member

import (
	"cmp"
	"context"
	"errors"
	"hash/maphash"
	"math/bits"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/layout"
	"ironmonger/internal/spill"
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
}

// OpenParts reads a dimension into so many parts on disk.
func OpenParts(ctx context.Context, r warehouse.Reader, d *layout.Dimension, count int) (*Parts, error) {
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
	p := &Parts{blind: x, seed: maphash.MakeSeed(), count: count}
	if p.members, err = spill.New(rows.fields, count); err != nil {
		return nil, err
	}
	q := warehouse.Query{Table: d.Table.Name, Fields: rows.fields}
	var failed error
	err = warehouse.Each(ctx, r, q, func(b *column.Batch) {
		cols := column.Pointers(b.Cols)
		natural := cols[rows.natural:rows.type1]
		for i := range b.N {
			if failed == nil && !rows.special(b.Cols[0].Int[i], natural, i) {
				failed = p.members.Put(p.of(natural, i), cols, i)
			}
		}
	})
	if err = errors.Join(err, failed); err != nil {
		p.Close()
		return nil, err
	}
	return p, nil
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
	err = p.members.Each(part, func(b *column.Batch, _ []int64) error {
		rows.add(b)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return x, x.finish(ctx, r, true)
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

// Limit lets the rows that a feed takes have so many bytes of memory, about. Beyond that they go on disk.
func (f *Feed) Limit(room int64) { f.limit = room }

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

// How many bytes a row takes in a feed and while it becomes a version, and a member in a roster, about.
const (
	rowWeight    = 600
	valueWeight  = 18
	memberWeight = 300
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
	f.parts = &Parts{blind: f.x, whole: f.x, seed: maphash.MakeSeed(), count: manyParts}
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
	if err := f.rows.Put(f.parts.of(values[:f.layout.natural], i), f.cols, i); f.err == nil {
		f.err = err
	}
}

// part gives a feed of the rows of one part.
func (f *Feed) part(ctx context.Context, r warehouse.Reader, part int) (*Feed, error) {
	x, err := f.parts.open(ctx, r, part)
	if err != nil {
		return nil, err
	}
	g, v := x.Feed(f.run, f.step), x.Delivery()
	n := len(f.layout.fields)
	err = f.rows.Each(part, func(b *column.Batch, number []int64) error {
		cols := column.Pointers(b.Cols)
		v.Values = cols[:n]
		if x.dim.Timed() {
			v.Effective = cols[n]
			if x.dim.Sequence != nil {
				v.Sequence = cols[n+1]
			}
		}
		v.Prepare(b.N, func(int) bool { return false })
		for i := range b.N {
			kept := len(g.seen)
			if g.Take(v, i); len(g.seen) > kept {
				g.numbers = append(g.numbers, number[i])
			}
		}
		return nil
	})
	return g, err
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
	moved := map[string]int64{}
	for part := range f.parts.count {
		g, err := f.part(ctx, tx, part)
		if err != nil {
			return nil, err
		}
		g.numbering = n
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
	return moved, nil
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
	keys   func(place int64) int64
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
	all := n.before[len(n.bits)] + int64(len(n.known))
	if all == 0 {
		return
	}
	first, step := f.next(), f.x.dim.KeyStep
	n.keys = func(place int64) int64 { return first + place*step }
	f.highest = n.keys(all - 1)
}

// key gives the key of a version.
func (n *numbering) key(c *change, b beginning) int64 {
	if b.start == none {
		at, _ := slices.BinarySearchFunc(n.known, latter{c.f.touch(c.outcomes[b.outcome].member), b.which}, latter.compare)
		return n.keys(n.before[len(n.bits)] + int64(at))
	}
	row := c.f.numbers[b.start]
	return n.keys(n.before[row/64] + int64(bits.OnesCount64(n.bits[row/64]&(1<<(row%64)-1))))
}
