package prove

import (
	"fmt"
	"time"

	"ironmonger/internal/calendar"
	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/standing"
	"ironmonger/internal/star"
)

// dimension proves the tables of a dimension, once, after those that it points to.
func (p *proof) dimension(d *schema.Dimension) error {
	if p.registers[d] != nil {
		return nil
	}
	for _, k := range d.Keys {
		if err := p.dimension(p.star.Dimension(k.Dimension)); err != nil {
			return err
		}
	}
	highest, _, err := ledger.Highest(p.ctx, p.r, d.Text)
	if err != nil {
		return err
	}
	x := &members{
		p:       p,
		d:       d,
		highest: highest,
		lasting: map[int64]int64{},
		reg:     newRegister(d.FirstKey, highest, d.KeyStep),
	}
	if d.Calendar != nil {
		there := &source.Days{}
		if err := standing.Days(p.ctx, p.r, p.star, there); err != nil {
			return err
		}
		x.calendar = (&source.Inputs{Days: there}).DaysOf(d.Calendar)
		x.there = make([]bool, max(0, x.calendar.To-x.calendar.From+1))
	}
	if days := d.DayKeys(); days != nil {
		x.reg = newRegister(days.Key(x.calendar.From), days.Key(x.calendar.To), 1)
	}
	if d.Clock != nil {
		x.reg = newRegister(0, d.Clock.Key(86_399_000_000), 1)
		x.there = make([]bool, d.Clock.Times())
	}
	p.registers[d] = x.reg
	fields := d.Table.Fields()
	for _, f := range d.NaturalKey {
		x.natural = append(x.natural, column.Find(fields, f.Name))
	}
	x.from, x.to = column.Find(fields, d.ValidFrom), column.Find(fields, d.ValidTo)
	x.current, x.inferred = column.Find(fields, schema.IsCurrent), column.Find(fields, schema.IsInferred)
	x.effective, x.durable = column.Find(fields, schema.EffectiveFrom), -1
	if d.Durable {
		x.durable = column.Find(fields, d.DurableColumn())
	}
	x.beginning, x.end = schema.Bounds(d.Time)

	if d.LookedUp != nil { // made by somebody else: only what is pointed to matters
		x.keys = p.check(
			"keys",
			d.Table.Name,
			fmt.Sprintf("each %s is unique", d.KeyColumn()),
			"ask who makes the table",
		)
		return p.scan(d.Table, column.Names(fields[1:]), []exam{{x.keys, x.lookKeys, nil}})
	}
	x.keys = p.check(
		"keys",
		d.Table.Name,
		fmt.Sprintf(
			"each %s is unique, and none is greater than %d, the highest one ever assigned",
			d.KeyColumn(),
			x.highest,
		),
		"two loads that do not share a ledger, or hands, have written here: load the table anew",
	)
	x.people = p.check(
		"members",
		d.Table.Name,
		"each natural key is one member with one current version",
		"merge the members by hand, and point the facts to the one that stays",
	)
	exams := []exam{{x.keys, x.lookKeys, nil}, {x.people, x.lookMembers, x.endMembers}}
	if d.Versioned() {
		x.versions = p.check(
			"versions",
			d.Table.Name,
			"the versions cover all time without gaps or overlaps, and none is empty",
			"load the dimension again into an empty table, from all its rows",
		)
		exams = append(exams, exam{x.versions, x.lookVersions, x.endVersions})
	}
	x.specials = p.check(
		"specials",
		d.Table.Name,
		"the special members exist and are unchanged",
		"restore the special members (ironmonger load makes missing ones)",
	)
	exams = append(exams, exam{x.specials, x.lookSpecials, x.endSpecials})
	if d.Calendar != nil {
		x.days = p.check(
			"calendar",
			d.Table.Name,
			"every day of the range exists once, with its key",
			"load the date dimension again into an empty table",
		)
		exams = append(exams, exam{x.days, x.lookDays, x.endDays})
		p.inSight(d)
	}
	if d.Clock != nil {
		x.days = p.check(
			"calendar",
			d.Table.Name,
			"every time of the day exists once, with its key",
			"load the dimension again into an empty table",
		)
		exams = append(exams, exam{x.days, x.lookTimes, x.endTimes})
	}
	for n, k := range d.Keys {
		exams = append(exams, p.outrigger(d, k, column.Find(fields, d.Outriggers[n].Name)))
	}
	exams = append(exams, p.mustHold(d.Table, d.MustHold)...)
	closure := func() error { return nil }
	if d.Closure != nil {
		var climb exam
		climb, closure = p.hierarchy(d)
		exams = append(exams, climb)
	}
	order := column.Names(d.NaturalKey)
	if d.Versioned() {
		order = append(order, schema.ValidFrom)
	}
	if err := p.scan(d.Table, order, exams); err != nil {
		return err
	}
	if err := closure(); err != nil || d.Observed == nil {
		return err
	}
	return p.observed(d, x.reg)
}

