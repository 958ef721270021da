// Package draft proposes a model for files that nobody has described yet.
//
// It takes what [survey] has found, and decides: which columns identify a row, which source refers to which, which rows
// are facts and which are members. Each decision is written into the model as a comment with its evidence; what is
// doubtful is marked "doubt". The draft is a beginning: it passes the check, a load loads it, and a person changes it.
package draft

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/star"
	"ironmonger/internal/survey"
)

// Options are what the caller decides.
type Options struct {
	Warehouse string // the SQLite file of the star
	History   bool   // members that come with a date have versions; else the last row counts
	Infer     bool   // members that only facts know are inferred; else such facts point to Unknown
}

// Draft is a proposal.
type Draft struct {
	Text    string   `json:"model"`
	Sources []Source `json:"sources"`
	Empty   []string `json:"without_rows,omitempty"` // files and tables of which nothing can be said
	Doubts  int      `json:"doubts"`
	Added   []Added  `json:"added,omitempty"` // to a model that was there
}

// Source is what is proposed for files of one shape.
type Source struct {
	Name      string      `json:"source"`
	As        string      `json:"as"` // dimension, fact, or nothing
	Key       []string    `json:"key,omitempty"`
	Effective string      `json:"effective,omitempty"`
	Refers    []Reference `json:"refers_to,omitempty"`
}

// Reference is columns whose values are natural keys of a dimension.
type Reference struct {
	Columns []string `json:"columns"`
	To      string   `json:"to"` // a source
	Values  int64    `json:"values"`
	Found   int64    `json:"found"` // of these
}

// table is a table on its way into the model.
type table struct {
	*survey.Table
	name      string // of the source
	single    string // of the dimension or fact
	fields    []*field
	key       []*field
	unique    int64 // distinct keys
	effective *field
	refs      []*ref
	referred  bool
	as        string
	others    []*table
	is        *star.Source // of the model that reads it already; nil of a draft
}

// field is a column under its name in the model.
type field struct {
	*survey.Column
	name     string
	known    bool // the model takes it already
	optional bool // older files lack it
}

// ref is a reference.
type ref struct {
	by           []*field
	to           *table
	values, hits int64
}

// The ways in which a table comes into the model.
const (
	asDimension = "dimension"
	asFact      = "fact"
	asNothing   = "source alone"
)

// Make proposes a model for tables whose files are below root.
func Make(ctx context.Context, root *os.Root, found []*survey.Table, o Options) (*Draft, error) {
	var tables []*table
	names := map[string]bool{}
	d := &Draft{}
	for _, t := range found {
		if t.Rows > 0 && len(t.Columns) > 0 {
			tables = append(tables, newTable(t, names))
		} else {
			d.Empty = append(d.Empty, t.Files...)
		}
	}
	for k, t := range tables {
		t.others = slices.Concat(tables[:k], tables[k+1:])
		if err := t.findKey(ctx, root); err != nil {
			return nil, err
		}
	}
	if err := widenKeys(ctx, root, tables); err != nil {
		return nil, err
	}
	if err := findReferences(ctx, root, tables); err != nil {
		return nil, err
	}
	decide(tables)
	d.Text, d.Doubts = write(tables, o)
	for _, t := range tables {
		d.Sources = append(d.Sources, t.said())
	}
	return d, nil
}

func namesOf(fields []*field) []string {
	var list []string
	for _, f := range fields {
		list = append(list, f.name)
	}
	return list
}

func newTable(t *survey.Table, taken map[string]bool) *table {
	x := &table{Table: t}
	name := nameOf(t.Files)
	if t.Sheets > 1 {
		name = identifier(t.Sheet)
	}
	if t.Database != nil {
		name = identifier(t.Name[strings.LastIndexByte(t.Name, '.')+1:])
	}
	x.name = unlike(name, taken)
	x.single = unlike(singular(x.name), map[string]bool{"date": true})
	own := map[string]bool{}
	for name := range reserved {
		own[name] = true
	}
	for _, c := range t.Columns {
		x.fields = append(x.fields, &field{Column: c, name: unlike(identifier(c.Name), own)})
	}
	return x
}

// decide says of each table whether its rows are members or facts.
func decide(tables []*table) {
	for _, t := range tables {
		for _, r := range t.refs {
			r.to.referred = true
		}
	}
	for _, t := range tables {
		numbers, dates := 0, 0
		for _, f := range t.fields {
			switch {
			case slices.Contains(t.key, f) || t.refersBy(f):
			case f.Is.Kind == column.Date || f.Is.Kind == column.Timestamp:
				dates++
			case f.Is.Numeric() && !t.isName(f):
				numbers++
			}
		}
		inKey := slices.ContainsFunc(t.key, func(f *field) bool { return f.Is.Kind == column.Date || f.Is.Kind == column.Timestamp })
		switch {
		case t.key == nil && !t.referred:
			t.as = asNothing
		case t.referred:
			t.as = asDimension
		case len(t.refs) > 0 && (numbers+dates > 0 || len(t.key) > 1), (dates > 0 || inKey) && numbers > 0:
			t.as = asFact
		default:
			t.as = asDimension
		}
		if t.as != asDimension && t.effective != nil { // its rows are facts of that time
			t.key, t.effective = append(t.key, t.effective), nil
		}
	}
}

// refersBy reports whether a field is part of a reference.
func (t *table) refersBy(f *field) bool {
	return slices.ContainsFunc(t.refs, func(r *ref) bool { return slices.Contains(r.by, f) })
}

// isName reports whether the numbers of a field name something rather than count it.
func (t *table) isName(f *field) bool {
	return f.Is.Kind == column.Integer && (likeKey(f.name) || f.name == "year" || strings.HasSuffix(f.name, "_year"))
}

// evidence says how many of a number there are.
func evidence(n, of int64) string { return fmt.Sprintf("%d of %d", n, of) }
