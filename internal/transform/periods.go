package transform

import (
	"cmp"
	"context"
	"iter"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/exact"
	"ironmonger/internal/star"
)

// periodEnd returns the last day of the period that a day is in.
func periodEnd(every string, day int64) int64 {
	year, month, _ := civil.Date(day)
	switch every {
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
	on, amount int
	keys       []column.Column // of By, by member
	members    []member
	last       int64 // the end of the last period
	some       bool
	timed      bool // the column has times, and not days
}

// member is the periods in which a member has rows, by their ends.
type member struct {
	periods map[int64]*movement
}

// movement is what moved in a period, or the last value that was observed in it.
type movement struct {
	added, taken exact.Int128
	rows         int64
	value        column.Column // of one row
	time         int64         // of the value
	file         string
	line         int64
}

// periods makes rows of periods.
func (f *Flow) periods(ctx context.Context, rows iter.Seq2[column.Piece, error]) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		p := f.of.Periods
		x := &periodic{of: p, index: newIndex(f.local, p.By), on: column.Find(f.local, p.On)}
		x.amount = column.Find(f.local, cmp.Or(p.Amount, p.Value))
		x.timed = f.local[x.on].Type.Kind == column.Timestamp
		for _, k := range x.index.at {
			x.keys = append(x.keys, column.Column{Type: f.local[k].Type})
		}
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
		if b.Bad(i) {
			continue
		}
		on := &b.Cols[x.on]
		if on.Null[i] {
			b.SetAside(i, x.of.On, "no "+x.of.On+", so it is of no period", "")
			continue
		}
		in++
		m, fresh := x.number(i)
		if fresh {
			for n, k := range x.index.at {
				x.keys[n].AppendOwn(&b.Cols[k], i)
			}
			x.members = append(x.members, member{map[int64]*movement{}})
		}
		time := on.Int[i]
		end := periodEnd(x.of.Every, x.dayOf(time))
		if !x.some || end > x.last {
			x.last, x.some = end, true
		}
		at := x.members[m].periods[end]
		if at == nil {
			at = &movement{file: b.From.File, line: b.From.Line[i], time: -1 << 62}
			x.members[m].periods[end] = at
		}
		if err := x.move(at, b, i, time); err != nil {
			return err
		}
	}
	f.group.in.Add(in)
	return nil
}

// move adds row i to a period.
func (x *periodic) move(at *movement, b *column.Batch, i int, time int64) error {
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
	amount, ok := c.Exact(i), true
	switch {
	case c.Null[i]:
	case amount.Sign() < 0:
		at.taken, ok = at.taken.Add(amount.Neg())
	default:
		at.added, ok = at.added.Add(amount)
	}
	if !ok {
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
		if x.of.Value != "" {
			err = x.observed(m, row)
		} else {
			err = x.balances(m, row)
		}
		if err != nil {
			return err
		}
	}
	in := f.group.in.Load()
	f.group.merged.Store(max(0, in-made))
	f.made.Store(max(0, made-in))
	if !send() {
		return errEnough
	}
	return nil
}

// each calls do for the periods of a member, from its first through the last, with what moved or nil.
func (x *periodic) each(m int, do func(end int64, at *movement) error) error {
	periods := x.members[m].periods
	first := int64(1<<63 - 1)
	for end := range periods {
		first = min(first, end)
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

// balances makes the rows of amounts.
func (x *periodic) balances(m int, row rowOf) error {
	balance, from := exact.Int128{}, (*movement)(nil)
	return x.each(m, func(end int64, at *movement) error {
		moved := at != nil
		if !moved {
			at = &movement{file: from.file, line: from.line}
		}
		from = at
		opening := balance
		closing, ok := opening.Add(at.added)
		if ok {
			closing, ok = closing.Add(at.taken.Neg())
		}
		balance = closing
		if !moved && (x.of.Without == star.LeavePeriods || x.of.Without == star.WhileNotZero && opening == (exact.Int128{})) {
			return nil
		}
		return row(m, at, func(cols []column.Column) error {
			cols[0].AppendInt(end)
			for k, sum := range []exact.Int128{opening, at.added, at.taken, closing} {
				c := &cols[1+k]
				c.AppendNull()
				last := len(c.Null) - 1
				if c.Null[last] = false; !ok || !c.SetExact(last, sum) {
					return &diag.Error{At: diag.Place{File: at.file, Line: int(at.line)}, Subject: "periods", Message: "the balance is too large for " + x.of.Type.String()}
				}
			}
			cols[5].AppendInt(at.rows)
			return nil
		})
	})
}

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
