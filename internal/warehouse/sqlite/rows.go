package sqlite

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"zombiezen.com/go/sqlite"

	"ironmonger/internal/column"
	"ironmonger/internal/dberror"
	"ironmonger/internal/exact"
	"ironmonger/internal/parse"
	"ironmonger/internal/warehouse"
)

// insertRows is how many rows a statement writes, maxParams how many values it takes.
const (
	insertRows = 50
	maxParams  = 32000
)

type rows struct {
	db     *connection
	stmt   *sqlite.Stmt
	reader *parse.Reader
	table  string
	by     int
	match  []*column.Column // nil: one answer
	at     int              // the row of match whose answer is being read, or the first of them
	asked  int              // so many are asked for at a time
	bound  bool
	done   bool
	bind   binder
	units  []bool // of each column: its integers are units of the last place
	room   warehouse.Room
}

// Read starts a query.
func (db *connection) Read(ctx context.Context, q warehouse.Query) (warehouse.Rows, error) {
	fields := slices.Clone(q.Fields)
	for k, name := range q.By {
		fields = append(fields, column.Field{Name: name, Type: q.Match[k].Type})
	}
	old, err := db.old(q.Table, fields)
	if err != nil {
		return nil, err
	}
	names := map[string]string{} // under which columns stand
	for k, f := range fields {
		if names[f.Name] = f.Name; !old[k] {
			names[f.Name] = stored(f)
		}
	}
	standing := func(list []string, format string) string {
		var real []string
		for _, name := range list {
			if at, ok := names[name]; ok {
				name = at
			}
			real = append(real, name)
		}
		return strings.Join(quoteAll(real, format), ", ")
	}
	sql, asked := "SELECT "+standing(column.Names(q.Fields), "%")+" FROM "+quote(q.Table), 1
	if len(q.By) > 0 {
		one := sql + " WHERE " + strings.ReplaceAll(standing(q.By, "% = ?"), " = ?, ", " = ? AND ")
		if asked, err = db.askedAtOnce(one, len(q.By), len(q.Match[0].Null)); err != nil {
			return nil, err
		}
		if asked == 1 {
			sql = one
		} else { // the table is read once for all of them
			row := ", (?" + strings.Repeat(", ?", len(q.By)-1) + ")"
			sql += " WHERE (" + standing(q.By, "%") + ") IN (VALUES " + strings.Repeat(row, asked)[2:] + ")"
		}
	}
	if len(q.OrderBy) > 0 {
		sql += " ORDER BY " + standing(q.OrderBy, "%"+direction(q))
	}
	if q.Limit > 0 {
		sql += fmt.Sprintf(" LIMIT %d", q.Limit)
	}
	stmt, err := db.prepare(sql)
	if err != nil {
		return nil, err
	}
	r := &rows{db: db, stmt: stmt, reader: parse.NewReader(nil), table: q.Table, bound: true}
	for k, f := range q.Fields {
		r.units = append(r.units, !old[k] && strings.HasSuffix(stored(f), unitsSuffix))
	}
	if len(q.By) > 0 {
		r.match, r.by, r.bound, r.asked = q.Match, len(q.By), false, asked
		r.done = len(q.Match[0].Null) == 0
	}
	return r, nil
}

// few is how many rows are asked for one by one, even if the table is read for each.
const few = 4

// askedAtOnce returns how many rows of Match a query asks for at a time: one, where an index finds its rows; else as
// many as it can, since the table is read for each time. one is the query for one row.
func (db *connection) askedAtOnce(one string, by, rows int) (int, error) {
	if rows <= few {
		return 1, nil
	}
	stmt, _, err := db.conn.PrepareTransient("EXPLAIN QUERY PLAN " + one)
	if err != nil {
		return 0, dberror.SQLite(err)
	}
	defer stmt.Finalize()
	more, err := stmt.Step()
	if err != nil || !more || !strings.HasPrefix(stmt.ColumnText(3), "SCAN") {
		return 1, dberror.SQLite(err)
	}
	return min(rows, maxParams/by), nil
}

