package spill

import (
	"encoding/binary"
	"fmt"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
)

// Table is rows on disk that are read by their numbers, in any order.
type Table struct {
	file    *File
	fields  []column.Field
	end     int64
	buf     []byte
	row     []byte
	offsets []int64 // where each group of rows begins
	N       int     // rows appended
}

const (
	group   = 16       // so many rows have one offset
	farther = 32 << 10 // bytes between two groups that are not worth reading
	longest = 1 << 20  // bytes that are read at a time
)

// NewTable makes room for rows with such fields.
func NewTable(fields []column.Field) (*Table, error) {
	file, err := NewFile()
	return &Table{file: file, fields: fields}, err
}

// Append adds row i of columns with the types of the fields. The first row has the number 0.
func (t *Table) Append(cols []*column.Column, i int) error {
	if t.N%group == 0 {
		t.offsets = append(t.offsets, t.end+int64(len(t.buf)))
	}
	t.N++
	t.row = digest.AppendRow(t.row[:0], cols, i)
	t.buf = binary.AppendUvarint(t.buf, uint64(len(t.row)))
	t.buf = append(t.buf, t.row...)
	if len(t.buf) < longest {
		return nil
	}
	return t.flush()
}

func (t *Table) flush() error {
	err := t.file.Put(t.buf, t.end)
	t.end += int64(len(t.buf))
	t.buf = t.buf[:0]
	return err
}

// Close says that all rows have been appended: any number of goroutines may read them from then on.
func (t *Table) Close() error {
	err := t.flush()
	t.offsets = append(t.offsets, t.end)
	t.buf, t.row = nil, nil
	return err
}

// Reader is the buffers of a goroutine.
type Reader struct{ buf []byte }

// Read adds rows to a batch of the fields. Their numbers ascend.
func (t *Table) Read(r *Reader, rows []int32, b *column.Batch) error {
	cols := column.Pointers(b.Cols)
	for len(rows) > 0 {
		first := int(rows[0]) / group
		n, last := 1, first
		for n < len(rows) {
			next := int(rows[n]) / group
			if t.offsets[next]-t.offsets[last+1] > farther && next > last || t.offsets[next+1]-t.offsets[first] > longest {
				break
			}
			last = next
			n++
		}
		size := int(t.offsets[last+1] - t.offsets[first])
		if cap(r.buf) < size {
			r.buf = make([]byte, size)
		}
		if _, err := t.file.ReadAt(r.buf[:size], t.offsets[first]); err != nil {
			return fmt.Errorf("rows that were kept on disk cannot be read: %w", err)
		}
		t.take(r.buf[:size], first*group, rows[:n], cols)
		b.N += n
		rows = rows[n:]
	}
	return nil
}

// take adds rows to columns; buf has the rows from a number on.
func (t *Table) take(buf []byte, from int, rows []int32, cols []*column.Column) {
	for _, row := range rows {
		for {
			size, n := binary.Uvarint(buf)
			is := buf[n : n+int(size)]
			if buf = buf[n+int(size):]; from == int(row) {
				digest.TakeRow(string(is), cols)
				from++
				break
			}
			from++
		}
	}
}

// Drop returns the disk back.
func (t *Table) Drop() error { return t.file.Close() }
