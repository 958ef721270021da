package fact

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/exact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/resolve"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// completion merges rows into the facts that they complete (rule R33). Each part of a fact (a milestone with its keys,
// a key, another column) has the value of the newest row that tells it, so that the order in which rows come makes no
// difference. The merged facts are written at the end of the load, like rows that replace others.
type completion struct {
	w     *Writer
	parts []part
	fixed []bool             // of fields: what no row may change
	at    map[digest.Sum]int // merged facts, by their grain: rows of the replacements
	facts []merged
}

// part is what is told together.
type part struct {
	*star.Part
	fields []int // of the table
	links  []int // of the writer, whose keys are among them
}

// merged is a fact whose rows are merged.
type merged struct {
	told    []telling      // by which row each part is told
	before  []telling      // and was before the load
	set     []bool         // of links: the key is of a row of this load
	natural []string       // of links: the natural key that no member has; "" if a member has it
	knew    []string       // and was before the load
	changed int64          // rows of this load that changed the fact
	sums    []exact.Int128 // and their measures
	clash   bool           // two rows of one time tell different things
}

// telling is the row that tells a part: how new it is, and where it stands. A line of 0 says that none does.
type telling struct{ newer, line int64 }

// compareTelling says which of two rows is newer; of equal ones it is the one that is read later. Lines of a file that
// is read are not compared: the file may have other lines now.
func (w *Writer) compareTelling(a, b telling) int {
	fileOfA, lineOfA := ledger.FileAndLine(a.line)
	fileOfB, lineOfB := ledger.FileAndLine(b.line)
	by := cmp.Or(cmp.Compare(a.newer, b.newer), cmp.Compare(w.files.Came(fileOfA), w.files.Came(fileOfB)))
	if by == 0 && w.files.Left[fileOfA] && w.files.Left[fileOfB] {
		return cmp.Compare(lineOfA, lineOfB)
	}
	return by
}

func newCompletion(w *Writer) *completion {
	if w.fact.Completion == nil {
		return nil
	}
	x := &completion{w: w, at: map[digest.Sum]int{}, fixed: slices.Clone(w.compared)}
	for _, p := range w.fact.Completion.Parts {
		m := part{Part: p}
		if p.Column != "" {
			m.fields = append(m.fields, column.Find(w.fields, p.Column))
		}
		for _, k := range p.Keys {
			m.links = append(m.links, slices.IndexFunc(w.links, func(l *resolve.Link) bool { return l.Key == k }))
			m.fields = append(m.fields, column.Find(w.fields, k.Column()))
			if k.Both {
				m.fields = append(m.fields, column.Find(w.fields, k.DurableColumn()))
			}
		}
		for _, k := range m.fields {
			x.fixed[k] = false
		}
		for _, k := range p.Versions { // of which the member may not change
			m.fields = append(m.fields, column.Find(w.fields, k.Column()))
		}
		x.parts = append(x.parts, m)
	}
	for k := range w.fields {
		if k == w.goneAt || w.replaced.newer == k {
			x.fixed[k] = false
		}
	}
	return x
}

// has reports whether a fact of the grain of row i is merged already.
func (x *completion) has(c *Chunk, i int32) bool {
	_, ok := x.at[c.view.grain(int(i))]
	return ok
}

// enter makes row j of the table a fact that is merged.
func (x *completion) enter(grain digest.Sum, stand *standing, j int) int {
	w, r := x.w, x.w.replaced
	n := r.rows.N
	for _, b := range []*column.Batch{r.rows, r.stood} {
		appendOwn(b, stand.cols, j)
	}
	r.dead = append(r.dead, true) // until it changes
	own := w.tellingOf(stand.cols, j)
	m := merged{
		told:    make([]telling, len(x.parts)),
		set:     make([]bool, len(w.links)),
		natural: make([]string, len(w.links)),
		sums:    make([]exact.Int128, len(w.Measures)),
	}
	for link := range stand.open {
		if stand.open[link] != nil && w.open.special(link, stand, j) {
			m.natural[link] = stand.open[link][j]
		}
	}
	for k, p := range x.parts {
		is, known := stand.told[grain][p.Text]
		switch {
		case known:
			m.told[k] = is
		case !p.Milestone || !stand.cols[p.fields[0]].Null[j] || w.fact.Completion.TellAll:
			m.told[k] = own
		}
	}
	m.before, m.knew = slices.Clone(m.told), slices.Clone(m.natural)
	x.at[grain], x.facts = n, append(x.facts, m)
	return n
}