func direction(q warehouse.Query) string {
	if q.Descending {
		return " DESC"
	}
	return ""
}

// Close ends the query; again, it does nothing.
func (r *rows) Close() error {
	if r.stmt == nil {
		return nil
	}
	err := r.db.release(r.stmt)
	r.stmt = nil
	return err
}

// advance brings the statement to the next row, going through the rows of match.
func (r *rows) advance() (bool, error) {
	for !r.done {
		if !r.bound {
			for n := range r.asked {
				row := min(r.at+n, len(r.match[0].Null)-1) // the last one again and again
				for k := range r.by {
					r.bind.bind(r.stmt, n*r.by+k+1, r.match[k], row)
				}
			}
			r.bound = true
		}
		more, err := r.stmt.Step()
		if err != nil || more {
			return more, dberror.SQLite(err)
		}
		r.at += r.asked
		if r.done = r.match == nil || r.at >= len(r.match[0].Null); !r.done {
			r.bound = false
			if err := r.stmt.Reset(); err != nil {
				return false, dberror.SQLite(err)
			}
		}
	}
	return false, nil
}

func (r *rows) Next(b *column.Batch) (bool, error) {
	if b.Reset(0); r.done {
		return false, nil
	}
	b.Reset(r.room.Next())
	n := 0
	for ; n < b.N; n++ {
		more, err := r.advance()
		if err != nil {
			return false, err
		}
		if !more {
			break
		}
		for k := range b.Cols {
			if err := read(r.stmt, k, r.reader, &b.Cols[k], n, r.units[k]); err != nil {
				return false, fmt.Errorf("table %s: %w", r.table, err)
			}
		}
	}
	b.Cut(n)
	return n > 0, nil
}

// appender inserts many rows by a statement; what does not fill one waits for Close.
type appender struct {
	binder
	db     *connection
	insert string
	fields []column.Field
	many   *sqlite.Stmt
	block  int // rows in many
	queued []column.Column
	added  int64
}

// Append starts adding rows.
func (t *tx) Append(ctx context.Context, table string, fields []column.Field) (warehouse.Appender, error) {
	a := &appender{db: &t.connection, fields: fields, block: max(1, min(insertRows, maxParams/len(fields)))}
	// OR FAIL: nothing is undone within a statement, so that SQLite need not copy the pages of the index
	// for every statement; after an error the caller rolls the transaction back.
	a.insert = "INSERT OR FAIL INTO " + quote(
		table,
	) + " (" + strings.Join(
		quoteStored(fields, "%"),
		", ",
	) + ") VALUES "
	var err error
	if a.many, err = a.prepare(a.block); err != nil {
		return nil, err
	}
	for _, f := range fields {
		a.queued = append(a.queued, column.Column{Type: f.Type})
	}
	return a, nil
}

func (a *appender) prepare(rows int) (*sqlite.Stmt, error) {
	one := "(?" + strings.Repeat(",?", len(a.fields)-1) + ")"
	return a.db.prepare(a.insert + one + strings.Repeat(","+one, rows-1))
}

func (a *appender) run(stmt *sqlite.Stmt, cols []*column.Column, rows []int32) error {
	param := 0
	for _, i := range rows {
		for _, c := range cols {
			param++
			a.bind(stmt, param, c, int(i))
		}
	}
	if _, err := stmt.Step(); err != nil {
		return dberror.SQLite(err)
	}
	a.added += int64(len(rows))
	return dberror.SQLite(stmt.Reset())
}

func (a *appender) Append(cols []*column.Column, rows []int32) error {
	if len(a.queued[0].Null) > 0 { // first what waits, so that rows keep their order
		need := min(a.block-len(a.queued[0].Null), len(rows))
		a.queue(cols, rows[:need])
		rows = rows[need:]
		if len(a.queued[0].Null) < a.block {
			return nil
		}
		if err := a.flush(a.many); err != nil {
			return err
		}
	}
	for ; len(rows) >= a.block; rows = rows[a.block:] {
		if err := a.run(a.many, cols, rows[:a.block]); err != nil {
			return err
		}
	}
	a.queue(cols, rows)
	return nil
}

