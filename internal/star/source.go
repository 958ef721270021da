package star

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/parse"
)

// Source yields rows of typed columns. They come from files, from a database, or from other sources; then they are
// shaped, in the order of the fields below.
type Source struct {
	Name
	Files
	Table   Name      // of Database
	Query   Name      // of Database, in place of a table
	OrderBy []Name    // columns of the table or query
	From    *Source   // whose rows these are
	Union   []*Source // whose rows these are, one after the other

	Database *Database
	DrivenBy *Source // there is a read for each of its rows
	PassOver bool    // a read that can't be done is passed over

	Columns  []Column // those taken; of a table, a Parquet file or other sources nil is all
	Joins    []*Join
	Derive   []Derived
	Fill     []Fill
	Require  []Rule    // rows whose condition is anything but true are set aside
	SetAside []Rule    // rows whose condition is true are set aside
	Distinct *Distinct // one row for each of some columns
	Group    *Group    // rows added up
	Aliased  []Aliased // of these, natural keys that may be aliases
	Matched  []Matched // columns that say natural keys, brought to their one form

	read, table, query *Name
	database, drivenBy *Name
	from               *Name
	union              []Name
	chosen             bool // the model says which columns
	state              walk
	blind              bool // its columns could not be made out, which has been told
}

// Files are what a source reads where it reads files.
type Files struct {
	Within Name   // the folder of the files; "" is the model's
	Read   []Name // patterns
	Format string
	Nested bool // of JSON: objects and lists may stand in text columns
	CSV    CSV
}

// CSV is how a source's files are written, where that is not as RFC 4180 has it.
type CSV struct {
	Separator byte   // between fields
	Quote     byte   // around fields; 0 if there are no quotes
	Headless  bool   // no header: columns are told by position
	Encoding  string // an IANA name; "" is UTF-8
	Guarded   bool   // values that spreadsheets would take for formulas have an apostrophe before them
	Nulls     []string
	Style     parse.Style
}

// The formats of files.
const (
	InCSV     = "csv"
	JSONLines = "json_lines"
	Parquet   = "parquet"
)

// PlainCSV is RFC 4180 with a header.
var PlainCSV = CSV{Separator: ',', Quote: '"'}

// Column is a column of a source as it is taken.
type Column struct {
	Name
	Type     column.Type // Null as long as what is read tells it
	Header   string      // its name there; its own if empty
	Position int         // in a record, from 1; 0 if its header tells
}

// InFile is the column's name in what is read.
func (c *Column) InFile() string { return cmp.Or(c.Header, c.Text) }

// Expression is the text of an expression. Compile it over the fields it was checked against.
type Expression struct {
	Name
	parameters *[]expr.Parameter // of its model; nil if it has none
}

// Derived is a column made by an expression over the columns before it.
type Derived struct {
	Name
	Expression Expression
	Type       column.Type
}

// Rule is a condition with the reason that is given for the rows it sets aside.
type Rule struct {
	Reason    Name
	Condition Expression
}

// TypesItself reports whether what is read tells the types of its columns.
func (s *Source) TypesItself() bool { return s.Database != nil || s.Format == Parquet }

// Reads reports whether the source reads files or a database itself.
func (s *Source) Reads() bool { return s.From == nil && s.Union == nil }

// Taken lists the columns of the rows before anything is done to them: those read, then those of the list that
// drives the reading.
func (s *Source) Taken() []column.Field {
	var fields []column.Field
	for _, c := range s.Columns {
		fields = append(fields, column.Field{Name: c.Text, Type: c.Type})
	}
	if s.DrivenBy != nil {
		fields = append(fields, s.DrivenBy.Fields()...)
	}
	return fields
}

// Joined lists the columns once the joins have been made.
func (s *Source) Joined() []column.Field {
	fields := s.Taken()
	for _, j := range s.Joins {
		fields = append(fields, j.Fields()...)
	}
	return fields
}

// Complete lists the columns before rows are added up: those joined, then those derived.
func (s *Source) Complete() []column.Field {
	fields := s.Joined()
	for _, d := range s.Derive {
		fields = append(fields, column.Field{Name: d.Text, Type: d.Type})
	}
	return fields
}

// Fields lists the columns of the source once its rows are shaped.
func (s *Source) Fields() []column.Field {
	if s.Group != nil {
		return s.Group.Fields(s.Complete())
	}
	return s.Complete()
}

