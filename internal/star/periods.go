package star

import (
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
)

// Periods makes rows of periods: one for each member and period, from the first in which the member has a row through
// the last one. Of amounts that move they have the balances, of values that are observed the last one. Of spans of
// time, they are the periods that these cover.
type Periods struct {
	By       []string
	On       string // the day, or the time
	Every    string // day, week, month, quarter or year
	Through  Expression
	Amount   string // what moves; or
	Value    string // what is observed; or
	From, To string // the columns of spans, [From, To)
	Without  string // of amounts: what becomes of a period without movement
	Opens    string // of amounts: the column that is true of a row that has the balance at the end of its day; "" for none
	Closed   string // of amounts: the column with the last day that was closed when a row came; "" for none
	Late     string // of amounts: what becomes of a row of a period that was closed
	Stale    int    // of values: how many days one holds; 0 is any number
	Type     column.Type

	by      []Name
	words   map[string]*Name // the columns, by their keys
	at      diag.Place
	subject string
}

// Columns lists the columns that periods are made of, beside those that tell members apart.
func (p *Periods) Columns() []string {
	return slices.DeleteFunc([]string{p.On, p.Amount, p.Value, p.From, p.To, p.Opens, p.Closed}, func(name string) bool { return name == "" })
}

// Books reports whether a late row is booked in a later period, so that there are columns of it.
func (p *Periods) Books() bool { return p.Closed != "" && p.Late == BookOpen }

// What becomes of a period without movement.
const (
	KeepPeriods  = "keep"
	WhileNotZero = "while_not_zero"
	LeavePeriods = "leave_out"
)

// What becomes of a row that comes late, of a period that was closed.
const (
	BookOpen  = "book_open" // it moves in the first period that was open
	AsideLate = "set_aside"
)

// The columns of periods, behind those that tell members apart.
const (
	PeriodEnd  = "period" // its last day
	Opening    = "opening"
	AddedIn    = "added"
	TakenIn    = "taken"
	Closing    = "closing"
	Movements  = "movements"
	LateAdded  = "late_added"
	LateTaken  = "late_taken"
	ObservedOn = "observed_on"
	AgeDays    = "age_days"
	IsCarried  = "is_carried"
)

// Fields lists the columns of periods of rows with the given columns.
func (p *Periods) Fields(of []column.Field) []column.Field {
	var fields []column.Field
	for _, name := range p.By {
		fields = append(fields, of[column.Find(of, name)])
	}
	date, integer := column.Type{Kind: column.Date}, column.Type{Kind: column.Integer}
	add := func(name string, t column.Type) { fields = append(fields, column.Field{Name: name, Type: t}) }
	if add(PeriodEnd, date); p.Amount != "" {
		for _, name := range []string{Opening, AddedIn, TakenIn, Closing} {
			add(name, p.Type)
		}
		if add(Movements, integer); p.Books() {
			add(LateAdded, p.Type)
			add(LateTaken, p.Type)
		}
		return fields
	}
	if p.Value == "" {
		return fields
	}
	add(p.Value, p.Type)
	add(ObservedOn, date)
	add(AgeDays, integer)
	add(IsCarried, column.Type{Kind: column.Boolean})
	return fields
}

func (r *reader) periodEntries(p *Periods) []Entry {
	p.words = map[string]*Name{}
	word := func(key string) func(n *node) {
		to := &Name{}
		p.words[key] = to
		return func(n *node) { *to, _ = r.word(n, "a column") }
	}
	return []Entry{
		{"by", "a column or a list", "the columns that tell members apart; null equals null", true, func(n *node) { p.by = r.words(n, "a column") }},
		{"on", "a date or timestamp column", "of amounts and values: the day of a row. A row without it is set aside", false, word("on")},
		{"every", "day, week, month, quarter or year", "the periods; weeks are those of ISO 8601. The column `period` has the last day", true, func(n *node) { p.Every = r.choice(n, "day", "week", "month", "quarter", "year") }},
		{
			"through",
			"an expression",
			"a day in the last period: a date or a parameter (`:closing_day`). The default is the period of the latest row, of all members; never today",
			false,
			func(n *node) { p.Through = r.expression(n, "a date or a parameter") },
		},
		{"amount", "a numeric column", "what moves: rows have the columns `opening`, `added` (the sum of positive amounts), `taken` (of negative ones, without the sign), `closing` and `movements` (the rows)", false, word("amount")},
		{"value", "a column", "or what is observed: rows have the last value up to the end of the period, `observed_on`, `age_days` and `is_carried`, if it is of an earlier period. Of rows of one time, the later one counts", false, word("value")},
		{"from", "a date or timestamp column", "or spans of time, such as those in which a lock is open: the beginning of each. A member has a row for each period of which its spans have any, however often. A row without a beginning is set aside", false, word("from")},
		{"to", "a date or timestamp column", "the end of a span, which is not part of it; null has no end, and goes through the last period. A row that ends before it begins is set aside", false, word("to")},
		{
			"without_movement",
			"keep, while_not_zero or leave_out",
			"of amounts: periods without movement have rows (the default), or only if the balance is not zero, or none",
			false,
			func(n *node) { p.Without = r.choice(n, KeepPeriods, WhileNotZero, LeavePeriods) },
		},
		{"opens", "a boolean column", "of amounts: true of a row that has the balance of a member at the end of its day, in place of what moved until then. There is one for a member, before the rows that move", false, word("opens")},
		{"closed", "a date column", "of amounts: the last day that was closed when the row came, such as the end of the month before it was entered. A row is late if its period ends on this day or before", false, word("closed")},
		{
			"late",
			"book_open or set_aside",
			"with closed, what happens to a late row: it moves in the first period that was open when it came (the default), and the columns `late_added` and `late_taken` have what came so; or it is set aside",
			false,
			func(n *node) { p.Late = r.choice(n, BookOpen, AsideLate) },
		},
		{"stale", "a number of days", "of values: one that is older at the end of a period is null there", false, func(n *node) { p.Stale = r.count(n, 1, 100_000) }},
	}
}

