package fact

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"slices"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// delivered notes which grains the rows of a delivery of all have, and when they were delivered, so that the facts that
// the last delivery of their scope does not have are known to be gone (rule R13).
type delivered struct {
	w        *Writer
	all      *star.Deliveries
	on       int   // the column of the shaped batch that says when a row was delivered, or -1
	scope    []int // the fields that say of which scope a row is
	until    int   // the field that has a value in facts that are closed, or -1
	told     *table
	doubtful *doubtful
	scopes   map[string]*scope
	list     []*scope // in order of appearance
	read     int64
	buf      []byte
	others   Others // nil if all rows are handed to the writer
}

// Others are rows of a delivery of all that are not handed to the writer, since somebody else takes them. Nothing says
// when they were delivered.
type Others interface {
	// Delivered returns of how many rows each scope is that they are of. Scopes are rows of the table, in which other
	// columns have no values.
	Delivered(ctx context.Context) (scopes *column.Batch, rows []int64, err error)
	// Standing returns how many facts of each scope stand in the table, in the same way: those that are gone do not.
	Standing(ctx context.Context) (scopes *column.Batch, rows []int64, err error)
	// Absent hands on the rows of the table whose grain none of them has.
	Absent(ctx context.Context, rows func(*column.Batch) error) error
}

// Beside has the writer find out what is gone beside rows that others take. The rows that these write are not in the
// table when [Writer.Finish] is called.
func (w *Writer) Beside(o Others) {
	if w.delivered != nil {
		w.delivered.others = o
	}
}

// hear takes note of the rows that others take.
func (d *delivered) hear(ctx context.Context) error {
	if d.others == nil {
		return nil
	}
	return d.ofScopes(ctx, d.others.Delivered, func(s *scope, rows int64) {
		d.read += rows
		s.seen[0], s.now = true, max(s.now, 0)
	})
}

// countStanding counts the facts of each scope, if not all of them are read.
func (d *delivered) countStanding(ctx context.Context) error {
	if d.others == nil {
		return nil
	}
	return d.ofScopes(ctx, d.others.Standing, func(s *scope, rows int64) { s.rows = rows })
}

// ofScopes hands on of how many rows each scope is that has any.
func (d *delivered) ofScopes(
	ctx context.Context, list func(context.Context) (*column.Batch, []int64, error), take func(s *scope, rows int64),
) error {
	scopes, rows, err := list(ctx)
	if err != nil {
		return err
	}
	for i, n := range rows {
		if n > 0 {
			take(d.scopeOf(column.Pointers(scopes.Cols), i), n)
		}
	}
	return nil
}

// each returns what hands on the rows of the table that may be gone.
func (d *delivered) each(ctx context.Context, tx warehouse.Tx) func(func(*column.Batch) error) error {
	if d.others == nil {
		return d.w.stored(ctx, tx)
	}
	return func(rows func(*column.Batch) error) error { return d.others.Absent(ctx, rows) }
}

// stored returns what hands on the rows of the table.
func (w *Writer) stored(ctx context.Context, r warehouse.Reader) func(func(*column.Batch) error) error {
	q := warehouse.Query{Table: w.fact.Table.Name, Fields: w.fact.Table.Fields()}
	return func(rows func(*column.Batch) error) error { return warehouse.Each(ctx, r, q, rows) }
}

// scope is what a delivery is complete for.
type scope struct {
	name     string
	latest   int64          // the last delivery that was loaded before; [never] if there is none
	now      int64          // the last one now
	seen     map[int64]bool // those of which rows are read
	known    []int64        // those that were loaded before
	run      int64          // that loaded the latest
	inserted int64
	rows     int64 // of the table
	lost     int64 // of these, what the last delivery does not have
	newly    int64 // and of these, what this load has written
}

const never = math.MinInt64

func newDelivered(w *Writer, shaped []column.Field) *delivered {
	all := w.fact.Deliveries
	if all == nil || all.Files {
		return nil
	}
	d := &delivered{w: w, all: all, on: none, told: newTable(true), scopes: map[string]*scope{}}
	d.until = column.Find(w.fields, all.Until)
	if all.On != nil {
		d.on = column.Find(shaped, all.On.Name)
	}
	for _, f := range all.Scope {
		d.scope = append(d.scope, column.Find(w.fields, f.Name))
	}
	d.doubtful = newDoubtful(w)
	return d
}

