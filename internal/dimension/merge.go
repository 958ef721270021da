package dimension

import (
	"cmp"
	"context"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/history"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// Renamed returns members that are known by an alias the natural key that it means, where nobody has that yet: they
// keep their keys. It is for before the dimension is opened. other and means are the aliases, row by row.
func Renamed(
	ctx context.Context,
	tx warehouse.Tx,
	d *schema.Dimension,
	other, means []*column.Column,
	run int64,
) (int64, error) {
	fields := append(d.Table.Fields()[:1:1], d.NaturalKey...)
	known, err := warehouse.ReadAll(
		ctx,
		tx,
		warehouse.Query{
			Table:   d.Table.Name,
			Fields:  fields,
			By:      column.Names(d.NaturalKey),
			Match:   other,
			OrderBy: []string{d.KeyColumn()},
		},
	)
	if err != nil || known.N == 0 {
		return 0, err
	}
	there, err := warehouse.ReadAll(
		ctx,
		tx,
		warehouse.Query{Table: d.Table.Name, Fields: fields, By: column.Names(d.NaturalKey), Match: means},
	)
	if err != nil {
		return 0, err
	}
	alias, taken, owner := roster.NewIndex(d), roster.NewIndex(d), map[int32]int32{}
	for i := range other[0].Null {
		alias.Add(other, i)
	}
	for i := range there.N {
		taken.Add(column.Pointers(there.Cols)[1:], i)
	}
	fields = append(fields, column.Field{Name: schema.LoadRun, Type: column.Type{Kind: column.Integer}})
	changed := column.NewBatch(fields)
	order := make([]int, known.N)
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(known.Cols[0].Int[a], known.Cols[0].Int[b]) })
	n := int64(0)
	for _, i := range order {
		a := alias.Get(column.Pointers(known.Cols)[1:], i)
		m, fresh := taken.Add(means, int(a))
		if fresh { // of several aliases the first member has it
			owner[m] = a
			n++
		}
		if first, ours := owner[m]; !ours || first != a {
			continue
		}
		changed.Cols[0].AppendInt(known.Cols[0].Int[i])
		for k := range d.NaturalKey {
			changed.Cols[1+k].Append(means[k], int(a))
		}
		changed.Cols[len(fields)-1].AppendInt(run)
		changed.N++
	}
	if changed.N == 0 {
		return 0, nil
	}
	_, err = tx.Amend(ctx, d.Table.Name, 1, fields, changed)
	return n, err
}

// merger is a member that is found to be another.
type merger struct{ lost, into int32 }

// Merge takes members that are known by an alias into those that it means. What was observed of the one becomes
// what was observed of the other; Settle takes its rows away and points what pointed there to the other's version
// of the time. Call it before the first Take.
func (f *Feed) Merge(ctx context.Context, tx warehouse.Tx, other, means []*column.Column) error {
	d := f.x.Dimension()
	n := len(other[0].Null)
	lost, into := make([]int32, n), make([]int32, n)
	f.x.Find(other, lost)
	f.x.Find(means, into)
	named := map[int32]int{} // the row of the alias of each that is lost
	keys := column.Column{Type: column.Type{Kind: column.Integer}}
	for i := range n {
		if lost[i] < 0 || into[i] < 0 {
			continue
		}
		f.merged = append(f.merged, merger{lost[i], into[i]})
		if named[lost[i]] = i; f.x.Erased(lost[i]) {
			f.x.Erase(into[i])
			for _, v := range f.x.Member(into[i]).Versions {
				f.blank = append(f.blank, v.Key)
			}
		}
		for _, v := range f.x.Member(lost[i]).Versions {
			keys.AppendInt(v.Key)
		}
		if f.here != nil {
			f.here.unsure[lost[i]] = true
		}
	}
	if len(f.merged) == 0 {
		return nil
	}
	stood, err := f.standing(ctx, tx, &keys)
	if err != nil {
		return err
	}
	for _, m := range f.merged {
		p, into := f.x.Member(m.lost), f.x.Member(m.into)
		if p.Versions[0].Inferred || d.Effective == nil && !into.Versions[0].Inferred {
			continue // nothing is known of it, or what stands of the other stays
		}
		tell := func(s history.Timing, key int64) { f.move(stood, s, key, m.into, means, named[m.lost]) }
		for _, v := range p.Versions {
			if n := p.Note(v.Effective); !d.Complete() &&
				(n == none || p.Noted[n].Mark == history.Row) { // else all are noted
				tell(v.Timing, v.Key)
			}
		}
		for _, n := range p.Noted {
			if k, _ := p.Observed(n.Effective); n.Mark == history.Row {
				tell(n.Timing, p.Versions[k].Key)
			}
		}
	}
	return nil
}

// stood is the versions of some members as they stand, and what was observed of their type 3 attributes.
type stood struct {
	cols   []*column.Column // in the order of a feed's layout
	at     map[int64]int    // the row of each key
	told   tellings
	digest digest.Maker
}

