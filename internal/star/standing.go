package star

import (
	"cmp"
	"slices"
	"strings"

	"ironmonger/internal/column"
)

// Standing is a dimension or a fact of the model whose rows a source has, as they stand when a step reads them (rule
// R37).
type Standing struct {
	Dimension *Dimension // or nil
	Fact      *Fact      // or nil
	Versions  bool       // of a dimension: all versions, not only the current ones

	source *Source // whose rows these are
}

// Takes reports whether the source takes the natural key of the members that a key points to.
func (s *Standing) Takes(k *Key) bool {
	if s.source == nil || s.source.Columns == nil {
		return true
	}
	for n := range k.Dimension.NaturalKey {
		if slices.ContainsFunc(s.source.Columns, func(c Column) bool { return c.InFile() == k.Natural(n) }) {
			return true
		}
	}
	return false
}

// String names the dimension or fact, as the model does.
func (s *Standing) String() string {
	if s.Dimension != nil {
		return "dimension " + s.Dimension.Text
	}
	return "fact " + s.Fact.Text
}

// Columns of standing rows that are not columns of their source.
const (
	ValidFrom = "valid_from"
	ValidTo   = "valid_to"
	IsCurrent = "is_current"
	IsGone    = "is_gone"
)

// Fields lists the columns of the rows: of a dimension its natural key and attributes, and when its versions hold; of a
// fact its columns; and of both those of the natural keys of their keys, named for the key.
func (s *Standing) Fields() []column.Field {
	boolean := column.Type{Kind: column.Boolean}
	if d := s.Dimension; d != nil {
		fields := slices.Concat(d.NaturalKey, d.Attributes())
		if d.LookedUp != nil {
			fields = slices.Clone(d.NaturalKey)
		}
		if d.Versioned() && d.LookedUp == nil {
			fields = append(fields, column.Field{Name: ValidFrom, Type: d.Validity()},
				column.Field{Name: ValidTo, Type: d.Validity()}, column.Field{Name: IsCurrent, Type: boolean})
		}
		if d.Marked() {
			fields = append(fields, column.Field{Name: IsGone, Type: boolean})
		}
		for _, f := range naturalKeys(d.Keys) {
			if column.Find(fields, f.Name) < 0 { // else an attribute says it
				fields = append(fields, f)
			}
		}
		return fields
	}
	f := s.Fact
	fields := slices.Concat(f.Degenerate, f.Measures, f.lags())
	if f.Reverses() {
		fields = append(fields, column.Field{Name: BookedOn, Type: column.Type{Kind: column.Date}})
	}
	if f.Marked() {
		fields = append(fields, column.Field{Name: IsGone, Type: boolean})
	}
	return append(fields, naturalKeys(f.Keys)...)
}

// Keys are the keys that the table has, whose natural keys are columns of the rows.
func (s *Standing) Keys() []*Key {
	if s.Dimension != nil {
		return s.Dimension.Keys
	}
	return s.Fact.Keys
}

// naturalKeys lists the columns of the natural keys of the members that keys point to.
func naturalKeys(keys []*Key) []column.Field {
	var fields []column.Field
	for _, k := range keys {
		for n := range k.Dimension.NaturalKey {
			fields = append(fields, column.Field{Name: k.Natural(n), Type: k.Dimension.NaturalKey[n].Type})
		}
	}
	return fields
}

// Natural is the name of part n of the natural key in standing rows.
func (k *Key) Natural(n int) string { return k.Text + "_" + k.Dimension.NaturalKey[n].Name }

// standing finds the dimension or fact that from names, and checks it before the source; false if from names a source.
func (c *checker) standing(s *Source, path string) bool {
	kind, name, _ := strings.Cut(s.text.from.Text, " ")
	w := &Name{At: s.text.from.At, Text: strings.TrimSpace(name)}
	x := &Standing{Versions: s.versions, source: s}
	switch kind {
	case "dimension":
		if x.Dimension = c.findDimension(w, path+".from"); x.Dimension != nil {
			c.aDimension(x.Dimension)
			c.outriggers(x.Dimension)
		}
	case "fact":
		x.Fact = find(c, c.model.Facts, func(f *Fact) string { return f.Text }, w, path+".from", "fact")
		if x.Fact != nil {
			c.aFact(x.Fact)
		}
	default:
		return false
	}
	if x.Dimension == nil && (x.Fact == nil || x.Fact.Source == nil) {
		return true
	}
	if !slices.ContainsFunc(x.Keys(), func(k *Key) bool { return k.Dimension == nil }) {
		s.Standing = x
	}
	return true
}

// link finds what a source is made of or completed with, as far as the order of steps depends on it. What cannot be
// found is told by the check.
func (c *checker) link(s *Source) {
	if w := s.text.from; w != nil {
		kind, name, _ := strings.Cut(w.Text, " ")
		name = strings.TrimSpace(name)
		for _, d := range c.model.Dimensions {
			if kind == "dimension" && d.Text == name {
				s.Standing = &Standing{Dimension: d, source: s}
			}
		}
		for _, f := range c.model.Facts {
			if kind == "fact" && f.Text == name {
				s.Standing = &Standing{Fact: f, source: s}
			}
		}
	}
	s.From, s.DrivenBy = c.sourceOf(s.text.from), c.sourceOf(s.text.drivenBy)
	if s.Calendar != nil {
		for _, l := range s.Calendar.Lists {
			l.Source = c.sourceOf(l.from)
		}
	}
	for _, w := range s.text.union {
		if o := c.sourceOf(&w); o != nil {
			s.Union = append(s.Union, o)
		}
	}
	for _, j := range s.Joins {
		w := cmp.Or(j.source, &j.Name)
		if j.Source = c.ofStar(w); j.Source != nil {
			c.link(j.Source)
		} else {
			j.Source = c.sourceOf(w)
		}
	}
}

// sourceOf returns the source of a name, or nil.
func (c *checker) sourceOf(w *Name) *Source {
	at := slices.IndexFunc(c.model.Sources, func(s *Source) bool { return w != nil && s.Text == w.Text })
	if at < 0 {
		return nil
	}
	return c.model.Sources[at]
}

// named checks the source of a name, if it has not been checked.
func (c *checker) named(w *Name) {
	if s := c.sourceOf(w); s != nil {
		c.source(s)
	}
}

// aDimension checks a dimension once, after its source.
func (c *checker) aDimension(d *Dimension) {
	if c.seen[d] {
		return
	}
	c.seen[d] = true
	c.named(d.text.from)
	c.limits(&d.Limits)
	c.dimension(d)
}

// aFact checks a fact once, after its source and its dimensions.
func (c *checker) aFact(f *Fact) {
	if c.seen[f] {
		return
	}
	c.seen[f] = true
	c.named(f.from)
	c.pointedTo(f.Keys)
	c.limits(&f.Limits)
	c.fact(f)
}

// pointedTo checks the dimensions of keys.
func (c *checker) pointedTo(keys []*Key) {
	for _, k := range keys {
		for _, d := range c.model.Dimensions {
			if d.Text == k.Text && k.dimension == nil || k.dimension != nil && d.Text == k.dimension.Text {
				c.aDimension(d)
			}
		}
	}
}

// Stands lists the dimensions and facts of the model that the rows of s are made of or completed with.
func (s *Source) Stands() []*Standing {
	var list []*Standing
	var met []*Source
	var walk func(s *Source)
	walk = func(s *Source) {
		if slices.Contains(met, s) {
			return
		}
		if met = append(met, s); s.Standing != nil {
			list = append(list, s.Standing)
		}
		for _, o := range s.Others() {
			walk(o)
		}
	}
	walk(s)
	return list
}
