package star

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/parse"
)

// walk is how far the check of a source has come.
type walk int

const (
	walking walk = iota + 1
	right
	wrong
)

// source checks a source, and before it those that it is made of. It says whether others can use it.
func (c *checker) source(s *Source) bool {
	if s.state == 0 {
		s.state = walking
		before := len(c.errs)
		c.origin(s)
		if s.state == walking && !s.blind {
			c.shape(s)
		}
		if s.state == walking {
			s.state = right
		}
		if len(c.errs) > before {
			s.state = wrong
		}
		return s.state == right
	}
	if s.state == walking {
		c.errorf(s.At, "sources."+s.Text, "the source is made of itself")
	}
	return s.state == right
}

// origin checks where the rows come from, and what columns they have.
func (c *checker) origin(s *Source) {
	path := cmp.Or(s.text.subject, "sources."+s.Text)
	ways := 0
	for _, given := range []bool{
		len(s.Read) > 0, s.Table.Text != "" || s.Query.Text != "", s.text.from != nil, s.text.union != nil, s.Calendar != nil, s.Clock != nil,
	} {
		if given {
			ways++
		}
	}
	switch {
	case ways != 1:
		c.errorf(
			s.At,
			path,
			"rows come from files (read), a database (table or query), another source (from), several (union), a calendar or a clock: one of these",
		)
	case s.Table.Text != "" && s.Query.Text != "":
		c.errorf(s.At, path, "a source reads a table or a query")
	case s.text.database == nil && s.Table.Text+s.Query.Text != "":
		c.errorf(s.At, path, "which database is that of? (database)")
	case s.text.database != nil && s.Table.Text+s.Query.Text == "":
		c.errorf(s.text.database.At, path+".database", "which table or query of it?")
	case s.OrderBy != nil && s.text.database == nil:
		c.errorf(
			s.OrderBy[0].At,
			path+".order_by",
			"files and sources have an order of their own: order_by is for a database",
		)
	case s.text.drivenBy != nil && (s.text.from != nil || s.text.union != nil || s.Calendar != nil || s.Clock != nil):
		c.errorf(s.text.drivenBy.At, path+".driven_by", "a list drives the reading of files or of a database")
	}
	if s.text.database != nil {
		s.Database = find(
			c,
			c.model.Databases,
			func(d *Database) string { return d.Text },
			s.text.database,
			path+".database",
			"database",
		)
	}
	if s.DrivenBy = c.findSource(s.text.drivenBy, path+".driven_by"); s.DrivenBy != nil {
		c.source(s.DrivenBy)
	}
	if s.text.from != nil && c.standing(s, path) {
		if s.Standing == nil {
			s.blind = true
			return
		}
	} else if s.From = c.findSource(s.text.from, path+".from"); s.From != nil {
		c.source(s.From)
	}
	if s.versions && (s.Standing == nil || s.Standing.Dimension == nil || !s.Standing.Dimension.Versioned()) {
		c.errorf(s.At, path+".versions", "versions: all goes with from: dimension, of one that has versions")
	}
	for _, w := range s.text.union {
		if o := c.findSource(&w, path+".union"); o != nil {
			s.Union = append(s.Union, o)
			c.source(o)
		}
	}
	if s.text.drivenBy != nil && s.DrivenBy == nil || s.text.from != nil && s.From == nil && s.Standing == nil ||
		len(s.Union) < len(s.text.union) {
		s.blind = true
		return
	}
	if s.Calendar != nil {
		c.calendar(s.Calendar, path+".calendar")
	}
	if s.Clock != nil {
		c.clock(s.Clock, path+".clock")
	}
	for _, o := range s.Others() {
		if o.state != right { // of that it is told already
			s.state, s.blind = wrong, true
			return
		}
	}
	listed := func(name string) bool {
		return s.DrivenBy != nil && column.Find(s.DrivenBy.Fields(), name) >= 0
	}
	for i, w := range s.Read {
		s.Read[i] = c.fill(w, path+".read", listed)
	}
	s.Within = c.fill(s.Within, path+".within", listed)
	s.Format = cmp.Or(s.Format, formatOf(s.Read))
	c.marks(s, path)
	c.events(s, path)
	before := len(c.errs)
	c.ofFile(s, path)
	c.query(s, path)
	c.since(s, path)
	if len(c.errs) > before {
		s.blind = true
		return
	}
	c.taken(s, path)
}

