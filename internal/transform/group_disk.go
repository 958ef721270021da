package transform

import (
	"context"
	"hash/maphash"
	"iter"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/spill"
	"ironmonger/internal/star"
)

// groupsOnDisk is groups where memory has no room for all of them. What has been added up of some rows is put into
// parts, by the values that the rows have in common; in the end, the groups of a part are put together, and all come
// back in the order of their first rows.
type groupsOnDisk struct {
	rows  *spill.Rows // groups of some rows each, with the place of the first
	seed  maphash.Seed
	maker digest.Maker
}

// The columns behind those of a group: where its first row is, and its place among all groups.
var (
	ofFile  = column.Field{Name: "file", Type: column.Type{Kind: column.Text}}
	ofLine  = column.Field{Name: "line", Type: column.Type{Kind: column.Integer}}
	ofPlace = column.Field{Name: "place", Type: column.Type{Kind: column.Integer}}
)

// inexact reports whether an aggregate depends on the order in which it is added up.
func (g *groups) inexact() bool {
	for n, a := range g.aggregates {
		if a.Function == "sum" && g.cols[len(g.index.at)+n].Type.Kind == column.Double {
			return true
		}
	}
	return false
}

// toDisk puts the groups at hand into parts, and begins anew.
func (g *groups) toDisk(f *Flow) (err error) {
	if g.disk == nil {
		fields := append(g.fields[:len(g.fields):len(g.fields)], ofFile, ofLine)
		g.disk = &groupsOnDisk{seed: maphash.MakeSeed()}
		if g.disk.rows, err = spill.New(fields, parts); err != nil {
			return err
		}
	}
	place := []column.Column{{Type: ofFile.Type}, {Type: ofLine.Type}}
	for n := range g.lines {
		place[0].AppendText(g.files[n])
		place[1].AppendInt(g.lines[n])
	}
	all := append(column.Pointers(g.cols), &place[0], &place[1])
	by := all[:len(g.index.at)]
	for n := range g.lines {
		g.disk.rows.Put(int(g.disk.maker.Hash(g.disk.seed, by, n)%parts), all, n)
	}
	g.index, g.files, g.lines, g.size = newIndex(f.local, f.of.Group.By), nil, nil, 0
	for k := range g.cols {
		g.cols[k] = column.Column{Type: g.cols[k].Type}
	}
	return nil
}

// together puts the groups of each part together, and returns them by part, in the order of their first rows. n is how
// many there are.
func (g *groups) together(ctx context.Context, f *Flow) (out *spill.Rows, n int, err error) {
	fields := append(g.disk.rows.Part(0).Fields()[:len(g.fields)+2:len(g.fields)+2], ofPlace)
	if out, err = spill.New(fields, parts); err != nil {
		return nil, 0, err
	}
	for part := 0; part < parts && err == nil; part++ {
		sums := &groups{fields: g.fields, aggregates: g.aggregates}
		source := g.disk.rows.Part(part)
		sums.index = newIndex(source.Fields(), f.of.Group.By)
		merged := column.NewBatch(fields)
		err = pipeline.Batches(ctx, source, 1, func(b *column.Batch) error {
			sums.over(b)
			for i := range b.N {
				m, fresh := sums.number(i)
				if fresh {
					for k := range merged.Cols { // the number that it was put with is its place
						merged.Cols[k].AppendOwn(&b.Cols[k], i)
					}
					merged.N++
				} else if err := sums.merge(merged, int(m), b, i); err != nil {
					return err
				}
			}
			return nil
		})
		cols := column.Pointers(merged.Cols)
		for i := range merged.N {
			out.Put(part, cols, i)
		}
		n += merged.N
	}
	return out, n, err
}

