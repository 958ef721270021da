package star

import (
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/calendar"
	"ironmonger/internal/clock"
	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/expr"
)

// checker finds what the model's words refer to and whether the types fit.
type checker struct {
	*reader
	model   *Model
	columns func(*Model, *Source) ([]Column, error)
	remarks diag.List
	seen    map[any]bool // dimensions and facts that have been checked
}

func (c *checker) check() {
	m := c.model
	for _, s := range m.Sources {
		c.source(s)
	}
	for _, d := range m.Dimensions {
		c.aDimension(d)
	}
	for _, d := range m.Dimensions {
		c.outriggers(d)
	}
	for _, f := range m.Facts {
		c.aFact(f)
	}
	c.relatives()
	for _, d := range m.Dimensions {
		c.musts(d.MustHold, d.own(), "dimensions."+d.Text)
	}
	for _, f := range m.Facts {
		c.musts(f.MustHold, f.own(), "facts."+f.Text)
	}
	c.words()
	c.wide()
	c.cycles()
	c.tables()
	c.specials()
}

// wide tells what decimals lose in a warehouse that has no exact numbers of so many digits.
func (c *checker) wide() {
	if c.model.Warehouse.Kind != SQLite {
		return
	}
	look := func(at diag.Place, subject string, fields []column.Field) {
		for _, f := range fields {
			if f.Type.Kind == column.Decimal && f.Type.Wide() {
				c.remark(
					at,
					subject,
					"%s has more than 18 digits, for which SQLite has no number: it stands exactly in %s_exact, as text, and %s is a double, of which the first 15 digits are right",
					f.Name,
					f.Name,
					f.Name,
				)
			}
		}
	}
	for _, d := range c.model.Dimensions {
		if d.LookedUp == nil {
			look(d.At, "dimensions."+d.Text, append(slices.Clone(d.NaturalKey), d.Attributes()...))
		}
	}
	for _, f := range c.model.Facts {
		look(f.At, "facts."+f.Text, append(slices.Clone(f.Degenerate), f.Measures...))
	}
}

// tables refuses two things whose tables or views would have one name, letter case aside.
func (c *checker) tables() {
	owner := map[string]string{}
	claim := func(at diag.Place, table, by string) {
		lower := strings.ToLower(table)
		if first, taken := owner[lower]; taken && first != by {
			c.errorf(at, by, "its table would be called %s, as that of %s is", table, first)
		}
		owner[lower] = by
	}
	for _, d := range c.model.Dimensions {
		claim(d.At, d.TableName(), "dimensions."+d.Text)
	}
	for _, d := range c.model.Dimensions {
		if d.Aliases != nil {
			claim(d.At, "dim_"+d.Text+"_alias", "dimensions."+d.Text+" (keys of merged members)")
		}
		if d.Calendar != nil && d.Calendar.Relative != nil {
			claim(d.At, "dim_"+d.Text+"_as_of", "dimensions."+d.Text+" (its reference day)")
			claim(d.At, "dim_"+d.Text+"_relative", "dimensions."+d.Text+" (what is relative to a day)")
		}
		if d.Hierarchy != nil {
			claim(d.At, "dim_"+d.Text+"_closure", "dimensions."+d.Text+" (what stands above what)")
		}
	}
	for _, d := range c.model.Dimensions {
		if d.Observed() {
			claim(d.At, "dim_"+d.Text+"_observed", "dimensions."+d.Text+" (what was observed)")
		}
	}
	for _, f := range c.model.Facts {
		claim(f.At, "fact_"+f.Text, "facts."+f.Text)
	}
	for _, f := range c.model.Facts {
		if f.Removes() {
			claim(f.At, "fact_"+f.Text+"_removed", "facts."+f.Text+" (rows that were removed)")
		}
		if f.Completion != nil && !f.Completion.TellAll {
			claim(f.At, "fact_"+f.Text+"_told", "facts."+f.Text+" (which rows told its milestones)")
		}
	}
	for _, d := range c.model.Dimensions {
		for _, k := range d.Keys {
			if k.Dimension != nil && k.Role() {
				claim(k.At, "dim_"+k.Text+"_"+k.Dimension.Text, "the role "+k.Text+" of "+k.Dimension.Text)
			}
		}
	}
	for _, f := range c.model.Facts {
		for _, k := range f.Keys {
			if k.Dimension != nil && k.Role() {
				claim(k.At, "dim_"+k.Text+"_"+k.Dimension.Text, "the role "+k.Text+" of "+k.Dimension.Text)
			}
		}
	}
}

