package source

import (
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/parse"
	"ironmonger/internal/star"
)

// maxRecord is how many bytes a record may have.
const maxRecord = 16 << 20

var bom = []byte("\ufeff")

// failure returns what is wrong with a file, at a line of it or, with 0, as a whole.
type failure func(line int, format string, args ...any) diag.List

func failing(file *file, s *star.Source) failure {
	return func(line int, format string, args ...any) diag.List {
		return diag.List{
			{
				At:      diag.Place{File: file.name, Line: line},
				Subject: "source " + s.Text,
				Message: fmt.Sprintf(format, args...),
			},
		}
	}
}

// first reads the first record of a file, the names of its columns if it has a header. A file without one may
// be empty.
func (f *Files) first(file *file, fail failure) ([]string, diag.List) {
	if file.left != nil {
		file.head, file.width = file.left.Head, len(file.left.Head)
		return file.head, nil
	}
	in, err := f.open(file)
	if err != nil {
		return nil, fail(0, "%s", reason(err))
	}
	defer in.Close()
	file.info, file.line = in.info, int(in.above)+1
	start := make([]byte, 4)
	n, _ := io.ReadFull(in, start)
	start = start[:n]
	if in.failed != nil {
		return nil, fail(file.line, "%s", in.plain())
	}
	if message := notText(start); message != "" && f.of.Format != star.Workbook {
		return nil, fail(file.line, "%s", message)
	}
	rd := f.records(io.LimitReader(io.MultiReader(bytes.NewReader(bytes.TrimPrefix(start, bom)), in), maxRecord))
	names, err := rd.Read()
	if in.failed != nil {
		return nil, fail(file.line, "%s", in.plain())
	}
	if err == io.EOF && f.csv.Headless {
		return nil, nil
	} else if err == io.EOF {
		return nil, fail(file.line, "the file is empty; its first line must be a header with the names of the columns")
	} else if err != nil {
		return nil, diag.List{csvError(file.name, in.above, err, nil)}
	}
	file.width, file.head = len(names), names
	for i := range names {
		names[i] = f.field(names[i])
		if !f.csv.Headless && !f.fits(names[i]) {
			return nil, fail(
				file.line,
				"the header is not %s text: %s",
				cmp.Or(f.csv.Encoding, "UTF-8"),
				diag.Printable(names[i]),
			)
		}
	}
	return names, nil
}

// notText says why a file that begins so is no text of records; "" if it may be.
func notText(start []byte) string {
	switch {
	case bytes.HasPrefix(start, []byte("PAR1")), bytes.HasPrefix(start, []byte("PK\x03\x04")):
		return "this is not CSV text, but a Parquet or zip file"
	case bytes.HasPrefix(start, []byte{0xff, 0xfe}), bytes.HasPrefix(start, []byte{0xfe, 0xff}), bytes.IndexByte(start, 0) >= 0:
		return "this is not UTF-8 text; it looks like UTF-16 (csv: encoding says so)"
	}
	return ""
}

// header finds the source's columns in a file.
func (f *Files) header(file *file, s *star.Source) diag.List {
	fail := failing(file, s)
	names, errs := f.first(file, fail)
	if errs != nil || names == nil {
		return errs
	}
	if f.csv.Headless {
		return f.positions(file, s)
	}
	at := map[string]int{}
	twice := map[string]bool{}
	for i, name := range names {
		_, again := at[name]
		twice[name] = twice[name] || again
		at[name] = i
	}
	find := func(c *star.Column) (i int, name string, ok bool) {
		for _, name := range append([]string{c.InFile()}, c.Others...) {
			if i, ok := at[name]; ok {
				return i, name, true
			}
		}
		return -1, c.InFile(), false
	}
	for k := range s.Columns {
		c := &s.Columns[k]
		i, name, ok := find(c)
		if ok = ok || c.Optional && c.Position == 0; c.Position > 0 {
			i, ok = c.Position-1, c.Position <= len(names)
		}
		switch {
		case !ok && len(names) == 1 && strings.ContainsAny(names[0], ",;\t|"):
			return fail(
				file.line,
				"the header is one column, %s: what separates the columns? (csv: separator)",
				diag.Printable(names[0]),
			)
		case !ok && c.Position > 0:
			errs = append(
				errs,
				fail(
					file.line,
					"column %s is to stand at position %d, and the header has %d columns",
					c.Text,
					c.Position,
					len(names),
				)...)
		case !ok:
			errs = append(
				errs,
				fail(file.line, "the header has no column %s%s", c.InFile(), diag.Suggest(c.InFile(), names))...)
		case twice[name] && c.Position == 0:
			errs = append(errs, fail(file.line, "the header has two columns called %s; position tells which", name)...)
		case column.Find(f.fields, c.Text) >= 0:
			file.at = append(file.at, i)
		}
	}
	file.marks(f)
	for _, c := range f.judged {
		i, _, _ := find(c)
		if file.at = append(file.at, i); c.Position > 0 {
			file.at[len(file.at)-1] = c.Position - 1
		}
	}
	return errs
}

