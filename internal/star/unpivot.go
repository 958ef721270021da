package star

import (
	"slices"

	"ironmonger/internal/column"
)

// Unpivot makes a row of each of some columns: one column has their names then, and one their values.
type Unpivot struct {
	Columns []Name
	NameAs  Name
	ValueAs Name
	Empty   bool // columns without a value make rows, too
	at      Name
}

// Has reports whether a column becomes rows.
func (u *Unpivot) Has(name string) bool {
	return u != nil && slices.ContainsFunc(u.Columns, func(w Name) bool { return w.Text == name })
}

// fields are the two columns, the type of the values being that of the first of the columns that become rows.
func (u *Unpivot) fields(s *Source) []column.Field {
	typ := column.Type{Kind: column.Null}
	for _, c := range s.Columns {
		if len(u.Columns) > 0 && c.Text == u.Columns[0].Text {
			typ = c.Type
		}
	}
	return []column.Field{{Name: u.NameAs.Text, Type: column.Type{Kind: column.Text}}, {Name: u.ValueAs.Text, Type: typ}}
}

func (r *reader) unpivotEntries(u *Unpivot) []Entry {
	word := func(to *Name) func(n *node) {
		return func(n *node) {
			if w, ok := r.word(n, "a name"); ok {
				*to = r.name(w, n.path)
			}
		}
	}
	return []Entry{
		{"columns", "a list", "the columns, each of which becomes a row. They have one type", true, func(n *node) { u.Columns = r.words(n, "a column") }},
		{"name", "a name", "the new column that has the names of these columns", true, word(&u.NameAs)},
		{"value", "a name", "the new column that has their values", true, word(&u.ValueAs)},
		{
			"empty",
			"leave_out or keep",
			"what happens to a column without a value: it makes no row, and is counted as left out (the default), or it makes a row",
			false,
			func(n *node) { u.Empty = r.choice(n, "leave_out", "keep") == "keep" },
		},
	}
}

// unpivot checks which columns become rows.
func (c *checker) unpivot(s *Source, path string) {
	u := s.Unpivot
	if u == nil {
		return
	}
	path += ".unpivot"
	if !s.Reads() {
		c.errorf(u.at.At, path, "columns become rows where they are read: in the source that reads the files or the table")
		return
	}
	var first *Column
	for _, w := range u.Columns {
		at := slices.IndexFunc(s.Columns, func(c Column) bool { return c.Text == w.Text })
		switch {
		case at < 0:
			c.errorf(w.At, path+".columns", "the source has no column %s", w.Text)
		case first == nil:
			first = &s.Columns[at]
		case s.Columns[at].Type != first.Type:
			c.errorf(w.At, path+".columns", "%s is of type %s, and %s of type %s: they become one column", w.Text, s.Columns[at].Type, first.Text, first.Type)
		}
	}
	for _, w := range []Name{u.NameAs, u.ValueAs} {
		if w.Text != "" && !u.Has(w.Text) && slices.ContainsFunc(s.Columns, func(c Column) bool { return c.Text == w.Text }) || u.NameAs.Text == u.ValueAs.Text {
			c.errorf(w.At, path, "there is already a column %s", w.Text)
			return
		}
	}
}
