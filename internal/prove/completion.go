package prove

import (
	"fmt"
	"slices"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// milestones checks that the keys of milestones and the lags of a fact follow from its columns (rule R33).
func (p *proof) milestones(f *schema.Fact) []exam {
	if f.Completion == nil {
		return nil
	}
	c := p.check(
		"milestones",
		f.Table.Name,
		"the keys of milestones are those of their days, and lags are the time between their ends",
		"find what has changed the columns, and restore the rows from a copy",
	)
	fields := f.Table.Fields()
	numbers := map[*star.Lag]map[int64]int64{}
	for _, l := range f.Completion.Lags {
		if l.In == star.WorkingDays {
			numbers[l] = p.numbersOf(c, l)
		}
	}
	return []exam{{c, func(b *column.Batch) {
		for _, part := range f.Completion.Parts {
			for _, k := range part.Keys {
				if part.Milestone && k.Dimension.DayKeys() != nil {
					p.milestoneKey(c, f, k, b, column.Find(fields, part.Column))
				}
			}
		}
		for _, l := range f.Completion.Lags {
			from, to := &b.Cols[column.Find(fields, l.From)], &b.Cols[column.Find(fields, l.To)]
			is := &b.Cols[column.Find(fields, l.Text)]
			for i := range b.N {
				null := from.Null[i] || to.Null[i]
				if l.In == star.WorkingDays {
					if !p.sameWorkdays(l, numbers[l], from, to, is, i) {
						c.against(func() Example {
							return p.example(f.Table, b, i, fmt.Sprintf("%s is not the working days from %s to %s", l.Text, l.From, l.To))
						})
					}
					continue
				}
				if is.Null[i] != null || !null && is.Int[i] != elapsed(l.In, from, to, i) {
					c.against(func() Example {
						return p.example(
							f.Table,
							b,
							i,
							fmt.Sprintf("%s is not the time from %s to %s", l.Text, l.From, l.To),
						)
					})
				}
			}
		}
	}, nil}}
}

// milestoneKey checks a key of a calendar that is made of a date or timestamp of the table.
func (p *proof) milestoneKey(c *Check, f *schema.Fact, k *star.Key, b *column.Batch, of int) {
	days, key := &b.Cols[of], &b.Cols[column.Find(f.Table.Fields(), k.Column())]
	for i := range b.N {
		right := false
		if days.Null[i] {
			right = k.Missing.Stands(k.Dimension, key, i)
		} else {
			right = !key.Null[i] && key.Int[i] == k.Dimension.DayKeys().Key(dayAt(days, i)) || k.Unmatched.Stands(k.Dimension, key, i)
		}
		if !right {
			c.against(func() Example {
				what := fmt.Sprintf(
					"%s is %s, and %s is %s",
					days.Value(i),
					f.Table.Columns[of].Name,
					written(key, i),
					k.Column(),
				)
				if days.Null[i] {
					what = fmt.Sprintf(
						"%s is null, and %s is %s",
						f.Table.Columns[of].Name,
						k.Column(),
						written(key, i),
					)
				}
				return p.example(f.Table, b, i, what)
			})
		}
	}
}

func dayAt(c *column.Column, i int) int64 {
	if c.Type.Kind == column.Timestamp {
		return civil.DayOf(c.Int[i])
	}
	return c.Int[i]
}

// numbersOf reads the numbers of the working days of a calendar, by day.
func (p *proof) numbersOf(c *Check, l *star.Lag) map[int64]int64 {
	d := p.star.Dimension(l.Calendar)
	numbers := map[int64]int64{}
	q := warehouse.Query{
		Table:  d.Table.Name,
		Fields: append(slices.Clone(d.NaturalKey), column.Field{Name: l.Numbers, Type: column.Type{Kind: column.Integer}}),
	}
	err := warehouse.Each(p.ctx, p.r, q, func(b *column.Batch) error {
		for i := range b.N {
			if !b.Cols[0].Null[i] && !b.Cols[1].Null[i] {
				numbers[b.Cols[0].Int[i]] = b.Cols[1].Int[i]
			}
		}
		return nil
	})
	if err != nil {
		c.State = Unseen
	}
	return numbers
}

// sameWorkdays reports whether a lag in working days is the difference of the numbers in the calendar's table. Days
// that it does not have yet may be those of rows that grow it.
func (p *proof) sameWorkdays(l *star.Lag, numbers map[int64]int64, from, to, is *column.Column, i int) bool {
	if from.Null[i] || to.Null[i] {
		return is.Null[i]
	}
	a, ok := numbers[dayAt(from, i)]
	b, too := numbers[dayAt(to, i)]
	if !ok || !too {
		return is.Null[i] || l.Calendar.Calendar.Grows()
	}
	return !is.Null[i] && is.Int[i] == b-a
}

// elapsed is a lag, restated: whole days, or hours or minutes rounded half away from zero to the last decimal place.
func elapsed(in star.Unit, from, to *column.Column, i int) int64 {
	if in == star.Days {
		return dayAt(to, i) - dayAt(from, i)
	}
	unit := map[star.Unit]int64{star.Hours: 3_600_000_000, star.Minutes: 60_000_000}[in]
	v, _ := exact.QuoScaled(exact.Wide(to.Int[i]-from.Int[i]), exact.Wide(unit), star.LagScale)
	n, _ := v.Int64()
	return n
}

// completion holds rows against the facts that they complete: each part of a fact is what the newest row that tells it
// says.
type completion struct {
	x      *rereader
	parts  []told
	values [][2]int // of what may not change: in the table, and in the source
	keys   []int    // of x.keys, which may not change
	newer  [2]int   // the column that says which row is newer: in the table, and in the source; or -1
	told   map[partOf]rank
	lines  map[partOf]int64
	said   map[uint64]uint64 // by fact, which parts a row says
}

// told is a part of a fact.
type told struct {
	*star.Part
	value [2]int // in the table, and in the source; or -1
	keys  []int  // of x.keys
}

// partOf is a part of a fact.
type partOf struct {
	fact uint64
	part int
}

// id stands for a part among those of all facts.
func (p partOf) id() uint64 { return p.fact ^ uint64(p.part+1)*0x9e3779b97f4a7c15 }

func (x *rereader) newCompletion() (*completion, error) {
	if x.f.Completion == nil {
		return nil, nil
	}
	c := &completion{
		x:     x,
		newer: [2]int{-1, -1},
		told:  map[partOf]rank{},
		lines: map[partOf]int64{},
		said:  map[uint64]uint64{},
	}
	fields, shaped := x.f.Table.Fields(), x.f.Source.Shaped()
	if by := x.f.NewerBy; by != nil {
		c.newer = [2]int{column.Find(fields, by.Name), column.Find(shaped, by.Name)}
	}
	changes, keyChanges := map[int]bool{c.newer[0]: true}, map[int]bool{}
	for _, p := range x.f.Completion.Parts {
		t := told{Part: p, value: [2]int{-1, -1}}
		if p.Column != "" {
			t.value = [2]int{column.Find(fields, p.Column), column.Find(shaped, p.Column)}
			changes[t.value[0]] = true
		}
		for _, k := range p.Keys {
			n := slices.Index(x.f.Keys, k)
			t.keys = append(t.keys, n)
			keyChanges[n] = true
		}
		c.parts = append(c.parts, t)
	}
	for _, v := range x.values {
		if !changes[v[0]] {
			c.values = append(c.values, v)
		}
	}
	for n := range x.keys {
		if !keyChanges[n] && x.keys[n].Again {
			c.keys = append(c.keys, n)
		}
	}
	return c, c.read()
}

// read reads which rows have told the milestones that the last row of their fact has not.
func (c *completion) read() error {
	t := c.x.f.Told
	if t == nil {
		return nil
	}
	check := c.x.c
	fields := t.Fields()
	newer, line := -1, column.Find(fields, schema.LoadLine)
	if by := c.x.f.NewerBy; by != nil {
		newer = column.Find(fields, by.Name)
	}
	milestone := column.Find(fields, schema.Milestone)
	q := warehouse.Query{Table: t.Name, Fields: fields}
	return warehouse.Each(c.x.p.ctx, c.x.p.r, q, func(b *column.Batch) error {
		for i := range b.N {
			name := b.Cols[milestone].Text[i]
			part := slices.IndexFunc(c.parts, func(p told) bool { return p.Text == name })
			if part < 0 {
				check.against(func() Example { return c.x.p.example(t, b, i, "there is no milestone of that name") })
				continue
			}
			id := partOf{c.x.identityOf(b.Cols[:len(c.x.grain)], i), part}
			file, _ := ledger.FileAndLine(b.Cols[line].Int[i])
			r := rank{arrived: c.x.order.arrived[ledger.Uncompressed(c.x.p.files[file])]}
			if newer >= 0 {
				r.newer = b.Cols[newer].Int[i]
			}
			c.told[id], c.lines[id] = r, b.Cols[line].Int[i]
		}
		return nil
	})
}

// compare holds row i against fact j, which it completes. It reports whether the fact says all that the row does.
func (c *completion) compare(b *slot, i int, facts *column.Batch, j int) {
	x := c.x
	id := x.identity(facts, j)
	if fault := c.differs(b, i, facts, j, c.values, c.keys); fault != "" {
		if !x.set(b, i) {
			x.c.against(func() Example { return fromSource(b.Batch, i, fault+", and complete does not list it") })
		}
		return
	}
	row, stands := x.order.ofRow(b, i), x.order.ofFact(facts, j)
	var faults []func()
	tells := false
	for n, p := range c.parts {
		if p.Milestone && b.Cols[p.value[1]].Null[i] && !x.f.Completion.TellAll {
			continue
		}
		tells = true
		of := partOf{id, n}
		fault := c.differs(b, i, facts, j, p.values(), p.keys)
		if fault == "" {
			c.said[id] |= 1 << n
			x.order.says(of.id(), row)
			continue
		}
		was := stands
		if r, ok := c.told[of]; ok {
			was = r
		}
		never := p.Milestone && facts.Cols[p.value[0]].Null[j] && !x.f.Completion.TellAll
		if never || row.compare(was) >= 0 {
			faults = append(faults, func() { x.order.differs(of.id(), row, was, fromSource(b.Batch, i, fault)) })
			if never {
				x.c.against(func() Example { return fromSource(b.Batch, i, fault) })
			}
		}
	}
	if tells && c.newer[0] >= 0 && b.Cols[c.newer[1]].Int[i] > facts.Cols[c.newer[0]].Int[j] {
		faults = append(faults, func() {
			x.c.against(func() Example { return fromSource(b.Batch, i, "the row is newer than the fact") })
		})
	}
	if len(faults) == 0 || x.set(b, i) {
		return
	}
	for _, f := range faults {
		f()
	}
}

func (p *told) values() [][2]int {
	if p.value[0] < 0 {
		return nil
	}
	return [][2]int{p.value}
}

// differs says in which of some columns and keys a fact is not what row i says.
func (c *completion) differs(b *slot, i int, facts *column.Batch, j int, values [][2]int, keys []int) string {
	for _, v := range values {
		if have, want := &facts.Cols[v[0]], &b.Cols[v[1]]; !have.Equal(j, want, i) {
			name := c.x.f.Table.Columns[v[0]].Name
			return fmt.Sprintf("%s is %s in the table, and %s here", name, written(have, j), written(want, i))
		}
	}
	for _, n := range keys {
		k := &c.x.keys[n]
		if have := &facts.Cols[k.at]; !c.x.points(n, b, i, have, j) {
			return fmt.Sprintf("%s is %s in the table, which is not the key of this row", k.Column(), written(have, j))
		}
	}
	return ""
}

// judge finds the parts of fact j that no row says, and returns the name of the file of the first that is not named any
// more; named reports which files are.
func (c *completion) judge(facts *column.Batch, j int, named func(string) bool) (unnamed string) {
	x := c.x
	id := x.identity(facts, j)
	for n, p := range c.parts {
		null := p.Milestone && facts.Cols[p.value[0]].Null[j] && !x.f.Completion.TellAll
		if null || c.said[id]&(1<<n) != 0 {
			continue
		}
		line, ok := c.lines[partOf{id, n}]
		if !ok {
			line = facts.Cols[x.lines].Int[j]
		}
		file, _ := ledger.FileAndLine(line)
		name := x.p.files[file]
		if named(name) {
			x.c.against(func() Example {
				return x.p.example(x.f.Table, facts, j, "no row at the source says this "+p.Text)
			})
		} else if unnamed == "" {
			unnamed = name
		}
	}
	return unnamed
}
