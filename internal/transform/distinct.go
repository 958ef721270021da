package transform

import (
	"context"
	"errors"
	"iter"

	"ironmonger/internal/column"
	"ironmonger/internal/keyindex"
	"ironmonger/internal/pipeline"
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
		d := f.of.Distinct
		x := newIndex(f.localFields(), d.By)
		var last []int64 // of each value, the row that stays
		if d.Last {
			n := int64(0)
			err := f.inOrder(ctx, f.again(ctx), func(b *column.Batch) error {
				x.over(b)
				for i := range b.N {
					if b.Bad(i) {
						continue
					}
					if m, fresh := x.number(i); fresh {
						last = append(last, n)
					} else {
						last[m] = n
					}
					n++
				}
				return nil
			})
			if err != nil {
				yield(nil, err)
				return
			}
		}
		n := int64(0)
		err := f.inOrder(ctx, rows, func(b *column.Batch) error {
			x.over(b)
			in := int64(0)
			merged := b.Keep(func(i int) bool {
				if b.Bad(i) {
					return true
				}
				in++
				m, fresh := x.number(i)
				if d.Last {
					fresh = last[m] == n
				}
				n++
				return fresh
			})
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

// again yields the rows once more, without counting them.
func (f *Flow) again(ctx context.Context) iter.Seq2[column.Piece, error] {
	twin, err := Open(ctx, f.in, f.of, func(c string) bool { return f.need[c] })
	if err == nil {
		err = twin.prepare(ctx)
	}
	if err != nil {
		return func(yield func(column.Piece, error) bool) { yield(nil, err) }
	}
	return twin.shaped(ctx, false)
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
