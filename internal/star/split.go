package star

import (
	"ironmonger/internal/column"
)

// Split makes a row of each element of a list in a text, such as coal;grain.
type Split struct {
	Column string // the list
	At     string // what separates its elements
	Into   Name   // the new column, which has one of them
	Empty  bool   // a list without elements makes a row, too

	column Name
	at     Name
}

// Columns lists the columns of which the rows are made, whether somebody else needs them or not.
func (x *Split) Columns() []string {
	if x == nil {
		return nil
	}
	return []string{x.Column}
}

func (x *Split) field() column.Field {
	return column.Field{Name: x.Into.Text, Type: column.Type{Kind: column.Text}}
}

func (r *reader) splitEntries(x *Split) []Entry {
	return []Entry{
		{"column", "a text column", "the column with the list. Blanks around an element are left out, and so are empty elements", true, func(n *node) { x.column, _ = r.word(n, "a column") }},
		{"at", "a text", "what separates the elements, such as `;`", true, func(n *node) {
			if w, ok := r.word(n, "a text"); ok {
				x.At = w.Text
			}
		}},
		{"into", "a name", "the new column: an element. The other columns are those of the row", true, func(n *node) {
			if w, ok := r.word(n, "a name"); ok {
				x.Into = r.name(w, n.path)
			}
		}},
		{"empty", "leave_out or keep", "what happens to a list without elements: it makes no row, and is counted as left out (the default), or it makes a row without an element", false, func(n *node) {
			x.Empty = r.choice(n, "leave_out", "keep") == "keep"
		}},
	}
}

// split checks which list becomes rows.
func (c *checker) split(s *Source, path string) {
	x := s.Split
	if x == nil {
		return
	}
	path += ".split"
	fields := s.listed()
	f, ok := c.field(fields, "source "+s.Text, x.column, path+".column")
	switch x.Column = f.Name; {
	case s.Unpivot != nil:
		c.errorf(x.at.At, path, "a source has split or unpivot: another source, made from it, does the other")
	case ok && f.Type.Kind != column.Text && known(f.Type):
		c.errorf(x.column.At, path+".column", "%s is of type %s; a list is a text", f.Name, f.Type)
	case x.Into.Text != "" && column.Find(fields, x.Into.Text) >= 0:
		c.errorf(x.Into.At, path+".into", "there is already a column %s", x.Into.Text)
	case x.At == "" && x.Into.Text != "":
		c.errorf(x.at.At, path+".at", "a list has something between its elements")
	}
}
