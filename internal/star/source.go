package star

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
)

// Source yields rows of typed columns. They come from files, from a database, or from other sources; then they are
// shaped, in the order of the fields below.
type Source struct {
	Name
	Files
	Selection
	From     *Source   // whose rows these are
	Standing *Standing // or the dimension or fact of the model whose rows these are
	Calendar *Calendar // or the days that it generates
	Clock    *Clock    // or the times
	Union    []*Source // whose rows these are, one after the other

	Corrections Name // a pattern of files with rows that take the place of others

	Settle    time.Duration // files written since are left for a later load
	Companion string        // the end of the name of a file that says that another one is complete; "" if none does

	DrivenBy *Source // there is a read for each of its rows
	PassOver bool    // a read that cannot be done is passed over

	OfFile      []OfFile // columns that the file of a row tells
	DeliveredBy *Name    // the parameter that says when files are delivered; nil if the day of the run does

	Columns  []Column // those taken; of a table, a Parquet file or other sources nil is all
	Said     Described
	Unpivot  *Unpivot // columns that become rows; nil if none do
	Split    *Split   // a list that becomes rows; nil if none does
	LeaveOut []Rule   // rows whose condition is true are not meant: they are counted, and nothing else
	Shaping

	text     sourceText
	state    walk
	versions bool // of a dimension, all versions are wanted
	blind    bool // its columns could not be made out, which has been told
}

// Selection is what a source reads where it reads a database.
type Selection struct {
	Database *Database
	Table    Name
	Query    Name   // in place of a table
	OrderBy  []Name // columns of the table or query
	Since    *Since // nil if all rows are read
}

// Shaping is what is done to the rows of a source, in this order.
type Shaping struct {
	Joins    []*Join
	Derive   []Derived
	Fill     []Fill
	Require  []Rule    // rows whose condition is anything but true are set aside
	SetAside []Rule    // rows whose condition is true are set aside
	Weights  *Weights  // of rows that are lists of members, until it has been checked
	Windows  []Window  // columns that depend on other rows
	Distinct *Distinct // one row for each of some columns
	Group    *Group    // rows added up
	Periods  *Periods  // or rows of periods
	Spans    *Spans    // or spans of time that are cut
	Pivot    *Pivot    // rows that become columns, until it has been checked
	Aliased  []Aliased // of these, natural keys that may be aliases
	Matched  []Matched // columns that say natural keys, brought to their one form

}

// sourceText is what the text of the model says of a source, with its places, before names are resolved.
type sourceText struct {
	read, table, query, database, drivenBy, from *Name
	union                                        []Name
	chosen                                       bool   // it says which columns
	subject                                      string // what messages are about; "" for the source itself
}

// Files are what a source reads where it reads files.
type Files struct {
	Within Name   // the folder of the files; "" is the model's
	Read   []Name // patterns
	Format string
	Nested bool   // of objects: objects and lists may stand in text columns
	Each   []Name // of objects: paths of lists whose elements are the rows, each within the one before
	Sheet  Name   // of workbooks: its name or number; "" if there is but one
	Range  Name   // and the cells of it; "" for all
	Record Name   // of XML: the path of the element that is a row
	CSV    CSV
	Events Events
}

// The formats of files.
const (
	InCSV     = "csv"
	JSONLines = "json_lines"
	JSON      = "json" // documents: a list of objects, or objects one after the other
	Parquet   = "parquet"
	ICalendar = "icalendar"
	Workbook  = "xlsx"
	XML       = "xml"
	Fixed     = "fixed_width"
)

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
func (s *Source) TypesItself() bool {
	return s.Database != nil || s.Format == Parquet || s.Format == ICalendar
}

// AsRead lists the columns over which the conditions of LeaveOut are: of text files, the declared ones as text.
func (s *Source) AsRead() []column.Field {
	if !s.Reads() {
		return s.Taken()
	}
	fields := make([]column.Field, len(s.Columns))
	for k, c := range s.Columns {
		if fields[k] = (column.Field{Name: c.Text, Type: c.Type}); !s.TypesItself() {
			fields[k].Type = column.Type{Kind: column.Text}
		}
	}
	return fields
}