// known reports whether a type could be made out. Where it could not, that has been told, and what would
// follow from it would only confuse.
func known(t column.Type) bool { return t.Kind != column.Null }

// limits returns a step what the model says for all, where it says nothing of its own.
func (c *checker) limits(l *Limits) {
	if l.SetAside == unset.SetAside {
		l.SetAside = c.model.Limits.SetAside
	}
	if l.Unmatched == unset.Unmatched {
		l.Unmatched = c.model.Limits.Unmatched
	}
	if l.Gone == unset.Gone {
		l.Gone = c.model.Limits.Gone
	}
	if l.Usual == unset.Usual {
		l.Usual = c.model.Limits.Usual
	}
	if l.Time == unset.Time {
		l.Time = c.model.Limits.Time
	}
	if l.Retries == unset.Retries {
		l.Retries = c.model.Limits.Retries
	}
	if l.AsideBreak == unset.AsideBreak {
		l.AsideBreak = c.model.Limits.AsideBreak
	}
}

func (c *checker) remark(at diag.Place, subject, format string, args ...any) {
	c.remarks = append(c.remarks, &diag.Error{At: at, Subject: subject, Message: fmt.Sprintf(format, args...)})
}

// compile checks an expression and gives its program, or nil.
func (c *checker) compile(e Expression, path string, fields []column.Field) *expr.Program {
	if e.At.Line == 0 {
		return nil
	}
	p, err := e.Compile(fields)
	if err != nil {
		at := e.At
		if mistake, ok := err.(*expr.Error); ok && at.Column > 0 {
			at = at.Right(mistake.At)
		}
		c.errorf(at, path, "%v", err)
		return nil
	}
	return p
}

// find looks up a thing by its name, or complains.
func find[T any](c *checker, list []*T, name func(*T) string, w *Name, path, what string) *T {
	if w == nil {
		return nil
	}
	var names []string
	for _, t := range list {
		if name(t) == w.Text {
			return t
		}
		names = append(names, name(t))
	}
	c.errorf(w.At, path, "there is no %s %s%s", what, w.Text, diag.Suggest(w.Text, names))
	return nil
}

// findSource looks up a source. One whose columns could not be made out has been told, and is as good as none.
func (c *checker) findSource(w *Name, path string) *Source {
	s := find(c, c.model.Sources, func(s *Source) string { return s.Text }, w, path, "source")
	if s != nil && (s.blind || s.state == wrong && len(s.Complete()) == 0) {
		return nil
	}
	return s
}

func (c *checker) findDimension(w *Name, path string) *Dimension {
	return find(c, c.model.Dimensions, func(d *Dimension) string { return d.Text }, w, path, "dimension")
}

// field looks up a column among fields, or complains.
func (c *checker) field(fields []column.Field, of string, w Name, path string) (column.Field, bool) {
	if i := column.Find(fields, w.Text); i >= 0 {
		return fields[i], true
	}
	c.errorf(w.At, path, "%s has no column %s%s", of, w.Text, diag.Suggest(w.Text, column.Names(fields)))
	return column.Field{}, false
}

func (c *checker) fields(fields []column.Field, of string, list []Name, path string) []column.Field {
	var found []column.Field
	for _, w := range list {
		if f, ok := c.field(fields, of, w, path); ok {
			found = append(found, f)
		}
	}
	return found
}