// standing reads versions by their keys.
func (f *Feed) standing(ctx context.Context, tx warehouse.Tx, keys *column.Column) (*stood, error) {
	d := f.x.Dimension()
	rows, err := warehouse.ReadAll(ctx, tx, warehouse.Query{
		Table:  d.Table.Name,
		Fields: append(d.Table.Fields()[:1:1], f.layout.Fields...),
		By:     []string{d.KeyColumn()},
		Match:  []*column.Column{keys},
	})
	if err != nil {
		return nil, err
	}
	s := &stood{cols: column.Pointers(rows.Cols)[1:], at: map[int64]int{}}
	for i, key := range rows.Cols[0].Int {
		s.at[key] = i
	}
	s.told, err = f.toldOf(ctx, tx, keys)
	return s, err
}

// move makes what was observed of a version an observation of another member, whose natural key is row n of means.
func (f *Feed) move(s *stood, at history.Timing, key int64, into int32, means []*column.Column, n int) {
	l, row := &f.layout, s.at[key]
	part := func(from, to int) digest.Sum { return s.digest.Of(s.cols[from:to], row) }
	third := part(l.Type3, l.Type2)
	seen, observed := s.told.row[seenOf{key, at}]
	if observed {
		third = s.digest.Of(column.Pointers(s.told.Cols)[s.told.from:s.told.from+l.Type2-l.Type3], seen)
	}
	f.reserve()
	for k := range f.kept.Cols {
		switch to := &f.kept.Cols[k]; {
		case k < l.Natural:
			to.Append(means[k], n)
		case observed && k >= l.Type3 && k < l.Type2: // what was observed of type 3, and of the rest what stands
			to.Append(&s.told.Cols[s.told.from+k-l.Type3], seen)
		default:
			to.Append(s.cols[k], row)
		}
	}
	f.hear(into, 0, history.Observation{Timing: at, Moved: true, Digests: history.Digests{
		Type0: part(l.Type0, l.Type3),
		Type1: part(l.Type1, l.Type0),
		Type2: part(l.Type2, len(l.Fields)),
		Type3: third,
	}})
}

// Merged is how many members have become part of others.
func (f *Feed) Merged() int64 { return int64(len(f.merged)) }

// bury takes away the rows of members that have become part of others, writes their keys down, and finds where what
// pointed to them points now.
func (c *change) bury() {
	d, f := c.f.x.Dimension(), c.f
	if len(f.merged) == 0 {
		return
	}
	c.buried = column.NewBatch(d.Alias.Fields())
	now := map[int32][]history.Next{}
	for k := range c.outcomes {
		now[c.outcomes[k].member] = c.outcomes[k].Versions
	}
	for _, m := range f.merged {
		p, into := f.x.Member(m.lost), f.x.Member(m.into)
		versions := now[m.into]
		if versions == nil { // nothing was observed of it
			for k, v := range into.Versions {
				h := history.Next{Version: v, To: f.x.Rules().End}
				if k+1 < len(into.Versions) {
					h.To = into.Versions[k+1].From
				}
				versions = append(versions, h)
			}
		}
		gone := outcome{member: m.lost, Outcome: history.Outcome{Versions: versions}}
		c.moves(&gone)
		last := versions[len(versions)-1].Key
		for _, v := range p.Versions {
			c.remove = append(c.remove, v.Key)
			if !d.Versioned() { // else moves has told
				c.untimed = append(c.untimed, warehouse.Move{Old: v.Key, New: last})
				c.current = append(c.current, warehouse.Move{Old: v.Key, New: last})
			}
			c.buried.Cols[0].AppendInt(v.Key)
			c.buried.Cols[1].AppendInt(last)
			c.buried.Cols[2].AppendInt(f.run)
			c.buried.N++
		}
		if d.Durable {
			c.durable = append(c.durable, warehouse.Move{Old: p.Durable, New: into.Durable})
		}
	}
}

// writeBuried writes the keys down, and takes away what was kept apart of these members: it is kept of the others now.
func (c *change) writeBuried(ctx context.Context, tx warehouse.Tx) error {
	d := c.f.x.Dimension()
	if d.Observed != nil {
		keys := column.NewBatch(d.Observed.Fields()[:1])
		for _, key := range c.buried.Cols[0].Int {
			keys.Cols[0].AppendInt(key)
			keys.N++
		}
		if _, err := tx.Remove(ctx, d.Observed.Name, d.Observed.Fields()[:1], keys); err != nil {
			return err
		}
	}
	return warehouse.AppendAll(ctx, tx, d.Alias, c.buried)
}

// Becomes returns the keys of all versions of members that are one now, each with a number that they share and
// whether it is a key of the member that the others are part of; nil if none are.
func (f *Feed) Becomes() map[int64]One {
	if len(f.merged) == 0 {
		return nil
	}
	one := map[int64]One{}
	for _, m := range f.merged {
		for _, v := range f.x.Member(m.lost).Versions {
			one[v.Key] = One{m.into, false}
		}
		for _, v := range f.x.Member(m.into).Versions {
			one[v.Key] = One{m.into, true}
		}
	}
	return one
}

// One is which of the members that several are part of now a key belongs to.
type One struct {
	Member int32
	Stays  bool // it was that member's before
}
