package source

import (
	"context"
	"fmt"
	"iter"
	"slices"
	"strings"
	"unsafe"

	"ironmonger/internal/column"
	"ironmonger/internal/database"
	"ironmonger/internal/diag"
	"ironmonger/internal/parse"
	"ironmonger/internal/star"
)

// table is a table or query of a database. Its rows have numbers in place of lines.
type table struct {
	in     *Inputs
	of     *star.Source
	name   string
	query  database.Query
	fields []column.Field
	at     []int // of each field, its column in the query
	since  int   // the column of the query by which new rows are known, or -1
}

// tableRows is how many rows of a table are taken at a time.
const tableRows = 4096

// bound is the query that a source means, without its columns.
func bound(s *star.Source, bind func(string) (star.Value, error)) (database.Query, error) {
	q := database.Query{Table: s.Table.Text}
	if q.Table == "" {
		var names []string
		q.Texts, names = star.SplitQuery(s.Query.Text, s.Database.Kind)
		for _, name := range names {
			value, err := bind(name)
			if err != nil {
				return q, err
			}
			q.Args = append(q.Args, value)
		}
	}
	for _, w := range s.OrderBy {
		q.OrderBy = append(q.OrderBy, w.Text)
	}
	return q, nil
}

// at returns an error the place of what a source reads in the model.
func at(s *star.Source, err error) error {
	w, key := s.Table, ".table"
	if w.Text == "" {
		w, key = s.Query, ".query"
	}
	return diag.List{{At: w.At, Subject: "sources." + s.Text + key, Message: err.Error()}}
}

func (in *Inputs) tableColumns(
	ctx context.Context,
	s *star.Source,
	bind func(string) (star.Value, error),
) ([]star.Column, error) {
	q, err := bound(s, bind)
	if err != nil {
		return nil, at(s, err)
	}
	db, err := database.Open(ctx, s.Database, in.Root.Name())
	if err != nil {
		return nil, at(s, err)
	}
	defer db.Close()
	there, err := db.Columns(ctx, q)
	if err != nil {
		return nil, at(s, err)
	}
	var columns []star.Column
	for _, c := range there {
		columns = append(columns, star.Column{Name: star.Name{Text: c.Name}, Type: c.Type})
	}
	return columns, nil
}

// openTable checks that a table or query has the columns that s takes.
func (in *Inputs) openTable(
	ctx context.Context,
	s *star.Source,
	bind func(string) (star.Value, error),
	want func(string) bool,
) (*table, error) {
	q, err := bound(s, bind)
	if err != nil {
		return nil, err
	}
	t := &table{in: in, of: s, query: q, name: s.Database.Text + ": " + s.Table.Text, since: -1}
	if s.Table.Text == "" {
		t.name = s.Database.Text + ": " + s.Text
		if len(q.Args) > 0 {
			var values []string
			for _, a := range q.Args {
				values = append(values, a.Text)
			}
			t.name += " (" + strings.Join(values, ", ") + ")"
		}
	}
	there, err := in.tableColumns(ctx, s, bind)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, c := range there {
		if slices.Contains(names, c.Text) {
			return nil, at(s, fmt.Errorf("there are two columns called %s", c.Text))
		}
		names = append(names, c.Text)
	}
	has := func(w star.Name, name, key string) error {
		if slices.Contains(names, name) {
			return nil
		}
		return diag.List{
			{
				At:      w.At,
				Subject: "sources." + s.Text + key,
				Message: fmt.Sprintf("there is no column %s%s", name, diag.Suggest(name, names)),
			},
		}
	}
	for _, w := range s.OrderBy {
		if err := has(w, w.Text, ".order_by"); err != nil {
			return nil, err
		}
	}
	for _, c := range s.Columns {
		if err := has(c.Name, c.InFile(), ".columns"); err != nil {
			return nil, err
		}
		wanted := want(c.Text)
		if wanted {
			t.fields = append(t.fields, column.Field{Name: c.Text, Type: c.Type})
			t.at = append(t.at, len(t.query.Columns))
		}
		watched := s.Since != nil && s.Since.Column.Text == c.Text
		if watched {
			t.since = len(t.query.Columns)
			if from, ok := in.marks[FileOf{s.Text, t.name}]; ok {
				t.query.Since = database.Since{Column: c.InFile(), From: from}
			}
		}
		if wanted || watched || in.Model.Uses(s) > 1 { // others may want it, and are to see the same rows
			t.query.Columns = append(t.query.Columns, c.InFile())
		}
		if s.OrderBy == nil { // the same order whatever is wanted, so that rows keep their numbers
			t.query.OrderBy = append(t.query.OrderBy, c.InFile())
		}
	}
	return t, nil
}

func (t *table) Fields() []column.Field { return t.fields }

func (t *table) Names() []string { return []string{t.name} }

func (t *table) Size() int64 { return 0 }

// Pieces yields the rows.
func (t *table) Pieces(ctx context.Context) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		for p, err := range once(t.in, t.of, fmt.Sprintf("%s %q", t.of.Database.Text, t.query), t.read(ctx), func(p *tablePiece) int64 { return int64(len(p.data) + 4*len(p.ends)) }, func(p *tablePiece) *tablePiece {
			return &tablePiece{of: t, first: p.first, n: p.n, data: p.data, ends: p.ends}
		}) {
			if !yield(p, err) {
				return
			}
		}
	}
}