// key finds what a key refers to and completes its rules.
func (c *checker) key(k *Key, s *Source, fields []column.Field, of string) {
	w := k.dimension
	if w == nil {
		w = &k.Name
	}
	if k.Dimension = c.findDimension(w, k.subject); k.Dimension == nil {
		return
	}
	if k.member != nil {
		c.fixedMember(k, s, fields)
		c.asOf(k, fields, of)
		c.outcomes(k)
		return
	}
	if len(k.by) == 0 {
		c.errorf(k.At, k.subject, "by is missing (the columns with the natural key), or member")
		return
	}
	d := k.Dimension
	by := c.arrange(k)
	if by == nil {
		return
	}
	for i, w := range by {
		f, ok := c.field(fields, of, w, k.subject)
		if !ok {
			continue
		}
		nk := d.NaturalKey[i].Type
		if !known(nk) || !known(f.Type) || d.Matching != nil && d.Matching[i] != nil {
			continue
		}
		if nk.Kind == column.Date && f.Type.Kind == column.Timestamp && d.Calendar != nil {
			continue // its day is meant
		}
		if d.Clock != nil && (f.Type.Kind == column.Timestamp || f.Type.Kind == column.Time) {
			continue // the time of the clock that it is in
		}
		if f.Type.Kind != nk.Kind || f.Type.Scale != nk.Scale || f.Type.Wide() != nk.Wide() {
			c.errorf(
				w.At,
				k.subject,
				"%s is of type %s, but %s of dimension %s is of type %s: nothing would ever match",
				w.Text,
				f.Type,
				d.NaturalKey[i].Name,
				d.Text,
				nk,
			)
		}
	}
	for i, w := range by {
		if at := column.Find(fields, UnreadColumn(w.Text)); at >= 0 && fields[at].Type.Kind == column.Boolean && d.LookedUp == nil {
			k.Unread = append(k.Unread, fields[at].Name)
		}
		if (d.Source == nil || d.Generated()) && d.Matching == nil && d.Aliases == nil || column.Find(fields, w.Text) < 0 {
			k.By = append(k.By, w.Text)
		} else {
			k.By = append(k.By, c.match(s, d, i, w, k.subject))
		}
	}
	c.aliased(s, d, k.By, k.At, k.subject)
	c.asOf(k, fields, of)
	c.outcomes(k)
	if k.Both && !d.Durable {
		c.errorf(k.holds.At, k.subject+".holds", "dimension %s has no durable keys: durable_key: kept", d.Text)
	}
}

// arrange puts a key's columns into the order of the natural key (rule R4).
func (c *checker) arrange(k *Key) []Name {
	natural := k.Dimension.NaturalKey
	if len(natural) == 0 {
		return nil
	}
	if len(k.by) != len(natural) {
		c.errorf(
			k.by[0].column.At,
			k.subject,
			"the natural key of dimension %s (%s) and `by` differ in the number of columns: %d and %d",
			k.Dimension.Text,
			strings.Join(column.Names(natural), ", "),
			len(natural),
			len(k.by),
		)
		return nil
	}
	by := make([]Name, len(natural))
	named := true
	for _, b := range k.by {
		named = named && (b.natural != nil || column.Find(natural, b.column.Text) >= 0)
	}
	for i, b := range k.by {
		at := i
		if b.natural != nil {
			if at = column.Find(natural, b.natural.Text); at < 0 {
				c.errorf(
					b.natural.At,
					k.subject,
					"the natural key of dimension %s has no column %s%s",
					k.Dimension.Text,
					b.natural.Text,
					diag.Suggest(b.natural.Text, column.Names(natural)),
				)
				return nil
			}
		} else if named {
			if at = column.Find(natural, b.column.Text); at != i {
				c.remark(b.column.At, k.subject, "%s is matched by its name, though it stands elsewhere in the natural key", b.column.Text)
			}
		}
		by[at] = b.column
	}
	return by
}

