package prove

import (
	"encoding/binary"
	"fmt"
	"hash/maphash"
	"runtime"
	"slices"
	"strings"
	"time"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/digest"
	"ironmonger/internal/erase"
	"ironmonger/internal/ledger"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/resolve"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/standing"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
	"ironmonger/internal/warehouse"
)

// againstSources reads the sources again, if that is asked for, and those that are made of tables of the star. Every
// row of theirs is in the star, with its values, its natural keys and its cents, or it is set aside; and every fact is
// what a row of theirs says, where its file, table or scope is still named.
func (p *proof) againstSources() error {
	aside := newAsides()
	if err := ledger.EachAside(p.ctx, p.r, ledger.Waiting, aside.add); err != nil {
		return err
	}
	for _, d := range p.star.Dimensions {
		if d.Source == nil || !p.opts.Sources {
			continue
		}
		c := p.check(
			"sources",
			d.Table.Name,
			"every row of "+d.Source.Text+" has a member, or is set aside",
			"ironmonger load: it reads the rows that are not loaded yet",
		)
		if p.held[d.Table.Name] == nil {
			c.State = Unseen
			continue
		}
		prepare, look := p.heard(c, d, aside)
		if _, err := p.rowsOf(c, d.Source, d.Takes(), "dimension "+d.Text, aside, prepare, look); err != nil {
			return err
		}
	}
	for _, f := range p.star.Facts {
		name := "sources"
		if f.Source.InStar() {
			name = "derived"
		}
		if name == "sources" && !p.opts.Sources || !p.rereads {
			continue
		}
		c := p.check(
			name,
			f.Table.Name,
			"every row of "+f.Source.Text+" is in the table with its values and natural keys, or is set aside; and every fact is in the source",
			"ironmonger load reads what is not loaded yet; for the rest find what has changed the facts, or the rows at the source",
		)
		if !p.readable(f) {
			c.State = Unseen
			continue
		}
		x := &rereader{p: p, f: f, c: c, aside: aside}
		if err := x.open(); err != nil {
			return err
		}
		flow, err := p.rowsOf(c, f.Source, f.Takes(), "fact "+f.Text, aside, x.prepare, x.look)
		if err != nil {
			return err
		}
		x.judgeReplaced()
		if err := x.backwards(flow.Names()); err != nil {
			return err
		}
	}
	return nil
}

// asides are the rows set aside that may be met again: by what they say, and how often that is there.
type asides struct {
	rows  map[[2]string]int // by step and content
	blank map[rowAt]bool    // those whose content was erased
}

type rowAt struct {
	step, file string
	line       int64
}

func newAsides() *asides { return &asides{map[[2]string]int{}, map[rowAt]bool{}} }

func (a *asides) add(x *ledger.Aside, _ int64) error {
	if strings.Contains(x.Content, erase.Blank) {
		a.blank[rowAt{x.Step, x.File, x.Line}] = true
	} else {
		a.rows[[2]string{x.Step, x.Hash}]++
	}
	return nil
}

// take reports whether row i is set aside by a step, and takes it out, so that the next that says the same has to
// be there as well.
func (a *asides) take(step string, b *column.Batch, i int) bool {
	at := [2]string{step, ledger.ContentHash(ledger.Content(b.From.Raw(i)))}
	if a.rows[at] > 0 {
		a.rows[at]--
		return true
	}
	return a.blank[rowAt{step, b.From.File, b.From.Line[i]}]
}

// readable reports whether a fact's table, those of its dimensions and those that its source reads could be read to
// their ends.
func (p *proof) readable(f *schema.Fact) bool {
	return p.held[f.Table.Name] != nil && p.pointsToRead(f.Keys) && p.standsOnRead(f.Source)
}

func (p *proof) pointsToRead(keys []*star.Key) bool {
	return !slices.ContainsFunc(keys, func(k *star.Key) bool { return p.held[p.star.Dimension(k.Dimension).Table.Name] == nil })
}

