package transform

import (
	"cmp"
	"math"
	"slices"

	"ironmonger/internal/column"
)

// interval is the days of a span of time, from one through another.
type interval struct {
	first, last int64 // without an end, the greatest number
	file        string
	line        int64
}

// isSpan sets row i aside if the columns from and to, which have these names, have no span.
func isSpan(b *column.Batch, i, from, to int, since, until string) bool {
	switch from, to := &b.Cols[from], &b.Cols[to]; {
	case from.Null[i]:
		b.SetAside(i, since, "no "+since+", so nobody knows since when", "")
	case !to.Null[i] && to.Int[i] <= from.Int[i]:
		b.SetAside(i, until, "it does not end after it begins", from.Value(i)+" to "+to.Value(i))
	default:
		return true
	}
	return false
}

// cover notes the span of row i.
func (x *periodic) cover(to *member, b *column.Batch, i int) {
	s := interval{x.dayOf(b.Cols[x.from].Int[i]), math.MaxInt64, b.From.File, b.From.Line[i]}
	if x.reach(s.first); !b.Cols[x.to].Null[i] {
		s.last = x.dayOf(b.Cols[x.to].Int[i] - 1) // the end is not part of it
		x.reach(s.last)
	}
	to.spans = append(to.spans, s)
}

// covered makes the rows of a member that has spans: one for each period, from the first span that has any of it.
func (x *periodic) covered(m int, row rowOf) error {
	spans := x.members[m].spans
	slices.SortStableFunc(spans, func(a, b interval) int { return cmp.Compare(a.first, b.first) })
	done := int64(math.MinInt64) // the end of the last period: between the beginning of a span and it, all have been made
	for _, s := range spans {
		end := periodEnd(x.of.Every, s.first)
		if end <= done {
			x.doubled += periodsBetween(x.of.Every, end, min(done, periodEnd(x.of.Every, min(s.last, x.last))))
			end = periodEnd(x.of.Every, done+1)
		}
		for ; end <= min(periodEnd(x.of.Every, min(s.last, x.last)), x.last); end = periodEnd(x.of.Every, end+1) {
			at := &movement{file: s.file, line: s.line}
			if err := row(m, at, func(cols []column.Column) error { cols[0].AppendInt(end); return nil }); err != nil {
				return err
			}
			done = end
		}
	}
	return nil
}

// periodsBetween counts periods by their ends, from one through another.
func periodsBetween(every string, from, to int64) (n int64) {
	for end := from; end <= to; end = periodEnd(every, end+1) {
		n++
	}
	return n
}
