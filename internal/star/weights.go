package star

import (
	"strconv"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/column"
)

// Weights says that rows are a list of members, each with a weight: together they add up to exactly 1. They are carried
// out as windows.
type Weights struct {
	within []Name
	by     []Name
	shares Name
	name   Name
	places int
	parts  [][2]Name // the new column, and the amount of which it has a part
	at     Name
}

func (r *reader) weightEntries(w *Weights) []Entry {
	return []Entry{
		{"within", "a column or a list", "the columns that rows of one list have in common, such as the number of a passage", true, func(n *node) { w.within = r.words(n, "a column") }},
		{"by", "a column or a list", "the columns that tell members apart: of equal remainders, the lesser member gets the unit. Rows of a list that are of one member have its weight: it counts once, and its shares are added", true, func(n *node) { w.by = r.words(n, "a column") }},
		{"shares", "a numeric column", "an exact number, not below zero, by which a row has its weight; without it, all have the same", false, func(n *node) { w.shares, _ = r.word(n, "a column") }},
		{"name", "a name", "the new column; the default is `weight`", false, func(n *node) {
			if x, ok := r.word(n, "a name"); ok {
				w.name = r.name(x, n.path)
			}
		}},
		{"places", "a number", "decimal places of weights; the default is 6. Weights add up to 1 in whole units of the last place, by largest remainder", false, func(n *node) {
			x, ok := r.word(n, "a number")
			if v, err := strconv.Atoi(x.Text); ok && (err != nil || v < 0 || v > 17) {
				r.errorf(x.At, n.path, "%s is not a number of places: 0 to 17", x.Text)
			} else {
				w.places = v
			}
		}},
		{"parts", "name: column", "new columns with the part of an amount that a row has by its share, in whole units of the amount's last place: they add up to the amount of the list, which each of its rows has", false, func(n *node) {
			if n.Kind == yaml.MappingNode {
				r.each(n, func(n *node) {
					if x, ok := r.word(n, "a column"); ok {
						w.parts = append(w.parts, [2]Name{r.name(n.key, n.path), x})
					}
				})
				return
			}
			r.errorf(r.at(n.Node), n.path, "expected name: column")
		}},
	}
}

// weights makes windows of weights.
func (c *checker) weights(s *Source, fields []column.Field, path string) {
	w := s.Weights
	if w == nil {
		return
	}
	s.Weights = nil // it is checked once
	path += ".weights"
	typ := column.Type{Kind: column.Decimal, Precision: uint8(w.places + 1), Scale: uint8(w.places)}
	one := Window{Name: w.name, Function: Weight, Type: typ}
	for _, f := range c.fields(fields, "source "+s.Text, w.within, path+".within") {
		one.By = append(one.By, f.Name)
		c.noDouble(s, f, w.at.At, "weights")
	}
	for _, f := range c.fields(fields, "source "+s.Text, w.by, path+".by") {
		one.Order = append(one.Order, Ordered{f.Name, false})
	}
	if w.shares.Text != "" {
		if f, ok := c.field(fields, "source "+s.Text, w.shares, path+".shares"); ok {
			if one.Shares = f.Name; known(f.Type) && !f.Type.Exact() {
				c.errorf(w.shares.At, path+".shares", "%s is of type %s; shares are integers or decimals", f.Name, f.Type)
			}
		}
	}
	list := []Window{one}
	for _, p := range w.parts {
		part := one
		part.Name, part.Function = p[0], PartOf
		if f, ok := c.field(fields, "source "+s.Text, p[1], path+".parts"); ok {
			if part.Column, part.Type = f.Name, f.Type; known(f.Type) && !f.Type.Exact() {
				c.errorf(p[1].At, path+".parts", "%s is of type %s; parts are of integers and decimals", f.Name, f.Type)
			}
			list = append(list, part)
		}
	}
	s.Windows = append(s.Windows, list...)
}
