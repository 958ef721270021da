package prove

import (
	"fmt"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// lists checks the weights of a fact whose rows are members of lists: those of a list add up to 1, or it has none. Rows
// that are gone are of no list any more, and rows with a special member in place of what tells their list are of one
// that nobody knows.
func (p *proof) lists(f *schema.Fact) error {
	for _, l := range f.Lists() {
		c := p.check(
			"weights",
			f.Table.Name,
			"the values of "+l.Weight+" with the same "+joined(l.Within)+" add up to 1, or all are null",
			"load what is set aside; with delivers: all and gone: remove, members leave the lists that do not have them any more",
		)
		if p.held[f.Table.Name] == nil {
			c.State = Unseen
			continue
		}
		begin := time.Now()
		x := newWeighing(p, f, l, c)
		query := warehouse.Query{Table: f.Table.Name, Fields: f.Table.Fields(), Convert: f.Table.Borrowed, OrderBy: l.Within}
		err := warehouse.Each(p.ctx, p.r, query, x.look)
		x.judge()
		c.took = time.Since(begin)
		if err != nil {
			return err
		}
	}
	return nil
}

// weighing adds the weights of one list after the other up.
type weighing struct {
	p      *proof
	f      *schema.Fact
	c      *Check
	weight int
	within []int
	keys   []bool // which of these are keys
	gone   int
	one    exact.Int128 // in units of the last place

	last     *column.Batch // a row of the list at hand; none before the first
	sum      exact.Int128
	rows     int64
	nulls    int64
	negative bool
}

func newWeighing(p *proof, f *schema.Fact, l star.List, c *Check) *weighing {
	fields := f.Table.Fields()
	x := &weighing{p: p, f: f, c: c, weight: column.Find(fields, l.Weight), gone: column.Find(fields, "is_gone"), last: column.NewBatch(fields)}
	for _, name := range l.Within {
		at := column.Find(fields, name)
		x.within = append(x.within, at)
		x.keys = append(x.keys, column.Find(f.Degenerate, name) < 0)
	}
	x.one = exact.Wide(1)
	for range fields[x.weight].Type.Scale {
		x.one, _ = x.one.Mul(exact.Wide(10))
	}
	return x
}

func (x *weighing) look(b *column.Batch) error {
	for i := range b.N {
		if x.gone >= 0 && !b.Cols[x.gone].Null[i] && b.Cols[x.gone].Int[i] != 0 || x.unknown(b, i) {
			continue
		}
		same := x.last.N > 0
		for _, k := range x.within {
			same = same && x.last.Cols[k].Equal(0, &b.Cols[k], i)
		}
		if !same {
			x.judge()
			x.begin(b, i)
		}
		x.rows++
		w := &b.Cols[x.weight]
		if w.Null[i] {
			x.nulls++
			continue
		}
		v := w.Exact(i)
		x.sum, _ = x.sum.Add(v)
		x.negative = x.negative || v.Big().Sign() < 0 && !x.f.Reverses()
	}
	return nil
}

// begin begins the list of row i.
func (x *weighing) begin(b *column.Batch, i int) {
	x.last.N = 1
	for k := range b.Cols {
		x.last.Cols[k].Truncate(0)
		x.last.Cols[k].AppendOwn(&b.Cols[k], i)
	}
	x.sum, x.rows, x.nulls, x.negative = exact.Int128{}, 0, 0, false
}

// unknown reports whether the list of row i is not known.
func (x *weighing) unknown(b *column.Batch, i int) bool {
	for n, k := range x.within {
		if x.keys[n] && !b.Cols[k].Null[i] && b.Cols[k].Int[i] < 0 {
			return true
		}
	}
	return false
}

// judge judges the list at hand.
func (x *weighing) judge() {
	if x.last.N == 0 {
		return
	}
	x.c.Looked++
	what := ""
	switch {
	case x.nulls == x.rows:
	case x.nulls > 0:
		what = fmt.Sprintf("%d of the %d members of its list have no weight", x.nulls, x.rows)
	case x.negative:
		what = "a weight of its list is below zero"
	case x.sum != x.one:
		what = fmt.Sprintf("the weights of its list add up to %s", decimalOf(x.sum, x.f.Table.Fields()[x.weight].Type))
	}
	if what != "" {
		x.c.against(func() Example { return x.p.example(x.f.Table, x.last, 0, what) })
	}
}

// decimalOf writes units of the last place of a type.
func decimalOf(units exact.Int128, t column.Type) string {
	c := column.Column{Type: column.Type{Kind: column.Decimal, Precision: exact.MaxDigits, Scale: t.Scale}}
	c.Resize(1)
	c.SetExact(0, units)
	return c.Value(0)
}
