package star

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/expr"
	"ironmonger/internal/parse"
)

// Entry is a key that a section of the model may have. The list of a section's entries is what reads
// it, and what its page of the reference is made of.
type Entry struct {
	Name     string
	Form     string // what its value looks like
	Doc      string // what it means
	Required bool
	read     func(n *node)
}

// node is a YAML node with its path inside the model.
type node struct {
	*yaml.Node
	path string
	key  Name // the key it stands under
}

// reader gathers mistakes while it reads a file of a model.
type reader struct {
	file  string
	lines []string
	*gathered
}

// gathered is what the readers of all files of a model share.
type gathered struct {
	first string              // the file that includes the others
	texts map[string][]string // the lines of the files, by their names
	errs  diag.List

	parameters []expr.Parameter // with their values, once all files have been read
	secrets    []*Parameter
	valueless  []string // parameters that have been complained of
	defaults   []folderDefaults
}

// newReader returns a reader of the text of a file, which shares what others have gathered; nil for the first one.
func newReader(file, text string, with *gathered) *reader {
	if with == nil {
		with = &gathered{first: file, texts: map[string][]string{}}
	}
	r := &reader{file, strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n"), with}
	with.texts[file] = r.lines
	return r
}

func (r *reader) errorf(at diag.Place, subject, format string, args ...any) {
	e := &diag.Error{At: at, Subject: subject, Message: fmt.Sprintf(format, args...)}
	if lines := r.texts[at.File]; at.Line > 0 && at.Line <= len(lines) {
		e.Text = lines[at.Line-1]
	}
	r.errs = append(r.errs, e)
}

func (r *reader) at(n *yaml.Node) diag.Place {
	return diag.Place{File: r.file, Line: n.Line, Column: n.Column}
}

var yamlLine = regexp.MustCompile(`^yaml: (?:line (\d+): )?(.*)$`)

// readText returns the top mapping of the file, or nil with a complaint.
func (r *reader) parse(text []byte) *node {
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		at := diag.Place{File: r.file}
		message := strings.ReplaceAll(err.Error(), "\n", " ")
		if m := yamlLine.FindStringSubmatch(message); m != nil {
			at.Line, _ = strconv.Atoi(m[1])
			message = m[2]
		}
		if at.Line = r.mistake(at.Line); at.Line > 0 && at.Line <= len(r.lines) &&
			halfQuoted.MatchString(r.lines[at.Line-1]) {
			message += "; a value that begins with a quote ends with it: put the whole expression in the other quotes, \"'M' || code\""
		}
		r.errorf(at, "", "this is not YAML: %s", message)
		return nil
	}
	if len(doc.Content) == 0 {
		r.errorf(diag.Place{File: r.file}, "", "the model is empty")
		return nil
	}
	if !r.plain(&doc) {
		return nil
	}
	return &node{Node: doc.Content[0]}
}

// halfQuoted is a line whose value begins with something in quotes and goes on.
var halfQuoted = regexp.MustCompile(`:\s+('[^']*'|"[^"]*")\s*[^\s#,}\]]`)

// mistake returns the line of a mistake that the YAML package tells near a line: the one behind the longest
// beginning of the file that is YAML.
func (r *reader) mistake(line int) int {
	const far = 50
	for n := min(line+far, len(r.lines)) - 1; n > 0 && n > line-far; n-- {
		var doc yaml.Node
		if yaml.Unmarshal([]byte(strings.Join(r.lines[:n], "\n")), &doc) == nil {
			return min(n+1, len(r.lines))
		}
	}
	return line
}

// plain refuses what makes YAML more than a tree of words.
func (r *reader) plain(n *yaml.Node) bool {
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		r.errorf(r.at(n), "", "anchors and aliases are not allowed: write it out")
		return false
	}
	if strings.HasPrefix(n.Tag, "!") && !strings.HasPrefix(n.Tag, "!!") || n.Tag == "!!merge" || n.Tag == "!!binary" {
		r.errorf(r.at(n), "", "tags such as %s are not allowed", n.Tag)
		return false
	}
	ok := true
	for _, c := range n.Content {
		ok = r.plain(c) && ok
	}
	return ok
}

// each calls f for every key of a mapping in written order, having told repeated keys.
func (r *reader) each(n *node, f func(n *node)) {
	if n.Kind != yaml.MappingNode {
		r.errorf(r.at(n.Node), n.path, "expected keys and values here (key: value), not %s", r.shape(n))
		return
	}
	seen := map[string]int{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		if k.Kind != yaml.ScalarNode {
			r.errorf(r.at(k), n.path, "a key is a plain word")
			continue
		}
		if strings.HasSuffix(k.Value, ")") && v.Tag == "!!null" {
			r.errorf(
				r.at(k),
				n.path,
				"inside braces a comma ends a value: write one column a line, so that decimal(9,2) stays whole",
			)
			continue
		}
		if line, again := seen[k.Value]; again {
			r.errorf(r.at(k), n.path, "%s is written twice (first in line %d)", k.Value, line)
			continue
		}
		seen[k.Value] = k.Line
		path := k.Value
		if n.path != "" {
			path = n.path + "." + k.Value
		}
		f(&node{v, path, Name{k.Value, r.at(k)}})
	}
}

