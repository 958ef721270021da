package star

import (
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
)

// Words are what people call a thing, and what it means to them.
type Words struct {
	Title   string `json:"title,omitempty"`
	Meaning string `json:"meaning,omitempty"`
	Unit    string `json:"unit,omitempty"` // of a measure
	Adds    string `json:"adds,omitempty"` // of a measure that does not add up: over what
}

// String is the words in one text, as a comment in a database has them.
func (w Words) String() string {
	s := w.Title
	if w.Unit != "" {
		s = strings.TrimSpace(s + " (" + w.Unit + ")")
	}
	if s != "" && w.Meaning != "" {
		s += ": "
	}
	s += w.Meaning
	if s != "" && w.Adds != "" {
		s += "; "
	}
	return s + w.Adds
}

// Described is what a model says of a source, a dimension or a fact in words, and of its columns.
type Described struct {
	Words
	columns map[string]wordsOf
}

type wordsOf struct {
	Words
	at Name
}

// describedEntries are the keys of words, which sources, dimensions and facts have.
func (r *reader) describedEntries(d *Described) []Entry {
	text := func(to *string) func(n *node) {
		return func(n *node) {
			if w, ok := r.word(n, "a text"); ok {
				*to = strings.TrimSpace(w.Text)
			}
		}
	}
	return []Entry{
		{"title", "a text", "what people call it", false, text(&d.Title)},
		{"meaning", "a text", "what a row of it means", false, text(&d.Meaning)},
		{
			"words",
			"column: meaning, or keys",
			"what its columns mean: a text, or keys. What a source says holds for the dimensions and facts that take the columns, unless they say something else. In PostgreSQL, titles, meanings and units are comments of tables and columns; a comment that the model no longer has stays",
			false,
			func(n *node) { r.columnWords(n, d) },
		},
	}
}

func (r *reader) columnWords(n *node, d *Described) {
	r.each(n, func(n *node) {
		w := wordsOf{at: n.key}
		if n.Kind == yaml.MappingNode {
			r.section(n, r.wordEntries(&w.Words))
		} else if text, ok := r.word(n, "a text"); ok {
			w.Meaning = strings.TrimSpace(text.Text)
		}
		if d.columns == nil {
			d.columns = map[string]wordsOf{}
		}
		d.columns[n.key.Text] = w
	})
}

func (r *reader) wordEntries(w *Words) []Entry {
	text := func(to *string) func(n *node) {
		return func(n *node) {
			if w, ok := r.word(n, "a text"); ok {
				*to = strings.TrimSpace(w.Text)
			}
		}
	}
	return []Entry{
		{"title", "a text", "what people call it", false, text(&w.Title)},
		{"meaning", "a text", "what it means", false, text(&w.Meaning)},
		{"unit", "a text, such as EUR", "of a number: what it counts", false, text(&w.Unit)},
	}
}

// words checks what the model says in words.
func (c *checker) words() {
	roles := func(keys []*Key) (fields []column.Field) {
		for _, k := range keys {
			fields = append(fields, column.Field{Name: k.Text, Type: column.Type{Kind: column.Null}})
		}
		return fields
	}
	for _, s := range c.model.Sources {
		if s.state == right {
			c.described(&s.Said, append(s.Complete(), s.Fields()...), "sources."+s.Text)
		}
	}
	for _, d := range c.model.Dimensions {
		c.described(&d.Said, append(roles(d.Keys), d.own()...), "dimensions."+d.Text)
	}
	for _, f := range c.model.Facts {
		c.described(&f.Said, append(roles(f.Keys), f.own()...), "facts."+f.Text)
	}
}

// described checks that words are of columns that are there.
func (c *checker) described(d *Described, fields []column.Field, path string) {
	for _, name := range slices.Sorted(maps.Keys(d.columns)) {
		w := d.columns[name]
		at := column.Find(fields, name)
		if at < 0 {
			c.errorf(w.at.At, path+".words", "there is no column %s%s", name, diag.Suggest(name, column.Names(fields)))
		} else if t := fields[at].Type; w.Unit != "" && known(t) && !t.Numeric() {
			c.errorf(w.at.At, path+".words."+name+".unit", "%s is of type %s, and has no unit", name, t)
		}
	}
}

// WordsOf returns the words of a column of a source: its own, or else those of the source of which it is made.
func (s *Source) WordsOf(name string) Words {
	if s == nil {
		return Words{}
	}
	if w, ok := s.Said.columns[name]; ok {
		return w.Words
	}
	for _, o := range s.Made() {
		if w := o.WordsOf(name); w != (Words{}) {
			return w
		}
	}
	for _, j := range s.Joins {
		if column.Find(j.Fields(), name) >= 0 && j.Source != nil {
			return j.Source.WordsOf(name)
		}
	}
	return Words{}
}

// WordsOf returns the words of an attribute, or of a column that the dimension takes.
func (d *Dimension) WordsOf(name string) Words {
	if w, ok := d.Said.columns[name]; ok {
		return w.Words
	}
	return d.Source.WordsOf(name)
}

// WordsOf returns the words of a measure, a key or another column that the fact takes.
func (f *Fact) WordsOf(name string) Words {
	w := f.Source.WordsOf(name)
	if own, ok := f.Said.columns[name]; ok {
		w = own.Words
	}
	if over, not := f.Over(name); not && over == "" {
		w.Adds = "does not add up"
	} else if not {
		w.Adds = "does not add up over " + over
	}
	return w
}
