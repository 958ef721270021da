package fact

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strconv"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/resolve"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// openKeys notes which keys of the rows that are written no member had, with their natural keys.
type openKeys struct {
	w      *Writer
	of     []bool             // for each link, whether its keys are pointed to members that come later
	id     []int              // the columns that tell a fact from others
	fresh  [][]ledger.OpenKey // for each link
	closed [][]ledger.OpenKey // those of rows that were replaced
	later  map[int][]pendingKey
	some   []bool                      // for each link, whether rows of the table have open keys
	held   []map[string]ledger.OpenKey // for each link, those of the table by their rows, where rows may be put back
	n      int
}

// pendingKey is an open key of a row that is to replace another.
type pendingKey struct {
	link int
	ledger.OpenKey
}

// mostOpen is how many open keys are held in memory.
const mostOpen = 10_000

// RowID lists the columns by which the ledger knows a row of a fact: those of its grain, but where a key stands there
// that may become another, since its member has versions or may become part of another, the line of the row.
func RowID(f *schema.Fact) []column.Field {
	fields := f.Table.Fields()
	var id []column.Field
	line := false
	for n, name := range f.GrainColumns() {
		if k := f.Grain[n].Key; k != nil && (k.Dimension.Versioned() || k.Dimension.Aliases != nil) {
			line = true
			continue
		}
		id = append(id, fields[column.Find(fields, name)])
	}
	if f.Reverses() {
		id = append(id, fields[column.Find(fields, star.EntryNumber)])
	}
	if line {
		id = append(id, fields[column.Find(fields, schema.LoadLine)])
	}
	return id
}

func newOpenKeys(w *Writer) *openKeys {
	o := &openKeys{w: w, later: map[int][]pendingKey{}}
	for _, l := range w.links {
		o.of = append(o.of, resolve.Settles(w.fact.Fact, l.Key))
	}
	if !slices.Contains(o.of, true) {
		return nil
	}
	o.some = make([]bool, len(w.links))
	o.fresh, o.closed = make([][]ledger.OpenKey, len(w.links)), make([][]ledger.OpenKey, len(w.links))
	for _, f := range RowID(w.fact) {
		o.id = append(o.id, column.Find(w.fact.Table.Fields(), f.Name))
	}
	return o
}

// look finds out of which keys the table has open ones.
func (o *openKeys) look(ctx context.Context, tx warehouse.Tx) (err error) {
	for n, l := range o.w.links {
		if o.settles(n) && err == nil {
			o.some[n], err = ledger.HasOpenKeys(ctx, tx, o.w.fact.Table.Name, l.Column())
		}
	}
	return err
}

func (o *openKeys) settles(link int) bool { return o.of[link] }

// doubt has the rows of a chunk compared in earnest that seem to stand in the table as they are, and whose natural key
// no member has, or may be another than that of a row of which no member has it.
func (o *openKeys) doubt(c *Chunk) {
	doubt := func(i int32) {
		if c.same[i] {
			c.same[i], c.gap[i] = false, true
		}
	}
	for _, s := range c.Keys.Strays {
		if !s.Outside && o.settles(int(s.Link)) {
			doubt(s.Row)
		}
	}
	for n, l := range o.w.links {
		if !o.some[n] || !o.settles(n) {
			continue
		}
		for _, part := range l.Says(c.Batch) {
			for i, null := range part.Null[:c.Batch.N] {
				if null {
					doubt(int32(i))
				}
			}
		}
	}
}

// naturals reads, for the rows of the table in a view, which natural keys no member had.
func (o *openKeys) naturals(ctx context.Context, tx warehouse.Tx, s *standing, n int) error {
	if err := o.keep(ctx, tx); err != nil {
		return err
	}
	s.open = make([][]string, len(o.w.links))
	for link, l := range o.w.links {
		if !o.settles(link) {
			continue
		}
		s.open[link] = make([]string, n)
		at := map[string]int{}
		for j := range n {
			if o.special(link, s, j) {
				at[ledger.MemberText(o.rowOf(s.cols, j))] = j
			}
		}
		ids := slices.Sorted(maps.Keys(at))
		known, err := ledger.OpenNaturals(ctx, tx, o.w.fact.Table.Name, l.Column(), ids)
		if err != nil {
			return err
		}
		for id, natural := range known {
			s.open[link][at[id]] = natural
		}
	}
	return nil
}

