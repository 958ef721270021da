package fact

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/digest"
	"ironmonger/internal/exact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/resolve"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// rank says which of two rows of a grain is later. Of equal ones it is the one that is read later.
type rank struct {
	on      int64 // when it was delivered; 0 where nothing says so
	newer   int64 // by the column that says so; 0 where there is none
	arrived int64 // when the row's file came first
	line    int64 // where lines of a file are compared; else 0
}

func (r rank) compare(o rank) int {
	by := cmp.Or(cmp.Compare(r.on, o.on), cmp.Compare(r.newer, o.newer), cmp.Compare(r.arrived, o.arrived))
	if by == 0 && r.line != 0 && o.line != 0 {
		return cmp.Compare(r.line, o.line)
	}
	return by
}

// replacements are the rows of a load that take the place of facts that stand. They are written at the end of the
// load: until then, a later row of the same grain may say otherwise.
type replacements struct {
	latest map[digest.Sum]latest // by grain
	rows   *column.Batch         // new rows, as the table has them
	stood  *column.Batch         // and the rows whose place they take
	dead   []bool                // of rows: another took its place in turn
	alive  int

	content []uint64 // where entries stay: a fingerprint of what each of rows says
	before  []int    // and the one before it in this load that it follows, or none

	newer  int  // the column that says which row is newer, or -1
	orders bool // files are not read in the order in which they came, so that rows that say what stands count, too
}

// latest is the last row of a grain that this load has: of rows, or none if it says what stands.
type latest struct {
	rank
	row int
}

const none = -1

func newReplacements(w *Writer) *replacements {
	r := &replacements{
		latest: map[digest.Sum]latest{},
		rows:   column.NewBatch(w.fact.Table.Fields()),
		stood:  column.NewBatch(w.fact.Table.Fields()),
		newer:  none,
	}
	if w.fact.NewerBy != nil {
		r.newer = column.Find(w.fields, w.fact.NewerBy.Name)
	}
	return r
}

// rankOf returns the rank of row i of columns that are ordered as the fields of the table, with the line after them.
func (w *Writer) rankOf(cols []*column.Column, i int) rank {
	r := rank{}
	if k := w.replaced.newer; k != none {
		r.newer = cols[k].Int[i]
	}
	file, line := ledger.FileAndLine(cols[len(w.fields)].Int[i])
	r.arrived = w.files.Came(file)
	if w.files.Left[file] {
		r.line = line
	}
	return r
}

// rankOfRow returns the rank of row i of a chunk.
func (w *Writer) rankOfRow(c *Chunk, i int) rank {
	r := w.rankOf(c.cols, i)
	if w.delivered != nil {
		r.on = w.delivered.at(c.Batch, i)
	}
	return r
}

// rankOfStanding returns the rank of row j of the table.
func (w *Writer) rankOfStanding(v *view, j int) rank {
	r := w.rankOf(v.cols, j)
	if w.delivered != nil && w.delivered.on != none {
		r.on = w.delivered.stands(v, j)
	}
	return r
}

// says notes that row i says what stands: a row of this load that was to take its place does not, if it came before.
func (w *Writer) says(c *Chunk, i int32) {
	r := w.replaced
	if w.completion != nil {
		if w.completion.has(c, i) {
			w.completion.take(c, i, true, nil, 0)
		} else {
			w.same(c, i)
		}
		return
	}
	if w.withdrawn != nil && w.entries != nil {
		w.withdrawn.says(w.id(c.view, int(i)), c.cols[len(w.fields)].Int[i])
	}
	if r == nil || len(r.latest) == 0 && !r.orders {
		w.same(c, i)
		return
	}
	grain := c.view.grain(int(i))
	was, ok := r.latest[grain]
	is := w.rankOfRow(c, int(i))
	switch {
	case !ok && !r.orders:
	case w.entries != nil && w.repeatsQueued(c, i):
		return
	case ok && is.compare(was.rank) < 0:
		if was.row != none {
			w.older(c, i)
			return
		}
	case ok && was.row != none && !w.isOfFile(c, i, was.row): // another row said otherwise before: it is so since this one
		w.queue(c, i, column.Pointers(r.stood.Cols), was.row, is)
		return
	default:
		w.drop(was, ok)
		r.latest[grain] = latest{is, none}
	}
	w.same(c, i)
}

