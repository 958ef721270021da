// Package spill keeps rows on disk while memory has no room for them, cut into parts that it has room for.
//
// Each row has the number that says how many were put before it. All parts share one temporary file, which has no name any more once it is open, so that nothing is left of it
// however the program ends. A part's rows come back in their order.
package spill

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"

	"ironmonger/internal/column"
)

// blockSize is how many bytes of a part are gathered before they are written.
const blockSize = 64 << 10

// Rows is rows on disk.
type Rows struct {
	file   *File
	end    int64
	fields []column.Field
	parts  []part
	N      int64 // rows put
}

// part is some of the rows: blocks in the file, and what isn't written yet.
type part struct {
	blocks []block
	buf    []byte
}

type block struct {
	at   int64
	size int
}

// New makes room for rows with such fields, in so many parts.
func New(fields []column.Field, parts int) (*Rows, error) {
	file, err := NewFile()
	if err != nil {
		return nil, err
	}
	return &Rows{file: file, fields: fields, parts: make([]part, parts)}, nil
}

// File is a temporary file. It goes when it is closed.
type File struct {
	*os.File
	named bool // a file that is open can't lose its name here
}

// NewFile opens an empty one, where the system keeps such files.
func NewFile() (*File, error) {
	file, err := os.CreateTemp("", "ironmonger-*")
	if err != nil {
		return nil, noRoom(err)
	}
	return &File{file, os.Remove(file.Name()) != nil}, nil
}

// Close gives the disk back.
func (f *File) Close() error {
	err := f.File.Close()
	if f.named {
		err = errors.Join(err, os.Remove(f.Name()))
	}
	return err
}

// Put writes bytes to a place in the file.
func (f *File) Put(b []byte, at int64) error {
	if _, err := f.WriteAt(b, at); err != nil {
		return noRoom(err)
	}
	return nil
}

func noRoom(err error) error {
	return fmt.Errorf("what memory has no room for can't be kept on disk: %w", err)
}

// Put adds row i of columns with the types of the fields to a part.
func (r *Rows) Put(to int, cols []*column.Column, i int) error {
	p := &r.parts[to]
	p.buf = column.AppendRow(binary.LittleEndian.AppendUint64(p.buf, uint64(r.N)), cols, i)
	r.N++
	if len(p.buf) < blockSize {
		return nil
	}
	return r.write(p)
}

// write writes what a part has gathered.
func (r *Rows) write(p *part) error {
	if len(p.buf) == 0 {
		return nil
	}
	if err := r.file.Put(p.buf, r.end); err != nil {
		return err
	}
	p.blocks = append(p.blocks, block{r.end, len(p.buf)})
	r.end += int64(len(p.buf))
	p.buf = p.buf[:0]
	return nil
}

// Each calls f with the rows of a part and their numbers, some at a time, in order. Both are used again for the next, but
// not the texts in the rows.
func (r *Rows) Each(of int, f func(b *column.Batch, number []int64) error) error {
	p := &r.parts[of]
	if err := r.write(p); err != nil {
		return err
	}
	p.buf = nil
	b := column.NewBatch(r.fields)
	cols := column.Pointers(b.Cols)
	var buf []byte
	var number []int64
	for _, k := range p.blocks {
		if cap(buf) < k.size {
			buf = make([]byte, k.size)
		}
		buf = buf[:k.size]
		if _, err := r.file.ReadAt(buf, k.at); err != nil {
			return fmt.Errorf("rows that were kept on disk can't be read: %w", err)
		}
		b.Reset(0)
		number = number[:0]
		text := string(buf)
		for rest := text; rest != ""; {
			number = append(number, int64(binary.LittleEndian.Uint64(buf[len(text)-len(rest):])))
			rest = column.TakeRow(rest[8:], cols)
		}
		b.N = len(number)
		if err := f(b, number); err != nil {
			return err
		}
	}
	return nil
}

// Parts is the number of parts.
func (r *Rows) Parts() int { return len(r.parts) }

// Close gives the disk back.
func (r *Rows) Close() error { return r.file.Close() }
