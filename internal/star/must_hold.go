package star

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
)

// Must is something that must hold of a table beyond what every star promises.
type Must struct {
	Name               // as the model calls it
	Every   Expression // a condition that every row meets
	Where   Expression // of which rows the rest speaks; all where its text is ""
	AtLeast *Bound     // so many rows, or such a share of all
	AtMost  *Bound
	Each    []string // rows that are equal in these are equal in HasOne
	HasOne  []string
	Total   string  // a column whose total must equal that of Column in the shaped rows of Source
	Source  *Source // nil without Total
	Column  string
	InLoad  bool // a load checks it before it commits

	total, source, column *Name
	each, hasOne          []Name
}

// Bound is a number of rows, or a share of all rows in millionths.
type Bound struct {
	Rows  int64
	Share bool
}

// String writes a bound as a model has it.
func (b *Bound) String() string {
	if !b.Share {
		return strconv.FormatInt(b.Rows, 10)
	}
	whole := strings.TrimRight(strings.TrimRight(string(exact.AppendDecimal(nil, exact.Wide(b.Rows), 4)), "0"), ".")
	return whole + "%"
}

// musts reads a section must_hold.
func (r *reader) musts(n *node) []*Must {
	var list []*Must
	r.each(n, func(n *node) {
		m := &Must{Name: n.key}
		if n.Kind == yaml.MappingNode {
			r.section(n, r.mustEntries(m))
		} else {
			m.Every = r.expression(n, "a condition")
		}
		list = append(list, m)
	})
	return list
}

func (r *reader) mustEntries(m *Must) []Entry {
	bound := func(to **Bound) func(n *node) {
		return func(n *node) {
			w, ok := r.word(n, "a number of rows, or a share such as 1%")
			if !ok {
				return
			}
			if strings.HasSuffix(w.Text, "%") {
				*to = &Bound{r.share(n), true}
				return
			}
			v, err := strconv.ParseInt(w.Text, 10, 64)
			if err != nil || v < 0 {
				r.errorf(w.At, n.path, "%s is neither a number of rows nor a share such as 1%%", w.Text)
			}
			*to = &Bound{v, false}
		}
	}
	word := func(to **Name, what string) func(n *node) {
		return func(n *node) {
			if w, ok := r.word(n, what); ok {
				*to = &w
			}
		}
	}
	return []Entry{
		{
			"every",
			"a condition",
			"a condition that must be true for every row; alone, it can be written without this key",
			false,
			func(n *node) { m.Every = r.expression(n, "a condition") },
		},
		{
			"where",
			"a condition",
			"the rows to which the others apply; the default is all",
			false,
			func(n *node) { m.Where = r.expression(n, "a condition") },
		},
		{
			"at_least",
			"a number, or a share such as 95%",
			"the least number of rows, or the least share of all rows",
			false,
			bound(&m.AtLeast),
		},
		{
			"at_most",
			"a number, or a share such as 1%",
			"the greatest number of rows, or the greatest share of all rows",
			false,
			bound(&m.AtMost),
		},
		{
			"each",
			"a column or a list",
			"rows that are equal in these columns must be equal in has_one, too: levels that roll up. Rows with a null in them are not checked",
			false,
			func(n *node) { m.each = r.words(n, "a column") },
		},
		{
			"has_one",
			"a column or a list",
			"the columns of the level above",
			false,
			func(n *node) { m.hasOne = r.words(n, "a column") },
		},
		{
			"total",
			"a column",
			"a column of exact numbers whose total must equal that of `column` in `source`",
			false,
			word(&m.total, "a column"),
		},
		{
			"source",
			"a source",
			"the source of the other total: all its rows that are not set aside",
			false,
			word(&m.source, "a source"),
		},
		{"column", "a column", "the column of the source", false, word(&m.column, "a column")},
		{
			"in_load",
			"stop",
			"a load checks it before it commits, and stops if it fails; without it, only prove checks it",
			false,
			func(n *node) { m.InLoad = r.choice(n, "stop") == "stop" },
		},
	}
}

