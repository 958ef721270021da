package star

import (
	"cmp"
	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/parse"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"
)

// Column is a column of a source as it is taken.
type Column struct {
	Name
	Type     column.Type   // Null as long as what is read tells it
	Header   string        // its name there; its own if empty
	Others   []string      // other names that it may have there: the first that is there counts
	Optional bool          // it may be missing, and is null then
	Unfit    Unfit         // what becomes of a value that does not fit the type
	Position int           // in a record, from 1; 0 if its header tells
	Chars    Span          // of a line of fixed width
	Layouts  parse.Layouts // of dates, timestamps or times; nil for those of the source
	layouts  []Name

	PositionIn string // of JSON: the list of which it is the position of the element, from 1; "" if it is a value

	Zone      *time.Location // of timestamps: the zone whose clock they show; nil for that of the model
	WrittenIn *time.Location // and the one whose clock is meant where they have no offset; nil for that of the model

	zones diag.Place // where these are said
}

// Span is characters of a line, from 1, both included.
type Span struct{ From, To int }

// Unfit says what becomes of a value that does not fit the type of its column.
type Unfit struct {
	Null   bool  // it is taken for nothing
	Unread bool  // and a column beside it says that there was a value
	Value  *Name // or for this value; if neither, the row is set aside
}

// UnreadColumn is the name of the column that says of a column that what was delivered is no value of its type. A key
// that is made of such a column points to the special member [Unreadable] then.
func UnreadColumn(name string) string { return name + "_unreadable" }

// IsUsual reports whether the row is set aside.
func (u *Unfit) IsUsual() bool { return !u.Null && u.Value == nil }

// HasObjects reports whether the files have objects, whose columns are found by paths.
func (f *Files) HasObjects() bool {
	return f.Format == JSONLines || f.Format == JSON || f.Format == XML
}

// HasRecords reports whether the files have records, whose columns are found by a header or by positions.
func (f *Files) HasRecords() bool {
	return f.Format == InCSV || f.Format == Workbook || f.Format == Fixed
}

// InFile is the column's name in what is read.
func (c *Column) InFile() string { return cmp.Or(c.Header, c.Text) }

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

// unfit reads what becomes of values that do not fit.
func (r *reader) unfit(n *node, c *Column) {
	if n.Kind != yaml.MappingNode {
		chosen := r.choice(n, string(SetAside), string(LeaveEmpty), string(ToUnreadable))
		c.Unfit.Unread = chosen == string(ToUnreadable)
		c.Unfit.Null = c.Unfit.Unread || chosen == string(LeaveEmpty)
		return
	}
	r.section(n, r.unfitEntries(c))
}

func (r *reader) unfitEntries(c *Column) []Entry {
	return []Entry{{"value", "a value", "the value that it has instead", true, func(n *node) {
		if w, ok := r.word(n, "a value"); ok {
			c.Unfit.Value = &w
		}
	}}}
}

// span reads which characters of a line are meant.
func (r *reader) span(n *node) (s Span) {
	w, ok := r.word(n, "characters")
	if !ok {
		return s
	}
	from, to, two := strings.Cut(w.Text, "-")
	if !two {
		to = from
	}
	var err1, err2 error
	s.From, err1 = strconv.Atoi(strings.TrimSpace(from))
	s.To, err2 = strconv.Atoi(strings.TrimSpace(to))
	if err1 != nil || err2 != nil || s.From < 1 || s.To < s.From || s.To > 1_000_000 {
		r.errorf(w.At, n.path, "%s are not characters of a line: 9-14 are six, from the ninth on", w.Text)
	}
	return s
}

func (r *reader) columnEntries(c *Column) []Entry {
	return []Entry{
		{
			"type",
			"a type",
			"its type; not required if the source has types of its own",
			false,
			func(n *node) { c.Type = r.typ(n) },
		},
		{
			"header",
			"a name or a list",
			"its name in the header of the file, in the table or in the other source; in JSON and Parquet, its path. Of several names in CSV, the first that is there counts",
			false,
			func(n *node) {
				for k, w := range r.words(n, "a name") {
					if k == 0 {
						c.Header = w.Text
					} else {
						c.Others = append(c.Others, w.Text)
					}
				}
			},
		},
		{
			"absent",
			"stop or leave_empty",
			"what happens if the header of a CSV file does not have the column: the load stops (the default), or the column is null",
			false,
			func(n *node) { c.Optional = r.choice(n, string(Stop), string(LeaveEmpty)) == string(LeaveEmpty) },
		},
		{
			"unfit",
			"set_aside, leave_empty, unreadable, or keys",
			"what happens if a value in a text file does not fit the type: the row is set aside (the default), or the column is null; or it has another `value`. With unreadable the column is null, and the column NAME_unreadable beside it is true; a key that is made of NAME then points to the special member Unreadable. The values are counted and reported",
			false,
			func(n *node) { r.unfit(n, c) },
		},
		{
			"layout",
			"a layout, such as dd.MM.yyyy, or a list",
			"of a date, timestamp or time in a text file: how it is written, if it is not as in the other columns; see the key csv",
			false,
			func(n *node) { c.layouts = r.words(n, "a layout") },
		},
		{
			"zone",
			"a zone's name, such as UTC",
			"of a timestamp in a file: the time zone whose clock it shows, if it is not that of the model. Two columns of one header can show two zones",
			false,
			func(n *node) { c.Zone, c.zones = r.zone(n), n.key.At },
		},
		{
			"written_in",
			"a zone's name, such as UTC",
			"of a timestamp in a text file: the time zone of values without an offset, if it is not that of the model",
			false,
			func(n *node) { c.WrittenIn, c.zones = r.zone(n), n.key.At },
		},
		{
			"position_in",
			"a path of each",
			"of JSON with each: instead of a value, the position of the element in this list, from 1",
			false,
			func(n *node) {
				if w, ok := r.word(n, "a path"); ok {
					c.PositionIn = w.Text
				}
			},
		},
		{
			"characters",
			"from-to, such as 9-14",
			"of files of fixed width: the characters of a line that are its value, counted from 1, both included. Blanks around the value are not part of it",
			false,
			func(n *node) { c.Chars = r.span(n) },
		},
		{
			"position",
			"a number from 1",
			"its position in a row of CSV, or of the range of a workbook",
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
