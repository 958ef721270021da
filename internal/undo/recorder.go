// Package undo takes runs back.
//
// A [Recorder] wraps the transactions of a run and writes into the ledger what they do, so that no step has to know of
// it: rows that are changed or removed as they were before, rows that are added only to tables that do not say which
// run wrote a row. [Run] takes the latest runs back by this book, newest first, in one transaction.
package undo

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/parse"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// Recorder writes down what the transactions of one run do.
type Recorder struct {
	run    int64
	tables map[string]*warehouse.Table // those of the model and of the ledger

	mu     sync.Mutex
	number int64
	filled map[string]bool // tables that were empty before the run: all that they have is of it
}

// NewRecorder returns the recorder of a run of a model.
func NewRecorder(run int64, s *schema.Star) *Recorder {
	return &Recorder{run: run, tables: tablesOf(s), filled: map[string]bool{}}
}

// tablesOf returns the tables of a model and of the ledger that runs write to, by name.
func tablesOf(s *schema.Star) map[string]*warehouse.Table {
	tables := map[string]*warehouse.Table{}
	add := func(list []*warehouse.Table) {
		for _, t := range list {
			if !t.Borrowed && !ledger.Untouched(t.Name) {
				tables[t.Name] = t
			}
		}
	}
	add(ledger.Tables())
	for _, d := range s.Dimensions {
		add(d.Tables())
	}
	for _, f := range s.Facts {
		add(f.Tables())
	}
	return tables
}

// Begin writes down that what the run does is kept from here on.
func (r *Recorder) Begin(ctx context.Context, tx warehouse.Tx) error {
	b := ledger.BeforeBatch()
	r.put(b, ledger.Before{Did: ledger.BeganRun})
	return ledger.KeepBefore(ctx, tx, b)
}

// put adds an entry to a batch, with the next number.
func (r *Recorder) put(b *column.Batch, e ledger.Before) {
	r.mu.Lock()
	e.Run, e.Number = r.run, r.number
	r.number++
	r.mu.Unlock()
	e.Put(b)
}

// Wrap returns a transaction that does what tx does and writes it down. A nil recorder writes nothing down.
func (r *Recorder) Wrap(tx warehouse.Tx) warehouse.Tx {
	if r == nil {
		return tx
	}
	return &recording{Tx: tx, of: r, book: ledger.BeforeBatch(), wrote: map[string]bool{}, filled: map[string]bool{},
		whole: map[string]*warehouse.Table{}}
}

// recording is a transaction whose doings are written down.
type recording struct {
	warehouse.Tx
	of     *Recorder
	book   *column.Batch
	wrote  map[string]bool // tables to which rows were added
	filled map[string]bool // and those that were empty before; or were made
	whole  map[string]*warehouse.Table
}

// inBook is how many entries are kept in memory.
const inBook = 20_000

func (t *recording) note(e ledger.Before) { t.of.put(t.book, e) }

// keep writes the entries down, if there are many.
func (t *recording) keep(ctx context.Context, least int) error {
	if t.book.N < least || t.book.N == 0 {
		return nil
	}
	err := ledger.KeepBefore(ctx, t.Tx, t.book)
	t.book = ledger.BeforeBatch()
	return err
}

// stamped reports whether the rows of a table say which run wrote them last. Those that are kept of removed facts say
// it of the fact.
func stamped(t *warehouse.Table) bool {
	return len(t.Primary) > 0 && column.Find(t.Fields(), schema.LoadRun) >= 0
}

func (t *recording) Create(ctx context.Context, table *warehouse.Table) error {
	t.filled[table.Name] = true
	t.note(ledger.Before{Table: table.Name, Did: ledger.MadeTable})
	return t.Tx.Create(ctx, table)
}

// table returns a table with all of its columns; nil if what is done to it is not written down.
func (t *recording) table(ctx context.Context, name string) (*warehouse.Table, error) {
	if t.of.tables[name] == nil || t.whole[name] != nil {
		return t.whole[name], nil
	}
	all, err := whole(ctx, t.Tx, t.of.tables[name])
	t.whole[name] = all
	return all, err
}

// AddColumn adds a column, which stays when the run is taken back.
func (t *recording) AddColumn(ctx context.Context, table string, c warehouse.Column, fill *int64) error {
	delete(t.whole, table)
	return t.Tx.AddColumn(ctx, table, c, fill)
}

// Clear is not written down: what empties tables makes them anew, and cannot be taken back.
func (t *recording) Clear(context.Context, string) error {
	return errors.New("what is cleared cannot be taken back")
}

// isFilled reports whether all rows of a table are of the run.
func (t *recording) isFilled(table string) bool {
	t.of.mu.Lock()
	defer t.of.mu.Unlock()
	return t.filled[table] || t.of.filled[table]
}