// tellingOf returns the row that row i of columns that stand as the table's is, or was written by.
func (w *Writer) tellingOf(cols []*column.Column, i int) telling {
	t := telling{line: cols[len(w.fields)].Int[i]}
	if k := w.replaced.newer; k != none {
		t.newer = cols[k].Int[i]
	}
	return t
}

// take merges row i, which is of a fact that stands or that the load has merged already. stand may be nil then.
func (x *completion) take(c *Chunk, i int32, known bool, stand *standing, j int) {
	w, grain := x.w, c.view.grain(int(i))
	n, ok := x.at[grain]
	if !ok {
		n = x.enter(grain, stand, j)
	}
	r, is := w.replaced, w.tellingOf(c.cols, int(i))
	rows := column.Pointers(r.rows.Cols)
	m := &x.facts[n]
	var sets, raises []int
	news, overtaken := w.isFlagged(rows, n), false
	for k, p := range x.parts {
		if p.Milestone && c.cols[p.fields[0]].Null[i] && !w.fact.Completion.TellAll {
			continue // it is not told
		}
		was, differs := m.told[k], x.differs(p, c, int(i), rows, n)
		m.clash = m.clash || differs && r.newer != none && was.line != 0 && is.newer == was.newer
		switch {
		case was.line == 0, w.compareTelling(is, was) >= 0 && (differs || is.newer > was.newer):
			sets, news = append(sets, k), true
		case w.compareTelling(is, was) >= 0:
			raises = append(raises, k)
		case differs:
			overtaken = true
		}
	}
	if of := x.disordered(c, int(i), rows, n, sets); of != "" {
		c.Batch.SetAside(int(i), of, OrderReason, "")
		return
	}
	for _, k := range raises {
		m.told[k] = is
	}
	if !known {
		resolve.Join(w.links, c.Batch, &c.Keys, i)
	}
	switch {
	case news:
		x.set(c, int(i), n, sets, is)
		m.changed++
		w.sum(m.sums, c, i)
		c.Loaded = append(c.Loaded, i)
	case overtaken:
		w.older(c, i)
	default:
		w.same(c, i)
	}
}

// OrderReason is why a row is set aside that would put milestones out of order.
const OrderReason = "milestones out of order"

// differs reports whether row i says something else of a part than merged fact n has: of keys that no member has,
// another natural key.
func (x *completion) differs(p part, c *Chunk, i int, rows []*column.Column, n int) bool {
	for _, link := range p.links {
		if x.w.unmade(c, int32(i), link) {
			return true
		}
		natural := ""
		if w := x.w; w.open != nil && w.open.settles(link) && w.open.isOpen(c, i, link) {
			natural = naturalOf(w.links[link], c, i)
		}
		if natural != x.facts[n].natural[link] {
			return true
		}
	}
	for _, k := range p.fields {
		if !x.w.compared[k] || rows[k].Equal(n, c.cols[k], i) {
			continue
		}
		if r := x.w.canon[k]; r == nil || rows[k].Null[n] || c.cols[k].Null[i] ||
			r.Canon(rows[k].Int[n]) != r.Canon(c.cols[k].Int[i]) {
			return true
		}
	}
	return false
}

// disordered returns the first column that would be before one that is listed earlier, once row i has set some parts of
// merged fact n.
func (x *completion) disordered(c *Chunk, i int, rows []*column.Column, n int, sets []int) string {
	return x.w.disordered(func(k int) (*column.Column, int) {
		for _, s := range sets {
			if slices.Contains(x.parts[s].fields, k) {
				return c.cols[k], i
			}
		}
		return rows[k], n
	})
}

