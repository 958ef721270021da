package postgres

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/dberror"
	"ironmonger/internal/exact"
	"ironmonger/internal/warehouse"
)

// most is how many rows a statement takes in arrays.
const most = 20_000

// binaryForm asks for all columns in binary form.
var binaryForm = pgx.QueryResultFormats{pgx.BinaryFormatCode}

// arrays returns columns as arrays, integers as they are and all else as text, and the SQL of a table of them called m
// with columns c0, c1, ...
func arrays(cols []*column.Column, from, to int) (string, []any) {
	var args []any
	var unnest, names, casts []string
	for k, c := range cols {
		kind := "text"
		if c.Type.Kind == column.Integer && !slices.Contains(c.Null[from:to], true) {
			kind = "bigint"
			args = append(args, c.Int[from:to])
		} else {
			list := make([]*string, to-from)
			for i := range list {
				if !c.Null[from+i] {
					s := c.Value(from + i)
					list[i] = &s
				}
			}
			args = append(args, list)
		}
		unnest = append(unnest, fmt.Sprintf("$%d::%s[]", k+1, kind))
		names = append(names, fmt.Sprintf("t%d", k))
		casts = append(casts, fmt.Sprintf("t%d::%s AS c%d", k, declared(c.Type), k))
	}
	return fmt.Sprintf(
		"(SELECT %s FROM unnest(%s) AS a (%s)) AS m",
		strings.Join(casts, ", "),
		strings.Join(unnest, ", "),
		strings.Join(names, ", "),
	), args
}

// equal returns the conditions that columns of the table t are those of m.
func equal(names []string, from int) string {
	parts := make([]string, len(names))
	for k, n := range names {
		parts[k] = fmt.Sprintf("t.%s = m.c%d", quote(n), from+k)
	}
	return strings.Join(parts, " AND ")
}

// rows is an answer; several where the match was too large for one statement.
type rows struct {
	ctx    context.Context
	q      querier
	table  string
	query  warehouse.Query
	answer pgx.Rows
	asked  int // rows of Match asked for so far
	room   warehouse.Room
}

func read(ctx context.Context, q querier, table string, query warehouse.Query) (warehouse.Rows, error) {
	r := &rows{ctx: ctx, q: q, table: table, query: query}
	if len(query.By) > 0 && len(query.Match[0].Null) == 0 {
		return r, nil
	}
	return r, r.ask()
}

// ask sends the query, for the next rows of Match.
func (r *rows) ask() error {
	sql := "SELECT " + quoteAll(column.Names(r.query.Fields), "t.%") + " FROM " + r.table + " AS t"
	if r.query.Convert {
		var parts []string
		for _, f := range r.query.Fields {
			parts = append(parts, fmt.Sprintf("CAST(t.%s AS %s)", quote(f.Name), declared(f.Type)))
		}
		sql = "SELECT " + strings.Join(parts, ", ") + " FROM " + r.table + " AS t"
	}
	if len(r.query.Fields) == 0 {
		sql = "SELECT FROM " + r.table + " AS t"
	}
	var args []any
	if len(r.query.By) > 0 {
		to := min(r.asked+most, len(r.query.Match[0].Null))
		var m string
		m, args = arrays(r.query.Match, r.asked, to)
		sql += " JOIN " + m + " ON " + equal(r.query.By, 0)
		r.asked = to
	}
	if len(r.query.OrderBy) > 0 {
		direction := ""
		if r.query.Descending {
			direction = " DESC"
		}
		sql += " ORDER BY " + quoteAll(r.query.OrderBy, "t.%"+direction)
	}
	if r.query.Limit > 0 {
		sql += fmt.Sprintf(" LIMIT %d", r.query.Limit)
	}
	var err error
	r.answer, err = r.q.Query(r.ctx, sql, append([]any{binaryForm}, args...)...)
	return dberror.Postgres(err)
}

func (r *rows) Close() error {
	if r.answer != nil {
		r.answer.Close()
		return dberror.Postgres(r.answer.Err())
	}
	return nil
}