// formatOf returns the format that the ends of patterns tell.
func formatOf(patterns []Name) string {
	for end, format := range map[string]string{
		".jsonl": JSONLines, ".json": JSON, ".xml": XML, ".xlsx": Workbook, ".parquet": Parquet, ".ics": ICalendar,
	} {
		other := func(w Name) bool {
			return !strings.HasSuffix(strings.TrimSuffix(strings.TrimSuffix(w.Text, ".gz"), ".zst"), end)
		}
		if len(patterns) > 0 && !slices.ContainsFunc(patterns, other) {
			return format
		}
	}
	return InCSV
}

// formatted checks what is said for one format alone.
func (c *checker) formatted(s *Source, path string) {
	here := func(format string) bool { return len(s.Read) > 0 && s.Format == format }
	for _, w := range []Name{s.Sheet, s.Range} {
		if w.Text != "" && !here(Workbook) {
			c.errorf(w.At, path, "sheet and range are for workbooks")
		}
	}
	if w := s.Record; w.Text != "" && !here(XML) {
		c.errorf(w.At, path+".record", "record is for XML")
	} else if w.Text == "" && here(XML) {
		c.errorf(s.At, path, "which element of the XML is a row? (record)")
	}
	marks := &s.CSV
	if (here(Workbook) || here(Fixed)) && (marks.Separator != PlainCSV.Separator || marks.Quote != PlainCSV.Quote || marks.Guarded) {
		c.errorf(s.At, path+".csv", "separator, quote and guard are for CSV files")
	}
	if (here(Workbook) || here(XML)) && marks.Encoding != "" {
		c.errorf(s.At, path+".csv.encoding", "a workbook or an XML document says itself how it is encoded")
	}
	if here(Fixed) {
		if marks.Headless = true; !marks.Header.IsFirst() {
			c.errorf(s.At, path+".csv.header", "files of fixed width have no header: leave_out passes over lines that are not rows")
		}
	}
	if s.Corrections.Text != "" && (len(s.Read) == 0 || s.TypesItself() || s.Format == Workbook) {
		c.errorf(s.Corrections.At, path+".corrections", "rows of text files can be corrected")
	}
	if (s.Settle > 0 || s.Companion != "") && len(s.Read) == 0 {
		c.errorf(s.At, path, "settle and companion are for files")
	}
	for _, col := range s.Columns {
		at := path + ".columns." + col.Text
		switch {
		case here(Fixed) && col.Chars.From == 0:
			c.errorf(col.At, at, "which characters of a line are its value? (characters)")
		case !here(Fixed) && col.Chars.From > 0:
			c.errorf(col.At, at+".characters", "characters are for files of fixed width")
		case here(Fixed) && col.Header != "":
			c.errorf(col.At, at+".header", "files of fixed width have no header")
		}
	}
}

// elements checks which lists of JSON make rows.
func (c *checker) elements(s *Source, path string) {
	for k, w := range s.Each {
		switch {
		case !s.HasObjects():
			c.errorf(w.At, path+".each", "only JSON and XML have lists")
			return
		case k > 0 && !strings.HasPrefix(w.Text, s.Each[k-1].Text+"."):
			c.errorf(w.At, path+".each", "%s is not within %s", w.Text, s.Each[k-1].Text)
		}
	}
	for _, col := range s.Columns {
		at := path + ".columns." + col.Text + ".position_in"
		if in := col.PositionIn; in != "" && !slices.ContainsFunc(s.Each, func(w Name) bool { return w.Text == in }) {
			c.errorf(col.At, at, "%s is not a path of each", in)
		} else if in != "" && col.Type.Kind != column.Integer && known(col.Type) {
			c.errorf(col.At, at, "a position is an integer")
		}
	}
}

// odd checks what is declared for columns and values that are missing or do not fit.
func (c *checker) odd(s *Source, path string) {
	for k := range s.Columns {
		col := &s.Columns[k]
		at := path + ".columns." + col.Text
		inText := len(s.Read) > 0 && (s.HasRecords() || s.HasObjects())
		if (col.Others != nil || col.Optional) && (s.Format != InCSV && s.Format != Workbook || len(s.Read) == 0 || s.CSV.Headless) {
			c.errorf(col.At, at, "only files with a header have columns of several names, or without any")
		}
		if col.Unfit.Unread && s.Unpivot.Has(col.Text) {
			c.errorf(col.At, at+".unfit", "%s becomes rows, and a key of these cannot be unreadable", col.Text)
		}
		if !col.Unfit.IsUsual() && (!inText || col.Type.Kind == column.Text) {
			c.errorf(col.At, at+".unfit", "unfit is for text files, and for other types than text")
			continue
		}
		if w := col.Unfit.Value; w != nil && known(col.Type) {
			one := column.Column{Type: col.Type}
			one.Resize(1)
			if err := parse.NewReader(c.model.Zone).Set(&one, 0, w.Text); err != nil {
				c.errorf(w.At, at+".unfit.value", "%s %v", w.Text, err)
			}
		}
	}
}

