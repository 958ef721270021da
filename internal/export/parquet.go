package export

import (
	"github.com/parquet-go/parquet-go"

	"ironmonger/internal/column"
	"ironmonger/internal/parquetfile"
)

type parquetWriter struct{ *parquetfile.Writer }

// parquetRows are rows of a Parquet file.
type parquetRows []parquet.Row

func (w parquetWriter) form(b *column.Batch, f *formed) error {
	f.rows = column.Resized(f.rows, b.N)
	cols := column.Pointers(b.Cols)
	for i := range b.N {
		f.rows[i] = parquetfile.Row(f.rows[i], cols, i)
	}
	return nil
}

func (w parquetWriter) write(f *formed) error {
	_, err := w.WriteRows(f.rows)
	return err
}

func (w parquetWriter) close() error { return w.Close() }
