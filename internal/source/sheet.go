package source

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"strings"

	"ironmonger/internal/star"
	"ironmonger/internal/workbook"
)

// In a record that was made of the cells of a workbook, a mark stands before a value that is written as this program
// writes it, whatever the source says of texts; and line breaks in a cell are another one, so that each row is one
// line. No text of XML can have these characters.
const (
	typedMark = '\x01'
	breakMark = '\x00'
)

// sheet makes records of the rows of a workbook, each on the line that has its number.
type sheet struct {
	rows   *workbook.Rows
	line   int // lines so far
	text   bytes.Buffer
	out    *csv.Writer
	fields []string
}

// mostInMemory is how many bytes a workbook may have that cannot be read where it is, since it is compressed or in an
// archive.
const mostInMemory = 512 << 20

// newSheet opens the sheet of a workbook.
func newSheet(t *content, s *star.Source) (*sheet, error) {
	book, err := t.workbook()
	if err != nil {
		return nil, err
	}
	area, err := book.Find(s.Sheet.Text, s.Range.Text)
	if err != nil {
		return nil, &documentError{err.Error()}
	}
	rows, err := book.Rows(area)
	if err != nil {
		return nil, &documentError{err.Error()}
	}
	x := &sheet{rows: rows}
	x.out = csv.NewWriter(&x.text)
	return x, nil
}

// workbook opens a workbook: where it is, or in memory if it is compressed or in an archive.
func (t *content) workbook() (*workbook.Book, error) {
	var at io.ReaderAt = (*counterAt)(t)
	size := t.info.Size()
	if t.compress != "" {
		text, err := io.ReadAll(io.LimitReader(t, mostInMemory+1))
		if err != nil {
			return nil, err
		}
		if len(text) > mostInMemory {
			return nil, &documentError{fmt.Sprintf("a compressed workbook of more than %d MiB", mostInMemory>>20)}
		}
		at, size = bytes.NewReader(text), int64(len(text))
	}
	book, err := workbook.Open(at, size)
	if err != nil {
		return nil, &documentError{err.Error()}
	}
	return book, nil
}

func (x *sheet) Read(b []byte) (int, error) {
	for x.text.Len() == 0 {
		row, cells, err := x.rows.Next()
		if err == io.EOF {
			return 0, err
		}
		if err != nil {
			return 0, &documentError{err.Error()}
		}
		for ; x.line < row-1; x.line++ {
			x.text.WriteByte('\n')
		}
		x.fields = x.fields[:0]
		for _, c := range cells {
			for len(x.fields) < c.Column {
				x.fields = append(x.fields, "")
			}
			text := c.Text
			if strings.ContainsAny(text, "\r\n\x00\x01") {
				text = strings.NewReplacer("\r\n", "\x00", "\n", "\x00", "\r", "\x00", "\x00", "", "\x01", "").Replace(text)
			}
			if c.Typed {
				text = string(typedMark) + text
			}
			x.fields = append(x.fields, text)
		}
		x.out.Write(x.fields) // to memory
		x.out.Flush()
		x.line++
	}
	return x.text.Read(b)
}

// asInCell takes the marks off a field.
func asInCell(s string) (text string, typed bool) {
	if strings.IndexByte(s, breakMark) >= 0 {
		s = strings.ReplaceAll(s, string(breakMark), "\n")
	}
	return strings.CutPrefix(s, string(typedMark))
}

// withoutMarks takes the marks off a record.
func withoutMarks(record string) string {
	return strings.NewReplacer(string(typedMark), "", string(breakMark), " ").Replace(record)
}