// members looks at the rows of a dimension, in the order of natural key and valid_from.
type members struct {
	p                                      *proof
	d                                      *schema.Dimension
	reg                                    *register
	highest                                int64
	natural                                []int
	from, to, current, inferred, effective int // columns, or -1
	durable                                int
	beginning, end                         int64

	keys, people, versions, specials, days *Check

	currents int             // rows of the member so far that say they are current
	seen     map[int64]bool  // special members
	lasting  map[int64]int64 // a key of each durable key
	calendar *star.Calendar  // with the days that it has
	there    []bool          // which of them are there
	digest   digest.Maker
}

func special(b *column.Batch, i int) bool { return b.Cols[0].Int[i] < 0 }

// before returns the row before row i of a batch, or false if there is none or it is a special member.
func (x *members) before(b *column.Batch, i int) (*column.Batch, int, bool) {
	if i--; i < 0 {
		b, i = x.p.prior, 0
	}
	return b, i, b.N > 0 && !special(b, i)
}

// lookKeys enters the keys, and comes before all else that looks at a batch.
func (x *members) lookKeys(b *column.Batch) {
	r := x.reg
	for i := range b.N {
		key := b.Cols[0].Int[i]
		if !r.add(key) {
			x.keys.against(func() Example { return x.p.example(x.d.Table, b, i, "another row has this key") })
		} else if key > x.highest && x.d.LookedUp == nil {
			x.keys.against(func() Example { return x.p.example(x.d.Table, b, i, "the key was never assigned") })
		}
		fresh := true
		if a, n, ok := x.before(b, i); ok && !special(b, i) {
			fresh = false
			for _, at := range x.natural {
				fresh = fresh || !a.Cols[at].Equal(n, &b.Cols[at], i)
			}
		}
		if fresh {
			r.members++
		} else {
			r.current[len(r.current)-1] = false
		}
		if x.d.LookedUp == nil {
			r.run = append(r.run, b.Cols[len(b.Cols)-1].Int[i])
		}
		r.member, r.first, r.current = append(r.member, r.members-1), append(r.first, fresh), append(r.current, true)
		if x.durable >= 0 {
			r.durable = append(r.durable, b.Cols[x.durable].Int[i])
		}
		if x.from >= 0 {
			from, to := b.Cols[x.from].Int[i], b.Cols[x.to].Int[i]
			if b.Cols[x.from].Null[i] {
				from = x.beginning
			}
			if b.Cols[x.to].Null[i] {
				to = x.end
			}
			r.from, r.to = append(r.from, from), append(r.to, to)
		}
		if x.p.rereads {
			r.name(x.digest.Hash(x.p.seed, b.Pick(x.natural), i), key, fresh && key >= 0)
		}
	}
}

// row returns the number of row i of a batch that lookKeys has just entered.
func (x *members) row(b *column.Batch, i int) int { return len(x.reg.member) - b.N + i }

