package star

import (
	"cmp"
	"slices"

	"ironmonger/internal/column"
)

// newerBy completes the column that says which of two rows of a grain is newer.
func (c *checker) newerBy(f *Fact, fields []column.Field, of, path string) {
	if f.Repeated != ReplaceRepeated && f.Repeated != ReverseRepeated && f.Repeated != CompleteRepeated {
		c.errorf(f.newerBy.At, path, "newer_by goes with repeated: replace, reverse or complete")
		return
	}
	field, ok := c.field(fields, of, *f.newerBy, path)
	switch {
	case !ok:
	case slices.ContainsFunc(f.grain, func(w Name) bool { return w.Text == field.Name }):
		c.errorf(f.newerBy.At, path, "%s is part of the grain, so two rows of one grain have the same", field.Name)
	case known(field.Type) && !field.Type.Ordinal():
		const types = "an integer, a decimal of up to 18 digits, a date or a timestamp"
		c.errorf(f.newerBy.At, path, "%s is of type %s; it must be %s", field.Name, field.Type, types)
	default:
		f.NewerBy = &field
	}
}

// sum has the fact take groups of rows in place of the rows of its source: those that are equal in all but the
// measures, which are added up.
func (c *checker) sum(f *Fact, path string) {
	fields := f.Source.Fields()
	g := &Group{at: f.At}
	by := func(w Name) {
		if column.Find(fields, w.Text) >= 0 && !slices.Contains(g.By, w.Text) &&
			!slices.ContainsFunc(f.measures, func(m Name) bool { return m.Text == w.Text }) {
			g.By = append(g.By, w.Text)
		}
	}
	for _, k := range f.Keys {
		for _, part := range k.by {
			by(part.column)
		}
		if k.asOf != nil {
			by(*k.asOf)
		}
	}
	for _, list := range [][]Name{f.grain, f.degenerate} {
		for _, w := range list {
			by(w)
		}
	}
	for _, w := range f.measures {
		at := column.Find(fields, w.Text)
		if at < 0 {
			continue
		}
		if t := fields[at].Type; known(t) && !t.Exact() {
			c.errorf(w.At, path+".measures", "%s is of type %s; repeated: sum adds up exact numbers", w.Text, t)
			continue
		}
		g.Aggregates = append(g.Aggregates, Aggregate{
			Name: w, Function: "sum", Column: w.Text, Type: sumType(fields[at].Type),
		})
	}
	if f.deliveries.delivers != "" && f.deliveries.delivers != "changes" {
		c.errorf(
			f.At,
			path,
			"repeated: sum adds up the rows of one load, whatever files they are in: delivers has no place with it",
		)
	}
	f.Source = &Source{
		Name: f.Source.Name, From: f.Source, Columns: asColumns(fields), Shaping: Shaping{Group: g}, state: right,
	}
}

// Columns of a fact whose entries stay.
const (
	EntryNumber = "entry"      // the number of a row among those of its grain
	EntrySign   = "entry_sign" // 1, or -1 of a row that reverses the one before it
	BookedOn    = "booked_on"  // the day on which the row was booked
)

// reverse checks a fact whose entries stay, and completes the day on which they are booked.
func (c *checker) reverse(f *Fact, fields []column.Field, of, path string) {
	if !f.Reverses() {
		if f.bookedOn != nil {
			c.errorf(f.bookedOn.At, path+".booked_on", "booked_on goes with repeated: reverse")
		}
		if f.deliveries.gone == string(ReverseGone) {
			c.errorf(f.At, path+".gone", "gone: reverse goes with repeated: reverse")
		}
		return
	}
	if gone := Departure(f.deliveries.gone); gone == Flag || gone == Remove {
		c.errorf(f.At, path+".gone", "with repeated: reverse, what was booked stays: gone is keep or reverse, not %s", gone)
	}
	for _, g := range f.Grain {
		if g.Key != nil && g.Key.Dimension != nil && g.Key.Dimension.Aliases != nil {
			const message = "members of dimension %s can become one by its aliases, so that facts meet, and with repeated: reverse " +
				"what was booked stays: take the key out of the grain"
			c.errorf(g.Key.At, path+".grain", message, g.Key.Dimension.Text)
		}
	}
	if f.bookedOn == nil {
		return
	}
	field, ok := c.field(fields, of, *f.bookedOn, path+".booked_on")
	switch {
	case !ok:
	case known(field.Type) && field.Type.Kind != column.Date:
		c.errorf(f.bookedOn.At, path+".booked_on", "%s is of type %s; it is a date", field.Name, field.Type)
	default:
		f.BookedOn = &field
	}
}