// positions finds the columns of a file without a header, which has as many as its first row.
func (f *Files) positions(file *file, s *star.Source) diag.List {
	for n, c := range s.Columns {
		at := n
		if c.Position > 0 {
			at = c.Position - 1
		}
		if at >= file.width {
			return diag.List{{At: diag.Place{File: file.name, Line: 1}, Subject: "source " + s.Text,
				Message: fmt.Sprintf(
					"column %s is to stand at position %d, and the row has %d fields",
					c.Text,
					at+1,
					file.width,
				)}}
		}
		if column.Find(f.fields, c.Text) >= 0 {
			file.at = append(file.at, at)
		}
	}
	file.marks(f)
	for _, c := range f.judged {
		at := c.Position - 1
		if c.Position == 0 {
			at = slices.IndexFunc(s.Columns, func(o star.Column) bool { return o.Text == c.Text })
		}
		file.at = append(file.at, at)
	}
	return nil
}

// isMark stands for the place of a field that no record has: it says that another one could not be read.
const isMark = -2

// marks adds the places of such fields.
func (file *file) marks(f *Files) {
	for k := len(f.unfit); f.isMark(k); k++ {
		file.at = append(file.at, isMark)
	}
}

// records reads records as the source writes them. encoding/csv knows one quote: where another is
// declared, the two change places, in what it reads and again in the fields.
func (f *Files) records(in io.Reader) *csv.Reader {
	if f.csv.Quote != '"' {
		in = swapped{in, f.csv.Quote}
	}
	rd := csv.NewReader(in)
	rd.Comma = rune(f.csv.Separator)
	rd.FieldsPerRecord = -1
	return rd
}

// swapped exchanges double quotes and another byte.
type swapped struct {
	io.Reader
	quote byte
}

func (s swapped) Read(b []byte) (int, error) {
	n, err := s.Reader.Read(b)
	for i, c := range b[:n] {
		switch c {
		case '"':
			b[i] = s.quote
		case s.quote:
			if b[i] = '"'; s.quote == 0 { // there are no quotes: a zero byte is none, and still no text
				b[i] = 0xff
			}
		}
	}
	return n, err
}

func (f *Files) unswap(s string) string {
	if f.csv.Quote == '"' || strings.IndexByte(s, '"') < 0 && strings.IndexByte(s, f.csv.Quote) < 0 {
		return s
	}
	if f.csv.Quote == 0 {
		return strings.ReplaceAll(s, "\x00", `"`)
	}
	b := []byte(s)
	swapped{bytes.NewReader([]byte(s)), f.csv.Quote}.Read(b)
	return string(b)
}

// replaced is what a decoder writes for bytes that mean nothing in its encoding.
var replaced = []byte("\ufffd")

// fits reports whether a text is whole: UTF-8, and without what a decoder has put in place of bytes that mean nothing.
// Where UTF-8 is read, bytes that are none are found with their column's type.
func (f *Files) fits(s string) bool {
	if f.csv.Encoding == "" {
		return utf8.ValidString(s)
	}
	return !strings.Contains(s, string(replaced))
}

