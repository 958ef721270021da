package expr

import (
	"strconv"

	"ironmonger/internal/column"
)

// cast changes the type of a value; one that doesn't fit is a fault.
type cast struct {
	base
	of  node
	set func(out *Result, i int, x *Result) bool
}

func toDouble(n node) node {
	if isKind(n, column.Double) {
		return n
	}
	c, _ := newCast(0, n, column.Type{Kind: column.Double})
	return c
}

func newCast(at int, of node, to column.Type) (node, error) {
	of = retype(of, to)
	from := of.typ()
	if from == to {
		return of, nil
	}
	reader := column.NewReader(nil)
	c := &cast{base: newBase(to), of: of}
	switch {
	case from.Kind == column.Text:
		c.set = func(out *Result, i int, x *Result) bool { return reader.Set(&out.Column, i, x.Text[i]) == nil }
	case to.Kind == column.Text:
		c.set = func(out *Result, i int, x *Result) bool { out.Text[i] = x.Value(i); return true }
	case from.Exact() && to.Exact():
		c.set = func(out *Result, i int, x *Result) bool {
			z, ok := x.Exact(i).Rescale(int(from.Scale), int(to.Scale))
			return ok && setExact(out, i, z)
		}
	case from.Exact() && to.Kind == column.Double:
		c.set = func(out *Result, i int, x *Result) bool {
			v, err := strconv.ParseFloat(x.Value(i), 64)
			out.Float[i] = v
			return err == nil
		}
	case from.Kind == column.Double && to.Exact():
		c.set = func(out *Result, i int, x *Result) bool {
			return reader.Set(&out.Column, i, strconv.FormatFloat(x.Float[i], 'f', int(to.Scale), 64)) == nil
		}
	case from.Kind == column.Timestamp && to.Kind == column.Date:
		c.set = func(out *Result, i int, x *Result) bool { out.Int[i] = column.DayOf(x.Int[i]); return true }
	case from.Kind == column.Timestamp && to.Kind == column.Time:
		c.set = func(out *Result, i int, x *Result) bool {
			out.Int[i] = x.Int[i] - column.DayOf(x.Int[i])*column.DayMicros
			return true
		}
	case from.Kind == column.Date && to.Kind == column.Timestamp:
		c.set = func(out *Result, i int, x *Result) bool { out.Int[i] = x.Int[i] * column.DayMicros; return true }
	case from.Kind == column.Boolean && to.Kind == column.Integer:
		c.set = func(out *Result, i int, x *Result) bool { out.Int[i] = x.Int[i]; return true }
	default:
		return nil, errorAt(at, "%s can't be cast to %s", from, to)
	}
	return c, nil
}

func (c *cast) eval(b *column.Batch) *Result {
	x := c.of.eval(b)
	out := c.begin(b.N)
	for i := range b.N {
		if !carry(out, i, x) && !c.set(out, i, x) {
			out.fail(i, misfit)
		}
	}
	return out
}
