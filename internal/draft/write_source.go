package draft

import (
	"fmt"
	"ironmonger/internal/column"
	"ironmonger/internal/star"
	"ironmonger/internal/survey"
	"path"
	"slices"
	"strconv"
	"strings"
)

// source writes what is read.
func (w *writer) source(t *table) {
	if t.Database != nil {
		w.fromDatabase(t)
		return
	}
	said := fmt.Sprintf("%s in %s", many(t.Rows, "row"), many(int64(len(t.Files)), "file"))
	for _, s := range []string{t.Written, t.Evidence} {
		if s != "" {
			said += "; " + s
		}
	}
	w.because(1, "%s", said)
	for _, path := range t.Lists {
		w.doubt(1, "%s has lists, which are not read; each: %s makes a row of each element", path, path)
	}
	if t.Ragged > 0 {
		w.doubt(1, "%s with another number of fields: they will be set aside", many(t.Ragged, "row"))
	}
	w.line(1, "%s:", t.name)
	w.line(2, "read: %s", list(t.patterns()))
	if end := map[string]string{
		star.JSONLines: ".jsonl", star.JSON: ".json", star.XML: ".xml", star.Workbook: ".xlsx",
	}[t.Format]; end != "" && path.Ext(strings.TrimSuffix(t.Files[0], ".gz")) != end {
		w.line(2, "format: %s", t.Format)
	}
	if t.Sheets > 1 {
		w.line(2, "sheet: %s", list([]string{t.Sheet}))
	}
	if t.Record != "" {
		w.line(2, "record: %s", t.Record)
	}
	if lines := csvLines(t); len(lines) > 0 {
		w.line(2, "csv:")
		for _, s := range lines {
			w.line(3, "%s", s)
		}
	}
	if t.Format == star.Parquet || t.Format == star.ICalendar {
		w.line(0, "")
		return
	}
	w.line(2, "columns:")
	for _, f := range t.fields {
		w.column(f, t)
	}
	w.leaveOut(t)
	w.line(0, "")
}

// patterns returns what reads the files of a table and none of another.
func (t *table) patterns() []string {
	list := patterns(t.Files)
	for _, p := range list {
		for _, o := range t.others {
			if slices.ContainsFunc(o.Files, func(f string) bool { ok, err := path.Match(p, f); return ok || err != nil }) {
				return literal(t.Files)
			}
		}
	}
	return list
}

