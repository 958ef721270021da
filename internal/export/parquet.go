package export

import (
	"encoding/binary"
	"fmt"
	"io"
	"reflect"

	"github.com/parquet-go/parquet-go"

	"ironmonger/internal/column"
)

type parquetWriter struct{ *parquet.Writer }

// parquetRows are rows of a Parquet file.
type parquetRows []parquet.Row

// newParquet makes the schema of the columns in their order, which a struct keeps.
func newParquet(to io.Writer, fields []column.Field) (*parquetWriter, error) {
	var members []reflect.StructField
	for k, f := range fields {
		t, tag := reflect.TypeFor[int64](), ""
		switch f.Type.Kind {
		case column.Integer:
		case column.Boolean:
			t = reflect.TypeFor[bool]()
		case column.Date:
			t, tag = reflect.TypeFor[int32](), ",date"
		case column.Timestamp:
			tag = ",timestamp(microsecond:local)"
		case column.Time:
			tag = ",time(microsecond)"
		case column.Double:
			t = reflect.TypeFor[float64]()
		case column.Decimal:
			tag = fmt.Sprintf(",decimal(%d:%d)", f.Type.Scale, f.Type.Precision)
			if f.Type.Wide() {
				t = reflect.TypeFor[[16]byte]()
			}
		case column.Text:
			t = reflect.TypeFor[string]()
		default:
			return nil, fmt.Errorf("column %s: Parquet has no type for %s", f.Name, f.Type)
		}
		members = append(members, reflect.StructField{
			Name: fmt.Sprintf("F%d", k), Type: t, Tag: reflect.StructTag(fmt.Sprintf("parquet:%q", f.Name+",optional"+tag)),
		})
	}
	schema := parquet.SchemaOf(reflect.New(reflect.StructOf(members)).Interface())
	return &parquetWriter{parquet.NewWriter(to, schema, parquet.Compression(&parquet.Zstd))}, nil
}

func (w *parquetWriter) form(b *column.Batch, f *formed) error {
	f.rows = column.Resized(f.rows, b.N)
	for i := range b.N {
		row := f.rows[i][:0]
		for k := range b.Cols {
			row = append(row, valueOf(&b.Cols[k], i).Level(0, defined(&b.Cols[k], i), k))
		}
		f.rows[i] = row
	}
	return nil
}

func (w *parquetWriter) write(f *formed) error {
	_, err := w.WriteRows(f.rows)
	return err
}

func defined(c *column.Column, i int) int {
	if c.Null[i] {
		return 0
	}
	return 1
}

func valueOf(c *column.Column, i int) parquet.Value {
	switch {
	case c.Null[i]:
		return parquet.NullValue()
	case c.Type.Kind == column.Text:
		return parquet.ByteArrayValue([]byte(c.Text[i]))
	case c.Type.Kind == column.Double:
		return parquet.DoubleValue(c.Float[i])
	case c.Type.Kind == column.Boolean:
		return parquet.BooleanValue(c.Int[i] != 0)
	case c.Type.Kind == column.Date:
		return parquet.Int32Value(int32(c.Int[i]))
	case c.Type.Wide():
		var b [16]byte
		binary.BigEndian.PutUint64(b[:8], uint64(c.Wide[i].Hi))
		binary.BigEndian.PutUint64(b[8:], c.Wide[i].Lo)
		return parquet.FixedLenByteArrayValue(b[:])
	}
	return parquet.Int64Value(c.Int[i])
}

func (w *parquetWriter) close() error { return w.Close() }
