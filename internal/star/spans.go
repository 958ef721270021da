package star

import (
	"ironmonger/internal/column"
	"ironmonger/internal/diag"
)

// Spans cuts the spans of time of a list where one of them begins or ends: within each span that is left, the list has
// the same members. A list that stays as it is has one span.
type Spans struct {
	Within   []string
	From, To string

	within   []Name
	from, to Name
	at       diag.Place
}

func (r *reader) spanEntries(x *Spans) []Entry {
	return []Entry{
		{"within", "a column or a list", "the columns that rows of one list have in common, such as the vessel whose owners they are; null equals null", true, func(n *node) { x.within = r.words(n, "a column") }},
		{"from", "a date or timestamp column", "since when a row holds. A row without it is set aside", true, func(n *node) { x.from, _ = r.word(n, "a column") }},
		{"to", "a date or timestamp column", "until when, that time excluded; null is for good. A row that does not end after it begins is set aside", true, func(n *node) { x.to, _ = r.word(n, "a column") }},
	}
}

// spans checks which spans are cut.
func (c *checker) spans(s *Source, fields []column.Field, path string) {
	x := s.Spans
	path += ".spans"
	switch {
	case s.Group != nil || s.Periods != nil:
		c.errorf(x.at, path, "a source has a group, a pivot, periods or spans: from: makes another one of it")
		return
	case len(s.Windows) > 0:
		c.errorf(x.at, path, "weights and windows come before spans: another source, made from this one, has them behind")
		return
	}
	for _, f := range c.fields(fields, "source "+s.Text, x.within, path+".within") {
		x.Within = append(x.Within, f.Name)
		c.noDouble(s, f, x.at, "spans")
	}
	time := func(w Name, key string) column.Field {
		f, ok := c.field(fields, "source "+s.Text, w, path+"."+key)
		if ok && known(f.Type) && f.Type.Kind != column.Date && f.Type.Kind != column.Timestamp {
			c.errorf(w.At, path+"."+key, "%s is of type %s; it must be a date or a timestamp", f.Name, f.Type)
			return column.Field{}
		}
		return f
	}
	from, to := time(x.from, "from"), time(x.to, "to")
	x.From, x.To = from.Name, to.Name
	if from.Name != "" && to.Name != "" && from.Type.Kind != to.Type.Kind && known(from.Type) && known(to.Type) {
		c.errorf(x.to.At, path+".to", "%s is of type %s, and %s of type %s: both are days, or both are times", to.Name, to.Type, from.Name, from.Type)
	}
}
