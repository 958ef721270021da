package star

import (
	"strconv"
	"strings"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
)

// Since says that of a table or query only rows are read that are new or changed since the last load.
type Since struct {
	Column  Name
	Type    column.Type
	Overlap int64 // by how much earlier rows are read, too, in units of the column

	overlap Name
}

// since returns what is said of the rows that are read, made where nothing was said yet.
func (s *Source) since() *Since {
	if s.Since == nil {
		s.Since = &Since{}
	}
	return s.Since
}

// Watched lists the sources by whose since the rows of s are chosen.
func (s *Source) Watched() []*Source {
	var list []*Source
	if s.Since != nil {
		list = append(list, s)
	}
	for _, o := range s.Made() {
		list = append(list, o.Watched()...)
	}
	return list
}

// Completing lists the sources that read the files which complete the rows of s: those of joins, aliases and lists.
func (s *Source) Completing() []*Source {
	var list []*Source
	made := map[*Source]bool{}
	for _, o := range s.Made() {
		made[o] = true
		list = append(list, o.Completing()...)
	}
	for _, o := range s.Others() {
		if !made[o] {
			list = append(list, o.filed()...)
		}
	}
	return list
}

// filed lists the sources that read the files of which the rows of s are made or completed.
func (s *Source) filed() []*Source {
	var list []*Source
	if s.Database == nil && s.Standing == nil && len(s.Made()) == 0 && s.DrivenBy == nil {
		list = append(list, s)
	}
	for _, o := range s.Others() {
		list = append(list, o.filed()...)
	}
	return list
}

// since completes what is said of the rows that are read.
func (c *checker) since(s *Source, path string) {
	w := s.Since
	if w == nil {
		return
	}
	if w.Column.Text == "" {
		c.errorf(w.overlap.At, path+".overlap", "overlap goes with since, the column by which new rows are known")
		return
	}
	if s.Database == nil {
		c.errorf(
			w.Column.At,
			path+".since",
			"since is for a table or query of a database: files that have not changed are not read",
		)
		return
	}
	field, ok := c.field(s.Fields(), "source "+s.Text, w.Column, path+".since")
	switch {
	case !ok:
		return
	case known(field.Type) && field.Type.Kind != column.Integer && !field.Type.Temporal():
		c.errorf(
			w.Column.At,
			path+".since",
			"%s is of type %s; it must be an integer, a date or a timestamp",
			field.Name,
			field.Type,
		)
		return
	}
	if w.Type = field.Type; w.overlap.Text != "" {
		w.Overlap, ok = overlapOf(w.overlap.Text, w.Type)
		if !ok {
			const message = "%s is not a span of %s: 2 days for a date, 2 days or 6 hours for a timestamp, a number for an integer"
			c.errorf(w.overlap.At, path+".overlap", message, w.overlap.Text, field.Name)
		}
	}
}

// overlapOf reads a span in units of a column.
func overlapOf(s string, t column.Type) (int64, bool) {
	number, unit, _ := strings.Cut(s, " ")
	n, err := strconv.ParseInt(number, 10, 64)
	if err != nil || n < 0 || n > mostOverlap {
		return 0, false
	}
	unit = strings.TrimSuffix(unit, "s")
	switch {
	case t.Kind == column.Integer:
		return n, unit == ""
	case t.Kind == column.Date:
		return n, unit == "day"
	case unit == "day":
		return n * civil.DayMicros, true
	}
	return n * (civil.DayMicros / 24), unit == "hour"
}

// mostOverlap keeps spans within what a timestamp can count.
const mostOverlap = 1_000_000

// watched refuses since below what needs all rows.
func (c *checker) watched(s *Source, path string, all *Deliveries) {
	if s == nil || len(s.Watched()) == 0 {
		return
	}
	if all != nil {
		c.errorf(
			s.At,
			path,
			"a delivery of all rows cannot be read in part: delivers has no place with since, in source %s",
			s.Text,
		)
	}
	for o := s; o != nil; o = o.From {
		if o.Group != nil || o.Periods != nil || o.Spans != nil || o.Distinct != nil || len(o.Windows) > 0 {
			c.errorf(o.At, "sources."+o.Text, "group, window, distinct, periods and spans need all rows: since has no place below them")
		}
	}
}
