// Package markup reads XML that anybody may have written, in bounded memory: a token that is too long is an error, and
// so are elements that stand too deep in each other. Entities that a document declares itself are not known, so none
// can grow.
package markup

import (
	"encoding/xml"
	"fmt"
	"io"

	"golang.org/x/text/encoding/htmlindex"
)

const (
	mostToken = 16 << 20 // bytes of a tag or a text
	mostDepth = 200      // elements, one within the other
)

// Decoder reads the tokens of a document.
type Decoder struct {
	xml  *xml.Decoder
	in   io.Reader
	read int64 // bytes so far
	last int64 // where the last token ended
	open []xml.Name
}

// NewDecoder reads from in. The document says itself how it is encoded; the default is UTF-8.
func NewDecoder(in io.Reader) *Decoder {
	d := &Decoder{in: in}
	d.xml = xml.NewDecoder(paced{d})
	d.xml.CharsetReader = func(charset string, in io.Reader) (io.Reader, error) {
		e, err := htmlindex.Get(charset)
		if err != nil {
			return nil, fmt.Errorf("the document is in the encoding %s, which is not known", charset)
		}
		return e.NewDecoder().Reader(in), nil
	}
	return d
}

// paced fails if a token has more bytes than it may have.
type paced struct{ d *Decoder }

func (p paced) Read(b []byte) (int, error) {
	if p.d.read-p.d.last > mostToken {
		return 0, fmt.Errorf("a text or a tag has more than %d MiB", mostToken>>20)
	}
	n, err := p.d.in.Read(b)
	p.d.read += int64(n)
	return n, err
}

// Token returns the next token; it is valid until the next call. Of names, Space is the prefix. io.EOF says that the
// document has ended where it may.
func (d *Decoder) Token() (xml.Token, error) {
	token, err := d.xml.RawToken() // which leaves it to us whether elements end as they began
	if d.last = d.xml.InputOffset(); err == io.EOF && len(d.open) > 0 {
		return nil, d.wrong("unexpected EOF")
	} else if err != nil {
		return token, err
	}
	switch e := token.(type) {
	case xml.StartElement:
		if d.open = append(d.open, e.Name); len(d.open) > mostDepth {
			return token, fmt.Errorf("more than %d elements stand one within the other", mostDepth)
		}
	case xml.EndElement:
		last := len(d.open) - 1
		if last < 0 {
			return nil, d.wrong("unexpected end element </" + e.Name.Local + ">")
		}
		if d.open[last] != e.Name {
			return nil, d.wrong("element <" + d.open[last].Local + "> closed by </" + e.Name.Local + ">")
		}
		d.open = d.open[:last]
	}
	return token, nil
}

func (d *Decoder) wrong(message string) error { return &xml.SyntaxError{Msg: message, Line: d.Line()} }

// Skip passes over what is left of the element that has begun.
func (d *Decoder) Skip() error {
	for until := len(d.open) - 1; len(d.open) > until; {
		if _, err := d.Token(); err != nil {
			return err
		}
	}
	return nil
}

// Text returns the text up to the end of the element that has begun, without that of elements in it.
func (d *Decoder) Text() (string, error) {
	text := ""
	for {
		token, err := d.Token()
		if err != nil {
			return "", err
		}
		switch e := token.(type) {
		case xml.CharData:
			text += string(e)
		case xml.StartElement:
			if err := d.Skip(); err != nil {
				return "", err
			}
		case xml.EndElement:
			return text, nil
		}
	}
}

// Offset is how many bytes have been decoded.
func (d *Decoder) Offset() int64 { return d.last }

// Line is the line that has been reached.
func (d *Decoder) Line() int {
	line, _ := d.xml.InputPos()
	return line
}

// Attribute returns the value of an attribute, whatever its namespace; "" if there is none.
func Attribute(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}
