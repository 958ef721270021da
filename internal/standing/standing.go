// Package standing reads rows of the star itself, for sources that are made of a dimension or a fact of the model (rule
// R37).
//
// Whoever asks first for the rows gets all of them read and kept on disk, since the transaction that reads them may be
// the one that writes what is made of them. They come in the order of the primary key, without special members.
package standing

import (
	"context"
	"errors"
	"iter"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/spill"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Star opens dimensions and facts of a star as a reader sees them.
type Star struct {
	r     warehouse.Reader
	s     *schema.Star
	grown *Grown // nil if all rows are read
}

// New returns the star that a reader sees.
func New(r warehouse.Reader, s *schema.Star) *Star { return &Star{r, s, nil} }

// Grown says that a fact has only got rows since others were added up, so that these are enough with the sums that
// stand.
type Grown struct {
	*star.Rollup
	Runs []int64 // those that wrote rows since
	Rows int64   // how many they wrote
}

// ErrOthers says that a fact has other rows than it was said to have got.
var ErrOthers = errors.New("the fact has other rows of these runs than the ledger says")

// Growing returns the star of which only the rows are read that a fact has got.
func (x *Star) Growing(g *Grown) *Star { return &Star{x.r, x.s, g} }

// Sums returns the groups of a source that stand.
func (x *Star) Sums(of *star.Source) (source.Input, map[string]string) {
	if x.grown == nil || of != x.grown.Of.Source {
		return nil, nil
	}
	wanted := map[string]bool{}
	for _, name := range x.grown.Columns {
		wanted[name] = true
	}
	standing := &star.Standing{Fact: x.grown.Of}
	return New(x.r, x.s).Open(standing, func(c string) bool { return wanted[c] }), x.grown.Columns
}

// Open returns the rows of a dimension or a fact, of which columns are wanted by their names.
func (x *Star) Open(of *star.Standing, want func(column string) bool) source.Input {
	in := &input{r: x.r, of: of, name: of.String()}
	for _, f := range of.Fields() {
		if want(f.Name) {
			in.fields = append(in.fields, f)
		}
	}
	if of.Dimension != nil {
		in.table = x.s.Dimension(of.Dimension).Table
	}
	for _, f := range x.s.Facts {
		if f.Fact == of.Fact {
			in.table, in.fact = f.Table, f
		}
	}
	if x.grown != nil && of.Fact == x.grown.Base {
		in.grown = x.grown
	}
	for _, k := range of.Keys() {
		n := &natural{table: x.s.Dimension(k.Dimension).Table, key: k}
		for p := range k.Dimension.NaturalKey {
			n.wanted = n.wanted || want(k.Natural(p))
		}
		n.wanted = n.wanted || of.Fact != nil && of.Fact.Reverses()
		in.keys = append(in.keys, n)
	}
	return in
}

// input is the rows of a table.
type input struct {
	r      warehouse.Reader
	of     *star.Standing
	name   string
	table  *warehouse.Table
	fact   *schema.Fact // or nil
	fields []column.Field
	keys   []*natural
	rows   *spill.Rows
	grown  *Grown // nil if all rows are read
}

// natural is the natural keys of the members that a key of a fact points to.
type natural struct {
	table  *warehouse.Table
	key    *star.Key
	wanted bool
	row    map[int64]int
	parts  *column.Batch
}

func (n *natural) read(ctx context.Context, r warehouse.Reader) error {
	d := n.key.Dimension
	fields := append([]column.Field{{Name: d.KeyColumn(), Type: column.Type{Kind: column.Integer}}}, d.NaturalKey...)
	n.row, n.parts = map[int64]int{}, column.NewBatch(fields)
	q := warehouse.Query{Table: n.table.Name, Fields: fields, Convert: n.table.Borrowed}
	return warehouse.Each(ctx, r, q, func(b *column.Batch) error {
		for i := range b.N {
			n.row[b.Cols[0].Int[i]] = n.parts.N
			for k := range b.Cols {
				n.parts.Cols[k].AppendOwn(&b.Cols[k], i)
			}
			n.parts.N++
		}
		return nil
	})
}

func (in *input) Fields() []column.Field { return in.fields }
func (in *input) Names() []string        { return []string{in.name} }
func (in *input) Size() int64            { return 0 }

func (in *input) Samples(ctx context.Context) iter.Seq2[column.Piece, error] { return in.Pieces(ctx) }

// Pieces yields the rows.
func (in *input) Pieces(ctx context.Context) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		if in.rows == nil {
			if err := in.read(ctx); err != nil {
				yield(nil, err)
				return
			}
		}
		for p, err := range in.rows.Part(0).Pieces(ctx) {
			if err != nil {
				yield(nil, err)
				return
			}
			if !yield(piece{in, p}, nil) {
				return
			}
		}
	}
}

