package workbook

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"ironmonger/internal/markup"
)

// Cell is a cell that is not empty.
type Cell struct {
	Column int // from 0
	Text   string
	Typed  bool // the cell has a number, a date, a time or a truth value, written as this program writes them
}

// Rows reads the rows of an area.
type Rows struct {
	area  Area
	book  *Book
	in    *markup.Decoder
	close func() error
	part  string
	row   int // the last one, from 1
	cells []Cell
}

// Most rows and columns of a sheet (18.3.1.73, 18.3.1.4 have no bounds; these are of the programs that write
// workbooks).
const (
	mostRows    = 1 << 20
	mostColumns = 1 << 14
)

// Rows opens an area.
func (b *Book) Rows(a Area) (*Rows, error) {
	d, close, err := b.open(a.sheet.part)
	if err != nil {
		return nil, err
	}
	return &Rows{area: a, book: b, in: d, close: close, part: a.sheet.part}, nil
}

// Close ends the reading.
func (r *Rows) Close() { r.close() }

// Next returns the next row that has cells, with its number from 1. The cells are valid until the next call; their
// columns count from the first of the area. io.EOF says that there are no more.
func (r *Rows) Next() (row int, cells []Cell, err error) {
	for {
		token, err := r.in.Token()
		if err == io.EOF {
			return 0, nil, io.EOF
		}
		if err != nil {
			return 0, nil, damaged(r.part, err)
		}
		e, begins := token.(xml.StartElement)
		if !begins || e.Name.Local != "row" {
			continue
		}
		if err := r.readRow(e); err != nil {
			return 0, nil, damaged(r.part, err)
		}
		if r.area.Last > 0 && r.row > r.area.Last {
			continue // on to the end: what is damaged is told
		}
		if len(r.cells) > 0 && r.row >= r.area.First {
			return r.row, r.cells, nil
		}
	}
}

// readRow reads a row up to its end.
func (r *Rows) readRow(e xml.StartElement) error {
	number := r.row + 1
	if text := markup.Attribute(e, "r"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < number {
			return fmt.Errorf("row %s behind row %d", text, r.row)
		}
		number = n
	}
	if number > mostRows {
		return fmt.Errorf("row %d, and a sheet has %d", number, mostRows)
	}
	r.row, r.cells = number, r.cells[:0]
	next := 0
	for {
		token, err := r.in.Token()
		if err != nil {
			return err
		}
		switch e := token.(type) {
		case xml.EndElement:
			return nil
		case xml.StartElement:
			if e.Name.Local != "c" {
				if err := r.in.Skip(); err != nil {
					return err
				}
				continue
			}
			c, err := r.readCell(e, next)
			if err != nil {
				return err
			}
			next = c.Column + 1
			if c.Column -= r.area.left; c.Text != "" && c.Column >= 0 && (r.area.right < 0 || c.Column <= r.area.right-r.area.left) {
				r.cells = append(r.cells, c)
			}
		}
	}
}

// readCell reads a cell up to its end. next is its column if it does not say which.
func (r *Rows) readCell(e xml.StartElement, next int) (c Cell, err error) {
	kind, styled := "", 0
	c.Column = next
	for _, a := range e.Attr {
		switch a.Name.Local {
		case "r":
			column, _, ok := reference(a.Value)
			if !ok || column < next {
				return c, fmt.Errorf("the cell %s in row %d is not where it says", a.Value, r.row)
			}
			c.Column = column
		case "t":
			kind = a.Value
		case "s":
			styled, _ = strconv.Atoi(a.Value)
		}
	}
	if c.Column >= mostColumns {
		return c, fmt.Errorf("row %d has more than %d columns", r.row, mostColumns)
	}
	value, formula, there := "", "", false
	for {
		token, err := r.in.Token()
		if err != nil {
			return c, err
		}
		switch e := token.(type) {
		case xml.EndElement:
			if !there { // nobody has calculated it
				if formula != "" {
					c.Text = "=" + formula
				}
				return c, nil
			}
			return r.valued(c, kind, value, styled)
		case xml.StartElement:
			switch e.Name.Local {
			case "v":
				value, err = r.in.Text()
				there = there || value != "" || kind == "str"
			case "is":
				value, err = richText(r.in)
				kind, there = "inlineStr", true
			case "f":
				formula, err = r.in.Text()
				if formula == "" {
					formula = "a shared formula"
				}
			default:
				err = r.in.Skip()
			}
			if err != nil {
				return c, err
			}
		}
	}
}

// valued gives a cell its value (18.18.11, ST_CellType).
func (r *Rows) valued(c Cell, kind, value string, styled int) (Cell, error) {
	switch kind {
	case "s":
		n, err := strconv.Atoi(strings.TrimSpace(value))
		if err != nil || n < 0 || n >= len(r.book.shared) {
			return c, fmt.Errorf("a cell in row %d has the shared text %s, which is not there", r.row, value)
		}
		c.Text = r.book.shared[n]
	case "str":
		c.Text = unescape(value)
	case "inlineStr", "e":
		c.Text = value
	case "b":
		c.Typed, c.Text = true, map[string]string{"0": "false", "1": "true"}[value]
		if c.Text == "" {
			return c, fmt.Errorf("a cell in row %d has the truth value %s", r.row, value)
		}
	case "d":
		c.Typed, c.Text = true, strings.TrimSuffix(strings.TrimSuffix(strings.Replace(value, "T", " ", 1), "Z"), " 00:00:00")
	case "", "n":
		var s style
		if styled >= 0 && styled < len(r.book.styles) {
			s = r.book.styles[styled]
		}
		text, ok := s.show(strings.TrimSpace(value), r.book.from)
		if !ok {
			return c, fmt.Errorf("a cell in row %d has the number %s", r.row, value)
		}
		c.Typed, c.Text = !s.padded(), text
	default:
		return c, fmt.Errorf("a cell in row %d is of the unknown type %s", r.row, kind)
	}
	return c, nil
}

