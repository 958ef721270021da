// Package export writes rows to files that other programs read: CSV, JSON, JSON Lines, Parquet, and the holidays of a
// calendar as iCalendar.
//
// Null is an empty field in CSV, and null elsewhere. Dates are as in ISO 8601, decimals exact: as text with all their
// places in CSV, as numbers in JSON, as decimals in Parquet.
package export

import (
	"bufio"
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"runtime"

	"ironmonger/internal/column"
	"ironmonger/internal/parquetfile"
	"ironmonger/internal/pipeline"
)

// Format is a form of file.
type Format string

// The formats.
const (
	CSV       Format = "csv"
	JSON      Format = "json"
	JSONLines Format = "json_lines"
	Parquet   Format = "parquet"
)

// writer writes batches of rows. Any number of goroutines may form rows at a time.
type writer interface {
	form(b *column.Batch, to *formed) error
	write(f *formed) error
	close() error
}

// formed is the rows of a batch in the form of a file. A writer makes it in one of its fields.
type formed struct {
	batch *column.Batch
	text  bytes.Buffer
	line  []byte
	rows  parquetRows
}

// Write writes all rows of a source.
func Write(ctx context.Context, to io.Writer, format Format, rows column.Source) error {
	out := bufio.NewWriterSize(to, 1<<16)
	var w writer
	switch fields := rows.Fields(); format {
	case CSV:
		w = newCSV(out, fields)
	case JSON, JSONLines:
		w = newJSON(out, fields, format == JSON)
	case Parquet:
		file, err := parquetfile.New(out, fields)
		if err != nil {
			return err
		}
		w = parquetWriter{file}
	default:
		return fmt.Errorf("there is no format %s", format)
	}
	fresh := func() *formed { return &formed{batch: column.NewBatch(rows.Fields())} }
	work := func(_ int, p column.Piece, f *formed) error {
		f.text.Reset()
		if err := p.Fill(f.batch); err != nil {
			return err
		}
		return w.form(f.batch, f)
	}
	if err := pipeline.Each(ctx, rows, runtime.GOMAXPROCS(0), fresh, work, w.write); err != nil {
		return err
	}
	if err := w.close(); err != nil {
		return err
	}
	return out.Flush()
}

type csvWriter struct{ to *bufio.Writer }

func newCSV(to *bufio.Writer, fields []column.Field) csvWriter {
	head := csv.NewWriter(to)
	head.Write(column.Names(fields)) // the error comes back when the file is flushed
	head.Flush()
	return csvWriter{to}
}

func (w csvWriter) form(b *column.Batch, f *formed) error {
	out := csv.NewWriter(&f.text)
	record := make([]string, len(b.Cols))
	for i := range b.N {
		for k := range b.Cols {
			record[k] = b.Cols[k].Value(i)
		}
		if err := out.Write(record); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

func (w csvWriter) write(f *formed) error {
	_, err := w.to.Write(f.text.Bytes())
	return err
}

func (w csvWriter) close() error { return nil }

type jsonWriter struct {
	to    *bufio.Writer
	names [][]byte
	list  bool // one list, not a line for each row
	begun bool
}

func newJSON(to *bufio.Writer, fields []column.Field, list bool) *jsonWriter {
	w := &jsonWriter{to: to, list: list}
	for _, f := range fields {
		name, _ := json.Marshal(f.Name) // a string is always JSON
		w.names = append(w.names, append(name, ':'))
	}
	return w
}

func (w *jsonWriter) form(b *column.Batch, f *formed) error {
	for i := range b.N {
		line := f.line[:0]
		if w.list && i > 0 {
			line = append(line, ",\n"...)
		}
		line = append(line, '{')
		for k := range b.Cols {
			if k > 0 {
				line = append(line, ',')
			}
			line = appendJSON(append(line, w.names[k]...), &b.Cols[k], i)
		}
		if line = append(line, '}'); !w.list {
			line = append(line, '\n')
		}
		f.line = line
		f.text.Write(line)
	}
	return nil
}

func appendJSON(line []byte, c *column.Column, i int) []byte {
	switch {
	case c.Null[i]:
		return append(line, "null"...)
	case c.Type.Kind == column.Integer, c.Type.Kind == column.Decimal, c.Type.Kind == column.Boolean, c.Type.Kind == column.Double:
		return c.AppendValue(line, i)
	}
	s, _ := json.Marshal(c.Value(i))
	return append(line, s...)
}

func (w *jsonWriter) write(f *formed) error {
	if w.list && f.text.Len() > 0 {
		before := "[\n"
		if w.begun {
			before = ",\n"
		}
		w.begun = true
		w.to.WriteString(before) // the error comes back with the next one
	}
	_, err := w.to.Write(f.text.Bytes())
	return err
}

func (w *jsonWriter) close() error {
	var err error
	switch {
	case w.list && !w.begun:
		_, err = w.to.WriteString("[]\n")
	case w.list:
		_, err = w.to.WriteString("\n]\n")
	}
	return err
}
