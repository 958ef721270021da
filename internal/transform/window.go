package transform

import (
	"context"
	"errors"
	"hash/maphash"
	"iter"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/spill"
	"ironmonger/internal/star"
)

// window is a column whose values depend on other rows. The rows are read twice: first the columns that it is made of,
// then all of them, and each has its value by its number among those that are not set aside.
type window struct {
	*star.Window
	to     int // its column of the batches
	at     []int
	fields []column.Field // of the columns that it reads, those of By first
	by     int            // how many these are
	cols   []column.Column
	disk   *spill.Rows // nil while memory has room
	seed   maphash.Seed
	maker  digest.Maker

	values column.Column // by number
	runs   []*run        // or of parts on disk, by number
}

// windows lists the columns of windows that are needed, once other columns are there.
func (f *Flow) windowFields() []column.Field {
	var fields []column.Field
	for _, w := range f.of.Windows {
		if f.need[w.Text] {
			fields = append(fields, column.Field{Name: w.Text, Type: w.Type})
		}
	}
	return fields
}

func (f *Flow) newWindow(w *star.Window) *window {
	x := &window{Window: w, to: column.Find(f.local, w.Text), by: len(w.By), seed: maphash.MakeSeed()}
	for _, name := range w.Columns() {
		k := column.Find(f.local, name)
		x.at, x.fields = append(x.at, k), append(x.fields, f.local[k])
		x.cols = append(x.cols, column.Column{Type: f.local[k].Type})
	}
	return x
}

// windowed gives rows the values of windows, one window after the other, since one may be made of another.
func (f *Flow) windowed(ctx context.Context, samples bool, rows iter.Seq2[column.Piece, error]) iter.Seq2[column.Piece, error] {
	again := func(ctx context.Context) iter.Seq2[column.Piece, error] { return f.again(ctx, samples) }
	for k := range f.of.Windows {
		w := &f.of.Windows[k]
		if !f.need[w.Text] {
			continue
		}
		before := again
		rows = f.withWindow(ctx, w, before, rows)
		again = func(ctx context.Context) iter.Seq2[column.Piece, error] {
			return f.withWindow(ctx, w, before, before(ctx))
		}
	}
	return rows
}

// withWindow gives rows the values of a window; before yields the same rows once more.
func (f *Flow) withWindow(
	ctx context.Context,
	w *star.Window,
	before func(context.Context) iter.Seq2[column.Piece, error],
	rows iter.Seq2[column.Piece, error],
) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		x := f.newWindow(w)
		defer x.close()
		if err := x.read(ctx, f, before(ctx)); err != nil {
			yield(nil, err)
			return
		}
		n := int64(0)
		err := f.inOrder(ctx, rows, func(b *column.Batch) error {
			c := &b.Cols[x.to]
			for i := range b.N {
				if b.Bad(i) {
					c.SetNull(i)
					continue
				}
				if err := x.value(c, i, n); err != nil {
					return err
				}
				n++
			}
			if !yield(filled{b}, nil) {
				return errEnough
			}
			return nil
		})
		if err != nil && err != errEnough {
			yield(nil, err)
		}
	}
}

// read finds the values of all rows.
func (x *window) read(ctx context.Context, f *Flow, rows iter.Seq2[column.Piece, error]) error {
	room, size, n := f.room(), int64(0), 0
	err := f.inOrder(ctx, rows, func(b *column.Batch) error {
		for i := range b.N {
			if b.Bad(i) {
				continue
			}
			n++
			for k, at := range x.at {
				c := &b.Cols[at]
				if x.cols[k].AppendOwn(c, i); c.Type.Kind == column.Text {
					size += int64(len(c.Text[i]))
				}
				size += valueSize
			}
		}
		if room > 0 && size > room {
			size = 0
			return x.toDisk()
		}
		return nil
	})
	if err != nil {
		return err
	}
	if x.disk == nil {
		x.values, err = x.over(column.Pointers(x.cols), n)
		x.cols = nil
		return err
	}
	if err := x.toDisk(); err != nil {
		return err
	}
	return x.overParts(ctx)
}

// toDisk puts the rows at hand into parts, by the values of the columns in which they are seen together.
func (x *window) toDisk() (err error) {
	if x.disk == nil {
		if x.disk, err = spill.New(x.fields, parts); err != nil {
			return err
		}
	}
	all := column.Pointers(x.cols)
	n := 0
	if len(all) > 0 {
		n = len(all[0].Null)
	}
	for i := range n {
		part := 0
		if x.by > 0 {
			part = int(x.maker.Hash(x.seed, all[:x.by], i) % parts)
		}
		x.disk.Put(part, all, i)
	}
	for k := range x.cols {
		x.cols[k] = column.Column{Type: x.cols[k].Type}
	}
	return nil
}

// overParts finds the values of the rows of each part.
func (x *window) overParts(ctx context.Context) error {
	out, err := spill.New([]column.Field{{Name: x.Text, Type: x.Type}, {Name: "row", Type: column.Type{Kind: column.Integer}}}, parts)
	if err != nil {
		return err
	}
	in := x.disk
	defer in.Close()
	x.disk = out
	for part := range parts {
		source := in.Part(part)
		all := column.NewBatch(source.Fields())
		err := pipeline.Batches(ctx, source, 1, func(b *column.Batch) error {
			for i := range b.N {
				for k := range all.Cols {
					all.Cols[k].AppendOwn(&b.Cols[k], i)
				}
			}
			all.N += b.N
			return nil
		})
		if err != nil {
			return err
		}
		numbers := len(x.fields)
		values, err := x.over(column.Pointers(all.Cols[:numbers]), all.N)
		if err != nil {
			return err
		}
		for i := range all.N {
			out.Put(part, []*column.Column{&values, &all.Cols[numbers]}, i)
		}
	}
	for part := range parts {
		r := &run{rows: column.NewBatch(out.Part(part).Fields())}
		r.next, r.stop = iter.Pull2(out.Part(part).Pieces(ctx))
		x.runs = append(x.runs, r)
		if err := r.advance(); err != nil {
			return err
		}
	}
	return nil
}

