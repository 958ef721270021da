package column

import (
	"cmp"
	"context"
	"iter"
	"slices"
	"strings"

	"ironmonger/internal/exact"
)

// Column is a column of a batch: for each row a null mark and, where it is not null, a value in the
// slice that belongs to its type. Where Null is set the value is zero.
type Column struct {
	Type  Type
	Null  []bool
	Int   []int64        // integer, decimal of up to 18 digits, boolean, date, timestamp, time
	Wide  []exact.Int128 // decimal of more digits
	Float []float64      // double
	Text  []string       // text
}

// Resize makes the column n rows long. What they hold is left open until they are set.
func (c *Column) Resize(n int) {
	c.Null = Resized(c.Null, n)
	switch {
	case c.Type.Kind == Text:
		c.Text = Resized(c.Text, n)
	case c.Type.Kind == Double:
		c.Float = Resized(c.Float, n)
	case c.Type.Wide():
		c.Wide = Resized(c.Wide, n)
	default:
		c.Int = Resized(c.Int, n)
	}
}

// Resized returns a buffer of length n, the same one if it has room. What was in it may be gone.
func Resized[T any](s []T, n int) []T {
	if cap(s) < n {
		return make([]T, n, n+n/4)
	}
	return s[:n]
}

// Grow makes room for n more rows.
func (c *Column) Grow(n int) {
	c.Null = slices.Grow(c.Null, n)
	switch {
	case c.Type.Kind == Text:
		c.Text = slices.Grow(c.Text, n)
	case c.Type.Kind == Double:
		c.Float = slices.Grow(c.Float, n)
	case c.Type.Wide():
		c.Wide = slices.Grow(c.Wide, n)
	default:
		c.Int = slices.Grow(c.Int, n)
	}
}

// Copy makes the column the n first rows of from, a column of the same type.
func (c *Column) Copy(from *Column, n int) {
	c.Resize(n)
	copy(c.Null, from.Null[:n])
	copy(c.Int, from.Int)
	copy(c.Wide, from.Wide)
	copy(c.Float, from.Float)
	copy(c.Text, from.Text)
}

// Set makes row i the value of row j of from, a column of the same type.
func (c *Column) Set(i int, from *Column, j int) {
	switch c.Null[i] = from.Null[j]; {
	case c.Type.Kind == Text:
		c.Text[i] = from.Text[j]
	case c.Type.Kind == Double:
		c.Float[i] = from.Float[j]
	case c.Type.Wide():
		c.Wide[i] = from.Wide[j]
	default:
		c.Int[i] = from.Int[j]
	}
}

// SetNull makes row i null.
func (c *Column) SetNull(i int) {
	c.Null[i] = true
	switch {
	case c.Type.Kind == Text:
		c.Text[i] = ""
	case c.Type.Kind == Double:
		c.Float[i] = 0
	case c.Type.Wide():
		c.Wide[i] = exact.Int128{}
	default:
		c.Int[i] = 0
	}
}

// Append adds row i of from, a column of the same type, at the end.
func (c *Column) Append(from *Column, i int) {
	c.Null = append(c.Null, from.Null[i])
	switch {
	case c.Type.Kind == Text:
		c.Text = append(c.Text, from.Text[i])
	case c.Type.Kind == Double:
		c.Float = append(c.Float, from.Float[i])
	case c.Type.Wide():
		c.Wide = append(c.Wide, from.Wide[i])
	default:
		c.Int = append(c.Int, from.Int[i])
	}
}

// AppendOwn is Append with a copy of the text, which else keeps the piece of a file that it is part of in memory.
func (c *Column) AppendOwn(from *Column, i int) {
	c.Append(from, i)
	if c.Type.Kind == Text {
		last := len(c.Text) - 1
		c.Text[last] = strings.Clone(c.Text[last])
	}
}

// AppendNull adds a null row at the end.
func (c *Column) AppendNull() {
	c.Null = append(c.Null, true)
	switch {
	case c.Type.Kind == Text:
		c.Text = append(c.Text, "")
	case c.Type.Kind == Double:
		c.Float = append(c.Float, 0)
	case c.Type.Wide():
		c.Wide = append(c.Wide, exact.Int128{})
	default:
		c.Int = append(c.Int, 0)
	}
}