// isOfFile reports whether row i is of the file of the row that stands, whose place row n of the replacements was to
// take: then it counts since that file came.
func (w *Writer) isOfFile(c *Chunk, i int32, n int) bool {
	line := len(w.fields)
	for w.entries != nil && w.replaced.before[n] != none { // the row that stands is what the first one follows
		n = w.replaced.before[n]
	}
	is, _ := ledger.FileAndLine(c.cols[line].Int[i])
	stood, _ := ledger.FileAndLine(w.replaced.stood.Cols[line].Int[n])
	return w.files.Came(is) == w.files.Came(stood)
}

// replace decides about row i, which says something else than row j of the table, of the same grain.
func (w *Writer) replace(c *Chunk, i int32, stand *view, j int) {
	r := w.replaced
	grain := c.view.grain(int(i))
	is, was := w.rankOfRow(c, int(i)), w.rankOfStanding(stand, j)
	known, ok := r.latest[grain]
	if w.isGone(stand, j) {
		was = is
	}
	if ok && known.compare(was) > 0 { // a row that says what stands may have come before the one that stands
		was = known.rank
	}
	if is.compare(was) < 0 {
		w.older(c, i)
		return
	}
	w.queue(c, i, stand.cols, j, is)
}

// queue has row i take the place of row j of columns of the table, of the same grain, unless a later row comes. Where
// entries stay, it follows the last row of this load instead.
func (w *Writer) queue(c *Chunk, i int32, stood []*column.Column, j int, is rank) {
	r, grain := w.replaced, c.view.grain(int(i))
	known, ok := r.latest[grain]
	switch {
	case w.entries == nil:
		w.drop(known, ok)
	case ok && known.row != none:
		stood, j = column.Pointers(r.rows.Cols), known.row
		r.before = append(r.before, j)
	default:
		r.before = append(r.before, none)
	}
	r.latest[grain] = latest{is, r.rows.N}
	for k := range r.rows.Cols {
		if k < len(w.fields) && !w.compared[k] { // the key stays as it was loaded
			r.rows.Cols[k].Append(stood[k], j)
		} else {
			r.rows.Cols[k].AppendOwn(c.cols[k], int(i))
		}
	}
	r.rows.N++
	for k := range r.stood.Cols {
		r.stood.Cols[k].Append(stood[k], j)
	}
	r.stood.N++
	if e := w.entries; e != nil {
		e.follow(r.rows, c.cols[e.booked].Int[i], stood, j)
		r.content = append(r.content, c.view.content(int(i)))
	}
	if w.open != nil {
		w.open.replaces(c, i, r.rows.N-1)
	}
	r.dead, r.alive = append(r.dead, false), r.alive+1
	c.Loaded = append(c.Loaded, i)
}

// drop forgets the rows that were to take the place of a fact: a later one has come.
func (w *Writer) drop(l latest, ok bool) {
	r := w.replaced
	for n := l.row; ok && n != none; {
		r.dead[n] = true
		r.alive--
		w.Outcome.Older++
		w.add(w.Outcome.OlderSum, r.rows, n)
		if w.entries == nil {
			return
		}
		n = r.before[n]
	}
}

// add adds the measures of a row of the table to totals.
func (w *Writer) add(to []exact.Int128, rows *column.Batch, i int) {
	for k, m := range w.Measures {
		to[k], _ = to[k].Add(rows.Cols[column.Find(w.fields, m.Name)].Exact(i))
	}
}

func (w *Writer) older(c *Chunk, i int32) {
	w.Outcome.Older++
	w.sum(w.Outcome.OlderSum, c, i)
}

// sum adds the measures of a row of a chunk to totals.
func (w *Writer) sum(to []exact.Int128, c *Chunk, i int32) {
	for k, at := range w.measure {
		to[k], _ = to[k].Add(c.Batch.Cols[at].Exact(int(i)))
	}
}

// stop is the error of a repeated row in a fact that has none.
func stop(b *column.Batch, i int32, name, values string) error {
	return &diag.Error{
		At:      diag.Place{File: b.From.File, Line: int(b.From.Line[i])},
		Message: fmt.Sprintf("%s: %s, and fact %s says stop", RepeatReason, values, name),
	}
}

