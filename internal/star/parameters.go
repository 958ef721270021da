package star

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/expr"
	"ironmonger/internal/parse"
)

// Parameter is something that a run is told: {name} in paths, :name in expressions and queries. A secret is for
// connections alone: it is never stored, shown or used elsewhere.
type Parameter struct {
	Name
	Type    column.Type
	Secret  bool
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
		{
			"type",
			"a type",
			"its type; or `secret`, for a password: it can be used only in connections, and it is never stored or shown",
			true,
			func(n *node) { r.parameterType(p, n) },
		},
		{
			"default",
			"a value",
			"the default value; without it, the run must have a value",
			false,
			func(n *node) {
				if w, ok := r.word(n, "a value"); ok {
					p.Default = &w
				}
			},
		},
	}
}

func (r *reader) readParameters(n *node) []*Parameter {
	var list []*Parameter
	r.each(n, func(n *node) {
		p := &Parameter{Name: r.name(n.key, n.path)}
		list = append(list, p)
		if n.Kind == yaml.MappingNode {
			r.section(n, r.parameterEntries(p))
		} else {
			r.parameterType(p, n)
		}
	})
	return list
}

func (r *reader) parameterType(p *Parameter, n *node) {
	if n.Value == "secret" {
		p.Secret, p.Type = true, column.Type{Kind: column.Text}
		return
	}
	p.Type = r.typ(n)
}

// settle returns the parameters their values: what is given, or else the default.
func (r *reader) settle(m *Model, given func(parameter string) (value string, ok bool)) {
	for _, p := range m.Parameters {
		at, path := p.At, "parameters."+p.Text
		value, ok := "", false
		if given != nil {
			value, ok = given(p.Text)
		}
		switch {
		case p.Default != nil && p.Secret:
			r.errorf(
				p.Default.At,
				path,
				"a secret has no place in a model: IRONMONGER_SET_%s, or a file that --parameters names",
				p.Text,
			)
			continue
		case ok:
		case p.Default != nil:
			value, at = p.Default.Text, p.Default.At
		default:
			r.errorf(p.At, path, "no value is given, and there is no default: --set %s=...", p.Text)
			r.valueless = append(r.valueless, p.Text)
			continue
		}
		if p.Secret {
			p.Value = value
			r.secrets = append(r.secrets, p)
			continue
		}
		c := column.Column{Type: p.Type}
		c.Resize(1)
		if known(p.Type) && parse.NewReader(m.Zone).Set(&c, 0, value) != nil {
			r.errorf(at, path, "%s is not of type %s", diag.Printable(value), p.Type)
			r.valueless = append(r.valueless, p.Text)
			continue
		}
		if known(p.Type) {
			value = c.Value(0)
		}
		p.Value = value
		r.parameters = append(r.parameters, expr.Parameter{Name: p.Text, Type: p.Type, Value: value})
	}
}

// fill puts the values of parameters into a path; a name that kept knows stays as it is. A value is part of one
// element of the path, and leads nowhere else.
func (r *reader) fill(w Name, path string, kept ...func(name string) bool) Name {
	text, ok := r.replace(w, path, func(p *expr.Parameter, secret bool) (string, bool) {
		switch {
		case secret:
			r.errorf(w.At, path, "a secret has no place in a path")
		case !FitsPath(p.Value):
			r.errorf(w.At, path, "the value of %s cannot be part of a file's name: %q", p.Name, p.Value)
		default:
			return p.Value, true
		}
		return "", false
	}, kept...)
	if ok {
		w.Text = text
	}
	return w
}

// replace returns a text with what stands in braces replaced by what value makes of the parameter's value.
func (r *reader) replace(
	w Name,
	path string,
	value func(p *expr.Parameter, secret bool) (string, bool),
	kept ...func(name string) bool,
) (string, bool) {
	ok := true
	text, closed := Placeholders(w.Text, func(name string) string {
		for _, p := range r.parameters {
			if p.Name == name && len(kept) > 0 && kept[0](name) {
				r.errorf(w.At, path, "%s is a parameter and a column of the list, too: call one otherwise", name)
			}
			if p.Name != name || !ok {
				continue
			}
			text, fine := value(&p, false)
			ok = ok && fine
			return text
		}
		names := make([]string, len(r.parameters))
		for i, p := range r.parameters {
			names[i] = p.Name
		}
		for _, p := range r.secrets {
			if p.Text == name {
				text, fine := value(&expr.Parameter{Name: p.Text, Value: p.Value}, true)
				ok = ok && fine
				return text
			}
			names = append(names, p.Text)
		}
		if len(kept) > 0 && kept[0](name) {
			return "{" + name + "}"
		}
		if ok && !slices.Contains(r.valueless, name) {
			r.errorf(w.At, path, "there is no parameter %s%s", name, diag.Suggest(name, names))
		}
		ok = false
		return ""
	})
	if !closed {
		r.errorf(w.At, path, "{ is never closed: {name} is the value of a parameter")
	}
	return text, ok && closed
}

// FitsPath reports whether a value may be part of one element of a path: it cannot lead elsewhere, and is no pattern.
func FitsPath(value string) bool {
	return value != "" && !strings.ContainsAny(value, `/\*?[]{}:`+"\x00") && !strings.HasPrefix(value, ".") &&
		!strings.Contains(value, "..")
}

// Placeholders replaces each {name} of a text; closed is false if a brace is never closed.
func Placeholders(text string, value func(name string) string) (filled string, closed bool) {
	var b strings.Builder
	for {
		before, after, opened := strings.Cut(text, "{")
		b.WriteString(before)
		if !opened {
			return b.String(), true
		}
		name, behind, closed := strings.Cut(after, "}")
		if !closed {
			return b.String(), false
		}
		b.WriteString(value(name))
		text = behind
	}
}

// ReadParameters reads the values of parameters from a file of names and values, as YAML has them.
func ReadParameters(file string) (map[string]string, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("the parameters cannot be read: %w", err)
	}
	if len(text) > MaxFile {
		return nil, fmt.Errorf("%s is larger than 4 MiB", file)
	}
	written := strings.TrimPrefix(string(text), "\ufeff")
	r := newReader(file, written, nil)
	values := map[string]string{}
	if top := r.parse([]byte(written)); top != nil {
		r.each(top, func(n *node) {
			if w, ok := r.word(n, "a value"); ok {
				values[n.key.Text] = w.Text
			}
		})
	}
	for _, e := range r.errs { // neither the line nor what it is said to hold: it may be a secret
		e.Text, e.Message = "", "expected keys and values here, a line each: name: value"
	}
	return values, r.errs.Err()
}
