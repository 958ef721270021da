package sqlite

import (
	"fmt"
	"math"
	"unsafe"

	"zombiezen.com/go/sqlite"

	"ironmonger/internal/column"
	"ironmonger/internal/parse"
)

// maxScale is the greatest power of ten that a double has exactly.
const maxScale = 22

var exactBound = int64(1e15)

// binder binds values of columns; its buffer makes text without allocation.
type binder struct{ buf []byte }

func (b *binder) text(stmt *sqlite.Stmt, param int) {
	stmt.BindText(param, unsafe.String(unsafe.SliceData(b.buf), len(b.buf))) // BindText copies
}

func (b *binder) bind(stmt *sqlite.Stmt, param int, c *column.Column, i int) {
	if c.Null[i] {
		stmt.BindNull(param)
		return
	}
	switch c.Type.Kind {
	case column.Integer, column.Boolean:
		stmt.BindInt64(param, c.Int[i])
	case column.Text:
		stmt.BindText(param, c.Text[i])
	case column.Double:
		stmt.BindFloat(param, c.Float[i])
	case column.Decimal:
		switch t := c.Type; {
		case t.Precision <= exactDigits:
			// both are exact in a double, so the quotient is the double nearest to the decimal
			stmt.BindFloat(param, float64(c.Int[i])/powers[t.Scale])
			return
		case t.Precision <= unitDigits:
			stmt.BindInt64(param, c.Int[i])
			return
		}
		fallthrough
	default:
		b.buf = c.AppendValue(b.buf[:0], i)
		b.text(stmt, param)
	}
}

// bindInt binds a value of a kind that stands in an int64, which is not null.
func (b *binder) bindInt(stmt *sqlite.Stmt, param int, kind column.Kind, v int64) {
	if kind == column.Integer || kind == column.Boolean {
		stmt.BindInt64(param, v)
		return
	}
	b.buf = column.AppendInt(b.buf[:0], kind, v)
	b.text(stmt, param)
}

var powers = func() (p [maxScale + 1]float64) {
	p[0] = 1
	for i := 1; i < len(p); i++ {
		p[i] = p[i-1] * 10
	}
	return
}()

// nearest returns the decimal of that scale, unscaled, that a double stands for, if it is one of at most 15 digits.
func nearest(v float64, scale int) (int64, bool) {
	if scale > maxScale {
		return 0, false
	}
	v = math.Round(v * powers[scale])
	return int64(v), math.Abs(v) < float64(exactBound)
}

// read reads a value of an answer into row i of c; units says that integers of decimals are units of the last place.
func read(stmt *sqlite.Stmt, at int, r *parse.Reader, c *column.Column, i int, units bool) error {
	if c.Type.Kind == column.Decimal {
		return readDecimal(stmt, at, r, c, i, units)
	}
	kind := stmt.ColumnType(at)
	if kind == sqlite.TypeNull {
		c.SetNull(i)
		return nil
	}
	c.Null[i] = false
	switch c.Type.Kind {
	case column.Integer, column.Boolean:
		if kind == sqlite.TypeInteger {
			c.Int[i] = stmt.ColumnInt64(at)
			return nil
		}
	case column.Text:
		c.Text[i] = stmt.ColumnText(at)
		return nil
	case column.Double:
		if kind != sqlite.TypeText {
			c.Float[i] = stmt.ColumnFloat(at)
			return nil
		}
	}
	text := stmt.ColumnText(at)
	if err := r.Set(c, i, text); err != nil {
		return fmt.Errorf("column %s: %s %v", stmt.ColumnName(at), text, err)
	}
	return nil
}
