// Package warehouse is what the program asks of a database that a star is loaded into: tables
// described as data, rows in and out as typed columns, and transactions.
//
// It knows no star and no ledger. Each kind of database stands in a package below this one, which registers
// its [Driver]; nobody above asks which kind it is, only what it can do ([Capabilities]). Names become SQL
// there, by that database's own quoting, and values are always bound. The tests of package warehousetest
// hold for every driver.
package warehouse

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
)

// Column is a column of a table.
type Column struct {
	column.Field
	NotNull bool
}

// Foreign is a declared foreign key of one column.
type Foreign struct{ Column, Table, Key string }

// Table describes a table.
type Table struct {
	Name     string
	Columns  []Column
	Primary  []string
	Borrowed bool     // somebody else has made it: types may be others there, see [Query]
	Unique   []string // one more set of columns that is unique; may be empty
	Index    []string // columns that rows are found by, and that are not unique; may be empty
	Foreign  []Foreign

	Partition *Partition // how its rows are divided, where the database can do that; may be nil

	Words map[string]string // what people are told of its columns and, under "", of itself, where a database can keep that
}

// Fields lists the table's columns.
func (t *Table) Fields() []column.Field {
	fields := make([]column.Field, len(t.Columns))
	for i, c := range t.Columns {
		fields[i] = c.Field
	}
	return fields
}

// PrimaryFields lists the columns of the primary key.
func (t *Table) PrimaryFields() []column.Field {
	fields := t.Fields()
	primary := make([]column.Field, len(t.Primary))
	for i, name := range t.Primary {
		primary[i] = fields[column.Find(fields, name)]
	}
	return primary
}

// View describes a view: of one table, with other names for its columns, or of a query.
type View struct {
	Name, Of string
	Columns  []Renamed
	Also     string // another table that it has rows of; "" for none
	Query    string // in place of columns: SQL that all warehouses have, with the names of tables in braces
}

// SQL returns the query of the view; table writes the name of a table.
func (v *View) SQL(quote, table func(name string) string) string {
	if v.Query != "" {
		return strings.NewReplacer("{"+v.Of+"}", table(v.Of), "{"+v.Also+"}", table(v.Also)).Replace(v.Query)
	}
	var parts []string
	for _, c := range v.Columns {
		parts = append(parts, quote(c.From)+" AS "+quote(c.To))
	}
	return "SELECT " + strings.Join(parts, ", ") + " FROM " + table(v.Of)
}

// Renamed is a column of a view: the table's name for it and the view's.
type Renamed struct{ From, To string }

// Query asks for columns of a table: all rows, or those that equal one of the rows of Match in the
// columns By. Null matches nothing.
type Query struct {
	Table   string
	Fields  []column.Field
	By      []string
	Match   []*column.Column // as many as By, of equal length
	Convert bool             // the database converts what it has to the types of Fields
	OrderBy []string
	Limit   int // 0 is none

	Descending bool // OrderBy is
}

// Room is how many rows of an answer are read at a time: few at first, since most answers are short.
type Room struct{ rows int }

// Next returns how many rows the next batch has room for.
func (r *Room) Next() int {
	const first, most = 64, 4096
	r.rows = min(max(first, 8*r.rows), most)
	return r.rows
}

// Rows is the answer to a query, read batch by batch.
type Rows interface {
	// Next fills b, whose columns have the shape of the query's fields, with up to a batch of rows.
	// It says false when there are none left.
	Next(b *column.Batch) (bool, error)
	// Close ends the query, read to its end or not; it may be called again.
	Close() error
}

// Appender adds rows to a table.
type Appender interface {
	// Append adds the given rows of the columns, which stand in the order of the appender's fields.
	Append(cols []*column.Column, rows []int32) error
	// Flush makes what was added visible to queries of the same transaction.
	Flush() error
	// Close ends the stream and returns the number of rows added.
	Close() (int64, error)
}

// Repointing says that column Key of a table is to hold another key where Time, a column, lies in a
// range: the new key for every old one.
type Repointing struct {
	Table, Key string
	Time       string // "": the time doesn't matter
	TimeType   column.Type
	Moves      []Move
	Stamp      string // a column that says which run wrote a row last; "": there is none
	Run        int64  // that does it
}

// Move takes the rows with key Old and a time in [From, To) to key New; where To is [Forever], all from From on.
type Move struct{ Old, New, From, To int64 }

// Columns returns the moves as columns: the old key, the new one and, if the time matters, since when and before when; null
// where that is [Forever].
func (r *Repointing) Columns() []*column.Column {
	integer := column.Type{Kind: column.Integer}
	cols := []*column.Column{{Type: integer}, {Type: integer}, {Type: r.TimeType}, {Type: r.TimeType}}
	if r.Time == "" {
		cols = cols[:2]
	}
	for _, m := range r.Moves {
		for k, v := range []int64{m.Old, m.New, m.From, m.To}[:len(cols)] {
			if k == 3 && v == Forever {
				cols[k].AppendNull()
			} else {
				cols[k].AppendInt(v)
			}
		}
	}
	return cols
}

