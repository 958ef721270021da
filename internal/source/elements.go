package source

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"github.com/tidwall/gjson"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/star"
)

// elements are the rows of JSON objects that have lists of rows, one within the other.
type elements struct {
	lists  []jsonPath // each within the element of the one before
	fields []elementField
	single bool // what is no list is the only element of one, as in XML
}

// elementField is where a field is found: in the object (0) or in the element of a list (from 1), there by a path that
// may be empty; or it is the position in the list.
type elementField struct {
	level    int
	path     string // of gjson's
	position bool
}

// newElements returns the lists of a source; nil if its objects are the rows.
func newElements(s *star.Source, fields []column.Field, judged []*star.Column) *elements {
	if s.Each == nil {
		return nil
	}
	x := &elements{single: s.Format == star.XML}
	for k, w := range s.Each {
		path := w.Text
		if k > 0 {
			path = strings.TrimPrefix(path, s.Each[k-1].Text+".")
		}
		x.lists = append(x.lists, newPath(path))
	}
	place := func(c *star.Column) elementField {
		f, path := elementField{}, c.InFile()
		for k, w := range s.Each {
			if c.PositionIn == w.Text {
				return elementField{level: k + 1, position: true}
			}
			if rest, in := strings.CutPrefix(path, w.Text); in && (rest == "" || rest[0] == '.') {
				f.level = k + 1
				if f.path = ""; rest != "" {
					f.path = whole(newPath(rest[1:]))
				}
			}
		}
		if f.level == 0 {
			f.path = whole(newPath(path))
		}
		return f
	}
	for n, f := range fields {
		at := slices.IndexFunc(s.Columns, func(c star.Column) bool { return c.Text == f.Name })
		switch {
		case n >= len(fields)-len(judged):
		case at < 0: // it says that a value could not be read
			x.fields = append(x.fields, elementField{level: -1})
		default:
			x.fields = append(x.fields, place(&s.Columns[at]))
		}
	}
	for _, c := range judged {
		x.fields = append(x.fields, place(c))
	}
	return x
}

// whole is a path as gjson has it.
func whole(p jsonPath) string {
	path := below(strings.NewReplacer(`\`, `\\`, `.`, `\.`).Replace(p.name))
	if p.rest != "" {
		path += "." + p.rest
	}
	return path
}

// element is a row: the object, and the element of each list, with their positions.
type element struct {
	values    []gjson.Result
	positions []int64
	wrong     string // what is not a list
}

// with returns the row with one more element, and its position.
func (e element) with(value gjson.Result, position int64) element {
	return element{append(slices.Clone(e.values), value), append(slices.Clone(e.positions), position), ""}
}

// of lists the rows of an object.
func (x *elements) of(object gjson.Result) []element {
	rows := []element{{values: []gjson.Result{object}}}
	for _, list := range x.lists {
		var next []element
		for _, row := range rows {
			found := row.values[len(row.values)-1].Get(whole(list))
			switch {
			case row.wrong != "":
				next = append(next, row)
			case !found.Exists() || found.Type == gjson.Null:
			case !found.IsArray() && x.single:
				next = append(next, row.with(found, 1))
			case !found.IsArray():
				row.wrong = diag.Clip(diag.Printable(found.Raw), 60)
				next = append(next, row)
			default:
				n := int64(0)
				found.ForEach(func(_, value gjson.Result) bool {
					n++
					next = append(next, row.with(value, n))
					return true
				})
			}
		}
		rows = next
	}
	return rows
}

// fillElements turns the elements of lists in objects, a line each, into typed rows.
func (p *piece) fillElements(b *column.Batch) error {
	x, readers := p.of.each, p.of.readers()
	b.From.File, b.From.Line = p.file.name, b.From.Line[:0]
	var rows []element
	var lines [][]byte
	number, fixed := p.line, p.fixed()
	for line := range bytes.Lines(p.data) {
		number++
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		if !gjson.ValidBytes(line) {
			return jsonError(p.file.name, number, line)
		}
		asStored := line
		line = p.corrected(fixed, number, line)
		found := []element{{wrong: diag.Clip(diag.Printable(string(line)), 60)}}
		if line[0] == '{' {
			found = x.of(gjson.ParseBytes(line))
		}
		for range found {
			lines, b.From.Line = append(lines, asStored), append(b.From.Line, number)
		}
		rows = append(rows, found...)
	}
	b.Reset(len(rows))
	for n, row := range rows {
		for k := range x.fields {
			b.Cols[k].SetNull(n)
		}
		p.of.begin(b, n)
		switch {
		case row.values == nil:
			b.SetAside(n, "", "the line is not a JSON object", row.wrong)
			continue
		case row.wrong != "":
			list := p.of.of.Each[len(row.values)-1].Text
			b.SetAside(n, list, list+" is not a list", row.wrong)
			continue
		}
		for k, f := range x.fields {
			if f.level < 0 {
				continue
			}
			value := row.values[f.level]
			if f.path != "" {
				value = value.Get(f.path)
			}
			if f.position {
				value = gjson.Parse(fmt.Sprint(row.positions[f.level-1]))
			}
			if value.Exists() {
				p.place(b, n, k, value, readers[k])
			}
		}
	}
	b.From.Bytes = p.bytes
	b.From.Raw = func(i int) string { return string(lines[i]) }
	return nil
}
