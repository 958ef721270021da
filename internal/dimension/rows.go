package dimension

import (
	"cmp"
	"context"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/history"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// compose fills the batches.
func (c *change) compose() {
	d, f := c.f.x.Dimension(), c.f
	l := &f.layout
	c.validity, c.type3 = c.revision(c.validityFields()), c.revision(c.thirdFields())
	c.type0 = c.revision(l.Fields[l.Type0:l.Type3])
	c.type1 = c.revision(l.Fields[l.Type1:l.Type0])
	c.type2 = c.revision(l.Fields[l.Type2:])
	if d.Observed != nil {
		c.notes, c.renoted = column.NewBatch(d.Observed.Fields()), column.NewBatch(d.Observed.Fields()[:2])
	}
	c.flags = c.revision([]column.Field{{Name: schema.IsGone, Type: column.Type{Kind: column.Boolean}}})
	for m, away := range f.flagged {
		for _, v := range f.before(m).Versions {
			for k, value := range []int64{v.Key, truth(away), f.run} {
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
				f.maker.Judge(p, &o.Outcome, o.Story, o.type3Differs)
			}
		}
		c.losesKnown(o, p)
		c.tally(o, p)
		for j := range o.Versions {
			h := &o.Versions[j]
			if h.Claims == none {
				c.fresh = append(c.fresh, composed{o, h, j == len(o.Versions)-1})
			} else {
				c.amend(o, h, p, j == len(o.Versions)-1)
			}
		}
		for k, v := range p.Versions {
			if !slices.ContainsFunc(o.Versions, func(h history.Next) bool { return h.Claims == k }) {
				c.remove = append(c.remove, v.Key)
			}
		}
		c.keepApart(o, p)
	}
	slices.SortFunc(c.fresh, func(a, b composed) int { return cmp.Compare(a.h.Key, b.h.Key) })
}

// keepApart writes the observations of a member that its versions do not tell.
func (c *change) keepApart(o *outcome, p *history.Member) {
	j := 0
	for _, n := range o.Noted {
		for j+1 < len(o.Versions) && o.Versions[j+1].From <= n.Effective {
			j++
		}
		c.notes.Cols[0].AppendInt(o.Versions[j].Key)
		c.notes.Cols[1].AppendInt(n.Effective)
		at := 2
		if c.f.x.Dimension().Sequence != nil {
			appendSequence(&c.notes.Cols[2], n.Timing)
			at++
		}
		if l := &c.f.layout; l.Type3 < l.Type2 { // the observation itself is in the story
			s := o.Story[slices.IndexFunc(o.Story, func(s history.Candidate) bool { return s.Effective == n.Effective })]
			for k := l.Type3; k < l.Type2; k++ {
				c.notes.Cols[at].Append(&c.f.kept.Cols[k], int(s.Row))
				at++
			}
		}
		if c.f.x.Dimension().Closes() {
			if n.Mark == history.Row {
				c.notes.Cols[at].AppendNull()
			} else {
				c.notes.Cols[at].AppendText(history.Marks[n.Mark])
			}
		}
		c.notes.N++
	}
	for _, n := range o.Renoted {
		k, _ := p.Observed(n.Effective)
		c.renoted.Cols[0].AppendInt(p.Versions[k].Key)
		c.renoted.Cols[1].AppendInt(n.Effective)
		c.renoted.N++
	}
}

// tally counts which attributes of a known member, or of its versions, are others than before.
func (c *change) tally(o *outcome, p *history.Member) {
	if len(p.Versions) == 0 && len(o.Versions) == 1 {
		return // as most are
	}
	l := &c.f.layout
	count := func(from, to int, a, b func(at int) value) {
		for at := from; at < to; at++ {
			if !a(at).equal(b(at)) {
				if c.f.Attributes == nil {
					c.f.Attributes = map[string]int64{}
				}
				c.f.Attributes[l.Fields[at].Name]++
			}
		}
	}
	known := len(p.Versions) > 0 && !p.Versions[0].Inferred
	stood := func(k int) func(int) value {
		return func(at int) value { return value{&c.stood.Cols[1+at], c.standing[p.Versions[k].Key]} }
	}
	seen := func(o int32) func(int) value {
		return func(at int) value { return value{&c.f.kept.Cols[at], int(o)} }
	}
	if known && o.Type1 != none {
		count(l.Type1, l.Type0, stood(0), seen(o.Type1))
	}
	if known && o.Type0 != none {
		count(l.Type0, l.Type3, stood(0), seen(o.Type0))
	}
	if known && o.type3Differs {
		count(l.Type3, l.Type2, stood(0), func(at int) value { return o.type3[at-l.Type3].now })
	}
	values := func(h *history.Next) func(int) value {
		if h.Start != none {
			return seen(h.Start)
		}
		return stood(h.Values)
	}
	for j := range o.Versions {
		switch h := &o.Versions[j]; {
		case !c.f.x.Dimension().Versioned():
		case h.Claims == none && j > 0:
			count(l.Type2, len(l.Fields), values(&o.Versions[j-1]), values(h))
		case known && h.Claims == none && len(o.Versions) > 1: // before all that was known
			count(l.Type2, len(l.Fields), values(&o.Versions[1]), values(h))
		case known && h.Claims == none: // in place of all that was known
			count(l.Type2, len(l.Fields), stood(0), values(h))
		case known && h.Start != none && p.Versions[h.Claims].Type2 != h.Type2:
			count(l.Type2, len(l.Fields), stood(h.Claims), values(h))
		}
	}
}

// composed is a new version on its way into the table.
type composed struct {
	o       *outcome
	h       *history.Next
	current bool
}

func (c *change) validityFields() []column.Field {
	d := c.f.x.Dimension()
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
	for _, f := range c.f.layout.Fields[c.f.layout.Type3:c.f.layout.Type2] {
		fields = append(fields, f, column.Field{Name: star.PreviousColumn(f.Name), Type: f.Type})
	}
	return fields
}

// amend writes what changes in the row that h keeps.
func (c *change) amend(o *outcome, h *history.Next, p *history.Member, current bool) {
	d, f := c.f.x.Dimension(), c.f
	old := p.Versions[h.Claims]
	if old.Inferred {
		c.filled = append(c.filled, h.Key)
	}
	to := f.x.Rules().End
	if h.Claims+1 < len(p.Versions) {
		to = p.Versions[h.Claims+1].From
	}
	wasCurrent := h.Claims == len(p.Versions)-1
	if len(c.validity.fields) > 2 &&
		(old.Inferred || old.From != h.From || to != h.To || old.Timing != h.Timing || wasCurrent != current || d.Closes() && old.Gone != h.Gone) {
		c.validity.N++
		c.stamp(c.validity.Batch, h, current)
	}
	if o.Type0 != none && f.layout.Type0 < f.layout.Type3 {
		c.copyValues(c.type0, h.Key, f.kept.Cols[f.layout.Type0:], int(o.Type0))
	}
	if o.Type1 != none && f.layout.Type1 < f.layout.Type0 {
		c.copyValues(c.type1, h.Key, f.kept.Cols[f.layout.Type1:], int(o.Type1))
	}
	if o.type3Differs {
		c.type3.Cols[0].AppendInt(h.Key)
		for a, two := range o.type3 {
			two.now.appendTo(&c.type3.Cols[1+2*a])
			two.before.appendTo(&c.type3.Cols[2+2*a])
		}
		c.type3.Cols[len(c.type3.Cols)-1].AppendInt(f.run)
		c.type3.N++
	}
	if d.Versioned() && h.Start != none && (old.Inferred || old.Type2 != h.Type2) {
		c.copyValues(c.type2, h.Key, f.kept.Cols[f.layout.Type2:], int(h.Start))
	} else if d.Versioned() && h.Start == none && old.Type2 != h.Type2 { // gone, and what it was last is another now
		c.copyValues(c.type2, h.Key, c.stood.Cols[1+f.layout.Type2:], c.standing[p.Versions[h.Values].Key])
	}
}

// stamp writes key, times and marks of a version to the columns of b that are so called.
func (c *change) stamp(b *column.Batch, h *history.Next, current bool) {
	k := 0
	put := func(v int64) {
		b.Cols[k].AppendInt(v)
		k++
	}
	put(h.Key)
	d := c.f.x.Dimension()
	if d.Timed() {
		put(h.Effective)
		if d.Sequence != nil {
			appendSequence(&b.Cols[k], h.Timing)
			k++
		}
	}
	if d.Versioned() {
		put(h.From)
		put(h.To)
		put(truth(current))
	}
	if d.Inferable() {
		put(0)
	}
	if d.Closes() {
		put(truth(h.Gone))
	}
	put(c.f.run)
}

func appendSequence(c *column.Column, s history.Timing) {
	if s.Sequence == history.Unsaid {
		c.AppendNull()
	} else {
		c.AppendInt(s.Sequence)
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
	d, f := c.f.x.Dimension(), c.f
	at := make([]int, len(d.Table.Columns)) // where the values of a column are, or none
	for k, col := range d.Table.Columns {
		at[k] = column.Find(f.layout.Fields, col.Name)
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
	d, f := c.f.x.Dimension(), c.f
	r := schema.Row{
		Key:     n.h.Key,
		Durable: n.o.durable,
		From:    n.h.From,
		To:      n.h.To,
		Current: n.current,
		Gone:    n.h.Gone,
		Run:     f.run,
	}
	if n.h.Effective != history.Unsaid {
		r.Effective = &n.h.Effective
	}
	if n.h.Sequence != history.Unsaid {
		r.Sequence = &n.h.Sequence
	}
	c.values = versionValues{c, n, f.before(n.o.member), find}
	d.AppendRow(rows, &r, &c.values)
}

// versionValues is the values of a new version: of rows of this load, or as they stand.
type versionValues struct {
	c *change
	composed
	p    *history.Member
	find []int // where the values of each column are in a feed's layout, or none
}

func (v *versionValues) Append(col *column.Column, k int, _ schema.Role) {
	c, l := v.c, &v.c.f.layout
	at := v.find[k]
	switch {
	case at == none && k > 0 && v.find[k-1] >= l.Type3 && v.find[k-1] < l.Type2: // what the type 3 attribute before it was
		v.o.type3[v.find[k-1]-l.Type3].before.appendTo(col)
	case at == none:
		col.AppendNull()
	case at >= l.Type2:
		c.from(col, at, v.h.Start, v.p, v.h.Values)
	case at >= l.Type3:
		v.o.type3[at-l.Type3].now.appendTo(col)
	case at >= l.Type0:
		c.from(col, at, v.o.Type0, v.p, 0)
	default:
		c.from(col, at, v.o.Type1, v.p, 0)
	}
}

// from adds a value of observation o, or, where that is none, of a version that stands.
func (c *change) from(col *column.Column, at int, o int32, p *history.Member, version int) {
	if o != none {
		col.Append(&c.f.kept.Cols[at], int(o))
	} else {
		col.Append(&c.stood.Cols[1+at], c.standing[p.Versions[version].Key])
	}
}

// write sends the batches: first what makes room, then what is new.
func (c *change) write(ctx context.Context, tx warehouse.Tx) error {
	d, f := c.f.x.Dimension(), c.f
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