// unguard takes off the apostrophe that keeps a spreadsheet from taking a value for a formula.
func (f *Files) unguard(s string) string {
	if f.csv.Guarded {
		return strings.TrimPrefix(s, "'")
	}
	return s
}

// field is a field without what the form of the file adds to it.
func (f *Files) field(s string) string {
	if f.of.Format == star.Workbook {
		s, _ = asInCell(s)
		return s
	}
	return f.unguard(f.unswap(s))
}

// piece is some whole records of a file. last marks what was given up on as too long a record.
type piece struct {
	of      *Files
	file    *file
	data    []byte
	line    int64 // of the first byte, from 0
	tooLong bool
	bytes   int64 // of the file, compressed as they may be
}

// cut reads a file and cuts it at ends of records: after newlines that stand outside quotes, which are
// those with an even number of quotes before them.
func (f *Files) cut(ctx context.Context, file *file) iter.Seq2[*piece, error] {
	return func(yield func(*piece, error) bool) {
		in, err := f.open(file)
		if err != nil {
			yield(nil, &diag.Error{At: diag.Place{File: file.name}, Message: reason(err)})
			return
		}
		defer in.Close()
		var rest []byte
		told := int64(0) // bytes of the file that pieces have told of
		line, first, header := in.above, true, !f.csv.Headless && !f.lines
		for size := f.piece; ; {
			if ctx.Err() != nil {
				yield(nil, ctx.Err())
				return
			}
			data := make([]byte, len(rest)+size)
			copy(data, rest)
			n, err := io.ReadFull(in, data[len(rest):])
			data = data[:len(rest)+n]
			end := err != nil
			if in.failed != nil {
				place := diag.Place{File: file.name, Line: int(line) + 1}
				if f.of.Format == star.XML { // whose lines are others; the message has them
					place.Line = 0
				}
				yield(nil, &diag.Error{At: place, Message: in.plain()})
				return
			}
			if end && f.changed(file, in) {
				yield(
					nil,
					&diag.Error{At: diag.Place{File: file.name}, Message: "the file was changed while it was read"},
				)
				return
			}
			if first {
				data, first = bytes.TrimPrefix(data, bom), false
			}
			at := len(data)
			if !end {
				if at = bytes.LastIndexByte(data, '\n') + 1; !f.lines && f.csv.Quote != 0 {
					at = recordEnd(data, f.csv.Quote)
				}
			}
			tooLong := at == 0 && len(data) >= maxRecord
			if tooLong {
				at = len(data)
			}
			rest = data[at:]
			if at == 0 && !end {
				continue // not one whole record yet
			}
			p := &piece{of: f, file: file, data: data[:at:at], line: line, tooLong: tooLong, bytes: in.bytes - told}
			told = in.bytes
			line += int64(bytes.Count(p.data, []byte{'\n'}))
			if header {
				err := p.skipHeader()
				if err == io.EOF && !end {
					continue // empty lines only, so far
				}
				if err != nil && err != io.EOF {
					yield(nil, err)
					return
				}
				header = false
			}
			if len(p.data) > 0 && !yield(p, nil) {
				return
			}
			if end {
				return
			}
		}
	}
}

// recordEnd returns the length of the whole records that data begins with.
func recordEnd(data []byte, quote byte) int {
	quotes := bytes.Count(data, []byte{quote})
	for end := len(data); ; {
		at := bytes.LastIndexByte(data[:end], '\n')
		if at < 0 {
			return 0
		}
		if quotes -= bytes.Count(data[at:end], []byte{quote}); quotes%2 == 0 {
			return at + 1
		}
		end = at
	}
}

// skipHeader takes the header off the first piece; io.EOF says that there is none in it.
func (p *piece) skipHeader() error {
	rd := p.of.records(bytes.NewReader(p.data))
	if _, err := rd.Read(); err == io.EOF {
		return err
	} else if err != nil {
		return csvError(p.file.name, p.line, err, p.data)
	}
	skipped := rd.InputOffset()
	p.line += int64(bytes.Count(p.data[:skipped], []byte{'\n'}))
	p.data = p.data[skipped:]
	return nil
}

