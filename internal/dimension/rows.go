package dimension

import (
	"cmp"
	"context"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// compose fills the batches.
func (c *change) compose() {
	d, f := c.f.x.dim, c.f
	l := &f.layout
	c.validity, c.type3 = c.revision(c.validityFields()), c.revision(c.thirdFields())
	c.type0 = c.revision(l.fields[l.type0:l.type3])
	c.type1 = c.revision(l.fields[l.type1:l.type0])
	c.type2 = c.revision(l.fields[l.type2:])
	if d.Observed != nil {
		c.notes, c.renoted = column.NewBatch(d.Observed.Fields()), column.NewBatch(d.Observed.Fields()[:2])
	}
	c.flags = c.revision([]column.Field{{Name: schema.IsGone, Type: column.Type{Kind: column.Boolean}}})
	for m, away := range f.flagged {
		for _, v := range f.before(m).versions {
			for k, value := range []int64{v.key, truth(away), f.run} {
				c.flags.Cols[k].AppendInt(value)
			}
			c.flags.N++
		}
	}
	c.fresh = make([]composed, 0, c.made)
	for k := range c.outcomes {
		o := &c.outcomes[k]
		p := f.before(o.member)
		if len(d.Type3) > 0 {
			if c.type3Values(o); d.Observed != nil {
				f.judge(p, o, o.story)
			}
		}
		c.losesKnown(o, p)
		c.tally(o, p)
		for j := range o.versions {
			h := &o.versions[j]
			if h.claims == none {
				c.fresh = append(c.fresh, composed{o, h, j == len(o.versions)-1})
			} else {
				c.amend(o, h, p, j == len(o.versions)-1)
			}
		}
		for k, v := range p.versions {
			if !slices.ContainsFunc(o.versions, func(h nextVersion) bool { return h.claims == k }) {
				c.remove = append(c.remove, v.key)
			}
		}
		c.keepApart(o, p)
	}
	slices.SortFunc(c.fresh, func(a, b composed) int { return cmp.Compare(a.h.key, b.h.key) })
}

// keepApart writes the observations of a member that its versions do not tell.
func (c *change) keepApart(o *outcome, p *memberState) {
	j := 0
	for _, n := range o.noted {
		for j+1 < len(o.versions) && o.versions[j+1].from <= n.effective {
			j++
		}
		c.notes.Cols[0].AppendInt(o.versions[j].key)
		c.notes.Cols[1].AppendInt(n.effective)
		at := 2
		if c.f.x.dim.Sequence != nil {
			appendSequence(&c.notes.Cols[2], n.timing)
			at++
		}
		if l := &c.f.layout; l.type3 < l.type2 { // the observation itself is in the story
			s := o.story[slices.IndexFunc(o.story, func(s candidate) bool { return s.effective == n.effective })]
			for k := l.type3; k < l.type2; k++ {
				c.notes.Cols[at].Append(&c.f.kept.Cols[k], int(s.seen))
				at++
			}
		}
		if c.f.x.dim.Closes() {
			if n.mark == real {
				c.notes.Cols[at].AppendNull()
			} else {
				c.notes.Cols[at].AppendText(marks[n.mark])
			}
		}
		c.notes.N++
	}
	for _, n := range o.renoted {
		k, _ := p.observed(n.effective)
		c.renoted.Cols[0].AppendInt(p.versions[k].key)
		c.renoted.Cols[1].AppendInt(n.effective)
		c.renoted.N++
	}
}

// tally counts which attributes of a known member, or of its versions, are others than before.
func (c *change) tally(o *outcome, p *memberState) {
	if len(p.versions) == 0 && len(o.versions) == 1 {
		return // as most are
	}
	l := &c.f.layout
	count := func(from, to int, a, b func(at int) value) {
		for at := from; at < to; at++ {
			if !a(at).equal(b(at)) {
				if c.f.Attributes == nil {
					c.f.Attributes = map[string]int64{}
				}
				c.f.Attributes[l.fields[at].Name]++
			}
		}
	}
	known := len(p.versions) > 0 && !p.versions[0].inferred
	stood := func(k int) func(int) value {
		return func(at int) value { return value{&c.stood.Cols[1+at], c.standing[p.versions[k].key]} }
	}
	seen := func(o int32) func(int) value {
		return func(at int) value { return value{&c.f.kept.Cols[at], int(o)} }
	}
	if known && o.type1 != none {
		count(l.type1, l.type0, stood(0), seen(o.type1))
	}
	if known && o.type0 != none {
		count(l.type0, l.type3, stood(0), seen(o.type0))
	}
	if known && o.type3Differs {
		count(l.type3, l.type2, stood(0), func(at int) value { return o.type3[at-l.type3].now })
	}
	values := func(h *nextVersion) func(int) value {
		if h.start != none {
			return seen(h.start)
		}
		return stood(h.values)
	}
	for j := range o.versions {
		switch h := &o.versions[j]; {
		case !c.f.x.dim.Versioned():
		case h.claims == none && j > 0:
			count(l.type2, len(l.fields), values(&o.versions[j-1]), values(h))
		case known && h.claims == none && len(o.versions) > 1: // before all that was known
			count(l.type2, len(l.fields), values(&o.versions[1]), values(h))
		case known && h.claims == none: // in place of all that was known
			count(l.type2, len(l.fields), stood(0), values(h))
		case known && h.start != none && p.versions[h.claims].type2 != h.type2:
			count(l.type2, len(l.fields), stood(h.claims), values(h))
		}
	}
}

// composed is a new version on its way into the table.
type composed struct {
	o       *outcome
	h       *nextVersion
	current bool
}

func (c *change) validityFields() []column.Field {
	d := c.f.x.dim
	var fields []column.Field
	if d.Timed() {
		fields = append(fields, column.Field{Name: schema.EffectiveFrom, Type: d.Time})
		if d.Sequence != nil {
			fields = append(fields, column.Field{Name: schema.Sequence, Type: d.Sequence.Type})
		}
	}
	boolean := column.Type{Kind: column.Boolean}
	if d.Versioned() {
		fields = append(
			fields,
			column.Field{Name: schema.ValidFrom, Type: d.Time},
			column.Field{Name: schema.ValidTo, Type: d.Time},
			column.Field{Name: schema.IsCurrent, Type: boolean},
		)
	}
	if d.Inferable() {
		fields = append(fields, column.Field{Name: schema.IsInferred, Type: boolean})
	}
	if d.Closes() {
		fields = append(fields, column.Field{Name: schema.IsGone, Type: boolean})
	}
	return fields
}

// thirdFields lists the type 3 attributes, each with what it was before.
func (c *change) thirdFields() []column.Field {
	var fields []column.Field
	for _, f := range c.f.layout.fields[c.f.layout.type3:c.f.layout.type2] {
		fields = append(fields, f, column.Field{Name: star.PreviousColumn(f.Name), Type: f.Type})
	}
	return fields
}

// amend writes what changes in the row that h keeps.
func (c *change) amend(o *outcome, h *nextVersion, p *memberState, current bool) {
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
	if len(c.validity.fields) > 2 &&
		(old.inferred || old.from != h.from || to != h.to || old.timing != h.timing || wasCurrent != current || d.Closes() && old.gone != h.gone) {
		c.validity.N++
		c.stamp(c.validity.Batch, h, current)
	}
	if o.type0 != none && f.layout.type0 < f.layout.type3 {
		c.copyValues(c.type0, h.key, f.kept.Cols[f.layout.type0:], int(o.type0))
	}
	if o.type1 != none && f.layout.type1 < f.layout.type0 {
		c.copyValues(c.type1, h.key, f.kept.Cols[f.layout.type1:], int(o.type1))
	}
	if o.type3Differs {
		c.type3.Cols[0].AppendInt(h.key)
		for a, two := range o.type3 {
			two.now.appendTo(&c.type3.Cols[1+2*a])
			two.before.appendTo(&c.type3.Cols[2+2*a])
		}
		c.type3.Cols[len(c.type3.Cols)-1].AppendInt(f.run)
		c.type3.N++
	}
	if d.Versioned() && h.start != none && (old.inferred || old.type2 != h.type2) {
		c.copyValues(c.type2, h.key, f.kept.Cols[f.layout.type2:], int(h.start))
	} else if d.Versioned() && h.start == none && old.type2 != h.type2 { // gone, and what it was last is another now
		c.copyValues(c.type2, h.key, c.stood.Cols[1+f.layout.type2:], c.standing[p.versions[h.values].key])
	}
}

// stamp writes key, times and marks of a version to the columns of b that are so called.
func (c *change) stamp(b *column.Batch, h *nextVersion, current bool) {
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
			appendSequence(&b.Cols[k], h.timing)
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
	if d.Closes() {
		put(truth(h.gone))
	}
	put(c.f.run)
}

func appendSequence(c *column.Column, s timing) {
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

// copyValues adds the values of a row of some columns, as many as the revision has.
func (c *change) copyValues(b revision, surrogate int64, from []column.Column, row int) {
	last := len(b.Cols) - 1
	b.Cols[0].AppendInt(surrogate)
	for k := 1; k < last; k++ {
		b.Cols[k].Append(&from[k-1], row)
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
		if f.later != nil {
			f.later.put(rows)
		} else if err := f.append(ctx, tx, rows); err != nil {
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
	r := schema.Row{
		Key:     n.h.key,
		Durable: n.o.durable,
		From:    n.h.from,
		To:      n.h.to,
		Current: n.current,
		Gone:    n.h.gone,
		Run:     f.run,
	}
	if n.h.effective != unsaid {
		r.Effective = &n.h.effective
	}
	if n.h.sequence != unsaid {
		r.Sequence = &n.h.sequence
	}
	c.values = versionValues{c, n, f.before(n.o.member), find}
	d.AppendRow(rows, &r, &c.values)
}

// versionValues is the values of a new version: of rows of this load, or as they stand.
type versionValues struct {
	c *change
	composed
	p    *memberState
	find []int // where the values of each column are in a feed's layout, or none
}

func (v *versionValues) Append(col *column.Column, k int, _ schema.Role) {
	c, l := v.c, &v.c.f.layout
	at := v.find[k]
	switch {
	case at == none && k > 0 && v.find[k-1] >= l.type3 && v.find[k-1] < l.type2: // what the type 3 attribute before it was
		v.o.type3[v.find[k-1]-l.type3].before.appendTo(col)
	case at == none:
		col.AppendNull()
	case at >= l.type2:
		c.from(col, at, v.h.start, v.p, v.h.values)
	case at >= l.type3:
		v.o.type3[at-l.type3].now.appendTo(col)
	case at >= l.type0:
		c.from(col, at, v.o.type0, v.p, 0)
	default:
		c.from(col, at, v.o.type1, v.p, 0)
	}
}

// from adds a value of observation o, or, where that is none, of a version that stands.
func (c *change) from(col *column.Column, at int, o int32, p *memberState, version int) {
	if o != none {
		col.Append(&c.f.kept.Cols[at], int(o))
	} else {
		col.Append(&c.stood.Cols[1+at], c.standing[p.versions[version].key])
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
	for _, r := range []revision{c.validity, c.type0, c.type1, c.type3, c.type2, c.flags} {
		if r.N > 0 {
			if _, err := tx.Amend(ctx, d.Table.Name, 1, r.fields, r.Batch); err != nil {
				return err
			}
			f.changed = true
		}
	}
	if c.blank = append(c.blank, f.blank...); len(
		c.blank,
	) > 0 { // whichever of its versions remain, the member stays blank
		if err := ledger.Erase(ctx, tx, d.Text, c.blank); err != nil {
			return err
		}
	}
	if err := ledger.Filled(ctx, tx, d.Text, c.filled, f.run); err != nil {
		return err
	}
	if err := c.insert(ctx, tx); err != nil {
		return err
	}
	if c.buried != nil {
		if err := c.writeBuried(ctx, tx); err != nil {
			return err
		}
	}
	if c.notes == nil || c.notes.N+c.renoted.N == 0 {
		return nil
	}
	f.changed = true
	if f.later != nil {
		cols := column.Pointers(c.notes.Cols)
		for i := range c.notes.N {
			f.later.notes.Put(0, cols, i)
		}
		return nil
	}
	if c.renoted.N > 0 {
		if _, err := tx.Remove(ctx, d.Observed.Name, d.Observed.Fields()[:2], c.renoted); err != nil {
			return err
		}
	}
	return warehouse.AppendAll(ctx, tx, d.Observed, c.notes)
}
