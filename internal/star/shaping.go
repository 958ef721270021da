package star

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/exact"
	"ironmonger/internal/expr"
	"ironmonger/internal/parse"
)

// Join completes rows with columns of another source: of the row there that has the same values in some columns and,
// where Effective is given, of those the latest that is not after AsOf.
type Join struct {
	Name
	Source    *Source
	By        [][2]string // a column there, and the column here
	Effective string      // a date or timestamp there, "" if time doesn't matter
	AsOf      string      // a column here
	Range     *Range      // or rows there are of values from one to below another; nil if they are not
	Bring     []Brought
	Unmatched Outcome // set_aside, leave_empty, drop or stop
	Several   Outcome // of equal time: first, last, set_aside or stop

	source, effective, asOf *Name
	by                      []byName
	bring                   []byName
}

// Brought is a column that a join brings: its name there, and its name and type here.
type Brought struct {
	From string
	column.Field
}

// More outcomes, of joins alone.
const (
	Drop  Outcome = "drop"
	First Outcome = "first"
	Last  Outcome = "last"
)

// Fields lists the columns that the join brings.
func (j *Join) Fields() []column.Field {
	fields := make([]column.Field, len(j.Bring))
	for i, b := range j.Bring {
		fields[i] = b.Field
	}
	return fields
}

// Fill is the value that a column has where it would be null.
type Fill struct {
	Name
	Value Name
}

// Distinct keeps one row for each value of some columns.
type Distinct struct {
	By   []string
	Last bool // the last one, not the first

	by []Name
	at diag.Place
}

// Group makes one row of all that are equal in some columns; null equals null here.
type Group struct {
	By         []string
	Aggregates []Aggregate

	by []Name
	at diag.Place
}

// Aggregate is a column of groups: the sum, least, greatest, average or number of the values of a column that are not
// null, the one of the latest or the earliest row, or the number of rows.
type Aggregate struct {
	Name
	Function string // sum, min, max, avg, count, latest, earliest, or OnlyValue
	Column   string // "" counts rows
	By       string // of latest and earliest: the column in whose order rows are
	Type     column.Type
	Sum      column.Type // of avg: the type of the sum that is divided

	written Name
}

// OnlyValue is the aggregate of columns that are made of rows: the only value that there is.
const OnlyValue = "only"

// ListSeparator stands between the values of a list that is made of rows.
const ListSeparator = ";"

// Fields lists the columns of groups of rows with the given columns.
func (g *Group) Fields(of []column.Field) []column.Field {
	var fields []column.Field
	for _, name := range g.By {
		fields = append(fields, of[column.Find(of, name)])
	}
	for _, a := range g.Aggregates {
		fields = append(fields, column.Field{Name: a.Text, Type: a.Type})
	}
	return fields
}

// Matching brings a part of a natural key to one form, wherever it is met.
type Matching struct {
	Name  // the column of the natural key
	As    Expression
	Codes [][2]Name // other codes for the same, applied behind As
	Type  column.Type
}

// Matched is a column of a source in the form that a dimension's natural key has. It has a name that no other column
// can have.
type Matched struct {
	Name
	Column string // of the shaped source
	Type   column.Type
	Rule   *Matching
}

// Compile compiles the rule for a column of a type, the only column of the batches that the program sees.
func (m *Matching) Compile(of column.Type) (*expr.Program, error) {
	return m.expression().Compile([]column.Field{{Name: m.Text, Type: of}})
}

