package transform

import (
	"context"
	"errors"
	"hash/maphash"
	"iter"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/spill"
)

// ordered is the values of a column, read in the order of the rows they belong to.
type ordered []*run

// toDisk puts the rows at hand on disk.
func (x *windows) toDisk() (err error) {
	if x.disk == nil {
		if x.disk, err = spill.New(x.fields[:len(x.at)], 1); err != nil {
			return err
		}
	}
	all, n := column.Pointers(x.cols), 0
	if len(all) > 0 {
		n = len(all[0].Null)
	}
	for i := range n {
		x.disk.Put(0, all, i)
	}
	for k := range x.cols {
		x.cols[k] = column.Column{Type: x.cols[k].Type}
	}
	return nil
}

// onDisk finds the values of one window after the other.
func (x *windows) onDisk(ctx context.Context) error {
	for _, w := range x.list {
		in, err := x.divide(ctx, w)
		if err != nil {
			return err
		}
		w.parts, err = w.overParts(ctx, in)
		if err = errors.Join(err, in.Close()); err != nil {
			return err
		}
	}
	for _, w := range x.list {
		var err error
		if w.values, err = inOrder(ctx, w.parts); err != nil {
			return err
		}
	}
	return nil
}

// divide puts what a window reads into parts, by the values of the columns in which rows are seen together.
func (x *windows) divide(ctx context.Context, w *window) (*spill.Rows, error) {
	all := column.NewBatch(x.fields)
	var fields []column.Field
	others := map[int]ordered{} // the windows that it is made of
	defer func() {
		for _, values := range others {
			values.close()
		}
	}()
	for _, k := range w.uses {
		if fields = append(fields, x.fields[k]); k >= len(x.at) && others[k] == nil {
			values, err := inOrder(ctx, x.list[k-len(x.at)].parts)
			if err != nil {
				return nil, err
			}
			others[k] = values
		}
	}
	out, err := spill.New(fields, parts)
	if err != nil {
		return nil, err
	}
	seed, maker, n := maphash.MakeSeed(), digest.Maker{}, int64(0)
	err = pipeline.Batches(ctx, x.disk.Part(0), 1, func(b *column.Batch) error {
		for k := range x.at {
			all.Cols[k] = b.Cols[k]
		}
		for k := range others {
			all.Cols[k].Resize(b.N)
		}
		cols := w.columns(all.Cols)
		for i := range b.N {
			for k, values := range others {
				if err := values.set(&all.Cols[k], i, n); err != nil {
					return err
				}
			}
			part := 0
			if w.by > 0 {
				part = int(maker.Hash(seed, cols[:w.by], i) % parts)
			}
			out.Put(part, cols, i)
			n++
		}
		return nil
	})
	if err != nil {
		return nil, errors.Join(err, out.Close())
	}
	return out, nil
}

// overParts finds the values of the rows of each part.
func (x *window) overParts(ctx context.Context, in *spill.Rows) (*spill.Rows, error) {
	row := column.Field{Name: "row", Type: column.Type{Kind: column.Integer}}
	out, err := spill.New([]column.Field{{Name: x.Text, Type: x.Type}, row}, parts)
	if err != nil {
		return nil, err
	}
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
		numbers := len(x.uses)
		var values column.Column
		if err == nil {
			values, err = x.over(column.Pointers(all.Cols[:numbers]), all.N, map[string]*grouping{})
		}
		if err != nil {
			return nil, errors.Join(err, out.Close())
		}
		for i := range all.N {
			out.Put(part, []*column.Column{&values, &all.Cols[numbers]}, i)
		}
	}
	return out, nil
}

// inOrder reads the values that are in parts, each of which has them in order.
func inOrder(ctx context.Context, of *spill.Rows) (ordered, error) {
	var values ordered
	for part := range parts {
		r := &run{rows: column.NewBatch(of.Part(part).Fields())}
		r.next, r.stop = iter.Pull2(of.Part(part).Pieces(ctx))
		values = append(values, r)
		if err := r.advance(); err != nil {
			values.close()
			return nil, err
		}
	}
	return values, nil
}

// set makes row i of a column the value of the row of a number; numbers are asked for in order.
func (o ordered) set(c *column.Column, i int, number int64) error {
	for _, r := range o {
		if r.at < r.rows.N && r.rows.Cols[1].Int[r.at] == number {
			c.Set(i, &r.rows.Cols[0], r.at)
			return r.advance()
		}
	}
	return errRows
}

func (o ordered) close() {
	for _, r := range o {
		r.stop()
	}
}