// Judged lists the columns that the conditions of LeaveOut read.
func (s *Source) Judged() []*Column {
	var list []*Column
	fields := s.AsRead()
	for _, r := range s.LeaveOut {
		if p, err := r.Condition.Compile(fields); err == nil {
			for _, k := range p.Columns() {
				if c := &s.Columns[k]; !slices.Contains(list, c) {
					list = append(list, c)
				}
			}
		}
	}
	return list
}

// Reads reports whether the source reads files or a database itself.
func (s *Source) Reads() bool {
	return s.From == nil && s.Union == nil && s.Standing == nil && s.Calendar == nil && s.Clock == nil
}

// Spread is the column that differs among the rows that one row becomes.
func (s *Source) Spread() Name {
	if s.Split != nil {
		return s.Split.Into
	}
	return s.Unpivot.ValueAs
}

// Taken lists the columns of the rows before they are joined: those read, those of the list that drives the reading,
// and the elements of a list that becomes rows.
func (s *Source) Taken() []column.Field {
	fields := s.listed()
	if s.Split != nil {
		fields = append(fields, s.Split.field())
	}
	return fields
}

// listed lists the columns that rows have once they are read.
func (s *Source) listed() []column.Field {
	var fields []column.Field
	for _, c := range s.Columns {
		if !s.Unpivot.Has(c.Text) {
			fields = append(fields, column.Field{Name: c.Text, Type: c.Type})
		}
		if c.Unfit.Unread {
			fields = append(fields, column.Field{Name: UnreadColumn(c.Text), Type: column.Type{Kind: column.Boolean}})
		}
	}
	if s.Unpivot != nil {
		fields = append(fields, s.Unpivot.fields(s)...)
	}
	for _, o := range s.OfFile {
		fields = append(fields, column.Field{Name: o.Text, Type: o.Type()})
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
		return s.Group.Fields(s.Windowed())
	}
	if s.Periods != nil {
		return s.Periods.Fields(s.Windowed())
	}
	return s.Windowed()
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
	if s.Calendar != nil {
		for _, l := range s.Calendar.Lists {
			if l.Source != nil && !slices.Contains(others, l.Source) {
				others = append(others, l.Source)
			}
		}
	}
	return others
}

// OnlyFiles reports whether all that a source is made of are files, which say the same when they are read again.
func (s *Source) OnlyFiles() bool {
	return s.Database == nil && s.Standing == nil && !slices.ContainsFunc(s.Others(), func(o *Source) bool { return !o.OnlyFiles() })
}

// Stages are the stages that a source's rows go through, in order, named for the keys of the model.
var Stages = []string{"read", "join", "derive", "fill", "checks", "window", "distinct", "group", "periods", "spans"}

