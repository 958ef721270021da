package trace

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
	"ironmonger/internal/warehouse"
)

// Version is a row of a member.
type Version struct {
	Key  string           `json:"key"`
	Row  []Value          `json:"row"`
	Rows map[string]int64 `json:"rows_pointing"` // by table and key column
}

// Observation is a row of the source that speaks of the member.
type Observation struct {
	Place  string  `json:"place"`
	Shaped []Value `json:"as_shaped"`
	Fault  string  `json:"set_aside,omitempty"`
	Became string  `json:"became"`
}

// Member is a member of a dimension.
type Member struct {
	Dimension    string        `json:"dimension"`
	NaturalKey   string        `json:"natural_key"`
	Inferred     int64         `json:"inferred_run,omitempty"`
	Filled       int64         `json:"filled_run,omitempty"`
	Versions     []Version     `json:"versions"`
	Observations []Observation `json:"observations"`
	Fault        string        `json:"fault,omitempty"` // why the source can't be read again
}

// OfMember traces a member by its natural key, or by any of its surrogate keys.
func OfMember(
	ctx context.Context,
	r warehouse.Reader,
	root *os.Root,
	m *star.Model,
	d *schema.Dimension,
	naturalKey []string,
	key *int64,
) (*Member, error) {
	t, err := newTracer(ctx, r, root, m)
	if err != nil {
		return nil, err
	}
	names := column.Names(d.NaturalKey)
	var match []column.Column
	if key != nil {
		c := column.Column{Type: column.Type{Kind: column.Integer}}
		c.AppendInt(*key)
		b, err := t.rows(d.Table, []string{d.KeyColumn()}, []column.Column{c})
		if err != nil {
			return nil, err
		}
		if b.N == 0 {
			return nil, ErrNone
		}
		match = b.Cols[1 : 1+len(names)]
		if *key < 0 { // a special member has no natural key
			found, err := t.member(d, b, nil)
			for _, s := range d.Specials {
				if err == nil && s.Key == *key {
					found.NaturalKey = s.Label
				}
			}
			return found, err
		}
	} else if match, err = t.natural(d, naturalKey); err != nil {
		return nil, err
	}
	var order []string
	if d.Versioned() {
		order = append(order, d.ValidFrom)
	}
	b, err := t.rows(d.Table, names, match, order...)
	if err != nil {
		return nil, err
	}
	if b.N == 0 {
		return nil, ErrNone
	}
	return t.member(d, b, match)
}

// natural returns the natural key that words mean: as it stands in the table, else as it arrives.
func (t *tracer) natural(d *schema.Dimension, words []string) ([]column.Column, error) {
	exact, spelled, err := Natural(d, words)
	if err != nil || spelled == nil {
		return exact, err
	}
	b, err := t.rows(d.Table, column.Names(d.NaturalKey), exact)
	if err == nil && b.N == 0 {
		return spelled, nil
	}
	return exact, err
}

func (t *tracer) member(d *schema.Dimension, b *column.Batch, match []column.Column) (*Member, error) {
	found := &Member{
		Dimension:    d.Text,
		NaturalKey:   natural(d, b, 0),
		Versions:     []Version{},
		Observations: []Observation{},
	}
	for i := range b.N {
		v := Version{
			Key:  b.Cols[0].Value(i),
			Row:  values(d.Table.Fields()[1:], &column.Batch{Cols: b.Cols[1:]}, i),
			Rows: map[string]int64{},
		}
		for _, ref := range d.Pointers() {
			n, err := t.pointing(ref, b.Cols[0].Int[i])
			if err != nil {
				return nil, err
			}
			v.Rows[ref.Table+"."+ref.Key] = n
		}
		found.Versions = append(found.Versions, v)
		in, filled, err := ledger.InferredIn(t.ctx, t.r, d.Text, b.Cols[0].Int[i])
		if err != nil {
			return nil, err
		}
		found.Inferred, found.Filled = max(found.Inferred, in), max(found.Filled, filled)
	}
	if d.Source == nil || match == nil {
		return found, nil
	}
	return found, t.observations(d, b, match, found)
}