func (c *checker) asOf(k *Key, fields []column.Field, of string) {
	if k.asOf == nil {
		return
	}
	d := k.Dimension
	f, ok := c.field(fields, of, *k.asOf, k.subject+".as_of")
	if !ok {
		return
	}
	if f.Type.Kind != column.Date && f.Type.Kind != column.Timestamp {
		if !known(f.Type) {
			return
		}
		c.errorf(k.asOf.At, k.subject+".as_of", "%s is of type %s; as_of takes a date or a timestamp", f.Name, f.Type)
		return
	}
	if d.Validity().Kind == column.Timestamp && f.Type.Kind == column.Date {
		c.errorf(
			k.asOf.At,
			k.subject+".as_of",
			"dimension %s is versioned to the microsecond, and %s has only a day: cast(%s as timestamp) in a derived column says which time is meant",
			d.Text,
			f.Name,
			f.Name,
		)
		return
	}
	if !d.Versioned() {
		c.remark(k.asOf.At, k.subject+".as_of", "dimension %s has no versions, so as_of changes nothing", d.Text)
		return
	}
	k.AsOf = f.Name
}

// infers reports whether members of a dimension can be inferred, as far as its text tells.
func (c *checker) infers(d *Dimension) bool {
	of, natural := c.sourceOf(d.text.from), ""
	if len(d.text.naturalKey) == 1 {
		natural = d.text.naturalKey[0].Text
	}
	days := of.OnCalendar() != nil && natural == calendar.Date || of.onClock() != nil && natural == clock.Time
	return d.text.from != nil && !days || d.Junk
}

func (c *checker) outcomes(k *Key) {
	k.missingSaid = k.Missing != ""
	_, unknown := k.Dimension.KeyOf(Unknown)
	if !k.missingSaid {
		if k.Missing = ToUnknown; !unknown {
			k.Missing = SetAside
		}
	}
	if k.Outside == "" {
		k.Outside = Nearest
	}
	made := c.infers(k.Dimension)
	if k.Unmatched == "" {
		k.Unmatched = SetAside
		if made {
			k.Unmatched = Infer
		} else if k.Dimension.LookedUp != nil && unknown {
			k.Unmatched = ToUnknown
		}
	}
	if l := k.Dimension.LookedUp; l != nil {
		for _, rule := range []Outcome{k.Unmatched, k.Missing, k.Outside} {
			if rule == ToUnknown && !unknown {
				c.errorf(
					k.At,
					k.subject,
					"dimension %s has no unknown member that looked_up names: unknown: its key",
					k.Dimension.Text,
				)
			} else if rule == ToNotYet || rule == NotApplying {
				c.errorf(k.At, k.subject, "dimension %s is only looked up in, and has no member for %s", k.Dimension.Text, rule)
			}
		}
	}
	if k.Unmatched == Infer && !made {
		c.errorf(
			k.At,
			k.subject,
			"dimension %s has no source, so its members cannot be inferred: unknown, set_aside or stop",
			k.Dimension.Text,
		)
	}
}

