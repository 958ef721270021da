// Package workbook reads the cells of Office Open XML workbooks (ECMA-376, files that end in .xlsx), row by row.
//
// A workbook is a zip archive of XML parts: a list of sheets, a table of the texts that cells share, the styles that
// tell dates from numbers, and a part for each sheet. A sheet is read as a stream, so that its size does not matter;
// the shared texts are kept in memory. Formulas are not calculated: a cell has the value that the program which wrote
// it had calculated.
package workbook

import (
	"archive/zip"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"ironmonger/internal/markup"
)

// Book is an open workbook.
type Book struct {
	Sheets []Sheet // in the order of their tabs

	parts  map[string]*zip.File
	names  map[string]string // areas by the names that the workbook gives them
	shared []string          // texts
	styles []style           // of cells
	from   epoch
}

// Sheet is a sheet of cells.
type Sheet struct {
	Name   string
	Hidden bool
	part   string
}

// mostShared is how many bytes the shared texts may have.
const mostShared = 512 << 20

// Open reads what all sheets have in common.
func Open(r io.ReaderAt, size int64) (*Book, error) {
	start := make([]byte, 8)
	if n, _ := r.ReadAt(start, 0); strings.HasPrefix(string(start[:n]), "\xd0\xcf\x11\xe0") {
		return nil, errors.New("this is an encrypted workbook, or one of the older binary form: save it as .xlsx without a password")
	}
	archive, err := zip.NewReader(r, size)
	if err != nil {
		return nil, fmt.Errorf("this is not a workbook: %v", err)
	}
	b := &Book{parts: map[string]*zip.File{}, names: map[string]string{}}
	for _, f := range archive.File {
		b.parts[strings.TrimPrefix(f.Name, "/")] = f
	}
	main := "xl/workbook.xml"
	for _, x := range b.relations("") {
		if strings.HasSuffix(x.kind, "/officeDocument") {
			main = x.target
		}
	}
	if b.parts[main] == nil {
		return nil, errors.New("this is a zip archive, and not a workbook")
	}
	return b, b.read(main)
}

// relation is a part to which another one refers.
type relation struct{ id, kind, target string }

// relations lists what a part refers to; "" is the workbook as a whole. A part need not refer to anything.
func (b *Book) relations(part string) []relation {
	var list []relation
	dir, file := path.Split(part)
	if b.parts[dir+"_rels/"+file+".rels"] == nil {
		return nil
	}
	b.each(dir+"_rels/"+file+".rels", func(_ *markup.Decoder, e xml.StartElement) error {
		if e.Name.Local == "Relationship" {
			target := markup.Attribute(e, "Target")
			if strings.HasPrefix(target, "/") {
				target = target[1:]
			} else {
				target = path.Join(dir, target)
			}
			list = append(list, relation{markup.Attribute(e, "Id"), markup.Attribute(e, "Type"), target})
		}
		return nil
	})
	return list
}

// read reads the list of sheets, and the parts that these need.
func (b *Book) read(main string) error {
	parts := map[string]relation{}
	var texts, styles string
	for _, x := range b.relations(main) {
		parts[x.id] = x
		switch {
		case strings.HasSuffix(x.kind, "/sharedStrings"):
			texts = x.target
		case strings.HasSuffix(x.kind, "/styles"):
			styles = x.target
		}
	}
	err := b.each(main, func(d *markup.Decoder, e xml.StartElement) error {
		switch e.Name.Local {
		case "workbookPr":
			if on := markup.Attribute(e, "date1904"); on == "1" || on == "true" {
				b.from = since1904
			}
		case "sheet":
			x := parts[markup.Attribute(e, "id")]
			if strings.HasSuffix(x.kind, "/worksheet") {
				state := markup.Attribute(e, "state")
				b.Sheets = append(b.Sheets, Sheet{markup.Attribute(e, "name"), state != "" && state != "visible", x.target})
			}
		case "definedName":
			text, err := d.Text()
			b.names[markup.Attribute(e, "name")] = text
			return err
		}
		return nil
	})
	if err == nil && len(b.Sheets) == 0 {
		err = errors.New("the workbook has no sheets")
	}
	if err == nil && styles != "" {
		err = b.readStyles(styles)
	}
	if err == nil && texts != "" {
		err = b.readShared(texts)
	}
	return err
}

// readShared reads the texts that cells share.
func (b *Book) readShared(part string) error {
	size := 0
	return b.each(part, func(d *markup.Decoder, e xml.StartElement) error {
		if e.Name.Local != "si" {
			return nil
		}
		text, err := richText(d)
		if size += len(text) + 16; size > mostShared {
			return fmt.Errorf("the texts of its cells have more than %d MiB", mostShared>>20)
		}
		b.shared = append(b.shared, text)
		return err
	})
}

// richText reads the text of an element whose parts may have formats of their own, up to its end. What tells how a text
// is pronounced is not part of it.
func richText(d *markup.Decoder) (string, error) {
	text := ""
	for {
		token, err := d.Token()
		if err != nil {
			return "", err
		}
		switch e := token.(type) {
		case xml.StartElement:
			switch e.Name.Local {
			case "t":
				part, err := d.Text()
				if err != nil {
					return "", err
				}
				text += unescape(part)
			case "r":
				part, err := richText(d)
				if err != nil {
					return "", err
				}
				text += part
			default:
				if err := d.Skip(); err != nil {
					return "", err
				}
			}
		case xml.EndElement:
			return text, nil
		}
	}
}

// unescape reads what the text of a cell has in place of characters that XML does not have: _x000D_ (22.9.2.19,
// ST_Xstring).
func unescape(s string) string {
	for from := 0; ; {
		at := strings.Index(s[from:], "_x")
		if at < 0 {
			return s
		}
		at += from
		var c rune
		if n, err := fmt.Sscanf(s[at:min(len(s), at+7)], "_x%04X_", &c); n == 1 && err == nil && at+7 <= len(s) {
			s = s[:at] + string(c) + s[at+7:]
		}
		from = at + 1
	}
}

// each calls do for each element of a part that begins; do may read on, up to the end of the element.
func (b *Book) each(part string, do func(*markup.Decoder, xml.StartElement) error) error {
	d, close, err := b.open(part)
	if err != nil {
		return err
	}
	defer close()
	for {
		token, err := d.Token()
		if err == io.EOF {
			return nil
		}
		if e, begins := token.(xml.StartElement); begins && err == nil {
			err = do(d, e)
		}
		if err != nil {
			return damaged(part, err)
		}
	}
}

// open opens a part.
func (b *Book) open(part string) (d *markup.Decoder, close func() error, err error) {
	f := b.parts[part]
	if f == nil {
		return nil, nil, fmt.Errorf("the workbook is damaged: it has no part %s", part)
	}
	in, err := f.Open()
	if err != nil {
		return nil, nil, damaged(part, err)
	}
	return markup.NewDecoder(in), in.Close, nil
}

// damaged says that a part cannot be read.
func damaged(part string, err error) error {
	return fmt.Errorf("the workbook is damaged, in its part %s: %w", part, err)
}