// Row fills b with the rows around one, and returns it.
func (in *input) Row(ctx context.Context, name string, line int64, b *column.Batch) (int, error) {
	if name != in.name {
		return -1, nil
	}
	for p, err := range in.Pieces(ctx) {
		if err == nil {
			err = p.Fill(b)
		}
		if err != nil {
			return -1, err
		}
		if i := slices.Index(b.From.Line, line); i >= 0 {
			return i, nil
		}
	}
	return -1, nil
}

// piece is rows that were kept.
type piece struct {
	in   *input
	kept column.Piece
}

func (p piece) Fill(b *column.Batch) error {
	kept := column.NewBatch(p.in.rows.Part(0).Fields())
	if err := p.kept.Fill(kept); err != nil {
		return err
	}
	b.Reset(kept.N)
	for k := range p.in.fields { // others are worked out later
		b.Cols[k] = kept.Cols[k]
	}
	b.From = column.Origin{File: p.in.name, Line: make([]int64, kept.N), Raw: func(i int) string {
		values := make([]string, len(p.in.fields))
		for k := range values {
			if c := &kept.Cols[k]; !c.Null[i] {
				values[k] = c.Value(i)
			}
		}
		return source.Record(values)
	}}
	for i, n := range kept.Cols[len(p.in.fields)].Int {
		b.From.Line[i] = n + 1
	}
	return nil
}

// read reads the table and keeps its rows.
func (in *input) read(ctx context.Context) (err error) {
	if in.rows, err = spill.New(in.fields, 1); err != nil {
		return err
	}
	if there, err := in.r.Describe(ctx, in.table.Name); err != nil || there == nil {
		return err // there are no rows yet
	}
	for _, n := range in.keys {
		if n.wanted {
			if err := n.read(ctx, in.r); err != nil {
				return err
			}
		}
	}
	last := map[digest.Sum]int64{}
	if in.fact != nil && in.fact.Reverses() {
		if err := in.entries(ctx, last); err != nil {
			return err
		}
	}
	n := int64(0)
	err = in.each(ctx, func(b *column.Batch, cols []*column.Column) {
		n += int64(b.N)
		stands := in.standing(b, last)
		for i := range b.N {
			if stands(i) {
				in.rows.Put(0, cols, i)
			}
		}
	})
	if err == nil && in.grown != nil && n != in.grown.Rows {
		err = ErrOthers
	}
	return err
}

// tableFields lists the columns of the table that are read.
func (in *input) tableFields() []column.Field {
	all := in.table.Fields()
	if in.fact != nil && in.fact.Reverses() {
		return all
	}
	return slices.DeleteFunc(slices.Clone(all), func(f column.Field) bool {
		key := slices.ContainsFunc(in.keys, func(n *natural) bool { return n.wanted && n.key.Column() == f.Name })
		stands := f.Name == schema.IsCurrent || in.of.Dimension != nil && f.Name == in.of.Dimension.KeyColumn()
		return !key && !stands && column.Find(in.fields, f.Name) < 0
	})
}

