package star

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/column"
	"ironmonger/internal/parse"
)

// OfFile is a column that the file of a row tells, not the row.
type OfFile struct {
	Name
	What string

	Part    Name           // of a part of the path: how the path is written, with {} for the part
	form    *regexp.Regexp // of the path; the part is its group
	typ     column.Type
	layouts []Name
	reads   parse.Layouts
}

// What a file tells.
const (
	FilePath  = "path"      // as it is named in the ledger
	FileName  = "name"      // the last part of the path
	FileLine  = "line"      // of the row
	Delivered = "delivered" // the day on which the file was delivered, see rule R36
	FilePart  = "part"      // of the path
)

// Type is the type of the column.
func (o OfFile) Type() column.Type {
	switch o.What {
	case FileLine:
		return column.Type{Kind: column.Integer}
	case Delivered:
		return column.Type{Kind: column.Date}
	case FilePart:
		return o.typ
	}
	return column.Type{Kind: column.Text}
}

// Read reads the part of a path into row 0 of a column of the type.
func (o *OfFile) Read(path string, zone *time.Location, c *column.Column) error {
	found := o.form.FindStringSubmatch(path)
	if found == nil {
		return fmt.Errorf("%s is not written as %s", path, o.Part.Text)
	}
	reader := parse.NewReader(zone)
	if o.reads != nil {
		reader.Styled(&parse.Style{Date: o.reads, Timestamp: o.reads, Time: o.reads})
	}
	if err := reader.Set(c, 0, found[1]); err != nil {
		return fmt.Errorf("%s in %s %w", found[1], path, err)
	}
	return nil
}

// partForm returns the expression for a path that is written with *, ? and {}.
func partForm(text string) (*regexp.Regexp, error) {
	if strings.Count(text, "{}") != 1 {
		return nil, errors.New("{} stands for the part that is meant, once")
	}
	form := regexp.QuoteMeta(strings.TrimPrefix(text, "./"))
	for _, x := range [][2]string{{`\{\}`, `([^/]+?)`}, {`\*`, `[^/]*`}, {`\?`, `[^/]`}} {
		form = strings.ReplaceAll(form, x[0], x[1])
	}
	return regexp.Compile(`^(?:.*/)?` + form + `$`)
}

// DeliveredOfFile reports whether the source has a column that says when its files were delivered.
func (s *Source) DeliveredOfFile() bool {
	return slices.ContainsFunc(s.OfFile, func(o OfFile) bool { return o.What == Delivered })
}

func (r *reader) ofFileEntries(s *Source) []Entry {
	return []Entry{
		{
			"of_file",
			"name: what, or keys",
			"columns that the file of a row tells: its `path`, its `name`, the `line` of the row, or the date on which it was " +
				"`delivered`: the date in its name (2025-01-31 or 20250131), else the day on which a load read it first with this content. Keys are for a part of its path",
			false,
			func(n *node) {
				r.each(n, func(n *node) {
					o := OfFile{Name: r.name(n.key, n.path), typ: column.Type{Kind: column.Text}}
					if n.Kind == yaml.MappingNode {
						o.What = FilePart
						r.section(n, r.partEntries(&o))
					} else {
						o.What = r.choice(n, FilePath, FileName, FileLine, Delivered)
					}
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

// partEntries are those of a column that is a part of the path of a file.
func (r *reader) partEntries(o *OfFile) []Entry {
	return []Entry{
		{
			"part",
			"a path with {}",
			"how the paths of the files are written, `{}` for the part that is the value, `*` for any other characters: `balance/{}-*.csv`",
			true,
			func(n *node) {
				w, ok := r.word(n, "a path with {}")
				if o.Part = w; !ok {
					return
				}
				var err error
				if o.form, err = partForm(w.Text); err != nil {
					r.errorf(w.At, n.path, "%v", err)
				}
			},
		},
		{"type", "a type", "its type; the default is text", false, func(n *node) { o.typ = r.typ(n) }},
		{
			"layout",
			"a layout, such as yyyy-MM, or a list",
			"of a date, timestamp or time: how it is written",
			false,
			func(n *node) { o.layouts = r.words(n, "a layout") },
		},
	}
}

// ofFile checks the columns that files tell.
func (c *checker) ofFile(s *Source, path string) {
	for k := range s.OfFile {
		o := &s.OfFile[k]
		switch at := path + ".of_file." + o.Text; {
		case o.layouts != nil && !o.typ.Temporal() && o.typ.Kind != column.Time:
			c.errorf(o.layouts[0].At, at+".layout", "a layout is for a date, a timestamp or a time")
		case o.layouts != nil:
			o.reads = c.compileLayouts(s, o.layouts, o.typ.Kind, at+".layout")
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
