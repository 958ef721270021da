// Package roster knows the members of a dimension as they stand in the warehouse: who they are, which versions they
// have, and which surrogate keys belong to them.
//
// A [Roster] is read once for a run and kept: whole with [Open], the members that some rows need with [OpenWanted], or
// on disk in [Parts] where memory has no room. Any number of goroutines look up keys in it through a [Lookup], while
// no step that adds members commits. What a step adds is in its own session (package dimension) until then.
package roster

import (
	"cmp"
	"context"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/history"
	"ironmonger/internal/keyindex"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// differ is the digest of values that are not the same on all versions: it is that of nothing.
var differ = digest.Sum{^uint64(0), ^uint64(0)}

// Roster is the members of a dimension.
type Roster struct {
	dim       *schema.Dimension
	index     *keyindex.Index
	members   []history.Member // by member number
	highest   int64            // the highest key ever given
	changedBy string           // the step that changed the dimension last, as the ledger says
	memberOf  map[int64]int32  // member of each key; made when asked for
	rules     history.Rules
	slab      history.Slab
	blind     bool           // it knows nobody: the members are on disk
	former    *Former        // keys that members had before the dimension was made anew; nil if it was not
	erased    map[int32]bool // members whose personal attributes stay blank; nil if there are none
}

// Open reads a dimension.
func Open(ctx context.Context, r warehouse.Reader, d *schema.Dimension) (*Roster, error) {
	if d.LookedUp != nil {
		return openLookedUp(ctx, r, d)
	}
	return open(ctx, r, d, warehouse.Query{})
}

// open reads the members that a query asks for.
func open(ctx context.Context, r warehouse.Reader, d *schema.Dimension, q warehouse.Query) (*Roster, error) {
	x, err := empty(ctx, r, d)
	if err != nil {
		return nil, err
	}
	if q.By != nil {
		greatest, err := last(ctx, r, d)
		if err != nil {
			return nil, err
		}
		x.highest = max(x.highest, greatest)
	}
	rows := x.rows()
	q.Table, q.Fields = d.Table.Name, rows.fields
	if err := warehouse.Each(ctx, r, q, func(b *column.Batch) error {
		rows.add(b)
		return nil
	}); err != nil {
		return nil, err
	}
	return x, x.finish(ctx, r, q.By != nil, d.Observed != nil)
}

// New returns the roster of a dimension that has no members.
func New(d *schema.Dimension) *Roster {
	return &Roster{dim: d, index: NewIndex(d), rules: rulesOf(d)}
}

// empty returns a roster that has no members yet.
func empty(ctx context.Context, r warehouse.Reader, d *schema.Dimension) (*Roster, error) {
	x := New(d)
	var err error
	x.highest, x.changedBy, err = ledger.Highest(ctx, r, d.Text)
	return x, err
}

// rosterRows makes members of the rows of a dimension's table.
type rosterRows struct {
	x      *Roster
	fields []column.Field // what it wants of each row
	digest digest.Maker

	// where they begin, or none
	natural, type1, type0, type3, type2, times, sequence, validity, inferred, marked, durable int
}

func (x *Roster) rows() *rosterRows {
	d, values := x.dim, x.Layout()
	r := &rosterRows{
		x:        x,
		fields:   []column.Field{{Name: d.KeyColumn(), Type: column.Type{Kind: column.Integer}}},
		sequence: history.None,
	}
	add := func(more ...column.Field) (from int) {
		from = len(r.fields)
		r.fields = append(r.fields, more...)
		return from
	}
	r.natural = add(d.NaturalKey...)
	r.type1 = add(values.Fields[values.Type1:values.Type0]...)
	r.type0 = add(values.Fields[values.Type0:values.Type3]...)
	r.type3 = add(values.Fields[values.Type3:values.Type2]...)
	r.type2 = add(values.Fields[values.Type2:]...)
	if r.times = add(); d.Timed() {
		add(column.Field{Name: schema.EffectiveFrom, Type: d.Time})
		if d.Sequence != nil {
			r.sequence = add(column.Field{Name: schema.Sequence, Type: d.Sequence.Type})
		}
	}
	if r.validity = add(); d.Versioned() {
		add(column.Field{Name: schema.ValidFrom, Type: d.Time})
	}
	if r.inferred = add(); d.Inferable() {
		add(column.Field{Name: schema.IsInferred, Type: column.Type{Kind: column.Boolean}})
	}
	if r.marked = add(); d.Marked() {
		add(column.Field{Name: schema.IsGone, Type: column.Type{Kind: column.Boolean}})
	}
	if r.durable = add(); d.Durable {
		add(column.Field{Name: d.DurableColumn(), Type: column.Type{Kind: column.Integer}})
	}
	return r
}

// special reports whether row i is that of a special member, given the columns of the natural key.
func (r *rosterRows) special(surrogate int64, natural []*column.Column, i int) bool {
	for _, c := range natural {
		if c.Null[i] && (!r.x.dim.Junk || surrogate < 0) {
			return true
		}
	}
	return false
}

// add adds the members or versions of rows.
func (r *rosterRows) add(b *column.Batch) {
	x, d := r.x, r.x.dim
	cols := column.Pointers(b.Cols)
	for i := range b.N {
		v := history.Version{Key: b.Cols[0].Int[i], From: x.rules.Beginning, Timing: history.Untimed}
		x.highest = max(x.highest, v.Key)
		if r.special(v.Key, cols[r.natural:r.type1], i) {
			continue
		}
		m, fresh := x.index.Add(cols[r.natural:r.type1], i)
		is := history.Member{
			Type1: r.digest.Of(cols[r.type1:r.type0], i),
			Type0: r.digest.Of(cols[r.type0:r.type3], i),
			Type3: r.digest.Of(cols[r.type3:r.type2], i),
		}
		if fresh {
			x.members = append(x.members, is)
		} else if p := &x.members[m]; p.Type1 != is.Type1 || p.Type0 != is.Type0 || p.Type3 != is.Type3 {
			p.Type1, p.Type0, p.Type3 = differ, differ, differ // an attribute that had a type of its own before
		}
		if d.Durable {
			x.members[m].Durable = b.Cols[r.durable].Int[i]
		}
		v.Type2 = r.digest.Of(cols[r.type2:r.times], i)
		if d.Timed() {
			v.Timing = history.TimingOf(cols[r.times], at(cols, r.sequence), i)
		}
		if d.Versioned() {
			v.From = b.Cols[r.validity].Int[i]
		}
		v.Inferred = d.Inferable() && b.Cols[r.inferred].Int[i] != 0
		v.Gone = d.Marked() && b.Cols[r.marked].Int[i] != 0
		if fresh {
			x.members[m].Versions = x.slab.Cut(1)
		}
		x.members[m].Versions = append(x.members[m].Versions, v)
	}
}

// finish makes a roster of which all rows have been added ready for lookups; some says that it has not all members,
// noted that there may be observations that are kept apart.
func (x *Roster) finish(ctx context.Context, r warehouse.Reader, some, noted bool) error {
	x.sortVersions()
	if noted {
		if err := x.readNoted(ctx, r, some); err != nil {
			return err
		}
	}
	x.index.Freeze()
	if len(x.dim.Personal) == 0 {
		return nil
	}
	keys, err := ledger.Erased(ctx, r, x.dim.Text)
	if len(keys) == 0 {
		return err
	}
	for m, p := range x.members {
		for _, v := range p.Versions {
			if keys[v.Key] {
				if x.erased == nil {
					x.erased = map[int32]bool{}
				}
				x.erased[int32(m)] = true
			}
		}
	}
	return err
}

func rulesOf(d *schema.Dimension) history.Rules {
	r := history.Rules{
		Timed:     d.Timed(),
		Observed:  d.Observed != nil,
		Versioned: d.Versioned(),
		FromStart: d.FromStart,
		Complete:  d.Complete(),
		Type3:     len(d.Type3) > 0,
	}
	r.Beginning, r.End = schema.Bounds(d.Time)
	return r
}

func NewIndex(d *schema.Dimension) *keyindex.Index {
	if d.Junk {
		return keyindex.NewWithNulls(typesOf(d.NaturalKey))
	}
	return keyindex.New(typesOf(d.NaturalKey))
}

func (x *Roster) sortVersions() {
	for m := range x.members {
		slices.SortFunc(x.members[m].Versions, func(a, b history.Version) int { return cmp.Compare(a.From, b.From) })
	}
}

// readNoted reads what is kept apart: of all members, or of those at hand.
func (x *Roster) readNoted(ctx context.Context, r warehouse.Reader, some bool) error {
	fields := x.dim.Observed.Fields()
	sequence, type3 := history.None, 2
	if x.dim.Sequence != nil {
		sequence, type3 = 2, 3
	}
	end := len(fields)
	if x.dim.Closes() {
		end--
	}
	var digest digest.Maker
	q := warehouse.Query{Table: x.dim.Observed.Name, Fields: fields}
	if some {
		keys := column.Column{Type: column.Type{Kind: column.Integer}}
		for _, p := range x.members {
			for _, v := range p.Versions {
				keys.AppendInt(v.Key)
			}
		}
		q.By, q.Match = []string{x.dim.KeyColumn()}, []*column.Column{&keys}
	}
	err := warehouse.Each(ctx, r, q, func(b *column.Batch) error {
		cols := column.Pointers(b.Cols)
		for i := range b.N {
			if m, ok := x.MemberOf(b.Cols[0].Int[i]); ok {
				p := &x.members[m]
				n := history.Note{
					Timing: history.TimingOf(cols[1], at(cols, sequence), i),
					Type3:  digest.Of(cols[type3:end], i),
				}
				if x.dim.Closes() {
					n.Mark = history.MarkOf(cols[end], i)
				}
				p.Noted = append(p.Noted, n)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	for m := range x.members {
		slices.SortFunc(x.members[m].Noted, history.Note.Compare)
	}
	return nil
}

// Dimension is whose members they are.
func (x *Roster) Dimension() *schema.Dimension { return x.dim }

// Rules say how the dimension keeps the history of its members.
func (x *Roster) Rules() *history.Rules { return &x.rules }

// Highest is the highest key ever given.
func (x *Roster) Highest() int64 { return x.highest }

// Blind reports whether the roster knows nobody, since the members are on disk.
func (x *Roster) Blind() bool { return x.blind }

// Find sets members to the numbers of the members with these natural keys, or to keyindex.Missing or
// keyindex.Absent.
func (x *Roster) Find(natural []*column.Column, members []int32) { x.index.Find(natural, members) }

// Member returns a member by its number.
func (x *Roster) Member(m int32) *history.Member { return &x.members[m] }

// Erased reports whether the personal attributes of a member stay blank.
func (x *Roster) Erased(m int32) bool { return x.erased[m] }

// HasErased reports whether there is such a member.
func (x *Roster) HasErased() bool { return x.erased != nil || x.former != nil && x.former.hasErased }

// Erase makes the personal attributes of a member stay blank; there is such a member already.
func (x *Roster) Erase(m int32) { x.erased[m] = true }

// Add adds n members, whose natural keys an index has that is of no use afterwards. They have no versions yet.
func (x *Roster) Add(natural *keyindex.Index, n int) {
	x.index.Take(natural)
	x.members = append(x.members, make([]history.Member, n)...)
}

// Room returns an empty list with room for n versions.
func (x *Roster) Room(n int) []history.Version { return x.slab.Cut(n) }

// Committed says that a step has committed what it added or changed. An empty name makes the roster out of date:
// whoever needs it next reads it again.
func (x *Roster) Committed(highest int64, by string) {
	x.highest, x.changedBy, x.memberOf = highest, by, nil
	x.index.Freeze()
}

// Current reports whether the roster is still what the warehouse holds: the ledger names the step that
// changed the dimension last.
func (x *Roster) Current(ctx context.Context, r warehouse.Reader) (bool, error) {
	_, by, err := ledger.Highest(ctx, r, x.dim.Text)
	return by == x.changedBy, err
}

// Len is the number of members, special ones not counted.
func (x *Roster) Len() int { return len(x.members) }

// MemberOf returns the number of the member that a surrogate key belongs to.
func (x *Roster) MemberOf(surrogate int64) (int32, bool) {
	if x.memberOf == nil {
		x.memberOf = make(map[int64]int32, len(x.members))
		for m, p := range x.members {
			for _, v := range p.Versions {
				x.memberOf[v.Key] = int32(m)
			}
		}
	}
	m, ok := x.memberOf[surrogate]
	return m, ok
}

// at returns column k, or nil if that is none.
func at(cols []*column.Column, k int) *column.Column {
	if k == history.None {
		return nil
	}
	return cols[k]
}

func typesOf(fields []column.Field) []column.Type {
	list := make([]column.Type, len(fields))
	for i, f := range fields {
		list[i] = f.Type
	}
	return list
}

// Canon returns what identifies the member that a surrogate key belongs to, whichever version it is:
// equal for two keys of one member, different for others. Special members are their own.
func (x *Roster) Canon(surrogate int64) int64 {
	if m, ok := x.MemberOf(surrogate); ok {
		return int64(m)
	}
	if surrogate < 0 {
		return surrogate
	}
	return surrogate + 1<<40 // made by the step at hand: its only version
}

// Versions returns all surrogate keys of the member that one belongs to.
func (x *Roster) Versions(surrogate int64) []int64 {
	m, ok := x.MemberOf(surrogate)
	if !ok {
		return []int64{surrogate}
	}
	var keys []int64
	for _, v := range x.members[m].Versions {
		keys = append(keys, v.Key)
	}
	return keys
}