// Forever is the end of a [Move] that has none.
const Forever = math.MaxInt64

// Tally is what a table holds: its rows, and the exact total of each column asked for.
type Tally struct {
	Rows   int64
	Totals []exact.Int128
}

// Standing is a column of a table as the database has it.
type Standing struct {
	Name    string
	Type    string
	NotNull bool
	Old     bool // it stands as an older version of the program left it: see [Tx.Renew]
	Divides bool // the table has partitions by it, as far as the database says that
}

// Description is the columns of a table that stands.
type Description []Standing

// Has reports whether there is a column of that name.
func (d Description) Has(name string) bool { return slices.Contains(d.Names(), name) }

// Names lists the columns' names.
func (d Description) Names() []string {
	var names []string
	for _, c := range d {
		names = append(names, c.Name)
	}
	return names
}

// Reader is what one can ask inside a transaction and outside.
type Reader interface {
	// Describe returns the columns of a table or view, or nil if there is none of that name.
	Describe(ctx context.Context, table string) (Description, error)
	// Declares returns the database's name for a type in a table, as Describe has it.
	Declares(table string, t column.Type) string
	Read(ctx context.Context, q Query) (Rows, error)
	// Tally counts the rows of a table, and adds up columns of exact numbers.
	Tally(ctx context.Context, table string, measures []column.Field) (Tally, error)
}

// Snapshot is a warehouse as it was at one time. It is used by one goroutine at a time.
type Snapshot interface {
	Reader
	Close() error
}

// Tx is a transaction. It is used by one goroutine at a time.
type Tx interface {
	Reader
	Create(ctx context.Context, t *Table) error
	// Drop removes a table that is there, whose views were dropped before.
	Drop(ctx context.Context, table string) error
	// Clear removes all rows of a table. Others see them until the transaction is committed.
	Clear(ctx context.Context, table string) error
	// Constrain adds what is cheaper to add once a new table is filled, and may leave Create to do the
	// rest. Calling it again does nothing.
	Constrain(ctx context.Context, t *Table) error
	CreateView(ctx context.Context, v *View) error
	// Share lets the readers of the warehouse's location read the tables and views of some names that are there.
	Share(ctx context.Context, names []string) error
	DropView(ctx context.Context, name string) error
	// AddColumn adds a column to a table. The rows that are there have fill in it, an integer or boolean, or null
	// if that is nil.
	AddColumn(ctx context.Context, table string, c Column, fill *int64) error
	// Renew brings columns that an older version of the program left otherwise to how they stand now.
	Renew(ctx context.Context, table string, fields []column.Field) error
	// Divide makes the partitions of a table that values of its partition column belong to, where the warehouse has
	// partitions that are made one by one. Without it, their rows stand in one that has the rest.
	Divide(ctx context.Context, t *Table, values []int64) error
	Append(ctx context.Context, table string, fields []column.Field) (Appender, error)
	// Amend sets the later fields of the rows that equal b's in the first by fields.
	Amend(ctx context.Context, table string, by int, fields []column.Field, b *column.Batch) (int64, error)
	// Remove deletes the rows that equal one of b's in all fields.
	Remove(ctx context.Context, table string, fields []column.Field, b *column.Batch) (int64, error)
	Repoint(ctx context.Context, r *Repointing) (int64, error)
	// Freeze has what the tables hold once the transaction is committed stay readable as the state that a run has left, for
	// as many of the latest runs as the warehouse keeps; where readers see one state of all tables anyway, it does nothing.
	Freeze(ctx context.Context, run int64) error
	// Statements returns what runs statements of the database's own SQL in the transaction; nil if nothing does.
	Statements() Statements
	Commit() error
	// Rollback undoes the transaction; after Commit it does nothing.
	Rollback() error
}

// Statements run inside a transaction, and read and write many rows each. They are written in the database's own SQL, by
// who knows it.
type Statements interface {
	// Named writes the name of a table of the star.
	Named(table string) string
	// Run runs a statement and returns how many rows it has changed.
	Run(ctx context.Context, sql string) (int64, error)
	// RunApart runs a statement by itself, outside of the transaction: what it locks is free once it has ended.
	RunApart(ctx context.Context, sql string) error
	// Ask hands each row of an answer to row, as the texts that the database writes; null is nil. They are row's until it
	// returns. Times are of no zone, dates as ISO 8601 has them.
	Ask(ctx context.Context, sql string, row func(values [][]byte) error) error
	// Estimate returns about how many rows a query has, as the database plans it.
	Estimate(ctx context.Context, query string) (int64, error)
	// Near reports whether the database is on this machine.
	Near() bool
	// Insert adds the rows of a query to columns of a table of the star, and returns how many these are.
	Insert(ctx context.Context, t *Table, columns []string, query string) (int64, error)
	// Stage makes a table for rows that statements of the transaction are to read, under a name that no other table has if
	// the warehouse names it so.
	Stage(ctx context.Context, name string, types []column.Type) (Stage, error)
}

