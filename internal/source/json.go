package source

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/tidwall/gjson"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/exact"
	"ironmonger/internal/parse"
	"ironmonger/internal/star"
)

// jsonPath is where a column is in an object: under a name of it, or below that by a path of gjson's.
type jsonPath struct{ name, rest string }

// newPath reads the path of a column, names with points between; a backslash before a point makes it part of a name.
func newPath(path string) jsonPath {
	var name strings.Builder
	for i := 0; i < len(path); i++ {
		switch {
		case path[i] == '\\' && i+1 < len(path):
			i++
			name.WriteByte(path[i])
		case path[i] == '.':
			return jsonPath{name.String(), below(path[i+1:])}
		default:
			name.WriteByte(path[i])
		}
	}
	return jsonPath{name: name.String()}
}

// below makes a path one of gjson's, in which other characters than the point mean something, too.
func below(path string) string {
	var b strings.Builder
	escaped := false
	for _, c := range path {
		if escaped || c == '\\' {
			escaped = !escaped
		} else if strings.ContainsRune(`*?|#@!{}[]()=<>%":`, c) {
			b.WriteByte('\\')
		}
		b.WriteRune(c)
	}
	return b.String()
}

// fillLines turns lines, each a JSON object, into typed rows.
func (p *piece) fillLines(b *column.Batch) error {
	if p.of.each != nil {
		return p.fillElements(b)
	}
	b.Reset(bytes.Count(p.data, []byte{'\n'}) + 1)
	readers := p.of.readers()
	b.From.File, b.From.Line = p.file.name, b.From.Line[:0]
	var lines [][]byte
	number, fixed := p.line, p.fixed()
	for line := range bytes.Lines(p.data) {
		number++
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		n := len(lines)
		lines, b.From.Line = append(lines, line), append(b.From.Line, number)
		line = p.corrected(fixed, number, line)
		if !gjson.ValidBytes(line) {
			return jsonError(p.file.name, number, line)
		}
		if line[0] != '{' {
			for k := range p.of.paths {
				b.Cols[k].SetNull(n)
			}
			b.SetAside(n, "", "the line is not a JSON object", diag.Clip(diag.Printable(string(line)), 60))
			continue
		}
		for k := range p.of.paths {
			b.Cols[k].SetNull(n)
		}
		p.of.begin(b, n)
		gjson.ParseBytes(line).ForEach(func(name, value gjson.Result) bool {
			for _, k := range p.of.named[name.Str] {
				if rest := p.of.paths[k].rest; rest != "" {
					p.place(b, n, k, value.Get(rest), readers[k])
				} else {
					p.place(b, n, k, value, readers[k])
				}
			}
			return true
		})
	}
	b.Cut(len(lines))
	b.From.Bytes = p.bytes
	b.From.Raw = func(i int) string { return string(lines[i]) }
	return nil
}

// place puts a value of an object into column k of row n.
func (p *piece) place(b *column.Batch, n, k int, value gjson.Result, reader *parse.Reader) {
	if value.IsObject() && p.of.of.Format == star.XML { // an element has a text beside its attributes
		value = textIn(value)
	}
	c, text := &b.Cols[k], value.Raw
	if p.of.isText(k) && value.Type != gjson.Null {
		c.Null[n], c.Text[n] = false, strings.ToValidUTF8(value.String(), string(replaced))
		return
	}
	switch value.Type {
	case gjson.Null:
		return
	case gjson.String:
		text = value.Str
		if half(value.Raw) {
			b.SetAside(
				n,
				p.of.fields[k].Name,
				p.of.fields[k].Name+" has half a character: one of the two parts of a \\u pair",
				diag.Clip(diag.Printable(value.Raw), 60),
			)
			return
		}
	case gjson.Number:
		if c.Type.Exact() {
			text = written(text)
		}
	case gjson.JSON:
		if !p.of.nested {
			what := "an object"
			if value.IsArray() {
				what = "a list"
			}
			b.SetAside(
				n,
				p.of.fields[k].Name,
				fmt.Sprintf("%s is %s, not one value", p.of.fields[k].Name, what),
				diag.Clip(diag.Printable(text), 60),
			)
			return
		}
	}
	at := diag.Place{File: p.file.name, Line: int(b.From.Line[n])}
	if err := reader.Set(c, n, text); err != nil && !p.of.replace(b, n, k, reader, at, text) {
		b.SetAside(n, p.of.fields[k].Name, p.of.fields[k].Name+" "+err.Error(), diag.Clip(diag.Printable(text), 60))
	} else if reader.Ambiguous {
		reader.Ambiguous = false
		p.of.doubt(k, at, text)
	}
}