// standsOnRead reports whether the tables of the star that a source reads could be read to their ends.
func (p *proof) standsOnRead(s *star.Source) bool {
	if of := s.Standing; of != nil {
		table := ""
		for _, f := range p.star.Facts {
			if f.Fact == of.Fact {
				table = f.Table.Name
			}
		}
		if of.Dimension != nil {
			table = p.star.Dimension(of.Dimension).Table.Name
		}
		if p.held[table] == nil || !p.pointsToRead(of.Keys()) {
			return false
		}
	}
	return !slices.ContainsFunc(s.Others(), func(o *star.Source) bool { return !p.standsOnRead(o) })
}

// slot is a batch of a source with what workers have found out about its rows.
type slot struct {
	*column.Batch
	natural [][]uint64 // for each key, fingerprints of what the rows say
	missing [][]bool   // or that a part of that is null
	unread  [][]bool   // because it could not be read
	grain   []uint64
	whole   []bool // the row has a grain

	taken *column.Batch // the columns that the step takes, as they come
}

// lineUp puts the columns that were taken where those of the source stand; others are of no use.
func (b *slot) lineUp(at []int) {
	b.Reset(b.taken.N)
	for k, from := range at {
		if from >= 0 {
			b.Cols[k], b.taken.Cols[from] = b.taken.Cols[from], b.Cols[k]
		}
	}
	for _, f := range b.taken.Faults {
		b.SetAside(int(f.Row), f.Of, f.Reason, f.Detail)
	}
	b.From, b.taken.From = b.taken.From, b.From
}

// inputs returns where the sources are read, whose files were delivered when the ledger says it.
func (p *proof) inputs() (*source.Inputs, error) {
	in := &source.Inputs{Model: p.model, Root: p.opts.Root, Anew: true, Star: standing.New(p.r, p.star), Days: &source.Days{}}
	if err := standing.Days(p.ctx, p.r, p.star, in.Days); err != nil {
		return nil, err
	}
	return in, ledger.EachDelivered(p.ctx, p.r, func(s, name string, day int64) {
		in.Deliver(source.FileOf{Source: s, Name: name}, day)
	})
}

// rowsOf shapes the rows of a source, has workers prepare them, and gives them to look in order; what shaping sets
// aside has to be known as set aside. prepare gives each worker a function of its own; it is told what is read.
func (p *proof) rowsOf(
	c *Check,
	s *star.Source,
	takes []string,
	step string,
	aside *asides,
	prepare func(names []string) func(*slot),
	look func(*slot) error,
) (*transform.Flow, error) {
	begin := time.Now()
	in, err := p.inputs()
	if err != nil {
		return nil, err
	}
	flow, err := transform.Open(
		p.ctx,
		in,
		s,
		func(name string) bool { return slices.Contains(takes, name) },
	)
	if err != nil {
		return nil, err
	}
	fields := s.Shaped()
	at := make([]int, len(fields))
	for k, f := range fields {
		at[k] = column.Find(flow.Fields(), f.Name)
	}
	prepares := make([]func(*slot), runtime.GOMAXPROCS(0))
	for w := range prepares {
		prepares[w] = prepare(flow.Names())
	}
	err = pipeline.Each(
		p.ctx,
		flow,
		len(prepares),
		func() *slot { return &slot{Batch: column.NewBatch(fields), taken: column.NewBatch(flow.Fields())} },
		func(worker int, piece column.Piece, b *slot) error {
			if err := piece.Fill(b.taken); err != nil {
				return err
			}
			b.lineUp(at)
			prepares[worker](b)
			return nil
		},
		func(b *slot) error {
			c.Looked += int64(b.N)
			for i := range b.N {
				if b.Bad(i) && !aside.take(step, b.Batch, i) {
					c.against(func() Example {
						return fromSource(b.Batch, i, "the row does not pass, and is not among those set aside")
					})
				}
			}
			if p.opts.Watch != nil {
				p.opts.Watch(s.Text, c.Looked)
			}
			return look(b)
		},
	)
	c.took += time.Since(begin)
	return flow, err
}

func fromSource(b *column.Batch, i int, what string) Example {
	return Example{
		Row:  diag.Clip(diag.Printable(b.From.Raw(i)), 100),
		What: what,
		At:   diag.Place{File: b.From.File, Line: int(b.From.Line[i])}.String(),
	}
}

