// Package survey finds out what files are like that no model describes yet: how they are written, where their header
// is, and which types the values of their columns have.
//
// It looks at the beginning of a file for its form, and at all rows for the types. Whatever it finds has its evidence:
// how many records have the same number of fields, how many values fit a type, and which do not.
package survey

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
)

// Table is files of one shape, and what was found of them.
type Table struct {
	Files    []string  `json:"files"`            // relative to the folder, with slashes
	Sheet    string    `json:"sheet,omitempty"`  // of workbooks
	Sheets   int       `json:"-"`                // how many the workbook has
	Record   string    `json:"record,omitempty"` // of XML: the path of the elements
	Format   string    `json:"format"`
	Encoding string    `json:"encoding,omitempty"` // if it is not UTF-8
	Form     star.CSV  `json:"-"`
	Written  string    `json:"written,omitempty"` // the form of CSV in words
	Evidence string    `json:"evidence,omitempty"`
	Rows     int64     `json:"rows"`
	Ragged   int64     `json:"ragged,omitempty"` // rows with another number of fields
	Columns  []*Column `json:"columns"`
	Lists    []string  `json:"lists,omitempty"` // of JSON: paths that have lists, which are not columns

	Database *star.Database `json:"-"` // that has the table; nil of files
	Name     string         `json:"-"` // of the table there

	head []string // the header; of JSON, the paths of the columns
}

// Look looks at one file below a folder: a workbook may have several tables. A name may go on behind that of a workbook
// or a zip archive, with that of a sheet or of a file in it.
func Look(ctx context.Context, root *os.Root, name string) ([]*Table, error) {
	tables, err := shapes(root, name)
	if err != nil {
		return nil, err
	}
	for _, t := range tables {
		if err := t.read(ctx, root); err != nil {
			return nil, err
		}
	}
	return tables, nil
}

// Folder looks at the files in a folder and in its folders, those of one shape together. Files that cannot be told are
// named in skipped, with the reason.
func Folder(ctx context.Context, root *os.Root, names []string) (tables []*Table, skipped []string, err error) {
	for _, name := range unpacked(root, names) {
		found, err := shapes(root, name)
		if err != nil {
			skipped = append(skipped, name+": "+err.Error())
			continue
		}
		for _, t := range found {
			at := slices.IndexFunc(tables, func(o *Table) bool { return o.alike(t) })
			if at < 0 {
				tables = append(tables, t)
				continue
			}
			tables[at].Files = append(tables[at].Files, name)
		}
	}
	tables = slices.DeleteFunc(tables, func(t *Table) bool {
		if rerr := t.read(ctx, root); ctx.Err() != nil {
			err = ctx.Err()
		} else if rerr != nil {
			skipped = append(skipped, rerr.Error())
			return true
		}
		return false
	})
	return tables, skipped, err
}

// unpacked puts the files of zip archives in the place of these.
func unpacked(root *os.Root, names []string) []string {
	var list []string
	for _, name := range names {
		if entries, err := source.Entries(root, name); err == nil && strings.EqualFold(path.Ext(name), ".zip") {
			for _, e := range entries {
				if !strings.HasPrefix(path.Base(e), ".") {
					list = append(list, name+"/"+e)
				}
			}
			continue
		}
		list = append(list, name)
	}
	return list
}

// alike reports whether two files have one shape: the same columns, written in the same way, with names that differ in
// digits only or in one folder.
func (t *Table) alike(o *Table) bool {
	if t.Format != o.Format || t.Sheet != o.Sheet || t.Record != o.Record || t.Encoding != o.Encoding ||
		t.Form.Separator != o.Form.Separator || t.Form.Quote != o.Form.Quote ||
		t.Form.Headless != o.Form.Headless || !slices.Equal(t.head, o.head) {
		return false
	}
	a, b := t.Files[0], o.Files[0]
	if path.Ext(a) != path.Ext(b) {
		return false
	}
	one := t.head != nil && path.Dir(a) != "." && path.Dir(b) != "."
	return stem(a) == stem(b) || one && path.Dir(a) == path.Dir(b) ||
		one && stem(path.Base(a)) == stem(path.Base(b)) && path.Dir(path.Dir(a)) == path.Dir(path.Dir(b))
}