// merge adds the aggregates of row i, which are those of some rows, to those of group m.
func (g *groups) merge(to *column.Batch, m int, b *column.Batch, i int) error {
	for n, a := range g.aggregates {
		k := len(g.index.at) + n
		c, from := &to.Cols[k], &b.Cols[k]
		switch {
		case from.Null[i], a.Function == ofTime:
		case a.Function == "latest" || a.Function == "earliest":
			if c.Null[m] || closer(a.Function, &b.Cols[k+1], i, &to.Cols[k+1], m) {
				c.Set(m, from, i)
				to.Cols[k+1].Set(m, &b.Cols[k+1], i)
			}
		case a.Function == star.OnlyValue && !c.Null[m]:
			return several(b, i, a)
		case a.Function == "list":
			if c.Text[m] += star.ListSeparator + from.Text[i]; c.Null[m] {
				c.Set(m, from, i)
			}
		case a.Function == "count":
			c.Int[m] += from.Int[i]
		case c.Null[m], a.Function == "min" && from.Compare(i, c, m) < 0, a.Function == "max" && from.Compare(i, c, m) > 0:
			c.Set(m, from, i)
		case a.Function == "sum":
			sum, ok := c.Exact(m).Add(from.Exact(i))
			if ok = ok && c.SetExact(m, sum); !ok {
				return tooLarge(b, i, a, c.Type)
			}
		}
	}
	return nil
}

// several says that two rows have a value for one column that is made of rows.
func several(b *column.Batch, i int, a star.Aggregate) error {
	return mistake(b, i, "pivot", "another row has a value for the column %s already (several says what happens)", a.Text)
}

func tooLarge(b *column.Batch, i int, a star.Aggregate, t column.Type) error {
	return mistake(b, i, "aggregate "+a.Text, "the sum is too large for %s", t)
}

// yieldDisk yields the groups, in the order of their first rows.
func (g *groups) yieldDisk(ctx context.Context, f *Flow, yield func(column.Piece, error) bool) {
	defer g.disk.rows.Close()
	out, n, err := g.together(ctx, f)
	if err != nil {
		yield(nil, err)
		return
	}
	defer out.Close()
	f.group.merged.Store(f.group.in.Load() - int64(n))
	runs := make([]*run, 0, parts)
	for part := range parts {
		r := &run{rows: column.NewBatch(out.Part(part).Fields())}
		r.next, r.stop = iter.Pull2(out.Part(part).Pieces(ctx))
		defer r.stop()
		if err := r.advance(); err != nil {
			yield(nil, err)
			return
		}
		runs = append(runs, r)
	}
	place, chunk := len(g.fields)+2, g.empty()
	for {
		var first *run
		for _, r := range runs {
			if r.at < r.rows.N && (first == nil || r.rows.Cols[place].Int[r.at] < first.rows.Cols[place].Int[first.at]) {
				first = r
			}
		}
		file := ""
		if first != nil {
			file = first.rows.Cols[place-2].Text[first.at]
		}
		if n := len(chunk.lines); n > 0 && (first == nil || n == 4096 || chunk.files[0] != file) {
			if !yield(&groupPiece{f, chunk, 0, n}, nil) {
				return
			}
			chunk = g.empty()
		}
		if first == nil {
			return
		}
		for k := range chunk.cols {
			chunk.cols[k].Append(&first.rows.Cols[k], first.at)
		}
		chunk.files = append(chunk.files, file)
		chunk.lines = append(chunk.lines, first.rows.Cols[place-1].Int[first.at])
		if err := first.advance(); err != nil {
			yield(nil, err)
			return
		}
	}
}

// empty returns groups of the same columns without any.
func (g *groups) empty() *groups {
	x := &groups{fields: g.fields, index: g.index, outs: g.outs}
	for _, f := range g.fields {
		x.cols = append(x.cols, column.Column{Type: f.Type})
	}
	return x
}

// run is the groups of a part, of which at is the next.
type run struct {
	next func() (column.Piece, error, bool)
	stop func()
	rows *column.Batch
	at   int
}

func (r *run) advance() error {
	if r.at++; r.at < r.rows.N {
		return nil
	}
	r.at = 0
	p, err, more := r.next()
	if !more {
		r.rows.Reset(0)
		return nil
	}
	if err == nil {
		err = p.Fill(r.rows)
	}
	return err
}
