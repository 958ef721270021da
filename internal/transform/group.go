package transform

import (
	"context"
	"fmt"
	"iter"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/star"
)

// groupFields lists the columns of groups that are needed.
func (f *Flow) groupFields() []column.Field {
	var fields []column.Field
	for _, name := range f.of.Group.By {
		fields = append(fields, f.local[column.Find(f.local, name)])
	}
	for _, a := range f.of.Group.Aggregates {
		if f.need[a.Text] {
			fields = append(fields, column.Field{Name: a.Text, Type: a.Type})
		}
	}
	return fields
}

// groups is what has been added up so far.
type groups struct {
	*index
	fields     []column.Field
	cols       []column.Column  // by and aggregates
	aggregates []star.Aggregate // those of which the model's are made
	at         []int            // the column of each aggregate
	by         []int            // and the one in whose order it takes rows, or -1
	outs       []output
	files      []string
	lines      []int64

	size int64         // about how many bytes they take
	room int64         // and may; 0 means any number
	disk *groupsOnDisk // nil while memory has room
}

func (f *Flow) newGroups() *groups {
	by := f.of.Group.By
	g := &groups{index: newIndex(f.local, by), fields: f.groupFields()[:len(by):len(by)]}
	for _, a := range f.of.Group.Aggregates {
		if !f.need[a.Text] {
			continue
		}
		g.outs = append(g.outs, output{a, len(g.fields)})
		for _, part := range partsOf(a, f.local) {
			g.aggregates, g.at = append(g.aggregates, part), append(g.at, column.Find(f.local, part.Column))
			g.by = append(g.by, column.Find(f.local, part.By))
			g.fields = append(g.fields, column.Field{Name: part.Text, Type: part.Type})
		}
	}
	for _, field := range g.fields {
		g.cols = append(g.cols, column.Column{Type: field.Type})
	}
	return g
}

// groups adds rows up.
func (f *Flow) groups(ctx context.Context, rows iter.Seq2[column.Piece, error]) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		g := f.newGroups()
		if g.room = f.room(); g.inexact() {
			g.room = 0
		}
		if err := g.begin(ctx, f); err != nil {
			yield(nil, err)
			return
		}
		err := f.inOrder(ctx, rows, func(b *column.Batch) error {
			if err := g.add(f, b); err != nil {
				return err
			}
			if g.room > 0 && g.size > g.room {
				if err := g.toDisk(f); err != nil {
					return err
				}
			}
			if b.Keep(b.Bad); b.N > 0 && !yield(f.aside(b), nil) {
				return errEnough
			}
			return nil
		})
		if err != nil {
			if err != errEnough {
				yield(nil, err)
			}
			return
		}
		if g.disk != nil {
			if err := g.toDisk(f); err != nil {
				yield(nil, err)
				return
			}
			g.yieldDisk(ctx, f, yield)
			return
		}
		n := len(g.lines)
		f.group.merged.Store(f.group.in.Load() - int64(n))
		for from := 0; from < n; {
			to := from
			for to < n && to-from < 4096 && g.files[to] == g.files[from] {
				to++
			}
			if !yield(&groupPiece{f, g, from, to}, nil) {
				return
			}
			from = to
		}
	}
}

// begin begins with the groups that stand, where only the rows are read that came since.
func (g *groups) begin(ctx context.Context, f *Flow) error {
	if f.in.Star == nil {
		return nil
	}
	in, names := f.in.Star.Sums(f.of)
	if in == nil {
		return nil
	}
	b := column.NewBatch(in.Fields())
	for p, err := range in.Pieces(ctx) {
		if err == nil {
			err = p.Fill(b)
		}
		if err != nil {
			return err
		}
		var cols []*column.Column
		for _, field := range g.fields {
			cols = append(cols, &b.Cols[column.Find(in.Fields(), names[field.Name])])
		}
		for i := range b.N {
			if _, fresh := g.index.Add(cols[:len(g.index.at)], i); !fresh {
				return fmt.Errorf("two rows of %s are of one group", in.Names()[0])
			}
			for k, c := range cols {
				g.cols[k].AppendOwn(c, i)
				if c.Type.Kind == column.Text {
					g.size += int64(len(c.Text[i]))
				}
			}
			g.size += rowOverhead + valueSize*int64(len(cols))
			g.files, g.lines = append(g.files, f.Names()[0]), append(g.lines, 0)
		}
		f.group.in.Add(int64(b.N))
		f.made.Add(int64(b.N))
	}
	return nil
}

