package member

import (
	"cmp"
	"context"
	"slices"

	"ironmonger/internal/calendar"
	"ironmonger/internal/column"
	"ironmonger/internal/layout"
	"ironmonger/internal/ledger"
	"ironmonger/internal/warehouse"
)

// change is the difference between a dimension as it stands and as it is to be, as batches of rows.
type change struct {
	f        *Feed
	outcomes []outcome
	remove   []int64
	filled   []int64       // keys of members that were inferred
	validity *column.Batch // key, then what says when a version holds
	type0    *column.Batch // key, then type 0 attributes
	type1    *column.Batch // key, then type 1 attributes and outriggers
	type2    *column.Batch // key, then type 2 attributes
	fresh    []composed    // new versions, by key
	confirm  *column.Batch

	standing map[int64]int // rows of stood by key: versions whose values go into new versions
	stood    *column.Batch
	timed    []warehouse.Move // for what points to a version as of a time
	untimed  []warehouse.Move // for what points to a version without saying when
	current  []warehouse.Move // for what points to the current version
}

// Settle works out the versions of all members heard of, and writes what that changes: rows removed,
// amended and added, and the keys of other tables that now belong to another version. It gives the
// number of rows so repointed, by table. Call it once, after the last Take.
func (f *Feed) Settle(ctx context.Context, tx warehouse.Tx) (map[string]int64, error) {
	c := &change{f: f}
	for _, m := range f.touched {
		if f.x.dim.Versioned() {
			c.outcomes = append(c.outcomes, f.history(m))
		} else {
			c.outcomes = append(c.outcomes, f.single(m))
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
	if err := c.write(ctx, tx); err != nil {
		return nil, err
	}
	f.settled = c.outcomes
	return c.repoint(ctx, tx)
}

// allocate gives new versions their keys, in the order of appearance of the rows that they begin with.
func (c *change) allocate() {
	var fresh []*heir
	for k := range c.outcomes {
		for j := range c.outcomes[k].heirs {
			if h := &c.outcomes[k].heirs[j]; h.claims == none {
				fresh = append(fresh, h)
			}
		}
	}
	slices.SortStableFunc(fresh, func(a, b *heir) int {
		return cmp.Compare(uint32(a.start), uint32(b.start)) // known beginnings last
	})
	for _, h := range fresh {
		h.key = c.f.allocate(h.start)
	}
}

// fetch reads the versions whose values go into new versions, because no row of this load has them.
func (c *change) fetch(ctx context.Context, tx warehouse.Tx) error {
	d := c.f.x.dim
	c.standing = map[int64]int{}
	keys := column.Column{Type: column.Type{Kind: column.Integer}}
	want := func(surrogate int64) {
		if _, ok := c.standing[surrogate]; !ok {
			c.standing[surrogate] = len(keys.Int)
			keys.AppendInt(surrogate)
		}
	}
	for k := range c.outcomes {
		o := &c.outcomes[k]
		p := c.f.before(o.member)
		for _, h := range o.heirs {
			if h.claims == none && (o.type1 == none || o.type0 == none) {
				want(p.versions[0].key)
			}
			if h.claims == none && h.start == none {
				want(p.versions[h.values].key)
			}
		}
	}
	if len(keys.Int) == 0 {
		return nil
	}
	fields := append(d.Table.Fields()[:1:1], c.f.layout.fields...)
	var err error
	c.stood, err = warehouse.ReadAll(ctx, tx, warehouse.Query{Table: d.Table.Name, Fields: fields, By: []string{d.KeyColumn()}, Match: []*column.Column{&keys}})
	if err != nil {
		return err
	}
	for i, surrogate := range c.stood.Cols[0].Int {
		c.standing[surrogate] = i
	}
	return nil
}

// compose fills the batches.
func (c *change) compose() {
	d, f := c.f.x.dim, c.f
	c.validity = column.NewBatch(c.validityFields())
	c.type0, c.type1, c.type2 = column.NewBatch(c.type0Fields()), column.NewBatch(c.type1Fields()), column.NewBatch(c.type2Fields())
	if d.Confirmed != nil {
		c.confirm = column.NewBatch(d.Confirmed.Fields())
	}
	for k := range c.outcomes {
		o := &c.outcomes[k]
		p := f.before(o.member)
		for j := range o.heirs {
			h := &o.heirs[j]
			if h.claims == none {
				c.fresh = append(c.fresh, composed{o, h, j == len(o.heirs)-1})
			} else {
				c.amend(o, h, p, j == len(o.heirs)-1)
			}
		}
		for k, v := range p.versions {
			if !slices.ContainsFunc(o.heirs, func(h heir) bool { return h.claims == k }) {
				c.remove = append(c.remove, v.key)
			}
		}
		j := 0
		for _, t := range o.confirmed {
			for j+1 < len(o.heirs) && o.heirs[j+1].from <= t.effective {
				j++
			}
			c.confirm.Cols[0].AppendInt(o.heirs[j].key)
			c.confirm.Cols[1].AppendInt(t.effective)
			if d.Sequence != nil {
				appendSequence(&c.confirm.Cols[2], t)
			}
			c.confirm.N++
		}
	}
	slices.SortFunc(c.fresh, func(a, b composed) int { return cmp.Compare(a.h.key, b.h.key) })
}

// composed is a new version on its way into the table.
type composed struct {
	o       *outcome
	h       *heir
	current bool
}

func (c *change) validityFields() []column.Field {
	d := c.f.x.dim
	fields := d.Table.Fields()[:1:1]
	if d.Timed() {
		fields = append(fields, column.Field{Name: layout.EffectiveFrom, Type: d.Time})
		if d.Sequence != nil {
			fields = append(fields, column.Field{Name: layout.Sequence, Type: d.Sequence.Type})
		}
	}
	boolean := column.Type{Kind: column.Boolean}
	if d.Versioned() {
		fields = append(fields, column.Field{Name: layout.ValidFrom, Type: d.Time}, column.Field{Name: layout.ValidTo, Type: d.Time},
			column.Field{Name: layout.IsCurrent, Type: boolean})
	}
	if d.Inferable() {
		fields = append(fields, column.Field{Name: layout.IsInferred, Type: boolean})
	}
	return append(fields, column.Field{Name: layout.LoadRun, Type: column.Type{Kind: column.Integer}})
}

func (c *change) type1Fields() []column.Field {
	return c.attributeFields(c.f.layout.type1, c.f.layout.type0)
}
func (c *change) type0Fields() []column.Field {
	return c.attributeFields(c.f.layout.type0, c.f.layout.type2)
}
func (c *change) type2Fields() []column.Field {
	return c.attributeFields(c.f.layout.type2, len(c.f.layout.fields))
}

func (c *change) attributeFields(from, to int) []column.Field {
	fields := append(c.f.x.dim.Table.Fields()[:1:1], c.f.layout.fields[from:to]...)
	return append(fields, column.Field{Name: layout.LoadRun, Type: column.Type{Kind: column.Integer}})
}

// amend writes what changes in the row that h keeps.
func (c *change) amend(o *outcome, h *heir, p *person, current bool) {
	d, f := c.f.x.dim, c.f
	old := p.versions[h.claims]
	if old.inferred {
		c.filled = append(c.filled, h.key)
	}
	to := f.x.end
	if h.claims+1 < len(p.versions) {
		to = p.versions[h.claims+1].from
	}
	wasCurrent := h.claims == len(p.versions)-1
	if len(c.validity.Cols) > 2 && (old.inferred || old.from != h.from || to != h.to || old.sighting != h.sighting || wasCurrent != current) {
		c.validity.N++
		c.stamp(c.validity, h, current)
	}
	if o.type0 != none && f.layout.type0 < f.layout.type2 {
		c.copyValues(c.type0, h.key, o.type0, f.layout.type0)
	}
	if o.type1 != none && f.layout.type1 < f.layout.type0 {
		c.copyValues(c.type1, h.key, o.type1, f.layout.type1)
	}
	if d.Versioned() && h.start != none && (old.inferred || old.traits != h.traits) {
		c.copyValues(c.type2, h.key, h.start, f.layout.type2)
	}
}

// stamp writes key, times and marks of a version to the columns of b that are so called.
func (c *change) stamp(b *column.Batch, h *heir, current bool) {
	k := 0
	put := func(v int64) {
		b.Cols[k].AppendInt(v)
		k++
	}
	put(h.key)
	d := c.f.x.dim
	if d.Timed() {
		put(h.effective)
		if d.Sequence != nil {
			appendSequence(&b.Cols[k], h.sighting)
			k++
		}
	}
	if d.Versioned() {
		put(h.from)
		put(h.to)
		put(truth(current))
	}
	if d.Inferable() {
		put(0)
	}
	put(c.f.run)
}

func appendSequence(c *column.Column, s sighting) {
	if s.sequence == unsaid {
		c.AppendNull()
	} else {
		c.AppendInt(s.sequence)
	}
}

func truth(b bool) int64 {
	if b {
		return 1
	}
	return 0
}

func (c *change) copyValues(b *column.Batch, surrogate int64, from int32, at int) {
	last := len(b.Cols) - 1
	b.Cols[0].AppendInt(surrogate)
	for k := 1; k < last; k++ {
		b.Cols[k].Append(&c.f.kept.Cols[at+k-1], int(from))
	}
	b.Cols[last].AppendInt(c.f.run)
	b.N++
}

// insert sends the rows of the new versions, a chunk at a time, so that the warehouse takes in one while the
// next is made.
func (c *change) insert(ctx context.Context, tx warehouse.Tx) error {
	d, f := c.f.x.dim, c.f
	at := make([]int, len(d.Table.Columns)) // where the values of a column are, or none
	for k, col := range d.Table.Columns {
		at[k] = column.Find(f.layout.fields, col.Name)
	}
	rows := column.NewBatch(d.Table.Fields())
	for k, n := range c.fresh {
		c.row(rows, n, at)
		if rows.N < insertRows && k+1 < len(c.fresh) {
			continue
		}
		f.changed = true
		if err := f.append(ctx, tx, rows); err != nil {
			return err
		}
		rows.Reset(0)
	}
	return nil
}

// insertRows is how many rows are made before they are sent.
const insertRows = 4096

// row adds the row of a new version.
func (c *change) row(rows *column.Batch, n composed, find []int) {
	d, f := c.f.x.dim, c.f
	p := f.before(n.o.member)
	for k := range rows.Cols {
		col, name, at := &rows.Cols[k], d.Table.Columns[k].Name, find[k]
		switch {
		case at >= f.layout.type2 && n.h.start == none:
			col.Append(&c.stood.Cols[1+at], c.standing[p.versions[n.h.values].key])
		case at >= f.layout.type2:
			col.Append(&f.kept.Cols[at], int(n.h.start))
		case at >= f.layout.type0 && n.o.type0 == none:
			col.Append(&c.stood.Cols[1+at], c.standing[p.versions[0].key])
		case at >= f.layout.type0:
			col.Append(&f.kept.Cols[at], int(n.o.type0))
		case at >= 0 && n.o.type1 == none:
			col.Append(&c.stood.Cols[1+at], c.standing[p.versions[0].key])
		case at >= 0:
			col.Append(&f.kept.Cols[at], int(n.o.type1))
		case k == 0:
			col.AppendInt(n.h.key)
		case name == layout.EffectiveFrom:
			col.AppendInt(n.h.effective)
		case name == layout.Sequence:
			appendSequence(col, n.h.sighting)
		case name == layout.ValidFrom:
			col.AppendInt(n.h.from)
		case name == layout.ValidTo:
			col.AppendInt(n.h.to)
		case name == layout.IsCurrent:
			col.AppendInt(truth(n.current))
		case name == layout.IsInferred:
			col.AppendInt(0)
		case name == layout.LoadRun:
			col.AppendInt(f.run)
		}
	}
	rows.N++
}

// moves finds which times have passed from one key to another.
func (c *change) moves(o *outcome) {
	p := c.f.before(o.member)
	if len(p.versions) == 0 || !c.f.x.dim.Versioned() {
		return
	}
	beginning := column.Day(1, 1, 1)
	if c.f.x.dim.Time.Kind == column.Timestamp {
		beginning *= column.DayMicros
	}
	span := func(list []heir, j int) (int64, int64) { // what lies before the first version goes to it
		if j == 0 {
			return beginning, list[j].to
		}
		return list[j].from, list[j].to
	}
	now := o.heirs[len(o.heirs)-1].key
	for k, old := range p.versions {
		from, to := old.from, c.f.x.end
		if k == 0 {
			from = beginning
		}
		last := k+1 == len(p.versions)
		if !last {
			to = p.versions[k+1].from
		}
		stays, heirOfStart := false, now
		for j := range o.heirs {
			since, until := span(o.heirs, j)
			stays = stays || o.heirs[j].key == old.key
			if since <= old.from && old.from < until {
				heirOfStart = o.heirs[j].key
			}
			if since, until = max(since, from), min(until, to); since < until && o.heirs[j].key != old.key {
				c.timed = append(c.timed, warehouse.Move{Old: old.key, New: o.heirs[j].key, From: since, To: until})
			}
		}
		if old.inferred && now != old.key {
			c.untimed = append(c.untimed, warehouse.Move{Old: old.key, New: now})
		} else if !stays {
			c.untimed = append(c.untimed, warehouse.Move{Old: old.key, New: heirOfStart})
		}
		if last && now != old.key {
			c.current = append(c.current, warehouse.Move{Old: old.key, New: now})
		}
	}
}

// write sends the batches: first what makes room, then what is new.
func (c *change) write(ctx context.Context, tx warehouse.Tx) error {
	d, f := c.f.x.dim, c.f
	if len(c.remove) > 0 {
		b := column.NewBatch(d.Table.Fields()[:1])
		for _, surrogate := range c.remove {
			b.Cols[0].AppendInt(surrogate)
			b.N++
		}
		n, err := tx.Remove(ctx, d.Table.Name, d.Table.Fields()[:1], b)
		if err != nil {
			return err
		}
		f.Removed += n
		f.changed = true
	}
	for _, amend := range []struct {
		b      *column.Batch
		fields []column.Field
	}{{c.validity, c.validityFields()}, {c.type0, c.type0Fields()}, {c.type1, c.type1Fields()}, {c.type2, c.type2Fields()}} {
		if amend.b.N > 0 {
			if _, err := tx.Amend(ctx, d.Table.Name, 1, amend.fields, amend.b); err != nil {
				return err
			}
			f.changed = true
		}
	}
	if err := ledger.Filled(ctx, tx, d.Text, c.filled, f.run); err != nil {
		return err
	}
	if err := c.insert(ctx, tx); err != nil {
		return err
	}
	if c.confirm == nil || c.confirm.N == 0 {
		return nil
	}
	f.changed = true
	a, err := tx.Append(ctx, d.Confirmed.Name, d.Confirmed.Fields())
	if err != nil {
		return err
	}
	err = a.Append(pointers(c.confirm.Cols), upTo(c.confirm.N))
	if _, cerr := a.Close(); err == nil {
		err = cerr
	}
	return err
}

// repoint changes the keys of the tables that point to the dimension.
func (c *change) repoint(ctx context.Context, tx warehouse.Tx) (map[string]int64, error) {
	counts := map[string]int64{}
	confirmed := ""
	if c.f.x.dim.Confirmed != nil {
		confirmed = c.f.x.dim.Confirmed.Name
	}
	for _, ref := range c.f.x.dim.PointedAt {
		r := &warehouse.Repointing{Table: ref.Table, Key: ref.Key, Time: ref.Time, TimeType: ref.TimeType, Moves: c.untimed}
		switch {
		case ref.Outrigger:
			r.Moves = c.current
		case ref.Time != "":
			r.Moves = c.at(ref)
		}
		if len(r.Moves) == 0 {
			continue
		}
		if columns, err := tx.Describe(ctx, ref.Table); err != nil {
			return nil, err
		} else if columns == nil {
			continue // not made yet
		}
		n, err := tx.Repoint(ctx, r)
		if err != nil {
			return nil, err
		}
		if n > 0 && ref.Table != confirmed {
			counts[ref.Table] += n
		}
	}
	return counts, nil
}

// at gives the timed moves in the precision of a reference's time.
func (c *change) at(ref layout.Reference) []warehouse.Move {
	moves := slices.Clone(c.timed)
	for i := range moves {
		m := &moves[i]
		switch {
		case ref.ByDay:
			m.From, m.To = calendar.Key(m.From), calendar.Key(m.To)
		case ref.TimeType.Kind == column.Timestamp && c.f.x.dim.Time.Kind == column.Date:
			m.From, m.To = m.From*column.DayMicros, m.To*column.DayMicros
		}
	}
	return moves
}

// Commit makes the settled versions part of the roster.
func (f *Feed) Commit() {
	if !f.changed {
		return
	}
	cols := pointers(f.natural)
	for i := range f.keys {
		f.x.index.Add(cols, i)
		f.x.people = append(f.x.people, person{})
	}
	for _, o := range f.settled {
		p := &f.x.people[o.member]
		p.versions = p.versions[:0]
		for _, h := range o.heirs {
			p.versions = append(p.versions, h.version)
		}
		if o.type1 != none {
			p.traits = f.seen[o.type1].type1
		}
		if o.type0 != none {
			p.origin = f.seen[o.type0].type0
		}
		if len(o.confirmed) > 0 {
			p.confirmed = append(p.confirmed, o.confirmed...)
			slices.SortFunc(p.confirmed, sighting.compare)
		}
	}
	f.committed()
}
