package transform

import (
	"cmp"
	"context"
	"fmt"
	"iter"
	"math"
	"slices"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/star"
)

// periodEnd returns the last day of the period that a day is in.
func periodEnd(every string, day int64) int64 {
	year, month, _ := civil.Date(day)
	switch every {
	case "day":
		return day
	case "week":
		return day + (3-day%7+7)%7 // 1970-01-01 was a Thursday
	case "quarter":
		month = (month + 2) / 3 * 3
	case "year":
		month = 12
	}
	return civil.Day(year, month, civil.DaysIn(year, month))
}

// periodic is what is known of the periods of members.
type periodic struct {
	of *star.Periods
	*index
	on, amount, from, to, opens, closed int             // columns, or -1
	keys                                []column.Column // of By, by member
	members                             []member
	last                                int64 // the end of the last period
	some                                bool
	timed                               bool // the column has times, and not days
	doubled                             int64
}

// member is the periods in which a member has rows, by their ends; or the spans of time that it has.
type member struct {
	periods map[int64]*movement
	spans   []interval
	opening *opening
	first   int64 // with opens, the first day of its rows
}

// movement is what moved in a period, or the last value that was observed in it.
type movement struct {
	added, taken         exact.Int128
	lateAdded, lateTaken exact.Int128 // of these, what came late
	rows                 int64
	value                column.Column // of one row
	time                 int64         // of the value
	file                 string
	line                 int64
}

func (f *Flow) newPeriodic() *periodic {
	p := f.of.Periods
	at := func(name string) int { return column.Find(f.local, name) }
	x := &periodic{
		of: p, index: newIndex(f.local, p.By), on: at(p.On), amount: at(cmp.Or(p.Amount, p.Value)),
		from: at(p.From), to: at(p.To), opens: at(p.Opens), closed: at(p.Closed),
	}
	x.timed = f.local[max(x.on, x.from)].Type.Kind == column.Timestamp
	for _, k := range x.index.at {
		x.keys = append(x.keys, column.Column{Type: f.local[k].Type})
	}
	return x
}

// periods makes rows of periods.
func (f *Flow) periods(ctx context.Context, rows iter.Seq2[column.Piece, error]) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		x := f.newPeriodic()
		err := f.inOrder(ctx, rows, func(b *column.Batch) error {
			if err := x.add(f, b); err != nil {
				return err
			}
			if b.Keep(b.Bad); b.N > 0 && !yield(f.aside(b), nil) {
				return errEnough
			}
			return nil
		})
		if err == nil {
			err = x.through()
		}
		if err == nil {
			err = x.yield(f, yield)
		}
		if err != nil && err != errEnough {
			yield(nil, err)
		}
	}
}

// through finds out which period is the last.
func (x *periodic) through() error {
	day, said, err := x.of.LastDay()
	if said {
		x.last = periodEnd(x.of.Every, day)
	}
	return err
}

// add adds the rows of a batch.
func (x *periodic) add(f *Flow, b *column.Batch) error {
	x.over(b)
	in := int64(0)
	for i := range b.N {
		if b.Bad(i) || !x.fits(b, i) {
			continue
		}
		in++
		m, fresh := x.number(i)
		if fresh {
			for n, k := range x.index.at {
				x.keys[n].AppendOwn(&b.Cols[k], i)
			}
			x.members = append(x.members, member{periods: map[int64]*movement{}, first: math.MaxInt64})
		}
		one, err := &x.members[m], error(nil)
		switch {
		case x.from >= 0:
			x.cover(one, b, i)
		case x.isOpening(b, i):
			err = x.open(one, b, i)
		default:
			err = x.move(one, b, i)
		}
		if err != nil {
			return err
		}
	}
	f.group.in.Add(in)
	return nil
}

// fits sets a row aside of which it is not known what period it is of.
func (x *periodic) fits(b *column.Batch, i int) bool {
	switch {
	case x.from >= 0:
		return isSpan(b, i, x.from, x.to, x.of.From, x.of.To)
	case b.Cols[x.on].Null[i]:
		b.SetAside(i, x.of.On, "no "+x.of.On+", so it is of no period", "")
		return false
	case x.isOpening(b, i) && b.Cols[x.amount].Null[i]:
		b.SetAside(i, x.of.Amount, "no "+x.of.Amount+", so there is no balance", "")
		return false
	}
	if x.of.Late == star.AsideLate && !x.isOpening(b, i) && x.isLate(b, i) {
		b.SetAside(i, x.of.Closed, "late: its period was closed", b.Cols[x.closed].Value(i))
		return false
	}
	return true
}

// reach has the last period be at least the one of a day.
func (x *periodic) reach(day int64) (end int64) {
	end = periodEnd(x.of.Every, day)
	if !x.some || end > x.last {
		x.last, x.some = end, true
	}
	return end
}