// disagrees decides about row i, which says something else than row j of the table, by the rule of the fact.
func (w *Writer) disagrees(c *Chunk, i int32, known bool, of, values string, stand *view, j int) error {
	rule := w.fact.Repeated
	if w.isFlagged(stand.cols, j) && rule != star.ReplaceRepeated {
		queued, ok := w.replaced.latest[c.view.grain(int(i))]
		if !ok || queued.row == none {
			rule = star.ReplaceRepeated
		} else if of, values = w.differs(c, int(i), known, w.queued(), queued.row, w.compared); values == "" {
			w.says(c, i)
			return nil
		}
	}
	return w.decideBy(rule, c, i, known, of, values, stand, j)
}

// decide decides about row i by the rule of the fact.
func (w *Writer) decide(c *Chunk, i int32, known bool, of, values string, stand *view, j int) error {
	return w.decideBy(w.fact.Repeated, c, i, known, of, values, stand, j)
}

func (w *Writer) decideBy(rule star.Repeated, c *Chunk, i int32, known bool, of, values string, stand *view, j int) error {
	switch rule {
	case star.ReverseRepeated:
		if !known {
			resolve.Join(w.links, c.Batch, &c.Keys, i)
		}
		w.enters(c, i, stand, j)
	case star.ReplaceRepeated:
		if !known {
			resolve.Join(w.links, c.Batch, &c.Keys, i)
		}
		w.replace(c, i, stand, j)
	case star.KeepRepeated:
		w.Outcome.Kept++
		w.sum(w.Outcome.KeptSum, c, i)
	case star.StopRepeated:
		return stop(c.Batch, i, w.fact.Text, values)
	default:
		c.Batch.SetAside(int(i), of, RepeatReason, values)
	}
	return nil
}

// queued returns the rows that are to take the place of others as rows that stand.
func (w *Writer) queued() *standing {
	s := &standing{view: w.newView(), open: make([][]string, len(w.links))}
	cols := column.Pointers(w.replaced.rows.Cols)
	s.look(cols[:len(w.fields)], w.replaced.rows.N)
	s.cols = cols
	return s
}

// write puts the rows in the place of those that stand.
func (r *replacements) write(ctx context.Context, tx warehouse.Tx, w *Writer) error {
	if r.alive == 0 {
		return nil
	}
	if w.entries != nil {
		return r.book(ctx, tx, w)
	}
	if err := w.begin(ctx, tx); err != nil {
		return err
	}
	var primary []column.Field
	for _, k := range w.grainAt {
		primary = append(primary, w.fields[k])
	}
	gone, rows := column.NewBatch(primary), make([]int32, 0, r.alive)
	for i, dead := range r.dead {
		if dead {
			continue
		}
		rows = append(rows, int32(i))
		if w.isFlagged(column.Pointers(r.stood.Cols), i) {
			w.Outcome.Back++
		}
		if w.lookedUp != nil {
			w.lookedUp.replaced(w, r, i)
		}
		if w.open != nil {
			w.open.replaced(r, i)
		}
		for g, k := range w.grainAt {
			gone.Cols[g].Append(&r.stood.Cols[k], i)
		}
		gone.N++
		w.add(w.Outcome.WrittenTotal, r.rows, i)
		w.add(w.Outcome.TakenTotal, r.stood, i)
	}
	w.Outcome.Rewritten = int64(len(rows))
	if w.completion == nil { // each is what one row says
		w.Outcome.Changed, w.Outcome.ChangedTotal = w.Outcome.Rewritten, slices.Clone(w.Outcome.WrittenTotal)
	}
	if err := w.appender.Flush(); err != nil {
		return err
	}
	n, err := tx.Remove(ctx, w.fact.Table.Name, primary, gone)
	if err != nil {
		return err
	}
	if n != w.Outcome.Rewritten {
		const message = "the account does not hold: %d rows of table %s have other values, and %d were found to be replaced"
		return fmt.Errorf(message, w.Outcome.Rewritten, w.fact.Table.Name, n)
	}
	for _, l := range w.links {
		if err := l.Session.Write(ctx, tx); err != nil {
			return err
		}
	}
	return w.appender.Append(column.Pointers(r.rows.Cols), rows)
}