func (c *checker) fact(f *Fact) {
	path := "facts." + f.Text
	f.Source = c.findSource(f.from, path+".from")
	if f.Source == nil {
		return
	}
	if f.Repeated == SumRepeated {
		c.sum(f, path)
	}
	fields, of := f.Source.Fields(), "source "+f.Source.Text
	for _, k := range f.Keys {
		c.key(k, f.Source, fields, of)
	}
	f.Measures = c.fields(fields, of, f.measures, path+".measures")
	for _, m := range f.Measures {
		if !m.Type.Numeric() && known(m.Type) {
			at := slices.IndexFunc(f.measures, func(w Name) bool { return w.Text == m.Name })
			c.errorf(f.measures[at].At, path+".measures", "%s is of type %s; a measure is a number", m.Name, m.Type)
		}
	}
	c.grain(f, fields, path)
	kept := func(name string) bool {
		return column.Find(f.Measures, name) >= 0 || column.Find(f.Degenerate, name) >= 0
	}
	for _, w := range f.degenerate {
		if d, ok := c.field(fields, of, w, path+".degenerate"); ok && !kept(d.Name) {
			f.Degenerate = append(f.Degenerate, d)
		}
	}
	for _, k := range f.Keys {
		if k.AsOf != "" && !kept(k.AsOf) && f.Day(k) == nil {
			f.Degenerate = append(f.Degenerate, fields[column.Find(fields, k.AsOf)])
		}
	}
	if f.newerBy != nil {
		c.newerBy(f, fields, of, path+".newer_by")
		if f.NewerBy != nil && !kept(f.NewerBy.Name) {
			f.Degenerate = append(f.Degenerate, *f.NewerBy)
		}
	}
	c.reverse(f, fields, of, path)
	c.partition(f, path+".partition")
	c.completion(f, fields, of, path)
	c.factDeliveries(f, fields, of, path)
	c.watched(f.Source, path, f.Deliveries)
	c.additive(f, path)
	c.newest(f, path)
	names := map[string]bool{"load_run": true, "load_line": true, IsGone: true}
	for _, name := range []string{EntryNumber, EntrySign, BookedOn} {
		names[name] = f.Reverses()
	}
	claim := func(at diag.Place, name string) {
		if lower := strings.ToLower(name); lower == IsGone && !f.Marked() { // whether there is one or not
			c.errorf(at, path, "%s is the mark of facts that are gone: the column needs another name (derive)", name)
		} else if names[lower] {
			c.errorf(at, path, "the table would have two columns called %s", name)
		} else {
			names[lower] = true
		}
	}
	for _, k := range f.Keys {
		inGrain := slices.ContainsFunc(f.Grain, func(g GrainPart) bool { return g.Key == k })
		if k.Unread != nil && inGrain {
			c.errorf(k.At, k.subject, "a key of the grain tells one row from another: unfit: unreadable has no place in its columns")
		}
		if k.Dimension != nil {
			claim(k.At, k.Column())
		}
		if k.Dimension != nil && k.Both {
			claim(k.At, k.DurableColumn())
		}
	}
	for _, field := range append(append(slices.Clone(f.Degenerate), f.Measures...), f.lags()...) {
		claim(f.At, field.Name)
	}
}

// Day returns the calendar key of the fact that says in days what k is as of, if there is one that
// always does and k's dimension is versioned in days (rule R16); else nil.
func (f *Fact) Day(k *Key) *Key {
	if k.Dimension.Validity().Kind != column.Date || k.Milestone {
		return nil
	}
	for _, role := range f.Keys {
		if role.Dimension != nil && role.Dimension.Calendar != nil && role.Dimension.Calendar.Dated() && len(role.By) == 1 && role.By[0] == k.AsOf &&
			(role.Unmatched == SetAside || role.Unmatched == Stop) {
			return role
		}
	}
	return nil
}

