package prove

import (
	"fmt"
	"hash/maphash"
	"time"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// balances checks a fact of balances: a closing balance is the opening one and what moved, an opening balance is the
// closing one of the period before, and the periods of a member follow each other to the last.
func (p *proof) balances(f *schema.Fact) error {
	of := f.Balances()
	if of == nil {
		return nil
	}
	c := p.check(
		"balances",
		f.Table.Name,
		"opening balances are the closing balances of the period before, closing balances are these and what moved, and no period is left out",
		"ironmonger load restates the periods from what moved; find what has changed the rows",
	)
	if p.held[f.Table.Name] == nil {
		c.State = Unseen
		return nil
	}
	begin := time.Now()
	x := newBalancing(p, f, of, c)
	query := warehouse.Query{Table: f.Table.Name, Fields: f.Table.Fields(), Convert: f.Table.Borrowed, OrderBy: []string{of.Day}}
	err := warehouse.Each(p.ctx, p.r, query, x.look)
	if err == nil && x.short() > 0 {
		err = warehouse.Each(p.ctx, p.r, query, x.name)
	}
	c.took = time.Since(begin)
	return err
}

// balancing looks at the rows of balances, period by period.
type balancing struct {
	p  *proof
	f  *schema.Fact
	of *star.Balance
	c  *Check

	day, gone                      int
	opening, closing, added, taken int // -1 if the table does not keep it
	members                        []int
	registers                      []*register // of members with versions; nil of others
	last                           map[uint64]balanceAt
	through                        int64 // the last period
}

// balanceAt is the last balance of a member.
type balanceAt struct {
	period int64
	closes exact.Int128
}

func newBalancing(p *proof, f *schema.Fact, of *star.Balance, c *Check) *balancing {
	fields := f.Table.Fields()
	at := func(name string) int { return column.Find(fields, name) }
	x := &balancing{
		p: p, f: f, of: of, c: c, last: map[uint64]balanceAt{},
		day: at(of.Day), gone: at("is_gone"), opening: at(of.Opening), closing: at(of.Closing), added: at(of.Added), taken: at(of.Taken),
	}
	for _, name := range of.Members {
		var r *register
		for _, k := range f.Keys {
			if k.Column() == name && k.Dimension.Versioned() {
				r = p.registers[p.star.Dimension(k.Dimension)]
			}
		}
		x.members, x.registers = append(x.members, at(name)), append(x.registers, r)
	}
	return x
}

func (x *balancing) look(b *column.Batch) error {
	for i := range b.N {
		if x.gone >= 0 && !b.Cols[x.gone].Null[i] && b.Cols[x.gone].Int[i] != 0 {
			continue
		}
		x.c.Looked++
		what := x.within(b, i)
		if what == "" {
			what = x.follows(b, i)
		}
		if what != "" {
			x.c.against(func() Example { return x.p.example(x.f.Table, b, i, what) })
		}
	}
	return nil
}

// within says what is wrong with a row for itself.
func (x *balancing) within(b *column.Batch, i int) string {
	for _, k := range []int{x.opening, x.closing, x.added, x.taken} {
		if k < 0 {
			return ""
		}
		if b.Cols[k].Null[i] {
			return x.f.Table.Columns[k].Name + " is null"
		}
	}
	sum, _ := b.Cols[x.opening].Exact(i).Add(b.Cols[x.added].Exact(i))
	sum, _ = sum.Add(b.Cols[x.taken].Exact(i).Neg())
	if t := b.Cols[x.closing].Type; sum != b.Cols[x.closing].Exact(i) {
		return fmt.Sprintf("%s is %s, and opening, added and taken come to %s", x.of.Closing, b.Cols[x.closing].Value(i), decimalOf(sum, t))
	}
	return ""
}

// follows says in what a row does not follow the one of the period before.
func (x *balancing) follows(b *column.Batch, i int) string {
	id, known := x.member(b, i)
	period, ok := x.period(b, i)
	if !known || x.closing < 0 || b.Cols[x.closing].Null[i] {
		return ""
	}
	if !ok || period != lastDay(x.of.Every, period) {
		return fmt.Sprintf("%s is no last day of a %s", x.of.Day, x.of.Every)
	}
	before, there := x.last[id]
	x.last[id] = balanceAt{period, b.Cols[x.closing].Exact(i)}
	x.through = max(x.through, period)
	opens := exact.Int128{}
	if there {
		opens = before.closes
	}
	next := lastDay(x.of.Every, before.period+1)
	switch {
	case there && period <= before.period:
		return "the member has another row of this period"
	case there && period != next && !x.ends(before):
		return fmt.Sprintf("the period before it that the member has ends %s", column.AppendInt(nil, column.Date, before.period))
	case x.opening < 0 || !there && x.of.Opens != "" || b.Cols[x.opening].Null[i] || b.Cols[x.opening].Exact(i) == opens:
		return ""
	}
	return fmt.Sprintf("%s is %s, and the balance before it %s", x.of.Opening, b.Cols[x.opening].Value(i), decimalOf(opens, b.Cols[x.opening].Type))
}

// ends reports whether the periods of a member may end before the last one.
func (x *balancing) ends(at balanceAt) bool {
	return at.period == x.through || x.of.Without == star.LeavePeriods || x.of.Without == star.WhileNotZero && at.closes == exact.Int128{}
}

// short counts members whose periods end before the last one.
func (x *balancing) short() (n int) {
	for _, at := range x.last {
		if !x.ends(at) {
			n++
		}
	}
	return n
}

// name names the last rows of members whose periods end before the last one.
func (x *balancing) name(b *column.Batch) error {
	for i := range b.N {
		id, known := x.member(b, i)
		period, ok := x.period(b, i)
		if at := x.last[id]; !known || !ok || at.period != period || x.ends(at) {
			continue
		}
		what := "the member has no periods after it; the last one ends " + string(column.AppendInt(nil, column.Date, x.through))
		x.c.against(func() Example { return x.p.example(x.f.Table, b, i, what) })
	}
	return nil
}

// member identifies the member of row i; false if it is a special one.
func (x *balancing) member(b *column.Batch, i int) (id uint64, known bool) {
	var h maphash.Hash
	h.SetSeed(x.p.seed)
	for n, k := range x.members {
		c := &b.Cols[k]
		if r := x.registers[n]; r != nil && !c.Null[i] {
			row, ok := r.find(c.Int[i])
			if !ok || c.Int[i] < 0 {
				return 0, false
			}
			fmt.Fprintf(&h, "%d|", r.member[row])
			continue
		}
		if column.Find(x.f.Degenerate, x.f.Table.Columns[k].Name) < 0 && !c.Null[i] && c.Int[i] < 0 {
			return 0, false
		}
		fmt.Fprintf(&h, "%t%q|", c.Null[i], c.Value(i))
	}
	return h.Sum64(), true
}

// period is the last day of the period of row i.
func (x *balancing) period(b *column.Batch, i int) (int64, bool) {
	c := &b.Cols[x.day]
	if c.Null[i] || x.of.Key == nil {
		return c.Int[i], !c.Null[i]
	}
	return x.of.Key.Dimension.DayKeys().Day(c.Int[i])
}

// lastDay is the last day of the period that a day is in.
func lastDay(every string, day int64) int64 {
	y, m, _ := civil.Date(day)
	switch every {
	case "week":
		return day - ((day+3)%7+7)%7 + 6 // a Sunday: 1970-01-01 was a Thursday
	case "month":
		return civil.Day(y, m+1, 1) - 1
	case "quarter":
		return civil.Day(y, (m-1)/3*3+4, 1) - 1
	case "year":
		return civil.Day(y+1, 1, 1) - 1
	}
	return day
}
