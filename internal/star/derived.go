package star

import (
	"slices"

	"ironmonger/internal/column"
)

// List says where the members of lists and their weights are in the table of a fact.
type List struct {
	Weight string   // the measure
	Within []string // the columns of the table that the rows of a list have in common
}

// Balance says where balances are in the table of a fact.
type Balance struct {
	*Periods
	Opening, Closing, Added, Taken string // measures; "" if the table does not keep it
	Day                            string // the column with the last day of the period, or the key of it
	Key                            *Key   // that key; nil if it is a column
	Members                        []string
}

// levels calls do for the sources whose rows are those of a fact, one for one, from its own down, until it returns
// false; the names are those that the fact's source has for the columns of each.
func (f *Fact) levels(do func(s *Source, names map[string]string) bool) {
	names := map[string]string{}
	s := f.Source
	for _, field := range s.Complete() {
		names[field.Name] = field.Name
	}
	for s != nil && do(s, names) && s.Group == nil && s.Periods == nil && s.Spans == nil && s.Split == nil {
		below := map[string]string{}
		for _, c := range s.Columns {
			if name := names[c.Text]; name != "" {
				below[c.InFile()] = name
			}
		}
		s, names = s.From, below
	}
}

// Lists returns where the weights of a fact are, if its rows are members of lists, and its table tells which list a row
// is of.
func (f *Fact) Lists() (lists []List) {
	f.levels(func(s *Source, names map[string]string) bool {
		for i := range s.Windows {
			w := &s.Windows[i]
			measure := names[w.Text]
			if s == f.Source {
				measure = w.Text
			}
			within, ok := f.located(w.By, names)
			if w.Function == Weight && ok && column.Find(f.Measures, measure) >= 0 {
				lists = append(lists, List{measure, within})
			}
		}
		return true
	})
	return lists
}

// Balances returns where the balances of a fact are; nil if it has none, or its table does not tell whose they are and
// of which period.
func (f *Fact) Balances() (b *Balance) {
	f.levels(func(s *Source, names map[string]string) bool {
		p := s.Periods
		if p == nil || p.Amount == "" {
			return true
		}
		if s == f.Source {
			names = map[string]string{}
			for _, field := range s.Fields() {
				names[field.Name] = field.Name
			}
		}
		measure := func(name string) string {
			if column.Find(f.Measures, names[name]) < 0 {
				return ""
			}
			return names[name]
		}
		b = &Balance{Periods: p, Opening: measure(Opening), Closing: measure(Closing), Added: measure(AddedIn), Taken: measure(TakenIn)}
		var ok bool
		b.Members, ok = f.located(p.By, names)
		day := names[PeriodEnd]
		if column.Find(f.Degenerate, day) >= 0 {
			b.Day = day
		}
		for _, k := range f.Keys {
			if b.Day == "" && len(k.By) == 1 && k.By[0] == day && k.Dimension.DayKeys() != nil {
				b.Day, b.Key = k.Column(), k
			}
		}
		if !ok || b.Day == "" {
			b = nil
		}
		return false
	})
	return b
}

// located finds columns of a source in the table of a fact: as they are, or as the keys that are made of them and
// nothing else.
func (f *Fact) located(of []string, names map[string]string) (columns []string, ok bool) {
	left := map[string]bool{}
	for _, name := range of {
		if own := names[name]; column.Find(f.Degenerate, own) >= 0 {
			columns = append(columns, own)
		} else {
			left[own] = true
		}
	}
	for _, k := range f.Keys {
		var by []string
		for _, name := range k.By {
			by = append(by, f.Source.unmatched(name))
		}
		if len(by) > 0 && !slices.ContainsFunc(by, func(name string) bool { return !left[name] }) {
			columns = append(columns, k.Column())
			for _, name := range by {
				delete(left, name)
			}
		}
	}
	return columns, len(left) == 0
}

// unmatched returns the column of which one is made that says a natural key in its one form.
func (s *Source) unmatched(name string) string {
	for _, m := range s.Matched {
		if m.Text == name {
			return m.Column
		}
	}
	return name
}

// InStar reports whether the rows of a source are made of tables of the star alone.
func (s *Source) InStar() bool {
	if s.Standing != nil {
		return !slices.ContainsFunc(s.Others(), func(o *Source) bool { return !o.InStar() })
	}
	return len(s.Made()) > 0 && !slices.ContainsFunc(s.Others(), func(o *Source) bool { return !o.InStar() })
}