func (r *rows) Next(b *column.Batch) (bool, error) {
	if b.Reset(0); r.answer == nil {
		return false, nil
	}
	b.Reset(r.room.Next())
	n := 0
	for r.answer != nil && n < b.N {
		if !r.answer.Next() {
			if err := r.answer.Err(); err != nil {
				return false, dberror.Postgres(err)
			}
			r.answer.Close()
			r.answer = nil
			if len(r.query.By) > 0 && r.asked < len(r.query.Match[0].Null) {
				if err := r.ask(); err != nil {
					return false, err
				}
			}
			continue
		}
		raw, described := r.answer.RawValues(), r.answer.FieldDescriptions()
		for k := range b.Cols {
			if err := decode(&b.Cols[k], n, raw[k], described[k].DataTypeOID); err != nil {
				return false, fmt.Errorf("table %s, column %s: %w", r.query.Table, described[k].Name, err)
			}
		}
		n++
	}
	b.Cut(n)
	return n > 0, nil
}

// The types that the program makes, by the numbers that PostgreSQL gives them.
var oids = map[column.Kind]uint32{
	column.Integer:   20,
	column.Decimal:   1700,
	column.Double:    701,
	column.Text:      25,
	column.Boolean:   16,
	column.Date:      1082,
	column.Timestamp: 1114,
	column.Time:      1083,
}

// decode reads a value in binary form.
func decode(c *column.Column, i int, raw []byte, oid uint32) error {
	if raw == nil {
		c.SetNull(i)
		return nil
	}
	if oid != oids[c.Type.Kind] {
		return fmt.Errorf("it is not of type %s", declared(c.Type))
	}
	c.Null[i] = false
	be := binary.BigEndian
	switch c.Type.Kind {
	case column.Integer, column.Time:
		c.Int[i] = int64(be.Uint64(raw))
	case column.Double:
		c.Float[i] = math.Float64frombits(be.Uint64(raw))
	case column.Text:
		c.Text[i] = string(raw)
	case column.Boolean:
		c.Int[i] = int64(raw[0])
	case column.Date:
		c.Int[i] = int64(int32(be.Uint32(raw))) + epoch
	case column.Timestamp:
		c.Int[i] = int64(be.Uint64(raw)) + epoch*civil.DayMicros
	case column.Decimal:
		x, err := numeric(raw, int(c.Type.Scale))
		if err != nil {
			return err
		}
		if c.Type.Wide() {
			c.Wide[i] = x
		} else if v, ok := x.Int64(); ok {
			c.Int[i] = v
		} else {
			return fmt.Errorf("the number has more than %d digits", c.Type.Precision)
		}
	}
	return nil
}

var errNumeric = errors.New("the number is not finite, or has more than 38 digits")

// numeric reads a decimal and gives it scaled by a scale that has all its digits.
func numeric(raw []byte, scale int) (exact.Int128, error) {
	be := binary.BigEndian
	n, weight, sign := int(be.Uint16(raw)), int(int16(be.Uint16(raw[2:]))), be.Uint16(raw[4:])
	if sign != 0 && sign != 0x4000 {
		return exact.Int128{}, errNumeric
	}
	var x exact.Int128
	ok := true
	for k := range n {
		digit := exact.Wide(int64(be.Uint16(raw[8+2*k:])))
		power := 4*(weight-k) + scale // the digit stands for digit * 10^power in units of the last place
		var too bool
		switch {
		case power >= 0 && power <= exact.MaxDigits:
			digit, too = digit.Mul(exact.Pow10(power))
		case power < 0 && power > -4:
			digit, too = digit.Quo(exact.Pow10(-power))
		default:
			too = digit.Sign() == 0
		}
		if ok = ok && too; ok {
			x, ok = x.Add(digit)
		}
	}
	if !ok {
		return x, errNumeric
	}
	if sign != 0 {
		x = x.Neg()
	}
	return x, nil
}

// batches calls f for parts of n rows that fit a statement.
func batches(n int, f func(from, to int) error) error {
	for from := 0; from < n; from += most {
		if err := f(from, min(from+most, n)); err != nil {
			return err
		}
	}
	return nil
}