func (c *checker) marks(s *Source, path string) {
	c.layouts(s, path)
	c.formatted(s, path)
	c.odd(s, path)
	c.elements(s, path)
	for _, col := range s.Columns {
		if col.Zone == nil && col.WrittenIn == nil {
			continue
		}
		if len(s.Read) == 0 || s.Format == ICalendar || col.Type.Kind != column.Timestamp && known(col.Type) || col.WrittenIn != nil && s.Format == Parquet {
			c.errorf(col.zones, path+".columns."+col.Text, "zone is for timestamps in files, and written_in for those in text files")
		}
	}
	for _, b := range []byte{s.CSV.Quote, s.CSV.Style.Decimal} {
		if b != 0 && (b == s.CSV.Separator && b == s.CSV.Quote || b == s.CSV.Style.Thousands) {
			c.errorf(s.At, path+".csv", "%q cannot be two marks at once", b)
		}
	}
	for _, col := range s.Columns {
		if col.Position > 0 && (s.Format != InCSV && s.Format != Workbook || len(s.Read) == 0) {
			c.errorf(
				col.At,
				path+".columns."+col.Text,
				"only CSV and workbooks have positions: header is the name or path of a column",
			)
		}
	}
}

// taken finds the columns that the source takes, and their types where the model leaves them open.
func (c *checker) taken(s *Source, path string) {
	var there []Column
	of := "what is read"
	switch {
	case s.Standing != nil:
		there, of = asColumns(s.Standing.Fields()), s.Standing.String()
	case s.Calendar != nil:
		there, of = asColumns(s.Calendar.Fields()), "the calendar"
	case s.Clock != nil:
		there, of = asColumns(s.Clock.Fields()), "the clock"
	case s.From != nil:
		there, of = asColumns(s.From.Fields()), "source "+s.From.Text
	case s.Union != nil:
		there, of = asColumns(s.Union[0].Fields()), "source "+s.Union[0].Text
		c.alike(s, path)
	case !s.TypesItself():
		if len(s.Columns) == 0 {
			c.errorf(s.At, path, "columns is missing: which columns, and of what types?")
			s.blind = true
		}
		for _, col := range s.Columns {
			if !known(col.Type) && !c.told(col.At) {
				c.errorf(
					col.At,
					path+".columns."+col.Text,
					"its type is missing: text files do not tell the types of their columns",
				)
			}
		}
		c.overlap(s, path)
		return
	case s.complete():
		c.overlap(s, path)
		return
	case s.Database == nil && s.text.database != nil || s.Database != nil && s.Database.Path+s.Database.Connection == "":
		s.blind = true // where it is has been told to be wrong
		return
	case c.columns == nil:
		c.errorf(s.At, path, "nobody has looked at it for the types of its columns")
		s.blind = true
		return
	default:
		var err error
		if there, err = c.columns(c.model, s); err != nil {
			c.unseen(s, path, err)
			s.blind = true
			return
		}
	}
	if !s.text.chosen {
		s.Columns = there
	}
	var names []string
	for _, t := range there {
		names = append(names, t.InFile())
	}
	for _, w := range s.OrderBy {
		if !slices.Contains(names, w.Text) {
			c.errorf(w.At, path+".order_by", "there is no column %s%s", w.Text, diag.Suggest(w.Text, names))
		}
	}
	for i := range s.Columns {
		col := &s.Columns[i]
		at := slices.Index(names, col.InFile())
		switch {
		case at < 0:
			c.errorf(
				col.At,
				path+".columns",
				"%s has no column %s%s",
				of,
				col.InFile(),
				diag.Suggest(col.InFile(), names),
			)
		case !s.Reads() && known(col.Type) && col.Type != there[at].Type:
			c.errorf(
				col.At,
				path+".columns."+col.Text,
				"%s of %s is of type %s: cast in a derived column makes it another",
				col.InFile(),
				of,
				there[at].Type,
			)
		case !known(col.Type):
			if col.Type = there[at].Type; !known(col.Type) {
				c.errorf(
					col.At,
					path+".columns."+col.Text,
					"its type there is none of ours: say which one it is to be",
				)
			}
		}
	}
	c.overlap(s, path)
}

// complete reports whether the model itself tells the types of all columns.
func (s *Source) complete() bool {
	return s.text.chosen && !slices.ContainsFunc(s.Columns, func(c Column) bool { return !known(c.Type) })
}

