// Package preview shows rows: of a source, as they stand in its files or as they are once shaped, and of a dimension
// or fact, as they stand in the warehouse, with keys turned back into natural keys where that is asked for; or, in
// place of rows, figures of their columns. It writes nothing.
package preview

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/expr"
	"ironmonger/internal/ledger"
	"ironmonger/internal/parse"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/profile"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
	"ironmonger/internal/warehouse"
)

// Wish says which rows and columns are wanted.
type Wish struct {
	Rows    int      // at most
	Columns []string // nil for all
	Where   string   // a condition on the rows; "" for all
	Count   bool     // look at all rows, to say how many there are
	Natural bool     // natural keys in place of surrogate keys
	Figures bool     // figures of the columns, over all rows, in place of rows
	AsRead  bool     // of a source, all columns of its files, as text
	Aside   bool     // of a source, the rows that are set aside, with their reasons
	Until   string   // of a source, the stage behind which nothing is done; "" for the last
}

// Rows is what was found.
type Rows struct {
	Columns  []string    `json:"columns"`
	Rows     [][]*string `json:"rows"` // values as text; null is null
	Places   []string    `json:"places,omitempty"`
	Seen     int64       `json:"rows_seen"`    // looked at
	Matched  int64       `json:"rows_matched"` // that met the condition
	SetAside int64       `json:"rows_set_aside,omitempty"`
	LeftOut  int64       `json:"rows_left_out,omitempty"`
	All      bool        `json:"complete"` // all rows were looked at
	Aside    bool        `json:"-"`        // rows that are set aside are shown

	Stages []transform.Count  `json:"stages,omitempty"` // of a source of which all rows were looked at
	Passed []transform.Passed `json:"passed_over,omitempty"`

	Figures []profile.Column `json:"figures,omitempty"`
}

// picker takes the wanted rows out of batches.
type picker struct {
	wish  Wish
	where *expr.Program
	at    []int // the columns
	out   *Rows

	profile *profile.Profile // nil if rows are wanted
	matched []int32          // of the batch at hand
}

func newPicker(fields []column.Field, wish Wish) (*picker, error) {
	if wish.Figures {
		wish.Count, wish.Rows = true, 0
	}
	p := &picker{wish: wish, out: &Rows{Rows: [][]*string{}, All: true}}
	if wish.Columns == nil {
		wish.Columns = column.Names(fields)
	}
	for _, name := range wish.Columns {
		k := column.Find(fields, name)
		if k < 0 {
			return nil, fmt.Errorf("there is no column %s%s", name, diag.Suggest(name, column.Names(fields)))
		}
		p.at = append(p.at, k)
	}
	if p.out.Columns = wish.Columns; wish.Aside {
		p.out.Columns, p.out.Aside = []string{"reasons", "row"}, true
	}
	if wish.Figures {
		picked := make([]column.Field, len(p.at))
		for n, k := range p.at {
			picked[n] = fields[k]
		}
		p.profile = profile.New(picked)
	}
	if wish.Where == "" {
		return p, nil
	}
	var err error
	if p.where, err = expr.Compile(wish.Where, fields); err != nil {
		at := 0
		var mistake *expr.Error
		if errors.As(err, &mistake) {
			at = mistake.At
		}
		return nil, &diag.Error{
			At:      diag.Place{File: "--where", Line: 1, Column: at + 1},
			Message: err.Error(),
			Text:    wish.Where,
		}
	}
	if p.where.Type().Kind != column.Boolean {
		return nil, fmt.Errorf("--where wants a condition, and %s is of type %s", wish.Where, p.where.Type())
	}
	return p, nil
}