// stem is the name of a file without what tells it from others of its kind: digits, and marks around them.
func stem(name string) string {
	name = strings.TrimSuffix(strings.TrimSuffix(name, ".gz"), ".zst")
	return strings.Map(func(c rune) rune {
		if c >= '0' && c <= '9' || strings.ContainsRune("-_ .()", c) {
			return -1
		}
		return c
	}, strings.TrimSuffix(name, path.Ext(name)))
}

// mostColumns is how many columns of a file are looked at.
const mostColumns = 2000

// sampled is how many bytes of a file tell its form.
const sampled = 256 << 10

// shapes finds out what kind of file it is, and how its tables are written.
func shapes(root *os.Root, name string) ([]*Table, error) {
	name, sheet := inBook(name)
	text, whole, err := source.Beginning(root, name, sampled)
	if err != nil {
		return nil, err
	}
	if !bytes.HasPrefix(text, []byte("PK\x03\x04")) {
		t, err := shape(name, text, whole)
		return []*Table{t}, err
	}
	names, err := source.Sheets(root, name)
	if err != nil {
		return nil, err
	}
	var tables []*Table
	for _, s := range names {
		if sheet != "" && s != sheet {
			continue
		}
		t := &Table{Files: []string{name}, Format: star.Workbook, Form: star.PlainCSV, Sheet: s, Sheets: len(names)}
		if text, whole, err = source.SheetBeginning(root, name, s, sampled); err != nil {
			return nil, err
		}
		if len(bytes.TrimSpace(text)) == 0 {
			continue
		}
		if err := t.records(text, whole, []byte{','}); err != nil {
			return nil, err
		}
		tables = append(tables, t)
	}
	if len(tables) == 0 && sheet != "" {
		return nil, fmt.Errorf("the workbook has no sheet %s, or it is empty; it has %s", sheet, strings.Join(names, ", "))
	} else if len(tables) == 0 {
		return nil, fmt.Errorf("its sheets are empty")
	}
	return tables, nil
}

// inBook splits a name that goes on behind that of a workbook.
func inBook(name string) (book, sheet string) {
	if at := strings.Index(strings.ToLower(name), ".xlsx/"); at >= 0 {
		return name[:at+len(".xlsx")], name[at+len(".xlsx/"):]
	}
	return name, ""
}

// shape finds out what kind of file it is that begins with a text, and how it is written.
func shape(name string, text []byte, whole bool) (*Table, error) {
	t := &Table{Files: []string{name}, Form: star.PlainCSV}
	if len(bytes.TrimSpace(text)) == 0 {
		return nil, fmt.Errorf("the file is empty")
	}
	plain := strings.TrimSuffix(strings.TrimSuffix(name, ".gz"), ".zst")
	switch {
	case bytes.HasPrefix(text, []byte("PAR1")):
		t.Format = star.Parquet
		return t, nil
	case bytes.HasPrefix(text, []byte("\xd0\xcf\x11\xe0")):
		return nil, fmt.Errorf("a workbook that is encrypted or of the older binary form, or another document: save it as .xlsx")
	case bytes.HasPrefix(text, []byte("SQLite format 3\x00")):
		return nil, fmt.Errorf("an SQLite database: name it under databases, and its tables are sources")
	case bytes.HasPrefix(text, []byte("%PDF")):
		return nil, fmt.Errorf("a PDF document")
	}
	var err error
	raw := text
	if t.Encoding, text, err = decode(text, whole); err != nil {
		return nil, err
	}
	if bytes.IndexByte(text, '\r') >= 0 && bytes.IndexByte(text, '\n') < 0 {
		return nil, fmt.Errorf("its lines end in a carriage return alone, which is not read")
	}
	t.Form.Encoding = t.Encoding
	switch start := bytes.TrimSpace(text); {
	case bytes.HasPrefix(start, []byte("BEGIN:VCALENDAR")):
		t.Format = star.ICalendar
		return t, nil
	case start[0] == '{' && inLines(start):
		t.Format = star.JSONLines
		t.head, t.Lists = pathsOf(text, whole)
		return t, nil
	case start[0] == '{', start[0] == '[' && path.Ext(plain) == ".json":
		t.Format = star.JSON
		t.head, t.Lists = pathsOf(source.Lines(text), true)
		return t, nil
	case bytes.HasPrefix(bytes.ToLower(start), []byte("<html")), bytes.HasPrefix(bytes.ToLower(start), []byte("<!doctype html")):
		return nil, fmt.Errorf("a page of HTML, which is not read")
	case start[0] == '<':
		t.Format, t.Form.Encoding, t.Encoding = star.XML, "", ""
		if t.Record = source.RecordPath(raw); t.Record == "" {
			return nil, fmt.Errorf("begins like XML, and has no elements")
		}
		t.Evidence = t.Record + " is the element that has most of it"
		t.head, t.Lists = pathsOf(source.Records(raw, t.Record), true)
		return t, nil
	}
	t.Format = star.InCSV
	return t, t.records(text, whole, separators)
}