// disordered returns the first column that is before one that is listed earlier; at returns a field and its row.
func (w *Writer) disordered(at func(field int) (*column.Column, int)) string {
	last, row := (*column.Column)(nil), 0
	for _, name := range w.fact.Completion.InOrder {
		c, i := at(column.Find(w.fields, name))
		if c.Null[i] {
			continue
		}
		if last != nil && before(c, i, last, row) {
			return name
		}
		last, row = c, i
	}
	return ""
}

// unordered sets row i aside, which is the first of its grain, if its milestones are out of order.
func (w *Writer) unordered(c *Chunk, i int32) bool {
	if w.completion == nil {
		return false
	}
	of := w.disordered(func(k int) (*column.Column, int) { return c.cols[k], int(i) })
	if of != "" {
		c.Batch.SetAside(int(i), of, OrderReason, "")
	}
	return of != ""
}

// before reports whether a date or timestamp is before another; a day is not before a time on it.
func before(a *column.Column, i int, b *column.Column, j int) bool {
	if a.Type == b.Type {
		return a.Int[i] < b.Int[j]
	}
	return dayOf(a, i) < dayOf(b, j)
}

// set writes the parts that row i tells into merged fact n.
func (x *completion) set(c *Chunk, i, n int, sets []int, is telling) {
	w, r, m := x.w, x.w.replaced, &x.facts[n]
	for _, k := range sets {
		m.told[k] = is
		for _, field := range x.parts[k].fields {
			r.rows.Cols[field].Set(n, own(c.cols[field], i), 0)
		}
		for _, link := range x.parts[k].links {
			m.set[link], m.natural[link] = true, ""
			if w.open != nil && w.open.settles(link) && w.open.isOpen(c, i, link) {
				m.natural[link] = naturalOf(w.links[link], c, i)
			}
			if w.open != nil {
				w.open.completes(c, i, n, link)
			}
		}
	}
	if w.goneAt != none {
		r.rows.Cols[w.goneAt].Int[n] = 0
	}
	if r.dead[n] {
		r.dead[n] = false
		r.alive++
	}
}

// own returns a column of one row, with a text of its own.
func own(c *column.Column, i int) *column.Column {
	o := &column.Column{Type: c.Type}
	o.AppendOwn(c, i)
	return o
}

// finish works out what follows from the parts of the merged facts, before they are written, and writes down which rows
// have told milestones, where that is not the last row of the fact.
func (x *completion) finish(ctx context.Context, tx warehouse.Tx) error {
	w, r := x.w, x.w.replaced
	line, run := len(w.fields), len(w.fields)+1
	rows := column.Pointers(r.rows.Cols)
	var book *column.Batch
	if w.fact.Told != nil {
		book = column.NewBatch(w.fact.Told.Fields())
	}
	primary := w.fact.Table.PrimaryFields()
	old := column.NewBatch(primary)
	for n := range x.facts {
		m, last := &x.facts[n], telling{}
		if x.settle(m, n); r.dead[n] {
			continue
		}
		for _, t := range m.told {
			if last.line == 0 || t.line != 0 && w.compareTelling(t, last) > 0 {
				last = t
			}
		}
		rows[line].Int[n], rows[run].Int[n] = last.line, w.run
		if k := r.newer; k != none {
			rows[k].Int[n] = last.newer
		}
		for _, l := range w.lags {
			l.fill(rows[column.Find(w.fields, l.Text)], rows, n)
		}
		if book == nil {
			continue
		}
		for g, k := range w.grainAt {
			old.Cols[g].Append(rows[k], n)
		}
		old.N++
		for k, p := range x.parts {
			if p.Milestone && m.told[k].line != 0 && m.told[k] != last {
				x.note(book, rows, n, p.Text, m.told[k])
			}
		}
	}
	if book == nil || old.N == 0 {
		return nil
	}
	if _, err := tx.Remove(ctx, w.fact.Told.Name, primary, old); err != nil {
		return err
	}
	return warehouse.AppendAll(ctx, tx, w.fact.Told, book)
}