func (a *appender) queue(cols []*column.Column, rows []int32) {
	for k, c := range cols {
		for _, i := range rows {
			a.queued[k].Append(c, int(i))
		}
	}
}

func (a *appender) flush(stmt *sqlite.Stmt) error {
	cols := make([]*column.Column, len(a.queued))
	for k := range a.queued {
		cols[k] = &a.queued[k]
	}
	rows := make([]int32, len(a.queued[0].Null))
	for i := range rows {
		rows[i] = int32(i)
	}
	err := a.run(stmt, cols, rows)
	for k := range a.queued {
		a.queued[k].Truncate(0)
	}
	return err
}

// Flush writes what waits, so that a query sees it.
func (a *appender) Flush() error {
	n := len(a.queued[0].Null)
	if n == 0 {
		return nil
	}
	rest, err := a.prepare(n)
	if err != nil {
		return err
	}
	defer a.db.release(rest)
	return a.flush(rest)
}

func (a *appender) Close() (int64, error) {
	err := a.Flush()
	a.db.release(a.many)
	return a.added, err
}

// each runs a statement for every row of b, binding its columns from column number from on.
func (t *tx) each(sql string, b *column.Batch, order []int) (int64, error) {
	stmt, _, err := t.conn.PrepareTransient(sql)
	if err != nil {
		return 0, dberror.SQLite(err)
	}
	defer stmt.Finalize()
	var bind binder
	var changed int64
	for i := range b.N {
		for p, k := range order {
			bind.bind(stmt, p+1, &b.Cols[k], i)
		}
		if _, err := stmt.Step(); err != nil {
			return changed, dberror.SQLite(err)
		}
		changed += int64(t.conn.Changes())
		if err := stmt.Reset(); err != nil {
			return changed, dberror.SQLite(err)
		}
	}
	return changed, nil
}

// Amend changes rows.
func (t *tx) Amend(ctx context.Context, table string, by int, fields []column.Field, b *column.Batch) (int64, error) {
	var order []int
	for k := range fields {
		order = append(order, (k+by)%len(fields)) // the values first, then what they are for
	}
	return t.each("UPDATE "+quote(table)+" SET "+strings.Join(quoteStored(fields[by:], "% = ?"), ", ")+
		" WHERE "+strings.Join(quoteStored(fields[:by], "% = ?"), " AND "), b, order)
}

// Remove deletes rows.
func (t *tx) Remove(ctx context.Context, table string, fields []column.Field, b *column.Batch) (int64, error) {
	var order []int
	for k := range fields {
		order = append(order, k)
	}
	return t.each("DELETE FROM "+quote(table)+" WHERE "+strings.Join(quoteStored(fields, "% = ?"), " AND "), b, order)
}

// Repoint changes keys by a table of moves, all at once, so that one move never meets the result of
// another.
func (t *tx) Repoint(ctx context.Context, r *warehouse.Repointing) (int64, error) {
	if err := t.exec("CREATE TEMP TABLE move (old INTEGER, new INTEGER, since, until)"); err != nil {
		return 0, err
	}
	defer t.exec("DROP TABLE temp.move")
	insert, _, err := t.conn.PrepareTransient("INSERT INTO temp.move VALUES (?, ?, ?, ?)")
	if err != nil {
		return 0, dberror.SQLite(err)
	}
	defer insert.Finalize()
	var bind binder
	for _, m := range r.Moves {
		insert.BindInt64(1, m.Old)
		insert.BindInt64(2, m.New)
		if r.Time != "" {
			bind.bindInt(insert, 3, r.TimeType.Kind, m.From)
			if insert.BindNull(4); m.To != warehouse.Forever {
				bind.bindInt(insert, 4, r.TimeType.Kind, m.To)
			}
		}
		if _, err := insert.Step(); err != nil {
			return 0, dberror.SQLite(err)
		}
		if err := insert.Reset(); err != nil {
			return 0, dberror.SQLite(err)
		}
	}
	if err := t.exec("CREATE INDEX temp.move_old ON move (old)"); err != nil {
		return 0, err
	}
	where := "m.old = " + quote(r.Table) + "." + quote(r.Key)
	if r.Time != "" {
		time := quote(r.Table) + "." + quote(r.Time)
		where += " AND " + time + " >= m.since AND (m.until IS NULL OR " + time + " < m.until)"
	}
	stamp := ""
	if r.Stamp != "" {
		stamp = fmt.Sprintf(", %s = %d", quote(r.Stamp), r.Run)
	}
	err = t.exec(
		"UPDATE " + quote(
			r.Table,
		) + " SET " + quote(
			r.Key,
		) + " = m.new" + stamp + " FROM temp.move AS m WHERE " + where,
	)
	return int64(t.conn.Changes()), err
}