// Until returns the source with nothing done behind a stage.
func (s *Source) Until(stage string) *Source {
	cut := *s
	cut.Matched, cut.Aliased = nil, nil
	for i := len(Stages) - 1; Stages[i] != stage; i-- {
		switch Stages[i] {
		case "spans":
			cut.Spans = nil
		case "periods":
			cut.Periods = nil
		case "group":
			cut.Group = nil
		case "distinct":
			cut.Distinct = nil
		case "window":
			cut.Windows = nil
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
	return slices.Concat([]Entry{
		{
			"read",
			"a pattern or a list",
			"the files, in the folder of the model or in `within`: `*` matches any characters, `?` one, `[a-c]` one of these, none of them `/`. Several files are one source, in the byte order of their paths",
			false,
			func(n *node) { s.Read = r.words(n, "a file pattern") },
		},
		{
			"within",
			"a folder",
			"the folder of the files, relative to the folder of the model. Nothing outside it is read, not even by links",
			false,
			func(n *node) { s.Within, _ = r.word(n, "a folder") },
		},
		{
			"format",
			"csv, json_lines, json, xml, xlsx, fixed_width, parquet or icalendar",
			"the format of the files. The default follows from the end of the patterns: `.jsonl`, `.json`, `.xml`, `.xlsx`, `.parquet`, `.ics`, else CSV. JSON Lines has one object in each line; JSON is a document, a list of objects or objects one after the other, whose rows are numbered by these. A column is found by its path, names separated by points (`cargo.code`); `header` has the path if it is not the name of the column. A missing value is null. A list or an object instead of a value sets the row aside. XML documents are read like those: see record. Workbooks (`xlsx`, ECMA-376) have typed cells, and a header like CSV; their rows have the numbers that they have in the sheet. In files of fixed width, each column has the characters that its key `characters` names. Parquet files have types of their own. iCalendar files (RFC 5545) have a row for each day of each event of whole days, with the columns date, name, uid, categories and remark",
			false,
			func(n *node) {
				s.Format = r.choice(n, InCSV, JSONLines, JSON, XML, Workbook, Fixed, Parquet, ICalendar)
			},
		},
		{
			"each",
			"a path or a list",
			"of JSON and XML: the path of a list, each element of which is a row. Columns below it have paths that begin with it (`legs.port`; `legs` for elements that are no objects); the others are those of the object around it. With several paths, each is a list within the one before. An object without elements has no row",
			false,
			func(n *node) { s.Each = r.words(n, "a path") },
		},
		{
			"record",
			"a path",
			"of XML: the path of the element that is a row, from the outermost, names separated by points (`export.orders.order`). Columns are found below it: an element (`customer.name`), an attribute (`@no`, `customer.@no`), or the text of the element itself (`text()`). Elements of the same name are a list (see each). Names are without their namespace prefix",
			false,
			func(n *node) { s.Record, _ = r.word(n, "a path") },
		},
		{
			"sheet",
			"a name or a number",
			"of a workbook: the sheet, by its name or else its number from 1. Not required if there is only one",
			false,
			func(n *node) { s.Sheet, _ = r.word(n, "a sheet") },
		},
		{
			"range",
			"a range or a name",
			"of a workbook: the cells to read, such as `B4:F200`, `B:F` or `4:200`, or the name of a range or a table of the workbook. The default is the whole sheet",
			false,
			func(n *node) { s.Range, _ = r.word(n, "a range") },
		},
		{
			"csv",
			"keys",
			"the format of CSV files, if it is not commas, double quotes and a header. The keys that are not about separators, quotes and encodings are for the other text files and workbooks, too",
			false,
			func(n *node) { r.section(n, r.csvEntries(&s.CSV)) },
		},
		{
			"events",
			"keys",
			"which events of iCalendar files are read",
			false,
			func(n *node) { r.section(n, r.eventEntries(s)) },
		},
		{"database", "a database", "one of databases, instead of files", false, word(&s.text.database, "a database")},
		{
			"table",
			"a table",
			"a table or view of the database; `schema.table` if it is in another schema",
			false,
			func(n *node) { s.Table, _ = r.word(n, "a table") },
		},
		{
			"query",
			"a query",
			"a query in the SQL of the database, instead of a table; `:name` is the value of a parameter or of a column of driven_by",
			false,
			func(n *node) {
				s.Query = r.expression(n, "a query").Name
			},
		},
		{
			"order_by",
			"a column or a list",
			"the order of the rows of a table or query, which decides which member gets which key; the default is all columns that are taken",
			false,
			func(n *node) { s.OrderBy = r.words(n, "a column") },
		},
		{
			"since",
			"a column",
			"the column by which rows are known that are new or changed: a load reads those that are not before the last one that " +
				"was read, and those without a value. It needs no other change than this: rows that change must get a new value",
			false,
			func(n *node) { s.since().Column, _ = r.word(n, "a column") },
		},
		{
			"overlap",
			"2 days, 6 hours or a number",
			"with since, by how much earlier rows are read again, for those that come late",
			false,
			func(n *node) { s.since().overlap, _ = r.word(n, "a span") },
		},
		{
			"from",
			"a source, dimension NAME or fact NAME",
			"another source, whose transformed rows these are; or a dimension or fact of the model, whose rows these are as they stand",
			false,
			word(&s.text.from, "a source"),
		},
		{
			"versions",
			"current or all",
			"with `from: dimension`, which versions of its members: the current ones (the default), or all",
			false,
			func(n *node) { s.versions = r.choice(n, "current", "all") == "all" },
		},
		{
			"calendar",
			"keys",
			"a row for each day, with the keys of the calendar of a dimension",
			false,
			func(n *node) {
				s.Calendar = &Calendar{}
				r.calendar(n, s.Calendar)
			},
		},
		{
			"clock",
			"keys",
			"a row for each time of a day, with the keys of the clock of a dimension",
			false,
			func(n *node) {
				s.Clock = &Clock{}
				r.clock(n, s.Clock)
			},
		},
		{
			"union",
			"a list of sources",
			"several sources, one after the other, with their transformed rows; the columns are those of the first, found by name",
			false,
			func(n *node) { s.text.union = r.words(n, "a source") },
		},
		{
			"driven_by",
			"a source",
			"a list: each of its rows is one read. `{column}` in a path and `:column` in a query are its values, and every row has its columns",
			false,
			word(&s.text.drivenBy, "a source"),
		},
		{
			"unreadable",
			"stop or pass_over",
			"what happens if the files or the query of a row of driven_by cannot be opened, or if no text file matches read, or one that does cannot be opened or has another header: the load stops (the default), or the row is skipped, or the source has no rows, or not those of the file, and it is reported",
			false,
			func(n *node) { s.PassOver = r.choice(n, "stop", "pass_over") == "pass_over" },
		},
		{
			"corrections",
			"a pattern",
			"of text files: files with corrected rows, as `strays --to` writes them, in the folder of the model. Each takes the place of its row wherever that is read, as long as the row stands in its file as it was",
			false,
			func(n *node) { s.Corrections, _ = r.word(n, "a file pattern") },
		},
		{
			"settle",
			"a time, such as 30 s",
			"files that were written less than this ago may not be complete, and are left for a later load (`s`, `min` or `h`). A delivery of all fails instead, because it needs all of its files",
			false,
			func(n *node) { s.Settle = r.duration(n) },
		},
		{
			"companion",
			"the end of a name, such as .done",
			"a file is complete once there is another one that has its name and this end (`trips.csv.done` or `trips.done` for `trips.csv`), and is left for a later load until then",
			false,
			func(n *node) {
				if w, ok := r.word(n, "the end of a name"); ok && (len(w.Text) < 2 || strings.ContainsAny(w.Text, `/\*?[`)) {
					r.errorf(w.At, n.path, "%s is not the end of a name, such as .done", w.Text)
				} else {
					s.Companion = w.Text
				}
			},
		},
		{
			"columns",
			"name: type, or a list",
			"the columns to take, by their names in the header of each file. Types: integer, decimal(p,s), double, text, boolean, date, timestamp, time. Instead of a type: keys, for another name or a position. Parquet files, databases and other sources have types of their own and need no columns, or only a list of names; a declared type converts the values",
			false,
			func(n *node) { s.Columns, s.text.chosen = r.columns(n), true },
		},
		{
			"leave_out",
			"reason: condition",
			"a row that is not meant, such as a line of totals, is left out for that reason if the condition is true: it is counted, and nothing else. In text files, the condition is over the text of the columns, as it was before it was read as a type; of a source that is made of others, over the columns that it takes from them",
			false,
			func(n *node) { s.LeaveOut = r.rules(n) },
		},
		{
			"unpivot",
			"keys",
			"columns that become rows, such as one for each month",
			false,
			func(n *node) {
				s.Unpivot = &Unpivot{at: n.key}
				r.section(n, r.unpivotEntries(s.Unpivot))
			},
		},
		{
			"split",
			"keys",
			"a list in a text that becomes rows, such as the cargoes of a passage",
			false,
			func(n *node) {
				s.Split = &Split{at: n.key}
				r.section(n, r.splitEntries(s.Split))
			},
		},
	}, r.ofFileEntries(s), r.shapingEntries(s), r.describedEntries(&s.Said))
}

// shapingEntries are what is done to the rows of a source.
func (r *reader) shapingEntries(s *Source) []Entry {
	return []Entry{
		{"join", "name: join", "columns of other sources, found by values of the row", false, func(n *node) {
			r.each(n, func(n *node) {
				j := &Join{Name: r.name(n.key, n.path), Unmatched: SetAside, Several: Stop}
				s.Joins = append(s.Joins, j)
				r.section(n, r.joinEntries(j))
			})
		}},
		{"derive", "name: expression", "new columns, in order; each can use those before it", false, func(n *node) {
			r.each(n, func(n *node) {
				s.Derive = append(
					s.Derive,
					Derived{Name: r.name(n.key, n.path), Expression: r.expression(n, "an expression")},
				)
			})
		}},
		{"fill", "name: value", "values instead of null, after derive", false, func(n *node) {
			r.each(n, func(n *node) {
				if w, ok := r.word(n, "a value"); ok {
					s.Fill = append(s.Fill, Fill{Name: n.key, Value: w})
				}
			})
		}},
		{
			"require",
			"reason: condition",
			"a row is set aside for that reason unless the condition is true",
			false,
			func(n *node) { s.Require = r.rules(n) },
		},
		{
			"set_aside",
			"reason: condition",
			"a row is set aside for that reason if the condition is true",
			false,
			func(n *node) { s.SetAside = r.rules(n) },
		},
		{
			"window",
			"name: expression",
			"columns whose values depend on other rows, as window functions of SQL, in order; each can use those before it: `lag(level) over (partition by gauge order by day)`, `lead`, `sum`, `min`, `max`, `count`, `row_number()`. Rows that are equal in the order are taken in the order of the source by lag, lead and row_number; an aggregate has all of them in it. Rows that are set aside are not seen",
			false,
			func(n *node) {
				r.each(n, func(n *node) {
					if w, ok := r.word(n, "a window function"); ok {
						s.Windows = append(s.Windows, Window{Name: r.name(n.key, n.path), written: w})
					}
				})
			},
		},
		{
			"weights",
			"keys",
			"weights of rows that are lists of members, such as the keepers of a passage: those of one list add up to exactly 1. They are computed behind the columns of window",
			false,
			func(n *node) {
				s.Weights = &Weights{at: n.key, places: 6, name: Name{"weight", n.key.At}}
				r.section(n, r.weightEntries(s.Weights))
			},
		},
		{
			"distinct",
			"keys",
			"one row for each value of some columns, of the rows that are not set aside",
			false,
			func(n *node) {
				s.Distinct = &Distinct{at: n.key.At}
				r.section(n, r.distinctEntries(s.Distinct))
			},
		},
		{
			"periods",
			"keys",
			"rows of periods in place of rows of days: balances of what moves, or the last of what is observed, for each member and period",
			false,
			func(n *node) {
				s.Periods = &Periods{at: n.key.At}
				r.section(n, r.periodEntries(s.Periods))
			},
		},
		{
			"spans",
			"keys",
			"cuts the spans of time of lists where one of their rows begins or ends",
			false,
			func(n *node) {
				s.Spans = &Spans{at: n.key.At}
				r.section(n, r.spanEntries(s.Spans))
			},
		},
		{
			"pivot",
			"keys",
			"rows that become columns, such as one for each month, in place of a group",
			false,
			func(n *node) {
				s.Pivot = &Pivot{at: n.key.At}
				r.section(n, r.pivotEntries(s.Pivot))
			},
		},
		{
			"group",
			"keys",
			"aggregates of the rows that are not set aside",
			false,
			func(n *node) {
				s.Group = &Group{at: n.key.At}
				r.section(n, r.groupEntries(s.Group))
			},
		},
	}
}

const (
	day      = 24 * time.Hour
	mostTime = 10_000 * day
)

// duration reads a time.
func (r *reader) duration(n *node) time.Duration {
	w, ok := r.word(n, "a time")
	number, unit, _ := strings.Cut(w.Text, " ")
	count, err := strconv.Atoi(number)
	one := map[string]time.Duration{"s": time.Second, "min": time.Minute, "h": time.Hour, "day": day, "days": day}[unit]
	if ok && (err != nil || count < 1 || count > int(mostTime/max(one, 1)) || one == 0) {
		r.errorf(w.At, n.path, "%s is not a time such as 30 s, 5 min, 2 h or 3 days", w.Text)
	}
	return time.Duration(count) * one
}

// columns reads types by name; or, of what has types of its own, a mere list of names.
func (r *reader) rules(n *node) []Rule {
	var list []Rule
	r.each(n, func(n *node) {
		list = append(list, Rule{n.key, r.expression(n, "a condition")})
	})
	return list
}