// take looks at a batch and says whether more is wanted.
func (p *picker) take(b *column.Batch, value func(k, i int) *string) bool {
	var holds *expr.Result
	if p.where != nil {
		holds = p.where.Eval(b)
	}
	p.matched = p.matched[:0]
	for i := range b.N {
		if !p.wish.Count && len(p.out.Rows) == p.wish.Rows {
			p.out.All = false
			return false
		}
		p.out.Seen++
		if b.From.Line != nil && b.Bad(i) {
			if p.out.SetAside++; p.wish.Aside && len(p.out.Rows) < p.wish.Rows {
				p.aside(b, i)
			}
			continue
		}
		if p.wish.Aside || holds != nil && !holds.True(i) {
			continue
		}
		p.out.Matched++
		p.matched = append(p.matched, int32(i))
		if len(p.out.Rows) == p.wish.Rows {
			continue
		}
		var row []*string
		for _, k := range p.at {
			row = append(row, value(k, i))
		}
		p.out.Rows = append(p.out.Rows, row)
		if b.From.Line != nil {
			p.out.Places = append(p.out.Places, diag.Place{File: b.From.File, Line: int(b.From.Line[i])}.String())
		}
	}
	if p.profile != nil {
		cols := make([]*column.Column, len(p.at))
		for n, k := range p.at {
			cols[n] = &b.Cols[k]
		}
		p.profile.Add(cols, p.matched)
	}
	return true
}

// aside takes a row that is set aside, with its reasons.
func (p *picker) aside(b *column.Batch, i int) {
	why := ledger.Aside{Content: ledger.Content(b.From.Raw(i))}
	for _, f := range b.Faults {
		if int(f.Row) == i {
			why.Causes = append(why.Causes, ledger.Cause{Reason: f.Reason, Of: f.Of, Value: f.Detail})
		}
	}
	reasons := why.Reasons()
	p.out.Rows = append(p.out.Rows, []*string{&reasons, &why.Content})
	p.out.Places = append(p.out.Places, diag.Place{File: b.From.File, Line: int(b.From.Line[i])}.String())
}

// result returns what was found.
func (p *picker) result() *Rows {
	if p.profile != nil {
		p.out.Figures = p.profile.Columns()
	}
	return p.out
}

func plain(b *column.Batch) func(k, i int) *string {
	return func(k, i int) *string {
		if b.Cols[k].Null[i] {
			return nil
		}
		s := b.Cols[k].Value(i)
		return &s
	}
}

var errEnough = errors.New("no more rows are wanted")

// Source shows rows of a source as they are once shaped, or as they stand in its files; rows that are set aside
// are counted.
func Source(ctx context.Context, in *source.Inputs, s *star.Source, wish Wish) (*Rows, error) {
	switch {
	case wish.AsRead && s.Standing != nil:
		return nil, fmt.Errorf("source %s has the rows of %s: ironmonger show %s", s.Text, s.Standing, s.Standing)
	case wish.AsRead && !s.Reads():
		return nil, fmt.Errorf("source %s is made of others: it has no rows of its own as they are read", s.Text)
	case wish.AsRead && s.DrivenBy != nil: // which files there are, its list says
		s = s.Until("read")
	case wish.AsRead:
		var err error
		if s, err = in.AsRead(ctx, s, in.Model.Bound); err != nil {
			return nil, err
		}
	}
	if wish.Until != "" && !wish.AsRead {
		s = s.Until(wish.Until)
	}
	p, err := newPicker(s.Fields(), wish)
	if err != nil {
		return nil, err
	}
	matched := map[string]bool{}
	for _, c := range s.Matched {
		matched[c.Text] = true
	}
	flow, err := transform.Open(ctx, in, s, func(c string) bool { return !matched[c] })
	if err != nil {
		return nil, err
	}
	err = pipeline.Batches(ctx, flow, runtime.GOMAXPROCS(0), func(b *column.Batch) error {
		if !p.take(b, plain(b)) {
			return errEnough
		}
		return nil
	})
	if err == nil {
		p.out.Stages = flow.Counts()
	}
	p.out.Passed = flow.Passed()
	for _, n := range flow.LeftOut() {
		p.out.LeftOut += n
	}
	if err == errEnough {
		err = nil
	}
	return p.result(), err
}