// Fill turns the records into typed rows.
func (p *piece) Fill(b *column.Batch) error {
	if p.tooLong {
		what := "record"
		if p.of.lines {
			what = "line"
		}
		return &diag.Error{
			At:      diag.Place{File: p.file.name, Line: int(p.line) + 1},
			Message: "a " + what + " is longer than 16 MiB",
		}
	}
	if p.of.lines {
		return p.fillLines(b)
	}
	rd := p.of.records(bytes.NewReader(p.data))
	rd.ReuseRecord = true
	b.Reset(bytes.Count(p.data, []byte{'\n'}) + 1) // a record has at least a line
	clean := utf8.Valid(p.data) && bytes.IndexByte(p.data, 0) < 0 &&
		(p.of.csv.Encoding == "" || !bytes.Contains(p.data, replaced))
	readers := p.of.readers()
	plain, nulls := p.of.csv.Quote == '"' && !p.of.csv.Guarded, p.of.csv.Nulls
	cells := p.of.of.Format == star.Workbook
	var typed []*parse.Reader
	if cells {
		clean, typed = true, p.of.typedReaders()
	}
	b.From.File, b.From.Head, b.From.Line = p.file.name, p.file.head, b.From.Line[:0]
	offsets := make([]int64, 0, b.N+1)
	fixed := p.fixed()
	n := 0
	for ; ; n++ {
		before := rd.InputOffset()
		record, err := rd.Read()
		if p.file.width == 1 && !cells { // the reader passes over empty lines, and here each is a row without a value
			for at := before; ; n++ {
				end := at + int64(lineEnd(p.data[at:rd.InputOffset()]))
				if end == at {
					break
				}
				for k := range p.file.at {
					b.Cols[k].SetNull(n)
				}
				line := int64(bytes.Count(p.data[:at], []byte{'\n'}))
				b.From.Line, offsets = append(b.From.Line, p.line+line+1), append(offsets, at)
				at, before = end, end
			}
		}
		if err == io.EOF {
			offsets = append(offsets, before)
			break
		}
		if err != nil {
			return csvError(p.file.name, p.line, err, p.data)
		}
		line, _ := rd.FieldPos(0)
		b.From.Line = append(b.From.Line, p.line+int64(line))
		offsets = append(offsets, before)
		if fixed != nil {
			if x := p.of.corrected.at(fixed, p.line+int64(line), p.data[before:rd.InputOffset()]); x != nil {
				record = x.fields
			}
		}
		p.of.begin(b, n)
		if len(record) != p.file.width && (len(record) > p.file.width || !cells) {
			p.wrongWidth(b, n, record)
			continue
		}
		for k, at := range p.file.at {
			if at == isMark {
				continue
			}
			if at < 0 || at >= len(record) { // the file does not have the column, or the sheet does not have the cell
				b.Cols[k].SetNull(n)
				continue
			}
			c, s, reader := &b.Cols[k], record[at], readers[k]
			if !plain {
				s = p.of.unguard(p.of.unswap(s))
			}
			if cells {
				var is bool
				if s, is = asInCell(s); is {
					reader = typed[k]
				}
				if is && c.Type.Kind == column.Timestamp && len(s) == len(time.DateOnly) { // a cell that shows the day alone
					s += " 00:00:00"
				}
			}
			switch {
			case s == "" || nulls != nil && slices.Contains(nulls, s):
				c.SetNull(n)
			case p.of.isText(k):
				c.Null[n], c.Text[n] = false, strings.ToValidUTF8(s, string(replaced))
			case clean && c.Type.Kind == column.Text:
				c.Null[n], c.Text[n] = false, s
			case !clean && p.of.csv.Encoding != "" && !p.of.fits(s):
				c.SetNull(n)
				p.refuse(b, n, k, "has bytes that are not "+p.of.csv.Encoding+" text", s)
			default:
				if err := reader.Set(c, n, s); err != nil {
					if p.of.replace(b, n, k, reader, diag.Place{File: p.file.name, Line: int(b.From.Line[n])}, s) {
						continue
					}
					hint := ""
					if p.of.csv.Encoding == "" && !utf8.ValidString(s) {
						hint = " (csv: encoding says what text it is)"
					}
					p.refuse(b, n, k, err.Error()+hint, s)
				} else if reader.Ambiguous {
					reader.Ambiguous = false
					p.of.doubt(k, diag.Place{File: p.file.name, Line: int(b.From.Line[n])}, s)
				}
			}
		}
	}
	b.Cut(n)
	data := p.data
	b.From.Bytes = p.bytes
	b.From.Raw = func(i int) string { return strings.Trim(string(data[offsets[i]:offsets[i+1]]), "\r\n") }
	if cells {
		asStored := b.From.Raw
		b.From.Raw = func(i int) string { return withoutMarks(asStored(i)) }
	}
	return nil
}

