package fact

import (
	"context"
	"fmt"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Content is what files that were loaded before have now, where each file has all rows that came from it: the grains
// of their rows. It belongs to the step's sequencer.
type Content struct {
	w    *Writer
	said *table
	read map[int64]int64 // how many rows, by file
}

// withdrawn is facts that their files do not have any more. They are taken out of the table before the load, so that a
// row of another file can come in their place, and are put back at its end where the rule says so.
type withdrawn struct {
	rows *column.Batch
	of   map[uint64]int   // their grains
	back []bool           // rows whose grain the load has written again
	all  map[int64]int64  // how many facts each file had in the table
	lost map[int64][]int  // and which of these it has no longer
	name map[int64]string // of the files
	line []int64          // where entries stay: the line of another file that says what stands
}

// NewContent returns the content of files of which nothing was read yet.
func (w *Writer) NewContent(files []string) *Content {
	w.warm()
	c := &Content{w: w, said: newTable(false), read: map[int64]int64{}}
	for _, name := range files {
		c.read[w.files.Came(w.files.Number[name])] = 0
	}
	return c
}

// Look sees a chunk of shaped and resolved rows without deciding about them. It may be called by many goroutines.
func (w *Writer) Look(c *Chunk) {
	w.columns(c)
	c.view.look(c.cols[:len(w.fields)], c.Batch.N)
}

// Take notes which grains the rows of a chunk have, those set aside too.
func (s *Content) Take(c *Chunk) {
	file := s.w.files.Came(s.w.files.Number[c.Batch.From.File])
	if _, ok := s.read[file]; !ok {
		return
	}
	s.read[file] += int64(c.Batch.N)
	for i := range c.Batch.N {
		if s.w.whole(c, i) {
			s.said.put(of(s.w.id(c.view, i), file), 0)
		}
	}
}

// of returns 64 bits that stand for a grain in a file.
func of(grain uint64, file int64) uint64 { return mix(grain + uint64(file)*0x9e3779b97f4a7c15) }

// Withdraw takes the facts out of the table that their files do not have any more, and returns how many those are.
// Where such facts are kept, it only counts them. Call it before Open, once all of the content is taken.
func (w *Writer) Withdraw(ctx context.Context, tx warehouse.Tx, s *Content) (int, error) {
	x := &withdrawn{
		rows: column.NewBatch(w.fact.Table.Fields()),
		of:   map[uint64]int{},
		all:  map[int64]int64{},
		lost: map[int64][]int{},
		name: map[int64]string{},
	}
	if w.entries != nil {
		if err := w.entries.number(w.stored(ctx, tx)); err != nil {
			return 0, err
		}
	}
	v, line := w.newView(), len(w.fields)
	err := w.stored(ctx, tx)(func(b *column.Batch) error {
		cols := column.Pointers(b.Cols)
		v.look(cols[:len(w.fields)], b.N)
		for i := range b.N {
			number, _ := ledger.FileAndLine(cols[line].Int[i])
			file := w.files.Came(number)
			if _, ok := s.read[file]; !ok || w.isFlagged(cols, i) || w.entries != nil && !w.entries.stands(v, cols, i) {
				continue
			}
			x.all[file]++
			id := w.id(v, i)
			if s.said.has(of(id, file)) {
				continue
			}
			x.lost[file] = append(x.lost[file], x.rows.N)
			x.of[id] = x.rows.N
			appendOwn(x.rows, cols, i)
		}
		return nil
	})
	if err != nil || x.rows.N == 0 {
		return 0, err
	}
	if w.fact.Deliveries.Gone == star.Keep {
		w.Outcome.Gone = int64(x.rows.N)
		return 0, nil
	}
	for name, number := range w.files.Number {
		x.name[w.files.Came(number)] = name
	}
	if err := w.emptied(x, s); err != nil {
		return 0, err
	}
	x.back = make([]bool, x.rows.N)
	w.withdrawn = x
	if w.open != nil {
		if err := w.open.look(ctx, tx); err != nil {
			return 0, err
		}
		if err := w.open.hold(ctx, tx); err != nil {
			return 0, err
		}
	}
	if w.entries != nil { // what was booked stays
		x.line = make([]int64, x.rows.N)
		return x.rows.N, nil
	}
	if err := w.begin(ctx, tx); err != nil {
		return 0, err
	}
	return x.rows.N, w.take(ctx, tx, x.rows)
}

// emptied refuses a file without rows that had facts, unless there is no limit to what may be gone.
func (w *Writer) emptied(x *withdrawn, s *Content) error {
	if w.fact.Limits.Gone == star.NoLimit {
		return nil
	}
	for file := range x.lost {
		if s.read[file] == 0 {
			const message = "%s has no rows any more, and %d facts came from it: nothing is kept. If that is right: limits.gone: none"
			return fmt.Errorf(message, x.name[file], x.all[file])
		}
	}
	return nil
}

// wrote notes a row that the load has written: it may be in the place of one that its file does not have any more.
func (x *withdrawn) wrote(id uint64) {
	if n, ok := x.of[id]; ok {
		x.back[n] = true
	}
}

// has reports whether a grain is that of a fact that its file does not have any more.
func (x *withdrawn) has(id uint64) bool {
	n, ok := x.of[id]
	return ok && !x.back[n]
}

// says notes that another file says what stands, in a line.
func (x *withdrawn) says(id uint64, line int64) {
	if n, ok := x.of[id]; ok && !x.back[n] {
		x.back[n], x.line[n] = true, line
	}
}

// finish does what the rule says with the rows that no other row has come in the place of.
func (x *withdrawn) finish(ctx context.Context, tx warehouse.Tx, w *Writer) error {
	gone := column.NewBatch(w.fact.Table.Fields())
	cols := column.Pointers(x.rows.Cols)
	for file, list := range x.lost {
		lost := int64(0)
		for _, n := range list {
			if !x.back[n] {
				lost++
			}
		}
		if err := w.withinGone(" of "+x.name[file], lost, x.all[file]); err != nil {
			return err
		}
	}
	moved, lines := column.NewBatch(w.fact.Table.Fields()), []int64(nil)
	for n := range x.rows.N {
		if !x.back[n] {
			appendOwn(gone, cols, n)
		} else if w.entries != nil && x.line[n] != 0 {
			appendOwn(moved, cols, n)
			lines = append(lines, x.line[n])
		}
	}
	if err := w.move(ctx, tx, moved, lines); err != nil {
		return err
	}
	w.Outcome.Gone += int64(gone.N)
	if gone.N == 0 {
		return nil
	}
	if w.entries != nil {
		return w.reverseGone(ctx, tx, gone)
	}
	if w.fact.Removes() {
		return w.remember(ctx, tx, gone)
	}
	return w.restore(gone)
}

// restore puts rows back into the table, with the mark of those that are gone.
func (w *Writer) restore(rows *column.Batch) error {
	run := column.Find(w.fact.Table.Fields(), schema.LoadRun)
	for i := range rows.N {
		rows.Cols[w.goneAt].Int[i], rows.Cols[run].Int[i] = 1, w.run
	}
	list := make([]int32, rows.N)
	for i := range list {
		list[i] = int32(i)
		sums := w.Outcome.RemovedTotal
		for k, m := range w.Measures {
			sums[k], _ = sums[k].Add(rows.Cols[column.Find(w.fields, m.Name)].Exact(i).Neg())
		}
	}
	w.restored += int64(rows.N)
	w.Outcome.Removed -= int64(rows.N)
	if w.open != nil {
		w.open.recall(rows)
	}
	return w.appender.Append(column.Pointers(rows.Cols), list)
}

// has reports whether a digest was put.
func (t *table) has(k uint64) bool {
	k = max(k, 1)
	return t.keys[t.seek(k)] == k
}
