package roster

import (
	"context"
	"hash/maphash"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/schema"
	"ironmonger/internal/spill"
	"ironmonger/internal/warehouse"
)

// Parts is a dimension that memory has no room for, beside as many rows: both are kept on disk, cut by natural key,
// and one part after another is opened. All that is known of a member, and all that is said of it, is in one part.
type Parts struct {
	blind   *Roster     // a roster without members
	whole   *Roster     // the members, where memory has room for these
	members *spill.Rows // else these; nil where they aren't needed
	seed    maphash.Seed
	digest  digest.Maker
	Count   int
	Workers int
	Busy    func(part, of int) // told which part is gone through
	noted   bool               // there are observations that are kept apart
}

// OpenParts reads a dimension into so many parts on disk, which will be read by as many workers. busy is told which of
// them is gone through.
func OpenParts(
	ctx context.Context,
	r warehouse.Reader,
	d *schema.Dimension,
	count, workers int,
	busy func(part, of int),
) (*Parts, error) {
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
	p := &Parts{blind: x, seed: maphash.MakeSeed(), Count: count, Workers: workers, Busy: busy}
	if p.members, err = spill.New(rows.fields, count); err != nil {
		return nil, err
	}
	q := warehouse.Query{Table: d.Table.Name, Fields: rows.fields}
	err = warehouse.Each(ctx, r, q, func(b *column.Batch) error {
		cols := column.Pointers(b.Cols)
		natural := cols[rows.natural:rows.type1]
		for i := range b.N {
			if !rows.special(b.Cols[0].Int[i], natural, i) {
				p.members.Put(p.Of(natural, i), cols, i)
			}
		}
		return nil
	})
	if err == nil && d.Observed != nil {
		var one *column.Batch
		one, err = warehouse.ReadAll(
			ctx,
			r,
			warehouse.Query{Table: d.Observed.Name, Fields: d.Observed.Fields()[:1], Limit: 1},
		)
		p.noted = err == nil && one.N > 0
	}
	if err != nil {
		p.Close()
		return nil, err
	}
	return p, nil
}

// Empty reports whether the dimension has no members.
func (p *Parts) Empty() bool {
	if p.whole != nil {
		return p.whole.Len() == 0
	}
	return p.members.N == 0
}

// Blind returns a roster of the dimension that has no members.
func (p *Parts) Blind() *Roster { return p.blind }

// Of returns the part of a natural key.
func (p *Parts) Of(natural []*column.Column, i int) int {
	return int(p.digest.Hash(p.seed, natural, i) % uint64(p.Count))
}

// Open returns the members of a part.
func (p *Parts) Open(ctx context.Context, r warehouse.Reader, part int) (*Roster, error) {
	if p.whole != nil {
		return p.whole, nil
	}
	x, err := empty(ctx, r, p.blind.dim)
	if err != nil {
		return nil, err
	}
	rows := x.rows()
	err = pipeline.Batches(ctx, p.members.Part(part), p.Workers, func(b *column.Batch) error {
		rows.add(b)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return x, x.finish(ctx, r, true, p.noted)
}

// Close returns the disk back.
func (p *Parts) Close() error {
	if p.members == nil {
		return nil
	}
	return p.members.Close()
}

// WholeInParts cuts a roster that is in memory into parts, each of which is the whole of it.
func WholeInParts(x *Roster, count, workers int, busy func(part, of int)) *Parts {
	return &Parts{blind: x, whole: x, seed: maphash.MakeSeed(), Count: count, Workers: workers, Busy: busy}
}

// memberWeight is how many bytes a member takes in memory, about.
const memberWeight = 500

// Weight is how many bytes so many members of a dimension take in memory, about.
func Weight(members int64) int64 { return members * memberWeight }