// told reports whether something has been said of a line.
func (c *checker) told(at diag.Place) bool {
	return slices.ContainsFunc(c.errs, func(e *diag.Error) bool { return e.At.Line == at.Line })
}

// unseen tells what kept a source from being looked at.
func (c *checker) unseen(s *Source, path string, err error) {
	var list diag.List
	var one *diag.Error
	switch {
	case errors.As(err, &list):
		for _, e := range list {
			if e.Text == "" && e.At.File == c.file && e.At.Line > 0 && e.At.Line <= len(c.lines) {
				e.Text = c.lines[e.At.Line-1]
			}
		}
		c.errs = append(c.errs, list...)
	case errors.As(err, &one):
		c.errs = append(c.errs, one)
	default:
		c.errorf(s.At, path, "%v", err)
	}
}

func asColumns(fields []column.Field) []Column {
	var list []Column
	for _, f := range fields {
		list = append(list, Column{Name: Name{Text: f.Name}, Type: f.Type})
	}
	return list
}

// alike checks that the sources of a union have the same columns.
func (c *checker) alike(s *Source, path string) {
	first := s.Union[0].Fields()
	wanted := func(f column.Field) bool {
		return !s.text.chosen || slices.ContainsFunc(s.Columns, func(col Column) bool { return col.InFile() == f.Name })
	}
	for i, o := range s.Union[1:] {
		at := s.text.union[i+1].At
		fields := o.Fields()
		for _, f := range first {
			k := column.Find(fields, f.Name)
			switch {
			case !wanted(f):
			case k < 0:
				c.errorf(
					at,
					path+".union",
					"source %s has no column %s, which %s has%s",
					o.Text,
					f.Name,
					s.Union[0].Text,
					diag.Suggest(f.Name, column.Names(fields)),
				)
			case fields[k].Type != f.Type:
				c.errorf(
					at,
					path+".union",
					"%s is of type %s in source %s, and of type %s in %s",
					f.Name,
					fields[k].Type,
					o.Text,
					f.Type,
					s.Union[0].Text,
				)
			}
		}
		for _, f := range fields {
			if !s.text.chosen && column.Find(first, f.Name) < 0 {
				c.errorf(
					at,
					path+".union",
					"source %s has the column %s, which %s has not; columns says which to take",
					o.Text,
					f.Name,
					s.Union[0].Text,
				)
			}
		}
	}
}

// overlap tells columns that are there twice.
func (c *checker) overlap(s *Source, path string) {
	seen := map[string]bool{}
	for _, col := range s.Columns {
		if seen[col.Text] {
			c.errorf(cmp.Or(col.At, s.At), path+".columns", "there are two columns called %s", col.Text)
		}
		seen[col.Text] = true
	}
	for _, o := range s.OfFile {
		if seen[o.Text] {
			c.errorf(o.At, path+".of_file", "there are two columns called %s", o.Text)
		}
		seen[o.Text] = true
	}
	if s.DrivenBy == nil {
		return
	}
	for _, f := range s.DrivenBy.Fields() {
		if seen[f.Name] {
			c.errorf(
				s.text.drivenBy.At,
				path+".driven_by",
				"%s is a column of the list and of what is read: call one otherwise",
				f.Name,
			)
		}
	}
}

// shape checks what is done to the rows.
func (c *checker) shape(s *Source) {
	path := "sources." + s.Text
	for i, j := range s.Joins {
		before := *s
		before.Joins = s.Joins[:i]
		c.join(s, j, before.Joined())
	}
	if s.blind {
		return
	}
	c.leaveOut(s, path)
	c.unpivot(s, path)
	c.split(s, path)
	c.pivot(s, path)
	here := s.Joined()
	for i := range s.Derive {
		d := &s.Derive[i]
		fields := here
		for _, before := range s.Derive[:i] {
			fields = append(fields[:len(fields):len(fields)], column.Field{Name: before.Text, Type: before.Type})
		}
		if column.Find(fields, d.Text) >= 0 {
			c.errorf(d.At, path+".derive", "there is already a column %s", d.Text)
		}
		if p := c.compile(d.Expression, path+".derive."+d.Text, fields); p != nil {
			if d.Type = p.Type(); d.Type.Kind == column.Null {
				c.errorf(d.Expression.At, path+".derive."+d.Text, "a bare null has no type: cast(null as text)")
			}
		}
	}
	all := s.Complete()
	for i := range s.Fill {
		c.fillRule(s, &s.Fill[i], all)
	}
	for _, rules := range []struct {
		of   []Rule
		name string
	}{{s.Require, "require"}, {s.SetAside, "set_aside"}} {
		c.conditions(rules.of, path+"."+rules.name, all)
	}
	c.weights(s, all, path)
	c.windows(s, all, path)
	if s.Distinct != nil {
		c.distinct(s, s.Windowed())
	}
	if s.Group != nil {
		c.group(s, s.Windowed())
	}
	if s.Periods != nil {
		c.periods(s, s.Windowed(), path)
	}
	if s.Spans != nil {
		c.spans(s, s.Windowed(), path)
	}
}

