package transform

import (
	"context"
	"errors"
	"iter"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/spill"
	"ironmonger/internal/star"
)

// windows gives rows the columns whose values depend on other rows. The rows are read twice: first the columns that
// these are made of, then all of them, and each has its values by its number among those that are not set aside.
type windows struct {
	list   []*window
	at     []int           // the columns of batches that are read
	fields []column.Field  // of these, then of the windows: one may be made of another
	cols   []column.Column // their values, by the number of the row, while memory has room
	disk   *spill.Rows     // else what is read, in order; nil while memory has room
	n      int64           // rows

	alike map[string]*grouping // of the columns in which rows are equal that are seen together
}

// window is one of these columns.
type window struct {
	*star.Window
	to     int         // its column of batches
	uses   []int       // of the fields, those that it reads: those of By, Order, Column and Shares
	by     int         // how many are those of By
	parts  *spill.Rows // its values, in parts, if they are on disk
	values ordered
}

// windowFields lists the columns of windows that are needed, once other columns are there.
func (f *Flow) windowFields() []column.Field {
	var fields []column.Field
	for _, w := range f.of.Windows {
		if f.need[w.Text] {
			fields = append(fields, column.Field{Name: w.Text, Type: w.Type})
		}
	}
	return fields
}

func (f *Flow) newWindows() *windows {
	x := &windows{alike: map[string]*grouping{}}
	var list []*star.Window
	for k := range f.of.Windows {
		if w := &f.of.Windows[k]; f.need[w.Text] {
			list = append(list, w)
		}
	}
	made := func(name string) bool {
		return slices.ContainsFunc(list, func(w *star.Window) bool { return w.Text == name })
	}
	for _, w := range list {
		for _, name := range w.Columns() {
			if k := column.Find(f.local, name); !made(name) && !slices.Contains(x.at, k) {
				x.at, x.fields = append(x.at, k), append(x.fields, f.local[k])
			}
		}
	}
	for _, field := range x.fields {
		x.cols = append(x.cols, column.Column{Type: field.Type})
	}
	for _, w := range list {
		one := &window{Window: w, to: column.Find(f.local, w.Text), by: len(w.By)}
		for _, name := range w.Columns() {
			one.uses = append(one.uses, column.Find(x.fields, name))
		}
		x.list, x.fields = append(x.list, one), append(x.fields, column.Field{Name: w.Text, Type: w.Type})
	}
	return x
}

// windowed gives rows the values of windows.
func (f *Flow) windowed(
	ctx context.Context, samples bool, rows iter.Seq2[column.Piece, error],
) iter.Seq2[column.Piece, error] {
	if f.windowFields() == nil {
		return rows
	}
	return func(yield func(column.Piece, error) bool) {
		x := f.newWindows()
		defer x.close()
		if err := x.read(ctx, f, f.again(ctx, samples)); err != nil {
			yield(nil, err)
			return
		}
		n := int64(0)
		err := f.inOrder(ctx, rows, func(b *column.Batch) error {
			for i := range b.N {
				if b.Bad(i) {
					for _, w := range x.list {
						b.Cols[w.to].SetNull(i)
					}
					continue
				}
				if err := x.set(b, i, n); err != nil {
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
func (x *windows) read(ctx context.Context, f *Flow, rows iter.Seq2[column.Piece, error]) error {
	room, size := f.room(), int64(0)
	err := f.inOrder(ctx, rows, func(b *column.Batch) error {
		for i := range b.N {
			if b.Bad(i) {
				continue
			}
			x.n++
			for k, at := range x.at {
				c := &b.Cols[at]
				if x.cols[k].AppendOwn(c, i); c.Type.Kind == column.Text {
					size += int64(len(c.Text[i]))
				}
			}
			size += valueSize * int64(len(x.fields))
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
	if x.disk != nil {
		if err := x.toDisk(); err != nil {
			return err
		}
		return x.onDisk(ctx)
	}
	for _, w := range x.list {
		values, err := w.over(w.columns(x.cols), int(x.n), x.alike)
		if err != nil {
			return err
		}
		x.cols = append(x.cols, values)
	}
	return nil
}

// columns are those that a window reads, of all.
func (x *window) columns(all []column.Column) []*column.Column {
	list := make([]*column.Column, len(x.uses))
	for n, k := range x.uses {
		list[n] = &all[k]
	}
	return list
}

// set gives row i of a batch the values of the row of a number; numbers are asked for in order.
func (x *windows) set(b *column.Batch, i int, number int64) error {
	if number >= x.n {
		return errRows
	}
	for k, w := range x.list {
		c := &b.Cols[w.to]
		if x.disk == nil {
			c.Set(i, &x.cols[len(x.at)+k], int(number))
		} else if err := w.values.set(c, i, number); err != nil {
			return err
		}
	}
	return nil
}

// errRows says that rows were others when they were read again, which nothing in this program allows.
var errRows = errors.New("the rows of a window are not the same when they are read again")

func (x *windows) close() {
	if x.disk == nil {
		return
	}
	x.disk.Close()
	for _, w := range x.list {
		if w.values.close(); w.parts != nil {
			w.parts.Close()
		}
	}
}

// finished puts what is done behind all rows behind windows: natural keys in their one form.
func (f *Flow) finished(rows iter.Seq2[column.Piece, error]) iter.Seq2[column.Piece, error] {
	return column.Wrapped(rows, func(p column.Piece) column.Piece { return lastPiece{f, p} })
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