// each calls f for the rows of the table: their columns, and those that are wanted of them.
func (in *input) each(ctx context.Context, f func(b *column.Batch, cols []*column.Column)) error {
	fields := in.tableFields()
	q := warehouse.Query{Table: in.table.Name, Fields: fields, Convert: in.table.Borrowed, OrderBy: in.table.Primary}
	if in.grown != nil {
		runs := column.Column{Type: column.Type{Kind: column.Integer}}
		for _, run := range in.grown.Runs {
			runs.AppendInt(run)
		}
		q.By, q.Match = []string{schema.LoadRun}, []*column.Column{&runs}
	}
	made := column.NewBatch(in.fields)
	return warehouse.Each(ctx, in.r, q, func(b *column.Batch) error {
		cols := make([]*column.Column, len(in.fields))
		for k, field := range in.fields {
			if at := column.Find(fields, field.Name); at >= 0 {
				cols[k] = &b.Cols[at]
				continue
			}
			cols[k] = &made.Cols[k]
			in.natural(b, field.Name, cols[k])
		}
		f(b, cols)
		return nil
	})
}

// natural fills a column with a part of the natural keys of the members that facts point to.
func (in *input) natural(b *column.Batch, name string, c *column.Column) {
	c.Resize(b.N)
	for _, n := range in.keys {
		for part := range n.key.Dimension.NaturalKey {
			if n.key.Natural(part) != name {
				continue
			}
			keys := &b.Cols[column.Find(in.tableFields(), n.key.Column())]
			for i := range b.N {
				if at, ok := n.row[keys.Int[i]]; ok && !keys.Null[i] {
					c.Set(i, &n.parts.Cols[1+part], at)
				} else {
					c.SetNull(i)
				}
			}
		}
	}
}

// standing returns whether row i is what stands: no special member, of the versions that are wanted, and the last
// entry.
func (in *input) standing(b *column.Batch, last map[digest.Sum]int64) func(i int) bool {
	fields := in.tableFields()
	if d := in.of.Dimension; d != nil {
		current := column.Find(fields, schema.IsCurrent)
		key := column.Find(fields, d.KeyColumn())
		return func(i int) bool {
			special := b.Cols[key].Int[i] < 0 && d.LookedUp == nil
			return !special && (in.of.Versions || current < 0 || b.Cols[current].Int[i] != 0)
		}
	}
	if !in.fact.Reverses() {
		return func(int) bool { return true }
	}
	entry, sign := column.Find(fields, star.EntryNumber), column.Find(fields, star.EntrySign)
	grain := in.grain(b)
	return func(i int) bool {
		return b.Cols[sign].Int[i] > 0 && b.Cols[entry].Int[i] >= last[grain(i)]
	}
}

// entries finds the last entry of each fact.
func (in *input) entries(ctx context.Context, last map[digest.Sum]int64) error {
	entry := column.Find(in.tableFields(), star.EntryNumber)
	return in.each(ctx, func(b *column.Batch, _ []*column.Column) {
		grain := in.grain(b)
		for i, n := range b.Cols[entry].Int[:b.N] {
			if n > 1 {
				g := grain(i)
				last[g] = max(last[g], n)
			}
		}
	})
}

// grain returns what tells fact i from others, with natural keys in the place of keys.
func (in *input) grain(b *column.Batch) func(i int) digest.Sum {
	var cols []*column.Column
	fields := in.tableFields()
	for _, g := range in.fact.Grain {
		if g.Key == nil {
			cols = append(cols, &b.Cols[column.Find(fields, g.Column)])
			continue
		}
		for part, f := range g.Key.Dimension.NaturalKey {
			c := &column.Column{Type: f.Type}
			in.natural(b, g.Key.Natural(part), c)
			cols = append(cols, c)
		}
	}
	var maker digest.Maker
	return func(i int) digest.Sum { return maker.Of(cols, i) }
}
