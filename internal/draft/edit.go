package draft

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/star"
)

// edit is the text of a model to which lines are added. What stands there stays as it is, comments and blank lines too.
type edit struct {
	lines   []string
	top     *yaml.Node
	inserts map[int][]string // behind which line, from 1
	changed map[int]bool     // lines within which something was added
}

// Added is lines that were added to a model.
type Added struct {
	Line int    `json:"line"` // of the first, in the text as it is now
	Text string `json:"text"`
}

// newEdit begins an edit; nil if the text is no mapping.
func newEdit(text string) *edit {
	var doc yaml.Node
	if yaml.Unmarshal([]byte(text), &doc) != nil || len(doc.Content) == 0 || doc.Content[0].Kind != yaml.MappingNode {
		return nil
	}
	return &edit{
		lines: strings.Split(strings.TrimSuffix(text, "\n"), "\n"), top: doc.Content[0], inserts: map[int][]string{}, changed: map[int]bool{},
	}
}

// text returns the text with what was added.
func (e *edit) text() string {
	var b strings.Builder
	put := func(lines []string) {
		for _, line := range lines {
			b.WriteString(line + "\n")
		}
	}
	put(e.inserts[0])
	for n, line := range e.lines {
		b.WriteString(line + "\n")
		put(e.inserts[n+1])
	}
	return b.String()
}

// added lists the lines that were added or that have got something more, with where they stand.
func (e *edit) added() []Added {
	var list []Added
	at := 1
	for n := 0; n <= len(e.lines); n++ {
		if e.changed[n] {
			list = append(list, Added{at, e.lines[n-1]})
		}
		if n > 0 {
			at++
		}
		if lines := e.inserts[n]; len(lines) > 0 {
			list = append(list, Added{at, strings.Join(lines, "\n")})
			at += len(lines)
		}
	}
	return list
}

// find returns the key and the value under a name in a mapping; nil if there is none.
func find(n *yaml.Node, name string) (key, value *yaml.Node) {
	if n == nil || n.Kind != yaml.MappingNode {
		return nil, nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == name {
			return n.Content[i], n.Content[i+1]
		}
	}
	return nil, nil
}

// source returns the mapping of a source, and the lines that it takes.
func (e *edit) source(s *star.Source) (n *yaml.Node, first, last int) {
	_, sources := find(e.top, "sources")
	key, n := find(sources, s.Text)
	if n == nil {
		return nil, 0, 0
	}
	return n, key.Line, e.end(n)
}

// end is the last line of a node, with the brackets that close it.
func (e *edit) end(n *yaml.Node) int {
	last := n.Line
	if n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0 {
		last += strings.Count(strings.TrimRight(n.Value, "\n"), "\n") + 1
	}
	for _, c := range n.Content {
		last = max(last, e.end(c))
	}
	for last < len(e.lines) && strings.Trim(e.lines[last], " ]},") == "" && strings.TrimSpace(e.lines[last]) != "" {
		last++
	}
	return last
}

// mentions reports whether a comment of a source has a name in it: then somebody has thought of it.
func (e *edit) mentions(s *star.Source, name string) bool {
	_, first, last := e.source(s)
	word := regexp.MustCompile(`(^|[^\pL\pN_])` + regexp.QuoteMeta(name) + `($|[^\pL\pN_])`)
	for n := first; n > 0 && n <= last; n++ {
		if _, comment, ok := strings.Cut(e.lines[n-1], "#"); ok && word.MatchString(comment) {
			return true
		}
	}
	for n := last; n > 0 && n < len(e.lines) && strings.HasPrefix(strings.TrimSpace(e.lines[n]), "#"); n++ { // below it
		if word.MatchString(e.lines[n]) {
			return true
		}
	}
	return false
}