// expression is As, and behind it the codes.
func (m *Matching) expression() Expression {
	e := m.As
	if e.Text == "" {
		e.Text = quoted(m.Text)
	}
	if len(m.Codes) == 0 {
		return e
	}
	of, literal := e.Text, func(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
	var b strings.Builder
	fmt.Fprintf(&b, "case %s", of)
	for _, c := range m.Codes {
		fmt.Fprintf(&b, " when %s then %s", literal(c[0].Text), literal(c[1].Text))
	}
	fmt.Fprintf(&b, " else %s end", of)
	e.Text = b.String()
	return e
}

func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func (r *reader) joinEntries(j *Join) []Entry {
	word := func(to **Name, what string) func(n *node) {
		return func(n *node) {
			if w, ok := r.word(n, what); ok {
				*to = &w
			}
		}
	}
	return []Entry{
		{
			"source",
			"a source, dimension NAME or fact NAME",
			"the other source; the default is the name of the join. Or a dimension or fact of the model, as with `from`: with as_of, the versions of members of their time, so that a row has what its member was then",
			false,
			word(&j.source, "a source"),
		},
		{
			"by",
			"a column, a list, or there: here",
			"the columns that must be equal, with the same name in both sources; or the column of the other source and the column of this one. Null equals nothing. Not required with range",
			false,
			func(n *node) { j.by = r.pairs(n) },
		},
		{
			"range",
			"keys",
			"the column of this source that is within limits of the other, such as a tonnage in its band",
			false,
			func(n *node) {
				j.Range = &Range{at: n.key}
				r.section(n, r.rangeEntries(j.Range))
			},
		},
		{
			"effective",
			"a date or timestamp column",
			"the column of the other source from whose time its row is valid, as in a table of rates; requires as_of",
			false,
			word(&j.effective, "a column"),
		},
		{
			"as_of",
			"a date or timestamp column",
			"the column of this source with the time: of the rows found, the latest that is not later is taken",
			false,
			word(&j.asOf, "a column"),
		},
		{
			"bring",
			"a column, a list, or there: here",
			"the columns to bring, by their names in the other source; or their names there and here",
			true,
			func(n *node) { j.bring = r.pairs(n) },
		},
		{
			"unmatched",
			"set_aside, leave_empty, drop or stop",
			"what happens if no row is found: the row is set aside (the default), the columns are null, the row is dropped and counted, or the step stops",
			false,
			func(n *node) {
				j.Unmatched = Outcome(r.choice(n, string(SetAside), string(LeaveEmpty), string(Drop), string(Stop)))
			},
		},
		{
			"several",
			"stop, first, last or set_aside",
			"what happens if several rows are found (of one time, with effective): the step stops (the default), the first or the last row is taken, or the row is set aside",
			false,
			func(n *node) {
				j.Several = Outcome(r.choice(n, string(Stop), string(First), string(Last), string(SetAside)))
			},
		},
	}
}

// pairs reads columns, or names of columns for names of columns.
func (r *reader) pairs(n *node) []byName {
	k := &Key{}
	r.by(k, n)
	return k.by
}

func (r *reader) distinctEntries(d *Distinct) []Entry {
	return []Entry{
		{
			"by",
			"a column or a list",
			"the columns; null equals null",
			true,
			func(n *node) { d.by = r.words(n, "a column") },
		},
		{
			"keep",
			"first or last",
			"which row is kept; the default is the first",
			false,
			func(n *node) { d.Last = r.choice(n, "first", "last") == "last" },
		},
	}
}

func (r *reader) groupEntries(g *Group) []Entry {
	return []Entry{
		{
			"by",
			"a column or a list",
			"the columns that the rows of a group have in common; null equals null",
			true,
			func(n *node) { g.by = r.words(n, "a column") },
		},
		{
			"aggregates",
			"name: aggregate",
			"the aggregates: `sum(column)`, `min(column)`, `max(column)`, `avg(column)`, `count(column)` of the values that are not null, `latest(column, day)` and `earliest(column, day)` for the value of the last or first row by another column, `only(column)` for the only one (two stop the step), `list(column)` for a list of the different texts in the order of their bytes, with `;` between them, `count` of the rows",
			false,
			func(n *node) {
				r.each(n, func(n *node) {
					if w, ok := r.word(n, "an aggregate, such as sum(tonnage)"); ok {
						g.Aggregates = append(g.Aggregates, Aggregate{Name: r.name(n.key, n.path), written: w})
					}
				})
			},
		},
	}
}

func (r *reader) matchingEntries(m *Matching) []Entry {
	return []Entry{
		{
			"as",
			"an expression",
			"the form, as an expression of the column: `upper(trim(code))`",
			false,
			func(n *node) { m.As = r.expression(n, "an expression") },
		},
		{
			"codes",
			"code: code",
			"other codes for the same value, after `as`: `{GRN: C03}`",
			false,
			func(n *node) {
				r.each(n, func(n *node) {
					if w, ok := r.word(n, "a code"); ok {
						m.Codes = append(m.Codes, [2]Name{n.key, w})
					}
				})
			},
		},
	}
}

// join finds what a join refers to; here lists the columns so far.
func (c *checker) join(s *Source, j *Join, here []column.Field) {
	path := "sources." + s.Text + ".join." + j.Text
	w := j.source
	if w == nil {
		w = &j.Name
	}
	if j.Source = c.ofStar(w); j.Source != nil {
		j.Source.text.subject = path
		j.versionsOf()
	} else {
		j.Source = c.findSource(w, path)
	}
	if j.Source == nil || !c.source(j.Source) {
		s.blind = true // what it would bring isn't known
		return
	}
	if j.by == nil && j.Range == nil {
		c.errorf(j.At, path, "which columns have to be equal? (by)")
	}
	there, of, own := j.Source.Fields(), "source "+j.Source.Text, "source "+s.Text
	for _, b := range j.by {
		other := b.column
		if b.natural != nil {
			other = *b.natural
		}
		x, ok := c.field(there, of, other, path+".by")
		y, too := c.field(here, own, b.column, path+".by")
		if !ok || !too {
			continue
		}
		switch {
		case !known(x.Type) || !known(y.Type):
		case x.Type.Kind == column.Double || y.Type.Kind == column.Double:
			c.errorf(b.column.At, path+".by", "a double cannot be a key: make it a decimal or text")
		case x.Type.Kind != y.Type.Kind || x.Type.Scale != y.Type.Scale || x.Type.Wide() != y.Type.Wide():
			c.errorf(
				b.column.At,
				path+".by",
				"%s is of type %s, but %s of %s is of type %s: nothing would ever match",
				y.Name,
				y.Type,
				x.Name,
				of,
				x.Type,
			)
		}
		j.By = append(j.By, [2]string{x.Name, y.Name})
	}
	if (j.effective == nil) != (j.asOf == nil) {
		c.errorf(
			j.At,
			path,
			"effective and as_of are said together: since when a row of the other source holds, and which time is meant here",
		)
	} else if j.effective != nil {
		x, ok := c.field(there, of, *j.effective, path+".effective")
		y, too := c.field(here, own, *j.asOf, path+".as_of")
		timed := func(f column.Field) bool { return f.Type.Kind == column.Date || f.Type.Kind == column.Timestamp }
		switch {
		case !ok || !too || !known(x.Type) || !known(y.Type):
		case !timed(x):
			c.errorf(j.effective.At, path+".effective", "%s is of type %s; an effective time is a date or a timestamp", x.Name, x.Type)
		case !timed(y):
			c.errorf(j.asOf.At, path+".as_of", "%s is of type %s; as_of takes a date or a timestamp", y.Name, y.Type)
		case x.Type.Kind == column.Timestamp && y.Type.Kind == column.Date:
			c.errorf(j.asOf.At, path+".as_of", "%s of %s is a timestamp, and %s has only a day: which time is meant?", x.Name, of, y.Name)
		}
		j.Effective, j.AsOf = x.Name, y.Name
	}
	if j.Range != nil {
		c.ranges(j, there, here, of, own, path)
	}
	for _, b := range j.bring {
		from, to := b.column, b.column
		if b.natural != nil {
			from = *b.natural
		}
		x, _ := c.field(there, of, from, path+".bring")
		if column.Find(here, to.Text) >= 0 || column.Find(j.Fields(), to.Text) >= 0 {
			c.errorf(to.At, path+".bring", "there is already a column %s: {%s: another_name}", to.Text, from.Text)
		}
		j.Bring = append(j.Bring, Brought{x.Name, column.Field{Name: to.Text, Type: x.Type}})
	}
}

func (c *checker) fillRule(s *Source, f *Fill, fields []column.Field) {
	path := "sources." + s.Text + ".fill." + f.Text
	field, ok := c.field(fields, "source "+s.Text, f.Name, path)
	if !ok || !known(field.Type) {
		return
	}
	if _, err := f.Column(field.Type, c.model); err != nil {
		c.errorf(f.Value.At, path, "%s %v", diag.Printable(f.Value.Text), err)
	}
}

// Column returns the value as a column of one row.
func (f *Fill) Column(t column.Type, m *Model) (*column.Column, error) {
	col := &column.Column{Type: t}
	col.Resize(1)
	return col, parse.NewReader(m.Zone).Set(col, 0, f.Value.Text)
}

func (c *checker) distinct(s *Source, fields []column.Field) {
	for _, f := range c.fields(fields, "source "+s.Text, s.Distinct.by, "sources."+s.Text+".distinct.by") {
		s.Distinct.By = append(s.Distinct.By, f.Name)
		c.noDouble(s, f, s.Distinct.at, "distinct")
	}
}

func (c *checker) noDouble(s *Source, f column.Field, at diag.Place, in string) {
	if f.Type.Kind == column.Double {
		c.errorf(
			at,
			"sources."+s.Text+"."+in+".by",
			"%s is a double, and cannot be a key: make it a decimal or text",
			f.Name,
		)
	}
}

var aggregateForm = regexp.MustCompile(`^(?i:(sum|min|max|avg|count|only|latest|earliest|list)\s*\(\s*(.*?)\s*\)|(count))$`)

func (c *checker) group(s *Source, fields []column.Field) {
	g, path := s.Group, "sources."+s.Text+".group"
	for _, f := range c.fields(fields, "source "+s.Text, g.by, path+".by") {
		g.By = append(g.By, f.Name)
		c.noDouble(s, f, g.at, "group")
	}
	for i := range g.Aggregates {
		a := &g.Aggregates[i]
		m := aggregateForm.FindStringSubmatch(a.written.Text)
		if m == nil {
			c.errorf(
				a.written.At,
				path+".aggregates."+a.Text,
				"%s is not an aggregate: sum(column), min(column), max(column), avg(column), latest(column, day), earliest(column, day), only(column), list(column), count(column) or count",
				a.written.Text,
			)
			continue
		}
		a.Function, a.Column = strings.ToLower(m[1]+m[3]), m[2]
		c.orderOf(s, a, fields, path)
		if slices.Contains(g.By, a.Text) {
			c.errorf(a.At, path+".aggregates", "there is already a column %s", a.Text)
		}
		a.Type = column.Type{Kind: column.Integer}
		if m[3] == "" {
			f, _ := c.field(
				fields,
				"source "+s.Text,
				Name{a.Column, a.written.At.Right(strings.Index(a.written.Text, a.Column))},
				path+".aggregates."+a.Text,
			)
			if a.Function != "count" {
				a.Type = f.Type
			}
			if a.Function == "list" && f.Type.Kind != column.Text && known(f.Type) {
				c.errorf(a.written.At, path+".aggregates."+a.Text, "%s is of type %s; a list is of texts", f.Name, f.Type)
			}
			if a.Function == "avg" {
				c.average(a, f, path)
			}
			if a.Function == "sum" {
				a.Type = sumType(f.Type)
				if !f.Type.Numeric() && known(f.Type) {
					c.errorf(
						a.written.At,
						path+".aggregates."+a.Text,
						"%s is of type %s; a sum is of numbers",
						f.Name,
						f.Type,
					)
					a.Type = column.Type{}
				}
				c.addsUp(s, a, path+".aggregates."+a.Text)
			}
		}
	}
}

// sumType is the type of a sum: of decimals, one with room for more digits before the point.
func sumType(t column.Type) column.Type {
	switch {
	case t.Wide():
		t.Precision = exact.MaxDigits
	case t.Kind == column.Decimal:
		t.Precision = exact.NarrowDigits
	}
	return t
}

// match returns the column of the source that says a part of d's natural key in its one form: the column itself, or
// one that is made of it.
func (c *checker) match(s *Source, d *Dimension, part int, w Name, path string) string {
	var rule *Matching
	if d.Matching != nil {
		rule = d.Matching[part]
	}
	if rule == nil && d.Aliases == nil || s == nil {
		return w.Text
	}
	name := w.Text + " as " + d.Text + " has it"
	for _, m := range s.Matched {
		if m.Text == name && m.Rule == rule {
			return name
		}
	}
	fields := s.Fields()
	at := column.Find(fields, w.Text)
	if rule == nil {
		s.Matched = append(s.Matched, Matched{Name: Name{name, w.At}, Column: w.Text, Type: fields[at].Type})
		return name
	}
	p, err := rule.Compile(fields[at].Type)
	if err != nil {
		c.errorf(
			w.At,
			path,
			"%s is of type %s, and the matching of %s cannot be applied: %v",
			w.Text,
			fields[at].Type,
			rule.Text,
			err,
		)
		return w.Text
	}
	s.Matched = append(s.Matched, Matched{Name: Name{name, w.At}, Column: w.Text, Type: p.Type(), Rule: rule})
	return name
}

// matching checks how a dimension's natural key is brought to one form, and returns the natural key the types that
// result. The matching is then in the order of the natural key, nil where a part has none.
func (c *checker) matching(d *Dimension, path string) {
	ordered := make([]*Matching, len(d.NaturalKey))
	for _, m := range d.Matching {
		at := column.Find(d.NaturalKey, m.Text)
		if at < 0 {
			c.errorf(
				m.At,
				path+".matching",
				"the natural key has no column %s%s",
				m.Text,
				diag.Suggest(m.Text, column.Names(d.NaturalKey)),
			)
			continue
		}
		if !known(d.NaturalKey[at].Type) {
			continue
		}
		bare := *m
		bare.Codes = nil
		e := bare.expression()
		if m.As.Text == "" {
			e.At = m.At
		}
		p := c.compile(e, path+".matching."+m.Text, []column.Field{d.NaturalKey[at]})
		switch {
		case p == nil:
			continue
		case p.Type().Kind == column.Double || p.Type().Kind == column.Null:
			c.errorf(m.At, path+".matching."+m.Text, "a key cannot be of type %s", p.Type())
			continue
		case len(m.Codes) > 0 && p.Type().Kind != column.Text:
			c.errorf(m.At, path+".matching."+m.Text, "codes are texts, and this is of type %s", p.Type())
			continue
		}
		m.Type, ordered[at] = p.Type(), m
	}
	d.Matching = ordered
	d.Delivered = make([]string, len(d.NaturalKey))
	for i, f := range d.NaturalKey {
		d.Delivered[i] = f.Name
		if ordered[i] == nil {
			continue
		}
		if d.Source != nil {
			d.Delivered[i] = c.match(d.Source, d, i, Name{f.Name, ordered[i].At}, path+".matching."+f.Name)
		}
		d.NaturalKey[i].Type = ordered[i].Type
	}
}