func (x *members) lookMembers(b *column.Batch) {
	for i := range b.N {
		if special(b, i) {
			x.judge(x.before(b, i))
			x.currents = 0
			continue
		}
		for _, at := range x.natural {
			if b.Cols[at].Null[i] && !x.d.Junk {
				x.people.against(func() Example {
					return x.p.example(
						x.d.Table,
						b,
						i,
						"no "+x.d.Table.Columns[at].Name+", a part of the natural key",
					)
				})
				break
			}
		}
		if x.reg.first[x.row(b, i)] {
			x.judge(x.before(b, i))
			x.currents = 0
		} else if x.current < 0 {
			x.people.against(func() Example { return x.p.example(x.d.Table, b, i, "another row has this natural key") })
		}
		if x.durable >= 0 {
			key := b.Cols[x.durable].Int[i]
			if a, n, there := x.before(b, i); there && !x.reg.first[x.row(b, i)] && a.Cols[x.durable].Int[n] != key {
				x.people.against(func() Example {
					return x.p.example(x.d.Table, b, i, "the durable key differs from that of the version before")
				})
			} else if other, taken := x.lasting[key]; taken && x.reg.first[x.row(b, i)] {
				x.people.against(func() Example {
					return x.p.example(x.d.Table, b, i, fmt.Sprintf("the member of %s %d has this durable key", x.d.KeyColumn(), other))
				})
			}
			x.lasting[key] = b.Cols[0].Int[i]
		}
		if x.current >= 0 && b.Cols[x.current].Int[i] != 0 {
			x.currents++
		}
	}
}

// judge judges the member whose last version has been looked at.
func (x *members) judge(b *column.Batch, i int, there bool) {
	if there && x.current >= 0 && (x.currents != 1 || b.Cols[x.current].Int[i] == 0) {
		x.people.against(func() Example {
			return x.p.example(
				x.d.Table,
				b,
				i,
				fmt.Sprintf(
					"it is the last version of the member; %d of its versions are marked as current",
					x.currents,
				),
			)
		})
	}
}

func (x *members) endMembers() { x.judge(x.before(nil, 0)) }

func (x *members) lookVersions(b *column.Batch) {
	for i := range b.N {
		say := func(what string, args ...any) {
			x.versions.against(func() Example { return x.p.example(x.d.Table, b, i, fmt.Sprintf(what, args...)) })
		}
		from, to := b.Cols[x.from].Int[i], b.Cols[x.to].Int[i]
		if special(b, i) {
			x.closed(x.before(b, i))
			if from != x.beginning || to != x.end {
				say("a special member holds for all time, and this one does not")
			}
			continue
		}
		first, inferred := x.reg.first[x.row(b, i)], b.Cols[x.inferred].Int[i] != 0
		a, n, there := x.before(b, i)
		switch {
		case first:
			x.closed(a, n, there)
			if (x.d.FromStart || inferred) && from != x.beginning {
				say("the member's first version does not begin with time")
			}
		case from > a.Cols[x.to].Int[n]:
			say("a gap before this version: the one before ends %s", a.Cols[x.to].Value(n))
		case from < a.Cols[x.to].Int[n]:
			say("an overlap: the version before ends %s", a.Cols[x.to].Value(n))
		}
		effective := &b.Cols[x.effective]
		switch {
		case from >= to:
			say("the version holds for no time")
		case inferred && (to != x.end || !effective.Null[i]):
			say("an inferred member holds for all time, and nobody has said since when")
		case !effective.Null[i] && !(x.d.FromStart && first) && effective.Int[i] != from:
			say("%s is not %s", schema.ValidFrom, schema.EffectiveFrom)
		}
	}
}

// closed checks that the last version of a member ends with time.
func (x *members) closed(b *column.Batch, i int, there bool) {
	if there && b.Cols[x.to].Int[i] != x.end {
		x.versions.against(func() Example {
			return x.p.example(x.d.Table, b, i, "the member's last version ends "+b.Cols[x.to].Value(i))
		})
	}
}

func (x *members) endVersions() { x.closed(x.before(nil, 0)) }

func stamp(t column.Type, v int64) string {
	c := column.Column{Type: t}
	c.AppendInt(v)
	return c.Value(0)
}

