// Package parquetfile writes rows of typed columns to Parquet files, exactly: decimals are decimals, dates and times those of
// no zone.
package parquetfile

import (
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"reflect"

	"github.com/parquet-go/parquet-go"

	"ironmonger/internal/column"
)

// Writer writes a file. Its WriteRows writes rows that [Row] has formed.
type Writer struct{ *parquet.Writer }

// New begins a file with the columns in their order, which the schema of a struct keeps.
func New(to io.Writer, fields []column.Field) (*Writer, error) {
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
			switch {
			case f.Type.Wide():
				t = reflect.ArrayOf(bytesFor(f.Type), reflect.TypeFor[byte]())
			case f.Type.Precision < 10:
				t = reflect.TypeFor[int32]()
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
	return &Writer{parquet.NewWriter(to, schema, parquet.Compression(&parquet.Zstd))}, nil
}

// Row forms row i of columns in the place of another row, which may be nil.
func Row(row parquet.Row, cols []*column.Column, i int) parquet.Row {
	row = row[:0]
	for k, c := range cols {
		row = append(row, valueOf(c, i).Level(0, defined(c, i), k))
	}
	return row
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
		return parquet.FixedLenByteArrayValue(b[16-bytesFor(c.Type):])
	case c.Type.Kind == column.Decimal && c.Type.Precision < 10:
		return parquet.Int32Value(int32(c.Int[i]))
	}
	return parquet.Int64Value(c.Int[i])
}

// bytesFor is how many bytes a decimal of more digits than an integer has takes at least.
func bytesFor(t column.Type) int {
	bits := float64(t.Precision)*math.Log2(10) + 1 // with the sign
	return int(math.Ceil(bits / 8))
}