// heard checks that the natural keys of a dimension's source are those of members, where their rows are not set aside.
func (p *proof) heard(
	c *Check,
	d *schema.Dimension,
	aside *asides,
) (prepare func([]string) func(*slot), look func(*slot) error) {
	fields := d.Source.Shaped()
	names := d.Delivered
	timed := -1
	if d.Timed() {
		timed = column.Find(fields, d.Effective.Name)
	}
	reg := p.registers[d]
	prepare = func([]string) func(*slot) {
		k := newSourceKey(names, fields, d.Dimension)
		return func(b *slot) { b.fingerprint(p.seed, []*sourceKey{k}) }
	}
	return prepare, func(b *slot) error {
		for i := range b.N {
			if b.Bad(i) {
				continue
			}
			_, known := reg.named[b.natural[0][i]]
			if (!known || b.missing[0][i] || timed >= 0 && b.Cols[timed].Null[i]) &&
				!aside.take("dimension "+d.Text, b.Batch, i) {
				c.against(func() Example { return fromSource(b.Batch, i, "no member has this natural key") })
			}
		}
		if !d.Generated() {
			return nil
		}
		return p.sameDays(c, d, fields, b)
	}
}

// sameDays checks that days have the attributes of type 1 in the table that the calendar gives them.
func (p *proof) sameDays(c *Check, d *schema.Dimension, fields []column.Field, b *slot) error {
	wanted := append(slices.Clone(d.NaturalKey), d.Type1...)
	q := warehouse.Query{Table: d.Table.Name, Fields: wanted, By: column.Names(d.NaturalKey)}
	var says []*column.Column
	for _, f := range wanted {
		says = append(says, &b.Cols[column.Find(fields, f.Name)])
	}
	q.Match = says[:1]
	stand, err := warehouse.ReadAll(p.ctx, p.r, q)
	if err != nil {
		return err
	}
	row := map[int64]int{}
	for i := range b.N {
		row[says[0].Int[i]] = i
	}
	for j := range stand.N {
		i, ok := row[stand.Cols[0].Int[j]]
		if !ok {
			continue
		}
		for k, f := range wanted[1:] {
			is, said := &stand.Cols[1+k], says[1+k]
			if is.Equal(j, said, i) {
				continue
			}
			c.against(func() Example {
				return fromSource(b.Batch, i, fmt.Sprintf("%s is %s in the table, and %s by the calendar", f.Name, written(is, j), written(said, i)))
			})
		}
	}
	return nil
}

// sourceKey is the columns of a source that say a natural key. It is for one goroutine.
type sourceKey struct {
	by     []int
	unread []int       // columns that say that one of these could not be read
	toDay  bool        // timestamps mean days
	clock  *star.Clock // or times of a clock
	nulls  bool        // null is a value
	days   column.Column
	cols   []*column.Column
	digest digest.Maker
}

func newSourceKey(names []string, fields []column.Field, d *star.Dimension) *sourceKey {
	k := &sourceKey{nulls: d.Junk, days: column.Column{Type: column.Type{Kind: column.Date}}}
	for _, name := range names {
		k.by = append(k.by, column.Find(fields, name))
	}
	k.toDay = len(names) == 1 && fields[k.by[0]].Type.Kind == column.Timestamp &&
		d.NaturalKey[0].Type.Kind == column.Date
	if d.Clock != nil {
		k.toDay, k.clock = true, d.Clock
		k.days.Type = d.NaturalKey[0].Type
	}
	return k
}

// fingerprint fills in what the rows of a batch say of some keys.
func (b *slot) fingerprint(seed maphash.Seed, keys []*sourceKey) {
	if b.natural == nil {
		b.natural, b.missing, b.unread = make([][]uint64, len(keys)), make([][]bool, len(keys)), make([][]bool, len(keys))
	}
	for n, k := range keys {
		b.natural[n], b.missing[n] = slices.Grow(b.natural[n][:0], b.N)[:b.N], slices.Grow(b.missing[n][:0], b.N)[:b.N]
		b.unread[n] = slices.Grow(b.unread[n][:0], b.N)[:b.N]
		k.cols = k.cols[:0]
		for _, at := range k.by {
			k.cols = append(k.cols, &b.Cols[at])
		}
		if k.toDay {
			k.days.Resize(b.N)
			for i, at := range k.cols[0].Int[:b.N] {
				k.days.Int[i], k.days.Null[i] = civil.DayOf(at), k.cols[0].Null[i]
				if k.clock != nil {
					k.days.Int[i] = k.clock.Start(civil.TimeOf(at))
				}
			}
			k.cols[0] = &k.days
		}
		for i := range b.N {
			b.missing[n][i], b.unread[n][i] = false, resolve.IsUnread(b.Batch, k.unread, i)
			for _, c := range k.cols {
				b.missing[n][i] = b.missing[n][i] || c.Null[i] && !k.nulls
			}
			b.natural[n][i] = k.digest.Hash(seed, k.cols, i)
		}
	}
}