// value makes row i of a column the value of the row of a number; numbers are asked for in order.
func (x *window) value(c *column.Column, i int, number int64) error {
	if x.disk == nil {
		c.Set(i, &x.values, int(number))
		return nil
	}
	for _, r := range x.runs {
		if r.at < r.rows.N && r.rows.Cols[1].Int[r.at] == number {
			c.Set(i, &r.rows.Cols[0], r.at)
			return r.advance()
		}
	}
	return errRows
}

// errRows says that rows were others when they were read again, which nothing in this program allows.
var errRows = errors.New("the rows of a window are not the same when they are read again")

func (x *window) close() {
	for _, r := range x.runs {
		r.stop()
	}
	if x.disk != nil {
		x.disk.Close()
	}
}

// over computes the values of rows, by their order in cols.
func (x *window) over(cols []*column.Column, n int) (column.Column, error) {
	out := column.Column{Type: x.Type}
	out.Resize(n)
	order := make([]int32, n)
	for i := range order {
		order[i] = int32(i)
	}
	by, ordered := cols[:x.by], cols[x.by:x.by+len(x.Order)]
	together := func(i, k int32) int {
		for _, c := range by {
			if d := nullsLast(c, int(i), int(k)); d != 0 {
				return d
			}
		}
		return 0
	}
	peers := func(i, k int32) int {
		for n, c := range ordered {
			if d := nullsLast(c, int(i), int(k)); d != 0 {
				if x.Order[n].Descending {
					d = -d
				}
				return d
			}
		}
		return 0
	}
	slices.SortStableFunc(order, func(i, k int32) int {
		if d := together(i, k); d != 0 {
			return d
		}
		return peers(i, k)
	})
	var of, shares *column.Column
	rest := cols[x.by+len(x.Order):]
	if x.Column != "" {
		of, rest = rest[0], rest[1:]
	}
	if x.Shares != "" {
		shares = rest[0]
	}
	for from := 0; from < n; {
		to := from + 1
		for to < n && together(order[from], order[to]) == 0 {
			to++
		}
		var err error
		if x.Function == star.Weight || x.Function == star.PartOf {
			err = x.weigh(&out, of, shares, order[from:to], peers)
		} else {
			err = x.partition(&out, of, order[from:to], peers)
		}
		if err != nil {
			return out, err
		}
		from = to
	}
	return out, nil
}

// nullsLast compares two values of a column; nulls are equal, and greater than any value.
func nullsLast(c *column.Column, i, k int) int {
	switch {
	case c.Null[i] && c.Null[k]:
		return 0
	case c.Null[i]:
		return 1
	case c.Null[k]:
		return -1
	}
	return c.Compare(i, c, k)
}

// partition computes the values of rows that are seen together, which are in order. As in SQL, an aggregate has in it
// all rows up to the last one that is equal in the columns of the order.
func (x *window) partition(out, of *column.Column, rows []int32, peers func(i, k int32) int) error {
	switch x.Function {
	case "row_number":
		for n, i := range rows {
			out.Null[i], out.Int[i] = false, int64(n+1)
		}
		return nil
	case "lag", "lead":
		step := map[string]int{"lag": -1, "lead": 1}[x.Function]
		for n, i := range rows {
			if k := n + step; k < 0 || k >= len(rows) {
				out.SetNull(int(i))
			} else {
				out.Set(int(i), of, int(rows[k]))
			}
		}
		return nil
	}
	sum := groups{aggregates: []star.Aggregate{{Name: x.Name, Function: x.Function, Type: x.Type}}, index: &index{}}
	sum.cols = []column.Column{{Type: x.Type}}
	if sum.cols[0].AppendNull(); x.Function == "count" {
		sum.cols[0].Null[0] = false
	}
	sum.at = []int{0}
	one := &column.Batch{N: len(rows)}
	if of == nil {
		sum.at[0] = -1
	} else {
		one.Cols = []column.Column{*of}
	}
	for from := 0; from < len(rows); {
		to := from
		for ; to < len(rows) && peers(rows[from], rows[to]) == 0; to++ {
			if err := sum.aggregate(0, 0, one, int(rows[to])); err != nil {
				return err
			}
		}
		for ; from < to; from++ {
			out.Set(int(rows[from]), &sum.cols[0], 0)
		}
	}
	return nil
}

// finished puts what is done behind all rows behind windows: natural keys in their one form.
func (f *Flow) finished(rows iter.Seq2[column.Piece, error]) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		for p, err := range rows {
			if err == nil {
				p = lastPiece{f, p}
			}
			if !yield(p, err) {
				return
			}
		}
	}
}

// lastPiece is a piece whose natural keys are brought to their form when it is filled.
type lastPiece struct {
	flow *Flow
	from column.Piece
}

func (p lastPiece) Fill(b *column.Batch) error {
	have := column.NewBatch(p.flow.local)
	if err := p.from.Fill(have); err != nil {
		return err
	}
	b.Reset(have.N)
	for k := range have.Cols {
		b.Cols[k], have.Cols[k] = have.Cols[k], b.Cols[k]
	}
	for _, fault := range have.Faults {
		b.SetAside(int(fault.Row), fault.Of, fault.Reason, fault.Detail)
	}
	b.From = have.From
	return p.flow.matchLast(b, p.flow.local)
}