func (x *members) lookSpecials(b *column.Batch) {
	for i := range b.N {
		if !special(b, i) {
			continue
		}
		if x.seen == nil {
			x.seen = map[int64]bool{}
		}
		key := b.Cols[0].Int[i]
		x.seen[key] = true
		say := func(what string) {
			x.specials.against(func() Example { return x.p.example(x.d.Table, b, i, what) })
		}
		at := -1
		for n, s := range x.d.Specials {
			if s.Key == key {
				at = n
			}
		}
		if at < 0 {
			say("no rule of the model names this special member")
			continue
		}
		x.untouched(b, i, x.d.Specials[at], say)
	}
}

// untouched checks that a special member is as rule R21 has it.
func (x *members) untouched(b *column.Batch, i int, s star.Special, say func(string)) {
	for k, col := range x.d.Table.Columns {
		c := &b.Cols[k]
		switch {
		case k == 0 || col.Name == schema.LoadRun || col.Name == schema.ValidFrom || col.Name == schema.ValidTo:
		case col.Name == schema.IsCurrent:
			if c.Int[i] != 1 {
				say("it is not current")
			}
		case x.d.Durable && col.Name == x.d.DurableColumn():
			if c.Int[i] != s.Key {
				say(col.Name + " is not its key")
			}
		case col.Name == schema.IsInferred, col.Name == schema.IsGone:
			if c.Int[i] != 0 {
				say("it says " + col.Name)
			}
		case column.Find(x.d.Outriggers, col.Name) >= 0:
			if c.Null[i] || c.Int[i] != x.d.NamesakeKey(col.Name, s) {
				say(col.Name + " does not point to its namesake")
			}
		case x.d.Generated() && col.Name == calendar.SortOrder:
			if where := map[bool]string{true: "before", false: "after"}[s.First]; c.Null[i] || c.Int[i] != calendar.SpecialOrder(s.Key, s.First) {
				say("it does not come " + where + " all dates")
			}
		case column.Find(x.d.Attributes(), col.Name) >= 0 && c.Type.Kind == column.Text:
			if c.Null[i] || c.Text[i] != s.Label {
				say(col.Name + " is not " + s.Label)
			}
		case !c.Null[i]:
			say(col.Name + " is not null")
		}
	}
}

func (x *members) endSpecials() {
	x.specials.Looked = int64(len(x.d.Specials))
	for _, s := range x.d.Specials {
		if !x.seen[s.Key] {
			x.specials.against(func() Example {
				return Example{
					Row:  fmt.Sprintf("%s %d", x.d.KeyColumn(), s.Key),
					What: "the member " + s.Label + " is not there",
				}
			})
		}
	}
}

func (x *members) lookDays(b *column.Batch) {
	cal := x.calendar
	for i := range b.N {
		if special(b, i) || b.Cols[x.natural[0]].Null[i] {
			continue
		}
		say := func(what string, args ...any) {
			x.days.against(func() Example { return x.p.example(x.d.Table, b, i, fmt.Sprintf(what, args...)) })
		}
		day := b.Cols[x.natural[0]].Int[i]
		switch {
		case day < cal.From || day > cal.To:
			say("the day lies outside the range")
		case x.there[day-cal.From]:
			say("the day is there twice")
		default:
			x.there[day-cal.From] = true
		}
		if keys := x.d.DayKeys(); keys != nil && b.Cols[0].Int[i] != keys.Key(day) {
			say("the key of this day is %d", keys.Key(day))
		}
	}
}

// endDays tells the days that are missing, one after another as one.
func (x *members) endDays() {
	written := func(i int) string { return stamp(column.Type{Kind: column.Date}, x.calendar.From+int64(i)) }
	for i := 0; i < len(x.there); i++ {
		first := i
		for i < len(x.there) && !x.there[i] {
			i++
		}
		if i > first {
			x.days.against(func() Example {
				if first == i-1 {
					return Example{Row: written(first), What: "the day is missing"}
				}
				return Example{Row: written(first), What: "the days to " + written(i-1) + " are missing"}
			})
		}
	}
}