// move adds row i to its period, or to the first one that was open when it came.
func (x *periodic) move(to *member, b *column.Batch, i int) error {
	time := b.Cols[x.on].Int[i]
	day := x.dayOf(time)
	to.first = min(to.first, day)
	late := x.isLate(b, i)
	if late {
		day = b.Cols[x.closed].Int[i] + 1
	}
	end := x.reach(day)
	at := to.periods[end]
	if at == nil {
		at = &movement{file: b.From.File, line: b.From.Line[i], time: math.MinInt64}
		to.periods[end] = at
	}
	c := &b.Cols[x.amount]
	if at.rows++; x.of.Value != "" {
		if time >= at.time { // the later one counts
			at.value = column.Column{Type: c.Type}
			at.value.AppendOwn(c, i)
			at.time, at.file, at.line = time, b.From.File, b.From.Line[i]
		}
		return nil
	}
	at.file, at.line = b.From.File, b.From.Line[i]
	if c.Null[i] {
		return nil
	}
	if !at.add(c.Exact(i), late) {
		return mistake(b, i, "periods", "the sum is too large for %s", x.of.Type)
	}
	return nil
}

// chunk is rows of periods that come from one file.
type chunk struct {
	flow  *Flow
	batch *column.Batch
}

// Fill moves the rows into b, and brings natural keys to their form.
func (p chunk) Fill(b *column.Batch) error {
	have := p.batch
	b.Reset(have.N)
	for k := range have.Cols {
		b.Cols[k].Copy(&have.Cols[k], have.N)
	}
	b.From = have.From
	return p.flow.matchLast(b, p.flow.periodFields())
}

// periodFields lists the columns of periods.
func (f *Flow) periodFields() []column.Field { return f.of.Periods.Fields(f.local) }

// yield yields the rows, member by member in the order in which they were met.
func (x *periodic) yield(f *Flow, yield func(column.Piece, error) bool) error {
	fields, made := f.periodFields(), int64(0)
	out := column.NewBatch(fields)
	send := func() bool {
		if out.N == 0 {
			return true
		}
		batch := out
		out = column.NewBatch(fields)
		batch.From.Raw = func(i int) string { return natural(column.Pointers(batch.Cols), i) }
		return yield(chunk{f, batch}, nil)
	}
	row := func(m int, at *movement, values func(cols []column.Column) error) error {
		if out.N > 0 && (out.From.File != at.file || out.N == 4096) && !send() {
			return errEnough
		}
		for n := range x.keys {
			out.Cols[n].Append(&x.keys[n], m)
		}
		if err := values(out.Cols[len(x.keys):]); err != nil {
			return err
		}
		out.From.File, out.From.Line = at.file, append(out.From.Line, at.line)
		out.N++
		made++
		return nil
	}
	for m := range x.members {
		var err error
		switch {
		case x.from >= 0:
			err = x.covered(m, row)
		case x.of.Value != "":
			err = x.observed(m, row)
		default:
			err = x.balances(m, row)
		}
		if err != nil {
			return err
		}
	}
	if note := fmt.Sprintf("%d periods of members are in several of their spans (%s to %s), and count once", x.doubled, x.of.From, x.of.To); x.doubled > 0 && !slices.Contains(f.notes, note) {
		f.notes = append(f.notes, note)
	}
	in := f.group.in.Load()
	f.group.merged.Store(max(0, in-made))
	f.made.Add(max(0, made-in))
	if !send() {
		return errEnough
	}
	return nil
}

// each calls do for the periods of a member, from its first through the last, with what moved or nil.
func (x *periodic) each(m int, do func(end int64, at *movement) error) error {
	periods := x.members[m].periods
	first := int64(math.MaxInt64)
	for end := range periods {
		first = min(first, end)
	}
	if o := x.members[m].opening; o != nil {
		first = min(first, periodEnd(x.of.Every, o.day+1))
	}
	for end := first; end <= x.last; end = periodEnd(x.of.Every, end+1) {
		if err := do(end, periods[end]); err != nil {
			return err
		}
	}
	return nil
}

// rowOf makes a row of a member; at says where it comes from.
type rowOf func(m int, at *movement, values func(cols []column.Column) error) error

// observed makes the rows of values.
func (x *periodic) observed(m int, row rowOf) error {
	from := (*movement)(nil)
	return x.each(m, func(end int64, at *movement) error {
		carried := at == nil
		if !carried {
			from = at
		}
		return row(m, from, func(cols []column.Column) error {
			day := x.dayOf(from.time)
			age := end - day
			if cols[0].AppendInt(end); x.of.Stale > 0 && age > int64(x.of.Stale) {
				cols[1].AppendNull()
			} else {
				cols[1].Append(&from.value, 0)
			}
			cols[2].AppendInt(day)
			cols[3].AppendInt(age)
			cols[4].AppendInt(map[bool]int64{true: 1}[carried])
			return nil
		})
	})
}

// dayOf is the day of a time of the column that says it.
func (x *periodic) dayOf(time int64) int64 {
	if x.timed {
		return civil.DayOf(time)
	}
	return time
}
