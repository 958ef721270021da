package prove

import (
	"fmt"
	"runtime"
	"slices"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/layout"
	"ironmonger/internal/ledger"
	"ironmonger/internal/place"
	"ironmonger/internal/shape"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/stream"
	"ironmonger/internal/warehouse"
)

// rowAt is where a row stands in the sources.
type rowAt struct {
	step, file string
	line       int64
}

// againstSources reads the sources again: every row of theirs is in the star, with its values, its natural keys and
// its cents, or it is set aside.
func (p *proof) againstSources() error {
	aside := map[rowAt]bool{}
	err := ledger.EachAside(p.ctx, p.r, func(a *ledger.Aside, _ int64) { aside[rowAt{a.Step, a.File, a.Line}] = true })
	if err != nil {
		return err
	}
	for _, d := range p.star.Dimensions {
		if d.Source == nil {
			continue
		}
		c := p.check("sources", d.Table.Name, "every row of "+d.Source.Text+" has its member, or is set aside", "ironmonger load: it reads what isn't loaded yet")
		if p.held[d.Table.Name] == nil {
			c.State = Unseen
			continue
		}
		if err := p.rowsOf(c, d.Source, "dimension "+d.Text, aside, p.heard(c, d, aside)); err != nil {
			return err
		}
	}
	for _, f := range p.star.Facts {
		c := p.check("sources", f.Table.Name, "every row of "+f.Source.Text+" is here, with its values and natural keys, or is set aside", "ironmonger load: it reads what isn't loaded yet; if it stays, find what has changed the rows")
		if !p.readable(f) {
			c.State = Unseen
			continue
		}
		x := &rereader{p: p, f: f, c: c, aside: aside}
		if err := p.rowsOf(c, f.Source, "fact "+f.Text, aside, x.look); err != nil {
			return err
		}
		x.end()
	}
	return nil
}

// readable says whether a fact's table and those of its dimensions could be read to their ends.
func (p *proof) readable(f *layout.Fact) bool {
	for _, k := range f.Keys {
		if p.held[p.star.Dimension(k.Dimension).Table.Name] == nil {
			return false
		}
	}
	return p.held[f.Table.Name] != nil
}

// rowsOf shapes the rows of a source and gives them to look, batch by batch; what shaping sets aside has to be
// known as set aside.
func (p *proof) rowsOf(c *Check, s *star.Source, step string, aside map[rowAt]bool, look func(b *column.Batch) error) error {
	begin := time.Now()
	all := func(string) bool { return true }
	files, err := source.Open(p.opts.Root, s, p.model.Zone, 0, all)
	if err != nil {
		return err
	}
	shapers := make([]*shape.Shaper, runtime.GOMAXPROCS(0))
	for w := range shapers {
		if shapers[w], err = shape.New(s, all); err != nil {
			return err
		}
	}
	err = stream.Each(p.ctx, files, len(shapers), func() *column.Batch { return column.NewBatch(shapers[0].Fields()) },
		func(worker int, piece column.Piece, b *column.Batch) error {
			if err := piece.Fill(b); err != nil {
				return err
			}
			shapers[worker].Apply(b)
			return nil
		}, func(b *column.Batch) error {
			c.Looked += int64(b.N)
			for i := range b.N {
				if b.Bad(i) && !aside[rowAt{step, b.From.File, b.From.Line[i]}] {
					c.against(func() Example { return fromSource(b, i, "the row doesn't pass, and isn't among those set aside") })
				}
			}
			if p.opts.Watch != nil {
				p.opts.Watch(s.Text, c.Looked)
			}
			return look(b)
		})
	c.took += time.Since(begin)
	return err
}

func fromSource(b *column.Batch, i int, what string) Example {
	return Example{Row: place.Clip(place.Printable(b.From.Raw(i)), 100), What: what, At: place.Place{File: b.From.File, Line: int(b.From.Line[i])}.String()}
}

// heard checks that the natural keys of a dimension's source are those of members, where their rows aren't set aside.
func (p *proof) heard(c *Check, d *layout.Dimension, aside map[rowAt]bool) func(b *column.Batch) error {
	fields := d.Source.Fields()
	var natural []int
	for _, f := range d.NaturalKey {
		natural = append(natural, column.Find(fields, f.Name))
	}
	timed := -1
	if d.Timed() {
		timed = column.Find(fields, d.Effective.Name)
	}
	reg := p.registers[d]
	var digest column.Digester
	return func(b *column.Batch) error {
		cols := pick(b, natural)
		for i := range b.N {
			if b.Bad(i) {
				continue
			}
			_, known := reg.named[digest.Hash(p.seed, cols, i)]
			if (!known || timed >= 0 && b.Cols[timed].Null[i]) && !aside[rowAt{"dimension " + d.Text, b.From.File, b.From.Line[i]}] {
				c.against(func() Example { return fromSource(b, i, "no member has this natural key") })
			}
		}
		return nil
	}
}