// name returns the name under which the ledger has the deliveries of a fact.
func (d *delivered) name() string { return "fact " + d.w.fact.Text }

// open reads which deliveries were loaded before.
func (d *delivered) open(ctx context.Context, r warehouse.Reader) error {
	list, err := ledger.Deliveries(ctx, r, d.name())
	for _, k := range list {
		s := d.named(k.Scope)
		if s.known = append(s.known, k.On); k.On > s.latest {
			s.latest, s.now, s.run = k.On, k.On, k.Run
		}
	}
	return err
}

func (d *delivered) named(name string) *scope {
	s := d.scopes[name]
	if s == nil {
		s = &scope{name: name, latest: never, now: never, seen: map[int64]bool{}}
		d.scopes[name] = s
		d.list = append(d.list, s)
	}
	return s
}

// scopeOf returns the scope of row i of columns that stand as the table's fields.
func (d *delivered) scopeOf(cols []*column.Column, i int) *scope {
	if len(d.scope) == 0 {
		return d.named("")
	}
	d.buf = d.buf[:0]
	for n, k := range d.scope {
		if n > 0 {
			d.buf = append(d.buf, ", "...)
		}
		if !cols[k].Null[i] {
			d.buf = cols[k].AppendValue(d.buf, i)
		}
	}
	if s := d.scopes[string(d.buf)]; s != nil {
		return s
	}
	return d.named(string(d.buf))
}

// at returns when row i of a chunk was delivered, in microseconds; 0 if nothing says so.
func (d *delivered) at(b *column.Batch, i int) int64 {
	switch {
	case d.on == none:
		return 0
	case d.all.On.Type.Kind == column.Date:
		return b.Cols[d.on].Int[i] * civil.DayMicros
	}
	return b.Cols[d.on].Int[i]
}

// placed reports whether row i says of which scope it is and when it was delivered: a row that is set aside may not.
func (d *delivered) placed(c *Chunk, i int) bool {
	if slices.ContainsFunc(d.scope, func(k int) bool { return c.cols[k].Null[i] }) {
		return false
	}
	return d.on == none || !c.Batch.Cols[d.on].Null[i]
}

// late reports whether row i is of an older delivery than the last one that was loaded of its scope: what it says was
// taken then.
func (d *delivered) late(c *Chunk, i int32) bool {
	return d.on != none && d.at(c.Batch, int(i)) < d.scopeOf(c.cols, int(i)).latest
}

// tell notes that row i was delivered, whatever became of it.
func (d *delivered) tell(c *Chunk, i int32) {
	if d.read++; !d.placed(c, int(i)) {
		return
	}
	s, at := d.scopeOf(c.cols, int(i)), d.at(c.Batch, int(i))
	if s.seen[at] = true; at < s.latest {
		return
	}
	s.now = max(s.now, at)
	switch {
	case !d.w.whole(c, int(i)):
	case c.Batch.Bad(int(i)):
		d.doubtful.add(d.w, c, int(i), at)
	default:
		d.told.raise(d.w.id(c.view, int(i)), ordered(at))
	}
}

// ordered maps integers to others that have their order without a sign.
func ordered(v int64) uint64 { return uint64(v) ^ 1<<63 }

// stands returns when row j of the table, of a grain that this load may have told, was delivered last as far as is
// known.
func (d *delivered) stands(v *view, j int) int64 {
	at := d.scopeOf(v.cols, j).latest
	if told, ok := d.told.get(d.w.id(v, j)); ok {
		at = max(at, int64(told^1<<63))
	}
	return at
}

