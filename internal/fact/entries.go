package fact

import (
	"context"
	"fmt"
	"math"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// entries numbers the rows of a fact whose entries stay (rule R35): where a row comes again with other values, a row of
// the opposite sign reverses the one that stood, and the new one follows. The entry with the greatest number is what
// stands, unless it reverses another: then nothing does.
type entries struct {
	w                   *Writer
	entry, sign, booked int              // of fields
	from                int              // the shaped column that says when a row is booked, or none
	day                 int64            // of the run
	latest              int64            // the last day on which a row of this load is booked
	last                map[uint64]int64 // by grain, the last entry, where that is not the first
}

func newEntries(w *Writer, shaped []column.Field, day int64) *entries {
	if !w.fact.Reverses() {
		return nil
	}
	e := &entries{w: w, from: none, day: day, latest: math.MinInt64}
	e.entry, e.sign = column.Find(w.fields, star.EntryNumber), column.Find(w.fields, star.EntrySign)
	e.booked = column.Find(w.fields, star.BookedOn)
	if w.fact.BookedOn != nil {
		e.from = column.Find(shaped, w.fact.BookedOn.Name)
	}
	w.compared[e.entry], w.compared[e.booked] = false, false
	return e
}

// has reports whether a field of the table is the number, the sign or the day of an entry.
func (e *entries) has(k int) bool { return k == e.entry || k == e.sign || k == e.booked }

// fill adds the columns of first entries to the rows of a chunk.
func (e *entries) fill(c *Chunk) {
	if len(c.entry) == 0 {
		for _, k := range []int{e.entry, e.sign, e.booked} {
			c.entry = append(c.entry, column.Column{Type: e.w.fields[k].Type})
		}
	}
	for n, v := range []int64{1, 1, e.day} {
		x := &c.entry[n]
		if x.Resize(c.Batch.N); c.Batch.N > 0 && x.Int[c.Batch.N-1] != v {
			for i := range x.Int {
				x.Int[i] = v
			}
		}
	}
	c.cols[e.entry], c.cols[e.sign], c.cols[e.booked] = &c.entry[0], &c.entry[1], &c.entry[2]
	if e.from != none {
		c.cols[e.booked] = &c.Batch.Cols[e.from]
	}
}

// saw notes when the rows of a chunk are booked.
func (e *entries) saw(c *Chunk) {
	for i := range c.Batch.N {
		if days := c.cols[e.booked]; !c.Batch.Bad(i) {
			e.latest = max(e.latest, days.Int[i])
		}
	}
}

// Booked notes that a row of the load is booked on a day that is not handed to the writer. Entries of the fact stay.
func (w *Writer) Booked(day int64) { w.entries.latest = max(w.entries.latest, day) }

// today returns the day on which a row is booked that no row of the load is in the place of.
func (e *entries) today() int64 {
	if e.latest == math.MinInt64 {
		return e.day
	}
	return e.latest
}

// isFirst reports whether row i of columns that stand as the table's fields is the first entry of its grain.
func (e *entries) isFirst(cols []*column.Column, i int) bool { return cols[e.entry].Int[i] == 1 }

// reverses reports whether row i reverses the entry before it.
func (e *entries) reverses(cols []*column.Column, i int) bool { return cols[e.sign].Int[i] < 0 }

// follow makes the last of some rows the entry after row j of others, which stands or is to.
func (e *entries) follow(rows *column.Batch, booked int64, stood []*column.Column, j int) {
	last, next := rows.N-1, stood[e.entry].Int[j]+1
	if !e.reverses(stood, j) {
		next++
	}
	rows.Cols[e.entry].Int[last] = next
	rows.Cols[e.booked].Int[last] = max(booked, stood[e.booked].Int[j]) // days of entries do not decrease
}

// number finds the last entry of each grain among rows of the table, which each hands on.
func (e *entries) number(each func(func(*column.Batch) error) error) error {
	e.last = map[uint64]int64{}
	v := e.w.newView()
	return each(func(b *column.Batch) error {
		cols := column.Pointers(b.Cols[:len(e.w.fields)])
		v.look(cols, b.N)
		for i := range b.N {
			if !e.isFirst(cols, i) {
				id := e.w.id(v, i)
				e.last[id] = max(e.last[id], cols[e.entry].Int[i])
			}
		}
		return nil
	})
}

// stands reports whether row i of a view of the table is what stands of its grain.
func (e *entries) stands(v *view, cols []*column.Column, i int) bool {
	return !e.reverses(cols, i) && cols[e.entry].Int[i] >= e.last[e.w.id(v, i)]
}

// reversal adds to rows the one that reverses row j of columns of the table, booked on a day. It has the line of that
// row, and the number of the run.
func (e *entries) reversal(rows *column.Batch, booked int64, stood []*column.Column, j int) error {
	appendOwn(rows, stood, j)
	last, run := rows.N-1, len(e.w.fields)+1
	rows.Cols[e.entry].Int[last]++
	rows.Cols[e.sign].Int[last] = -1
	rows.Cols[e.booked].Int[last] = max(booked, stood[e.booked].Int[j])
	rows.Cols[run].Int[last] = e.w.run
	for _, m := range e.w.fact.Measures {
		c := &rows.Cols[column.Find(e.w.fields, m.Name)]
		if !c.Negate(last) {
			return fmt.Errorf("%s of %s cannot be reversed: its negative is no value of type %s", m.Name, c.Value(last), m.Type)
		}
	}
	return nil
}

// book adds the rows that reverse those that stood, and the ones that follow.
func (r *replacements) book(ctx context.Context, tx warehouse.Tx, w *Writer) error {
	if r.alive == 0 {
		return nil
	}
	e, rows, reversals := w.entries, make([]int32, 0, r.alive), column.NewBatch(w.fact.Table.Fields())
	stood, follows := column.Pointers(r.stood.Cols), column.Pointers(r.rows.Cols)
	v := w.newView()
	v.look(follows[:len(w.fields)], r.rows.N)
	for i, dead := range r.dead {
		if dead {
			continue
		}
		rows = append(rows, int32(i))
		w.add(w.Outcome.WrittenTotal, r.rows, i)
		if w.open != nil {
			w.open.wroteLater(r, i)
		}
		if w.withdrawn != nil {
			w.withdrawn.wrote(w.id(v, i))
		}
		if e.reverses(stood, i) {
			w.Outcome.Back++
		} else if err := e.reversal(reversals, follows[e.booked].Int[i], stood, i); err != nil {
			return err
		}
	}
	w.Outcome.Rewritten = int64(len(rows))
	w.Outcome.Changed, w.Outcome.ChangedTotal = w.Outcome.Rewritten, slices.Clone(w.Outcome.WrittenTotal)
	w.Outcome.Appended += w.Outcome.Rewritten
	if err := w.reverse(ctx, tx, reversals); err != nil {
		return err
	}
	for _, l := range w.links {
		if err := l.Session.Write(ctx, tx); err != nil {
			return err
		}
	}
	if w.lookedUp != nil {
		w.lookedUp.wrote(w, follows, rows)
	}
	return w.appender.Append(follows, rows)
}

// reverse appends rows that reverse others.
func (w *Writer) reverse(ctx context.Context, tx warehouse.Tx, reversals *column.Batch) error {
	if err := w.begin(ctx, tx); err != nil || reversals.N == 0 {
		return err
	}
	list := make([]int32, reversals.N)
	for i := range list {
		list[i] = int32(i)
		w.add(w.Outcome.ReversedTotal, reversals, i)
	}
	w.Outcome.Reversed += int64(reversals.N)
	w.Outcome.Appended += int64(reversals.N)
	cols := column.Pointers(reversals.Cols)
	if w.lookedUp != nil {
		w.lookedUp.wrote(w, cols, list)
	}
	return w.appender.Append(cols, list)
}

// reverseGone reverses facts that are gone, which stand in the table.
func (w *Writer) reverseGone(ctx context.Context, tx warehouse.Tx, gone *column.Batch) error {
	reversals := column.NewBatch(w.fact.Table.Fields())
	cols := column.Pointers(gone.Cols)
	for i := range gone.N {
		if err := w.entries.reversal(reversals, w.entries.today(), cols, i); err != nil {
			return err
		}
	}
	return w.reverse(ctx, tx, reversals)
}

// move has rows of the table say the lines of other files, where those say what they say and their own do not any more.
func (w *Writer) move(ctx context.Context, tx warehouse.Tx, rows *column.Batch, lines []int64) error {
	if rows.N == 0 {
		return nil
	}
	primary := w.fact.Table.PrimaryFields()
	fields := append(primary, column.Field{Name: schema.LoadLine, Type: column.Type{Kind: column.Integer}})
	b := column.NewBatch(fields)
	for k, f := range primary {
		from := &rows.Cols[column.Find(w.fields, f.Name)]
		for i := range rows.N {
			b.Cols[k].Append(from, i)
		}
	}
	for _, line := range lines {
		b.Cols[len(primary)].AppendInt(line)
	}
	b.N = rows.N
	if w.open != nil {
		w.open.move(rows, lines)
	}
	_, err := tx.Amend(ctx, w.fact.Table.Name, len(primary), fields, b)
	return err
}

// repeatsQueued reports whether row i says what the last row says of its grain that this load is to write, and counts
// it then.
func (w *Writer) repeatsQueued(c *Chunk, i int32) bool {
	r, grain := w.replaced, c.view.grain(int(i))
	l, ok := r.latest[grain]
	if !ok || l.row == none || r.content[l.row] != c.view.content(int(i)) ||
		w.open != nil && !w.open.sameLater(c, int(i), l.row) {
		return false
	}
	if is := w.rankOfRow(c, int(i)); is.compare(l.rank) < 0 {
		w.older(c, i)
	} else {
		r.latest[grain] = latest{is, l.row}
		w.same(c, i)
	}
	return true
}

// enters decides about row i, which says something else than row j of the table, where entries stay.
func (w *Writer) enters(c *Chunk, i int32, stand *view, j int) {
	if c.view.refresh(int(i)); !w.repeatsQueued(c, i) {
		w.replace(c, i, stand, j)
	}
}
