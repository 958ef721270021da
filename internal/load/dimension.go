package load

import (
	"context"
	"fmt"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/dimension"
	"ironmonger/internal/erase"
	"ironmonger/internal/ledger"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/resolve"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// delivery is a batch on its way into a dimension.
type delivery struct {
	batch *column.Batch
	keys  resolve.Resolved
	rows  *dimension.Delivery
	own   int // how many faults its rows have by themselves
}

// load reads what the source says about members and brings the table to it.
func (w *dimensionStep) load(ctx context.Context) error {
	d := w.dimension
	other, means, err := w.aliases(ctx)
	if err != nil {
		return err
	}
	feed, x, err := w.feed(ctx)
	if err != nil {
		return err
	}
	defer feed.Close()
	if err := w.connect(ctx); err != nil {
		return err
	}
	before, err := w.tx.Tally(ctx, d.Table.Name, nil)
	if err != nil {
		return err
	}
	w.apart.open(feed)
	if err := w.prepare(ctx, feed, other, means); err != nil {
		return err
	}
	if err := w.take(ctx, feed, x); err != nil {
		return err
	}
	if err := w.settle(ctx, feed); err != nil {
		return err
	}
	if err := w.balance(ctx, feed, before); err != nil {
		return err
	}
	w.finish = append(w.finish, feed.Commit)
	if feed.OnDisk() { // and the roster knows nothing of it
		w.finish = append(w.finish, func() { w.forget(d.Dimension) })
	}
	if err := w.reading.keep(ctx, w.work); err != nil {
		return err
	}
	return w.mustHold(ctx, d.Table, d.MustHold)
}

// prepare writes the special members, merges members that are known by an alias, and reads what the ledger knows of
// deliveries and of rows that have lost.
func (w *dimensionStep) prepare(ctx context.Context, feed *dimension.Feed, other, means []*column.Column) error {
	if err := feed.Specials(ctx, w.tx); err != nil {
		return err
	}
	if other != nil {
		if err := feed.Merge(ctx, w.tx, other, means); err != nil {
			return err
		}
		w.figures.Combined = feed.Merged()
		if err := w.mergeFacts(ctx, feed.Becomes()); err != nil {
			return err
		}
	}
	if err := feed.Delivered(ctx, w.tx); err != nil {
		return err
	}
	return feed.Remember(ctx, w.tx)
}

// take reads the rows of the source into the feed.
func (w *dimensionStep) take(ctx context.Context, feed *dimension.Feed, x *roster.Roster) error {
	judge := w.rowChecks()
	resolvers := make([]*resolve.Resolver, w.opts.Workers)
	for i := range resolvers {
		resolvers[i] = resolve.NewResolver(w.links)
	}
	return pipeline.Each(ctx, w.rows, w.opts.Workers,
		func() *delivery { return &delivery{batch: column.NewBatch(w.fields), rows: dimension.NewDelivery(x)} },
		func(worker int, p column.Piece, c *delivery) error {
			if err := p.Fill(c.batch); err != nil {
				return err
			}
			c.rows.Numbers = w.apart.numbers(p, c.batch, c.rows.Numbers)
			judge(c.batch)
			c.own = len(c.batch.Faults)
			if err := resolveKeys(resolvers[worker], p, c.batch, &c.keys); err != nil {
				return err
			}
			w.arrange(x, c)
			c.rows.Prepare(c.batch.N, c.batch.Bad)
			if w.dimension.RefuseLate {
				w.refuseLate(c)
			}
			return nil
		},
		func(c *delivery) error { return w.takeDelivery(ctx, feed, c) })
}

// refuseLate sets aside the rows that are older than what an earlier load brought of their member.
func (w *dimensionStep) refuseLate(c *delivery) {
	name := w.dimension.Effective.Name
	for i := range c.batch.N {
		if !c.batch.Bad(i) && c.rows.Late(i) {
			c.batch.SetAside(i, name, "older than what was loaded of its member", c.rows.Effective.Value(i))
		}
	}
}

// settle has the feed bring the tables to what it took.
func (w *dimensionStep) settle(ctx context.Context, feed *dimension.Feed) (err error) {
	d := w.dimension
	if err := w.inferred(ctx); err != nil {
		return err
	}
	if err := feed.Missed(ctx, w.tx, w.limits().Gone); err != nil {
		return err
	}
	if w.figures.Repointed, err = feed.Settle(ctx, w.tx); err != nil {
		return err
	}
	if err := w.apart.insert(ctx, w, feed); err != nil {
		return err
	}
	if feed.KnownLost() && w.reading != nil && len(w.reading.skip) > 0 {
		return errAll
	}
	if err := feed.KeepScopes(ctx, w.tx); err != nil {
		return err
	}
	number := func(files []string) (numbers map[string]int64, err error) {
		err = w.inOrder(ctx, func(tx warehouse.Tx) (err error) {
			numbers, err = ledger.Files(ctx, tx, files, w.entry.ID)
			return err
		})
		return numbers, err
	}
	if err := feed.KeepTies(ctx, w.tx, w.wholly(), number); err != nil {
		return err
	}
	if err := feed.Finish(ctx, w.tx); err != nil {
		return err
	}
	if err := w.buildHierarchy(ctx, d); err != nil {
		return err
	}
	if err := w.tx.Constrain(ctx, d.Table); err != nil || d.Observed == nil {
		return err
	}
	return w.tx.Constrain(ctx, d.Observed)
}

// balance writes down what became of the rows, and holds the table against it.
func (w *dimensionStep) balance(ctx context.Context, feed *dimension.Feed, before warehouse.Tally) error {
	d, f, c := w.dimension, &w.figures, &feed.Counts
	f.New, f.Versions, f.Filled, f.Changed, f.Same, f.Conflicts = c.New, c.Versions, c.Filled, c.Changed, c.Same, c.Conflicts
	f.Attributes, f.Gone, f.Back = feed.Attributes, feed.Gone, feed.Back
	if !d.Generated() {
		f.Examples = feed.Examples()
	}
	after, err := w.tx.Tally(ctx, d.Table.Name, nil)
	if err != nil {
		return err
	}
	if want := before.Rows + feed.Added - feed.Removed; after.Rows != want {
		const message = "the account does not hold: table %s should have %d rows and has %d"
		return fmt.Errorf(message, d.Table.Name, want, after.Rows)
	}
	f.Table = after.Rows
	return w.keepAccount(ctx, f.Adopted+feed.Added-feed.Removed, nil, after)
}

// aliases returns the aliases of the dimension, once members that have only been renamed have their new natural keys.
func (w *dimensionStep) aliases(ctx context.Context) (other, means []*column.Column, err error) {
	d := w.dimension
	if d.Aliases == nil {
		return nil, nil, nil
	}
	other, means, err = w.flow.Aliases(ctx, d.Aliases)
	if err != nil || other == nil || len(other[0].Null) == 0 {
		return nil, nil, err
	}
	if w.figures.Renamed, err = dimension.Renamed(ctx, w.tx, d, other, means, w.entry.ID); w.figures.Renamed > 0 {
		w.forget(d.Dimension)
	}
	return other, means, err
}

// forget returns back the memory of a roster that is not what the warehouse holds any more.
func (w *work) forget(d *star.Dimension) {
	s := w.seat(d)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.take(nil)
}

// natural returns the columns that say the natural key.
func (w *dimensionStep) natural() []int {
	d := w.dimension
	at := make([]int, len(d.NaturalKey))
	for n, f := range d.NaturalKey {
		if at[n] = column.Find(w.fields, f.Name); d.Source != nil {
			at[n] = column.Find(w.fields, d.Delivered[n])
		}
	}
	return at
}

// says returns the columns of the natural key.
func (w *dimensionStep) says(b *column.Batch) (member, grain []*column.Column) {
	if w.flow == nil {
		return nil, nil
	}
	return b.Pick(w.natural()), nil
}

// rowChecks returns what sets aside rows that say nothing about a member (rule R11).
func (w *dimensionStep) rowChecks() func(*column.Batch) {
	d := w.dimension
	natural := w.natural()
	effective, delivered := -1, -1
	if d.Deliveries != nil && d.Deliveries.On != nil {
		delivered = column.Find(w.fields, d.Deliveries.On.Name)
	}
	if d.Timed() {
		effective = column.Find(w.fields, d.Effective.Name)
	}
	beginning, end := schema.Bounds(d.Time)
	return func(b *column.Batch) {
		for n, k := range natural {
			for i := range b.N {
				if b.Cols[k].Null[i] && !b.Bad(i) {
					b.SetAside(i, d.NaturalKey[n].Name, "no "+d.NaturalKey[n].Name+", which is the natural key", "")
				}
			}
		}
		roster.TooLong(b, b.Pick(natural), strings.Join(column.Names(d.NaturalKey), ", "))
		if delivered >= 0 {
			for i := range b.N {
				if b.Cols[delivered].Null[i] && !b.Bad(i) {
					b.SetAside(
						i,
						d.Deliveries.On.Name,
						"no "+d.Deliveries.On.Name+", so nobody knows when it was delivered",
						"",
					)
				}
			}
		}
		if effective < 0 {
			return
		}
		c := &b.Cols[effective]
		for i := range b.N {
			if b.Bad(i) {
				continue
			}
			if c.Null[i] {
				b.SetAside(i, d.Effective.Name, "no "+d.Effective.Name+", so nobody knows since when", "")
			} else if c.Int[i] < beginning || c.Int[i] >= end {
				b.SetAside(i, d.Effective.Name, d.Effective.Name+" is before 1900-01-01 or not before 9999-12-31", c.Value(i))
			}
		}
	}
}

// arrange lines the columns of a batch up as the feed wants them.
func (w *dimensionStep) arrange(x *roster.Roster, c *delivery) {
	if c.rows.Values != nil {
		return
	}
	natural := w.natural()
	for n, f := range x.Layout().Fields {
		if at := column.Find(w.dimension.Outriggers, f.Name); n < len(natural) {
			c.rows.Values = append(c.rows.Values, &c.batch.Cols[natural[n]])
		} else if at >= 0 {
			c.rows.Values = append(c.rows.Values, &c.keys.Keys[at])
		} else {
			c.rows.Values = append(c.rows.Values, &c.batch.Cols[column.Find(w.fields, w.dimension.Delivers(f.Name))])
		}
	}
	if d := w.dimension; d.Deliveries != nil && d.Deliveries.On != nil {
		c.rows.Delivered = &c.batch.Cols[column.Find(w.fields, d.Deliveries.On.Name)]
	}
	if d := w.dimension; d.Timed() {
		c.rows.Effective = &c.batch.Cols[column.Find(w.fields, d.Effective.Name)]
		if d.Sequence != nil {
			c.rows.Sequence = &c.batch.Cols[column.Find(w.fields, d.Sequence.Name)]
		}
	}
}

// blankErased keeps the ledger from telling again what rows set aside say of members that were erased.
func (w *dimensionStep) blankErased(c *delivery) {
	raw := c.batch.From.Raw
	for k := range c.batch.Faults {
		if f := &c.batch.Faults[k]; c.rows.Erased(int(f.Row)) {
			f.Detail = ""
			c.batch.From.Raw = func(i int) string {
				if c.rows.Erased(i) {
					return erase.Blank
				}
				return raw(i)
			}
		}
	}
}

// takeDelivery is the sequencer: it takes a batch in source order.
func (w *dimensionStep) takeDelivery(ctx context.Context, feed *dimension.Feed, c *delivery) error {
	b := c.batch
	w.figures.Read += int64(b.N)
	if err := w.count(b, &c.keys); err != nil {
		return err
	}
	for _, i := range c.keys.Pending {
		resolve.Join(w.links, b, &c.keys, i)
		c.rows.Judge(int(i))
	}
	feed.From(c.rows, b.From.File, b.N)
	for i := range b.N {
		if b.Bad(i) {
			feed.Doubtful(c.rows, i)
		} else {
			feed.Take(c.rows, i)
		}
	}
	for _, s := range w.sessions {
		if err := s.Write(ctx, w.tx); err != nil {
			return err
		}
	}
	w.blankErased(c)
	w.hold(b, 0)
	w.reading.unsettled(b, c.own)
	w.reading.unmatched(b, &c.keys, w.links)
	if err := w.aside.put(b); err != nil {
		return err
	}
	w.read(b)
	return nil
}