// Amend changes rows, many by a statement.
func (t *tx) Amend(ctx context.Context, table string, by int, fields []column.Field, b *column.Batch) (int64, error) {
	names := column.Names(fields)
	var set []string
	for k, n := range names[by:] {
		set = append(set, fmt.Sprintf("%s = m.c%d", quote(n), by+k))
	}
	return t.joined(ctx, b, func(m string) string {
		return fmt.Sprintf(
			"UPDATE %s AS t SET %s FROM %s WHERE %s",
			t.table(table),
			strings.Join(set, ", "),
			m,
			equal(names[:by], 0),
		)
	})
}

// Remove deletes rows, many by a statement.
func (t *tx) Remove(ctx context.Context, table string, fields []column.Field, b *column.Batch) (int64, error) {
	n, err := t.joined(ctx, b, func(m string) string {
		return fmt.Sprintf("DELETE FROM %s AS t USING %s WHERE %s", t.table(table), m, equal(column.Names(fields), 0))
	})
	if err == nil {
		err = t.removed(ctx, table, n)
	}
	return n, err
}

// joined runs a statement that joins the rows of a batch, as m.
func (t *tx) joined(ctx context.Context, b *column.Batch, statement func(m string) string) (int64, error) {
	if err := t.sent(); err != nil {
		return 0, err
	}
	var changed int64
	err := batches(b.N, func(from, to int) error {
		m, args := arrays(column.Pointers(b.Cols), from, to)
		tag, err := t.conn().Exec(ctx, statement(m), args...)
		changed += tag.RowsAffected()
		return dberror.Postgres(err)
	})
	return changed, err
}

// Renew has nothing to do: values stand as they always did.
func (t *tx) Renew(context.Context, string, []column.Field) error { return nil }

// Freeze does nothing: a transaction shows its readers one state.
func (t *tx) Freeze(context.Context, int64) error { return nil }

// Repoint changes keys by one statement, so that one move never meets the result of another.
func (t *tx) Repoint(ctx context.Context, r *warehouse.Repointing) (int64, error) {
	if err := t.sent(); err != nil {
		return 0, err
	}
	table, args := arrays(r.Columns(), 0, len(r.Moves))
	stamp := ""
	if r.Stamp != "" {
		stamp = fmt.Sprintf(", %s = %d", quote(r.Stamp), r.Run)
	}
	sql := fmt.Sprintf(
		"UPDATE %s AS t SET %s = m.c1%s FROM %s WHERE t.%s = m.c0",
		t.table(r.Table),
		quote(r.Key),
		stamp,
		table,
		quote(r.Key),
	)
	if r.Time != "" {
		sql += fmt.Sprintf(" AND t.%s >= m.c2 AND (m.c3 IS NULL OR t.%s < m.c3)", quote(r.Time), quote(r.Time))
	}
	tag, err := t.conn().Exec(ctx, sql, args...)
	return tag.RowsAffected(), dberror.Postgres(err)
}

// Tally counts the rows of a table and adds up columns.
func (t *tx) Tally(ctx context.Context, table string, measures []column.Field) (warehouse.Tally, error) {
	if err := t.sent(); err != nil {
		return warehouse.Tally{}, err
	}
	return tally(ctx, t.conn(), t.table(table), measures)
}

// tally counts the rows of a table and adds up columns, which is exact here.
func tally(ctx context.Context, conn querier, table string, measures []column.Field) (warehouse.Tally, error) {
	parts := []string{"count(*)"}
	for _, f := range measures {
		parts = append(parts, fmt.Sprintf("sum(%s)::numeric", quote(f.Name)))
	}
	tally := warehouse.Tally{Totals: make([]exact.Int128, len(measures))}
	answer, err := conn.Query(ctx, "SELECT "+strings.Join(parts, ", ")+" FROM "+table, binaryForm)
	if err != nil {
		return tally, dberror.Postgres(err)
	}
	defer answer.Close()
	for answer.Next() {
		raw := answer.RawValues()
		tally.Rows = int64(binary.BigEndian.Uint64(raw[0]))
		for k, f := range measures {
			if raw[k+1] == nil {
				continue
			}
			if tally.Totals[k], err = numeric(raw[k+1], int(f.Type.Scale)); err != nil {
				return tally, fmt.Errorf("the total of %s.%s: %w", table, f.Name, err)
			}
		}
	}
	return tally, dberror.Postgres(answer.Err())
}
