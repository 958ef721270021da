package star

import (
	"slices"

	"ironmonger/internal/column"
)

// Rollup is a fact that adds up the rows of another one, such that rows which that one gets can be added to the sums
// that stand.
type Rollup struct {
	Base *Fact
	Of   *Fact
	// Columns are, for the columns of the group, those of the rows of Of as [Standing.Fields] has them.
	Columns map[string]string
}

// Rollup returns how a fact adds up another one; nil if it does not, or if what it keeps is not enough to go on from:
// of averages and the latest value of a group, other rows are needed.
func (f *Fact) Rollup() *Rollup {
	s := f.Source
	if s.Group == nil || s.Pivot != nil || f.Repeated != ReplaceRepeated || f.NewerBy != nil || f.Deliveries != nil && (f.Deliveries.Scope != nil || f.Deliveries.On != nil) {
		return nil
	}
	base := s.rolls()
	if base == nil || base.Reverses() || base.Completion != nil || s.standsOn(base) != 1 {
		return nil
	}
	r := &Rollup{Base: base, Of: f, Columns: map[string]string{}}
	stands := (&Standing{Fact: f}).Fields()
	same := func(own column.Field, name string) bool {
		at := column.Find(stands, name)
		return at >= 0 && stands[at].Type == own.Type
	}
	for _, own := range s.Fields() {
		name := own.Name
		if k := f.grainKeyBy(name); k != nil {
			name = k.Natural(0)
		}
		if a := s.Group.aggregate(own.Name); a != nil && !f.takes(own.Name) {
			continue
		} else if a != nil && !(slices.Contains([]string{"count", "min", "max"}, a.Function) || a.Function == "sum" && a.Type.Exact()) {
			return nil
		}
		if !same(own, name) {
			return nil
		}
		r.Columns[own.Name] = name
	}
	return r
}

// standsOn counts the sources below s that have the rows of a fact: a join with it needs them all, whichever are new.
func (s *Source) standsOn(f *Fact) (n int) {
	for _, x := range s.Stands() {
		if x.Fact == f {
			n++
		}
	}
	return n
}

// rolls returns the fact whose rows are those of a source before they are added up, each for itself; nil if there is
// none.
func (s *Source) rolls() *Fact {
	for first := true; ; first = false {
		alone := s.Periods == nil && s.Spans == nil && s.Distinct == nil && len(s.Windows) == 0 && s.Union == nil && (first || s.Group == nil)
		if !alone {
			return nil
		}
		if s.Standing != nil {
			return s.Standing.Fact
		}
		if s.From == nil {
			return nil
		}
		s = s.From
	}
}

// grainKeyBy returns the key of the grain that is made of a column and nothing else, as it is; nil if there is none, or
// if the table keeps the column.
func (f *Fact) grainKeyBy(name string) *Key {
	if column.Find(f.Degenerate, name) >= 0 {
		return nil
	}
	for _, g := range f.Grain {
		if k := g.Key; k != nil && len(k.By) == 1 && k.By[0] == name && len(k.Dimension.NaturalKey) == 1 {
			return k
		}
	}
	return nil
}

// takes reports whether a fact needs a column of its source.
func (f *Fact) takes(name string) bool {
	return column.Find(f.Degenerate, name) >= 0 || column.Find(f.Measures, name) >= 0 ||
		slices.ContainsFunc(f.Keys, func(k *Key) bool { return slices.Contains(k.By, name) || k.AsOf == name })
}

// aggregate returns the aggregate of a name; nil if a column of the group has it.
func (g *Group) aggregate(name string) *Aggregate {
	for i := range g.Aggregates {
		if g.Aggregates[i].Text == name {
			return &g.Aggregates[i]
		}
	}
	return nil
}