// Stage is a table for rows on their way. Its columns are called c0, c1 and so on.
type Stage interface {
	// Add adds the given rows of as many columns.
	Add(cols []*column.Column, rows []int32) error
	// Table ends the adding and returns the name of the table in SQL.
	Table(ctx context.Context) (string, error)
	// Close removes the table, unless it has gone with the transaction. It may be called again, and after that has ended.
	Close() error
}

// ErrHeld says that another load holds the warehouse. ErrUnknown says that the connection broke while a
// transaction was being committed, so that nobody knows whether it was.
var (
	ErrHeld    = errors.New("another load holds the warehouse")
	ErrUnknown = errors.New(
		"the connection to the database is lost; whether the transaction was committed is not known",
	)
)

// Hold is the right to load a warehouse.
type Hold interface {
	// Check returns an error if the right is lost, such as with the connection that had it.
	Check(ctx context.Context) error
	Release()
}

// Warehouse is an open database.
type Warehouse interface {
	Reader
	Capabilities() Capabilities
	// Snapshot lets one read the warehouse as it is now, whatever is committed meanwhile, until it is closed. A
	// transaction may write at the same time.
	Snapshot(ctx context.Context) (Snapshot, error)
	// Hold takes the warehouse for a whole load, so that no other load runs meanwhile; the error is [ErrHeld] if one
	// does. A holder that dies holds it no longer.
	Hold(ctx context.Context) (Hold, error)
	// Begin starts a transaction that may write. It waits for all others to end.
	Begin(ctx context.Context) (Tx, error)
	// Beside starts a transaction that may write while others of other parts do, as many as [Capabilities] says. It
	// waits for those of the same part, and for those that [Warehouse.Begin] started.
	Beside(ctx context.Context, part string) (Tx, error)
	Close() error
}

// Each calls f for the answer to a query, batch by batch, while the next batch is being read: f must not ask r itself.
// The batch is f's until it returns. An error of f ends it.
func Each(ctx context.Context, r Reader, q Query, f func(b *column.Batch) error) error {
	rows, err := r.Read(ctx, q)
	if err != nil {
		return err
	}
	defer rows.Close()
	type answer struct {
		b    *column.Batch
		more bool
		err  error
	}
	b := column.NewBatch(q.Fields)
	more, err := rows.Next(b)
	if err != nil || !more {
		return err
	}
	free, full := column.NewBatch(q.Fields), make(chan answer)
	for more {
		go func(b *column.Batch) {
			more, err := rows.Next(b)
			full <- answer{b, more, err}
		}(free)
		err := f(b)
		next := <-full
		if err == nil {
			err = next.err
		}
		if err != nil {
			return err
		}
		free, b, more = b, next.b, next.more
	}
	return nil
}

// ReadAll collects the answer to a query in one batch; for answers that are known to be small.
func ReadAll(ctx context.Context, r Reader, q Query) (*column.Batch, error) {
	all := column.NewBatch(q.Fields)
	err := Each(ctx, r, q, func(part *column.Batch) error {
		for i := range part.N {
			for k := range all.Cols {
				all.Cols[k].Append(&part.Cols[k], i)
			}
		}
		all.N += part.N
		return nil
	})
	return all, err
}

// Sum counts the rows of a table, and adds up columns of exact numbers, by reading them. A total that needs more than
// 38 digits is an error.
func Sum(ctx context.Context, r Reader, t *Table, fields []column.Field) (Tally, error) {
	sum := Tally{Totals: make([]exact.Int128, len(fields))}
	q := Query{Table: t.Name, Fields: fields, Convert: t.Borrowed}
	if len(fields) == 0 {
		q.Fields = t.Fields()[:1]
	}
	err := Each(ctx, r, q, func(b *column.Batch) error {
		sum.Rows += int64(b.N)
		for k := range fields {
			for i := range b.N {
				if b.Cols[k].Null[i] {
					continue
				}
				var ok bool
				if sum.Totals[k], ok = sum.Totals[k].Add(b.Cols[k].Exact(i)); !ok {
					return fmt.Errorf("the total of %s needs more than 38 digits", fields[k].Name)
				}
			}
		}
		return nil
	})
	return sum, err
}

// AppendAll adds the rows of a batch to a table.
func AppendAll(ctx context.Context, tx Tx, t *Table, b *column.Batch) error {
	if b.N == 0 {
		return nil
	}
	a, err := AppendTo(ctx, tx, t)
	if err != nil {
		return err
	}
	rows := make([]int32, b.N)
	for i := range rows {
		rows[i] = int32(i)
	}
	err = a.Append(column.Pointers(b.Cols), rows)
	if _, cerr := a.Close(); err == nil {
		err = cerr
	}
	return err
}
