package transform

import (
	"context"
	"errors"
	"hash/maphash"
	"iter"

	"github.com/RoaringBitmap/roaring/v2/roaring64"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/keyindex"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/spill"
)

// index numbers the values of some columns, in which null equals null.
type index struct {
	at []int // the columns
	*keyindex.Index
	cols []*column.Column
}

func newIndex(fields []column.Field, by []string) *index {
	x := &index{}
	var types []column.Type
	for _, name := range by {
		k := column.Find(fields, name)
		x.at, types = append(x.at, k), append(types, fields[k].Type)
	}
	x.Index = keyindex.NewWithNulls(types)
	return x
}

// over makes the index ready for the rows of b.
func (x *index) over(b *column.Batch) {
	x.cols = x.cols[:0]
	for _, k := range x.at {
		x.cols = append(x.cols, &b.Cols[k])
	}
}

// number returns the number of row i's values; fresh if they are new.
func (x *index) number(i int) (n int32, fresh bool) { return x.Add(x.cols, i) }

var errEnough = errors.New("no more rows are wanted")

// distinctRows leaves one row for each value of some columns.
func (f *Flow) distinctRows(ctx context.Context, rows iter.Seq2[column.Piece, error]) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		d := &distinct{flow: f, room: f.room(), index: newIndex(f.localFields(), f.of.Distinct.By)}
		if f.of.Distinct.Last {
			if err := d.findLast(ctx); err != nil {
				yield(nil, err)
				return
			}
		}
		n := int64(0)
		err := f.inOrder(ctx, rows, func(b *column.Batch) error {
			in, failed := int64(0), error(nil)
			d.over(b)
			merged := b.Keep(func(i int) bool {
				if b.Bad(i) || failed != nil {
					return true
				}
				in++
				n++
				var stays bool
				stays, failed = d.stays(ctx, b, i, n-1)
				return stays
			})
			if failed != nil {
				return failed
			}
			f.distinct.in.Add(in)
			f.distinct.merged.Add(int64(merged))
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

// distinct is which rows stay of those that are equal in some columns.
type distinct struct {
	flow *Flow
	*index
	last []int64           // of each value, the row that stays, where that is the last one
	kept *roaring64.Bitmap // the rows that stay, where memory has no room for the values
	size int64
	room int64
}

// room is how many bytes what is joined or compared of rows may take, about; 0 means any number.
func (f *Flow) room() int64 { return max(f.in.Memory/8, min(f.in.Memory, 1)) }

// add returns the number of row i's values; full if memory has no room for more.
func (d *distinct) add(b *column.Batch, i int) (m int32, fresh, full bool) {
	if m, fresh = d.number(i); fresh {
		d.size += rowOverhead
		for _, k := range d.at {
			if c := &b.Cols[k]; c.Type.Kind == column.Text {
				d.size += int64(len(c.Text[i]))
			}
		}
	}
	return m, fresh, d.room > 0 && d.size > d.room
}

// findLast finds the last row of each value.
func (d *distinct) findLast(ctx context.Context) error {
	n, full := int64(0), false
	err := d.flow.inOrder(ctx, d.flow.windowed(ctx, false, d.flow.again(ctx, false)), func(b *column.Batch) error {
		d.over(b)
		for i := range b.N {
			if b.Bad(i) {
				continue
			}
			var m int32
			var fresh bool
			if m, fresh, full = d.add(b, i); full {
				return errEnough
			}
			if fresh {
				d.last = append(d.last, n)
			} else {
				d.last[m] = n
			}
			n++
		}
		return nil
	})
	if full {
		return d.toDisk(ctx)
	}
	return err
}

// stays reports whether row i stays, which is the nth of those that are compared.
func (d *distinct) stays(ctx context.Context, b *column.Batch, i int, n int64) (bool, error) {
	if d.kept != nil {
		return d.kept.Contains(uint64(n)), nil
	}
	m, fresh, full := d.add(b, i)
	if d.last != nil {
		return d.last[m] == n, nil
	}
	if full {
		return fresh, d.toDisk(ctx)
	}
	return fresh, nil
}

// parts is into how many parts rows are cut that memory has no room for.
const parts = 32

// toDisk reads all rows again and finds those that stay, a part of the values at a time.
func (d *distinct) toDisk(ctx context.Context) error {
	f := d.flow
	var fields []column.Field
	for _, k := range d.at {
		fields = append(fields, f.localFields()[k])
	}
	all, err := spill.New(fields, parts)
	if err != nil {
		return err
	}
	defer all.Close()
	seed, maker := maphash.MakeSeed(), digest.Maker{}
	d.index, d.last = newIndex(f.localFields(), f.of.Distinct.By), nil
	err = f.inOrder(ctx, f.windowed(ctx, false, f.again(ctx, false)), func(b *column.Batch) error {
		d.over(b)
		for i := range b.N {
			if !b.Bad(i) {
				all.Put(int(maker.Hash(seed, d.cols, i)%parts), d.cols, i)
			}
		}
		return nil
	})
	d.kept = roaring64.New()
	for part := 0; part < parts && err == nil; part++ {
		err = d.keepOf(ctx, all.Part(part), column.Names(fields))
	}
	return err
}

// keepOf finds the rows that stay of a part.
func (d *distinct) keepOf(ctx context.Context, part column.Source, by []string) error {
	x, last, number := newIndex(part.Fields(), by), []int64(nil), len(by)
	err := pipeline.Batches(ctx, part, 1, func(b *column.Batch) error {
		x.over(b)
		for i, n := range b.Cols[number].Int {
			m, fresh := x.number(i)
			switch {
			case !fresh && d.flow.of.Distinct.Last:
				last[m] = n
			case fresh:
				last = append(last, n)
			}
		}
		return nil
	})
	for _, n := range last {
		d.kept.Add(uint64(n))
	}
	return err
}

// again yields the rows once more, without counting them.
func (f *Flow) again(ctx context.Context, samples bool) iter.Seq2[column.Piece, error] {
	twin, err := Open(ctx, f.in, f.of, func(c string) bool { return f.need[c] })
	if err == nil {
		err = twin.prepare(ctx)
	}
	if err != nil {
		return func(yield func(column.Piece, error) bool) { yield(nil, err) }
	}
	return twin.shaped(ctx, samples)
}

// inOrder returns the batches of pieces to take in source order, filled on all cores. The batch is take's own.
func (f *Flow) inOrder(
	ctx context.Context,
	pieces iter.Seq2[column.Piece, error],
	take func(b *column.Batch) error,
) error {
	return pipeline.Each(
		ctx,
		these{f.fields, pieces},
		f.workers(),
		func() **column.Batch { b := new(column.Batch); return &b },
		func(_ int, p column.Piece, slot **column.Batch) error {
			*slot = column.NewBatch(f.localFields())
			return p.Fill(*slot)
		},
		func(slot **column.Batch) error { return take(*slot) },
	)
}

// these is pieces as a source.
type these struct {
	fields []column.Field
	pieces iter.Seq2[column.Piece, error]
}

func (t these) Fields() []column.Field { return t.fields }

func (t these) Pieces(context.Context) iter.Seq2[column.Piece, error] { return t.pieces }