// naturalOf returns the natural key of row i of a chunk, as [ledger.MemberText] has it; "" if a part of it is null.
func naturalOf(l *resolve.Link, c *Chunk, i int) string {
	var parts []string
	for _, part := range l.Says(c.Batch) {
		if part.Null[i] {
			return ""
		}
		parts = append(parts, part.Value(i))
	}
	return ledger.MemberText(parts)
}

// equal compares the natural key of row i with that of row j of the table, which points to a special member. It decides
// nothing where that is not known to be one that no member had.
func (o *openKeys) equal(c *Chunk, i, link int, s *standing, j int) (equal, decided bool) {
	if s.open[link] == nil {
		return false, false
	}
	l := o.w.links[link]
	is, says := s.open[link][j], naturalOf(l, c, i)
	switch {
	case is != "":
		return is == says, true
	case says != "" && (l.AsOf == "" || !l.Outside.Special()): // the row that stands had none
		return false, true
	}
	return false, false
}

// isOpen reports whether no member has the natural key of row i.
func (o *openKeys) isOpen(c *Chunk, i, link int) bool { return o.isStray(c, i, link, false) }

// isStray reports whether a key of row i is unmatched, or outside.
func (o *openKeys) isStray(c *Chunk, i, link int, outside bool) bool {
	at, ok := slices.BinarySearchFunc(c.Keys.Strays, resolve.Stray{Link: int32(link), Row: int32(i)},
		func(a, b resolve.Stray) int { return cmp.Or(cmp.Compare(a.Link, b.Link), cmp.Compare(a.Row, b.Row)) })
	return ok && c.Keys.Strays[at].Outside == outside
}

// keyOf returns the open key of row i of a chunk by a link.
func (o *openKeys) keyOf(c *Chunk, i, link int) ledger.OpenKey {
	l := o.w.links[link]
	k := ledger.OpenKey{Row: o.rowOf(c.cols, i)}
	for _, part := range l.Says(c.Batch) {
		k.Natural = append(k.Natural, part.Value(i))
	}
	if at := l.Time(c.Batch); at != nil {
		asOf := at.Int[i]
		k.AsOf = &asOf
	}
	return k
}

// rowOf returns what tells row i from others; cols are ordered as the fields of the table.
func (o *openKeys) rowOf(cols []*column.Column, i int) []string {
	var id []string
	for _, k := range o.id {
		id = append(id, cols[k].Value(i))
	}
	return id
}

// wrote notes rows of a chunk that are written.
func (o *openKeys) wrote(ctx context.Context, tx warehouse.Tx, c *Chunk, rows []int32) error {
	for _, s := range c.Keys.Strays {
		if _, written := slices.BinarySearch(rows, s.Row); written && !s.Outside && o.settles(int(s.Link)) {
			o.fresh[s.Link] = append(o.fresh[s.Link], o.keyOf(c, int(s.Row), int(s.Link)))
			o.n++
		}
	}
	o.forget(c, rows)
	if o.n < mostOpen {
		return nil
	}
	return o.keep(ctx, tx)
}

// forget has the ledger forget the open keys of rows that stood where rows without a natural key stand now.
func (o *openKeys) forget(c *Chunk, rows []int32) {
	for link, l := range o.w.links {
		if !o.some[link] {
			continue
		}
		for _, i := range rows {
			if naturalOf(l, c, int(i)) == "" {
				o.closed[link] = append(o.closed[link], ledger.OpenKey{Row: o.rowOf(c.cols, int(i))})
				o.n++
			}
		}
	}
}

// replaces notes that row i of a chunk is row n of the replacements.
func (o *openKeys) replaces(c *Chunk, i int32, n int) {
	for link := range o.w.links {
		if o.settles(link) && o.isOpen(c, int(i), link) {
			o.later[n] = append(o.later[n], pendingKey{link, o.keyOf(c, int(i), link)})
		}
	}
}

// completes notes that row i of a chunk has a key of row n of the replacements.
func (o *openKeys) completes(c *Chunk, i, n, link int) {
	o.later[n] = slices.DeleteFunc(o.later[n], func(k pendingKey) bool { return k.link == link })
	if o.settles(link) && o.isOpen(c, i, link) {
		o.later[n] = append(o.later[n], pendingKey{link, o.keyOf(c, i, link)})
	}
}

// replaced notes that row n of the replacements is written.
func (o *openKeys) replaced(r *replacements, n int) {
	stood := column.Pointers(r.stood.Cols)
	for link := range o.w.links {
		if o.settles(link) && o.w.sets(n, link) {
			o.closed[link] = append(o.closed[link], ledger.OpenKey{Row: o.rowOf(stood, n)})
		}
	}
	o.wroteLater(r, n)
}