// rereader holds the rows of a fact's source against its table.
type rereader struct {
	p      *proof
	f      *schema.Fact
	c      *Check
	aside  *asides
	keys   []tableKey
	grain  []grainColumn
	values [][2]int // columns that the table keeps as they are: there, and in the source
	lines  int
	buf    []byte
	said   []uint64         // identities of the facts that a row of the sources says
	other  map[uint64]bool  // and of those of whose grain only rows with other values are there
	first  map[uint64]int32 // the rows of facts at hand by their grain, members for versions
	next   []int32          // and the next of the same grain, or -1
	order  *order           // of repeated rows; nil unless they replace others

	delivered  *delivered  // nil if the source delivers changes
	completion *completion // nil unless rows complete facts
}

// tableKey is a key of the fact in its table.
type tableKey struct {
	*star.Key
	reg     *register
	at      int
	settles bool // it is pointed to its member once that comes
}

// ordinary reports whether a key is that of a member that is not special.
func (k *tableKey) ordinary(c *column.Column, j int) bool {
	if unknown, ok := k.Dimension.KeyOf(star.Unknown); c.Null[j] || ok && c.Int[j] == unknown {
		return false
	}
	return c.Int[j] >= 0 || k.Dimension.LookedUp != nil
}

// grainColumn is a part of the grain: a column of the source or a key.
type grainColumn struct {
	field    column.Field
	from, at int // in the source, and in the table
	key      int // in keys, or -1
}