func (t *recording) Append(ctx context.Context, name string, fields []column.Field) (warehouse.Appender, error) {
	table, err := t.table(ctx, name)
	if err != nil {
		return nil, err
	}
	if table == nil {
		return t.Tx.Append(ctx, name, fields)
	}
	if !t.wrote[name] {
		t.wrote[name] = true
		if err := t.begin(ctx, table); err != nil {
			return nil, err
		}
	}
	a, err := t.Tx.Append(ctx, name, fields)
	if err != nil || stamped(table) || t.isFilled(name) {
		return a, err
	}
	return &noting{a, t, table, fields}, nil
}

// noted runs statements, and notes that rows are added.
type noted struct {
	warehouse.Statements
	of *recording
}

// Statements returns what runs statements.
func (t *recording) Statements() warehouse.Statements {
	if s := t.Tx.Statements(); s != nil {
		return &noted{s, t}
	}
	return nil
}

func (n *noted) Insert(ctx context.Context, into *warehouse.Table, columns []string, query string) (int64, error) {
	t, name := n.of, into.Name
	table, err := t.table(ctx, name)
	if err != nil {
		return 0, err
	}
	if table != nil && !t.wrote[name] {
		t.wrote[name] = true
		if err := t.begin(ctx, table); err != nil {
			return 0, err
		}
	}
	if table != nil && !stamped(table) && !t.isFilled(name) {
		if err := n.added(ctx, table, columns, query); err != nil {
			return 0, err
		}
	}
	return n.Statements.Insert(ctx, into, columns, query)
}

// added notes the rows that a query adds to a table that does not say which run wrote a row last.
func (n *noted) added(ctx context.Context, table *warehouse.Table, columns []string, query string) error {
	var fields []column.Field
	for _, name := range columns {
		all := table.Fields()
		fields = append(fields, all[column.Find(all, name)])
	}
	one, reader := column.NewBatch(fields), parse.NewReader(nil)
	one.Reset(1)
	cols := column.Pointers(one.Cols)
	return n.Ask(ctx, query, func(values [][]byte) error {
		for k, v := range values {
			if one.Cols[k].Null[0] = v == nil; v == nil {
				continue
			}
			if err := reader.Set(&one.Cols[k], 0, string(v)); err != nil {
				return err
			}
		}
		n.of.note(ledger.Before{Table: table.Name, Did: ledger.AddedRow, Row: ledger.RowText(fields, cols, 0)})
		return nil
	})
}

// begin notes that rows are added to a table for the first time.
func (t *recording) begin(ctx context.Context, table *warehouse.Table) error {
	if stamped(table) {
		t.note(ledger.Before{Table: table.Name, Did: ledger.WroteRows})
		return nil
	}
	if t.isFilled(table.Name) || strings.HasPrefix(table.Name, "load_") { // runs of other models write to the ledger, too
		return nil
	}
	b, err := warehouse.ReadAll(ctx, t.Tx, warehouse.Query{Table: table.Name, Fields: table.Fields()[:1], Limit: 1})
	if err == nil && b.N == 0 {
		t.filled[table.Name] = true
		t.note(ledger.Before{Table: table.Name, Did: ledger.FilledTable})
	}
	return err
}

// noting notes the rows that it adds.
type noting struct {
	warehouse.Appender
	of     *recording
	table  *warehouse.Table
	fields []column.Field
}

func (a *noting) Append(cols []*column.Column, rows []int32) error {
	for _, i := range rows {
		a.of.note(ledger.Before{
			Table: a.table.Name, Did: ledger.AddedRow, Row: ledger.RowText(a.fields, cols, int(i)),
		})
	}
	return a.Appender.Append(cols, rows)
}

// standing reads the rows of a table that equal one of b's in some fields, as they are now.
func (t *recording) standing(
	ctx context.Context,
	table *warehouse.Table,
	by []column.Field,
	b *column.Batch,
) (*column.Batch, error) {
	q := warehouse.Query{Table: table.Name, Fields: table.Fields(), By: column.Names(by)}
	q.Match = column.Pointers(b.Cols[:len(by)])
	return warehouse.ReadAll(ctx, t.Tx, q)
}

// identity lists the columns that tell the rows of a table apart.
func identity(t *warehouse.Table) []column.Field {
	if len(t.Primary) == 0 {
		return t.Fields()
	}
	return t.PrimaryFields()
}

// pick returns the columns of a row that some fields name.
func pick(fields []column.Field, of []column.Field, cols []*column.Column) []*column.Column {
	list := make([]*column.Column, len(fields))
	for n, f := range fields {
		list[n] = cols[column.Find(of, f.Name)]
	}
	return list
}

