package source

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"os"
	"strings"

	"ironmonger/internal/markup"
	"ironmonger/internal/star"
	"ironmonger/internal/workbook"
)

// Beginning returns the first bytes of a file below a folder, decompressed if it is compressed, and says whether these
// are all.
func Beginning(root *os.Root, name string, n int) (text []byte, whole bool, err error) {
	t, err := openContent(root.Name(), name)
	if err != nil {
		return nil, false, errors.New(reason(err))
	}
	defer t.Close()
	if err := t.layers(""); err != nil {
		return nil, false, err
	}
	text, err = io.ReadAll(io.LimitReader(t, int64(n)+1))
	if err != nil {
		return nil, false, errors.New(t.plain())
	}
	return text[:min(n, len(text))], len(text) <= n, nil
}

// Decode returns a text in UTF-8 that is written in one of the encodings that a source may declare.
func Decode(encoding string, text []byte) ([]byte, error) {
	utf, err := io.ReadAll(encodings[encoding].NewDecoder().Reader(bytes.NewReader(text)))
	return bytes.TrimPrefix(utf, bom), err
}

// Sheets lists the sheets of a workbook below a folder that are not hidden.
func Sheets(root *os.Root, name string) ([]string, error) {
	var names []string
	err := inBook(root, name, func(book *workbook.Book, _ *content) error {
		for _, s := range book.Sheets {
			if !s.Hidden {
				names = append(names, s.Name)
			}
		}
		return nil
	})
	return names, err
}

// SheetBeginning returns the first rows of a sheet as records of CSV, n bytes about, and says whether these are all.
func SheetBeginning(root *os.Root, name, sheet string, n int) (text []byte, whole bool, err error) {
	err = inBook(root, name, func(_ *workbook.Book, t *content) error {
		x, err := newSheet(t, &star.Source{Files: star.Files{Sheet: star.Name{Text: sheet}}})
		if err != nil {
			return err
		}
		text, err = io.ReadAll(io.LimitReader(x, int64(n)+1))
		return err
	})
	return []byte(withoutMarks(string(text[:min(n, len(text))]))), len(text) <= n, err
}

// inBook opens a workbook.
func inBook(root *os.Root, name string, do func(*workbook.Book, *content) error) error {
	t, err := openContent(root.Name(), name)
	if err != nil {
		return errors.New(reason(err))
	}
	defer t.Close()
	if err = t.layers(""); err != nil {
		return err
	}
	book, err := t.workbook()
	if err != nil {
		return err
	}
	return do(book, t)
}

// RecordPath finds the path of the elements of an XML document that are most likely its rows, from its beginning: of
// those that occur several times, the ones that have the most text in them.
func RecordPath(text []byte) string {
	d := markup.NewDecoder(bytes.NewReader(text))
	var open []string
	var from []int64
	size, count := map[string]int64{}, map[string]int{}
	var order []string
	for {
		before := d.Offset()
		token, err := d.Token()
		if err != nil {
			break // where it is cut off
		}
		switch e := token.(type) {
		case xml.StartElement:
			open, from = append(open, e.Name.Local), append(from, before)
		case xml.EndElement:
			p := strings.Join(open, ".")
			if count[p] == 0 {
				order = append(order, p)
			}
			size[p], count[p] = size[p]+d.Offset()-from[len(from)-1], count[p]+1
			open, from = open[:len(open)-1], from[:len(from)-1]
		}
	}
	best := ""
	for _, p := range order {
		better := size[p] > size[best] || size[p] == size[best] && len(p) < len(best)
		if best == "" || count[p] > 1 && (count[best] < 2 || better) || count[best] < 2 && count[p] == count[best] && strings.Count(p, ".") == 1 {
			best = p
		}
	}
	return best
}

// Records returns the rows of an XML document, or of its beginning, as objects of JSON, a line each.
func Records(text []byte, path string) []byte {
	lines, _ := io.ReadAll(newXMLRecords(bytes.NewReader(text), path)) // where it ends does not matter
	return lines
}
