package transform

import (
	"ironmonger/internal/column"
	"ironmonger/internal/star"
)

// unpivot makes rows of columns.
type unpivot struct {
	*star.Unpivot
	at    []int           // the columns
	of    map[string]bool // their names
	name  int             // where the names come, among the columns of the flow; none if they are not needed
	value int             // and the values
	left  func(n int64)   // counts columns without a value
}

// newUnpivot finds the columns that become rows among those that a part reads; nil if none do.
func (f *Flow) newUnpivot(fields []column.Field) *unpivot {
	u := f.of.Unpivot
	if u == nil {
		return nil
	}
	x := &unpivot{
		Unpivot: u, of: map[string]bool{},
		name: column.Find(f.taken, u.NameAs.Text), value: column.Find(f.taken, u.ValueAs.Text),
		left: func(n int64) {
			f.emptied.Add(n)
			f.read.in.Add(n)
			f.read.left.Add(n)
		},
	}
	for _, w := range u.Columns {
		x.at = append(x.at, column.Find(fields, w.Text))
		x.of[w.Text] = true
	}
	return x
}

// speaks reports whether a fault is one of the row that column c of row i becomes: of that column, or of the others.
func (u *unpivot) speaks(fault *column.Fault, i, c int) bool {
	return int(fault.Row) == i && (!u.of[fault.Of] || fault.Of == u.Columns[c].Text)
}

// faulty reports whether the row that column c of row i becomes is set aside.
func (u *unpivot) faulty(have *column.Batch, i, c int) bool {
	for k := range have.Faults {
		if u.speaks(&have.Faults[k], i, c) {
			return true
		}
	}
	return false
}

// apply fills to with a row for each column of each row of have; only what a part takes of have is filled, and the
// faults of a column are those of its row.
func (u *unpivot) apply(have, to *column.Batch, p *part) {
	var rows, which []int32
	empty := int64(0)
	for i := range have.N {
		for c, at := range u.at {
			if have.Cols[at].Null[i] && !u.Empty && !(have.Bad(i) && u.faulty(have, i, c)) {
				empty++
				continue
			}
			rows, which = append(rows, int32(i)), append(which, int32(c))
		}
	}
	u.left(empty)
	p.spread(have, to, rows, func(k int, c *column.Column) bool {
		switch k {
		case u.name:
			for n := range rows {
				c.Null[n], c.Text[n] = false, u.Columns[which[n]].Text
			}
		case u.value:
			for n, i := range rows {
				c.Set(n, &have.Cols[u.at[which[n]]], int(i))
			}
		default:
			return false
		}
		return true
	})
	if len(have.Faults) > 0 {
		for n, i := range rows {
			for _, fault := range have.Faults {
				if u.speaks(&fault, int(i), int(which[n])) {
					to.SetAside(n, fault.Of, fault.Reason, fault.Detail)
				}
			}
		}
	}
}