// finish finds what is gone, does with it what the rule says, and writes down the deliveries.
func (d *delivered) finish(ctx context.Context, tx warehouse.Tx) error {
	if err := d.hear(ctx); err != nil {
		return err
	}
	if d.read == 0 {
		return d.empty(ctx, tx)
	}
	if err := d.keep(ctx, tx); err != nil {
		return err
	}
	d.doubtful.tell(d)
	w := d.w
	if w.appender != nil {
		if err := w.appender.Flush(); err != nil {
			return err
		}
	}
	if w.entries != nil {
		if err := w.entries.number(d.each(ctx, tx)); err != nil {
			return err
		}
	}
	gone := column.NewBatch(w.fact.Table.Fields())
	v, run := w.newView(), len(w.fields)+1
	err := d.each(ctx, tx)(func(b *column.Batch) error {
		cols := column.Pointers(b.Cols)
		v.look(cols[:len(w.fields)], b.N)
		for i := range b.N {
			if w.isFlagged(cols, i) || w.entries != nil && !w.entries.stands(v, cols, i) {
				continue
			}
			s := d.scopeOf(cols, i)
			if s.rows++; !s.seen[s.now] {
				continue
			}
			if told, ok := d.told.get(w.id(v, i)); ok && told >= ordered(s.now) {
				continue
			}
			if d.until != none && !cols[d.until].Null[i] {
				continue
			}
			if s.lost++; cols[run].Int[i] == w.run {
				s.newly++
			}
			appendOwn(gone, cols, i)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if err := d.countStanding(ctx); err != nil {
		return err
	}
	for _, s := range d.list {
		what := ""
		if s.name != "" {
			what = " of " + s.name
		}
		if err := w.withinGone(what, s.lost-s.newly, s.rows-s.inserted); err != nil {
			return err
		}
	}
	return w.depart(ctx, tx, gone)
}

// empty refuses a delivery without rows, where there are facts.
func (d *delivered) empty(ctx context.Context, tx warehouse.Tx) error {
	n, err := tx.Tally(ctx, d.w.fact.Table.Name, nil)
	if err == nil && n.Rows > 0 {
		err = fmt.Errorf("a delivery of all is empty, so all facts would be gone: nothing is kept")
	}
	return err
}

// keep writes down the deliveries that were not loaded before. Older ones than the last cannot be loaded any more.
func (d *delivered) keep(ctx context.Context, tx warehouse.Tx) error {
	if d.on == none {
		return nil
	}
	var fresh []ledger.Delivery
	for _, s := range d.list {
		for _, at := range slices.Sorted(maps.Keys(s.seen)) {
			switch {
			case slices.Contains(s.known, at):
			case at < s.latest:
				const message = "the delivery of all of %s is older than the one of %s that run %d loaded: what was gone in " +
					"between cannot be known any more. Load deliveries in their order"
				return fmt.Errorf(message, d.time(at), d.time(s.latest), s.run)
			default:
				fresh = append(fresh, ledger.Delivery{Scope: s.name, On: at, Run: d.w.run})
			}
		}
	}
	slices.SortFunc(fresh, func(a, b ledger.Delivery) int {
		return cmp.Or(cmp.Compare(a.Scope, b.Scope), cmp.Compare(a.On, b.On))
	})
	return ledger.Delivered(ctx, tx, d.name(), fresh)
}

func (d *delivered) time(at int64) string {
	c := column.Column{Type: d.all.On.Type}
	if c.Type.Kind == column.Date {
		at = civil.DayOf(at)
	}
	c.AppendInt(at)
	return c.Value(0)
}

// appendOwn adds row i of some columns to a batch of the same, with texts of its own.
func appendOwn(b *column.Batch, cols []*column.Column, i int) {
	for k := range b.Cols {
		b.Cols[k].AppendOwn(cols[k], i)
	}
	b.N++
}

// whole reports whether row i of a chunk has a grain.
func (w *Writer) whole(c *Chunk, i int) bool {
	for _, k := range w.grainAt {
		if c.cols[k].Null[i] {
			return false
		}
	}
	return true
}

// id returns 64 bits that stand for the grain of row i of a view: of an integer, a permutation of its own.
func (w *Writer) id(v *view, i int) uint64 {
	if !w.plain {
		return v.grain(i)[0]
	}
	return mix(uint64(v.cols[w.grainAt[0]].Int[i]))
}

func mix(x uint64) uint64 {
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// raise sets the value of a digest where it is new or less.
func (t *table) raise(k, value uint64) {
	if t.put(k, value) {
		return
	}
	if at := t.seek(max(k, 1)); t.values[at] < value {
		t.values[at] = value
	}
}
