package star

import (
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/parse"
)

// Relative says from which day the view of a calendar counts. It is stored, so that a day that passes changes one row.
type Relative struct {
	Day   int64 // unless it is the day of the load or that of a fact
	Today bool  // the day on which the load began, in the time zone of the model, or in UTC if it has none
	Fact  *Fact // the last day that its key points to
	Key   *Key

	asOf Name
	at   diag.Place
}

func (r *reader) relativeEntries(x *Relative) []Entry {
	return []Entry{{
		"as_of",
		"a date, today, or fact NAME.KEY",
		"the reference day: a date, which may be a parameter; the day of the load (today); or the last day that a fact has in a key " +
			"(`fact sale.sold`)",
		true,
		func(n *node) { x.asOf, _ = r.word(n, "a date") },
	}}
}

// relative reads the reference day, and has the calendar have the attributes that the view needs.
func (c *checker) relative(cal *Calendar, path string) {
	x := cal.Relative
	w := c.fill(x.asOf, path+".as_of")
	switch {
	case w.Text == "today":
		x.Today = true
	case strings.HasPrefix(w.Text, "fact "): // once facts are known
	default:
		col := column.Column{Type: column.Type{Kind: column.Date}}
		col.Resize(1)
		if parse.NewReader(nil).Set(&col, 0, w.Text) != nil {
			c.errorf(w.At, path+".as_of", "%s is not a date such as 2025-03-31, today, or fact NAME.KEY", w.Text)
		}
		x.Day = col.Int[0]
	}
	if cal.Chosen == nil {
		cal.Chosen = []string{"basic"}
	}
	needs := []string{"epoch_day", "year", "running_week", "running_month", "running_quarter", "fiscal_year", "running_fiscal_quarter", "same_day_last_year"}
	if cal.Retail != nil {
		needs = append(needs, "retail_year", "retail_day_of_year", "running_retail_week", "running_retail_period")
	}
	cal.Chosen = append(cal.Chosen, needs...)
}

// relatives finds the facts whose days are reference days.
func (c *checker) relatives() {
	for _, d := range c.model.Dimensions {
		if d.Calendar == nil || d.Calendar.Relative == nil {
			continue
		}
		x, path := d.Calendar.Relative, "dimensions."+d.Text
		for _, name := range []string{"epoch_day", "running_week", "running_month", "same_day_last_year"} {
			if column.Find(d.Attributes(), name) < 0 {
				c.errorf(d.At, path, "relative needs the attribute %s, which the dimension does not take", name)
			}
		}
		of, ok := strings.CutPrefix(x.asOf.Text, "fact ")
		if !ok {
			continue
		}
		fact, key, _ := strings.Cut(strings.TrimSpace(of), ".")
		if x.Fact = find(c, c.model.Facts, func(f *Fact) string { return f.Text }, &Name{fact, x.asOf.At}, path+".calendar.relative.as_of", "fact"); x.Fact == nil {
			continue
		}
		at := slices.IndexFunc(x.Fact.Keys, func(k *Key) bool { return k.Text == key && k.Dimension == d })
		if at < 0 {
			c.errorf(x.asOf.At, path+".calendar.relative.as_of", "fact %s has no key %s to dimension %s", fact, key, d.Text)
			continue
		}
		x.Key = x.Fact.Keys[at]
	}
}