// wroteLater notes the open keys of row n of the replacements, which is written.
func (o *openKeys) wroteLater(r *replacements, n int) {
	for _, k := range o.later[n] {
		if o.w.entries != nil { // it is not a first entry
			k.Row = o.rowOf(column.Pointers(r.rows.Cols), n)
		}
		o.fresh[k.link] = append(o.fresh[k.link], k.OpenKey)
	}
}

// sameLater reports whether row i of a chunk has the open keys of row n of the replacements.
func (o *openKeys) sameLater(c *Chunk, i, n int) bool {
	for link := range o.w.links {
		at := slices.IndexFunc(o.later[n], func(k pendingKey) bool { return k.link == link })
		open := o.settles(link) && o.isOpen(c, i, link)
		if open != (at >= 0) || open && !slices.Equal(o.later[n][at].Natural, o.keyOf(c, i, link).Natural) {
			return false
		}
	}
	return true
}

// NextEntry returns what tells the row that reverses another from others, of what tells that one; nil if none can.
func NextEntry(f *schema.Fact, row []string) []string {
	at := column.Find(RowID(f), star.EntryNumber)
	if at < 0 {
		return nil
	}
	n, err := strconv.ParseInt(row[at], 10, 64)
	if err != nil {
		return nil
	}
	next := slices.Clone(row)
	next[at] = strconv.FormatInt(n+1, 10)
	return next
}

// hold keeps the open keys of rows at hand that are removed, and may be put back.
func (o *openKeys) hold(ctx context.Context, tx warehouse.Tx) error {
	o.held = make([]map[string]ledger.OpenKey, len(o.w.links))
	for link, l := range o.w.links {
		if !o.settles(link) || !o.some[link] {
			continue
		}
		list, err := ledger.OpenKeys(ctx, tx, o.w.fact.Table.Name, l.Column())
		if err != nil {
			return err
		}
		o.held[link] = map[string]ledger.OpenKey{}
		for _, k := range list {
			o.held[link][ledger.MemberText(k.Row)] = k
		}
	}
	return nil
}

// recall notes the open keys of rows that are put back.
func (o *openKeys) recall(rows *column.Batch) {
	cols := column.Pointers(rows.Cols)
	for link, held := range o.held {
		for n := range rows.N {
			if k, ok := held[ledger.MemberText(o.rowOf(cols, n))]; ok {
				o.fresh[link] = append(o.fresh[link], k)
			}
		}
	}
}

// move notes that rows of the table have the lines of others now.
func (o *openKeys) move(rows *column.Batch, lines []int64) {
	line := len(o.w.fields)
	if !slices.Contains(o.id, line) {
		return
	}
	cols := column.Pointers(rows.Cols)
	for link, held := range o.held {
		for n := range rows.N {
			k, ok := held[ledger.MemberText(o.rowOf(cols, n))]
			if !ok {
				continue
			}
			o.closed[link] = append(o.closed[link], k)
			k.Row = slices.Clone(k.Row)
			k.Row[slices.Index(o.id, line)] = strconv.FormatInt(lines[n], 10)
			o.fresh[link] = append(o.fresh[link], k)
		}
	}
}

// drop notes that rows of the table are removed.
func (o *openKeys) drop(rows *column.Batch) {
	cols := column.Pointers(rows.Cols)
	for link := range o.w.links {
		for n := range rows.N {
			if o.settles(link) && o.some[link] {
				o.closed[link] = append(o.closed[link], ledger.OpenKey{Row: o.rowOf(cols, n)})
			}
		}
	}
}

// keep writes down what was noted.
func (o *openKeys) keep(ctx context.Context, tx warehouse.Tx) error {
	table := o.w.fact.Table.Name
	for link, l := range o.w.links {
		if err := ledger.CloseKeys(ctx, tx, table, l.Column(), o.closed[link]); err != nil {
			return err
		}
		if err := ledger.KeepOpenKeys(ctx, tx, table, l.Column(), o.fresh[link], o.w.run); err != nil {
			return err
		}
		o.closed[link], o.fresh[link] = nil, nil
	}
	o.n = 0
	return nil
}

// special reports whether row j of the table has what the rule of a link makes of a natural key that no member has.
func (o *openKeys) special(link int, s *standing, j int) bool {
	l := o.w.links[link]
	k := column.Find(o.w.fields, l.Column())
	return l.Unmatched.Stands(l.Dimension, s.cols[k], j)
}
