package star

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
)

// Pivot makes columns of rows: all rows that are equal in some columns become one, which has a column for each of some
// values of another column. It is carried out as a derived column for each, and a group.
type Pivot struct {
	by      []Name
	name    Name
	value   Name
	columns [][2]Name // the new column, and the value that it is of
	several string
	leave   bool // rows of other values are left out, and not set aside
	at      diag.Place
}

func (r *reader) pivotEntries(p *Pivot) []Entry {
	word := func(to *Name) func(n *node) { return func(n *node) { *to, _ = r.word(n, "a column") } }
	return []Entry{
		{"by", "a column or a list", "the columns that the rows of one new row have in common; null equals null", true, func(n *node) { p.by = r.words(n, "a column") }},
		{"name", "a column", "the column whose values say which new column is meant", true, word(&p.name)},
		{"value", "a column", "the column that has the values of the new columns", true, word(&p.value)},
		{
			"columns",
			"name: value, or a list",
			"the new columns, and the value of the column `name` that each is of; a list if these are the same. A column without a row is null",
			true,
			func(n *node) { r.pivotColumns(n, p) },
		},
		{
			"several",
			"stop, sum, min or max",
			"what happens if several rows have a value for one new column: the step stops (the default), they are added up, or the least or greatest counts",
			false,
			func(n *node) { p.several = r.choice(n, "stop", "sum", "min", "max") },
		},
		{
			"others",
			"set_aside or leave_out",
			"what happens to a row that has another value in the column `name`, or none: it is set aside (the default), or it is not counted in any new column",
			false,
			func(n *node) { p.leave = r.choice(n, "set_aside", "leave_out") == "leave_out" },
		},
	}
}

func (r *reader) pivotColumns(n *node, p *Pivot) {
	if n.Kind != yaml.MappingNode {
		for _, w := range r.words(n, "a value") {
			p.columns = append(p.columns, [2]Name{r.name(w, n.path), w})
		}
		return
	}
	r.each(n, func(n *node) {
		if w, ok := r.word(n, "a value"); ok {
			p.columns = append(p.columns, [2]Name{r.name(n.key, n.path), w})
		}
	})
}

// pivot turns it into derived columns and a group.
func (c *checker) pivot(s *Source, path string) {
	p := s.Pivot
	if p == nil {
		return
	}
	s.Pivot = nil // it is checked once
	if s.Group != nil {
		c.errorf(p.at, path+".pivot", "a source has a group or a pivot: from: makes another one of it")
		return
	}
	fields := s.Complete()
	for _, d := range s.Derive { // their types are not known yet
		fields = append(fields, column.Field{Name: d.Text})
	}
	for _, w := range []Name{p.name, p.value} {
		if _, ok := c.field(fields, "source "+s.Text, w, path+".pivot"); !ok {
			return
		}
	}
	literal := func(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
	of := fmt.Sprintf("cast(%s as text)", quoted(p.name.Text))
	function := map[string]string{"sum": "sum", "min": "min", "max": "max"}[p.several]
	if function == "" {
		function = OnlyValue
	}
	g := &Group{by: p.by, at: p.at}
	var values []string
	for _, x := range p.columns {
		values = append(values, literal(x[1].Text))
		s.Derive = append(s.Derive, Derived{
			Name:       x[0],
			Expression: Expression{Name{fmt.Sprintf("case when %s = %s then %s end", of, literal(x[1].Text), quoted(p.value.Text)), x[1].At}, &c.parameters},
		})
		g.Aggregates = append(g.Aggregates, Aggregate{Name: x[0], written: Name{fmt.Sprintf("%s(%s)", function, x[0].Text), x[0].At}})
	}
	s.Group = g
	if !p.leave && values != nil {
		in := Name{fmt.Sprintf("coalesce(%s in (%s), false)", of, strings.Join(values, ", ")), p.name.At}
		s.Require = append(s.Require, Rule{Name{p.name.Text + " has no column", p.name.At}, Expression{in, &c.parameters}})
	}
}