// records finds out how the records of a text are written.
func (t *Table) records(text []byte, whole bool, separators []byte) error {
	if !whole { // a record that is cut off tells nothing
		if bytes.IndexByte(text, '\n') < 0 {
			return fmt.Errorf("its first line is longer than %d KiB", sampled>>10)
		}
		text = text[:bytes.LastIndexByte(text, '\n')+1]
	}
	f := formOf(text, separators)
	if f.width > mostColumns {
		return fmt.Errorf("%d columns are too many to look at", f.width)
	}
	t.Form, t.head, t.Evidence = f.csv, f.head, f.evidence()
	t.Form.Encoding = t.Encoding
	t.Written = t.inWords(f.line)
	return nil
}

// decode tells the encoding of a text, and returns it as UTF-8.
func decode(text []byte, whole bool) (encoding string, utf []byte, err error) {
	if bytes.HasPrefix(text, []byte{0xff, 0xfe}) || bytes.HasPrefix(text, []byte{0xfe, 0xff}) {
		utf, err = source.Decode("utf-16", text)
		return "utf-16", utf, err
	}
	if bytes.IndexByte(text, 0) >= 0 {
		return "", nil, fmt.Errorf("not text: it has zero bytes")
	}
	end := len(text)
	if !whole {
		for n := 1; n < 4 && n < end; n++ { // a character that is cut off
			if utf8.RuneStart(text[end-n]) {
				if !utf8.FullRune(text[end-n:]) {
					end -= n
				}
				break
			}
		}
	}
	if text = text[:end]; utf8.Valid(text) {
		return "", bytes.TrimPrefix(text, []byte("\ufeff")), nil
	}
	utf, err = source.Decode("windows-1252", text)
	return "windows-1252", utf, err
}

// inWords says how records are written.
func (t *Table) inWords(line int) string {
	f := &t.Form
	words := []string{map[byte]string{',': "commas", ';': "semicolons", '\t': "tabs", '|': "bars"}[f.Separator]}
	if t.Format == star.Workbook {
		words[0] = "sheet " + t.Sheet
	}
	switch f.Quote {
	case '\'':
		words = append(words, "apostrophes as quotes")
	case 0:
		words = append(words, "no quotes")
	}
	switch {
	case f.Headless:
		words = append(words, "no header")
	case line > 1:
		words = append(words, fmt.Sprintf("the header on line %d", line))
	}
	return strings.Join(words, ", ")
}

// Source returns a source of the files, as a model would declare it, with no columns yet.
func (t *Table) Source() *star.Source {
	s := &star.Source{Name: star.Name{Text: t.Files[0]}, Files: star.Files{
		Format: t.Format, CSV: t.Form, Sheet: star.Name{Text: t.Sheet}, Record: star.Name{Text: t.Record},
	}}
	if t.Database != nil {
		s.Format, s.Database, s.Table = "", t.Database, star.Name{Text: t.Name}
		return s
	}
	for _, name := range t.Files {
		s.Read = append(s.Read, star.Name{Text: name})
	}
	if s.HasObjects() {
		s.Nested = true // a later object may have a list there
		for _, path := range t.head {
			s.Columns = append(s.Columns, star.Column{Name: star.Name{Text: path}, Type: column.Type{Kind: column.Text}, Header: path})
		}
	}
	return s
}

// rows opens all columns of the files as they are read.
func (t *Table) rows(ctx context.Context, root *os.Root, want func(name string) bool) (source.Input, error) {
	in, s := Inputs(root), t.Source()
	if s.Columns == nil {
		var err error
		if s, err = in.AsRead(ctx, s, nil); err != nil {
			return nil, err
		}
	}
	return in.Open(ctx, s, nil, want)
}

