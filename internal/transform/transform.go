// Package transform makes the rows of a source what the model says they are: it joins, derives, fills, checks,
// keeps one of those that are alike, and adds up (rule R27), whatever they are read from.
//
// [Open] gives a [Flow], which yields finished rows. What concerns a row alone is done by whoever fills a piece, on
// all cores; what concerns several rows takes the pieces in source order. So the result does not depend on how many
// cores there are. No row goes unnoticed: [Flow.Counts] says what became of all of them, stage by stage.
package transform

import (
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/expr"
	"ironmonger/internal/star"
)

// shaper does what concerns a row alone. It is for one goroutine.
type shaper struct {
	derive  []*expr.Program
	derived int // where their columns begin
	fields  []column.Field
	fills   []fill
	rules   []rule
}

type fill struct {
	at    int
	value *column.Column
}

type rule struct {
	reason    string
	condition *expr.Program
	wanted    bool // rows are to meet it; else they must not
}

// newShaper makes a shaper for rows that have the columns joined, and returns the columns that they have then: of the
// derived ones those needed.
func newShaper(m *star.Model, s *star.Source, joined []column.Field, need names) (*shaper, error) {
	sh := &shaper{fields: joined, derived: len(joined)}
	for _, d := range s.Derive {
		if !need[d.Text] {
			continue
		}
		p, err := d.Expression.Compile(sh.fields)
		if err != nil {
			return nil, err
		}
		sh.derive = append(sh.derive, p)
		sh.fields = append(sh.fields[:len(sh.fields):len(sh.fields)], column.Field{Name: d.Text, Type: d.Type})
	}
	for _, f := range s.Fill {
		if k := column.Find(sh.fields, f.Text); k >= 0 {
			value, err := f.Column(sh.fields[k].Type, m)
			if err != nil {
				return nil, err
			}
			sh.fills = append(sh.fills, fill{k, value})
		}
	}
	for n, rules := range [][]star.Rule{s.SetAside, s.Require} {
		for _, r := range rules {
			p, err := r.Condition.Compile(sh.fields)
			if err != nil {
				return nil, err
			}
			sh.rules = append(sh.rules, rule{r.Reason.Text, p, n == 1})
		}
	}
	return sh, nil
}

// apply fills the derived columns of b, fills what is empty and sets rows aside. Rows that have been set aside before,
// for a value that does not fit, are not judged: what was meant is not known.
func (sh *shaper) apply(b *column.Batch) {
	for k, p := range sh.derive {
		result := p.Eval(b)
		b.Cols[sh.derived+k].Copy(&result.Column, b.N)
		if !result.Faulty() {
			continue
		}
		for i := range b.N {
			if fault := result.Fault(i); fault != "" && !b.Bad(i) {
				b.SetAside(i, sh.fields[sh.derived+k].Name, sh.fields[sh.derived+k].Name+": "+fault, "")
			}
		}
	}
	for _, f := range sh.fills {
		c := &b.Cols[f.at]
		for i, null := range c.Null[:b.N] {
			if null && !b.Bad(i) {
				c.Set(i, f.value, 0)
			}
		}
	}
	var skip []bool
	if len(b.Faults) > 0 {
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
				b.SetAside(i, "", r.reason+": "+fault, "")
			} else if result.True(i) != r.wanted {
				b.SetAside(i, "", r.reason, "")
			}
		}
	}
}

// matcher brings columns to the form that natural keys have. It is for one goroutine.
type matcher struct {
	columns []matching
	naming  []naming
}

type matching struct {
	name     string
	from, to int
	rule     *expr.Program
	one      column.Batch
}

// newMatcher makes a matcher for the columns of s that say natural keys and are needed, and adds them to the fields.
func (f *Flow) newMatcher(fields []column.Field) (matcher, []column.Field, error) {
	s, need := f.of, f.need
	var m matcher
	for _, x := range s.Matched {
		if !need[x.Text] {
			continue
		}
		from := column.Find(fields, x.Column)
		var p *expr.Program
		if x.Rule != nil {
			var err error
			if p, err = x.Rule.Compile(fields[from].Type); err != nil {
				return m, nil, err
			}
		}
		m.columns = append(
			m.columns,
			matching{
				name: x.Column,
				from: from,
				to:   len(fields),
				rule: p,
				one:  column.Batch{Cols: make([]column.Column, 1)},
			},
		)
		fields = append(fields[:len(fields):len(fields)], column.Field{Name: x.Text, Type: x.Type})
	}
	for _, x := range s.Aliased {
		n := naming{aliases: f.aliases[x.Aliases]}
		for _, name := range x.Columns {
			n.at = append(n.at, column.Find(fields, name))
		}
		if n.aliases != nil && !slices.Contains(n.at, -1) {
			m.naming = append(m.naming, n)
		}
	}
	return m, fields, nil
}

func (m *matcher) apply(b *column.Batch) {
	for k := range m.columns {
		x := &m.columns[k]
		if x.rule == nil {
			b.Cols[x.to].Copy(&b.Cols[x.from], b.N)
			continue
		}
		x.one.N, x.one.Cols[0] = b.N, b.Cols[x.from]
		result := x.rule.Eval(&x.one)
		b.Cols[x.to].Copy(&result.Column, b.N)
		for i := range b.N {
			if fault := result.Fault(i); fault != "" && !b.Bad(i) {
				b.SetAside(
					i,
					x.name,
					x.name+" has no form as a key: "+fault,
					diag.Clip(diag.Printable(b.Cols[x.from].Value(i)), 60),
				)
			}
		}
	}
	for k := range m.naming {
		m.naming[k].apply(b)
	}
}

