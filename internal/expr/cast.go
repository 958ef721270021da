package expr

import (
	"strconv"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/parse"
)

// cast changes the type of a value; one that does not fit is a fault.
type cast struct {
	base
	of     node
	reader *parse.Reader
	layout *parse.Layout // in which its text is written; nil if in the usual one
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
	c := &cast{base: newBase(to), of: of, reader: parse.NewReader(nil)}
	if c.way() == nil {
		return nil, errorAt(at, "%s cannot be cast to %s", from, to)
	}
	return c, nil
}

// newLaidOut casts a text that is written in a layout.
func newLaidOut(layout token, of node, to column.Type) (node, error) {
	of = retype(of, column.Type{Kind: column.Text})
	if !isKind(of, column.Text) || !to.Temporal() && to.Kind != column.Time {
		return nil, errorAt(layout.at, "a layout is for a text that is cast to a date, a timestamp or a time")
	}
	l, err := parse.NewLayout(layout.text, to.Kind, parse.Words{Months: englishMonths})
	if err != nil {
		return nil, errorAt(layout.at, "%v", err)
	}
	list := parse.Layouts{l}
	reader := parse.NewReader(nil).Styled(&parse.Style{Date: list, Timestamp: list, Time: list})
	return &cast{base: newBase(to), of: of, reader: reader, layout: l}, nil
}

var englishMonths = parse.MonthNames(
	[]string{"January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December"},
	[]string{"Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"},
)

// caster casts row i; it says false for a value that does not fit.
type caster func(c *cast, out *Result, i int, x *Result) bool

// way returns how values get from one type to the other; nil if there is no way.
func (c *cast) way() caster {
	from, to := c.of.typ(), c.typ()
	switch {
	case from.Kind == column.Text:
		return (*cast).read
	case to.Kind == column.Text:
		return (*cast).write
	case from.Exact() && to.Exact():
		return (*cast).rescale
	case from.Exact() && to.Kind == column.Double:
		return (*cast).toDouble
	case from.Kind == column.Double && to.Exact():
		return (*cast).fromDouble
	case from.Kind == column.Timestamp && (to.Kind == column.Date || to.Kind == column.Time):
		return (*cast).ofTimestamp
	case from.Kind == column.Date && to.Kind == column.Timestamp:
		return (*cast).midnight
	case from.Kind == column.Boolean && to.Kind == column.Integer:
		return (*cast).number
	}
	return nil
}

func (c *cast) read(out *Result, i int, x *Result) bool {
	return c.reader.Set(&out.Column, i, x.Text[i]) == nil
}

func (c *cast) write(out *Result, i int, x *Result) bool {
	out.Text[i] = x.Value(i)
	return true
}

func (c *cast) rescale(out *Result, i int, x *Result) bool {
	z, ok := x.Exact(i).Rescale(int(x.Type.Scale), int(out.Type.Scale))
	return ok && setExact(out, i, z)
}

func (c *cast) toDouble(out *Result, i int, x *Result) bool {
	v, err := strconv.ParseFloat(x.Value(i), 64)
	out.Float[i] = v
	return err == nil
}

func (c *cast) fromDouble(out *Result, i int, x *Result) bool {
	return c.reader.Set(&out.Column, i, strconv.FormatFloat(x.Float[i], 'f', int(out.Type.Scale), 64)) == nil
}

func (c *cast) ofTimestamp(out *Result, i int, x *Result) bool {
	day := civil.DayOf(x.Int[i])
	if out.Int[i] = day; out.Type.Kind == column.Time {
		out.Int[i] = x.Int[i] - day*civil.DayMicros
	}
	return true
}

func (c *cast) midnight(out *Result, i int, x *Result) bool {
	out.Int[i] = x.Int[i] * civil.DayMicros
	return true
}

func (c *cast) number(out *Result, i int, x *Result) bool {
	out.Int[i] = x.Int[i]
	return true
}

func (c *cast) eval(b *column.Batch) *Result {
	x, way := c.of.eval(b), c.way()
	out := c.begin(b.N)
	for i := range b.N {
		if !carry(out, i, x) && !way(c, out, i, x) {
			out.fail(i, misfit)
		}
	}
	return out
}
