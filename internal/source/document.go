package source

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
)

// document makes lines of a JSON document: one for each object of the list that it is, or of the objects that stand in
// it one after the other.
type document struct {
	from  *bufio.Reader
	in    *json.Decoder
	n     int  // objects so far
	list  bool // it is a list
	begun bool
	line  bytes.Buffer
}

func newDocument(in io.Reader) *document {
	d := &document{from: bufio.NewReader(in)}
	d.in = json.NewDecoder(d.from)
	return d
}

// documentError is why a document cannot be read on.
type documentError struct{ message string }

func (e *documentError) Error() string { return e.message }

func (d *document) Read(b []byte) (int, error) {
	for d.line.Len() == 0 {
		if err := d.next(); err != nil {
			return 0, err
		}
	}
	return d.line.Read(b)
}

// Lines returns the objects of a document, or of its beginning, a line each.
func Lines(text []byte) []byte {
	lines, _ := io.ReadAll(newDocument(bytes.NewReader(text))) // where it ends does not matter
	return lines
}

// next reads an object.
func (d *document) next() error {
	if !d.begun {
		d.begun = true
		start, err := d.from.Peek(4096)
		if bytes.HasPrefix(start, bom) {
			d.from.Discard(len(bom))
			start = start[len(bom):]
		}
		if start = bytes.TrimSpace(start); len(start) > 0 && start[0] == '[' {
			d.list = true
			_, err = d.in.Token()
			return d.fail(err)
		} else if err != nil && err != io.EOF {
			return err
		}
	}
	if d.list && !d.in.More() {
		if _, err := d.in.Token(); err != nil {
			return d.fail(err)
		}
		d.list = false
		if _, err := d.in.Token(); err != io.EOF {
			return &documentError{"the document goes on behind its list"}
		}
		return io.EOF
	}
	var object json.RawMessage
	if err := d.in.Decode(&object); err == io.EOF && !d.list {
		return io.EOF
	} else if err != nil {
		return d.fail(err)
	}
	d.n++
	if err := json.Compact(&d.line, object); err != nil {
		return d.fail(err)
	}
	d.line.WriteByte('\n')
	return nil
}

func (d *document) fail(err error) error {
	if err == nil {
		return nil
	}
	var syntax *json.SyntaxError
	switch {
	case errors.As(err, &syntax):
		return &documentError{fmt.Sprintf("this is not JSON, behind %d objects: %v", d.n, err)}
	case errors.Is(err, io.ErrUnexpectedEOF), err == io.EOF:
		return &documentError{fmt.Sprintf("the document ends too early, behind %d objects", d.n)}
	}
	return err
}