func (x *members) lookTimes(b *column.Batch) {
	of := x.d.Clock
	for i := range b.N {
		if special(b, i) || b.Cols[x.natural[0]].Null[i] {
			continue
		}
		at := b.Cols[x.natural[0]].Int[i]
		say := func(what string, args ...any) {
			x.days.against(func() Example { return x.p.example(x.d.Table, b, i, fmt.Sprintf(what, args...)) })
		}
		n := at / (of.Every * 1_000_000)
		switch {
		case of.Start(at) != at || n < 0 || n >= of.Times():
			say("the time is not one of the clock")
		case x.there[n]:
			say("the time is there twice")
		default:
			x.there[n] = true
		}
		if b.Cols[0].Int[i] != of.Key(at) {
			say("the key of this time is %d", of.Key(at))
		}
	}
}

func (x *members) endTimes() {
	for n, there := range x.there {
		if !there {
			at := int64(n) * x.d.Clock.Every * 1_000_000
			x.days.against(func() Example {
				return Example{Row: stamp(column.Type{Kind: column.Time}, at), What: "the time is missing"}
			})
		}
	}
}

// inSight warns of a calendar that ends within a year.
func (p *proof) inSight(d *schema.Dimension) {
	c := p.warning(
		"calendar",
		d.Table.Name,
		"the calendar extends a year from today",
		"change `to` of the calendar in the model, and load; or declare closed: true if no later days are needed",
	)
	c.Looked = 1
	today := civil.DayOf(civil.Wall(p.opts.Today))
	if !d.Calendar.Closed && !d.Calendar.EndsByData() && d.Calendar.To < today+365 {
		c.against(func() Example {
			return Example{
				Row: d.Text,
				What: fmt.Sprintf(
					"the calendar ends on %s, and today is %s",
					stamp(column.Type{Kind: column.Date}, d.Calendar.To),
					p.opts.Today.Format(time.DateOnly),
				),
			}
		})
	}
}

// outrigger looks at a key by which a dimension points to the current version of another (rule R22).
func (p *proof) outrigger(d *schema.Dimension, k *star.Key, at int) exam {
	to := p.star.Dimension(k.Dimension)
	reg := p.registers[to]
	c := p.check(
		"references",
		d.Table.Name,
		fmt.Sprintf("each %s points to a current row of %s", k.Column(), to.Table.Name),
		"load both dimensions again; if the check still fails, correct the keys by hand",
	)
	return exam{c, func(b *column.Batch) {
		col := &b.Cols[at]
		for i := range b.N {
			if col.Null[i] {
				continue
			}
			n, ok := reg.find(col.Int[i])
			switch {
			case !ok:
				c.against(func() Example {
					return p.example(d.Table, b, i, fmt.Sprintf("%s %d has no member", k.Column(), col.Int[i]))
				})
			case !reg.current[n]:
				c.against(func() Example {
					return p.example(
						d.Table,
						b,
						i,
						fmt.Sprintf("%s %d is not the current version", k.Column(), col.Int[i]),
					)
				})
			}
		}
	}, nil}
}

// observed looks at the rows that made no version: each belongs to one that holds at its time.
func (p *proof) observed(d *schema.Dimension, reg *register) error {
	c := p.check(
		"references",
		d.Observed.Name,
		"each row belongs to the version that is valid at its time",
		"load the dimension again into an empty table, from all its rows",
	)
	return p.scan(d.Observed, nil, []exam{{c, func(b *column.Batch) {
		for i := range b.N {
			n, ok := reg.find(b.Cols[0].Int[i])
			switch at := b.Cols[1].Int[i]; {
			case !ok:
				c.against(func() Example { return p.example(d.Observed, b, i, "it has no member") })
			case d.Versioned() && (at >= reg.to[n] || at < reg.from[n]):
				c.against(
					func() Example { return p.example(d.Observed, b, i, "its version is not valid on "+b.Cols[1].Value(i)) },
				)
			}
		}
	}, nil}})
}
