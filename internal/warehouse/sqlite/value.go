package sqlite

import (
	"fmt"
	"math"
	"unsafe"

	"zombiezen.com/go/sqlite"

	"ironmonger/internal/column"
)

// exactDigits is how many decimal digits a double keeps, so that a decimal of so many can stand as a
// number; maxScale is the greatest power of ten that a double has exactly.
const (
	exactDigits = 15
	maxScale    = 22
)

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
		if v, ok := c.Exact(i).Int64(); ok && v < exactBound && v > -exactBound && c.Type.Scale <= maxScale {
			// both are exact in a double, so the quotient is the double nearest to the decimal
			stmt.BindFloat(param, float64(v)/powers[c.Type.Scale])
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

// read reads a value of an answer into row i of c.
func read(stmt *sqlite.Stmt, at int, r *column.Reader, c *column.Column, i int) error {
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
	case column.Decimal:
		if kind == sqlite.TypeFloat && c.Type.Scale <= maxScale {
			v := math.Round(stmt.ColumnFloat(at) * powers[c.Type.Scale])
			if math.Abs(v) < float64(exactBound) {
				if c.Type.Wide() {
					c.Wide[i] = column.Wide(int64(v))
				} else {
					c.Int[i] = int64(v)
				}
				return nil
			}
		}
		if kind == sqlite.TypeInteger {
			if v, ok := column.Wide(stmt.ColumnInt64(at)).Rescale(0, int(c.Type.Scale)); ok && v.Fits(int(c.Type.Precision)) {
				if c.Type.Wide() {
					c.Wide[i] = v
				} else {
					c.Int[i], _ = v.Int64()
				}
				return nil
			}
		}
	}
	text := stmt.ColumnText(at)
	if err := r.Set(c, i, text); err != nil {
		return fmt.Errorf("column %s: %s %v", stmt.ColumnName(at), text, err)
	}
	return nil
}
