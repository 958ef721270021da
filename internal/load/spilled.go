package load

import (
	"context"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/dimension"
	"ironmonger/internal/ledger"
	"ironmonger/internal/resolve"
	"ironmonger/internal/roster"
	"ironmonger/internal/star"
)

// Memory is how many bytes members and the rows that become members may take, unless the caller says otherwise.
// Half is for the members of all dimensions that are open, half for the rows of a step.
const Memory = 8 << 30

// sourceWeight is how many bytes of memory a byte of a file takes, about, while its rows become members.
const sourceWeight = 20

// fits reports whether there is room in memory for the members of a dimension.
func (w *work) fits(ctx context.Context, d *star.Dimension) (bool, error) {
	if !d.Inferable() || d.Aliases != nil || w.opts.Opening == Whole || w.opts.Opening == ByKeys {
		return true, nil
	}
	if slices.ContainsFunc(w.step.keys, func(k *star.Key) bool { return k.Milestone && k.Dimension == d }) {
		return true, nil // all versions of its members have to be known
	}
	if w.opts.Opening == Spilled {
		return false, nil
	}
	room := w.opts.Memory/2 - w.seated()
	if w.seat(d).taken() {
		room = 1 << 60 // it is there already
	}
	highest, _, err := ledger.Highest(ctx, w.tx, d.Text)
	if err != nil || roster.Weight(highest) <= room {
		return true, err
	}
	tally, err := w.tx.Tally(ctx, d.TableName(), nil)
	return roster.Weight(tally.Rows) <= room, err
}

// divided reports whether the step's dimension and its rows have to be kept on disk, and can be: what is known of a
// member has to be told from its own rows alone. With deliveries of all, who is missing is known at the end; and
// what is set aside because it is late, or is of a member that was erased, is told at once.
func (w *dimensionStep) divided(ctx context.Context) (bool, error) {
	d := w.dimension
	if w.wanted[d.Dimension] != nil || d.Deliveries != nil || d.RefuseLate || w.apart != nil { // what is left are few rows
		return false, nil
	}
	fits, err := w.fits(ctx, d.Dimension)
	if fits || err != nil {
		return false, err
	}
	erased, err := ledger.Erased(ctx, w.tx, d.Text)
	return len(erased) == 0, err
}

// feed returns what takes the rows of the step's dimension, and a roster to prepare them with.
func (w *dimensionStep) feed(ctx context.Context) (*dimension.Feed, *roster.Roster, error) {
	d := w.dimension
	divided, err := w.divided(ctx)
	if err != nil {
		return nil, nil, err
	}
	if divided {
		parts, err := w.cut(ctx, d.Dimension)
		if err != nil {
			return nil, nil, err
		}
		feed, err := dimension.NewFeedInParts(parts, w.entry.ID, w.name)
		return feed, parts.Blind(), err
	}
	x, err := w.members(ctx, d.Dimension)
	if err != nil {
		return nil, nil, err
	}
	feed := dimension.NewFeed(x, w.entry.ID, w.name)
	if d.Inferable() && d.Deliveries == nil && d.Aliases == nil && w.apart == nil {
		feed.Limit(w.share()/2, w.opts.Workers, w.busy)
	}
	return feed, x, nil
}

// parts is how many parts a dimension is cut into.
func (w *work) parts(ctx context.Context, d *star.Dimension) (int, error) {
	if w.opts.Opening == Spilled {
		return 3, nil
	}
	tally, err := w.tx.Tally(ctx, d.TableName(), nil)
	need := roster.Weight(tally.Rows) + sourceWeight*w.total
	return int(min(max(8*need/w.share(), 16), 256)), err
}

// cut reads a dimension into parts on disk.
func (w *work) cut(ctx context.Context, d *star.Dimension) (*roster.Parts, error) {
	count, err := w.parts(ctx, d)
	if err != nil {
		return nil, err
	}
	parts, err := roster.OpenParts(ctx, w.tx, w.star.Dimension(d), count, w.opts.Workers, w.busy)
	if err != nil {
		return nil, err
	}
	w.spilled = append(w.spilled, parts)
	return parts, nil
}

// answerKeys finds out which keys of the step point to dimensions that memory has no room for, and looks these up
// before the rows are read in earnest: it goes through the source for their natural keys, and answers these a part
// of the dimension at a time.
func (w *work) answerKeys(ctx context.Context) error {
	if w.flow == nil || !w.kind.source().OnlyFiles() {
		return nil
	}
	type asking struct {
		key *star.Key
		*roster.Questions
		by   []int
		asOf int
	}
	var all []asking
	fields := w.flow.Fields()
	for _, k := range w.step.keys {
		if w.wanted[k.Dimension] != nil {
			continue
		}
		if w.cuts == nil {
			w.cuts, w.answers = map[*star.Dimension]*roster.Parts{}, map[*star.Key]*roster.Answers{}
		}
		parts := w.cuts[k.Dimension]
		if parts == nil {
			fits, err := w.fits(ctx, k.Dimension)
			if err != nil {
				return err
			}
			if fits {
				continue
			}
			if parts, err = w.cut(ctx, k.Dimension); err != nil {
				return err
			}
			w.cuts[k.Dimension] = parts
		}
		a := asking{key: k, asOf: column.Find(fields, k.AsOf)}
		var asOf *column.Type
		if a.asOf >= 0 {
			asOf = &fields[a.asOf].Type
		}
		for _, name := range k.By {
			a.by = append(a.by, column.Find(fields, name))
		}
		var err error
		if a.Questions, err = parts.Ask(asOf); err != nil {
			return err
		}
		defer a.Close()
		all = append(all, a)
	}
	if len(all) == 0 {
		return nil
	}
	before, read := []int64{0}, int64(0)
	err := w.readFirst(ctx, w.needs, func(_ []column.Field, b *column.Batch) error {
		before = append(before, before[len(before)-1]+int64(b.N))
		read += b.From.Bytes
		w.tell(Progress{Step: w.name, Total: w.total, Bytes: read, Doing: "looking for keys"})
		for _, a := range all {
			var asOf *column.Column
			if a.asOf >= 0 {
				asOf = &b.Cols[a.asOf]
			}
			a.Put(b.Pick(a.by), asOf, b.N)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for d, parts := range w.cuts {
		var keys []*star.Key
		var questions []*roster.Questions
		for _, a := range all {
			if a.key.Dimension == d {
				keys, questions = append(keys, a.key), append(questions, a.Questions)
			}
		}
		answers, err := parts.Answer(ctx, w.tx, questions)
		if err != nil {
			return err
		}
		for n, k := range keys {
			w.answers[k] = answers[n]
			w.spilled = append(w.spilled, answers[n])
		}
	}
	w.rows = numbered{w.rows, before}
	return nil
}

// resolveKeys finds the keys of the rows of a piece.
func resolveKeys(r *resolve.Resolver, p column.Piece, b *column.Batch, keys *resolve.Resolved) error {
	if n, ok := p.(numberedPiece); ok {
		keys.First = n.first
	}
	return r.Resolve(b, keys)
}

// discard returns back what the step has on disk.
func (w *work) discard() {
	for _, c := range w.spilled {
		c.Close()
	}
}