func (x *rereader) open() (err error) {
	fields, shaped := x.f.Table.Fields(), x.f.Source.Shaped()
	for _, k := range x.f.Keys {
		x.keys = append(
			x.keys,
			tableKey{
				k,
				x.p.registers[x.p.star.Dimension(k.Dimension)],
				column.Find(fields, k.Column()),
				resolve.Settles(x.f.Fact, k),
			},
		)
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
	x.lines = column.Find(fields, schema.LoadLine)
	x.first, x.other = map[uint64]int32{}, map[uint64]bool{}
	if x.delivered, err = x.newDelivered(); err != nil {
		return err
	}
	if x.f.Repeated == star.ReplaceRepeated || x.f.Reverses() || x.f.Completion != nil {
		x.order = x.newOrder()
	}
	x.completion, err = x.newCompletion()
	return err
}

// prepare returns a worker what finds out about rows all that can be told without the table.
func (x *rereader) prepare(names []string) func(*slot) {
	if x.order != nil {
		x.order.reads(names)
	}
	fields := x.f.Source.Shaped()
	keys := make([]*sourceKey, len(x.f.Keys))
	for n, k := range x.f.Keys {
		keys[n] = newSourceKey(k.By, fields, k.Dimension)
		for _, name := range k.Unread {
			keys[n].unread = append(keys[n].unread, column.Find(fields, name))
		}
	}
	var buf []byte
	return func(b *slot) {
		b.fingerprint(x.p.seed, keys)
		b.grain, b.whole = slices.Grow(b.grain[:0], b.N)[:b.N], slices.Grow(b.whole[:0], b.N)[:b.N]
		for i := range b.N {
			buf, b.whole[i] = buf[:0], true
			for _, g := range x.grain {
				switch {
				case g.key >= 0:
					_, special := x.keys[g.key].Missing.Key(x.keys[g.key].Dimension)
					b.whole[i] = b.whole[i] && (!b.missing[g.key][i] || special && !b.unread[g.key][i])
					buf = binary.LittleEndian.AppendUint64(buf, b.natural[g.key][i])
				case b.Cols[g.from].Null[i]:
					b.whole[i] = false
				default:
					buf = digest.AppendKey(buf, &b.Cols[g.from], i)
				}
			}
			b.grain[i] = maphash.Bytes(x.p.seed, buf)
		}
	}
}

// look finds the facts that have the grain of a row of the batch, and compares them.
func (x *rereader) look(b *slot) error {
	match := make([]column.Column, len(x.grain))
	for n, g := range x.grain {
		match[n].Type = g.field.Type
	}
	for i := range b.N {
		if b.whole[i] && (!b.Bad(i) || x.delivered != nil) {
			x.candidates(match, b, i, 0, nil)
		}
	}
	facts := column.NewBatch(x.f.Table.Fields())
	if len(match[0].Null) > 0 {
		by := make([]*column.Column, len(match))
		for n := range match {
			by[n] = &match[n]
		}
		var err error
		facts, err = warehouse.ReadAll(
			x.p.ctx,
			x.p.r,
			warehouse.Query{Table: x.f.Table.Name, Fields: x.f.Table.Fields(), By: x.f.GrainColumns(), Match: by},
		)
		if err != nil {
			return err
		}
	}
	x.enter(facts)
	for i := range b.N {
		x.present(b, i, facts)
		switch {
		case b.Bad(i):
		case b.whole[i]:
			x.compare(b, i, facts)
		case !x.set(b, i):
			x.c.against(func() Example {
				return fromSource(b.Batch, i, "the row has no grain, and is not among those set aside")
			})
		}
	}
	return nil
}

// present notes that the source has the grain of row i.
func (x *rereader) present(b *slot, i int, facts *column.Batch) {
	if x.delivered == nil || !b.whole[i] {
		return
	}
	var ids []uint64
	for j, ok := x.first[b.grain[i]]; ok && j >= 0; j = x.next[j] {
		ids = append(ids, x.identity(facts, int(j)))
	}
	x.delivered.note(b, i, ids)
}

// enter makes the facts at hand found by their grain.
func (x *rereader) enter(facts *column.Batch) {
	clear(x.first)
	x.next = slices.Grow(x.next[:0], facts.N)[:facts.N]
	last := x.lastEntries(facts)
	for j := range facts.N {
		if x.overtaken(last, facts, j) {
			continue
		}
		h := x.grainOf(facts, j)
		x.next[j] = -1
		if before, ok := x.first[h]; ok {
			x.next[j] = before
		}
		x.first[h] = int32(j)
	}
}

// grainOf returns a fingerprint of the grain of fact j, with natural keys in the place of keys.
func (x *rereader) grainOf(facts *column.Batch, j int) uint64 {
	x.buf = x.buf[:0]
	for _, g := range x.grain {
		if g.key < 0 {
			x.buf = digest.AppendKey(x.buf, &facts.Cols[g.at], j)
			continue
		}
		natural := uint64(0)
		if n, ok := x.keys[g.key].reg.find(facts.Cols[g.at].Int[j]); ok {
			natural = x.keys[g.key].reg.natural[n]
		}
		x.buf = binary.LittleEndian.AppendUint64(x.buf, natural)
	}
	return maphash.Bytes(x.p.seed, x.buf)
}

// set reports whether a row is set aside.
func (x *rereader) set(b *slot, i int) bool {
	return x.aside.take("fact "+x.f.Text, b.Batch, i)
}

// candidates adds what the table may have as the grain of row i: a member's versions all stand for it.
func (x *rereader) candidates(match []column.Column, b *slot, i, n int, keys []int64) {
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
		x.candidates(match, b, i, n+1, append(keys, 0))
		return
	}
	if k := &x.keys[g.key]; b.missing[g.key][i] {
		special, _ := k.Missing.Key(k.Dimension)
		x.candidates(match, b, i, n+1, append(keys, special))
		return
	}
	for _, surrogate := range x.keys[g.key].reg.versions(b.natural[g.key][i]) {
		x.candidates(match, b, i, n+1, append(keys, surrogate))
	}
}

