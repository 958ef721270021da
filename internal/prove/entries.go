package prove

import (
	"fmt"

	"ironmonger/internal/column"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// entries checks the entries of a fact of which what was booked stays (rule R35): rows come in the order of their grain
// and number.
func (p *proof) entries(f *schema.Fact) []exam {
	if !f.Reverses() {
		return nil
	}
	c := p.check(
		"entries",
		f.Table.Name,
		"the entries of a fact have the numbers from 1, each second one reverses the one before it, and none is booked before it",
		"restore the entries from a copy of the warehouse; loads only add entries",
	)
	x := &entries{p: p, f: f, c: c, last: map[string]entryAt{}}
	fields := f.Table.Fields()
	x.entry, x.sign = column.Find(fields, star.EntryNumber), column.Find(fields, star.EntrySign)
	x.booked = column.Find(fields, star.BookedOn)
	for _, g := range f.Grain {
		switch {
		case g.Key == nil:
			x.plain = append(x.plain, column.Find(fields, g.Column))
		case g.Key.Dimension.Versioned():
			x.versioned = append(x.versioned, column.Find(fields, g.Key.Column()))
			x.registers = append(x.registers, p.registers[p.star.Dimension(g.Key.Dimension)])
		default:
			x.plain = append(x.plain, column.Find(fields, g.Key.Column()))
		}
	}
	for k, field := range fields {
		switch {
		case k == x.entry || k == x.sign || k == x.booked || field.Name == schema.LoadLine || field.Name == schema.LoadRun:
		case column.Find(f.Measures, field.Name) >= 0:
			x.measures = append(x.measures, k)
		default:
			x.stays = append(x.stays, k)
		}
	}
	return []exam{{c, x.look, nil}}
}

// entries looks at the entries of one fact after another.
type entries struct {
	p                   *proof
	f                   *schema.Fact
	c                   *Check
	plain, versioned    []int // columns of the grain
	registers           []*register
	entry, sign, booked int
	measures, stays     []int              // what a row that reverses another has negated, and what it has the same
	last                map[string]entryAt // of the facts that are equal in plain, by their members
	buf                 []byte
}

// entryAt is where the last entry of a fact is.
type entryAt struct {
	b *column.Batch
	i int
}

func (x *entries) look(b *column.Batch) {
	for i := range b.N {
		before, n := b, i-1
		if n < 0 {
			before, n = x.p.prior, 0
		}
		same := before.N > 0
		for _, k := range x.plain {
			same = same && before.Cols[k].Equal(n, &b.Cols[k], i)
		}
		if !same {
			clear(x.last)
		}
		x.buf = x.buf[:0]
		for v, k := range x.versioned {
			member := b.Cols[k].Int[i]
			if row, ok := x.registers[v].find(member); ok {
				member = int64(x.registers[v].member[row])
			}
			x.buf = fmt.Appendf(x.buf, "%d ", member)
		}
		last, follows := x.last[string(x.buf)]
		if fault := x.fault(b, i, last, follows); fault != "" {
			x.c.against(func() Example { return x.p.example(x.f.Table, b, i, fault) })
		}
		x.last[string(x.buf)] = entryAt{b, i}
	}
	for member, at := range x.last { // the batch is filled anew
		if at.b == b {
			own := column.NewBatch(x.f.Table.Fields())
			for k := range own.Cols {
				own.Cols[k].AppendOwn(&b.Cols[k], at.i)
			}
			x.last[member] = entryAt{own, 0}
		}
	}
}

// fault says what is wrong with entry i, which follows another or is the first.
func (x *entries) fault(b *column.Batch, i int, last entryAt, follows bool) string {
	number, sign := b.Cols[x.entry].Int[i], b.Cols[x.sign].Int[i]
	want, before := int64(1), int64(-1)
	if follows {
		want, before = last.b.Cols[x.entry].Int[last.i]+1, last.b.Cols[x.sign].Int[last.i]
	}
	switch {
	case number != want:
		return fmt.Sprintf("%s is %d where %d is expected", star.EntryNumber, number, want)
	case sign != -before:
		return fmt.Sprintf("%s is %d where %d is expected", star.EntrySign, sign, -before)
	case !follows:
		return ""
	case b.Cols[x.booked].Int[i] < last.b.Cols[x.booked].Int[last.i]:
		return "it is booked before the entry that it follows"
	case sign > 0:
		return ""
	}
	for _, k := range x.stays {
		if !b.Cols[k].Equal(i, &last.b.Cols[k], last.i) {
			return fmt.Sprintf("%s is not that of the entry that it reverses", x.f.Table.Columns[k].Name)
		}
	}
	for _, k := range x.measures {
		negated := column.Column{Type: b.Cols[k].Type}
		negated.Append(&last.b.Cols[k], last.i)
		if !negated.Negate(0) || !negated.Equal(0, &b.Cols[k], i) {
			return fmt.Sprintf("%s is not the negative of that of the entry that it reverses", x.f.Table.Columns[k].Name)
		}
	}
	return ""
}

// lastEntries returns the number of the last entry of each fact at hand, by its grain, where that is not the first.
func (x *rereader) lastEntries(facts *column.Batch) map[uint64]int64 {
	last := map[uint64]int64{}
	x.noteEntries(last, facts)
	return last
}

// allEntries is lastEntries of the whole table.
func (x *rereader) allEntries() (map[uint64]int64, error) {
	if !x.f.Reverses() {
		return nil, nil
	}
	last := map[uint64]int64{}
	q := warehouse.Query{Table: x.f.Table.Name, Fields: x.f.Table.Fields()}
	return last, warehouse.Each(x.p.ctx, x.p.r, q, func(b *column.Batch) error {
		x.noteEntries(last, b)
		return nil
	})
}

func (x *rereader) noteEntries(last map[uint64]int64, facts *column.Batch) {
	if !x.f.Reverses() {
		return
	}
	entry := &facts.Cols[column.Find(x.f.Table.Fields(), star.EntryNumber)]
	for j, n := range entry.Int[:facts.N] {
		if n > 1 {
			h := x.grainOf(facts, j)
			last[h] = max(last[h], n)
		}
	}
}

// overtaken reports whether row j does not stand, since another entry follows it, or since it reverses one.
func (x *rereader) overtaken(last map[uint64]int64, facts *column.Batch, j int) bool {
	if !x.f.Reverses() {
		return false
	}
	fields := x.f.Table.Fields()
	return facts.Cols[column.Find(fields, star.EntrySign)].Int[j] < 0 ||
		facts.Cols[column.Find(fields, star.EntryNumber)].Int[j] < last[x.grainOf(facts, j)]
}
