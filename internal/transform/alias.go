package transform

import (
	"context"
	"fmt"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/keyindex"
	"ironmonger/internal/star"
)

// aliases is the other natural keys of a dimension, and what each means in the end.
type aliases struct {
	of    *star.Aliases
	flow  *Flow
	index *keyindex.Index // of those that are aliases
	other []column.Column // these
	means []column.Column // what each of these means
	names []string
}

// openAliases opens the list of aliases.
func (f *Flow) openAliases(ctx context.Context, of *star.Aliases) (*aliases, error) {
	a := &aliases{of: of}
	var err error
	a.flow, err = Open(ctx, f.in, of.Source, func(c string) bool {
		for _, name := range append(of.Alias[:len(of.Alias):len(of.Alias)], of.Is...) {
			if c == name {
				return true
			}
		}
		return false
	})
	f.helpers = append(f.helpers, a.flow)
	return a, err
}

// load reads the list, and follows each alias to what it means in the end.
func (a *aliases) load(ctx context.Context, f *Flow) error {
	fields := a.flow.Fields()
	var types []column.Type
	var alias, is []int
	for k, name := range a.of.Alias {
		at := column.Find(fields, name)
		alias = append(alias, at)
		is = append(is, column.Find(fields, a.of.Is[k]))
		types = append(types, fields[at].Type)
		a.means = append(a.means, column.Column{Type: fields[at].Type})
		a.other = append(a.other, column.Column{Type: fields[at].Type})
	}
	a.index = keyindex.New(types)
	err := f.each(ctx, a.flow, func(b *column.Batch, i int) error {
		mistake := func(what string) error {
			return &diag.Error{
				At:      diag.Place{File: b.From.File, Line: int(b.From.Line[i])},
				Subject: "source " + a.of.Source.Text,
				Message: what,
			}
		}
		for n, c := range append(b.Pick(alias), b.Pick(is)...) {
			if c.Null[i] {
				return mistake(
					append(a.of.Alias, a.of.Is...)[n] + " is null: an alias and what it means have to be said in full",
				)
			}
		}
		from, to := b.Pick(alias), b.Pick(is)
		name, meant := text(from, i), text(to, i)
		if name == meant {
			return nil
		}
		n, fresh := a.index.Add(from, i)
		if !fresh {
			if known := text(column.Pointers(a.means), int(n)); known != meant {
				return mistake(fmt.Sprintf("the alias ‹%s› means both ‹%s› and ‹%s›", name, known, meant))
			}
			return nil
		}
		a.names = append(a.names, name)
		for k := range a.means {
			a.other[k].Append(from[k], i)
			a.means[k].Append(to[k], i)
		}
		return nil
	})
	if err != nil {
		return err
	}
	return a.follow()
}

// follow brings what an alias of an alias means to the end of the chain.
func (a *aliases) follow() error {
	next := make([]int32, len(a.names))
	a.index.Find(column.Pointers(a.means), next)
	for n := range next {
		at := int32(n)
		for steps := 0; next[at] >= 0; steps++ {
			if at = next[at]; steps > len(next) {
				return fmt.Errorf("source %s: the alias ‹%s› comes round to itself", a.of.Source.Text, a.names[n])
			}
		}
		for k := range a.means {
			if at != int32(n) {
				a.means[k].Set(n, &a.means[k], int(at))
			}
		}
	}
	a.index.Freeze()
	return nil
}

// text names a natural key for people.
func text(cols []*column.Column, i int) string {
	var parts []string
	for _, c := range cols {
		parts = append(parts, c.Value(i))
	}
	return diag.Clip(diag.Printable(strings.Join(parts, ", ")), 60)
}

// naming brings the columns of a batch that say a natural key to what their aliases mean. It is for one goroutine.
type naming struct {
	*aliases
	at     []int
	member []int32
}

func (x *naming) apply(b *column.Batch) {
	cols := b.Pick(x.at)
	if cap(x.member) < b.N {
		x.member = make([]int32, b.N+b.N/4)
	}
	member := x.member[:b.N]
	x.index.Find(cols, member)
	for i, m := range member {
		if m >= 0 {
			for n, c := range cols {
				c.Set(i, &x.means[n], int(m))
			}
		}
	}
}

// Aliases returns the aliases of a dimension that a flow knows: row by row, the other natural key and what it means
// in the end.
func (f *Flow) Aliases(ctx context.Context, of *star.Aliases) (other, means []*column.Column, err error) {
	a := f.aliases[of]
	if a == nil {
		return nil, nil, nil
	}
	if err := f.prepare(ctx); err != nil {
		return nil, nil, err
	}
	return column.Pointers(a.other), column.Pointers(a.means), nil
}
