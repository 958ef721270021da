package star

import (
	"ironmonger/internal/column"
	"ironmonger/internal/locale"
	"ironmonger/internal/parse"
	"strings"

	"go.yaml.in/yaml/v3"
)

// CSV is how a source's files are written, where that is not as RFC 4180 has it.
type CSV struct {
	Separator byte // between fields
	Quote     byte // around fields; 0 if there are no quotes
	Headless  bool // no header: columns are told by position
	Header    Header
	Encoding  string // an IANA name; "" is UTF-8
	Guarded   bool   // values that spreadsheets would take for formulas have an apostrophe before them
	Nulls     []string
	Style     parse.Style

	century  int    // the first of the years that two digits can mean
	language string // of the names of months
	layouts  map[column.Kind][]Name
}

// Header says where the header of a file is, if it is not its first record. What stands above it is not read.
type Header struct {
	Line   int      // the line on which it begins, from 1; 0 if that is not said
	Begins []string // or its first columns
}

// IsFirst reports whether the header is the first record.
func (h Header) IsFirst() bool { return h.Line <= 1 && h.Begins == nil }

// PlainCSV is RFC 4180 with a header.
var PlainCSV = CSV{Separator: ',', Quote: '"'}

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
	layouts := func(kind column.Kind) func(n *node) {
		return func(n *node) {
			if c.layouts == nil {
				c.layouts = map[column.Kind][]Name{}
			}
			c.layouts[kind] = r.words(n, "a layout")
		}
	}
	return []Entry{
		{
			"separator",
			"a character, or tab",
			"the separator of fields; the default is a comma",
			false,
			mark(&c.Separator, map[string]byte{"tab": '\t'}),
		},
		{
			"quote",
			"a character, or none",
			"the quote around fields; the default is a double quote",
			false,
			mark(&c.Quote, map[string]byte{"none": 0}),
		},
		{
			"header",
			"none, or keys",
			"`none`: the files have no header, and the columns are in the order of `columns`, or have positions. Keys say where the header is if lines stand above it",
			false,
			func(n *node) { r.header(n, c) },
		},
		{"nulls", "a list of words", "fields that are null, besides empty ones", false, func(n *node) {
			c.Nulls = nil
			for _, w := range r.words(n, "a word") {
				c.Nulls = append(c.Nulls, w.Text)
			}
		}},
		{
			"encoding",
			"utf-16, windows-1252 or iso-8859-1",
			"the encoding; the default is UTF-8. Bytes that are not valid set the row aside",
			false,
			func(n *node) { c.Encoding = r.choice(n, "utf-16", "windows-1252", "iso-8859-1") },
		},
		{
			"guard",
			"apostrophe",
			"an apostrophe before a value is not part of the value: it prevents spreadsheets from reading a formula; `--guard` writes it",
			false,
			func(n *node) { c.Guarded = r.choice(n, "apostrophe") == "apostrophe" },
		},
		{
			"decimal_mark",
			"a character",
			"the decimal mark; the default is a point",
			false,
			mark(&c.Style.Decimal, nil),
		},
		{
			"thousands_mark",
			"a character, or blank",
			"the mark between groups of three digits; the default is none",
			false,
			mark(&c.Style.Thousands, map[string]byte{"blank": ' '}),
		},
		{
			"date",
			"a layout, such as dd.MM.yyyy, or a list",
			"the layout of dates: yyyy, MM, dd (M and d for one or two digits), as in Unicode's date field patterns; yy for two digits of a year, MMM for the name of a month; a layout without a day means the first of the month. Or a count: `days since 1899-12-30` (as in spreadsheets), `seconds since 1970-01-01`, milliseconds, microseconds. Of several layouts, the first that fits counts; values that another one reads otherwise are reported",
			false,
			layouts(column.Date),
		},
		{
			"timestamp",
			"a layout, such as dd.MM.yyyy HH:mm, or a list",
			"the layout of timestamps: also HH, mm, ss, S for each digit of a fraction, and hh with a for AM or PM. Counts of seconds are instants of UTC, counts of days are of the clock of the file",
			false,
			layouts(column.Timestamp),
		},
		{"time", "a layout, such as HH.mm, or a list", "the layout of times", false, layouts(column.Time)},
		{
			"two_digit_years",
			"a year, such as 1950",
			"the first year that two digits can mean in a layout with yy: with 1950, 49 is 2049",
			false,
			func(n *node) { c.century = r.count(n, 1, 9900) },
		},
		{
			"month_names",
			"a language tag, such as de",
			"the language of the names of months in layouts with MMM; the default is English",
			false,
			func(n *node) {
				if w, ok := r.word(n, "a language tag"); ok {
					if _, err := locale.Find(w.Text); err != nil {
						r.errorf(w.At, n.path, "%v", err)
						return
					}
					c.language = w.Text
				}
			},
		},
	}
}

// header reads where the header of files is.
func (r *reader) header(n *node, c *CSV) {
	if n.Kind != yaml.MappingNode {
		c.Headless = r.choice(n, "none") == "none"
		return
	}
	r.section(n, r.headerEntries(&c.Header))
	if h := c.Header; (h.Line == 0) == (h.Begins == nil) {
		r.errorf(n.key.At, n.path, "the header is on a line, or it is the line that begins with some columns: line or begins_with")
	}
}

func (r *reader) headerEntries(h *Header) []Entry {
	return []Entry{
		{
			"line",
			"a number from 1",
			"the line of the header; the lines above it are not read",
			false,
			func(n *node) { h.Line = r.count(n, 1, 10_000) },
		},
		{
			"begins_with",
			"a column or a list",
			"the first columns of the header: it is the first line that begins with them",
			false,
			func(n *node) {
				for _, w := range r.words(n, "a column") {
					h.Begins = append(h.Begins, w.Text)
				}
			},
		},
	}
}