// Inputs are the inputs of a model that has nothing in it, below a folder.
func Inputs(root *os.Root) *source.Inputs {
	return &source.Inputs{Model: &star.Model{}, Root: root, Days: &source.Days{}}
}

// read looks at all rows. Where quotes turn out to be no quotes, it reads once more without any.
func (t *Table) read(ctx context.Context, root *os.Root) error {
	err := t.look(ctx, root)
	if err != nil && t.Format == star.InCSV && t.Form.Quote != 0 && ctx.Err() == nil {
		plain := *t
		plain.Form.Quote, plain.Columns, plain.Rows, plain.Ragged = 0, nil, 0, 0
		if plain.look(ctx, root) == nil {
			plain.Written += ", no quotes"
			*t = plain
			return nil
		}
	}
	return err
}

func (t *Table) look(ctx context.Context, root *os.Root) error {
	rows, err := t.rows(ctx, root, func(string) bool { return true })
	if err != nil {
		return err
	}
	if n := len(rows.Fields()); n > mostColumns {
		return fmt.Errorf("%s: %d columns are too many to look at", t.Files[0], n)
	}
	for _, f := range rows.Fields() {
		c := newColumn(f)
		c.asIs, c.english = t.Database != nil, t.Format != star.InCSV
		t.Columns = append(t.Columns, c)
	}
	err = pipeline.Batches(ctx, rows, runtime.GOMAXPROCS(0), func(b *column.Batch) error {
		t.add(b)
		return nil
	})
	if err != nil {
		return err
	}
	for _, c := range t.Columns {
		c.settle()
	}
	return nil
}

// add looks at rows, at several columns at a time.
func (t *Table) add(b *column.Batch) {
	for i := range b.N {
		if b.Bad(i) {
			t.Ragged++
		} else {
			t.Rows++
			t.total(b, i)
		}
	}
	var done sync.WaitGroup
	next := make(chan int, len(t.Columns))
	for k := range t.Columns {
		next <- k
	}
	close(next)
	for range min(runtime.GOMAXPROCS(0), len(t.Columns)) {
		done.Go(func() {
			for k := range next {
				for i := range b.N {
					if !b.Bad(i) {
						t.Columns[k].add(&b.Cols[k], i, diag.Place{File: b.From.File, Line: int(b.From.Line[i])})
					}
				}
			}
		})
	}
	done.Wait()
}

// total counts a row that says in one of its columns that it is one of totals, and has no values in others.
func (t *Table) total(b *column.Batch, i int) {
	if !slices.ContainsFunc(b.Cols, func(c column.Column) bool { return c.Null[i] }) {
		return
	}
	for k := range b.Cols {
		if c := &b.Cols[k]; c.Type.Kind == column.Text && !c.Null[i] && totals([]string{c.Text[i]}) {
			if t.Columns[k].Totals++; t.Columns[k].Total == "" {
				t.Columns[k].Total = c.Text[i]
			}
			return
		}
	}
}

// Column finds a column by its name.
func (t *Table) Column(name string) *Column {
	for _, c := range t.Columns {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// Sets returns the distinct values of some groups of columns together, of the rows that have values in all of them.
func (t *Table) Sets(ctx context.Context, root *os.Root, groups [][]string) ([]*Set, error) {
	rows, err := t.rows(ctx, root, func(name string) bool {
		return slices.ContainsFunc(groups, func(g []string) bool { return slices.Contains(g, name) })
	})
	if err != nil {
		return nil, err
	}
	sets, at := make([]*Set, len(groups)), make([][]int, len(groups))
	for n, g := range groups {
		sets[n] = &Set{}
		for _, name := range g {
			at[n] = append(at[n], column.Find(rows.Fields(), name))
		}
	}
	var text []byte
	return sets, pipeline.Batches(ctx, rows, runtime.GOMAXPROCS(0), func(b *column.Batch) error {
		for n := range groups {
		rows:
			for i := range b.N {
				text = text[:0]
				for _, k := range at[n] {
					if b.Bad(i) || b.Cols[k].Null[i] {
						continue rows
					}
					text = append(b.Cols[k].AppendValue(text, i), 0)
				}
				sets[n].add(string(text))
			}
		}
		return nil
	})
}
