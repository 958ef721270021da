package lineage

import (
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/star"
)

// origin is a column of something that is read: of files, of a table or query, or of the star itself.
type origin struct {
	source *star.Source
	column string
}

// origins returns the columns of which the values of a column of a source are made, in the order in which they are
// found. What only decides which rows there are, such as a condition or the key of a join, is not among them.
func origins(s *star.Source, name string) []origin {
	t := tracing{met: map[origin]bool{}}
	t.follow(s, name)
	return t.found
}

type tracing struct {
	met   map[origin]bool
	found []origin
}

func (t *tracing) follow(s *star.Source, name string) {
	at := origin{s, name}
	if name == "" || t.met[at] {
		return
	}
	t.met[at] = true
	if made, ok := madeOf(s, name); ok {
		for _, of := range made {
			t.follow(s, of)
		}
		return
	}
	for _, j := range s.Joins {
		for _, b := range j.Bring {
			if b.Name == name && j.Source != nil {
				t.follow(j.Source, b.From)
				return
			}
		}
	}
	in := name
	if k := slices.IndexFunc(s.Columns, func(c star.Column) bool { return c.Text == name }); k >= 0 {
		in = s.Columns[k].InFile()
	} else if s.DrivenBy != nil && column.Find(s.DrivenBy.Shaped(), name) >= 0 { // the list that drives the reading says it
		t.follow(s.DrivenBy, name)
		return
	}
	if made := s.Made(); len(made) > 0 {
		for _, o := range made {
			t.follow(o, in)
		}
		return
	}
	if s.Calendar == nil && s.Clock == nil {
		t.found = append(t.found, origin{s, in})
	}
}

// madeOf returns the columns of the same source of which a column is made; ok is false of one that is not.
func madeOf(s *star.Source, name string) (list []string, ok bool) {
	for _, m := range s.Matched {
		if m.Text == name {
			return []string{m.Column}, true
		}
	}
	if s.Group != nil {
		for _, a := range s.Group.Aggregates {
			if a.Text == name && a.Column != name {
				return []string{a.Column}, true
			}
		}
	}
	if p := s.Periods; p != nil && !slices.Contains(p.By, name) && !slices.Contains(p.Columns(), name) {
		return p.Columns(), true
	}
	for k := range s.Windows {
		if w := &s.Windows[k]; w.Text == name {
			return []string{w.Column, w.Shares}, true
		}
	}
	if s.Split != nil && s.Split.Into.Text == name {
		return []string{s.Split.Column}, true
	}
	all, joined := s.Complete(), len(s.Joined())
	for i, d := range s.Derive {
		if d.Text == name {
			return uses(d.Expression, all[:joined+i]), true
		}
	}
	return nil, false
}

// uses lists the columns that an expression over fields reads.
func uses(e star.Expression, fields []column.Field) []string {
	p, err := e.Compile(fields)
	if err != nil {
		return nil
	}
	var names []string
	for _, k := range p.Columns() {
		names = append(names, fields[k].Name)
	}
	return names
}
