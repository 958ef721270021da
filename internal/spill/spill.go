// Package spill keeps rows on disk while memory has no room for them, cut into parts that it has room for.
//
// Each row has the number that says how many were put before it. All parts share one temporary file, which has no
// name, so that nothing is left of it however the program ends. A part's rows come back in their order.
package spill

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"iter"
	"os"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
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
	err    error // why some couldn't be
}

// part is some of the rows: blocks in the file, and what is not written yet.
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

// File is a temporary file. It goes when it is closed, or with the process.
type File struct {
	*os.File
	named bool // a file that is open can't be without a name here
}

// NewFile opens an empty one, where the system keeps such files.
func NewFile() (*File, error) {
	if file := nameless(os.TempDir()); file != nil {
		return &File{file, false}, nil
	}
	file, err := os.CreateTemp("", "ironmonger-*")
	if err != nil {
		return nil, noRoom(err)
	}
	return &File{file, os.Remove(file.Name()) != nil}, nil
}

// Close returns the disk back.
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
	return fmt.Errorf("what memory has no room for cannot be kept on disk: %w", err)
}

// Put adds row i of columns with the types of the fields to a part. What goes wrong is told when rows are read.
func (r *Rows) Put(to int, cols []*column.Column, i int) {
	p := &r.parts[to]
	p.buf = digest.AppendRow(binary.LittleEndian.AppendUint64(p.buf, uint64(r.N)), cols, i)
	r.N++
	if len(p.buf) >= blockSize {
		r.write(p)
	}
}

// write writes what a part has gathered.
func (r *Rows) write(p *part) {
	if len(p.buf) == 0 || r.err != nil {
		p.buf = p.buf[:0]
		return
	}
	r.err = r.file.Put(p.buf, r.end)
	p.blocks = append(p.blocks, block{r.end, len(p.buf)})
	r.end += int64(len(p.buf))
	p.buf = p.buf[:0]
}

// Part returns the rows of a part as a source: their fields, and the number. The texts of its batches stay when a
// batch is filled again. Nothing may be put meanwhile.
func (r *Rows) Part(n int) column.Source { return source{r, n} }

type source struct {
	of   *Rows
	part int
}

func (s source) Fields() []column.Field {
	return append(
		s.of.fields[:len(s.of.fields):len(s.of.fields)],
		column.Field{Name: "number", Type: column.Type{Kind: column.Integer}},
	)
}

func (s source) Pieces(context.Context) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		p := &s.of.parts[s.part]
		if s.of.write(p); s.of.err != nil {
			yield(nil, s.of.err)
			return
		}
		p.buf = nil
		for _, k := range p.blocks {
			if !yield(piece{s.of, k}, nil) {
				return
			}
		}
	}
}

type piece struct {
	of *Rows
	block
}

func (p piece) Fill(b *column.Batch) error {
	buf := make([]byte, p.size)
	if _, err := p.of.file.ReadAt(buf, p.at); err != nil {
		return fmt.Errorf("rows that were kept on disk cannot be read: %w", err)
	}
	b.Reset(0)
	cols := column.Pointers(b.Cols)
	text, last := string(buf), len(cols)-1
	for rest := text; rest != ""; {
		cols[last].AppendInt(int64(binary.LittleEndian.Uint64(buf[len(text)-len(rest):])))
		rest = digest.TakeRow(rest[8:], cols[:last])
	}
	b.N = len(cols[last].Int)
	return nil
}

// Parts is the number of parts.
func (r *Rows) Parts() int { return len(r.parts) }

// Close returns the disk back.
func (r *Rows) Close() error { return r.file.Close() }
