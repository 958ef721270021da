// Package shape completes the rows of a source: derived columns in order, then the conditions that set
// rows aside (rule R27).
package shape

import (
	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/star"
)

// Shaper shapes batches. It is for one goroutine.
type Shaper struct {
	fields  []column.Field // all columns, derived ones last
	declare int            // how many are declared
	derive  []*expr.Program
	rules   []rule
}

type rule struct {
	reason    string
	condition *expr.Program
	wanted    bool // rows are to meet it; else they must not
}

// New gives a shaper for the rows of s of which only the columns that want names are read, so that
// only the derived columns that it names are made.
func New(s *star.Source, want func(column string) bool) (*Shaper, error) {
	sh := &Shaper{}
	for _, c := range s.Columns {
		if want(c.Text) {
			sh.fields = append(sh.fields, column.Field{Name: c.Text, Type: c.Type})
		}
	}
	sh.declare = len(sh.fields)
	for _, d := range s.Derive {
		if !want(d.Text) {
			continue
		}
		p, err := d.Expression.Compile(sh.fields)
		if err != nil {
			return nil, err
		}
		sh.derive = append(sh.derive, p)
		sh.fields = append(sh.fields, column.Field{Name: d.Text, Type: d.Type})
	}
	add := func(rules []star.Rule, wanted bool) error {
		for _, r := range rules {
			p, err := r.Condition.Compile(sh.fields)
			if err != nil {
				return err
			}
			sh.rules = append(sh.rules, rule{r.Reason.Text, p, wanted})
		}
		return nil
	}
	if err := add(s.SetAside, false); err != nil {
		return nil, err
	}
	return sh, add(s.Require, true)
}

// Fields lists the columns of a shaped batch.
func (sh *Shaper) Fields() []column.Field { return sh.fields }

// Apply fills the derived columns of b and sets rows aside. Rows that have been set aside before, for a
// value that doesn't fit, are not judged: what was meant isn't known.
func (sh *Shaper) Apply(b *column.Batch) {
	unread := len(b.Faults) > 0
	for k, p := range sh.derive {
		result := p.Eval(b)
		b.Cols[sh.declare+k].Copy(&result.Column, b.N)
		if !result.Faulty() {
			continue
		}
		for i := range b.N {
			if fault := result.Fault(i); fault != "" && !b.Bad(i) {
				b.SetAside(i, sh.fields[sh.declare+k].Name+": "+fault, "")
			}
		}
	}
	var skip []bool
	if unread || len(b.Faults) > 0 {
		skip = make([]bool, b.N)
		for i := range skip {
			skip[i] = b.Bad(i)
		}
	}
	for _, r := range sh.rules {
		result := r.condition.Eval(b)
		for i := range b.N {
			if skip != nil && skip[i] {
				continue
			}
			if fault := result.Fault(i); fault != "" {
				b.SetAside(i, r.reason+": "+fault, "")
			} else if result.True(i) != r.wanted {
				b.SetAside(i, r.reason, "")
			}
		}
	}
}

// Wanted gives the columns of s that are needed for the columns named: those, what they are derived
// from, and what the conditions read.
func Wanted(s *star.Source, names []string) func(column string) bool {
	need := map[string]bool{}
	for _, n := range names {
		need[n] = true
	}
	use := func(e star.Expression, fields []column.Field) {
		if p, err := e.Compile(fields); err == nil {
			for _, k := range p.Columns() {
				need[fields[k].Name] = true
			}
		}
	}
	all := s.Fields()
	for _, rules := range [][]star.Rule{s.Require, s.SetAside} {
		for _, r := range rules {
			use(r.Condition, all)
		}
	}
	for i := len(s.Derive) - 1; i >= 0; i-- {
		if need[s.Derive[i].Text] {
			use(s.Derive[i].Expression, all[:len(s.Columns)+i])
		}
	}
	return func(c string) bool { return need[c] }
}