// conditions checks rules over fields.
func (c *checker) conditions(rules []Rule, path string, fields []column.Field) {
	for _, rule := range rules {
		at := path + "." + rule.Reason.Text
		if p := c.compile(rule.Condition, at, fields); p != nil && p.Type().Kind != column.Boolean && known(p.Type()) {
			c.errorf(rule.Condition.At, at, "a condition is true or false, and this is of type %s", p.Type())
		}
	}
}

// leaveOut checks which rows are left out.
func (c *checker) leaveOut(s *Source, path string) {
	if s.LeaveOut == nil {
		return
	}
	c.conditions(s.LeaveOut, path+".leave_out", s.AsRead())
}

// query checks the names in a query and the order of the rows.
func (c *checker) query(s *Source, path string) {
	if s.Database == nil {
		return
	}
	if s.OrderBy == nil {
		c.remark(
			s.At,
			path,
			"no order_by: rows are sorted by all their columns, since a database gives them in no order of its own",
		)
	}
	if s.Query.Text == "" {
		return
	}
	var names []string
	for _, p := range c.parameters {
		names = append(names, p.Name)
	}
	if s.DrivenBy != nil {
		names = append(names, column.Names(s.DrivenBy.Fields())...)
	}
	_, used := SplitQuery(s.Query.Text, s.Database.Kind)
	for _, name := range used {
		if !slices.Contains(names, name) {
			c.errorf(s.Query.At, path+".query", "there is no parameter :%s%s", name, diag.Suggest(name, names))
		}
	}
}

// SplitQuery cuts a query at its :names, which stand neither in quotes nor in comments: there is one more text than
// names. Kind is the database's.
func SplitQuery(query, kind string) (texts, names []string) {
	start := 0
	for i := 0; i < len(query); {
		skip := func(closing string, escapes bool) {
			for i++; i < len(query) && !strings.HasPrefix(query[i:], closing); i++ {
				if escapes && query[i] == '\\' {
					i++
				}
			}
			i += len(closing)
		}
		rest := query[i:]
		switch c := query[i]; {
		case c == '\'' || c == '"':
			// a text with escapes, E'...', in PostgreSQL
			escaped := i > 0 && query[i-1]|0x20 == 'e' && (i == 1 || !nameByte(query[i-2]))
			skip(string(c), kind == MySQL || kind == Postgres && escaped)
		case c == '`':
			skip("`", false)
		case strings.HasPrefix(rest, "--"), c == '#' && kind == MySQL:
			skip("\n", false)
		case strings.HasPrefix(rest, "/*"):
			i++
			skip("*/", false)
		case c == '$' && kind == Postgres && dollarQuote(rest) != "":
			tag := dollarQuote(rest)
			i += len(tag) - 1
			skip(tag, false)
		case strings.HasPrefix(rest, "::"):
			i += 2
		case c == ':' && len(rest) > 1 && nameByte(rest[1]) && !(rest[1] >= '0' && rest[1] <= '9'):
			end := i + 1
			for end < len(query) && nameByte(query[end]) {
				end++
			}
			texts, names = append(texts, query[start:i]), append(names, query[i+1:end])
			i, start = end, end
		default:
			i++
		}
	}
	return append(texts, query[min(start, len(query)):]), names
}

func nameByte(b byte) bool {
	return b == '_' || b >= '0' && b <= '9' || b|0x20 >= 'a' && b|0x20 <= 'z' || b >= 0x80
}

// dollarQuote returns the tag of a dollar-quoted text that begins here, such as $body$.
func dollarQuote(s string) string {
	for i := 1; i < len(s); i++ {
		if s[i] == '$' {
			return s[:i+1]
		}
		if !nameByte(s[i]) {
			break
		}
	}
	return ""
}

// Value is a value for a parameter of a query: as text, with the type that it has.
type Value struct {
	Text string
	Type column.Type
}

// Bound returns the value of a parameter of the model.
func (m *Model) Bound(name string) (Value, error) {
	for _, p := range m.Parameters {
		if p.Text == name && !p.Secret {
			return Value{p.Value, p.Type}, nil
		}
	}
	return Value{}, fmt.Errorf("there is no parameter %s", name)
}