// AppendInt adds a row with v, for the kinds that stand in Int.
func (c *Column) AppendInt(v int64) { c.Null, c.Int = append(c.Null, false), append(c.Int, v) }

// AppendText adds a row with s, for text.
func (c *Column) AppendText(s string) { c.Null, c.Text = append(c.Null, false), append(c.Text, s) }

// Truncate cuts the column to n rows.
func (c *Column) Truncate(n int) {
	c.Null = c.Null[:n]
	switch {
	case c.Type.Kind == Text:
		c.Text = c.Text[:n]
	case c.Type.Kind == Double:
		c.Float = c.Float[:n]
	case c.Type.Wide():
		c.Wide = c.Wide[:n]
	default:
		c.Int = c.Int[:n]
	}
}

// Equal reports whether row i of c and row j of d, of the same type, are the same value; null equals
// null here, since this is about what is stored, not about a comparison in SQL's sense.
func (c *Column) Equal(i int, d *Column, j int) bool {
	if c.Null[i] || d.Null[j] {
		return c.Null[i] == d.Null[j]
	}
	switch {
	case c.Type.Kind == Text:
		return c.Text[i] == d.Text[j]
	case c.Type.Kind == Double:
		return c.Float[i] == d.Float[j]
	case c.Type.Wide():
		return c.Wide[i] == d.Wide[j]
	}
	return c.Int[i] == d.Int[j]
}

// Exact returns row i of an integer or decimal column, unscaled.
func (c *Column) Exact(i int) exact.Int128 {
	if c.Type.Wide() {
		return c.Wide[i]
	}
	return exact.Wide(c.Int[i])
}

// Fault is a reason to set a row of a batch aside.
type Fault struct {
	Row    int32
	Of     string // the column or key that it speaks of; may be empty
	Reason string // the rule that failed, the same text for all rows that fail it
	Detail string // what this row has to say: its value; may be empty
}

// Origin tells where the rows of a batch came from.
type Origin struct {
	File  string
	Head  []string         // what the first record of the file has, where fields are found by it
	Line  []int64          // of each row, from 1
	Raw   func(int) string // the row as it stands in the file
	Bytes int64            // that the batch has in the file
}

// Batch is some consecutive rows of a source.
type Batch struct {
	N      int
	Cols   []Column
	Faults []Fault // rows set aside so far, in any order
	From   Origin
	bad    []bool
}

// NewBatch returns an empty batch with columns for fields.
func NewBatch(fields []Field) *Batch {
	b := &Batch{Cols: make([]Column, len(fields))}
	for i, f := range fields {
		b.Cols[i].Type = f.Type
	}
	return b
}

// Reset makes the batch n rows long with no faults.
func (b *Batch) Reset(n int) {
	b.N, b.Faults = n, b.Faults[:0]
	for i := range b.Cols {
		b.Cols[i].Resize(n)
	}
	b.bad = Resized(b.bad, n)
	clear(b.bad)
}

// Cut shortens the batch to its first n rows.
func (b *Batch) Cut(n int) {
	b.N = n
	for i := range b.Cols {
		b.Cols[i].Truncate(n)
	}
	b.bad = b.bad[:n]
}

// Take exchanges the contents of two batches whose columns have the same types. The columns stay where they are in
// memory, and what is pointed to keeps its place.
func (b *Batch) Take(from *Batch) {
	for k := range b.Cols {
		b.Cols[k], from.Cols[k] = from.Cols[k], b.Cols[k]
	}
	b.N, from.N = from.N, b.N
	b.Faults, from.Faults = from.Faults, b.Faults
	b.From, from.From = from.From, b.From
	b.bad, from.bad = from.bad, b.bad
}