func (t *recording) Amend(
	ctx context.Context,
	name string,
	by int,
	fields []column.Field,
	b *column.Batch,
) (int64, error) {
	table, err := t.table(ctx, name)
	if err != nil {
		return 0, err
	}
	if table == nil || t.isFilled(name) {
		return t.Tx.Amend(ctx, name, by, fields, b)
	}
	old, err := t.standing(ctx, table, fields[:by], b)
	if err != nil {
		return 0, err
	}
	key, all := identity(table), table.Fields()
	for _, f := range fields[by:] {
		if column.Find(key, f.Name) >= 0 { // the row would not be found again
			t.note(ledger.Before{Table: name, Did: ledger.OtherChange})
			old.N = 0
		}
	}
	cols := column.Pointers(old.Cols)
	keys := pick(key, all, cols)
	for i := range old.N {
		t.note(ledger.Before{
			Table: name, Did: ledger.ChangedRow, Key: ledger.RowText(key, keys, i), Row: ledger.RowText(all, cols, i),
		})
	}
	if err := t.keep(ctx, inBook); err != nil {
		return 0, err
	}
	return t.Tx.Amend(ctx, name, by, fields, b)
}

func (t *recording) Remove(ctx context.Context, name string, fields []column.Field, b *column.Batch) (int64, error) {
	table, err := t.table(ctx, name)
	if err != nil {
		return 0, err
	}
	if table == nil || t.isFilled(name) {
		return t.Tx.Remove(ctx, name, fields, b)
	}
	old, err := t.standing(ctx, table, fields, b)
	if err != nil {
		return 0, err
	}
	cols, all := column.Pointers(old.Cols), table.Fields()
	for i := range old.N {
		t.note(ledger.Before{Table: name, Did: ledger.RemovedRow, Row: ledger.RowText(all, cols, i)})
	}
	if err := t.keep(ctx, inBook); err != nil {
		return 0, err
	}
	return t.Tx.Remove(ctx, name, fields, b)
}

// Repoint notes the rows whose key is moved. Of a table of another model it is not known how to name them.
func (t *recording) Repoint(ctx context.Context, r *warehouse.Repointing) (int64, error) {
	table, err := t.table(ctx, r.Table)
	if err != nil {
		return 0, err
	}
	if table == nil {
		n, err := t.Tx.Repoint(ctx, r)
		if n > 0 {
			t.note(ledger.Before{Table: r.Table, Did: ledger.OtherChange})
		}
		return n, err
	}
	if t.isFilled(r.Table) {
		return t.Tx.Repoint(ctx, r)
	}
	if err := t.moved(ctx, table, r); err != nil {
		return 0, err
	}
	if err := t.keep(ctx, inBook); err != nil {
		return 0, err
	}
	return t.Tx.Repoint(ctx, r)
}

// moved notes the rows that a repointing moves, with the key that they have since.
func (t *recording) moved(ctx context.Context, table *warehouse.Table, r *warehouse.Repointing) error {
	all := table.Fields()
	key := column.Field{Name: r.Key, Type: column.Type{Kind: column.Integer}}
	moves := map[int64][]warehouse.Move{}
	ask := column.NewBatch([]column.Field{key})
	for _, m := range r.Moves {
		if moves[m.Old] == nil {
			ask.Cols[0].AppendInt(m.Old)
			ask.N++
		}
		moves[m.Old] = append(moves[m.Old], m)
	}
	at, time := column.Find(all, r.Key), column.Find(all, r.Time)
	id := identity(table)
	q := warehouse.Query{Table: table.Name, Fields: all, By: []string{r.Key}, Match: column.Pointers(ask.Cols)}
	return warehouse.Each(ctx, t.Tx, q, func(b *column.Batch) error {
		cols := column.Pointers(b.Cols)
		keys := pick(id, all, cols)
		for i := range b.N {
			m, ok := moveOf(moves[cols[at].Int[i]], r, cols, time, i)
			if !ok {
				continue
			}
			row, old := ledger.RowText(all, cols, i), cols[at].Int[i]
			cols[at].Int[i] = m.New // the row has this key since
			t.note(ledger.Before{
				Table: table.Name, Did: ledger.ChangedRow, Key: ledger.RowText(id, keys, i), Row: row,
			})
			cols[at].Int[i] = old
		}
		return nil
	})
}

// moveOf returns the move that concerns row i; false if none does.
func moveOf(
	moves []warehouse.Move,
	r *warehouse.Repointing,
	cols []*column.Column,
	time, i int,
) (m warehouse.Move, ok bool) {
	for _, m := range moves {
		if r.Time == "" {
			return m, true
		}
		if cols[time].Null[i] {
			continue
		}
		v := cols[time].Int[i]
		if v >= m.From && (m.To == warehouse.Forever || v < m.To) {
			return m, true
		}
	}
	return m, false
}

func (t *recording) Commit() error {
	if err := t.keep(context.Background(), 1); err != nil {
		return fmt.Errorf("what the step changed cannot be kept: %w", err)
	}
	if err := t.Tx.Commit(); err != nil {
		return err
	}
	t.of.mu.Lock()
	defer t.of.mu.Unlock()
	for name := range t.filled {
		t.of.filled[name] = true
	}
	return nil
}