// musts checks what must hold of a table of the given columns.
func (c *checker) musts(list []*Must, fields []column.Field, path string) {
	for _, m := range list {
		path := path + ".must_hold." + m.Text
		for _, e := range []Expression{m.Every, m.Where} {
			if p := c.compile(e, path, fields); p != nil && p.Type().Kind != column.Boolean && known(p.Type()) {
				c.errorf(e.At, path, "a condition is true or false, and this is of type %s", p.Type())
			}
		}
		if m.Every.Text == "" && m.AtLeast == nil && m.AtMost == nil && m.total == nil && m.each == nil {
			c.errorf(m.At, path, "nothing is said that must hold: every, at_least, at_most, each or total")
		}
		if (m.each == nil) != (m.hasOne == nil) {
			c.errorf(m.At, path, "each and has_one are said together")
		}
		m.Each = column.Names(c.fields(fields, "the table", m.each, path+".each"))
		m.HasOne = column.Names(c.fields(fields, "the table", m.hasOne, path+".has_one"))
		if (m.total == nil) != (m.source == nil) || (m.total == nil) != (m.column == nil) {
			c.errorf(m.At, path, "total, source and column are said together")
			continue
		}
		if m.total == nil {
			continue
		}
		if m.Source = c.findSource(m.source, path+".source"); m.Source == nil {
			continue
		}
		exact := func(fields []column.Field, of string, w Name) (column.Field, bool) {
			f, ok := c.field(fields, of, w, path)
			if ok && !f.Type.Exact() && known(f.Type) {
				c.errorf(w.At, path, "%s is of type %s; a total is of exact numbers", f.Name, f.Type)
			}
			return f, ok
		}
		a, _ := exact(fields, "the table", *m.total)
		b, _ := exact(m.Source.Fields(), "source "+m.Source.Text, *m.column)
		m.Total, m.Column = a.Name, b.Name
	}
}

// own lists the columns of a fact's table that something may be said of.
func (f *Fact) own() []column.Field {
	fields := append(append(slices.Clone(f.Degenerate), f.Measures...), f.lags()...)
	if f.Marked() {
		fields = append(fields, column.Field{Name: "is_gone", Type: column.Type{Kind: column.Boolean}})
	}
	return append(fields, keyColumns(f.Keys)...)
}

// own lists the columns of a dimension's table that something may be said of.
func (d *Dimension) own() []column.Field {
	fields := []column.Field{{Name: d.KeyColumn(), Type: column.Type{Kind: column.Integer}}}
	if d.Durable {
		fields = append(fields, column.Field{Name: d.DurableColumn(), Type: column.Type{Kind: column.Integer}})
	}
	fields = append(fields, d.NaturalKey...)
	fields = append(fields, d.Attributes()...)
	fields = append(fields, keyColumns(d.Keys)...)
	boolean := column.Type{Kind: column.Boolean}
	if d.Versioned() {
		t := cmp.Or(d.Effective, &column.Field{}).Type
		fields = append(
			fields,
			column.Field{Name: "valid_from", Type: t},
			column.Field{Name: "valid_to", Type: t},
			column.Field{Name: "is_current", Type: boolean},
		)
	}
	if d.Inferable() {
		fields = append(fields, column.Field{Name: "is_inferred", Type: boolean})
	}
	if d.Hierarchy != nil {
		integer := column.Type{Kind: column.Integer}
		fields = append(
			fields,
			column.Field{Name: "parent_" + d.MemberColumn(), Type: integer},
			column.Field{Name: d.LevelColumn(), Type: integer},
		)
	}
	if d.Marked() {
		fields = append(fields, column.Field{Name: "is_gone", Type: boolean})
	}
	return fields
}

func keyColumns(keys []*Key) []column.Field {
	var fields []column.Field
	for _, k := range keys {
		if k.Dimension != nil {
			fields = append(fields, column.Field{Name: k.Column(), Type: column.Type{Kind: column.Integer}})
			if k.Both {
				fields = append(
					fields,
					column.Field{Name: k.DurableColumn(), Type: column.Type{Kind: column.Integer}},
				)
			}
		}
	}
	return fields
}
