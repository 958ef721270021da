package dimension

import (
	"cmp"
	"context"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/history"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// change is the difference between a dimension as it stands and as it is to be, as batches of rows.
type change struct {
	f          *Feed
	outcomes   []outcome
	remove     []int64
	backfilled *revision
	filled     []int64  // keys of members that were inferred
	validity   revision // what says when a version holds
	type0      revision // type 0 attributes, and so on
	type1      revision
	type2      revision
	type3      revision
	flags      revision   // members that are gone, or back
	fresh      []composed // new versions, by key
	made       int        // how many these are
	notes      *column.Batch
	renoted    *column.Batch // notes that go
	blank      []int64       // new keys of members that were erased
	buried     *column.Batch // keys of members that are part of others now
	durable    []warehouse.Move

	standing map[int64]int // rows of stood by key: versions whose values go into new versions, or have changed
	stood    *column.Batch
	previous int // where the previous values of type 3 attributes begin in stood
	told     tellings
	values   versionValues    // of the row that is being made
	timed    []warehouse.Move // for what points to a version as of a time
	untimed  []warehouse.Move // for what points to a version without saying when
	current  []warehouse.Move // for what points to the current version
}

// revision is new values for some columns of rows that stand: their keys, the values, and the run.
type revision struct {
	fields []column.Field
	*column.Batch
}

// revision returns an empty one.
func (c *change) revision(fields []column.Field) revision {
	fields = append(c.f.x.Dimension().Table.Fields()[:1:1], fields...)
	fields = append(fields, column.Field{Name: schema.LoadRun, Type: column.Type{Kind: column.Integer}})
	return revision{fields, column.NewBatch(fields)}
}

// Settle works out the versions of all members heard of, and writes what that changes: rows removed,
// amended and added, and the keys of other tables that now belong to another version. It returns the
// number of rows so repointed, by table. Call it once, after the last Take.
func (f *Feed) Settle(ctx context.Context, tx warehouse.Tx) (map[string]int64, error) {
	if f.err != nil {
		return nil, f.err
	}
	if f.taken != nil {
		return f.settleParts(ctx, tx)
	}
	c, err := f.outlined(ctx, tx)
	if err != nil {
		return nil, err
	}
	if c.backfilled != nil {
		f.changed = true
		if _, err := tx.Amend(ctx, f.x.Dimension().Table.Name, 1, c.backfilled.fields, c.backfilled.Batch); err != nil {
			return nil, err
		}
	}
	if f.others != nil {
		if err := f.number(ctx, c); err != nil {
			return nil, err
		}
	}
	c.allocate()
	if err := c.fetch(ctx, tx); err != nil {
		return nil, err
	}
	c.compose()
	for k := range c.outcomes {
		c.moves(&c.outcomes[k])
	}
	c.bury()
	if err := c.write(ctx, tx); err != nil {
		return nil, err
	}
	f.settled = c.outcomes
	refs, err := c.references(ctx, tx)
	if err != nil {
		return nil, err
	}
	return c.repoint(ctx, tx, refs)
}

// outlined returns the members' versions as they are to be, most of them without a key yet.
func (f *Feed) outlined(ctx context.Context, tx warehouse.Reader) (*change, error) {
	c := &change{f: f}
	var err error
	if c.backfilled, err = f.backfill(ctx, tx); err != nil {
		return nil, err
	}
	c.outline()
	return c, nil
}

// outline works out the members' versions.
func (c *change) outline() {
	c.outcomes = make([]outcome, 0, len(c.f.touched))
	for _, m := range c.f.touched {
		c.outcomes = append(c.outcomes, c.f.outcomeOf(m))
		if d := c.f.x.Dimension(); d.Marked() && !d.Closes() {
			o := &c.outcomes[len(c.outcomes)-1]
			away, changed := c.f.flagged[m]
			if p := c.f.before(m); !changed && len(p.Versions) > 0 {
				away = p.Versions[0].Gone
			}
			for j := range o.Versions {
				o.Versions[j].Gone = away
			}
		}
	}
}

// beginning is a version that needs a key.
type beginning struct {
	*history.Next
	outcome, which int // of which member it is, and which of its versions
}

// beginnings lists the versions that need keys, in the order of appearance of the rows that they begin with; those
// that begin with what was known come last, in the order in which their members were heard of.
func (c *change) beginnings() []beginning {
	fresh := make([]beginning, 0, len(c.outcomes))
	for k := range c.outcomes {
		for j := range c.outcomes[k].Versions {
			if h := &c.outcomes[k].Versions[j]; h.Claims == none {
				fresh = append(fresh, beginning{h, k, j})
			}
		}
	}
	slices.SortStableFunc(fresh, func(a, b beginning) int {
		return cmp.Compare(uint32(a.Start), uint32(b.Start)) // known beginnings last
	})
	return fresh
}

// allocate returns new versions their keys.
func (c *change) allocate() {
	fresh := c.beginnings()
	c.made = len(fresh)
	for _, h := range fresh {
		if key, ok := c.former(h); ok {
			h.Key = key
		} else if c.f.numbering != nil {
			h.Key = c.f.numbering.key(c, h)
		} else {
			h.Key = c.f.allocate(h.Start)
		}
	}
	for k := range c.outcomes {
		o := &c.outcomes[k]
		was := c.formerMember(o)
		if c.f.x.Erased(o.member) || was != nil && was.Erased {
			for _, h := range o.Versions {
				c.blank = append(c.blank, h.Key)
			}
		}
		if p := c.f.before(o.member); len(p.Versions) > 0 {
			o.durable = p.Durable
			continue
		}
		if was != nil {
			o.durable = was.Durable
			continue
		}
		for j, h := range o.Versions {
			if j == 0 || h.Key < o.durable {
				o.durable = h.Key
			}
		}
	}
}

// formerMember returns the keys that a member had before the dimension was made anew; nil if it had none.
func (c *change) formerMember(o *outcome) *roster.FormerMember {
	former := c.f.x.Former()
	if former == nil {
		return nil
	}
	natural := column.Pointers(c.f.kept.Cols[:c.f.layout.Natural])
	for _, h := range o.Versions {
		if h.Start != none {
			return former.Of(natural, int(h.Start))
		}
	}
	return nil
}

// former returns the key that a version had before the dimension was made anew.
func (c *change) former(h beginning) (int64, bool) {
	d, o := c.f.x.Dimension(), &c.outcomes[h.outcome]
	was := c.formerMember(o)
	if was == nil || d.MadeKeys() != nil {
		return 0, false
	}
	taken := slices.ContainsFunc(o.Versions, func(v history.Next) bool { return v.From == was.Versions[0].From })
	return was.Key(h.From, d.Versioned(), h.which == 0 && !taken)
}

// fetch reads what stands of the members that change: values that go into new versions because no row of this load
// has them, and those that are about to change.
func (c *change) fetch(ctx context.Context, tx warehouse.Tx) error {
	d := c.f.x.Dimension()
	c.standing = map[int64]int{}
	keys, all := column.Column{
		Type: column.Type{Kind: column.Integer},
	}, column.Column{
		Type: column.Type{Kind: column.Integer},
	}
	want := func(surrogate int64) {
		if _, ok := c.standing[surrogate]; !ok {
			c.standing[surrogate] = len(keys.Int)
			keys.AppendInt(surrogate)
		}
	}
	for k := range c.outcomes {
		o := &c.outcomes[k]
		p := c.f.before(o.member)
		if len(p.Versions) == 0 || p.Versions[0].Inferred {
			continue
		}
		want(p.Versions[0].Key)
		for _, l := range o.lost {
			want(p.Versions[l.Version].Key)
		}
		for _, h := range o.Versions {
			if h.Start == none {
				want(p.Versions[h.Values].Key)
			} else if h.Claims != none {
				want(p.Versions[h.Claims].Key)
			}
		}
		if len(d.Type3) > 0 {
			for _, v := range p.Versions {
				all.AppendInt(v.Key)
			}
		}
	}
	if len(keys.Int) == 0 {
		return nil
	}
	fields := append(d.Table.Fields()[:1:1], c.f.layout.Fields...)
	c.previous = len(fields)
	for _, f := range d.Type3 {
		fields = append(fields, column.Field{Name: star.PreviousColumn(f.Name), Type: f.Type})
	}
	var err error
	c.stood, err = warehouse.ReadAll(
		ctx,
		tx,
		warehouse.Query{
			Table:  d.Table.Name,
			Fields: fields,
			By:     []string{d.KeyColumn()},
			Match:  []*column.Column{&keys},
		},
	)
	if err != nil {
		return err
	}
	for i, surrogate := range c.stood.Cols[0].Int {
		c.standing[surrogate] = i
	}
	c.told, err = c.f.toldOf(ctx, tx, &all)
	return err
}

// Commit makes the settled versions part of the roster.
func (f *Feed) Commit() {
	if !f.changed || f.taken != nil {
		return
	}
	f.x.Add(f.index, len(f.keys))
	for _, o := range f.settled {
		p := f.x.Member(o.member)
		if p.Durable = o.durable; cap(p.Versions) < len(o.Versions) {
			p.Versions = f.x.Room(len(o.Versions))
		}
		p.Versions = p.Versions[:0]
		for _, h := range o.Versions {
			p.Versions = append(p.Versions, h.Version)
		}
		if o.Type1 != none {
			p.Type1 = f.seen[o.Type1].Type1
		}
		if o.Type0 != none {
			p.Type0 = f.seen[o.Type0].Type0
		}
		for k := len(o.Story) - 1; k >= 0; k-- {
			if s := o.Story[k]; s.Mark == history.Row {
				if s.Row != none {
					p.Type3 = f.seen[s.Row].Type3
				}
				break
			}
		}
		if len(o.Noted) > 0 {
			p.Noted = slices.DeleteFunc(p.Noted, func(n history.Note) bool { return slices.Contains(o.Renoted, n) })
			p.Noted = append(p.Noted, o.Noted...)
			slices.SortFunc(p.Noted, history.Note.Compare)
		}
	}
	for m, away := range f.flagged {
		for k := range f.x.Member(m).Versions {
			f.x.Member(m).Versions[k].Gone = away
		}
	}
	by := f.by()
	if len(f.merged) > 0 {
		by = "" // members are numbered otherwise now
	}
	f.x.Committed(f.highest, by)
}