// settle counts the rows of merged fact n, which are the same after all if nothing of it is other than before.
func (x *completion) settle(m *merged, n int) {
	w, r := x.w, x.w.replaced
	if m.clash {
		w.Outcome.Conflicts++
	}
	if r.dead[n] {
		return
	}
	other := w.isFlagged(column.Pointers(r.stood.Cols), n)
	for k, p := range x.parts {
		other = other || m.told[k].newer != m.before[k].newer
		for _, field := range p.fields {
			other = other || !r.rows.Cols[field].Equal(n, &r.stood.Cols[field], n)
		}
		for _, link := range p.links {
			other = other || m.natural[link] != m.knew[link]
		}
	}
	count, sums := &w.Outcome.Changed, w.Outcome.ChangedTotal
	if !other {
		count, sums = &w.Outcome.Same, w.Outcome.SameSum
		r.dead[n] = true
		r.alive--
	}
	*count += m.changed
	for k := range sums {
		sums[k], _ = sums[k].Add(m.sums[k])
	}
}

// note adds a milestone of merged fact n to a batch of the table that has them.
func (x *completion) note(book *column.Batch, rows []*column.Column, n int, milestone string, t telling) {
	for g, k := range x.w.grainAt {
		book.Cols[g].Append(rows[k], n)
	}
	at := len(x.w.grainAt)
	book.Cols[at].AppendText(milestone)
	if x.w.replaced.newer != none {
		at++
		book.Cols[at].AppendInt(t.newer)
	}
	book.Cols[at+1].AppendInt(t.line)
	book.N++
}

// read reads by which rows the milestones of the rows at hand are told.
func (x *completion) read(ctx context.Context, tx warehouse.Tx, s *standing, match []column.Column) error {
	w, t := x.w, x.w.fact.Told
	if t == nil || len(match[0].Null) == 0 {
		return nil
	}
	fields := t.Fields()
	q := warehouse.Query{Table: t.Name, Fields: fields, By: w.fact.Table.Primary, Match: column.Pointers(match)}
	s.told = map[digest.Sum]map[string]telling{}
	newer, milestone := column.Find(fields, newerName(w)), column.Find(fields, schema.Milestone)
	line := column.Find(fields, schema.LoadLine)
	var d digest.Maker
	return warehouse.Each(ctx, tx, q, func(b *column.Batch) error {
		grain := column.Pointers(b.Cols[:len(w.grainAt)])
		for i := range b.N {
			id := d.Of(grain, i)
			if s.told[id] == nil {
				s.told[id] = map[string]telling{}
			}
			is := telling{line: b.Cols[line].Int[i]}
			if newer >= 0 {
				is.newer = b.Cols[newer].Int[i]
			}
			s.told[id][b.Cols[milestone].Text[i]] = is
		}
		return nil
	})
}

func newerName(w *Writer) string {
	if w.fact.NewerBy == nil {
		return ""
	}
	return w.fact.NewerBy.Name
}

// completes has row i complete row j of the table, unless it says something else where nothing may change.
func (w *Writer) completes(c *Chunk, i int32, known bool, stand *standing, j int) {
	for n, l := range w.links {
		if w.completion.fixed[column.Find(w.fields, l.Column())] && w.unmade(c, i, n) {
			w.unfit(
				c,
				i,
				l.Column(),
				fmt.Sprintf("%s ‹%s› is not that of the table", l.Text, l.Natural(c.Batch, int(i))),
			)
			return
		}
	}
	if of, values := w.differs(c, int(i), known, stand, j, w.completion.fixed); of != "" {
		w.unfit(c, i, of, values)
		return
	}
	w.completion.take(c, i, known, stand, j)
}

// unmade reports whether row i has a key of a member that is not there, and that the load has not made.
func (w *Writer) unmade(c *Chunk, i int32, link int) bool {
	open := c.Keys.Open[link]
	if open == nil || !open[i] {
		return false
	}
	return !resolve.Known(w.links, c.Batch, &c.Keys, i, func(l *resolve.Link) bool { return l == w.links[link] })
}

// unfit sets row i aside, which says something else in a column that no row may change.
func (w *Writer) unfit(c *Chunk, i int32, of, values string) {
	c.Batch.SetAside(int(i), of, RepeatReason, values+", and complete does not list it")
}
