package star

import (
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
)

// Completion says which columns of a fact later rows fill or change, and what is worked out from them (rule R33).
type Completion struct {
	Parts   []*Part
	TellAll bool // a null milestone means that it is not reached; else that the row does not tell it
	Lags    []*Lag
	InOrder []string // milestones that may not be before the ones that are listed before them

	parts, inOrder []Name
	at             diag.Place
}

// Part is what changes together: a milestone with the keys that are made of it, a key, or another column.
type Part struct {
	Name
	Milestone bool
	Column    string // of the table; "" if it is a key
	Keys      []*Key
	Versions  []*Key // keys as of the milestone: the version changes with it, the member does not
}

// Lag is the time between two columns of a fact, in whole days or in a decimal number of hours or minutes.
type Lag struct {
	Name
	From, To string
	In       Unit

	Calendar *Dimension // of working days: the dimension that counts them
	Numbers  string     // and its attribute that has their numbers

	from, to         Name
	calendar, region *Name
}

// Unit is what a lag is counted in.
type Unit string

// The units.
const (
	Days    Unit = "days"
	Hours   Unit = "hours"
	Minutes Unit = "minutes"

	WorkingDays Unit = "working_days"
)

// Field is the column of the fact's table that has the lag.
func (l *Lag) Field() column.Field {
	if l.In == Days || l.In == WorkingDays {
		return column.Field{Name: l.Text, Type: column.Type{Kind: column.Integer}}
	}
	return column.Field{Name: l.Text, Type: column.Type{Kind: column.Decimal, Precision: 18, Scale: LagScale}}
}

// lags lists the columns of a fact that have lags.
func (f *Fact) lags() []column.Field {
	var fields []column.Field
	if f.Completion != nil {
		for _, l := range f.Completion.Lags {
			fields = append(fields, l.Field())
		}
	}
	return fields
}

// LagScale is how many decimal places hours and minutes have.
const LagScale = 6

// completion completes what is said about later rows that complete a fact.
func (c *checker) completion(f *Fact, fields []column.Field, of, path string) {
	p := f.Completion
	if p == nil {
		if f.Repeated == CompleteRepeated {
			c.errorf(f.At, path, "repeated: complete needs complete, the columns that later rows fill or change")
		}
		return
	}
	if f.Repeated != CompleteRepeated {
		c.errorf(p.at, path, "complete, rows_tell, lags and in_order go with repeated: complete")
		return
	}
	if f.deliveries.delivers == "files" {
		c.errorf(f.At, path, "delivers: files has no meaning where several files tell of one row: delivers: all")
	}
	for _, w := range p.parts {
		c.part(f, w, fields, of, path+".complete")
	}
	for _, k := range f.Keys {
		if k.Dimension != nil && f.hasKey(k) && (k.Dimension.Versioned() || k.Dimension.Aliases != nil) {
			const message = "%s is part of the grain, so its dimension cannot have versions or aliases where rows are completed"
			c.errorf(k.At, k.subject, message, k.Text)
		}
		c.asOfMilestone(f, k)
	}
	for _, l := range p.Lags {
		path := path + ".lags." + l.Text
		from, ok := c.kept(f, l.from, fields, of, path)
		to, too := c.kept(f, l.to, fields, of, path)
		l.From, l.To = from.Name, to.Name
		for _, end := range []column.Field{from, to} {
			if ok && too && l.In != Days && l.In != WorkingDays && end.Type.Kind != column.Timestamp {
				c.errorf(l.At, path, "%s has no time of the day: in: days", end.Name)
			}
		}
	}
	for _, l := range p.Lags {
		c.workingDays(l, path+".lags."+l.Text)
	}
	for _, w := range p.inOrder {
		if field, ok := c.kept(f, w, fields, of, path+".in_order"); ok {
			p.InOrder = append(p.InOrder, field.Name)
		}
	}
}

