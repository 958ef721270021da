package star

import (
	"time"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/column"
)

// Newest says how old the newest value of a column of a fact's table may be.
type Newest struct {
	Name
	Field  column.Field
	AtMost time.Duration
}

func (r *reader) newest(n *node) (list []Newest) {
	if n.Kind != yaml.MappingNode {
		r.errorf(r.at(n.Node), n.path, "expected column: time")
		return nil
	}
	r.each(n, func(n *node) { list = append(list, Newest{Name: n.key, AtMost: r.duration(n)}) })
	return list
}

// newest finds the columns of which the newest value is looked at.
func (c *checker) newest(f *Fact, path string) {
	for i := range f.Newest {
		w := &f.Newest[i]
		var ok bool
		w.Field, ok = c.field(f.Degenerate, "the table of fact "+f.Text, w.Name, path+".newest")
		if t := w.Field.Type; ok && known(t) && t.Kind != column.Date && t.Kind != column.Timestamp {
			c.errorf(w.At, path+".newest", "%s is of type %s; it must be a date or a timestamp", w.Text, t)
		}
	}
}