// Shaped is [Source.Fields], and behind them those that say natural keys in their one form.
func (s *Source) Shaped() []column.Field {
	fields := s.Fields()
	for _, m := range s.Matched {
		fields = append(fields, column.Field{Name: m.Text, Type: m.Type})
	}
	return fields
}

// Made lists the sources whose rows these are; none if it reads its own.
func (s *Source) Made() []*Source {
	if s.From != nil {
		return []*Source{s.From}
	}
	return s.Union
}

// Others lists the sources whose rows this one is made of or completed with.
func (s *Source) Others() []*Source {
	others := slices.Clone(s.Union)
	for _, o := range []*Source{s.From, s.DrivenBy} {
		if o != nil {
			others = append(others, o)
		}
	}
	for _, j := range s.Joins {
		if j.Source != nil {
			others = append(others, j.Source)
		}
	}
	for _, a := range s.Aliased {
		if !slices.Contains(others, a.Source) {
			others = append(others, a.Source)
		}
	}
	return others
}

// Stages are the stages that a source's rows go through, in order, named for the keys of the model.
var Stages = []string{"read", "join", "derive", "fill", "checks", "distinct", "group"}

// Until returns the source with nothing done behind a stage.
func (s *Source) Until(stage string) *Source {
	cut := *s
	cut.Matched, cut.Aliased = nil, nil
	for i := len(Stages) - 1; Stages[i] != stage; i-- {
		switch Stages[i] {
		case "group":
			cut.Group = nil
		case "distinct":
			cut.Distinct = nil
		case "checks":
			cut.Require, cut.SetAside = nil, nil
		case "fill":
			cut.Fill = nil
		case "derive":
			cut.Derive = nil
		case "join":
			cut.Joins = nil
		}
	}
	return &cut
}

// Uses counts what the rows of a source are needed for: dimensions, facts, other sources.
func (m *Model) Uses(s *Source) int {
	n := 0
	for _, d := range m.Dimensions {
		if d.Source != nil && d.Source.Text == s.Text {
			n++
		}
	}
	for _, f := range m.Facts {
		if f.Source != nil && f.Source.Text == s.Text {
			n++
		}
	}
	for _, other := range m.Sources {
		for _, o := range other.Others() {
			if o.Text == s.Text {
				n++
			}
		}
	}
	return n
}