// Area is part of a sheet.
type Area struct {
	sheet       *Sheet
	First, Last int // rows from 1; Last is 0 if it goes on to the end
	left, right int // columns from 0; right is -1 if it goes on to the end
}

// Sheet is the name of the sheet.
func (a *Area) Sheet() string { return a.sheet.Name }

// whole is all of a sheet.
func whole(s *Sheet) Area { return Area{sheet: s, First: 1, right: -1} }

// Find returns an area: of the sheet of that name, or else of that number from 1, or of the only one; and of that all,
// a range such as B3:F200, B:F or 3:200, or one that the workbook has a name for, as a table or as a range.
func (b *Book) Find(sheet, area string) (Area, error) {
	if area != "" && sheet == "" {
		if a, ok, err := b.named(area); ok || err != nil {
			return a, err
		}
	}
	s, err := b.sheet(sheet)
	if err != nil {
		return Area{}, err
	}
	if area == "" {
		return whole(s), nil
	}
	a, ok := parseArea(s, area)
	if !ok {
		return a, fmt.Errorf("the workbook has no table and no range called %s, and that is not a range such as B3:F200 or B:F", area)
	}
	return a, nil
}

func (b *Book) sheet(name string) (*Sheet, error) {
	var names []string
	for k := range b.Sheets {
		s := &b.Sheets[k]
		if s.Name == name || name == "" && len(b.Sheets) == 1 {
			return s, nil
		}
		names = append(names, s.Name)
	}
	if n, err := strconv.Atoi(name); err == nil && n >= 1 && n <= len(b.Sheets) {
		return &b.Sheets[n-1], nil
	}
	if name == "" {
		return nil, fmt.Errorf("the workbook has %d sheets: which one? (sheet: %s)", len(names), strings.Join(names, ", "))
	}
	return nil, fmt.Errorf("the workbook has no sheet %s; it has %s", name, strings.Join(names, ", "))
}

// named finds what the workbook calls so.
func (b *Book) named(name string) (a Area, ok bool, err error) {
	for n, text := range b.names {
		if strings.EqualFold(n, name) {
			sheet, area, _ := strings.Cut(text, "!")
			if strings.HasPrefix(text, "'") {
				if end := strings.LastIndex(text, "'!"); end > 0 {
					sheet, area = strings.ReplaceAll(text[1:end], "''", "'"), text[end+2:]
				}
			}
			s, err := b.sheet(sheet)
			if err != nil {
				return a, false, err
			}
			if a, ok = parseArea(s, area); !ok {
				return a, false, fmt.Errorf("%s is %s in the workbook, which is not one range of cells", name, text)
			}
			return a, true, nil
		}
	}
	for k := range b.Sheets {
		s := &b.Sheets[k]
		for _, x := range b.relations(s.part) {
			if !strings.HasSuffix(x.kind, "/table") {
				continue
			}
			err := b.each(x.target, func(_ *markup.Decoder, e xml.StartElement) error {
				if e.Name.Local == "table" && strings.EqualFold(markup.Attribute(e, "displayName"), name) {
					if a, ok = parseArea(s, markup.Attribute(e, "ref")); !ok {
						return errors.New("the table is nowhere")
					}
					totals, _ := strconv.Atoi(markup.Attribute(e, "totalsRowCount"))
					a.Last -= totals
				}
				return nil
			})
			if ok || err != nil {
				return a, ok, err
			}
		}
	}
	return a, false, nil
}

// parseArea reads a range.
func parseArea(s *Sheet, text string) (Area, bool) {
	from, to, two := strings.Cut(strings.ReplaceAll(text, "$", ""), ":")
	if !two {
		to = from
	}
	left, first, ok := reference(from)
	right, last, ok2 := reference(to)
	a := Area{s, max(first, 1), last, max(left, 0), right}
	whole := (left < 0) == (right < 0) && (first == 0) == (last == 0)
	return a, ok && ok2 && whole && (right < 0 || a.left <= right) && (last == 0 || a.First <= last)
}

// reference reads a cell such as B3, a column such as B (row 0), or a row such as 3 (column -1).
func reference(text string) (column, row int, ok bool) {
	k := 0
	for ; k < len(text) && k < 4; k++ {
		c := text[k] &^ 0x20
		if c < 'A' || c > 'Z' {
			break
		}
		column = column*26 + int(c-'A') + 1
	}
	if k < len(text) {
		n, err := strconv.Atoi(text[k:])
		if err != nil || n < 1 {
			return 0, 0, false
		}
		row = n
	}
	return column - 1, row, text != "" && column <= mostColumns
}