// read asks the database, or whoever has asked it before.
func (t *table) read(ctx context.Context) iter.Seq2[*tablePiece, error] {
	if g := t.in.given[t.of]; g != nil {
		return t.readGiven(ctx, g)
	}
	return func(yield func(*tablePiece, error) bool) {
		db, err := database.Open(ctx, t.of.Database, t.in.Root.Name())
		if err != nil {
			yield(nil, at(t.of, err))
			return
		}
		defer db.Close()
		p := &tablePiece{of: t}
		stopped := false
		latest := t.newLatest()
		defer func() { t.in.reach(FileOf{t.of.Text, t.name}, &latest.value) }()
		err = db.Each(ctx, t.query, func(values [][]byte) error {
			latest.see(values)
			p.add(values[:len(t.query.Columns)])
			if p.n < tableRows {
				return nil
			}
			if stopped = !yield(p, nil); stopped {
				return errStopped
			}
			p = &tablePiece{of: t, first: p.first + int64(p.n)}
			return ctx.Err()
		})
		switch {
		case stopped:
		case ctx.Err() != nil:
			yield(nil, ctx.Err())
		case err != nil:
			yield(nil, at(t.of, err))
		case p.n > 0:
			yield(p, nil)
		}
	}
}

// latest finds the greatest value of the column by which new rows are known.
type latest struct {
	at     int
	value  column.Column // of one row, once there is one
	one    column.Column
	reader *parse.Reader
}

func (t *table) newLatest() *latest {
	l := &latest{at: t.since, reader: parse.NewReader(t.in.Model.Zone)}
	if t.of.Since != nil {
		l.value.Type, l.one.Type = t.of.Since.Type, t.of.Since.Type
		l.one.Resize(1)
	}
	return l
}

// see looks at a row, whose values are the database's until it returns.
func (l *latest) see(values [][]byte) {
	if l.at < 0 || values[l.at] == nil || l.reader.Set(&l.one, 0, string(values[l.at])) != nil || l.one.Null[0] {
		return
	}
	if len(l.value.Null) == 0 {
		l.value.Append(&l.one, 0)
	} else if l.one.Int[0] > l.value.Int[0] {
		l.value.Set(0, &l.one, 0)
	}
}

var errStopped = fmt.Errorf("nobody wants more rows")

// Samples yields the first rows.
func (t *table) Samples(ctx context.Context) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		for p, err := range t.Pieces(ctx) {
			yield(p, err)
			return
		}
	}
}

// Row reads up to a row.
func (t *table) Row(ctx context.Context, name string, line int64, b *column.Batch) (int, error) {
	if name != t.name {
		return -1, nil
	}
	for p, err := range t.Pieces(ctx) {
		if err != nil {
			return -1, err
		}
		if r := p.(*tablePiece); line <= r.first+int64(r.n) {
			return int(line - r.first - 1), p.Fill(b)
		}
	}
	return -1, nil
}

// tablePiece is some rows of a table as text.
type tablePiece struct {
	of    *table
	first int64   // rows before
	lines []int64 // the numbers of the rows; nil if they follow the rows before
	n     int
	data  []byte
	ends  []int32 // of each value in data; -1 is null
}

func (p *tablePiece) add(values [][]byte) {
	for _, v := range values {
		p.data = append(p.data, v...)
		end := int32(len(p.data))
		if v == nil {
			end = -1
		}
		p.ends = append(p.ends, end)
	}
	p.n++
}

// Fill turns the texts into typed rows.
func (p *tablePiece) Fill(b *column.Batch) error {
	b.Reset(p.n)
	reader := parse.NewReader(p.of.in.Model.Zone)
	text := unsafe.String(unsafe.SliceData(p.data), len(p.data)) // nothing writes there any more
	b.From = column.Origin{File: p.of.name, Line: b.From.Line[:0]}
	from, at := 0, 0
	for i := range p.n {
		if p.lines != nil {
			b.From.Line = append(b.From.Line, p.lines[i])
		} else {
			b.From.Line = append(b.From.Line, p.first+int64(i)+1)
		}
		k := 0
		for c := range p.of.query.Columns {
			end, s, wanted := int(p.ends[at]), "", k < len(p.of.at) && p.of.at[k] == c
			at++
			if end >= 0 {
				s, from = text[from:end], end
			}
			if !wanted {
				continue
			}
			k++
			if end < 0 {
				b.Cols[k-1].SetNull(i)
			} else if err := reader.Set(&b.Cols[k-1], i, s); err != nil {
				b.SetAside(i, p.of.fields[k-1].Name, p.of.fields[k-1].Name+" "+err.Error(), diag.Clip(diag.Printable(s), 60))
			}
		}
	}
	b.From.Raw = p.raw
	return nil
}

// raw writes a row as CSV.
func (p *tablePiece) raw(i int) string {
	columns := len(p.of.query.Columns)
	from := 0
	for at := i*columns - 1; at >= 0; at-- { // where the last value before it ends that is not null
		if p.ends[at] >= 0 {
			from = int(p.ends[at])
			break
		}
	}
	values := make([]string, columns)
	for c, end := range p.ends[i*columns : (i+1)*columns] {
		if end >= 0 {
			values[c], from = string(p.data[from:end]), int(end)
		}
	}
	return Record(values)
}