// names is a set of columns.
type names map[string]bool

// uses adds what an expression over fields reads.
func (n names) uses(e star.Expression, fields []column.Field) {
	if p, err := e.Compile(fields); err == nil {
		for _, k := range p.Columns() {
			n[fields[k].Name] = true
		}
	}
}

// Needed says which columns of every stage of s are needed for those that want names at its end.
func Needed(s *star.Source, want func(column string) bool) func(column string) bool {
	need := needed(s, want)
	return func(name string) bool { return need[name] }
}

// Below says which columns of the source that s is made of are needed for those that want names at the end of s.
func Below(s *star.Source, want func(column string) bool) func(column string) bool {
	need, theirs := needed(s, want), names{}
	for _, c := range s.Columns {
		theirs[c.InFile()] = theirs[c.InFile()] || need[c.Text]
	}
	return func(name string) bool { return theirs[name] }
}

// needed returns the columns of every stage of s that are needed for those that want names at its end.
func needed(s *star.Source, want func(column string) bool) names {
	need := names{}
	for _, f := range s.Shaped() {
		if want(f.Name) {
			need[f.Name] = true
		}
	}
	for _, m := range s.Matched {
		if need[m.Text] {
			need[m.Column] = true
		}
	}
	if s.Group != nil {
		for _, a := range s.Group.Aggregates {
			if need[a.Text] {
				need[a.Column], need[a.By] = true, true
			}
		}
		for _, name := range s.Group.By {
			need[name] = true
		}
	}
	if p := s.Periods; p != nil {
		for _, name := range append(p.Columns(), p.By...) {
			need[name] = true
		}
	}
	if x := s.Spans; x != nil {
		for _, name := range append([]string{x.From, x.To}, x.Within...) {
			need[name] = true
		}
	}
	if s.Distinct != nil {
		for _, name := range s.Distinct.By {
			need[name] = true
		}
	}
	for k := len(s.Windows) - 1; k >= 0; k-- {
		if w := &s.Windows[k]; need[w.Text] {
			for _, name := range w.Columns() {
				need[name] = true
			}
		}
	}
	for _, name := range s.Split.Columns() {
		need[name] = true
	}
	if !s.Reads() {
		for _, r := range s.LeaveOut {
			need.uses(r.Condition, s.AsRead())
		}
	}
	all := s.Complete()
	for _, rules := range [][]star.Rule{s.Require, s.SetAside} {
		for _, r := range rules {
			need.uses(r.Condition, all)
		}
	}
	if s.TypesItself() {
		for _, c := range s.Judged() {
			need[c.Text] = true
		}
	}
	joined := len(s.Joined())
	for i := len(s.Derive) - 1; i >= 0; i-- {
		if need[s.Derive[i].Text] {
			need.uses(s.Derive[i].Expression, all[:joined+i])
		}
	}
	for i := len(s.Joins) - 1; i >= 0; i-- {
		if j := s.Joins[i]; matters(j, need) {
			for _, by := range j.By {
				need[by[1]] = true
			}
			need[j.AsOf] = true
			if j.Range != nil {
				need[j.Range.Of] = true
			}
		}
	}
	return need
}

// Joins lists the joins of a source that have to be made if some columns at its end are wanted, and which columns of the
// other source each wants.
func Joins(s *star.Source, want func(column string) bool) (list []*star.Join, theirs []func(column string) bool) {
	need := needed(s, want)
	for _, j := range s.Joins {
		if matters(j, need) {
			names := wantedOf(j, need)
			list, theirs = append(list, j), append(theirs, Needed(j.Source, func(name string) bool { return names[name] }))
		}
	}
	return list, theirs
}

// wantedOf returns the columns of the other source that a join wants.
func wantedOf(j *star.Join, need names) map[string]bool {
	theirs := map[string]bool{j.Effective: true}
	for _, by := range j.By {
		theirs[by[0]] = true
	}
	if j.Range != nil {
		theirs[j.Range.From], theirs[j.Range.To] = true, true
	}
	for _, b := range j.Bring {
		if need[b.Name] {
			theirs[b.From] = true
		}
	}
	return theirs
}

// matters reports whether a join has to be made: for what it brings, or because it may set rows aside.
func matters(j *star.Join, need names) bool {
	for _, b := range j.Bring {
		if need[b.Name] {
			return true
		}
	}
	return j.Unmatched != star.LeaveEmpty || j.Several != star.First && j.Several != star.Last
}

// natural writes some values of a row for people.
func natural(cols []*column.Column, i int) string {
	parts := make([]string, len(cols))
	for k, c := range cols {
		if parts[k] = c.Value(i); c.Null[i] {
			parts[k] = "null"
		}
	}
	return diag.Clip(diag.Printable(strings.Join(parts, ", ")), 60)
}

func mistake(b *column.Batch, i int, subject, format string, args ...any) error {
	at := diag.Place{File: b.From.File}
	if i < len(b.From.Line) { // rows that were kept on disk are at no place
		at.Line = int(b.From.Line[i])
	}
	return &diag.Error{
		At:      at,
		Subject: subject,
		Message: fmt.Sprintf(format, args...),
	}
}
