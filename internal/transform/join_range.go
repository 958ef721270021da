package transform

import (
	"sort"

	"ironmonger/internal/column"
	"ironmonger/internal/star"
)

// limits are the ranges of values that the rows of another source mean.
type limits struct {
	of       int // our column
	from, to *column.Column
	furthest []int32 // by the position of a row: of the rows of its member up to it, the one that reaches furthest
}

// compare orders rows by where their ranges begin; null is before all values.
func (l *limits) compare(a, b int32) int {
	switch {
	case l.from.Null[a] && l.from.Null[b]:
		return 0
	case l.from.Null[a]:
		return -1
	case l.from.Null[b]:
		return 1
	}
	return l.from.Compare(int(a), l.from, int(b))
}

// reach notes how far the ranges up to each row reach, so that a search backwards can end.
func (l *limits) reach(rows, members []int32) {
	l.furthest = make([]int32, len(rows))
	for n, row := range rows {
		l.furthest[n] = row
		if n == 0 || members[rows[n-1]] != members[row] {
			continue
		}
		if before := l.furthest[n-1]; !l.to.Null[row] && (l.to.Null[before] || l.to.Compare(int(before), l.to, int(row)) > 0) {
			l.furthest[n] = before
		}
	}
}

// within returns how many rows of a member have the value of row i in their range, and which is taken.
func (x *join) within(b *column.Batch, i int, m int32) fit {
	l := x.limits
	value := &b.Cols[l.of]
	if m < 0 || value.Null[i] {
		return fit{}
	}
	begin, end := int(x.first[m]), int(x.first[m+1])
	end = begin + sort.Search(end-begin, func(n int) bool {
		row := x.rows[begin+n]
		return !l.from.Null[row] && l.from.Compare(int(row), value, i) > 0
	})
	found := fit{pick: -1}
	ends := func(row int32) bool { return !l.to.Null[row] && l.to.Compare(int(row), value, i) <= 0 }
	for n := end - 1; n >= begin && !ends(l.furthest[n]); n-- {
		row := x.rows[n]
		if ends(row) {
			continue
		}
		if found.n++; found.pick < 0 || (row > found.pick) == (x.of.Several == star.Last) {
			found.pick = row
		}
	}
	return found
}