// columns adds lines to the columns of a source, which are written for a model with two blanks a level. It reports
// whether it could: not if the source takes all columns, or lists them.
func (e *edit) columns(s *star.Source, lines []string) bool {
	n, _, _ := e.source(s)
	_, columns := find(n, "columns")
	if columns == nil || columns.Kind != yaml.MappingNode || len(columns.Content) == 0 {
		return false
	}
	if columns.Style&yaml.FlowStyle == 0 {
		e.insert(e.end(columns), indented(lines, 3, columns.Content[0].Column-1))
		return true
	}
	var parts []string // within braces: comments have no place there
	for _, line := range lines {
		if line = strings.TrimSpace(line); !strings.HasPrefix(line, "#") {
			parts = append(parts, line)
		}
	}
	if parts == nil {
		return false
	}
	e.within(columns, strings.Join(parts, ", "))
	return true
}

// within adds text at the beginning of what stands in braces or brackets.
func (e *edit) within(n *yaml.Node, text string) {
	line := e.lines[n.Line-1]
	at := len(string([]rune(line)[:n.Column])) // behind the brace
	separator := ", "
	if len(n.Content) == 0 {
		separator = ""
	}
	e.changed[n.Line] = true
	e.lines[n.Line-1] = line[:at] + text + separator + line[at:]
}

// widen adds paths to what a source reads.
func (e *edit) widen(s *star.Source, files []string) {
	n, _, _ := e.source(s)
	_, read := find(n, "read")
	if read == nil || len(files) == 0 || s.Within.Text != "" {
		return
	}
	add := patterns(files)
	switch {
	case read.Kind == yaml.SequenceNode && read.Style&yaml.FlowStyle != 0:
		e.within(read, strings.Join(quotedAll(add), ", "))
	case read.Kind == yaml.SequenceNode:
		var lines []string
		for _, p := range add {
			lines = append(lines, strings.Repeat(" ", read.Column-1)+"- "+quoted(p))
		}
		e.insert(e.end(read), lines)
	default:
		line := []rune(e.lines[read.Line-1])
		from := read.Column - 1
		to := from + len([]rune(read.Value))
		if read.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
			to += 2
		}
		if to > len(line) || !strings.Contains(string(line[from:to]), read.Value) {
			return
		}
		e.changed[read.Line] = true
		e.lines[read.Line-1] = string(line[:from]) + "[" + string(line[from:to]) + ", " + strings.Join(quotedAll(add), ", ") + "]" + string(line[to:])
	}
}

func quotedAll(words []string) []string {
	var list []string
	for _, s := range words {
		list = append(list, quoted(s))
	}
	return list
}

// section adds lines at the end of a section of the model, or with it at the end of the text.
func (e *edit) section(name string, lines []string) error {
	for i := 0; i+1 < len(e.top.Content); i += 2 {
		key, value := e.top.Content[i], e.top.Content[i+1]
		if key.Value != name {
			continue
		}
		if value.Kind == yaml.MappingNode && value.Style&yaml.FlowStyle != 0 && len(value.Content) > 0 {
			return fmt.Errorf("%s is written in braces, where these lines have no place:\n%s", name, strings.Join(lines, "\n"))
		}
		last := len(e.lines)
		if i+2 < len(e.top.Content) {
			last = e.top.Content[i+2].Line - 1
		}
		for last > key.Line && (strings.TrimSpace(e.lines[last-1]) == "" || strings.HasPrefix(e.lines[last-1], "#")) {
			last--
		}
		indent := 2
		if value.Kind == yaml.MappingNode && len(value.Content) > 0 {
			indent = value.Content[0].Column - 1
			lines = append([]string{""}, lines...)
		}
		e.insert(last, indented(lines, 1, indent))
		return nil
	}
	e.insert(len(e.lines), append([]string{"", name + ":"}, lines...))
	return nil
}

// insert adds lines behind a line; what is added to one place later comes behind.
func (e *edit) insert(behind int, lines []string) {
	e.inserts[behind] = append(e.inserts[behind], lines...)
}

// indented moves lines that were written for a level to a number of blanks.
func indented(lines []string, level, blanks int) []string {
	list := slices.Clone(lines)
	for k, line := range list {
		if line != "" {
			list[k] = strings.Repeat(" ", blanks) + strings.TrimPrefix(line, strings.Repeat("  ", level))
		}
	}
	return list
}