// factDeliveries completes what is said about files and deliveries that have all rows.
func (c *checker) factDeliveries(f *Fact, fields []column.Field, of, path string) {
	text := &f.deliveries
	switch text.delivers {
	case "", "changes":
		for _, w := range text.said() {
			if w.given {
				c.errorf(f.At, path, "%s speaks of deliveries of all rows: delivers: all, or delivers: files", w.name)
			}
		}
		return
	case "files":
		c.wholeFiles(f, path)
	}
	all := &Deliveries{Gone: Departure(cmp.Or(text.gone, string(Keep))), Files: text.delivers == "files"}
	f.Deliveries = all
	for _, w := range text.completeFor {
		field, ok := c.field(fields, of, w, path+".complete_for")
		if !ok {
			continue
		}
		if !f.inGrain(field.Name) {
			const message = "%s is not part of the grain, so one row could belong to two deliveries: add it to the grain"
			c.errorf(w.At, path+".complete_for", message, w.Text)
		}
		if column.Find(f.Degenerate, field.Name) < 0 && column.Find(f.Measures, field.Name) < 0 {
			f.Degenerate = append(f.Degenerate, field)
		}
		all.Scope = append(all.Scope, field)
	}
	if w := text.until; w != nil {
		if field, ok := c.field(fields, of, *w, path+".open_until"); ok {
			if all.Until = field.Name; column.Find(f.Degenerate, field.Name) < 0 && column.Find(f.Measures, field.Name) < 0 {
				f.Degenerate = append(f.Degenerate, field)
			}
		}
	}
	if on := text.deliveredOn; on != nil {
		if field, ok := c.field(fields, of, *on, path+".delivered_on"); ok {
			if known(field.Type) && field.Type.Kind != column.Date && field.Type.Kind != column.Timestamp {
				c.errorf(
					on.At,
					path+".delivered_on",
					"%s is of type %s; it is a date or a timestamp",
					field.Name,
					field.Type,
				)
			}
			all.On = &field
		}
	}
}

// inGrain reports whether rows of one grain are equal in a column of the source.
func (f *Fact) inGrain(name string) bool {
	return slices.ContainsFunc(f.Grain, func(g GrainPart) bool {
		return g.Column == name || g.Key != nil && slices.Contains(g.Key.By, name)
	})
}

// wholeFiles refuses what has no meaning where each file has all rows that came from it.
func (c *checker) wholeFiles(f *Fact, path string) {
	for _, w := range f.deliveries.completeFor {
		c.errorf(w.At, path+".complete_for", "with delivers: files, a file is complete for its own rows")
	}
	if w := f.deliveries.until; w != nil {
		c.errorf(w.At, path+".open_until", "with delivers: files, a file has all of its rows")
	}
	if on := f.deliveries.deliveredOn; on != nil {
		c.errorf(on.At, path+".delivered_on", "with delivers: files, what a file has now counts")
	}
	if _, _, ok := f.Source.Bases(); !ok || f.Source.Merges() {
		const message = "delivers: files needs rows that come from files one by one, without distinct and group, not from " +
			"a database or a list: delivers: all"
		c.errorf(f.At, path, message)
	}
}

// Merges reports whether rows of several files may become one.
func (s *Source) Merges() bool {
	return s.Group != nil || s.Periods != nil || s.Spans != nil || s.Distinct != nil || len(s.Windows) > 0 || slices.ContainsFunc(s.Made(), (*Source).Merges)
}

// Bases lists the sources whose files have the rows of s, and those whose files complete them; false where rows come
// from elsewhere.
func (s *Source) Bases() (bases, others []*Source, ok bool) {
	if s.Database != nil || s.DrivenBy != nil || s.Standing != nil {
		return nil, nil, false
	}
	made := s.Made()
	if len(made) == 0 {
		bases = append(bases, s)
	}
	for _, o := range s.Others() {
		if slices.Contains(made, o) {
			b, more, ok := o.Bases()
			if !ok {
				return nil, nil, false
			}
			bases, others = append(bases, b...), append(others, more...)
			continue
		}
		all, ok := o.Readers()
		if !ok {
			return nil, nil, false
		}
		others = append(others, all...)
	}
	return bases, others, true
}

// Readers lists the sources that read the files of which the rows of s are made; false if any come from elsewhere than
// from files and from the star itself.
func (s *Source) Readers() (list []*Source, ok bool) {
	if s.Database != nil || s.DrivenBy != nil {
		return nil, false
	}
	if len(s.Made()) == 0 && s.Standing == nil {
		list = append(list, s)
	}
	for _, o := range s.Others() {
		more, ok := o.Readers()
		if !ok {
			return nil, false
		}
		list = append(list, more...)
	}
	return list, true
}
