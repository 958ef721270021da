package source

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"ironmonger/internal/markup"
)

// ElementText is the name that the text of an element has in its object, if it has attributes or elements, too.
const ElementText = "text()"

// xmlRecords makes lines of an XML document: an object of JSON for each element of some path. Elements and attributes
// are its values, as text; elements of the same name are a list.
type xmlRecords struct {
	in   *markup.Decoder
	path []string // of the elements, from the outermost
	open []string // the elements around the place that has been reached
	n    int      // objects so far
	line bytes.Buffer

	around bool   // the element was met in which the rows should be
	other  string // an element that is there instead of them
}

func newXMLRecords(in io.Reader, path string) *xmlRecords {
	return &xmlRecords{path: strings.Split(path, "."), in: markup.NewDecoder(in)}
}

func (x *xmlRecords) Read(b []byte) (int, error) {
	for x.line.Len() == 0 {
		if err := x.next(); err == io.EOF {
			return 0, err
		} else if err != nil {
			return 0, x.fail(err)
		}
	}
	return x.line.Read(b)
}

// next reads an object, or a token outside of them.
func (x *xmlRecords) next() error {
	token, err := x.in.Token()
	if err == io.EOF {
		return x.ended()
	}
	if err != nil {
		return err
	}
	switch e := token.(type) {
	case xml.StartElement:
		x.open = append(x.open, e.Name.Local)
		if !slices.Equal(x.open, x.path) {
			x.meet(e.Name.Local)
			return nil
		}
		x.open = x.open[:len(x.open)-1]
		object, err := x.element(e, x.in.Offset())
		if err != nil {
			return err
		}
		x.n++
		object.write(&x.line)
		x.line.WriteByte('\n')
	case xml.EndElement:
		x.open = x.open[:len(x.open)-1]
	}
	return nil
}

// meet notes what tells a document without rows from a path that is wrong.
func (x *xmlRecords) meet(name string) {
	last := len(x.path) - 1
	switch {
	case slices.Equal(x.open, x.path[:last]):
		x.around = true
	case len(x.open) == last+1 && slices.Equal(x.open[:last], x.path[:last]):
		x.other = name
	}
}

// ended returns io.EOF, or that the rows are elsewhere.
func (x *xmlRecords) ended() error {
	last := len(x.path) - 1
	around := strings.Join(x.path[:last], ".")
	switch {
	case x.n > 0 || x.around && x.other == "":
		return io.EOF
	case x.around || last == 0:
		return &documentError{fmt.Sprintf("no element is called %s: there is %s", strings.Join(x.path, "."), strings.TrimPrefix(around+"."+x.other, "."))}
	}
	return &documentError{"there is no element " + around}
}

// element reads an element up to its end. from is where the record begins.
func (x *xmlRecords) element(start xml.StartElement, from int64) (*xmlElement, error) {
	e := &xmlElement{}
	for _, a := range start.Attr {
		if a.Name.Space != "xmlns" && a.Name.Local != "xmlns" {
			e.names, e.values = append(e.names, "@"+a.Name.Local), append(e.values, []*xmlElement{{text: a.Value}})
		}
	}
	for {
		token, err := x.in.Token()
		if err != nil {
			return nil, err
		}
		if x.in.Offset()-from > maxRecord {
			return nil, &documentError{"an element that is a row is longer than 16 MiB"}
		}
		switch t := token.(type) {
		case xml.CharData:
			e.text += string(t)
		case xml.StartElement:
			child, err := x.element(t, from)
			if err != nil {
				return nil, err
			}
			e.add(t.Name.Local, child)
		case xml.EndElement:
			return e, nil
		}
	}
}

// xmlElement is what stands in an element.
type xmlElement struct {
	text   string
	names  []string
	values [][]*xmlElement // several of one name are a list
}

func (e *xmlElement) add(name string, child *xmlElement) {
	at := slices.Index(e.names, name)
	if at < 0 {
		e.names, e.values = append(e.names, name), append(e.values, nil)
		at = len(e.names) - 1
	}
	e.values[at] = append(e.values[at], child)
}

// write writes it as JSON: a text, null, or an object.
func (e *xmlElement) write(b *bytes.Buffer) { e.writeAs(b, true) }

func (e *xmlElement) writeAs(b *bytes.Buffer, row bool) {
	text := strings.TrimSpace(e.text)
	switch {
	case len(e.names) == 0 && !row && text == "":
		b.WriteString("null")
		return
	case len(e.names) == 0 && !row:
		writeText(b, text)
		return
	}
	mark := byte('{')
	if text != "" || len(e.names) == 0 {
		b.WriteByte(mark)
		mark = ','
		writeText(b, ElementText)
		b.WriteByte(':')
		(&xmlElement{text: text}).writeAs(b, false)
	}
	for k, name := range e.names {
		b.WriteByte(mark)
		mark = ','
		writeText(b, name)
		b.WriteByte(':')
		if len(e.values[k]) > 1 {
			for n, value := range e.values[k] {
				b.WriteByte("[,"[min(n, 1)])
				value.writeAs(b, false)
			}
			b.WriteByte(']')
			continue
		}
		e.values[k][0].writeAs(b, false)
	}
	b.WriteByte('}')
}

// writeText writes a text as JSON has it.
func writeText(b *bytes.Buffer, text string) {
	quoted, _ := json.Marshal(text) // a text always can be
	b.Write(quoted)
}

// fail says where the document is wrong.
func (x *xmlRecords) fail(err error) error {
	at := fmt.Sprintf("line %d, in row %d", x.in.Line(), x.n+1)
	var syntax *xml.SyntaxError
	switch {
	case errors.As(err, &syntax) && strings.Contains(syntax.Msg, "unexpected EOF"), errors.Is(err, io.ErrUnexpectedEOF):
		return &documentError{"the document ends too early, at " + at}
	case errors.As(err, &syntax):
		return &documentError{"this is not XML, at " + at + ": " + syntax.Msg}
	}
	return &documentError{err.Error() + ", at " + at}
}
