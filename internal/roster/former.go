package roster

import (
	"context"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// Former is the keys that members had before a dimension was made anew (rule R38), by their natural keys. Any number of
// goroutines may ask.
type Former struct {
	members   map[digest.Sum]*FormerMember
	hasErased bool
}

// FormerMember is the keys that a member had.
type FormerMember struct {
	Durable  int64
	Inferred bool            // no source had described it
	Erased   bool            // its personal attributes stay blank
	Versions []FormerVersion // in the order of their times
}

// FormerVersion is the key of a version, and from when it was valid; 0 if the dimension has no versions.
type FormerVersion struct {
	From, Key int64
	to        int64
	values    digest.Sum // of its type 2 attributes
}

// ReadFormer reads the keys of a dimension as it stands. A table that is not there has none.
func ReadFormer(ctx context.Context, r warehouse.Reader, d *schema.Dimension) (*Former, error) {
	f := &Former{members: map[digest.Sum]*FormerMember{}}
	there, err := r.Describe(ctx, d.Table.Name)
	if err != nil || there == nil {
		return f, err
	}
	integer := column.Type{Kind: column.Integer}
	fields := append([]column.Field{{Name: d.KeyColumn(), Type: integer}}, d.NaturalKey...)
	durable, from := 0, -1
	if d.Durable {
		durable, fields = len(fields), append(fields, column.Field{Name: d.DurableColumn(), Type: integer})
	}
	if d.Versioned() {
		from, fields = len(fields), append(
			fields, column.Field{Name: schema.ValidFrom, Type: d.Time}, column.Field{Name: schema.ValidTo, Type: d.Time},
		)
	}
	inferred := -1
	if d.Inferable() && there.Has(schema.IsInferred) {
		boolean := column.Type{Kind: column.Boolean}
		inferred, fields = len(fields), append(fields, column.Field{Name: schema.IsInferred, Type: boolean})
	}
	for _, field := range fields {
		if !there.Has(field.Name) { // another model made the table: its keys are of other members
			return f, nil
		}
	}
	values := len(fields)
	for _, field := range versioned(d) {
		if there.Has(field.Name) {
			fields = append(fields, field)
		}
	}
	erased, err := ledger.Erased(ctx, r, d.Text)
	if err != nil {
		return nil, err
	}
	natural := len(d.NaturalKey)
	q := warehouse.Query{Table: d.Table.Name, Fields: fields, Convert: true}
	err = warehouse.Each(ctx, r, q, func(b *column.Batch) error {
		cols, type2 := column.Pointers(b.Cols[1:1+natural]), column.Pointers(b.Cols[values:])
		for i, key := range b.Cols[0].Int[:b.N] {
			if key < 0 {
				continue
			}
			m := f.Of(cols, i)
			if m == nil {
				m = &FormerMember{}
				f.members[sumOf(cols, i)] = m
			}
			v := FormerVersion{Key: key}
			if from >= 0 {
				v.From, v.to, v.values = b.Cols[from].Int[i], b.Cols[from+1].Int[i], sumOf(type2, i)
			}
			m.Durable, m.Versions = b.Cols[durable].Int[i], append(m.Versions, v)
			m.Inferred = inferred >= 0 && b.Cols[inferred].Int[i] != 0
			m.Erased = m.Erased || erased[key]
			f.hasErased = f.hasErased || m.Erased
		}
		return nil
	})
	for _, m := range f.members {
		slices.SortFunc(m.Versions, func(a, b FormerVersion) int { return int(min(max(a.From-b.From, -1), 1)) })
		if durable == 0 {
			m.Durable = m.Versions[0].Key
		}
	}
	return f, err
}

// versioned returns the columns of a dimension whose changes make versions.
func versioned(d *schema.Dimension) []column.Field {
	list := slices.Clone(d.Type2)
	for n, k := range d.Keys {
		if k.Type2 {
			list = append(list, d.Outriggers[n])
		}
	}
	return list
}

func sumOf(cols []*column.Column, i int) digest.Sum {
	var m digest.Maker
	return m.Of(cols, i)
}

// Of returns the keys that the member of a natural key had; nil if there was none.
func (f *Former) Of(natural []*column.Column, i int) *FormerMember {
	if f == nil {
		return nil
	}
	return f.members[sumOf(natural, i)]
}

// Lost counts the versions of members that a source had described, and that are not there now. A version that only went
// on with the values of the one before it is not counted: loads one after another keep it, and one load does not make
// it.
func (f *Former) Lost(now *Former) (n int64) {
	for sum, m := range f.members {
		if m.Inferred {
			continue
		}
		is := now.members[sum]
		if is == nil || is.Inferred {
			n += int64(len(m.Versions))
			continue
		}
		for i, v := range m.Versions {
			goesOn := i > 0 && m.Versions[i-1].to == v.From && m.Versions[i-1].values == v.values
			same := func(o FormerVersion) bool { return o.From == v.From }
			if !goesOn && !slices.ContainsFunc(is.Versions, same) {
				n++
			}
		}
	}
	return n
}

// Key returns the key that the version had which was valid from a time on; of the first version, that of the member's
// first one, if none was valid from then on.
func (m *FormerMember) Key(from int64, versioned, first bool) (int64, bool) {
	at := slices.IndexFunc(m.Versions, func(v FormerVersion) bool { return v.From == from })
	if !versioned || at < 0 && first {
		at = 0
	}
	if at < 0 {
		return 0, false
	}
	return m.Versions[at].Key, true
}

// Remember has members of the roster that are made get the keys that they had.
func (x *Roster) Remember(f *Former) { x.former = f }

// Former returns the keys that members had before; nil if they get new ones.
func (x *Roster) Former() *Former { return x.former }
