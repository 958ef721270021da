package star

import (
	"slices"

	"ironmonger/internal/column"
)

// OfFile is a column that the file of a row tells, not the row.
type OfFile struct {
	Name
	What string
}

// What a file tells.
const (
	FilePath  = "path"      // as it is named in the ledger
	FileName  = "name"      // the last part of the path
	FileLine  = "line"      // of the row
	Delivered = "delivered" // the day on which the file was delivered, see rule R36
)

// Type is the type of the column.
func (o OfFile) Type() column.Type {
	switch o.What {
	case FileLine:
		return column.Type{Kind: column.Integer}
	case Delivered:
		return column.Type{Kind: column.Date}
	}
	return column.Type{Kind: column.Text}
}

// DeliveredOfFile reports whether the source has a column that says when its files were delivered.
func (s *Source) DeliveredOfFile() bool {
	return slices.ContainsFunc(s.OfFile, func(o OfFile) bool { return o.What == Delivered })
}

func (r *reader) ofFileEntries(s *Source) []Entry {
	return []Entry{
		{
			"of_file",
			"name: what",
			"columns that the file of a row tells: its `path`, its `name`, the `line` of the row, or the date on which it was " +
				"`delivered`: the date in its name (2025-01-31 or 20250131), else the day on which a load read it first with this content",
			false,
			func(n *node) {
				r.each(n, func(n *node) {
					o := OfFile{Name: r.name(n.key, n.path)}
					o.What = r.choice(n, FilePath, FileName, FileLine, Delivered)
					s.OfFile = append(s.OfFile, o)
				})
			},
		},
		{
			"delivered_by",
			"a parameter",
			"with `of_file: delivered`, the date parameter that says when files without a date in their names are delivered, instead " +
				"of the day of the load, in UTC",
			false,
			func(n *node) {
				if w, ok := r.word(n, "a parameter"); ok {
					s.DeliveredBy = &w
				}
			},
		},
	}
}

// ofFile checks the columns that files tell.
func (c *checker) ofFile(s *Source, path string) {
	for _, o := range s.OfFile {
		switch at := path + ".of_file." + o.Text; {
		case len(s.Read) == 0:
			c.errorf(o.At, at, "the source reads no files")
		case o.What == Delivered && s.DrivenBy != nil:
			c.errorf(o.At, at, "a list says which files are read: let it have a column that says when they were delivered")
		}
	}
	by := s.DeliveredBy
	if by == nil {
		return
	}
	if !s.DeliveredOfFile() {
		c.errorf(by.At, path+".delivered_by", "no column of of_file says when files were delivered")
		return
	}
	at := slices.IndexFunc(c.model.Parameters, func(p *Parameter) bool { return p.Text == by.Text })
	switch {
	case at < 0:
		c.errorf(by.At, path+".delivered_by", "there is no parameter %s", by.Text)
	case c.model.Parameters[at].Type.Kind != column.Date:
		c.errorf(by.At, path+".delivered_by", "parameter %s is of type %s; it must be a date", by.Text, c.model.Parameters[at].Type)
	}
}
