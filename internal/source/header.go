package source

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"strings"

	"ironmonger/internal/diag"
)

// mostAbove is how many bytes may stand above a header.
const mostAbove = 1 << 20

// toHeader passes over the lines above the header, where the source says that there are some. They need not be CSV.
func (f *Files) toHeader(t *content) error {
	h := f.csv.Header
	in := bufio.NewReaderSize(t.from, 64<<10)
	passed := 0
	for {
		line, err := wholeLine(in)
		if err != nil && err != io.EOF {
			return err
		}
		if t.above == 0 {
			line = bytes.TrimPrefix(line, bom)
		}
		if int64(h.Line) == t.above+1 || h.Line == 0 && f.begins(line, h.Begins) {
			t.from = io.MultiReader(bytes.NewReader(line), in)
			return nil
		}
		if len(line) > 0 {
			t.above++
		}
		if passed += len(line); err == io.EOF || passed > mostAbove {
			return f.noHeader(t.above)
		}
	}
}

// headerError is why the header was not found.
type headerError struct{ message string }

func (e *headerError) Error() string { return e.message }

// noHeader says that the header was not found among so many lines.
func (f *Files) noHeader(lines int64) error {
	if h := f.csv.Header; h.Line > 0 {
		return &headerError{fmt.Sprintf("the header should be on line %d, and the file has %d lines", h.Line, lines)}
	}
	return &headerError{"no line begins with the columns " + diag.Printable(strings.Join(f.csv.Header.Begins, ", "))}
}

var errLongLine = &headerError{"a line above the header is longer than 1 MiB"}

// wholeLine reads a line with its end; io.EOF says that it is the last.
func wholeLine(in *bufio.Reader) ([]byte, error) {
	var line []byte
	for {
		part, err := in.ReadSlice('\n')
		if line = append(line, part...); err != bufio.ErrBufferFull {
			return line, err
		}
		if len(line) > mostAbove {
			return nil, errLongLine
		}
	}
}

// begins reports whether the first fields of a line are some names, blanks around them aside.
func (f *Files) begins(line []byte, names []string) bool {
	record, err := f.records(bytes.NewReader(line)).Read()
	if err != nil || len(record) < len(names) {
		return false
	}
	for k, name := range names {
		if strings.TrimSpace(f.field(record[k])) != name {
			return false
		}
	}
	return true
}