// workingDays finds the calendar that counts the working days of a lag: the one that is named, or the only one that
// does.
func (c *checker) workingDays(l *Lag, path string) {
	if l.In != WorkingDays {
		if l.calendar != nil || l.region != nil {
			c.errorf(l.At, path, "calendar and region go with in: working_days")
		}
		return
	}
	l.Numbers = "working_day_number"
	if l.region != nil {
		l.Numbers = l.region.Text + "_" + l.Numbers
	}
	var found []*Dimension
	for _, d := range c.model.Dimensions {
		if d.Calendar != nil && (l.calendar == nil || d.Text == l.calendar.Text) && column.Find(d.Attributes(), l.Numbers) >= 0 {
			found = append(found, d)
		}
	}
	switch len(found) {
	case 1:
		l.Calendar = found[0]
	case 0:
		c.errorf(l.At, path, "no calendar has the attribute %s, by which working days are counted", l.Numbers)
	default:
		c.errorf(l.At, path, "several calendars have the attribute %s: which one is meant? (calendar)", l.Numbers)
	}
}

// hasKey reports whether a key is part of the grain.
func (f *Fact) hasKey(k *Key) bool {
	return slices.ContainsFunc(f.Grain, func(g GrainPart) bool { return g.Key == k })
}

// milestone returns the part of a milestone; nil if a column is none.
func (p *Completion) milestone(name string) *Part {
	at := slices.IndexFunc(p.Parts, func(part *Part) bool { return part.Milestone && part.Column == name && name != "" })
	if at < 0 {
		return nil
	}
	return p.Parts[at]
}

// asOfMilestone has the version that a key points to follow the milestone that it is as of.
func (c *checker) asOfMilestone(f *Fact, k *Key) {
	part := f.Completion.milestone(k.AsOf)
	switch {
	case part == nil || k.Dimension == nil:
	case !k.Dimension.Versioned() || k.Dimension.LookedUp != nil || k.Dimension.Aliases != nil:
		const message = "%s is a milestone: as_of needs a dimension of the model with versions and without aliases, or a column that does not change"
		c.errorf(k.At, k.subject, message, k.AsOf)
	case slices.ContainsFunc(f.Completion.Parts, func(o *Part) bool { return slices.Contains(o.Keys, k) }):
		c.errorf(k.At, k.subject, "later rows complete the key and %s, so nothing tells which of both comes first: as_of needs a column that does not change", k.AsOf)
	default:
		k.Milestone = true
		part.Versions = append(part.Versions, k)
	}
}

// kept finds a date or timestamp, and has the table keep it.
func (c *checker) kept(f *Fact, w Name, fields []column.Field, of, path string) (column.Field, bool) {
	field, ok := c.field(fields, of, w, path)
	if ok && known(field.Type) && !field.Type.Temporal() {
		c.errorf(w.At, path, "%s is of type %s; it is a date or a timestamp", field.Name, field.Type)
		return field, false
	}
	if ok && column.Find(f.Degenerate, field.Name) < 0 {
		f.Degenerate = append(f.Degenerate, field)
	}
	return field, ok
}

// part finds what one name of complete means.
func (c *checker) part(f *Fact, w Name, fields []column.Field, of, path string) {
	p := f.Completion
	part := &Part{Name: w}
	at := column.Find(fields, w.Text)
	key := slices.IndexFunc(f.Keys, func(k *Key) bool { return k.Text == w.Text })
	switch {
	case slices.ContainsFunc(p.Parts, func(o *Part) bool { return o.Text == w.Text }):
		c.errorf(w.At, path, "%s is listed twice", w.Text)
		return
	case slices.ContainsFunc(f.grain, func(g Name) bool { return g.Text == w.Text }):
		c.errorf(w.At, path, "%s is part of the grain, which tells which row is completed", w.Text)
		return
	case f.newerBy != nil && f.newerBy.Text == w.Text:
		c.errorf(w.At, path, "%s says which row is newer; it need not be listed", w.Text)
		return
	case at >= 0 && fields[at].Type.Temporal():
		part.Milestone, part.Column = true, w.Text
		for _, k := range f.Keys {
			if len(k.By) == 1 && k.By[0] == w.Text {
				part.Keys = append(part.Keys, k)
				if !k.missingSaid {
					k.Missing = ToNotYet
				}
			}
		}
	case key >= 0:
		part.Keys = []*Key{f.Keys[key]}
		p.Parts = append(p.Parts, part)
		return
	default:
		if _, ok := c.field(fields, of, w, path); !ok {
			return
		}
		part.Column = w.Text
	}
	if column.Find(f.Degenerate, w.Text) < 0 && column.Find(f.Measures, w.Text) < 0 {
		f.Degenerate = append(f.Degenerate, fields[at])
	}
	p.Parts = append(p.Parts, part)
}