// section reads a mapping whose keys are known.
func (r *reader) section(n *node, entries []Entry) {
	if n.Tag == "!!null" {
		n = &node{&yaml.Node{Kind: yaml.MappingNode, Line: n.Line, Column: n.Column}, n.path, n.key}
	}
	given := map[string]bool{}
	ok := n.Kind == yaml.MappingNode
	r.each(n, func(c *node) {
		given[c.key.Text] = true
		var names []string
		for _, e := range entries {
			if e.Name == c.key.Text {
				e.read(c)
				return
			}
			names = append(names, e.Name)
		}
		r.errorf(c.key.At, n.path, "no such key: %s%s", c.key.Text, diag.Suggest(c.key.Text, names))
	})
	for _, e := range entries {
		if e.Required && ok && !given[e.Name] {
			at := n.key.At
			if at.Line == 0 {
				at = diag.Place{File: r.file}
			}
			r.errorf(at, n.path, "%s is missing (%s)", e.Name, e.Form)
		}
	}
}

func (r *reader) shape(n *node) string {
	switch {
	case n.Tag == "!!null":
		return "nothing"
	case n.Kind == yaml.MappingNode:
		return "keys and values"
	case n.Kind == yaml.SequenceNode:
		return "a list"
	}
	return "the word " + n.Value
}

// word reads a scalar as it is written.
func (r *reader) word(n *node, what string) (Name, bool) {
	if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		r.errorf(r.at(n.Node), n.path, "expected %s, not %s", what, r.shape(n))
		return Name{At: r.at(n.Node)}, false
	}
	return Name{n.Value, r.at(n.Node)}, true
}

// words reads a list of scalars, or one scalar as a list of one.
func (r *reader) words(n *node, what string) []Name {
	if n.Kind == yaml.ScalarNode {
		if w, ok := r.word(n, what); ok {
			return []Name{w}
		}
		return nil
	}
	if n.Kind != yaml.SequenceNode {
		r.errorf(r.at(n.Node), n.path, "expected %s or a list of them, not %s", what, r.shape(n))
		return nil
	}
	var list []Name
	seen := map[string]bool{}
	for _, c := range n.Content {
		w, ok := r.word(&node{Node: c, path: n.path}, what)
		if ok && seen[w.Text] {
			r.errorf(w.At, n.path, "%s is listed twice", w.Text)
		} else if ok {
			seen[w.Text] = true
			list = append(list, w)
		}
	}
	return list
}

// choice reads one of a few words.
func (r *reader) choice(n *node, options ...string) string {
	w, ok := r.word(n, "one of "+strings.Join(options, ", "))
	if !ok {
		return ""
	}
	for _, o := range options {
		if o == w.Text {
			return o
		}
	}
	if near := diag.Nearest(w.Text, options); near != "" {
		r.errorf(w.At, n.path, "no such choice: %s (did you mean %s?)", w.Text, near)
	} else {
		r.errorf(w.At, n.path, "no such choice: %s (there is: %s)", w.Text, strings.Join(options, ", "))
	}
	return ""
}

// name reads the word that a thing of ours is called, which becomes part of table and column names.
var goodName = regexp.MustCompile(`^[\p{L}_][\p{L}\p{N}_]{0,47}$`)

func (r *reader) name(w Name, path string) Name {
	if !goodName.MatchString(w.Text) {
		r.errorf(
			w.At,
			path,
			"%q cannot be a name: letters, digits and _, beginning with no digit, at most 48",
			w.Text,
		)
	}
	return w
}

// expression reads an expression; At is the place of its first character.
func (r *reader) expression(n *node, what string) Expression {
	w, _ := r.word(n, what)
	switch {
	case n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0:
		w.At.Column++
	case n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0:
		w.At = diag.Place{File: r.file, Line: w.At.Line + 1}
	}
	return Expression{w, &r.parameters}
}

// share reads a percentage into millionths, or none.
func (r *reader) share(n *node) int64 {
	w, ok := r.word(n, "a share such as 20%, or none")
	if !ok || w.Text == "none" {
		return NoLimit
	}
	c := column.Column{Type: column.Type{Kind: column.Decimal, Precision: 7, Scale: 4}}
	c.Resize(1)
	number, percent := strings.CutSuffix(w.Text, "%")
	if !percent || parse.NewReader(nil).Set(&c, 0, number) != nil || c.Int[0] < 0 || c.Int[0] > 100_0000 {
		r.errorf(w.At, n.path, "%s is not a share: write 20%%, or none", w.Text)
		return NoLimit
	}
	return c.Int[0]
}