func (r *reader) sourceEntries(s *Source) []Entry {
	word := func(to **Name, what string) func(n *node) {
		return func(n *node) {
			if w, ok := r.word(n, what); ok {
				*to = &w
			}
		}
	}
	return []Entry{
		{
			"read",
			"a pattern or a list",
			"the files, in the model's folder or the one that within names: `*` any characters, `?` one, `[a-c]` one of these, none of them a `/`; several files are one source, in the byte order of their paths",
			false,
			func(n *node) { s.Read = r.words(n, "a file pattern") },
		},
		{
			"within",
			"a folder",
			"the folder of its files, seen from the model's, where that is another one; nothing outside of it is read, whatever links there are",
			false,
			func(n *node) { s.Within, _ = r.word(n, "a folder") },
		},
		{
			"format",
			"csv, json_lines or parquet",
			"what the files are; if not said, what the patterns end in: `.jsonl` or `.parquet`, else CSV. JSON Lines are objects, a line each: a column is found by its path, names with points between (`cargo.code`), which header says where it is not the column's own name; what is not there is null, and a list or object where one value is wanted sets its row aside. Parquet files tell their columns' types",
			false,
			func(n *node) { s.Format = r.choice(n, InCSV, JSONLines, Parquet) },
		},
		{
			"csv",
			"keys",
			"how the files are written, where that is not with commas, double quotes and a header",
			false,
			func(n *node) { r.section(n, r.csvEntries(&s.CSV)) },
		},
		{"database", "a database", "one of databases, in place of files", false, word(&s.database, "a database")},
		{
			"table",
			"a table",
			"a table or view of the database; `schema.table` where it is in another schema",
			false,
			func(n *node) { s.Table, _ = r.word(n, "a table") },
		},
		{
			"query",
			"a query",
			"a query of the database, in its own SQL, in place of a table; `:name` is the value of a parameter, or of a column of driven_by",
			false,
			func(n *node) {
				s.Query = r.expression(n, "a query").Name
			},
		},
		{
			"order_by",
			"a column or a list",
			"the order in which a table or query gives its rows, which decides who gets which key; if not said, they are sorted by all columns that are taken",
			false,
			func(n *node) { s.OrderBy = r.words(n, "a column") },
		},
		{"from", "a source", "another source, whose shaped rows these are", false, word(&s.from, "a source")},
		{
			"union",
			"a list of sources",
			"other sources, whose shaped rows these are, one source after the other; their columns are those of the first, found by name",
			false,
			func(n *node) { s.union = r.words(n, "a source") },
		},
		{
			"driven_by",
			"a source",
			"a list: there is a read for each of its rows. `{column}` in a path, `:column` in a query is its value there, and its columns stand in every row read",
			false,
			word(&s.drivenBy, "a source"),
		},
		{
			"unreadable",
			"stop or pass_over",
			"what to do about a row of driven_by whose files or query cannot be opened: stop, if not said; or pass it over, which is told",
			false,
			func(n *node) { s.PassOver = r.choice(n, "stop", "pass_over") == "pass_over" },
		},
		{
			"columns",
			"name: type, or a list",
			"the columns to take, by their name in each file's header; others are passed over. Types: integer, decimal(p,s), double, text, boolean, date, timestamp, time. In place of a type, keys: what is it called there, or where does it stand? What has types of its own (a Parquet file, a database, another source) needs no columns, or a mere list of them; a type that is said is what values are turned into",
			false,
			func(n *node) { s.Columns, s.chosen = r.columns(n), true },
		},
		{"join", "name: join", "columns of other sources, found by values of a row", false, func(n *node) {
			r.each(n, func(n *node) {
				j := &Join{Name: r.name(n.key, n.path), Unmatched: SetAside, Several: Stop}
				s.Joins = append(s.Joins, j)
				r.section(n, r.joinEntries(j))
			})
		}},
		{"derive", "name: expression", "new columns, in order; each may use those before it", false, func(n *node) {
			r.each(n, func(n *node) {
				s.Derive = append(
					s.Derive,
					Derived{Name: r.name(n.key, n.path), Expression: r.expression(n, "an expression")},
				)
			})
		}},
		{"fill", "name: value", "values for what is null, once columns have been derived", false, func(n *node) {
			r.each(n, func(n *node) {
				if w, ok := r.word(n, "a value"); ok {
					s.Fill = append(s.Fill, Fill{Name: n.key, Value: w})
				}
			})
		}},
		{
			"require",
			"reason: condition",
			"a row whose condition is anything but true (null included) is set aside for that reason",
			false,
			func(n *node) { s.Require = r.rules(n) },
		},
		{
			"set_aside",
			"reason: condition",
			"a row whose condition is true is set aside for that reason",
			false,
			func(n *node) { s.SetAside = r.rules(n) },
		},
		{
			"distinct",
			"keys",
			"one row only for each value of some columns, of those that are not set aside",
			false,
			func(n *node) {
				s.Distinct = &Distinct{at: n.key.At}
				r.section(n, r.distinctEntries(s.Distinct))
			},
		},
		{
			"group",
			"keys",
			"rows added up, where the source is finer than what is wanted of it: of those that are not set aside",
			false,
			func(n *node) {
				s.Group = &Group{at: n.key.At}
				r.section(n, r.groupEntries(s.Group))
			},
		},
	}
}

// columns reads types by name; or, of what has types of its own, a mere list of names.
func (r *reader) columns(n *node) []Column {
	var list []Column
	if n.Kind == yaml.SequenceNode {
		for _, w := range r.words(n, "a column") {
			list = append(list, Column{Name: w})
		}
		return list
	}
	r.each(n, func(n *node) {
		c := Column{Name: n.key}
		if n.Kind == yaml.MappingNode {
			r.section(n, r.columnEntries(&c))
			list = append(list, c)
			return
		}
		if n.Tag != "!!null" {
			c.Type = r.typ(n)
		}
		list = append(list, c)
	})
	return list
}

func (r *reader) typ(n *node) column.Type {
	w, ok := r.word(n, "a type")
	if !ok {
		return column.Type{}
	}
	t, err := column.ParseType(w.Text)
	if err != nil {
		r.errorf(w.At, n.path, "%v", err)
	}
	return t
}