// periods checks what periods are made of.
func (c *checker) periods(s *Source, fields []column.Field, path string) {
	p := s.Periods
	p.subject, path = path+".periods", path+".periods"
	if s.Group != nil {
		c.errorf(p.at, path, "a source has a group, a pivot or periods: from: makes another one of it")
		return
	}
	for _, f := range c.fields(fields, "source "+s.Text, p.by, path+".by") {
		p.By = append(p.By, f.Name)
		c.noDouble(s, f, p.at, "periods")
	}
	if !c.periodKeys(p, path) {
		return
	}
	time := func(t column.Type) bool { return t.Kind == column.Date || t.Kind == column.Timestamp }
	of := func(key string, to *string, fits func(column.Type) bool, what string) (t column.Type) {
		w := *p.words[key]
		if w.Text == "" {
			return t
		}
		f, ok := c.field(fields, "source "+s.Text, w, path+"."+key)
		if *to, t = f.Name, f.Type; ok && known(t) && !fits(t) {
			c.errorf(w.At, path+"."+key, "%s is of type %s; it must be %s", f.Name, t, what)
		}
		return t
	}
	of("on", &p.On, time, "a date or a timestamp")
	of("opens", &p.Opens, func(t column.Type) bool { return t.Kind == column.Boolean }, "a boolean")
	of("closed", &p.Closed, func(t column.Type) bool { return t.Kind == column.Date }, "a date")
	from := of("from", &p.From, time, "a date or a timestamp")
	if to := of("to", &p.To, time, "a date or a timestamp"); known(to) && known(from) && to.Kind != from.Kind {
		c.errorf(p.words["to"].At, path+".to", "%s is of type %s, and %s of type %s", p.To, to, p.From, from)
	}
	if p.Type = of("value", &p.Value, known, ""); p.words["amount"].Text != "" {
		p.Type = sumType(of("amount", &p.Amount, column.Type.Exact, "an integer or a decimal, as balances are"))
	}
	if p.Through.Text != "" {
		if program := c.compile(p.Through, path+".through", nil); program != nil && program.Type().Kind != column.Date {
			c.errorf(p.Through.At, path+".through", "it is of type %s, and has to be a date", program.Type())
		}
	}
	for _, f := range p.Fields(fields)[len(p.By):] {
		if slices.Contains(p.By, f.Name) {
			c.errorf(p.at, path+".by", "there would be two columns called %s", f.Name)
		}
	}
}

// periodKeys checks which keys are said together.
func (c *checker) periodKeys(p *Periods, path string) bool {
	said := func(key string) bool { return p.words[key].Text != "" }
	ways := 0
	for _, key := range []string{"amount", "value", "from"} {
		if said(key) {
			ways++
		}
	}
	switch {
	case ways != 1:
		c.errorf(p.at, path, "periods are of an amount, of a value or of spans (from, to): one of these")
	case said("from") != said("to"):
		c.errorf(p.at, path, "from and to are said together")
	case said("from") == said("on"):
		c.errorf(p.at, path, "the rows of amounts and values have a day (on), and spans have from and to")
	case p.Stale > 0 && !said("value"):
		c.errorf(p.at, path+".stale", "stale is for values")
	case (p.Without != "" || said("opens") || said("closed") || p.Late != "") && !said("amount"):
		c.errorf(p.at, path, "without_movement, opens, closed and late are for amounts")
	case p.Late != "" && !said("closed"):
		c.errorf(p.at, path+".late", "late goes with closed, the column that tells which rows are late")
	default:
		if said("closed") && p.Late == "" {
			p.Late = BookOpen
		}
		return true
	}
	return false
}

// LastDay is the day that Through says; false if it says none.
func (p *Periods) LastDay() (day int64, ok bool, err error) {
	if p.Through.Text == "" {
		return 0, false, nil
	}
	program, err := p.Through.Compile(nil)
	if err != nil {
		return 0, false, err
	}
	out := program.Eval(&column.Batch{N: 1})
	return out.Int[0], !out.Null[0], nil
}
