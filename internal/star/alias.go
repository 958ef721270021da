package star

import (
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
)

// Aliases are natural keys that mean a member known by another: of another registry, of a member found to be the same,
// or the one that it had before it was renamed.
type Aliases struct {
	Source *Source
	Alias  []string // its columns that have the other natural key, in the order of the natural key
	Is     []string // and those that have the one by which the member is known

	from      *Name
	alias, is []Name
	at        diag.Place
}

// Aliased is columns of a shaped source that say a natural key: behind the last stage, those that say an alias are
// brought to what it means.
type Aliased struct {
	*Aliases
	Columns []string
}

func (r *reader) aliasEntries(a *Aliases) []Entry {
	words := func(to *[]Name) func(n *node) { return func(n *node) { *to = r.words(n, "a column") } }
	return []Entry{
		{"from", "a source", "the source that lists them; the list must stay complete", true, func(n *node) {
			if w, ok := r.word(n, "a source"); ok {
				a.from = &w
			}
		}},
		{
			"alias",
			"a column or a list",
			"the columns of the other natural key, in the order of the dimension's",
			true,
			words(&a.alias),
		},
		{
			"is",
			"a column or a list",
			"the columns of the natural key that it means, which can be an alias again",
			true,
			words(&a.is),
		},
	}
}

// aliases finds the columns that tell of other natural keys, which are compared in their one form.
func (c *checker) aliases(d *Dimension, path string) {
	a := d.Aliases
	if a == nil {
		return
	}
	path += ".aliases"
	if d.Source == nil {
		c.errorf(a.at, path, "only members that a source delivers have aliases")
		d.Aliases = nil
		return
	}
	if a.Source = c.findSource(a.from, path+".from"); a.Source == nil {
		d.Aliases = nil
		return
	}
	for _, group := range []struct {
		names []Name
		to    *[]string
		in    string
	}{{a.alias, &a.Alias, ".alias"}, {a.is, &a.Is, ".is"}} {
		fields := c.fields(a.Source.Fields(), "source "+a.Source.Text, group.names, path+group.in)
		if *group.to = column.Names(fields); len(group.names) != len(d.NaturalKey) {
			c.errorf(
				a.at,
				path+group.in,
				"the natural key has %d columns, and here are %d",
				len(d.NaturalKey),
				len(group.names),
			)
			d.Aliases = nil
			continue
		}
		for i, f := range fields {
			if len(fields) == len(d.NaturalKey) && f.Type != d.NaturalKey[i].Type && known(f.Type) &&
				known(d.NaturalKey[i].Type) {
				c.errorf(
					group.names[i].At,
					path+group.in,
					"%s is of type %s, but %s of the natural key is of type %s: nothing would ever match",
					f.Name,
					f.Type,
					d.NaturalKey[i].Name,
					d.NaturalKey[i].Type,
				)
			}
		}
	}
	if d.Aliases == nil {
		return
	}
	for i, f := range d.NaturalKey {
		d.Delivered[i] = c.match(d.Source, d, i, Name{f.Name, a.at}, path)
	}
	c.aliased(d.Source, d, d.Delivered, a.at, path)
}

// aliased has a source bring a natural key of d to what its aliases mean.
func (c *checker) aliased(s *Source, d *Dimension, columns []string, at diag.Place, path string) {
	if d.Aliases == nil || s == nil || len(columns) != len(d.NaturalKey) {
		return
	}
	if made(d.Aliases.Source, s) {
		c.errorf(
			at,
			path,
			"the aliases of dimension %s are made of source %s, so that cannot have them itself",
			d.Text,
			s.Text,
		)
		return
	}
	if !slices.ContainsFunc(
		s.Aliased,
		func(x Aliased) bool { return x.Aliases == d.Aliases && slices.Equal(x.Columns, columns) },
	) {
		s.Aliased = append(s.Aliased, Aliased{d.Aliases, slices.Clone(columns)})
	}
}

// made reports whether a source is made of another, or is it.
func made(s, of *Source) bool {
	return s == of || slices.ContainsFunc(s.Others(), func(o *Source) bool { return made(o, of) })
}
