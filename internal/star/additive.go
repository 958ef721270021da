package star

import (
	"slices"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/column"
)

// Additive says which measures of a fact do not add up: a balance adds up over accounts, and not over months; a price
// over nothing.
type Additive struct {
	semi [][2]Name // a measure, and the column or key over which it does not add up
	non  []Name
}

func (r *reader) additiveEntries(a *Additive) []Entry {
	return []Entry{
		{
			"semi_additive",
			"measure: column or key",
			"measures that do not add up over a column or key, such as balances over months: `closing: period`. Aggregates of the fact are refused that would add them up over it; `min`, `max`, `avg` and `latest` are not",
			false,
			func(n *node) {
				if n.Kind != yaml.MappingNode {
					r.errorf(r.at(n.Node), n.path, "expected measure: column or key")
					return
				}
				r.each(n, func(n *node) {
					if w, ok := r.word(n, "a column or key"); ok {
						a.semi = append(a.semi, [2]Name{n.key, w})
					}
				})
			},
		},
		{
			"non_additive",
			"a measure or a list",
			"measures that do not add up at all, such as prices and rates",
			false,
			func(n *node) { a.non = r.words(n, "a measure") },
		},
	}
}

// additive checks what is said of measures.
func (c *checker) additive(f *Fact, path string) {
	said := func(w Name, path string) {
		if _, ok := c.field(f.Measures, "fact "+f.Text, w, path); ok && f.Repeated == SumRepeated {
			c.errorf(w.At, path, "%s does not add up, and repeated: sum adds up the rows of a load", w.Text)
		}
	}
	for _, s := range f.Additive.semi {
		said(s[0], path+".semi_additive")
		key := func(k *Key) bool { return k.Text == s[1].Text }
		if column.Find(f.Degenerate, s[1].Text) < 0 && !slices.ContainsFunc(f.Keys, key) {
			c.errorf(s[1].At, path+".semi_additive", "%s is no key of the fact, and no column that its table keeps", s[1].Text)
		}
	}
	for _, w := range f.Additive.non {
		said(w, path+".non_additive")
	}
}

// Over returns the column or key over which a measure does not add up, "" for any; false if it adds up.
func (f *Fact) Over(measure string) (over string, not bool) {
	for _, s := range f.Additive.semi {
		if s[0].Text == measure {
			return s[1].Text, true
		}
	}
	return "", slices.ContainsFunc(f.Additive.non, func(w Name) bool { return w.Text == measure })
}

// standingColumn returns the fact whose rows a source has, if a column of it is one of the fact's.
func (s *Source) standingColumn(name string) *Fact {
	for s != nil && s.Group == nil && s.Periods == nil {
		if s.Standing != nil {
			return s.Standing.Fact
		}
		at := slices.IndexFunc(s.Columns, func(c Column) bool { return c.Text == name })
		if at < 0 {
			return nil
		}
		s, name = s.From, s.Columns[at].InFile()
	}
	return nil
}

// addsUp refuses a sum of what does not add up over what the rows of a group differ in.
func (c *checker) addsUp(s *Source, a *Aggregate, path string) {
	before := *s
	before.Group = nil
	f := before.standingColumn(a.Column)
	if f == nil || a.Function != "sum" || column.Find(s.Taken(), a.Column) < 0 {
		return
	}
	over, not := f.Over(a.Column)
	if !not || over != "" && s.groupsBy(f, over) {
		return
	}
	if over == "" {
		c.errorf(a.written.At, path, "%s does not add up (non_additive in fact %s): min, max, avg and latest are of it", a.Column, f.Text)
		return
	}
	const message = "%s does not add up over %s (semi_additive in fact %s): group by it, too; or take min, max, avg or latest"
	c.errorf(a.written.At, path, message, a.Column, over, f.Text)
}

// groupsBy reports whether the rows of a group are equal in a column or key of a fact.
func (s *Source) groupsBy(f *Fact, over string) bool {
	has := func(name string) bool {
		return slices.ContainsFunc(s.Group.by, func(w Name) bool { return w.Text == name })
	}
	for _, k := range f.Keys {
		if k.Text != over || k.Dimension == nil {
			continue
		}
		all := true
		for n := range k.Dimension.NaturalKey {
			all = all && has(k.Natural(n))
		}
		if all {
			return true
		}
	}
	return has(over)
}
