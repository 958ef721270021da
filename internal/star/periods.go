package star

import (
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
)

// Periods makes rows of periods: one for each member and period, from the first in which the member has a row through the last one.
// Of amounts that move they have the balances, of values that are observed the last one.
type Periods struct {
	By      []string
	On      string // the day, or the time
	Every   string // week, month, quarter or year
	Through Expression
	Amount  string // what moves; or
	Value   string // what is observed
	Without string // of amounts: what becomes of a period without movement
	Stale   int    // of values: how many days one holds; 0 is any number
	Type    column.Type

	by                []Name
	on, amount, value Name
	at                diag.Place
	subject           string
}

// What becomes of a period without movement.
const (
	KeepPeriods  = "keep"
	WhileNotZero = "while_not_zero"
	LeavePeriods = "leave_out"
)

// The columns of periods, behind those that tell members apart.
const (
	PeriodEnd  = "period" // its last day
	Opening    = "opening"
	AddedIn    = "added"
	TakenIn    = "taken"
	Closing    = "closing"
	Movements  = "movements"
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
		add(Movements, integer)
		return fields
	}
	add(p.Value, p.Type)
	add(ObservedOn, date)
	add(AgeDays, integer)
	add(IsCarried, column.Type{Kind: column.Boolean})
	return fields
}

func (r *reader) periodEntries(p *Periods) []Entry {
	word := func(to *Name) func(n *node) { return func(n *node) { *to, _ = r.word(n, "a column") } }
	return []Entry{
		{"by", "a column or a list", "the columns that tell members apart; null equals null", true, func(n *node) { p.by = r.words(n, "a column") }},
		{"on", "a date or timestamp column", "the day of a row. A row without it is set aside", true, word(&p.on)},
		{"every", "week, month, quarter or year", "the periods; weeks are those of ISO 8601. The column `period` has the last day", true, func(n *node) { p.Every = r.choice(n, "week", "month", "quarter", "year") }},
		{
			"through",
			"an expression",
			"a day in the last period: a date or a parameter (`:closing_day`). The default is the period of the latest row, of all members; never today",
			false,
			func(n *node) { p.Through = r.expression(n, "a date or a parameter") },
		},
		{"amount", "a numeric column", "what moves: rows have the columns `opening`, `added` (the sum of positive amounts), `taken` (of negative ones, without the sign), `closing` and `movements` (the rows)", false, word(&p.amount)},
		{"value", "a column", "or what is observed: rows have the last value up to the end of the period, `observed_on`, `age_days` and `is_carried`, if it is of an earlier period. Of rows of one time, the later one counts", false, word(&p.value)},
		{
			"without_movement",
			"keep, while_not_zero or leave_out",
			"of amounts: periods without movement have rows (the default), or only if the balance is not zero, or none",
			false,
			func(n *node) { p.Without = r.choice(n, KeepPeriods, WhileNotZero, LeavePeriods) },
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
	if f, ok := c.field(fields, "source "+s.Text, p.on, path+".on"); ok {
		if p.On = f.Name; known(f.Type) && f.Type.Kind != column.Date && f.Type.Kind != column.Timestamp {
			c.errorf(p.on.At, path+".on", "%s is of type %s; it must be a date or a timestamp", f.Name, f.Type)
		}
	}
	if (p.amount.Text == "") == (p.value.Text == "") {
		c.errorf(p.at, path, "periods are of an amount or of a value: one of these")
		return
	}
	if p.amount.Text != "" {
		if f, ok := c.field(fields, "source "+s.Text, p.amount, path+".amount"); ok {
			if p.Amount, p.Type = f.Name, sumType(f.Type); known(f.Type) && !f.Type.Exact() {
				c.errorf(p.amount.At, path+".amount", "%s is of type %s; balances are of integers and decimals", f.Name, f.Type)
			}
		}
	} else if f, ok := c.field(fields, "source "+s.Text, p.value, path+".value"); ok {
		p.Value, p.Type = f.Name, f.Type
	}
	if p.Stale > 0 && p.Value == "" || p.Without != "" && p.Amount == "" {
		c.errorf(p.at, path, "without_movement is for amounts, and stale for values")
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
