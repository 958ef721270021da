package source

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"io"
	"unicode/utf8"

	"ironmonger/internal/star"
)

// fixed makes records of lines of fixed width: a field for each column of the source, without the blanks around it.
type fixed struct {
	lines  *bufio.Scanner
	spans  []star.Span
	text   bytes.Buffer
	out    *csv.Writer
	field  []string
	starts []int // of the characters of a line
}

func newFixed(in io.Reader, s *star.Source) *fixed {
	f := &fixed{lines: bufio.NewScanner(in)}
	f.lines.Buffer(nil, maxRecord)
	for _, c := range s.Columns {
		f.spans = append(f.spans, c.Chars)
	}
	f.out = csv.NewWriter(&f.text)
	return f
}

func (f *fixed) Read(b []byte) (int, error) {
	for f.text.Len() == 0 {
		if !f.lines.Scan() {
			if err := f.lines.Err(); errors.Is(err, bufio.ErrTooLong) {
				return 0, &documentError{"a line is longer than 16 MiB"}
			} else if err != nil {
				return 0, err
			}
			return 0, io.EOF
		}
		if line := bytes.TrimPrefix(f.lines.Bytes(), bom); len(bytes.TrimSpace(line)) == 0 {
			f.text.WriteByte('\n')
		} else {
			f.write(line)
		}
	}
	return f.text.Read(b)
}

// write writes a line as a record.
func (f *fixed) write(line []byte) {
	f.field = f.field[:0]
	at := func(n int) int { return min(n, len(line)) }
	if !ascii(line) {
		f.starts = f.starts[:0]
		for k := 0; k < len(line); {
			f.starts = append(f.starts, k)
			_, size := utf8.DecodeRune(line[k:])
			k += size
		}
		at = func(n int) int {
			if n >= len(f.starts) {
				return len(line)
			}
			return f.starts[n]
		}
	}
	for _, s := range f.spans {
		f.field = append(f.field, string(bytes.TrimSpace(line[at(s.From-1):at(s.To)])))
	}
	f.out.Write(f.field) // to memory
	f.out.Flush()
}

// ascii reports whether each byte is a character.
func ascii(line []byte) bool {
	for _, c := range line {
		if c >= utf8.RuneSelf {
			return false
		}
	}
	return true
}