// aside makes rows that were set aside rows of the columns that groups have.
func (f *Flow) aside(b *column.Batch) column.Piece {
	out := column.NewBatch(f.fields)
	out.Reset(b.N)
	for k := range out.Cols {
		for i := range b.N {
			out.Cols[k].SetNull(i)
		}
	}
	for _, fault := range b.Faults {
		out.SetAside(int(fault.Row), fault.Of, fault.Reason, fault.Detail)
	}
	out.From = b.From
	return filled{out}
}

// add adds the rows of a batch.
func (g *groups) add(f *Flow, b *column.Batch) error {
	g.over(b)
	in := int64(0)
	for i := range b.N {
		if b.Bad(i) {
			continue
		}
		in++
		m, fresh := g.number(i)
		if fresh {
			g.size += rowOverhead + valueSize*int64(len(g.cols))
			for n, k := range g.index.at {
				if g.cols[n].Append(&b.Cols[k], i); b.Cols[k].Type.Kind == column.Text {
					g.size += int64(len(b.Cols[k].Text[i]))
				}
			}
			for n, a := range g.aggregates {
				c := &g.cols[len(g.index.at)+n]
				if c.AppendNull(); a.Function == "count" {
					c.Null[m] = false
				}
			}
			g.files, g.lines = append(g.files, b.From.File), append(g.lines, b.From.Line[i])
		} else if g.lines[m] == 0 { // a group that stood, of which this is the first row that came since
			g.lines[m] = b.From.Line[i]
		}
		for n := range g.aggregates {
			if err := g.aggregate(n, int(m), b, i); err != nil {
				return err
			}
		}
	}
	f.group.in.Add(in)
	return nil
}

// aggregate adds row i to aggregate n of group m.
func (g *groups) aggregate(n, m int, b *column.Batch, i int) error {
	a, c := &g.aggregates[n], &g.cols[len(g.index.at)+n]
	if a.Function == ofTime { // which the aggregate before it has set
		return nil
	}
	if g.at[n] < 0 {
		c.Int[m]++
		return nil
	}
	from := &b.Cols[g.at[n]]
	if from.Null[i] {
		return nil
	}
	switch a.Function {
	case "count":
		c.Int[m]++
	case star.OnlyValue:
		if !c.Null[m] {
			return several(b, i, *a)
		}
		c.Set(m, from, i)
	case "latest", "earliest":
		if by := &b.Cols[g.by[n]]; !by.Null[i] {
			g.take(n, m, from, by, i)
		}
	case "list":
		had := len(c.Text[m])
		err := list(c, m, from, i, b, *a)
		g.size += int64(len(c.Text[m]) - had)
		return err
	case "min", "max":
		if c.Null[m] || from.Compare(i, c, m) < 0 == (a.Function == "min") {
			c.Set(m, from, i)
		}
	default:
		if c.Type.Kind == column.Double {
			c.Null[m] = false
			c.Float[m] += from.Float[i]
			return nil
		}
		sum, ok := c.Exact(m).Add(from.Exact(i))
		if ok = ok && c.SetExact(m, sum); !ok {
			return tooLarge(b, i, *a, c.Type)
		}
	}
	return nil
}

// groupPiece is some groups.
type groupPiece struct {
	flow     *Flow
	of       *groups
	from, to int
}

// Fill returns the groups as rows, each at the place of its first row.
func (p *groupPiece) Fill(b *column.Batch) error {
	b.Reset(p.to - p.from)
	if err := p.of.put(b, p.from); err != nil {
		return err
	}
	b.From = column.Origin{File: p.of.files[p.from], Line: append(b.From.Line[:0], p.of.lines[p.from:p.to]...)}
	b.From.Raw = func(i int) string {
		var values []string
		for k, field := range p.of.fields {
			values = append(
				values,
				fmt.Sprintf("%s %s", field.Name, natural([]*column.Column{&p.of.cols[k]}, p.from+i)),
			)
		}
		return "the rows of " + diag.Clip(fmt.Sprint(slices.Collect(slices.Values(values))), 200)
	}
	return p.flow.matchLast(b, p.flow.groupFields())
}

// matchLast brings natural keys to their form behind what concerns several rows; fields are the columns that there are
// then.
func (f *Flow) matchLast(b *column.Batch, fields []column.Field) error {
	m, ok := f.last.Get().(*matcher)
	if !ok {
		made, _, err := f.newMatcher(fields)
		if err != nil {
			return err
		}
		m = &made
	}
	defer f.last.Put(m)
	m.apply(b)
	return nil
}