func (r *reader) columnEntries(c *Column) []Entry {
	return []Entry{
		{
			"type",
			"a type",
			"its type; may be left out where what is read tells it",
			false,
			func(n *node) { c.Type = r.typ(n) },
		},
		{
			"header",
			"a name",
			"what it is called where it is read, if not as here: in a file's header, a table, another source; in JSON and Parquet, its path",
			false,
			func(n *node) {
				if w, ok := r.word(n, "a name"); ok {
					c.Header = w.Text
				}
			},
		},
		{
			"position",
			"a number from 1",
			"where it stands in a row of CSV, whatever the header says",
			false,
			func(n *node) {
				w, ok := r.word(n, "a number")
				if v, err := strconv.Atoi(w.Text); ok && (err != nil || v < 1 || v > 1_000_000) {
					r.errorf(w.At, n.path, "%s is not a position: 1 is the first", w.Text)
				} else if ok {
					c.Position = v
				}
			},
		},
	}
}

func (r *reader) csvEntries(c *CSV) []Entry {
	mark := func(to *byte, words map[string]byte) func(n *node) {
		return func(n *node) {
			w, ok := r.word(n, "a character")
			if b, named := words[w.Text]; named {
				*to = b
			} else if ok && len(w.Text) == 1 && w.Text[0] > ' ' && w.Text[0] < 0x7f && !strings.Contains("0123456789+-", w.Text) {
				*to = w.Text[0]
			} else if ok {
				r.errorf(w.At, n.path, "%q is not a mark: one character that is not a letter of a value", w.Text)
			}
		}
	}
	layout := func(to **parse.Layout, kind column.Kind) func(n *node) {
		return func(n *node) {
			w, ok := r.word(n, "a layout")
			if !ok {
				return
			}
			var err error
			if *to, err = parse.NewLayout(w.Text, kind); err != nil {
				r.errorf(w.At, n.path, "%v", err)
			}
		}
	}
	return []Entry{
		{
			"separator",
			"a character, or tab",
			"what stands between fields; a comma if not said",
			false,
			mark(&c.Separator, map[string]byte{"tab": '\t'}),
		},
		{
			"quote",
			"a character, or none",
			"what stands around fields; a double quote if not said",
			false,
			mark(&c.Quote, map[string]byte{"none": 0}),
		},
		{
			"header",
			"none",
			"the files have no header: columns are in the order of columns, or say their position",
			false,
			func(n *node) { c.Headless = r.choice(n, "none") == "none" },
		},
		{"nulls", "a list of words", "fields that mean null, besides empty ones", false, func(n *node) {
			for _, w := range r.words(n, "a word") {
				c.Nulls = append(c.Nulls, w.Text)
			}
		}},
		{
			"encoding",
			"utf-16, windows-1252 or iso-8859-1",
			"how the text is written in bytes; UTF-8 if not said. Bytes that mean nothing there set their row aside",
			false,
			func(n *node) { c.Encoding = r.choice(n, "utf-16", "windows-1252", "iso-8859-1") },
		},
		{
			"guard",
			"apostrophe",
			"an apostrophe before a value is none of the value: it keeps spreadsheets from taking it for a formula, as `--guard` writes it",
			false,
			func(n *node) { c.Guarded = r.choice(n, "apostrophe") == "apostrophe" },
		},
		{
			"decimal_mark",
			"a character",
			"what stands before a number's fraction; a point if not said",
			false,
			mark(&c.Style.Decimal, nil),
		},
		{
			"thousands_mark",
			"a character, or blank",
			"what stands between groups of three digits; none if not said",
			false,
			mark(&c.Style.Thousands, map[string]byte{"blank": ' '}),
		},
		{
			"date",
			"a layout, such as dd.MM.yyyy",
			"how dates are written: yyyy, MM, dd (M and d for one or two digits), as in Unicode's date field patterns",
			false,
			layout(&c.Style.Date, column.Date),
		},
		{
			"timestamp",
			"a layout, such as dd.MM.yyyy HH:mm",
			"how timestamps are written: besides HH, mm, ss, and S for each digit of a fraction",
			false,
			layout(&c.Style.Timestamp, column.Timestamp),
		},
		{"time", "a layout, such as HH.mm", "how times are written", false, layout(&c.Style.Time, column.Time)},
	}
}

func (r *reader) rules(n *node) []Rule {
	var list []Rule
	r.each(n, func(n *node) {
		list = append(list, Rule{n.key, r.expression(n, "a condition")})
	})
	return list
}
