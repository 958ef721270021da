package transform

import (
	"cmp"
	"context"
	"iter"
	"math"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/star"
)

// cut is the rows of lists with spans of time, which are cut where one begins or ends. It keeps them in memory: they
// say who owns what, and not what happens.
type cut struct {
	of *star.Spans
	*index
	from, to int
	rest     []int // the other columns
	rows     *column.Batch
	files    []string
	lists    [][]int32 // rows
}

// spans cuts spans.
func (f *Flow) spans(ctx context.Context, rows iter.Seq2[column.Piece, error]) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		x := f.newCut()
		err := f.inOrder(ctx, rows, func(b *column.Batch) error {
			x.add(f, b)
			if b.Keep(b.Bad); b.N > 0 && !yield(f.aside(b), nil) {
				return errEnough
			}
			return nil
		})
		if err == nil {
			err = x.yield(f, yield)
		}
		if err != nil && err != errEnough {
			yield(nil, err)
		}
	}
}

func (f *Flow) newCut() *cut {
	s := f.of.Spans
	x := &cut{of: s, index: newIndex(f.local, s.Within), rows: column.NewBatch(f.local)}
	x.from, x.to = column.Find(f.local, s.From), column.Find(f.local, s.To)
	for k := range f.local {
		if k != x.from && k != x.to && !slices.Contains(x.index.at, k) {
			x.rest = append(x.rest, k)
		}
	}
	return x
}

// add notes the rows of a batch, and sets those aside that do not have a span.
func (x *cut) add(f *Flow, b *column.Batch) {
	x.over(b)
	in := int64(0)
	for i := range b.N {
		if b.Bad(i) || !isSpan(b, i, x.from, x.to, x.of.From, x.of.To) {
			continue
		}
		in++
		list, fresh := x.number(i)
		if fresh {
			x.lists = append(x.lists, nil)
		}
		x.lists[list] = append(x.lists[list], int32(x.rows.N))
		for k := range x.rows.Cols {
			x.rows.Cols[k].AppendOwn(&b.Cols[k], i)
		}
		x.files, x.rows.From.Line = append(x.files, b.From.File), append(x.rows.From.Line, b.From.Line[i])
		x.rows.N++
	}
	f.group.in.Add(in)
}

// held is a time in which a list has the same rows.
type held struct {
	from, to int64   // without an end, the greatest number
	rows     []int32 // in the order of what they say
}

// cuts returns the spans of a list.
func (x *cut) cuts(list []int32) []held {
	from, to := &x.rows.Cols[x.from], &x.rows.Cols[x.to]
	end := func(i int32) int64 {
		if to.Null[i] {
			return math.MaxInt64
		}
		return to.Int[i]
	}
	slices.SortStableFunc(list, x.compare)
	var times []int64
	begins := slices.Clone(list)
	for _, i := range list {
		times = append(times, from.Int[i], end(i))
	}
	slices.Sort(times)
	times = slices.Compact(times)
	slices.SortStableFunc(begins, func(i, k int32) int { return cmp.Compare(from.Int[i], from.Int[k]) })
	var spans []held
	var active []int32
	for n, time := range times[:len(times)-1] {
		active = slices.DeleteFunc(slices.Clone(active), func(i int32) bool { return end(i) <= time })
		for len(begins) > 0 && from.Int[begins[0]] == time {
			active, begins = append(active, begins[0]), begins[1:]
		}
		slices.SortStableFunc(active, x.compare)
		last := len(spans) - 1
		switch {
		case len(active) == 0:
		case last >= 0 && spans[last].to == time && x.alike(spans[last].rows, active):
			spans[last].to = times[n+1]
		default:
			spans = append(spans, held{time, times[n+1], active})
		}
	}
	return spans
}

// compare orders rows of a list by what they say besides their time.
func (x *cut) compare(i, k int32) int {
	for _, at := range x.rest {
		if d := nullsLast(&x.rows.Cols[at], int(i), int(k)); d != 0 {
			return d
		}
	}
	return 0
}

// alike reports whether rows say the same.
func (x *cut) alike(a, b []int32) bool {
	return slices.EqualFunc(a, b, func(i, k int32) bool { return x.compare(i, k) == 0 })
}

// yield yields the rows of all spans, list by list in the order in which they were met.
func (x *cut) yield(f *Flow, yield func(column.Piece, error) bool) error {
	out, file, made := column.NewBatch(f.local), "", int64(0)
	send := func() bool {
		if out.N == 0 {
			return true
		}
		batch := out
		out = column.NewBatch(f.local)
		batch.From.File, batch.From.Raw = file, func(i int) string { return natural(column.Pointers(batch.Cols), i) }
		return yield(lastPiece{f, filled{batch}}, nil)
	}
	for _, list := range x.lists {
		for _, s := range x.cuts(list) {
			for _, i := range s.rows {
				if (out.N == 4096 || x.files[i] != file) && !send() {
					return errEnough
				}
				file = x.files[i]
				for k := range out.Cols {
					out.Cols[k].Append(&x.rows.Cols[k], int(i))
				}
				out.Cols[x.from].Int[out.N] = s.from
				if c := &out.Cols[x.to]; s.to != math.MaxInt64 {
					c.Null[out.N], c.Int[out.N] = false, s.to
				} else {
					c.SetNull(out.N)
				}
				out.From.Line = append(out.From.Line, x.rows.From.Line[i])
				out.N++
				made++
			}
		}
	}
	in := f.group.in.Load()
	f.group.merged.Store(max(0, in-made))
	f.made.Add(max(0, made-in))
	if !send() {
		return errEnough
	}
	return nil
}