// pointing counts the rows of a table that point to a key.
func (t *tracer) pointing(ref schema.Reference, key int64) (int64, error) {
	if there, err := t.r.Describe(t.ctx, ref.Table); err != nil || there == nil {
		return 0, err
	}
	match := column.Column{Type: column.Type{Kind: column.Integer}}
	match.AppendInt(key)
	fields := []column.Field{{Name: ref.Key, Type: match.Type}}
	n := int64(0)
	err := warehouse.Each(
		t.ctx,
		t.r,
		warehouse.Query{Table: ref.Table, Fields: fields, By: []string{ref.Key}, Match: []*column.Column{&match}},
		func(b *column.Batch) error {
			n += int64(b.N)
			return nil
		},
	)
	return n, err
}

// observations reads the source again for what it says of the member.
func (t *tracer) observations(
	d *schema.Dimension,
	versions *column.Batch,
	match []column.Column,
	found *Member,
) error {
	in, err := t.inputs()
	if err != nil {
		return err
	}
	flow, err := transform.Open(
		t.ctx,
		in,
		d.Source,
		func(string) bool { return true },
	)
	if err != nil {
		found.Fault = "the sources cannot be read as the model has them: " + err.Error()
		return nil
	}
	fields := flow.Fields()
	var at []int
	for _, name := range d.Delivered {
		at = append(at, column.Find(fields, name))
	}
	b := column.NewBatch(fields)
	for p, err := range flow.Pieces(t.ctx) {
		if err == nil {
			err = p.Fill(b)
		}
		if err != nil {
			found.Fault = "the sources cannot be read to their end: " + err.Error()
			break
		}
		for i := range b.N {
			same := true
			for k, c := range at {
				same = same && b.Cols[c].Equal(i, &match[k], 0)
			}
			if !same {
				continue
			}
			o := Observation{
				Place:  diag.Place{File: b.From.File, Line: int(b.From.Line[i])}.String(),
				Shaped: values(d.Source.Fields(), b, i),
			}
			for _, f := range b.Faults {
				if int(f.Row) == i {
					o.Fault = f.Reason
				}
			}
			o.Became = t.became(d, versions, b, fields, i, o.Fault != "")
			found.Observations = append(found.Observations, o)
		}
	}
	if d.Timed() {
		when := func(o Observation) string {
			for _, v := range o.Shaped {
				if v.Name == d.Effective.Name && v.Value != nil {
					return *v.Value
				}
			}
			return ""
		}
		slices.SortStableFunc(
			found.Observations,
			func(a, b Observation) int { return strings.Compare(when(a), when(b)) },
		)
	}
	return nil
}

// became says what a row of the source has to do with the versions as they stand.
func (t *tracer) became(
	d *schema.Dimension,
	versions, b *column.Batch,
	fields []column.Field,
	i int,
	aside bool,
) string {
	table := d.Table.Fields()
	switch {
	case aside:
		return "it is set aside"
	case !d.Timed():
		return "a row of the member; the last in order holds"
	}
	when := &b.Cols[column.Find(fields, d.Effective.Name)]
	if when.Null[i] {
		return "it says no time, and is set aside"
	}
	effective := &versions.Cols[column.Find(table, schema.EffectiveFrom)]
	for v := range versions.N {
		begins := !effective.Null[v] && effective.Int[v] == when.Int[i]
		holds := !d.Versioned() ||
			versions.Cols[column.Find(table, d.ValidFrom)].Int[v] <= when.Int[i] &&
				when.Int[i] < versions.Cols[column.Find(table, d.ValidTo)].Int[v]
		if !begins && !holds {
			continue
		}
		equal := true
		for _, f := range d.Type2 {
			equal = equal &&
				b.Cols[column.Find(fields, f.Name)].Equal(i, &versions.Cols[column.Find(table, f.Name)], v)
		}
		key := fmt.Sprintf("%s %d", d.KeyColumn(), versions.Cols[0].Int[v])
		switch {
		case begins && equal:
			return key + " begins with it"
		case !equal:
			return "another row of its time holds, in " + key
		case holds:
			return "it says what holds already, in " + key
		}
	}
	return "it is not loaded yet"
}