// rereader holds the rows of a fact's source against its table.
type rereader struct {
	p      *proof
	f      *layout.Fact
	c      *Check
	aside  map[rowAt]bool
	digest column.Digester
	keys   []sourceKey
	grain  []grainColumn
	values [][2]int // columns that the table keeps as they are: there, and in the source
	lines  int
	claims int64 // facts that came from a row of the sources as they are now
	files  map[string]int64
}

// sourceKey is a key of the fact: what the source says, and where the table says it.
type sourceKey struct {
	*star.Key
	reg  *register
	by   []int
	at   int
	cols []*column.Column // a buffer
	days column.Column    // of timestamps that mean days
}

// grainColumn is a part of the grain: a column of the source or a key.
type grainColumn struct {
	field    column.Field
	from, at int // in the source, and in the table
	key      int // in keys, or -1
}

func (x *rereader) open() {
	fields, shaped := x.f.Table.Fields(), x.f.Source.Fields()
	for _, k := range x.f.Keys {
		s := sourceKey{Key: k, reg: x.p.registers[x.p.star.Dimension(k.Dimension)], at: column.Find(fields, k.Column()), days: column.Column{Type: column.Type{Kind: column.Date}}}
		for _, name := range k.By {
			s.by = append(s.by, column.Find(shaped, name))
		}
		x.keys = append(x.keys, s)
	}
	for _, g := range x.f.Grain {
		c := grainColumn{key: -1}
		if g.Key == nil {
			c.field, c.from = fields[column.Find(fields, g.Column)], column.Find(shaped, g.Column)
		} else {
			c.field = fields[column.Find(fields, g.Key.Column())]
			c.key = slices.Index(x.f.Keys, g.Key)
		}
		c.at = column.Find(fields, c.field.Name)
		x.grain = append(x.grain, c)
	}
	for _, f := range append(slices.Clone(x.f.Degenerate), x.f.Measures...) {
		x.values = append(x.values, [2]int{column.Find(fields, f.Name), column.Find(shaped, f.Name)})
	}
	x.lines = column.Find(fields, layout.LoadLine)
	x.files = map[string]int64{}
	for number, name := range x.p.files {
		x.files[name] = number
	}
}

// natural gives the fingerprint of what row i says for a key, and false if a part of it is null.
func (x *rereader) natural(k *sourceKey, b *column.Batch, i int) (uint64, bool) {
	cols := k.cols[:0]
	for _, at := range k.by {
		if b.Cols[at].Null[i] {
			return 0, false
		}
		cols = append(cols, &b.Cols[at])
	}
	k.cols = cols
	if len(cols) == 1 && cols[0].Type.Kind == column.Timestamp && k.Dimension.NaturalKey[0].Type.Kind == column.Date {
		k.days.Truncate(0)
		k.days.AppendInt(column.DayOf(cols[0].Int[i]))
		return x.digest.Hash(x.p.seed, []*column.Column{&k.days}, 0), true
	}
	return x.digest.Hash(x.p.seed, cols, i), true
}

// look finds the facts that have the grain of a row of the batch, and compares them.
func (x *rereader) look(b *column.Batch) error {
	if x.grain == nil {
		x.open()
	}
	match := make([]column.Column, len(x.grain))
	for n, g := range x.grain {
		match[n].Type = g.field.Type
	}
	for i := range b.N {
		if !b.Bad(i) {
			x.candidates(match, b, i, 0, nil)
		}
	}
	fields := x.f.Table.Fields()
	found := map[string][]int{} // rows of facts by their grain, members for versions
	facts := column.NewBatch(fields)
	if len(match[0].Null) > 0 {
		by := make([]*column.Column, len(match))
		for n := range match {
			by[n] = &match[n]
		}
		var err error
		facts, err = warehouse.ReadAll(x.p.ctx, x.p.r, warehouse.Query{Table: x.f.Table.Name, Fields: fields, By: x.f.Table.Primary, Match: by})
		if err != nil {
			return err
		}
	}
	var buf []byte
	for j := range facts.N {
		buf = x.grainOfFact(buf[:0], facts, j)
		found[string(buf)] = append(found[string(buf)], j)
	}
	for i := range b.N {
		if b.Bad(i) {
			continue
		}
		var ok bool
		if buf, ok = x.grainOfRow(buf[:0], b, i); ok {
			x.compare(b, i, facts, found[string(buf)])
		} else if !x.set(b, i) {
			x.c.against(func() Example { return fromSource(b, i, "the row has no grain, and isn't among those set aside") })
		}
	}
	return nil
}

// set says whether a row is set aside.
func (x *rereader) set(b *column.Batch, i int) bool {
	return x.aside[rowAt{"fact " + x.f.Text, b.From.File, b.From.Line[i]}]
}

