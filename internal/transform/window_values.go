package transform

import (
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/keyindex"
	"ironmonger/internal/star"
)

// grouping is the numbers of rows, those that are seen together beside each other, in order.
type grouping struct {
	rows []int32
	ends []int32 // of each group of them
}

// together returns rows by the columns in which they are equal that are seen together. It keeps what it has found, by
// the numbers of the columns.
func (x *window) together(by []*column.Column, n int, known map[string]*grouping) *grouping {
	name := fmt.Sprint(x.uses[:x.by])
	if g := known[name]; g != nil {
		return g
	}
	g := &grouping{rows: make([]int32, n)}
	known[name] = g
	if len(by) == 0 {
		for i := range g.rows {
			g.rows[i] = int32(i)
		}
		if n > 0 {
			g.ends = []int32{int32(n)}
		}
		return g
	}
	types := make([]column.Type, len(by))
	for k, c := range by {
		types[k] = c.Type
	}
	values, of := keyindex.NewWithNulls(types), make([]int32, n)
	for i := range of {
		number, fresh := values.Add(by, i)
		if of[i] = number; fresh {
			g.ends = append(g.ends, 0)
		}
		g.ends[number]++
	}
	first := int32(0) // of a group, while ends has how many rows it has
	for k, size := range g.ends {
		g.ends[k], first = first, first+size
	}
	for i, number := range of {
		g.rows[g.ends[number]] = int32(i)
		g.ends[number]++
	}
	return g
}

// over computes the values of rows, by their order in cols, the columns that it uses.
func (x *window) over(cols []*column.Column, n int, known map[string]*grouping) (column.Column, error) {
	out := column.Column{Type: x.Type}
	out.Resize(n)
	ordered := cols[x.by : x.by+len(x.Order)]
	peers := func(i, k int32) int {
		for n, c := range ordered {
			if d := nullsLast(c, int(i), int(k)); d != 0 {
				if x.Order[n].Descending {
					d = -d
				}
				return d
			}
		}
		return 0
	}
	inOrder := func(i, k int32) int {
		if d := peers(i, k); d != 0 {
			return d
		}
		return int(i - k)
	}
	var of, shares *column.Column
	rest := cols[x.by+len(x.Order):]
	if x.Column != "" {
		of, rest = rest[0], rest[1:]
	}
	if x.Shares != "" {
		shares = rest[0]
	}
	g := x.together(cols[:x.by], n, known)
	rows := g.rows
	if ordered != nil {
		rows = slices.Clone(rows)
	}
	from := int32(0)
	for _, to := range g.ends {
		group := rows[from:to]
		if from = to; len(ordered) > 0 {
			slices.SortFunc(group, inOrder)
		}
		var err error
		if x.Weighs() {
			err = x.weigh(&out, of, shares, group, peers)
		} else {
			err = x.partition(&out, of, group, peers)
		}
		if err != nil {
			return out, err
		}
	}
	return out, nil
}

// nullsLast compares two values of a column; nulls are equal, and greater than any value.
func nullsLast(c *column.Column, i, k int) int {
	switch {
	case c.Null[i] && c.Null[k]:
		return 0
	case c.Null[i]:
		return 1
	case c.Null[k]:
		return -1
	}
	return c.Compare(i, c, k)
}

// partition computes the values of rows that are seen together, which are in order. As in SQL, an aggregate has in it
// all rows up to the last one that is equal in the columns of the order.
func (x *window) partition(out, of *column.Column, rows []int32, peers func(i, k int32) int) error {
	switch x.Function {
	case "row_number":
		for n, i := range rows {
			out.Null[i], out.Int[i] = false, int64(n+1)
		}
		return nil
	case "lag", "lead":
		step := map[string]int{"lag": -1, "lead": 1}[x.Function]
		for n, i := range rows {
			if k := n + step; k < 0 || k >= len(rows) {
				out.SetNull(int(i))
			} else {
				out.Set(int(i), of, int(rows[k]))
			}
		}
		return nil
	}
	sum := groups{aggregates: []star.Aggregate{{Name: x.Name, Function: x.Function, Type: x.Type}}, index: &index{}}
	sum.cols = []column.Column{{Type: x.Type}}
	if sum.cols[0].AppendNull(); x.Function == "count" {
		sum.cols[0].Null[0] = false
	}
	sum.at = []int{0}
	one := &column.Batch{N: len(rows)}
	if of == nil {
		sum.at[0] = -1
	} else {
		one.Cols = []column.Column{*of}
	}
	for from := 0; from < len(rows); {
		to := from
		for ; to < len(rows) && peers(rows[from], rows[to]) == 0; to++ {
			if err := sum.aggregate(0, 0, one, int(rows[to])); err != nil {
				return err
			}
		}
		for ; from < to; from++ {
			out.Set(int(rows[from]), &sum.cols[0], 0)
		}
	}
	return nil
}
