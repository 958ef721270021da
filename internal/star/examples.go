package star

import (
	"os"
	"slices"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/diag"
)

// Example is a worked example of a model: what arrives, and what must stand in the star then.
type Example struct {
	Name
	Loads []*Rehearsal
}

// Rehearsal is one load of an example.
type Rehearsal struct {
	Arrives  []Given // by source
	Stands   []Given // by dimension or fact, or set_aside
	SetAside *Given  // rows of columns source and reasons; nil if nothing is said of them

	then *Rehearsal
}

// Given is rows written as CSV with a header.
type Given struct {
	Name
	Text string
	At   diag.Place // of the first row's line
}

// ReadExamples reads the worked examples in a file and checks them against the model. The error is a [diag.List] of
// all that is wrong, or what kept the file from being read.
func ReadExamples(file string, m *Model) ([]*Example, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	r := newReader(file, string(text), nil)
	var list []*Example
	top := r.parse(text)
	if top == nil {
		return nil, r.errs.Err()
	}
	r.each(top, func(n *node) {
		e, load := &Example{Name: n.key}, &Rehearsal{}
		r.section(n, r.rehearsalEntries(load))
		for ; load != nil; load = load.then {
			e.Loads = append(e.Loads, load)
			r.known(load, m, n.path)
		}
		list = append(list, e)
	})
	return list, r.errs.Err()
}

// ExampleSection lists what an example may hold, for the reference.
func ExampleSection() Section {
	return Section{
		"NAME",
		"A worked example, under a name.",
		newReader("", "", nil).rehearsalEntries(&Rehearsal{}),
	}
}

func (r *reader) rehearsalEntries(x *Rehearsal) []Entry {
	return []Entry{
		{
			"arrives",
			"source: rows",
			"the rows that arrive, as CSV with a header, whatever the format of the source; and the rows of dimensions that are looked up. Missing columns are null; missing sources have no rows",
			false,
			func(n *node) { x.Arrives = r.given(n) },
		},
		{
			"stands",
			"dimension or fact: rows",
			"the rows that must be in the tables afterwards: all rows except special members, in any order, with the columns in the header; the name of a key means the natural key that it points to",
			false,
			func(n *node) { x.Stands = r.given(n) },
		},
		{
			"set_aside",
			"rows",
			"the rows that must be set aside: of the columns source, line, reasons, content those in the header",
			false,
			func(n *node) {
				g := r.rows(n)
				x.SetAside = &g
			},
		},
		{"then", "the same keys", "the next load: the rows that arrive and the rows that must be in the tables afterwards", false, func(n *node) {
			x.then = &Rehearsal{}
			r.section(n, r.rehearsalEntries(x.then))
		}},
	}
}

func (r *reader) given(n *node) []Given {
	var list []Given
	r.each(n, func(n *node) { list = append(list, r.rows(n)) })
	return list
}

func (r *reader) rows(n *node) Given {
	w, _ := r.word(n, "rows, as CSV with a header")
	g := Given{Name: n.key, Text: w.Text, At: w.At}
	if n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0 {
		g.At = diag.Place{File: r.file, Line: w.At.Line + 1}
	}
	return g
}

// known checks the names of sources and tables.
func (r *reader) known(x *Rehearsal, m *Model, path string) {
	var sources, tables []string
	for _, s := range m.Sources {
		sources = append(sources, s.Text)
	}
	for _, d := range m.Dimensions {
		if tables = append(tables, d.Text); d.LookedUp != nil {
			sources = append(sources, d.Text)
		}
	}
	for _, f := range m.Facts {
		tables = append(tables, f.Text)
	}
	look := func(list []Given, names []string, what string) {
		for _, g := range list {
			if !slices.Contains(names, g.Name.Text) {
				r.errorf(
					g.Name.At,
					path,
					"the model has no %s %s%s",
					what,
					g.Name.Text,
					diag.Suggest(g.Name.Text, names),
				)
			}
		}
	}
	look(x.Arrives, sources, "source")
	look(x.Stands, tables, "dimension or fact")
}