// textIn returns the text of an element that has attributes, too; an element that has other elements is left as it is.
func textIn(element gjson.Result) gjson.Result {
	text, alone := gjson.Result{}, true
	element.ForEach(func(name, value gjson.Result) bool {
		if name.Str == ElementText {
			text = value
		} else if !strings.HasPrefix(name.Str, "@") {
			alone = false
		}
		return true
	})
	if !alone {
		return element
	}
	return text
}

// half reports whether a string of JSON, as it is written, has one half of a surrogate pair without the other: no
// text at all, for which a decoder puts a sign of its own.
func half(raw string) bool {
	unit := func(at int) uint64 { // of the escape that begins there, 0 if none does
		if at+6 > len(raw) || raw[at] != '\\' || raw[at+1] != 'u' {
			return 0
		}
		u, _ := strconv.ParseUint(raw[at+2:at+6], 16, 16)
		return u
	}
	for at := strings.IndexByte(raw, '\\'); at >= 0 && at+1 < len(raw); {
		switch u := unit(at); {
		case u >= 0xdc00 && u < 0xe000:
			return true
		case u >= 0xd800 && u < 0xdc00:
			if low := unit(at + 6); low < 0xdc00 || low >= 0xe000 {
				return true
			}
			at += 12
		default:
			at += 2
		}
		next := strings.IndexByte(raw[min(at, len(raw)):], '\\')
		if next < 0 {
			break
		}
		at += next
	}
	return false
}

// written returns a number of JSON without its exponent; one beyond what any column holds stays as it is.
func written(number string) string {
	mantissa, exponent, ok := strings.Cut(strings.ToLower(number), "e")
	shift, err := strconv.Atoi(exponent)
	if !ok || err != nil || shift < -exact.MaxDigits || shift > exact.MaxDigits {
		return number
	}
	sign := ""
	if strings.HasPrefix(mantissa, "-") {
		sign, mantissa = "-", mantissa[1:]
	}
	whole, frac, _ := strings.Cut(mantissa, ".")
	zeros := strings.Repeat("0", exact.MaxDigits+1)
	digits := zeros + whole + frac + zeros
	point := len(zeros) + len(whole) + shift
	whole, frac = strings.TrimLeft(digits[:point], "0"), strings.TrimRight(digits[point:], "0")
	if whole == "" {
		whole = "0"
	}
	if frac == "" {
		return sign + whole
	}
	return sign + whole + "." + frac
}

// jsonError puts what is no JSON in its place.
func jsonError(name string, number int64, line []byte) *diag.Error {
	e := &diag.Error{At: diag.Place{File: name, Line: int(number)}, Message: "this is not JSON"}
	var v any
	var syntax *json.SyntaxError
	if err := json.Unmarshal(line, &v); errors.As(err, &syntax) {
		e.Message += ": " + syntax.Error()
		before := int(syntax.Offset) - 1
		if strings.HasPrefix(syntax.Error(), "unexpected end") {
			before = len(line)
		}
		e.At.Column = utf8.RuneCount(line[:max(0, min(before, len(line)))]) + 1
	}
	if len(line) < 200 {
		e.Text = string(line)
	}
	return e
}

// objects checks that a file can be read as lines; its rows tell which columns they have.
func (f *Files) objects(file *file, s *star.Source) diag.List {
	fail := failing(file, s)
	if file.left != nil {
		return nil
	}
	in, err := f.open(file)
	if err != nil {
		return fail(0, "%s", reason(err))
	}
	defer in.Close()
	file.info = in.info
	start := make([]byte, 4)
	n, _ := in.Read(start)
	if in.failed != nil {
		return fail(0, "%s", in.plain())
	}
	if start = start[:n]; bytes.HasPrefix(start, []byte("PAR1")) || bytes.HasPrefix(start, []byte("PK\x03\x04")) ||
		bytes.IndexByte(start, 0) >= 0 ||
		bytes.HasPrefix(start, []byte{0xff, 0xfe}) {
		return fail(1, "this is not text of JSON objects, a line each")
	}
	return nil
}

// keys lists the names of the objects in the first lines of a file.
func (f *Files) keys(file *file) ([]string, error) {
	var names []string
	seen := map[string]bool{}
	in, err := f.open(file)
	if err != nil {
		return nil, &diag.Error{At: diag.Place{File: file.name}, Message: reason(err)}
	}
	defer in.Close()
	start := make([]byte, PieceSize)
	n := 0
	for n < len(start) {
		m, err := in.Read(start[n:])
		if n += m; err != nil {
			break
		}
	}
	for line := range bytes.Lines(bytes.TrimPrefix(start[:n], bom)) {
		gjson.ParseBytes(line).ForEach(func(key, _ gjson.Result) bool {
			if key.Type == gjson.String && !seen[key.Str] {
				seen[key.Str] = true
				names = append(names, key.Str)
			}
			return true
		})
	}
	return names, nil
}