// wholes is 1.5 * 2^52: a double of less than 2^51 that is added to it is rounded to a whole number,
// which takes SQLite a fraction of the time of round().
const wholes = 6755399441055744

// Tally counts the rows of a table and adds up columns: exactly, in integers of the last place. A decimal that
// stands as text makes it read the columns row by row.
func (t *connection) Tally(ctx context.Context, table string, measures []column.Field) (warehouse.Tally, error) {
	parts := []string{"count(*)"}
	for _, f := range measures {
		name := quote(stored(f))
		switch {
		case f.Type.Kind == column.Integer, f.Type.Precision <= unitDigits && f.Type.Precision > exactDigits:
			parts = append(parts, "sum("+name+")")
		case f.Type.Precision > unitDigits:
			return t.tallyRows(ctx, table, measures)
		default:
			parts = append(
				parts,
				fmt.Sprintf(
					"sum(CAST(%s * %s + %d.0 AS INTEGER) - %d)",
					name,
					exact.Pow10(int(f.Type.Scale)).Big(),
					wholes,
					wholes,
				),
			)
		}
	}
	stmt, _, err := t.conn.PrepareTransient("SELECT " + strings.Join(parts, ", ") + " FROM " + quote(table))
	if err != nil {
		return warehouse.Tally{}, dberror.SQLite(err)
	}
	defer stmt.Finalize()
	tally := warehouse.Tally{Totals: make([]exact.Int128, len(measures))}
	_, err = stmt.Step()
	if err != nil && !strings.Contains(err.Error(), "overflow") {
		return tally, dberror.SQLite(err)
	}
	if err != nil {
		return t.tallyRows(ctx, table, measures)
	}
	for k := range measures {
		tally.Totals[k] = exact.Wide(stmt.ColumnInt64(1 + k))
	}
	tally.Rows = stmt.ColumnInt64(0)
	return tally, nil
}

func (t *connection) tallyRows(ctx context.Context, table string, measures []column.Field) (warehouse.Tally, error) {
	tally := warehouse.Tally{Totals: make([]exact.Int128, len(measures))}
	rows, err := t.Read(ctx, warehouse.Query{Table: table, Fields: measures})
	if err != nil {
		return tally, err
	}
	defer rows.Close()
	b := column.NewBatch(measures)
	for {
		more, err := rows.Next(b)
		if err != nil || !more {
			return tally, err
		}
		tally.Rows += int64(b.N)
		for k := range measures {
			for i := range b.N {
				sum, ok := tally.Totals[k].Add(b.Cols[k].Exact(i))
				if !ok {
					return tally, fmt.Errorf("the total of %s.%s needs more than 38 digits", table, measures[k].Name)
				}
				tally.Totals[k] = sum
			}
		}
	}
}

// Freeze does nothing: a transaction shows its readers one state.
func (db *DB) Freeze(context.Context, int64) error { return nil }

// Divide has nothing to do: there are no partitions.
func (t *tx) Divide(context.Context, *warehouse.Table, []int64) error { return nil }
