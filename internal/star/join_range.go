package star

import (
	"strings"

	"ironmonger/internal/column"
)

// Range has rows of another source mean the values from one column there to below another: bands of tonnage, rates by
// distance. A limit that is null does not limit.
type Range struct {
	Of       string // the column here
	From, To string // the columns there

	of, from, to Name
	at           Name
}

func (r *reader) rangeEntries(x *Range) []Entry {
	word := func(to *Name) func(n *node) { return func(n *node) { *to, _ = r.word(n, "a column") } }
	return []Entry{
		{"of", "a column", "the column of this source whose value is looked for", true, word(&x.of)},
		{"from", "a column", "the column of the other source with the least value; null does not limit the range", true, word(&x.from)},
		{"to", "a column", "the column of the other source with the value that is beyond the greatest: the range does not have it; null does not limit the range", true, word(&x.to)},
	}
}

// ranges checks what a range compares.
func (c *checker) ranges(j *Join, there, here []column.Field, of, own, path string) {
	x := j.Range
	path += ".range"
	if j.effective != nil {
		c.errorf(x.at.At, path, "a join is of a time (effective) or of a range: a range can have times as its limits")
	}
	value, ok := c.field(here, own, x.of, path+".of")
	x.Of = value.Name
	for _, limit := range []struct {
		name Name
		to   *string
		key  string
	}{{x.from, &x.From, "from"}, {x.to, &x.To, "to"}} {
		f, too := c.field(there, of, limit.name, path+"."+limit.key)
		*limit.to = f.Name
		if !ok || !too || !known(f.Type) || !known(value.Type) {
			continue
		}
		same := f.Type.Kind == value.Type.Kind && f.Type.Scale == value.Type.Scale && f.Type.Wide() == value.Type.Wide()
		switch {
		case value.Type.Kind == column.Double || value.Type.Kind == column.Boolean:
			c.errorf(x.of.At, path+".of", "%s is of type %s; a range is of exact numbers, texts or times", value.Name, value.Type)
			return
		case !same:
			c.errorf(limit.name.At, path+"."+limit.key, "%s is of type %s, and %s of type %s: derive a column that has the type", f.Name, f.Type, value.Name, value.Type)
		}
	}
}

// ofStar returns a source with the rows of a dimension or a fact of the model, if that is what a name means; else nil.
func (c *checker) ofStar(w *Name) *Source {
	kind, name, two := strings.Cut(w.Text, " ")
	if !two || kind != "dimension" && kind != "fact" {
		return nil
	}
	s := &Source{Name: Name{kind + " " + strings.TrimSpace(name), w.At}}
	s.text.from = w
	return s
}

// versionsOf has a join with rows of the star, as of a time, find the version of that time.
func (j *Join) versionsOf() {
	if j.asOf != nil && j.effective == nil {
		j.Source.versions = true
		j.effective = &Name{ValidFrom, j.asOf.At}
	}
}