// Keep leaves only the rows that keep says true for, and returns how many went.
func (b *Batch) Keep(keep func(i int) bool) int {
	var rows []int32
	for i := range b.N {
		if keep(i) {
			rows = append(rows, int32(i))
		}
	}
	gone := b.N - len(rows)
	if gone == 0 {
		return 0
	}
	to := make([]int32, b.N)
	for n := range to {
		to[n] = -1
	}
	for n, i := range rows {
		to[i] = int32(n)
		for k := range b.Cols {
			b.Cols[k].Set(n, &b.Cols[k], int(i))
		}
		b.From.Line[n], b.bad[n] = b.From.Line[i], b.bad[i]
	}
	faults := b.Faults[:0]
	for _, f := range b.Faults {
		if to[f.Row] >= 0 {
			f.Row = to[f.Row]
			faults = append(faults, f)
		}
	}
	raw := b.From.Raw
	b.From.Raw = func(i int) string { return raw(int(rows[i])) }
	b.From.Line, b.Faults = b.From.Line[:len(rows)], faults
	b.Cut(len(rows))
	return gone
}

// SetAside marks a row as not to be used, with its reason.
func (b *Batch) SetAside(row int, of, reason, detail string) {
	b.Faults = append(b.Faults, Fault{int32(row), of, reason, detail})
	b.bad[row] = true
}

// Bad reports whether a row has been set aside.
func (b *Batch) Bad(row int) bool { return b.bad[row] }

// Piece is a batch that has not been decoded yet. Fill decodes it into the batch's first columns, which
// have the types of the source's fields; further columns are left to the caller. It may be called on
// any goroutine, but once.
type Piece interface{ Fill(*Batch) error }

// Source yields rows of typed columns as pieces in source order.
type Source interface {
	Fields() []Field
	Pieces(context.Context) iter.Seq2[Piece, error]
}

// Wrapped yields pieces as others that are made of them.
func Wrapped(pieces iter.Seq2[Piece, error], as func(Piece) Piece) iter.Seq2[Piece, error] {
	return func(yield func(Piece, error) bool) {
		for p, err := range pieces {
			if err == nil {
				p = as(p)
			}
			if !yield(p, err) {
				return
			}
		}
	}
}

// Compare orders row i of c and row j of d, of the same type and not null: numbers and times by size, text by
// its bytes.
func (c *Column) Compare(i int, d *Column, j int) int {
	switch {
	case c.Type.Kind == Text:
		return cmp.Compare(c.Text[i], d.Text[j])
	case c.Type.Kind == Double:
		return cmp.Compare(c.Float[i], d.Float[j])
	case c.Type.Wide():
		return c.Wide[i].Cmp(d.Wide[j])
	}
	return cmp.Compare(c.Int[i], d.Int[j])
}

// Pointers returns pointers to columns.
func Pointers(cols []Column) []*Column {
	list := make([]*Column, len(cols))
	for i := range cols {
		list[i] = &cols[i]
	}
	return list
}

// Pick returns some columns of a batch, by their places.
func (b *Batch) Pick(at []int) []*Column {
	cols := make([]*Column, len(at))
	for n, k := range at {
		cols[n] = &b.Cols[k]
	}
	return cols
}

// SetExact makes row i of an integer or decimal column an unscaled value, if it fits the type.
func (c *Column) SetExact(i int, v exact.Int128) bool {
	limit := exact.Pow10(int(c.Type.Precision))
	switch {
	case c.Type.Kind == Integer:
		if v.Hi != int64(v.Lo)>>63 {
			return false
		}
	case v.Cmp(limit) >= 0 || v.Neg().Cmp(limit) >= 0:
		return false
	}
	if c.Null[i] = false; c.Type.Wide() {
		c.Wide[i] = v
	} else {
		c.Int[i] = int64(v.Lo)
	}
	return true
}

// Negate turns the sign of number i, and reports whether its type has the negative. A null stays one.
func (c *Column) Negate(i int) bool {
	switch {
	case c.Null[i]:
		return true
	case c.Type.Kind == Double:
		c.Float[i] = -c.Float[i]
		return true
	}
	return c.SetExact(i, c.Exact(i).Neg())
}