// fixed returns the corrections of rows of the file; nil if there are none.
func (p *piece) fixed() map[int64]*correction {
	if p.of.corrected == nil {
		return nil
	}
	return p.of.corrected.of[p.file.name]
}

// corrected returns an object as it was corrected, or as it is.
func (p *piece) corrected(fixed map[int64]*correction, line int64, object []byte) []byte {
	if fixed != nil {
		if x := p.of.corrected.at(fixed, line, object); x != nil {
			return x.object
		}
	}
	return object
}

// wrongWidth sets row n aside, which has more or fewer fields than the header.
func (p *piece) wrongWidth(b *column.Batch, n int, record []string) {
	fields := len(record)
	for k, at := range p.file.at {
		if b.Cols[k].SetNull(n); p.of.isText(k) && at >= 0 && at < fields && record[at] != "" {
			s := p.of.field(record[at])
			b.Cols[k].Null[n], b.Cols[k].Text[n] = false, strings.ToValidUTF8(s, string(replaced))
		}
	}
	other := "header"
	if p.of.csv.Headless {
		other = "first row"
	}
	reason := "the row has too many fields"
	if fields < p.file.width {
		reason = "the row has too few fields"
	}
	b.SetAside(n, "", reason, fmt.Sprintf("%d, and the %s %d", fields, other, p.file.width))
}

// refuse sets row n aside for the value of a column.
func (p *piece) refuse(b *column.Batch, n, col int, why, value string) {
	name := p.of.fields[col].Name
	b.SetAside(n, name, name+" "+why, diag.Clip(diag.Printable(value), 60))
}

// lineEnd returns the length of the end of a line that data begins with, 0 if it does not.
func lineEnd(data []byte) int {
	if bytes.HasPrefix(data, []byte("\r\n")) {
		return 2
	} else if bytes.HasPrefix(data, []byte("\n")) {
		return 1
	}
	return 0
}

// csvError puts a mistake that encoding/csv found in its place: line counts the lines before data.
func csvError(name string, line int64, err error, data []byte) *diag.Error {
	e := &diag.Error{At: diag.Place{File: name}, Message: err.Error()}
	var mistake *csv.ParseError
	if !errors.As(err, &mistake) {
		return e
	}
	e.At.Line = int(line) + mistake.Line
	switch mistake.Err {
	case csv.ErrBareQuote:
		e.Message = "this is not CSV: a quote in a field that is not quoted; such a field stands in quotes, its own quotes doubled"
	case csv.ErrQuote:
		e.Message = "this is not CSV: a quoted field is not closed, or goes on behind its closing quote"
		e.At.Line = int(line) + mistake.StartLine
		if mistake.StartLine == mistake.Line {
			e.At.Column = mistake.Column
		}
	default:
		e.Message = "this is not CSV: " + mistake.Err.Error()
	}
	if mistake.Err == csv.ErrBareQuote {
		e.At.Column = mistake.Column
	}
	lines := bytes.SplitN(data, []byte{'\n'}, e.At.Line-int(line)+1)
	if at := e.At.Line - int(line) - 1; at < len(lines) && len(lines[at]) > 0 && len(lines[at]) < 200 {
		text := strings.TrimRight(string(lines[at]), "\r")
		if e.At.Column > 0 { // bytes so far, and a caret counts characters
			e.At.Column = utf8.RuneCountInString(text[:min(e.At.Column-1, len(text))]) + 1
		}
		e.Text = text
	}
	return e
}