// Dimension shows rows of a dimension.
func Dimension(
	ctx context.Context,
	r warehouse.Reader,
	s *schema.Star,
	d *schema.Dimension,
	wish Wish,
) (*Rows, error) {
	return table(ctx, r, s, d.Table, d.Keys, wish)
}

// Fact shows rows of a fact.
func Fact(ctx context.Context, r warehouse.Reader, s *schema.Star, f *schema.Fact, wish Wish) (*Rows, error) {
	return table(ctx, r, s, f.Table, f.Keys, wish)
}

func table(
	ctx context.Context,
	r warehouse.Reader,
	s *schema.Star,
	t *warehouse.Table,
	keys []*star.Key,
	wish Wish,
) (*Rows, error) {
	fields := t.Fields()
	p, err := newPicker(fields, wish)
	if err != nil {
		return nil, err
	}
	if there, err := r.Describe(ctx, t.Name); err != nil {
		return nil, err
	} else if there == nil {
		return nil, fmt.Errorf("table %s is not there yet: ironmonger load", t.Name)
	}
	q := warehouse.Query{Table: t.Name, Fields: fields, Convert: t.Borrowed, OrderBy: t.Primary}
	if wish.Where == "" && !p.wish.Count {
		q.Limit = wish.Rows + 1 // one more tells whether these are all
	}
	rows, err := r.Read(ctx, q)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	b := column.NewBatch(fields)
	for {
		more, err := rows.Next(b)
		if err != nil {
			return nil, err
		}
		if !more || !p.take(b, plain(b)) {
			break
		}
	}
	if err := rows.Close(); err != nil || !wish.Natural {
		return p.result(), err
	}
	return p.result(), p.natural(ctx, r, s, fields, keys)
}

// natural puts natural keys in place of the surrogate keys found.
func (p *picker) natural(
	ctx context.Context,
	r warehouse.Reader,
	s *schema.Star,
	fields []column.Field,
	keys []*star.Key,
) error {
	for _, key := range keys {
		for n, k := range p.at {
			if fields[k].Name != key.Column() {
				continue
			}
			names, err := naturals(ctx, r, s.Dimension(key.Dimension), p.out.Rows, n)
			if err != nil {
				return err
			}
			for _, row := range p.out.Rows {
				if row[n] != nil {
					if name, ok := names[*row[n]]; ok {
						row[n] = &name
					}
				}
			}
		}
	}
	return nil
}

// naturals returns the natural keys, or labels, of the surrogate keys in column n of some rows.
func naturals(
	ctx context.Context,
	r warehouse.Reader,
	d *schema.Dimension,
	rows [][]*string,
	n int,
) (map[string]string, error) {
	names := map[string]string{}
	for _, special := range d.Specials {
		names[fmt.Sprint(special.Key)] = special.Label
	}
	match := column.Column{Type: column.Type{Kind: column.Integer}}
	match.Resize(1)
	reader := parse.NewReader(nil)
	wanted := column.Column{Type: match.Type}
	for _, row := range rows {
		if row[n] != nil && names[*row[n]] == "" {
			if err := reader.Set(&match, 0, *row[n]); err != nil {
				return nil, err
			}
			names[*row[n]] = *row[n]
			wanted.Append(&match, 0)
		}
	}
	fields := append(d.Table.Fields()[:1:1], d.NaturalKey...)
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{
			Table:   d.Table.Name,
			Fields:  fields,
			Convert: d.Table.Borrowed,
			By:      []string{d.KeyColumn()},
			Match:   []*column.Column{&wanted},
		},
	)
	if err != nil {
		return nil, err
	}
	for i := range b.N {
		var parts []string
		for k := range d.NaturalKey {
			parts = append(parts, b.Cols[1+k].Value(i))
		}
		names[b.Cols[0].Value(i)] = strings.Join(parts, ", ")
	}
	return names, nil
}
