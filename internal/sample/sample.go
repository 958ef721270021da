// Package sample shows rows: of a source, as they are once shaped, and of a dimension or fact, as they stand
// in the warehouse, with keys turned back into natural keys where that is asked for. It writes nothing.
package sample

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/layout"
	"ironmonger/internal/place"
	"ironmonger/internal/shape"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Wish says which rows and columns are wanted.
type Wish struct {
	Rows    int      // at most
	Columns []string // nil for all
	Where   string   // a condition on the rows; "" for all
	Count   bool     // look at all rows, to say how many there are
	Natural bool     // natural keys in place of surrogate keys
}

// Rows is what was found.
type Rows struct {
	Columns  []string    `json:"columns"`
	Rows     [][]*string `json:"rows"` // values as text; null is null
	Places   []string    `json:"places,omitempty"`
	Seen     int64       `json:"rows_seen"`    // looked at
	Matched  int64       `json:"rows_matched"` // that met the condition
	SetAside int64       `json:"rows_set_aside,omitempty"`
	All      bool        `json:"complete"` // all rows were looked at
}

// picker takes the wanted rows out of batches.
type picker struct {
	wish  Wish
	where *expr.Program
	at    []int // the columns
	out   *Rows
}

func newPicker(fields []column.Field, wish Wish) (*picker, error) {
	p := &picker{wish: wish, out: &Rows{Rows: [][]*string{}, All: true}}
	if wish.Columns == nil {
		wish.Columns = column.Names(fields)
	}
	for _, name := range wish.Columns {
		k := column.Find(fields, name)
		if k < 0 {
			return nil, fmt.Errorf("there is no column %s%s", name, place.Suggest(name, column.Names(fields)))
		}
		p.at = append(p.at, k)
	}
	p.out.Columns = wish.Columns
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
		return nil, &place.Error{At: place.Place{File: "--where", Line: 1, Column: at + 1}, Message: err.Error(), Text: wish.Where}
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
	for i := range b.N {
		if !p.wish.Count && len(p.out.Rows) == p.wish.Rows {
			p.out.All = false
			return false
		}
		p.out.Seen++
		if b.From.Line != nil && b.Bad(i) {
			p.out.SetAside++
			continue
		}
		if holds != nil && !holds.True(i) {
			continue
		}
		p.out.Matched++
		if len(p.out.Rows) == p.wish.Rows {
			continue
		}
		var row []*string
		for _, k := range p.at {
			row = append(row, value(k, i))
		}
		p.out.Rows = append(p.out.Rows, row)
		if b.From.Line != nil {
			p.out.Places = append(p.out.Places, place.Place{File: b.From.File, Line: int(b.From.Line[i])}.String())
		}
	}
	return true
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

// Source shows rows of a source as they are once shaped; rows that it sets aside are counted.
func Source(ctx context.Context, root *os.Root, m *star.Model, s *star.Source, wish Wish) (*Rows, error) {
	all := func(string) bool { return true }
	p, err := newPicker(s.Fields(), wish)
	if err != nil {
		return nil, err
	}
	files, err := source.Open(root, s, m.Zone, 0, all)
	if err != nil {
		return nil, err
	}
	sh, err := shape.New(s, all)
	if err != nil {
		return nil, err
	}
	b := column.NewBatch(sh.Fields())
	for piece, err := range files.Pieces(ctx) {
		if err == nil {
			err = piece.Fill(b)
		}
		if err != nil {
			return nil, err
		}
		sh.Apply(b)
		if !p.take(b, plain(b)) {
			break
		}
	}
	return p.out, nil
}

// Dimension shows rows of a dimension.
func Dimension(ctx context.Context, r warehouse.Reader, s *layout.Star, d *layout.Dimension, wish Wish) (*Rows, error) {
	return table(ctx, r, s, d.Table, d.Keys, wish)
}

// Fact shows rows of a fact.
func Fact(ctx context.Context, r warehouse.Reader, s *layout.Star, f *layout.Fact, wish Wish) (*Rows, error) {
	return table(ctx, r, s, f.Table, f.Keys, wish)
}

func table(ctx context.Context, r warehouse.Reader, s *layout.Star, t *warehouse.Table, keys []*star.Key, wish Wish) (*Rows, error) {
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
	q := warehouse.Query{Table: t.Name, Fields: fields, OrderBy: t.Primary}
	if wish.Where == "" && !wish.Count {
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
		return p.out, err
	}
	return p.out, p.natural(ctx, r, s, fields, keys)
}

// natural puts natural keys in place of the surrogate keys found.
func (p *picker) natural(ctx context.Context, r warehouse.Reader, s *layout.Star, fields []column.Field, keys []*star.Key) error {
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

// naturals gives the natural keys, or labels, of the surrogate keys in column n of some rows.
func naturals(ctx context.Context, r warehouse.Reader, d *layout.Dimension, rows [][]*string, n int) (map[string]string, error) {
	names := map[string]string{}
	for _, special := range d.Specials {
		names[fmt.Sprint(special.Key)] = special.Label
	}
	match := column.Column{Type: column.Type{Kind: column.Integer}}
	match.Resize(1)
	reader := column.NewReader(nil)
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
	b, err := warehouse.ReadAll(ctx, r, warehouse.Query{Table: d.Table.Name, Fields: fields, By: []string{d.KeyColumn()}, Match: []*column.Column{&wanted}})
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
