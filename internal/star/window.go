package star

import (
	"regexp"
	"slices"
	"strings"

	"ironmonger/internal/column"
)

// Window is a column whose value depends on other rows, as a window function of SQL has it: the row before, a running
// sum, the number of the row.
type Window struct {
	Name
	Function string   // row_number, lag, lead, sum, min, max or count; or Weight or PartOf
	Column   string   // of which it is; "" if it is of the rows
	By       []string // rows that are equal in these are seen together; null equals null
	Order    []Ordered
	Type     column.Type
	Shares   string // of weights and parts: the column of shares; "" if all have the same

	written Name
}

// The functions of weights: the weight of a row among those that it is seen with, and the part of an amount that it has
// by its share.
const (
	Weight = "weight"
	PartOf = "part"
)

// Ordered is a column by which rows are ordered. Nulls are greater than any value.
type Ordered struct {
	Column     string
	Descending bool
}

var (
	windowForm  = regexp.MustCompile(`^(?is)(row_number|lag|lead|sum|min|max|count)\s*\(\s*([^()]*?)\s*\)\s+over\s*\(\s*(?:partition\s+by\s+(.*?))?\s*(?:\border\s+by\s+(.*?))?\s*\)$`)
	orderedForm = regexp.MustCompile(`^(?i)(.*?)(?:\s+(asc|desc))?$`)
)

// Weighs reports whether the column is a weight, or a part of an amount by it.
func (w Window) Weighs() bool { return w.Function == Weight || w.Function == PartOf }

// Columns lists the columns that a window reads.
func (w *Window) Columns() []string {
	names := slices.Clone(w.By)
	for _, o := range w.Order {
		names = append(names, o.Column)
	}
	for _, name := range []string{w.Column, w.Shares} {
		if name != "" {
			names = append(names, name)
		}
	}
	return names
}

// Windowed lists the columns before rows are thinned out or added up: [Source.Complete], then those of windows.
func (s *Source) Windowed() []column.Field {
	fields := s.Complete()
	for _, w := range s.Windows {
		fields = append(fields, column.Field{Name: w.Text, Type: w.Type})
	}
	return fields
}

// windows checks the columns whose values depend on other rows.
func (c *checker) windows(s *Source, fields []column.Field, path string) {
	for k := range s.Windows {
		w := &s.Windows[k]
		path := path + ".window." + w.Text
		if column.Find(fields, w.Text) >= 0 {
			c.errorf(w.At, path, "there is already a column %s", w.Text)
		}
		if w.Function == "" { // others are made of weights
			c.window(s, w, fields, path)
		}
		fields = append(fields[:len(fields):len(fields)], column.Field{Name: w.Text, Type: w.Type})
	}
}

func (c *checker) window(s *Source, w *Window, fields []column.Field, path string) {
	m := windowForm.FindStringSubmatch(strings.TrimSpace(w.written.Text))
	if m == nil {
		c.errorf(w.written.At, path, "%s is not a window: lag(level) over (partition by gauge order by day), for example; or row_number(), lead, sum, min, max, count", w.written.Text)
		return
	}
	find := func(name string) (column.Field, bool) {
		name = strings.TrimSpace(name)
		at := w.written.At.Right(max(0, strings.Index(w.written.Text, name)))
		if len(name) > 1 && name[0] == '"' && name[len(name)-1] == '"' {
			name = strings.ReplaceAll(name[1:len(name)-1], `""`, `"`)
		}
		return c.field(fields, "source "+s.Text, Name{name, at}, path)
	}
	w.Function = strings.ToLower(m[1])
	ofRows := w.Function == "row_number" && m[2] == "" || w.Function == "count" && m[2] == "*"
	switch {
	case w.Function == "row_number" && m[2] != "":
		c.errorf(w.written.At, path, "row_number() is of no column")
		return
	case !ofRows:
		f, ok := find(m[2])
		if !ok {
			return
		}
		if w.Column, w.Type = f.Name, f.Type; w.Function == "sum" {
			if w.Type = sumType(f.Type); !f.Type.Numeric() && known(f.Type) {
				c.errorf(w.written.At, path, "%s is of type %s; a sum is of numbers", f.Name, f.Type)
			}
		}
	}
	if w.Function == "row_number" || w.Function == "count" {
		w.Type = column.Type{Kind: column.Integer}
	}
	split := func(list string) []string {
		if list == "" {
			return nil
		}
		return strings.Split(list, ",")
	}
	for _, name := range split(m[3]) {
		if f, ok := find(name); ok {
			w.By = append(w.By, f.Name)
			c.noDouble(s, f, w.At, "window")
		}
	}
	for _, one := range split(m[4]) {
		x := orderedForm.FindStringSubmatch(strings.TrimSpace(one))
		if f, ok := find(x[1]); ok {
			w.Order = append(w.Order, Ordered{f.Name, strings.EqualFold(x[2], "desc")})
		}
	}
	if w.Order == nil && (w.Function == "lag" || w.Function == "lead" || w.Function == "row_number") {
		c.errorf(w.written.At, path, "%s needs an order: over (... order by day)", w.Function)
	}
}
