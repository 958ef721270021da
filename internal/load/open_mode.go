package load

import (
	"context"
	"errors"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/roster"
	"ironmonger/internal/star"
)

// Opening is how dimensions are opened.
type Opening int

// The ways. As it fits is: for the natural keys at hand alone, where many members stand beside few rows that
// arrive; in parts on disk, where memory has no room for them; else whole.
const (
	AsFits Opening = iota
	Whole
	ByKeys
	Spilled
)

// A dimension of fewer members than large is read whole. Of a larger one, reading a member by its natural key is taken
// to cost as much as reading manyPerKey in a row, and a row that arrives is taken to have leastRow bytes.
const (
	large      = 100_000
	manyPerKey = 10
	leastRow   = 16
)

var errTooMany = errors.New("too many keys")

// findKeys looks through the source of a step for the natural keys of large dimensions, if there are few. These are
// then opened for those keys alone.
func (w *work) findKeys(ctx context.Context) error {
	if w.flow == nil || w.opts.Opening == Whole || w.opts.Opening == Spilled || !w.readsAlike() {
		return nil
	}
	w.wanted = map[*star.Dimension]*roster.Wanted{}
	type use struct {
		of *roster.Wanted
		by []string
	}
	var uses []use
	var names []string
	add := func(d *star.Dimension, by []string) error {
		keys, err := w.few(ctx, d)
		if err != nil || keys < 0 {
			return err
		}
		if w.wanted[d] == nil {
			w.wanted[d] = roster.NewWanted(d, keys)
		}
		uses, names = append(uses, use{w.wanted[d], by}), append(names, by...)
		return nil
	}
	if d := w.step.dimension; d != nil {
		if err := add(d.Dimension, d.Delivered); err != nil {
			return err
		}
		if of := w.wanted[d.Dimension]; of != nil && !w.apart.want(of, d) {
			w.wanted = nil
			return nil
		}
	}
	for _, k := range w.step.keys {
		if err := add(k.Dimension, k.By); err != nil {
			return err
		}
	}
	if len(uses) == 0 {
		return nil
	}
	key := func(name string) bool { return slices.Contains(names, name) }
	if w.kind.source().Merges() { // which row is kept of several depends on what is wrong with others
		key = w.needs
	}
	err := w.readFirst(ctx, key, func(fields []column.Field, b *column.Batch) error {
		for _, u := range uses {
			cols := make([]*column.Column, len(u.by))
			for n, name := range u.by {
				cols[n] = &b.Cols[column.Find(fields, name)]
			}
			if !u.of.Add(cols, b.N) {
				return errTooMany
			}
		}
		return nil
	})
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil { // what is wrong with the source is told when it is read in earnest
		w.wanted = nil
	}
	return nil
}

// readsAlike reports whether the source says the same when it is read twice.
func (w *work) readsAlike() bool {
	s := w.kind.source()
	return s.OnlyFiles() || w.left() && len(s.Joins) == 0
}

// left reports whether the step reads what the warehouse has left to it alone.
func (w *work) left() bool { return w.within != nil || w.apart != nil }

// few returns how many natural keys of a dimension may be looked up one by one, or -1 if it is to be read whole.
func (w *work) few(ctx context.Context, d *star.Dimension) (int64, error) {
	if own := w.step.dimension != nil && d == w.step.dimension.Dimension; !d.Inferable() || d.Aliases != nil ||
		d.Deliveries != nil && (!own || w.apart == nil) { // the others are small, or all have to be known
		return -1, nil
	}
	if w.opts.Opening == ByKeys {
		return 1 << 40, nil
	}
	highest, _, err := ledger.Highest(ctx, w.tx, d.Text)
	members := (highest - d.FirstKey) / d.KeyStep
	if err != nil || members < large || !w.left() && (w.total == 0 || w.total/leastRow > members) {
		return -1, err
	}
	if w.seat(d).taken() {
		return -1, nil // it has been read
	}
	if fits, err := w.fits(ctx, d); w.left() && (err != nil || !fits) {
		return members, err
	}
	return members / manyPerKey, nil
}

// members returns the members of a dimension as the step's transaction sees them: all, or those that it may need.
func (w *work) members(ctx context.Context, d *star.Dimension) (*roster.Roster, error) {
	if parts := w.cuts[d]; parts != nil {
		return parts.Blind(), nil
	}
	wanted := w.wanted[d]
	if wanted == nil {
		return w.roster(ctx, w.tx, d)
	}
	if w.partial[d] == nil {
		x, err := roster.OpenWanted(ctx, w.tx, w.star.Dimension(d), wanted)
		if err != nil {
			return nil, err
		}
		if w.partial == nil {
			w.partial = map[*star.Dimension]*roster.Roster{}
		}
		w.partial[d] = x
	}
	return w.partial[d], nil
}
