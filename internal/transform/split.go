package transform

import (
	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/star"
)

// split makes rows of the elements of lists.
type split struct {
	*star.Split
	list int // the column of the lists
	into int // where the elements come, among the columns of the flow; none if they are not needed
	flow *Flow
}

// newSplit finds the lists that become rows among the columns of a part; nil if none do.
func (f *Flow) newSplit(p *part) *split {
	x := f.of.Split
	if x == nil {
		return nil
	}
	p.same = false
	return &split{x, p.take[column.Find(f.taken, x.Column)], column.Find(f.taken, x.Into.Text), f}
}

// apply fills to with a row for each element of the list of each row of have. A row that is set aside stays one.
func (x *split) apply(have, to *column.Batch, p *part) {
	var rows []int32
	var elements []string
	lists := &have.Cols[max(x.list, 0)]
	if x.list < 0 {
		lists = &p.consts[-1-x.list]
	}
	empty := int64(0)
	for i := range have.N {
		at := i
		if x.list < 0 {
			at = 0
		}
		var all []string
		if !lists.Null[at] && !have.Bad(i) {
			all = expr.Elements(lists.Text[at], x.At)
		}
		for _, e := range all {
			rows, elements = append(rows, int32(i)), append(elements, e)
		}
		switch {
		case len(all) > 0:
		case x.Empty || have.Bad(i):
			rows, elements = append(rows, int32(i)), append(elements, "")
		default:
			empty++
		}
	}
	x.count(int64(have.N), int64(len(rows)), empty)
	p.spread(have, to, rows, func(k int, c *column.Column) bool {
		if k != x.into {
			return false
		}
		for n, e := range elements {
			c.Null[n], c.Text[n] = e == "", e
		}
		return true
	})
	for n, i := range rows {
		for _, fault := range have.Faults {
			if fault.Row == i {
				to.SetAside(n, fault.Of, fault.Reason, fault.Detail)
			}
		}
	}
}

// count notes how many rows became how many, and how many lists are empty.
func (x *split) count(had, rows, empty int64) {
	f := x.flow
	f.emptied.Add(empty)
	f.read.in.Add(empty)
	f.read.left.Add(empty)
	if len(f.below()) > 0 { // where the rows are counted
		f.made.Add(rows + empty - had)
	}
}

// spread fills to with copies of rows of have, but for the columns that set fills.
func (p *part) spread(have, to *column.Batch, rows []int32, set func(k int, c *column.Column) bool) {
	to.Reset(len(rows))
	for k, at := range p.take {
		c := &to.Cols[k]
		switch {
		case set(k, c), p.ofFile != nil && p.ofFile[k] != nil:
		case at < 0:
			for n := range rows {
				c.Set(n, &p.consts[-1-at], 0)
			}
		default:
			for n, i := range rows {
				c.Set(n, &have.Cols[at], int(i))
			}
		}
	}
	lines := make([]int64, len(rows))
	for n, i := range rows {
		lines[n] = have.From.Line[i]
	}
	raw := have.From.Raw
	to.From = have.From
	to.From.Line, to.From.Raw = lines, func(n int) string { return raw(int(rows[n])) }
}