func (c *checker) grain(f *Fact, fields []column.Field, path string) {
	var names []string
	for _, k := range f.Keys {
		names = append(names, k.Text)
	}
	for _, w := range f.grain {
		if i := slices.Index(names, w.Text); i >= 0 {
			k := f.Keys[i]
			f.Grain = append(f.Grain, GrainPart{Key: k})
			if !k.missingSaid {
				k.Missing = SetAside
			}
			if !k.Again {
				c.errorf(
					k.At,
					k.subject,
					"%s is part of the grain, so it is what tells that a row comes again: again: keep has no place here",
					k.Text,
				)
			}
			rules := []Outcome{k.Unmatched, k.Outside}
			if k.Dimension == nil || len(k.Dimension.NaturalKey) != 1 || k.Missing == LeaveEmpty {
				rules = append(rules, k.Missing) // else all rows without a natural key are one grain, as null is one value
			}
			for _, rule := range rules {
				if rule == ToUnknown || rule == LeaveEmpty || rule == ToNotYet || rule == NotApplying {
					c.errorf(
						k.At,
						k.subject,
						"%s is part of the grain, so it cannot become %s: set_aside or stop",
						k.Text,
						rule,
					)
				}
			}
			continue
		}
		i := column.Find(fields, w.Text)
		if i < 0 {
			c.errorf(
				w.At,
				path+".grain",
				"there is no column or key %s%s",
				w.Text,
				diag.Suggest(w.Text, append(names, column.Names(fields)...)),
			)
			continue
		}
		if fields[i].Type.Kind == column.Double {
			c.errorf(w.At, path+".grain", "a double cannot be part of the grain")
		}
		f.Grain = append(f.Grain, GrainPart{Column: w.Text})
		if column.Find(f.Measures, w.Text) < 0 {
			f.Degenerate = append(f.Degenerate, fields[i])
		}
	}
}

// cycles tells outriggers that wait for each other.
func (c *checker) cycles() {
	const walking, done = 1, 2
	state := map[*Dimension]int{}
	var walk func(d *Dimension, trail []string)
	walk = func(d *Dimension, trail []string) {
		trail = append(trail, d.Text)
		state[d] = walking
		waits := func(to *Dimension, at diag.Place, subject string) {
			switch {
			case to == nil:
			case state[to] == walking:
				c.errorf(at, subject, "dimensions wait for each other: %s", strings.Join(append(trail, to.Text), " -> "))
			case state[to] == 0:
				walk(to, trail)
			}
		}
		for _, k := range d.Keys {
			waits(k.Dimension, k.At, k.subject)
		}
		if d.Source != nil {
			for _, x := range d.Source.Stands() {
				waits(x.Dimension, d.At, "dimensions."+d.Text+".from")
				for n := 0; x.Fact != nil && n < len(x.Fact.Keys); n++ {
					waits(x.Fact.Keys[n].Dimension, d.At, "dimensions."+d.Text+".from")
				}
			}
		}
		state[d] = done
	}
	for _, d := range c.model.Dimensions {
		if state[d] == 0 {
			walk(d, nil)
		}
	}
}

// specials returns each dimension unknown, and the other special members that a rule names; a
// dimension that points to another has its namesakes there (rules R21 and R22).
func (c *checker) specials() {
	need := map[*Dimension]map[Special]bool{}
	for _, d := range c.model.Dimensions {
		need[d] = map[Special]bool{Unknown: true}
	}
	name := func(keys []*Key) {
		for _, k := range keys {
			for _, rule := range []Outcome{k.Unmatched, k.Missing} {
				if k.Dimension != nil && rule == ToNotYet {
					need[k.Dimension][NotYet] = true
				} else if k.Dimension != nil && rule == NotApplying {
					need[k.Dimension][NotApplicable] = true
				}
			}
			if k.Dimension != nil && k.Unread != nil {
				need[k.Dimension][Unreadable] = true
			}
		}
	}
	for _, f := range c.model.Facts {
		name(f.Keys)
	}
	for _, d := range c.model.Dimensions {
		name(d.Keys)
	}
	for range c.model.Dimensions { // until namesakes have reached the end of every chain
		for _, d := range c.model.Dimensions {
			for _, k := range d.Keys {
				for s := range need[d] {
					if k.Dimension != nil {
						need[k.Dimension][s] = true
					}
				}
			}
		}
	}
	for _, d := range c.model.Dimensions {
		for _, s := range AllSpecials() {
			if need[d][s] && d.LookedUp == nil {
				d.Specials = append(d.Specials, d.Special(s))
			}
		}
	}
}
