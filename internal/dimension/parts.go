package dimension

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
	count   int
	workers int
	busy    func(part, of int) // told which part is gone through
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
	p := &Parts{blind: x, seed: maphash.MakeSeed(), count: count, workers: workers, busy: busy}
	if p.members, err = spill.New(rows.fields, count); err != nil {
		return nil, err
	}
	q := warehouse.Query{Table: d.Table.Name, Fields: rows.fields}
	err = warehouse.Each(ctx, r, q, func(b *column.Batch) error {
		cols := column.Pointers(b.Cols)
		natural := cols[rows.natural:rows.type1]
		for i := range b.N {
			if !rows.special(b.Cols[0].Int[i], natural, i) {
				p.members.Put(p.of(natural, i), cols, i)
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

// empty reports whether the dimension has no members.
func (p *Parts) empty() bool {
	if p.whole != nil {
		return p.whole.Len() == 0
	}
	return p.members.N == 0
}

// Blind returns a roster of the dimension that has no members.
func (p *Parts) Blind() *Roster { return p.blind }

// of returns the part of a natural key.
func (p *Parts) of(natural []*column.Column, i int) int {
	return int(p.digest.Hash(p.seed, natural, i) % uint64(p.count))
}

// open returns the members of a part.
func (p *Parts) open(ctx context.Context, r warehouse.Reader, part int) (*Roster, error) {
	if p.whole != nil {
		return p.whole, nil
	}
	x, err := empty(ctx, r, p.blind.dim)
	if err != nil {
		return nil, err
	}
	rows := x.rows()
	err = pipeline.Batches(ctx, p.members.Part(part), p.workers, func(b *column.Batch) error {
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