// candidates adds what the table may have as the grain of row i: a member's versions all stand for it.
func (x *rereader) candidates(match []column.Column, b *column.Batch, i, n int, keys []int64) {
	if n == len(x.grain) {
		for k, g := range x.grain {
			if g.key >= 0 {
				match[k].AppendInt(keys[k])
			} else {
				match[k].Append(&b.Cols[g.from], i)
			}
		}
		return
	}
	g := x.grain[n]
	if g.key < 0 {
		if !b.Cols[g.from].Null[i] {
			x.candidates(match, b, i, n+1, append(keys, 0))
		}
		return
	}
	natural, ok := x.natural(&x.keys[g.key], b, i)
	if !ok {
		return
	}
	for _, surrogate := range x.keys[g.key].reg.versions(natural) {
		x.candidates(match, b, i, n+1, append(keys, surrogate))
	}
}

func (x *rereader) grainOfRow(buf []byte, b *column.Batch, i int) ([]byte, bool) {
	for _, g := range x.grain {
		if g.key < 0 {
			if b.Cols[g.from].Null[i] {
				return buf, false
			}
			buf = column.AppendKey(buf, &b.Cols[g.from], i)
			continue
		}
		natural, ok := x.natural(&x.keys[g.key], b, i)
		if !ok {
			return buf, false
		}
		buf = fmt.Appendf(buf, "%x ", natural)
	}
	return buf, true
}

func (x *rereader) grainOfFact(buf []byte, facts *column.Batch, j int) []byte {
	for _, g := range x.grain {
		k := g.at
		if g.key < 0 {
			buf = column.AppendKey(buf, &facts.Cols[k], j)
			continue
		}
		natural := uint64(0)
		if n, ok := x.keys[g.key].reg.find(facts.Cols[k].Int[j]); ok {
			natural = x.keys[g.key].reg.natural[n]
		}
		buf = fmt.Appendf(buf, "%x ", natural)
	}
	return buf
}

// compare holds row i against the facts of its grain: one of them says the same, or the row is set aside.
func (x *rereader) compare(b *column.Batch, i int, facts *column.Batch, found []int) {
	fault := "it isn't in the table, and not among the rows set aside"
	for _, j := range found {
		fault = x.differs(b, i, facts, j)
		if number, ok := x.files[b.From.File]; ok && facts.Cols[x.lines].Int[j] == ledger.Line(number, b.From.Line[i]) {
			x.claims++
		}
		if fault == "" {
			return
		}
	}
	if !x.set(b, i) {
		x.c.against(func() Example { return fromSource(b, i, fault) })
	}
}

// differs says in what a fact is not what row i says, "" if in nothing.
func (x *rereader) differs(b *column.Batch, i int, facts *column.Batch, j int) string {
	for _, v := range x.values {
		have, want := &facts.Cols[v[0]], &b.Cols[v[1]]
		if !have.Equal(j, want, i) {
			return fmt.Sprintf("%s is %s in the table, and %s here", x.f.Table.Columns[v[0]].Name, written(have, j), written(want, i))
		}
	}
	for n := range x.keys {
		k := &x.keys[n]
		have := &facts.Cols[k.at]
		natural, there := x.natural(k, b, i)
		switch {
		case !there && !stands(k.Missing, have, j):
			return fmt.Sprintf("%s is %s in the table, and the row has no natural key", k.Column(), written(have, j))
		case !there:
		case !have.Null[j] && have.Int[j] >= 0:
			if row, ok := k.reg.find(have.Int[j]); !ok || k.reg.natural[row] != natural {
				return fmt.Sprintf("%s %s isn't a key of the row's natural key", k.Column(), written(have, j))
			}
		case !stands(k.Unmatched, have, j) && !stands(k.Outside, have, j):
			return fmt.Sprintf("%s is %s in the table, and no rule says so", k.Column(), written(have, j))
		}
	}
	return ""
}

// stands says whether a key is what a rule makes of one that has no member.
func stands(rule star.Outcome, c *column.Column, j int) bool {
	switch rule {
	case star.LeaveEmpty:
		return c.Null[j]
	case star.ToUnknown:
		return !c.Null[j] && c.Int[j] == star.Unknown.Key
	case star.ToNotYet:
		return !c.Null[j] && c.Int[j] == star.NotYet.Key
	case star.NotApplying:
		return !c.Null[j] && c.Int[j] == star.NotApplicable.Key
	}
	return false
}

func written(c *column.Column, i int) string {
	if c.Null[i] {
		return "null"
	}
	return place.Clip(place.Printable(c.Value(i)), 40)
}

// end says how many facts came from files that are no longer there as they were.
func (x *rereader) end() {
	if held := x.p.held[x.f.Table.Name]; held != nil && x.claims < held.rows {
		x.c.Note = fmt.Sprintf("%d rows of the table come from files that are gone or have changed", held.rows-x.claims)
	}
}
