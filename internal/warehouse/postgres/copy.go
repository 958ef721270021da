package postgres

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"math/bits"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/dberror"
	"ironmonger/internal/exact"
	"ironmonger/internal/warehouse"
)

// epoch is 2000-01-01, from which PostgreSQL counts, in days from 1970-01-01.
const epoch = 10957

// appender collects rows in the binary form of COPY and sends them a chunk at a time.
type appender struct {
	ctx    context.Context
	t      *tx
	sql    string
	fields []column.Field
	buf    []byte
	sent   []byte // the buffer before, perhaps on its way
	rows   int64  // in buf
	added  int64
}

// chunk is how many bytes are collected before they are sent.
const chunk = 1 << 20

var header = append([]byte("PGCOPY\n\xff\r\n\x00"), 0, 0, 0, 0, 0, 0, 0, 0)

// Append starts adding rows.
func (t *tx) Append(ctx context.Context, table string, fields []column.Field) (warehouse.Appender, error) {
	how := "FORMAT binary"
	if t.made[table] {
		how += ", FREEZE" // nobody else sees the table yet, so that its rows need no look at who wrote them
	}
	return &appender{ctx: ctx, t: t, fields: fields,
		sql: fmt.Sprintf(
			"COPY %s (%s) FROM STDIN (%s)",
			t.table(table),
			quoteAll(column.Names(fields), "%"),
			how,
		)}, nil
}

func (a *appender) Append(cols []*column.Column, rows []int32) error {
	for _, i := range rows {
		if len(a.buf) == 0 {
			a.buf = append(a.buf, header...)
		}
		a.buf = binary.BigEndian.AppendUint16(a.buf, uint16(len(cols)))
		for _, c := range cols {
			a.buf = appendField(a.buf, c, int(i))
		}
		a.rows++
		if len(a.buf) >= chunk {
			if err := a.Flush(); err != nil {
				return err
			}
		}
	}
	return nil
}

// Flush begins to send what has been collected. Whatever uses the connection next waits for it.
func (a *appender) Flush() error {
	if a.rows == 0 {
		return nil
	}
	conn := a.t.conn().Conn().PgConn() // the buffer sent before is free now, too
	if a.t.failed != nil {
		return dberror.Postgres(a.t.failed)
	}
	buf := binary.BigEndian.AppendUint16(a.buf, 0xffff)
	a.buf, a.sent, a.rows = a.sent[:0], buf, 0
	done := make(chan error, 1)
	a.t.sending = done
	go func() {
		tag, err := conn.CopyFrom(a.ctx, bytes.NewReader(buf), a.sql)
		a.added += tag.RowsAffected()
		done <- err
	}()
	return nil
}

func (a *appender) Close() (int64, error) {
	err := a.Flush()
	a.t.conn()
	return a.added, cmp.Or(err, dberror.Postgres(a.t.failed))
}

// appendField writes a value with its length.
func appendField(b []byte, c *column.Column, i int) []byte {
	be := binary.BigEndian
	if c.Null[i] {
		return be.AppendUint32(b, 0xffffffff)
	}
	switch c.Type.Kind {
	case column.Integer:
		return be.AppendUint64(be.AppendUint32(b, 8), uint64(c.Int[i]))
	case column.Double:
		return be.AppendUint64(be.AppendUint32(b, 8), math.Float64bits(c.Float[i]))
	case column.Text:
		return append(be.AppendUint32(b, uint32(len(c.Text[i]))), c.Text[i]...)
	case column.Boolean:
		return append(be.AppendUint32(b, 1), byte(c.Int[i]))
	case column.Date:
		return be.AppendUint32(be.AppendUint32(b, 4), uint32(int32(c.Int[i]-epoch)))
	case column.Timestamp:
		return be.AppendUint64(be.AppendUint32(b, 8), uint64(c.Int[i]-epoch*civil.DayMicros))
	case column.Time:
		return be.AppendUint64(be.AppendUint32(b, 8), uint64(c.Int[i]))
	}
	return appendNumeric(b, c.Exact(i), int(c.Type.Scale))
}

// appendNumeric writes a decimal as PostgreSQL does: digits to the base 10,000, the first of them times
// 10,000^weight, so that the point stands between two of them.
func appendNumeric(b []byte, x exact.Int128, scale int) []byte {
	sign := uint16(0)
	if x.Sign() < 0 {
		x, sign = x.Neg(), 0x4000
	}
	var digits [12]uint16 // the last first
	n := 0
	pad := (4 - scale%4) % 4 // decimal digits that fill up the last one behind the point
	unit := [...]int64{1, 10, 100, 1000}[pad]
	for first := true; x.Sign() > 0; first = false {
		if first && pad > 0 { // the last digit has 4-pad decimal digits of its own
			q, r := divMod(x, 10000/unit)
			digits[n], x = uint16(r*unit), q
		} else {
			q, r := divMod(x, 10000)
			digits[n], x = uint16(r), q
		}
		n++
	}
	weight := n - 1 - (scale+pad)/4
	low := 0
	for low < n && digits[low] == 0 {
		low++
	}
	be := binary.BigEndian
	b = be.AppendUint32(b, uint32(8+2*(n-low)))
	b = be.AppendUint16(b, uint16(n-low))
	b = be.AppendUint16(b, uint16(int16(weight)))
	b = be.AppendUint16(b, sign)
	b = be.AppendUint16(b, uint16(scale))
	for k := n - 1; k >= low; k-- {
		b = be.AppendUint16(b, digits[k])
	}
	return b
}

// divMod divides a number that is not negative.
func divMod(x exact.Int128, by int64) (exact.Int128, int64) {
	hi, lo := uint64(x.Hi), x.Lo
	q := exact.Int128{Hi: int64(hi / uint64(by))}
	var r uint64
	q.Lo, r = bits.Div64(hi%uint64(by), lo, uint64(by))
	return q, int64(r)
}
