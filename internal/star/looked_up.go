package star

import (
	"strconv"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
)

// LookedUp is a dimension that somebody else has made: a table or view of the warehouse that keys are looked up in,
// and to which nothing is written.
type LookedUp struct {
	Table    string
	Key      string // the column of its surrogate key
	From, To string // the columns of its validity, [From, To); "" if a natural key has one row
	Several  string // which of several rows of a natural key and validity: stop, first or last by key
	Unknown  *int64 // the key of its unknown member; nil if it has none

	columns            []Column
	table, key         Name
	validFrom, validTo *Name
	at                 diag.Place
}

func (r *reader) lookedUpEntries(l *LookedUp) []Entry {
	word := func(to **Name) func(n *node) {
		return func(n *node) {
			if w, ok := r.word(n, "a column"); ok {
				*to = &w
			}
		}
	}
	return []Entry{
		{
			"table",
			"a name",
			"the table or view, in the schema of the warehouse",
			true,
			func(n *node) { l.table, _ = r.word(n, "a table") },
		},
		{
			"key",
			"a column",
			"its surrogate key, an integer",
			true,
			func(n *node) { l.key, _ = r.word(n, "a column") },
		},
		{
			"columns",
			"name: type",
			"the columns of its natural key and validity, and their types",
			true,
			func(n *node) { l.columns = r.columns(n) },
		},
		{
			"valid_from",
			"a column",
			"the time from which a row is valid; null means always. Required, with valid_to, if a natural key has several versions",
			false,
			word(&l.validFrom),
		},
		{"valid_to", "a column", "the time up to which a row is valid, not included; null means for ever", false, word(&l.validTo)},
		{
			"several",
			"stop, first or last",
			"what happens if there are several rows of one natural key (and start): the step stops (the default), or the row with the least or the greatest key is taken",
			false,
			func(n *node) {
				l.Several = r.choice(n, "stop", "first", "last")
			},
		},
		{"unknown", "a key", "the key of its unknown member, if it has one", false, func(n *node) {
			w, ok := r.word(n, "a key")
			v, err := strconv.ParseInt(w.Text, 10, 64)
			if ok && err != nil {
				r.errorf(w.At, n.path, "%s is not an integer", w.Text)
			}
			l.Unknown = &v
		}},
	}
}

// lookedUp finds the columns of a dimension that is only looked up in.
func (c *checker) lookedUp(d *Dimension, path string) {
	l := d.LookedUp
	l.Table, l.Key = l.table.Text, l.key.Text
	c.refuse(d, path, "nothing is written to a dimension that is looked up in", d.said()[1:])
	var fields []column.Field
	for _, col := range l.columns {
		fields = append(fields, column.Field{Name: col.Text, Type: col.Type})
	}
	d.NaturalKey = c.fields(fields, "looked_up.columns", d.text.naturalKey, path+".natural_key")
	for i, f := range d.NaturalKey {
		if f.Type.Kind == column.Double {
			c.errorf(d.text.naturalKey[i].At, path+".natural_key", "a double cannot be a key: make it a decimal or text")
		}
	}
	if len(d.text.naturalKey) == 0 {
		c.errorf(d.At, path, "natural_key is missing (a column or a list)")
	}
	if (l.validFrom == nil) != (l.validTo == nil) {
		c.errorf(l.at, path+".looked_up", "valid_from and valid_to are said together")
	} else if l.validFrom != nil {
		from, ok := c.field(fields, "looked_up.columns", *l.validFrom, path+".looked_up.valid_from")
		to, too := c.field(fields, "looked_up.columns", *l.validTo, path+".looked_up.valid_to")
		if ok && too && (from.Type != to.Type || from.Type.Kind != column.Date && from.Type.Kind != column.Timestamp) {
			c.errorf(l.validFrom.At, path+".looked_up", "valid_from and valid_to are both dates or both timestamps")
		}
		l.From, l.To, d.text.validity = from.Name, to.Name, from.Type
	}
}
