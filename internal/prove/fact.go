package prove

import (
	"fmt"
	"slices"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// fact proves the table of a fact, whose dimensions are registered.
func (p *proof) fact(f *schema.Fact) error {
	fields := f.Table.Fields()
	var exams []exam
	for _, k := range f.Keys {
		at := column.Find(fields, k.Column())
		exams = append(exams, p.reference(f, k, at))
		if k.AsOf != "" && k.Dimension.Versioned() {
			exams = append(exams, p.asOf(f, k, at))
		}
	}
	exams = append(exams, p.grain(f))
	exams = append(exams, p.entries(f)...)
	exams = append(exams, p.milestones(f)...)
	measures := p.measures(f)
	if err := p.unfilled(f, &measures[0]); err != nil {
		return err
	}
	exams = append(exams, measures...)
	exams = append(exams, p.mustHold(f.Table, f.MustHold)...)

	// Rows come in the order of the grain, keys of versions last: what the others are equal in comes together.
	var order, versions []string
	for _, g := range f.Grain {
		switch {
		case g.Key == nil:
			order = append(order, g.Column)
		case g.Key.Dimension.Versioned():
			versions = append(versions, g.Key.Column())
		default:
			order = append(order, g.Key.Column())
		}
	}
	if f.Reverses() {
		order = append(order, star.EntryNumber)
	}
	if err := p.scan(f.Table, append(order, versions...), exams); err != nil {
		return err
	}
	if err := p.lists(f); err != nil {
		return err
	}
	return p.balances(f)
}

// reference looks at a key of a fact.
func (p *proof) reference(f *schema.Fact, k *star.Key, at int) exam {
	d := p.star.Dimension(k.Dimension)
	reg := p.registers[d]
	c := p.check(
		"references",
		f.Table.Name,
		fmt.Sprintf("each %s has its member in %s", k.Column(), d.Table.Name),
		"restore the members from a copy of the warehouse, or load the fact again into an empty table",
	)
	durable := -1
	if k.Both {
		durable = column.Find(f.Table.Fields(), k.DurableColumn())
	}
	return exam{c, func(b *column.Batch) {
		col := &b.Cols[at]
		for i, key := range col.Int {
			n, ok := reg.find(key)
			if !ok && !col.Null[i] {
				c.against(
					func() Example { return p.example(f.Table, b, i, fmt.Sprintf("%s %d has no member", k.Column(), key)) },
				)
			} else if durable >= 0 && (b.Cols[durable].Null[i] != col.Null[i] || ok && !col.Null[i] && b.Cols[durable].Int[i] != reg.durable[n]) {
				c.against(func() Example {
					return p.example(f.Table, b, i, fmt.Sprintf("%s is not that of %s %d", k.DurableColumn(), k.Column(), key))
				})
			}
		}
	}, nil}
}

// asOf checks that a key points to the version that holds at the row's time. What is outside every version may
// point to the nearest one where the model says so, and where the member's history was changed after the row was
// written: an inferred member held for all time, and the one that filled it may not.
func (p *proof) asOf(f *schema.Fact, k *star.Key, at int) exam {
	d := p.star.Dimension(k.Dimension)
	reg := p.registers[d]
	var ref schema.Reference
	for _, r := range d.PointedAt {
		if r.Table == f.Table.Name && r.Key == k.Column() {
			ref = r
		}
	}
	when := column.Find(f.Table.Fields(), ref.Time)
	c := p.check(
		"as_of",
		f.Table.Name,
		fmt.Sprintf("each %s is the version that is valid at %s", k.Column(), k.AsOf),
		"load the dimension again, which points facts to the version of their time; then find what wrote the row",
	)
	toDay := ref.TimeType.Kind == column.Timestamp && d.Time.Kind == column.Date
	repointed := p.repointed("dimension "+d.Text, f.Table.Name)
	wrote := func(b *column.Batch, i int) int64 { // the run that wrote the row, or the one before that which pointed it elsewhere
		run := b.Cols[len(b.Cols)-1].Int[i]
		if repointed[run] {
			run--
		}
		return run
	}
	outside := 0
	return exam{c, func(b *column.Batch) {
		times := &b.Cols[when]
		for i, key := range b.Cols[at].Int {
			n, ok := reg.find(key)
			if b.Cols[at].Null[i] || key < 0 || !ok {
				continue
			}
			time := times.Int[i]
			switch {
			case times.Null[i] && k.Milestone:
				if !reg.current[n] {
					c.against(func() Example {
						return p.example(f.Table, b, i, fmt.Sprintf("%s %d is not the current version, and %s is not told", k.Column(), key, k.AsOf))
					})
				}
				continue
			case times.Null[i] || ref.ByDay && time < 0:
				c.against(func() Example {
					return p.example(f.Table, b, i, "no "+ref.Time+", so the version is not known")
				})
				continue
			case ref.ByDay:
				time = civil.Day(int(time/10000), int(time/100%100), int(time%100))
			case toDay:
				time = civil.DayOf(time)
			}
			before, after := time < reg.from[n], time >= reg.to[n]
			switch {
			case !before && !after:
			case d.LookedUp != nil && k.Outside == star.Nearest: // there may be gaps
				outside++
			case (before && reg.first[n] || after && reg.current[n]) && (k.Outside == star.Nearest || reg.rewritten(n) > wrote(b, i)):
				outside++
			default:
				c.against(func() Example {
					return p.example(
						f.Table,
						b,
						i,
						fmt.Sprintf(
							"%s %d is valid from %s to %s, not on %s",
							k.Column(),
							key,
							stamp(d.Time, reg.from[n]),
							stamp(d.Time, reg.to[n]),
							stamp(d.Time, time),
						),
					)
				})
			}
		}
	}, func() {
		if outside > 0 {
			c.Note = fmt.Sprintf(
				"outside every version, and pointing to the nearest one as the model or a later change of the member allows: %d",
				outside,
			)
		}
	}}
}

// repointed returns the runs in which a step pointed rows of a table to other versions.
func (p *proof) repointed(step, table string) map[int64]bool {
	runs := map[int64]bool{}
	for _, run := range p.runs {
		for _, s := range run.Steps {
			if s.Name == step && s.Figures.Repointed[table] > 0 {
				runs[run.ID] = true
			}
		}
	}
	return runs
}

// grain looks for rows that have the grain of another. Members count, not their versions (rule R17): rows that are
// equal in all else come together, and the members of such a group are kept.
func (p *proof) grain(f *schema.Fact) exam {
	c := p.check(
		"grain",
		f.Table.Name,
		"no two rows have the same "+joined(f.Table.Primary),
		"keep one of the rows; then find what wrote the other",
	)
	fields := f.Table.Fields()
	var plain, versioned []int
	var registers []*register
	for _, g := range f.Grain {
		if g.Key != nil && g.Key.Dimension.Versioned() {
			versioned = append(versioned, column.Find(fields, g.Key.Column()))
			registers = append(registers, p.registers[p.star.Dimension(g.Key.Dimension)])
		} else if g.Key != nil {
			plain = append(plain, column.Find(fields, g.Key.Column()))
		} else {
			plain = append(plain, column.Find(fields, g.Column))
		}
	}
	if f.Reverses() {
		plain = append(plain, column.Find(fields, star.EntryNumber))
	}
	group := map[string]bool{}
	var buf []byte
	return exam{c, func(b *column.Batch) {
		for i := range b.N {
			a, n := b, i-1
			if n < 0 {
				a, n = p.prior, 0
			}
			same := a.N > 0
			for _, k := range plain {
				same = same && a.Cols[k].Equal(n, &b.Cols[k], i)
			}
			if len(versioned) > 0 {
				if !same {
					clear(group)
				}
				buf = buf[:0]
				for v, k := range versioned {
					member := b.Cols[k].Int[i]
					if row, ok := registers[v].find(member); ok {
						member = int64(registers[v].member[row])
					}
					buf = fmt.Appendf(buf, "%d ", member)
				}
				same = group[string(buf)]
				group[string(buf)] = true
			}
			if same {
				c.against(func() Example { return p.example(f.Table, b, i, "another row has the same grain") })
			}
		}
	}, nil}
}

func joined(names []string) string {
	if len(names) == 1 {
		return names[0]
	}
	s := names[0]
	for _, n := range names[1 : len(names)-1] {
		s += ", " + n
	}
	return s + " and " + names[len(names)-1]
}

// codeRows is how many different values without a repeat make a measure look like a code.
const codeRows = 100

// measures sums up what is measured, and warns of what should not be: doubles, numbers that name things, natural keys
// that stand beside the surrogate key.
func (p *proof) measures(f *schema.Fact) []exam {
	c := p.warning(
		"measures",
		f.Table.Name,
		"measures are exact numbers, not codes, and no natural key stands beside its surrogate key",
		"declare measures as decimals; take codes out of measures, and natural keys out of degenerate",
	)
	fields := f.Table.Fields()
	var sums []int
	seen := map[int]map[int64]bool{} // values of integer measures until one comes twice
	for _, m := range f.Measures {
		k := column.Find(fields, m.Name)
		switch {
		case m.Type.Kind == column.Double:
			c.against(func() Example {
				return Example{Row: m.Name, What: "a double is not exact: totals depend on the order of the rows"}
			})
		case m.Type.Exact():
			sums = append(sums, k)
		}
		if m.Type.Kind == column.Integer {
			seen[k] = map[int64]bool{}
		}
	}
	for _, field := range f.Degenerate {
		for _, k := range f.Keys {
			if field.Type.Kind == column.Text && slices.Contains(k.By, field.Name) {
				c.against(func() Example {
					return Example{
						Row:  field.Name,
						What: "the fact has a natural key that " + k.Column() + " already tells",
					}
				})
			}
		}
	}
	totals := make([]exact.Int128, len(sums))
	overflow := false
	return []exam{{c, func(b *column.Batch) {
		for n, k := range sums {
			for i := range b.N {
				var ok bool
				totals[n], ok = totals[n].Add(b.Cols[k].Exact(i))
				overflow = overflow || !ok
			}
		}
		for k, values := range seen {
			for i, v := range b.Cols[k].Int {
				if b.Cols[k].Null[i] {
					continue
				}
				if values[v] || len(values) > 1<<20 {
					delete(seen, k)
					break
				}
				values[v] = true
			}
		}
	}, func() {
		held := p.held[f.Table.Name]
		for n, k := range sums {
			if !overflow {
				held.totals[fields[k].Name] = totals[n]
			}
		}
		for k, values := range seen {
			if len(values) >= codeRows && int64(len(values)) == held.rows {
				c.against(func() Example {
					return Example{Row: fields[k].Name, What: "no value occurs twice: this looks like an identifier"}
				})
			}
		}
	}}}
}
