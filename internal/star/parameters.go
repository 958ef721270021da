package star

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/place"
)

// Parameter is something that a run is told: {name} in paths, :name in expressions.
type Parameter struct {
	Name
	Type    column.Type
	Default *Name // nil if it has to be given
	Value   string
}

// Compile compiles the expression over the fields that it was checked against, with the parameters of its model.
func (e Expression) Compile(fields []column.Field) (*expr.Program, error) {
	if e.parameters == nil {
		return expr.Compile(e.Text, fields)
	}
	return expr.Compile(e.Text, fields, *e.parameters...)
}

func (r *reader) parameterEntries(p *Parameter) []Entry {
	return []Entry{
		{"type", "a type", "its type", true, func(n *node) {
			if w, ok := r.word(n, "a type"); ok {
				var err error
				if p.Type, err = column.ParseType(w.Text); err != nil {
					r.errorf(w.At, n.path, "%v", err)
				}
			}
		}},
		{"default", "a value", "its value where the run isn't told another; without it, one must be given", false, func(n *node) {
			if w, ok := r.word(n, "a value"); ok {
				p.Default = &w
			}
		}},
	}
}

func (r *reader) readParameters(n *node) []*Parameter {
	var list []*Parameter
	r.each(n, func(n *node) {
		p := &Parameter{Name: r.name(n.key, n.path)}
		list = append(list, p)
		if n.Kind == yaml.MappingNode {
			r.section(n, r.parameterEntries(p))
		} else if w, ok := r.word(n, "a type"); ok {
			var err error
			if p.Type, err = column.ParseType(w.Text); err != nil {
				r.errorf(w.At, n.path, "%v", err)
			}
		}
	})
	return list
}

// settle gives the parameters their values: what is given, or else the default.
func (r *reader) settle(m *Model, given func(parameter string) (value string, ok bool)) {
	for _, p := range m.Parameters {
		at, path := p.At, "parameters."+p.Text
		value, ok := "", false
		if given != nil {
			value, ok = given(p.Text)
		}
		switch {
		case ok:
		case p.Default != nil:
			value, at = p.Default.Text, p.Default.At
		default:
			r.errorf(p.At, path, "no value is given, and there is no default: --set %s=...", p.Text)
			continue
		}
		c := column.Column{Type: p.Type}
		c.Resize(1)
		if known(p.Type) && column.NewReader(m.Zone).Set(&c, 0, value) != nil {
			r.errorf(at, path, "%s is no %s", place.Printable(value), p.Type)
			continue
		}
		if known(p.Type) {
			value = c.Value(0)
		}
		p.Value = value
		r.parameters = append(r.parameters, expr.Parameter{Name: p.Text, Type: p.Type, Value: value})
	}
}

// fill puts the values of parameters into a path. A value is part of one element of the path, and leads nowhere else.
func (r *reader) fill(w Name, path string) Name {
	var b strings.Builder
	for rest := w.Text; ; {
		before, after, opened := strings.Cut(rest, "{")
		b.WriteString(before)
		if !opened {
			break
		}
		name, behind, closed := strings.Cut(after, "}")
		if !closed {
			r.errorf(w.At, path, "{ is never closed: {name} is the value of a parameter")
			return w
		}
		at := slices.IndexFunc(r.parameters, func(p expr.Parameter) bool { return p.Name == name })
		if at < 0 {
			var names []string
			for _, p := range r.parameters {
				names = append(names, p.Name)
			}
			r.errorf(w.At, path, "there is no parameter %s%s", name, place.Suggest(name, names))
			return w
		}
		value := r.parameters[at].Value
		if value == "" || strings.ContainsAny(value, `/\*?[]{}:`+"\x00") || strings.HasPrefix(value, ".") || strings.Contains(value, "..") {
			r.errorf(w.At, path, "the value of %s can't be part of a file's name: %q", name, value)
			return w
		}
		b.WriteString(value)
		rest = behind
	}
	w.Text = b.String()
	return w
}