// compare holds row i against the facts of its grain: one of them says the same, or the row is set aside.
func (x *rereader) compare(b *slot, i int, facts *column.Batch) {
	fault := "it is not in the table, and not among the rows set aside"
	late := x.delivered.late(b, i)
	j, ok := x.first[b.grain[i]]
	if ok && x.completion != nil {
		if !late {
			x.completion.compare(b, i, facts, int(j))
		}
		return
	}
	for ; ok && j >= 0; j = x.next[j] {
		id := x.identity(facts, int(j))
		if x.same(b, i, facts, int(j)) {
			x.said = append(x.said, id)
			x.delivered.says(b, i, id)
			if x.order != nil && !late {
				x.order.says(id, x.order.ofRow(b, i))
			}
			return
		}
		switch {
		case late:
			return
		case x.f.Repeated == star.KeepRepeated: // what is there counts
			x.other[id] = true
			return
		case x.order != nil:
			if !x.set(b, i) {
				fault := x.differs(b, i, facts, int(j))
				x.order.differs(id, x.order.ofRow(b, i), x.order.ofFact(facts, int(j)), fromSource(b.Batch, i, fault))
			}
			return
		}
		x.other[id] = true
		fault = x.differs(b, i, facts, int(j))
	}
	if !late && !x.set(b, i) {
		x.c.against(func() Example { return fromSource(b.Batch, i, fault) })
	}
}

// identity stands for a row of the table among all others: what it has in its primary key.
func (x *rereader) identity(facts *column.Batch, j int) uint64 {
	x.buf = x.buf[:0]
	for _, g := range x.grain {
		x.buf = digest.AppendKey(x.buf, &facts.Cols[g.at], j)
	}
	return maphash.Bytes(x.p.seed, x.buf)
}

// identityOf is identity of row j of columns that are those of the primary key.
func (x *rereader) identityOf(primary []column.Column, j int) uint64 {
	x.buf = x.buf[:0]
	for n := range primary {
		x.buf = digest.AppendKey(x.buf, &primary[n], j)
	}
	return maphash.Bytes(x.p.seed, x.buf)
}

// same reports whether a fact is what row i says.
func (x *rereader) same(b *slot, i int, facts *column.Batch, j int) bool {
	for _, v := range x.values {
		if !facts.Cols[v[0]].Equal(j, &b.Cols[v[1]], i) {
			return false
		}
	}
	for n := range x.keys {
		if x.keys[n].Again && !x.points(n, b, i, &facts.Cols[x.keys[n].at], j) {
			return false
		}
	}
	return true
}

// points reports whether a key of a fact is one that row i may have: of a member with its natural key, or what a rule
// makes of one that has none.
func (x *rereader) points(n int, b *slot, i int, have *column.Column, j int) bool {
	k := &x.keys[n]
	switch {
	case b.missing[n][i] && b.unread[n][i]:
		return star.ToUnreadable.Stands(k.Dimension, have, j)
	case b.missing[n][i]:
		return k.Missing.Stands(k.Dimension, have, j)
	case k.ordinary(have, j):
		row, ok := k.reg.find(have.Int[j])
		return ok && k.reg.natural[row] == b.natural[n][i]
	}
	if k.Outside.Stands(k.Dimension, have, j) {
		return true
	}
	// a fact whose natural key no member had is pointed to the member once it comes
	return k.Unmatched.Stands(k.Dimension, have, j) &&
		(!k.settles || len(k.reg.versions(b.natural[n][i])) == 0)
}

// differs says in what a fact is not what row i says.
func (x *rereader) differs(b *slot, i int, facts *column.Batch, j int) string {
	for _, v := range x.values {
		if have, want := &facts.Cols[v[0]], &b.Cols[v[1]]; !have.Equal(j, want, i) {
			return fmt.Sprintf(
				"%s is %s in the table, and %s here",
				x.f.Table.Columns[v[0]].Name,
				written(have, j),
				written(want, i),
			)
		}
	}
	for n := range x.keys {
		k := &x.keys[n]
		have := &facts.Cols[k.at]
		switch {
		case !k.Again, x.points(n, b, i, have, j):
		case b.missing[n][i]:
			return fmt.Sprintf("%s is %s in the table, and the row has no natural key", k.Column(), written(have, j))
		case k.ordinary(have, j):
			return fmt.Sprintf("%s %s is not a key of the row's natural key", k.Column(), written(have, j))
		default:
			return fmt.Sprintf("%s is %s in the table, and no rule allows it", k.Column(), written(have, j))
		}
	}
	return ""
}

func written(c *column.Column, i int) string {
	if c.Null[i] {
		return "null"
	}
	return diag.Clip(diag.Printable(c.Value(i)), 40)
}