// literal returns patterns for single files: characters that mean something in a pattern or a path of the model are
// any.
func literal(files []string) []string {
	var list []string
	for _, f := range files {
		list = append(list, strings.Map(func(c rune) rune {
			if strings.ContainsRune(`*?[]{}\`, c) {
				return '?'
			}
			return c
		}, f))
	}
	return list
}

// patterns returns what reads the files and, as far as can be, those that come later: of one folder, or of folders
// beside each other.
func patterns(files []string) []string {
	if len(files) == 1 || slices.ContainsFunc(files, func(f string) bool { return strings.ContainsAny(f, `*?[]{}\`) }) {
		return literal(files)
	}
	dir, ext, begin := path.Dir(files[0]), path.Ext(files[0]), word(files[0])
	for _, f := range files {
		switch at := path.Dir(f); {
		case at == path.Dir(files[0]):
		case path.Dir(at) == path.Dir(path.Dir(files[0])) && at != ".":
			dir = path.Join(path.Dir(at), "*")
		default:
			return literal(files)
		}
		if !strings.HasPrefix(path.Base(f), begin) {
			begin = ""
		}
	}
	return []string{path.Join(dir, begin+"*"+ext)}
}

// csvLines says how the files are written, where that is not the usual way.
func csvLines(t *table) []string {
	var lines []string
	if t.Format != star.InCSV && t.Format != star.Workbook {
		return nil
	}
	f := t.Form
	if f.Separator != ',' {
		lines = append(lines, "separator: "+map[byte]string{';': `";"`, '\t': "tab", '|': `"|"`}[f.Separator])
	}
	switch f.Quote {
	case 0:
		lines = append(lines, "quote: none")
	case '\'':
		lines = append(lines, `quote: "'"`)
	}
	switch h := f.Header; {
	case f.Headless:
		lines = append(lines, "header: none")
	case h.Begins != nil:
		lines = append(lines, "header: {begins_with: "+list(h.Begins)+"}")
	case h.Line > 1:
		lines = append(lines, fmt.Sprintf("header: {line: %d}", h.Line))
	}
	if t.Encoding != "" {
		lines = append(lines, "encoding: "+t.Encoding)
	}
	marks, years := t.marks(), false
	var nulls []string
	for _, c := range t.fields {
		years = years || strings.Contains(c.Layout, "yy") && !strings.Contains(c.Layout, "yyyy")
		for _, word := range c.Nulls {
			if !slices.Contains(nulls, word) {
				nulls = append(nulls, word)
			}
		}
	}
	if n := len(marks); n > 0 {
		if marks[n-1] != '.' {
			lines = append(lines, fmt.Sprintf("decimal_mark: %q", marks[n-1:]))
		}
		if n > 1 {
			mark := strconv.Quote(marks[:1])
			if marks[0] == ' ' {
				mark = "blank"
			}
			lines = append(lines, "thousands_mark: "+mark)
		}
	}
	for _, c := range t.fields {
		if c.Months != "" {
			lines = append(lines, "month_names: "+c.Months)
			break
		}
	}
	if years {
		lines = append(lines, fmt.Sprintf("two_digit_years: %d", survey.Century))
	}
	if nulls != nil {
		slices.Sort(nulls)
		var words []string
		for _, word := range nulls {
			words = append(words, strconv.Quote(word))
		}
		lines = append(lines, "nulls: ["+strings.Join(words, ", ")+"]")
	}
	return lines
}

// marks returns the marks of numbers that hold for all columns of the files: those of the column that has the most.
func (t *table) marks() (marks string) {
	for _, f := range t.fields {
		if len(f.Marks) > len(marks) {
			marks = f.Marks
		}
	}
	return marks
}

// otherMark reports whether the decimal mark of a field is not the one that holds for all columns of the files.
func (t *table) otherMark(f *field) bool {
	decimal := func(marks string) byte { return ("." + marks)[len(marks)] }
	return t.Format == star.InCSV && f.Is.Kind == column.Decimal && f.Is.Scale > 0 && decimal(f.Marks) != decimal(t.marks())
}

// column writes a column with what is remarkable about it.
func (w *writer) column(f *field, t *table) {
	for _, d := range f.Doubts {
		w.doubt(3, "%s: %s", f.name, d)
	}
	if t.otherMark(f) {
		w.doubt(3, "%s: its decimal mark is not that of other columns: as one mark holds for all, it may be misread", f.name)
	}
	if f.Unfit > 0 && t.totals() != f {
		verb := "do"
		if f.Unfit == 1 {
			verb = "does"
		}
		w.doubt(3, "%s: %s that %s not fit, such as %s (%s), will be set aside", f.name, many(f.Unfit, "value"), verb, strconv.Quote(f.Example), f.Place)
	}
	var parts []string
	typ := f.Type
	if strings.Contains(typ, ",") {
		typ = strconv.Quote(typ)
	}
	if f.Name != f.name && !t.Form.Headless {
		parts = append(parts, "header: "+strconv.Quote(f.Name))
	}
	if f.optional {
		parts = append(parts, "absent: leave_empty")
	}
	if f.Layout != "" {
		parts = append(parts, "layout: "+strconv.Quote(f.Layout))
	}
	if parts == nil {
		w.line(3, "%s: %s", f.name, typ)
		return
	}
	w.line(3, "%s: {type: %s, %s}", f.name, typ, strings.Join(parts, ", "))
}

// leaveOut leaves lines of totals out, if there are values that say that they are such.
func (w *writer) leaveOut(t *table) {
	f := t.totals()
	if f == nil {
		return
	}
	for _, word := range survey.TotalWords {
		if f.Misfits(word) || f.Totals > 0 && strings.HasPrefix(f.Total, word) {
			if f.isMisfit() {
				w.because(2, "lines of totals: %s has %s where others have values of type %s", f.name, strconv.Quote(f.Example), f.Type)
			} else {
				w.because(2, "lines of totals: %s has %s, in %s without a value in other columns", f.name, strconv.Quote(f.Total), many(f.Totals, "row"))
			}
			w.line(2, "leave_out:")
			w.line(3, "totals: %s like '%s%%'", f.name, word)
			return
		}
	}
}

// totals returns the field that says in lines of totals that they are such; nil if there are none.
func (t *table) totals() *field {
	for _, f := range t.fields {
		if f.isMisfit() {
			return f
		}
	}
	for _, f := range t.fields {
		if f.Totals > 0 && f.Totals <= 2*int64(len(t.Files)) && f.Totals*10 <= t.Rows {
			return f
		}
	}
	return nil
}

// isMisfit reports whether values do not fit the type of the field because they are words of lines of totals.
func (f *field) isMisfit() bool {
	return f.Unfit > 0 && slices.ContainsFunc(survey.TotalWords, f.Misfits)
}

// lines is how many lines of totals there are.
func (t *table) lines() int64 {
	switch f := t.totals(); {
	case f == nil:
		return 0
	case f.isMisfit():
		return f.Unfit
	default:
		return f.Totals
	}
}

// empty is in how many of these rows a field has no value; lines of totals are taken to have none, if so many have
// none.
func (t *table) empty(f *field) int64 {
	if n := t.lines(); f.Empty >= n {
		return f.Empty - n
	}
	return f.Empty
}

// rows is how many rows there are besides lines of totals.
func (t *table) rows() int64 { return t.Rows - t.lines() }

// distinct is how many values a field has besides those of lines of totals.
func (t *table) distinct(f *field) int64 {
	if t.totals() == f {
		return f.Distinct - 1
	}
	return f.Distinct
}

// fromDatabase writes a source of a table: its columns have the types of the table, unless the values speak for
// another.
func (w *writer) fromDatabase(t *table) {
	w.because(1, "%s", many(t.Rows, "row"))
	w.line(1, "%s:", t.name)
	w.line(2, "database: %s", t.Database.Text)
	w.line(2, "table: %s", quoted(t.Name))
	w.line(2, "columns:")
	for _, f := range t.fields {
		w.column(f, t)
	}
	w.line(0, "")
}
