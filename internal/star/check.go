package star

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/calendar"
	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/place"
)

// checker finds what the model's words refer to and whether the types fit.
type checker struct {
	*reader
	model   *Model
	columns func(*Model, *Source) ([]Column, error)
	remarks place.List
}

func (c *checker) check() {
	m := c.model
	for _, s := range m.Sources {
		c.source(s)
	}
	for _, d := range m.Dimensions {
		c.limits(&d.Limits)
		c.dimension(d)
	}
	for _, d := range m.Dimensions {
		c.outriggers(d)
	}
	for _, f := range m.Facts {
		c.limits(&f.Limits)
		c.fact(f)
	}
	for _, d := range m.Dimensions {
		c.musts(d.MustHold, d.own(), "dimensions."+d.Text)
	}
	for _, f := range m.Facts {
		c.musts(f.MustHold, f.own(), "facts."+f.Text)
	}
	c.cycles()
	c.tables()
	c.specials()
}

// tables refuses two things whose tables or views would have one name, letter case aside.
func (c *checker) tables() {
	owner := map[string]string{}
	claim := func(at place.Place, table, by string) {
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
		for _, k := range f.Keys {
			if k.Dimension != nil && k.Role() {
				claim(k.At, "dim_"+k.Text+"_"+k.Dimension.Text, "the role "+k.Text+" of "+k.Dimension.Text)
			}
		}
	}
}

// known says whether a type could be made out. Where it couldn't, that has been told, and what would
// follow from it would only confuse.
func known(t column.Type) bool { return t.Kind != column.Null }

// limits gives a step what the model says for all, where it says nothing of its own.
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
}

func (c *checker) remark(at place.Place, subject, format string, args ...any) {
	c.remarks = append(c.remarks, &place.Error{At: at, Subject: subject, Message: fmt.Sprintf(format, args...)})
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
	c.errorf(w.At, path, "there is no %s %s%s", what, w.Text, place.Suggest(w.Text, names))
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
	c.errorf(w.At, path, "%s has no column %s%s", of, w.Text, place.Suggest(w.Text, column.Names(fields)))
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

func (c *checker) dimension(d *Dimension) {
	path := "dimensions." + d.Text
	kinds := 0
	for _, is := range []bool{d.from != nil, d.Rows != nil, d.Calendar != nil, d.Junk, d.LookedUp != nil} {
		if is {
			kinds++
		}
	}
	if kinds != 1 {
		c.errorf(d.At, path, "a dimension has either from (a source), or rows, or combinations, or calendar, or looked_up")
		return
	}
	if d.Calendar != nil {
		c.calendar(d, path)
		return
	}
	if d.Junk {
		c.junk(d, path)
		return
	}
	if d.LookedUp != nil {
		c.lookedUp(d, path)
		c.matching(d, path)
		return
	}
	var fields []column.Field
	of := "the dimension"
	if d.Rows != nil {
		for _, col := range d.Rows.columns {
			d.Rows.Fields = append(d.Rows.Fields, column.Field{Name: col.Text, Type: col.Type})
		}
		fields = d.Rows.Fields
	} else {
		if d.Source = c.findSource(d.from, path+".from"); d.Source == nil {
			return
		}
		fields, of = d.Source.Fields(), "source "+d.Source.Text
	}
	if len(d.naturalKey) == 0 {
		c.errorf(d.At, path, "natural_key is missing (a column or a list)")
	}
	d.NaturalKey = c.fields(fields, of, d.naturalKey, path+".natural_key")
	for i, f := range d.NaturalKey {
		if f.Type.Kind == column.Double {
			c.errorf(d.naturalKey[i].At, path+".natural_key", "a double can't be a key: make it a decimal or text")
		}
	}
	d.Type0 = c.fields(fields, of, d.type0, path+".type_0")
	d.Type1 = c.fields(fields, of, d.type1, path+".type_1")
	d.Type2 = c.fields(fields, of, d.type2, path+".type_2")
	d.Type3 = c.fields(fields, of, d.type3, path+".type_3")
	c.matching(d, path)
	c.aliases(d, path)
	c.attributes(d, fields, path)
	c.times(d, fields, of, path)
	c.deliveries(d, fields, of, path)
	c.hierarchy(d, path)
	if d.Adopts != nil && d.Complete() {
		c.errorf(d.Adopts.at, path+".adopts", "what was observed of the members isn't known of a table that stood before, and type 3 attributes, or an effective time without versions, need it")
	} else if d.Adopts != nil && d.Adopts.ValidFrom != "" && !d.Versioned() {
		c.errorf(d.Adopts.at, path+".adopts", "a dimension without type_2 attributes has one row for a natural key: valid_from has no place here")
	}
	var attributes []column.Field
	for _, f := range fields {
		if column.Find(d.Attributes(), f.Name) >= 0 {
			attributes = append(attributes, f)
		}
	}
	d.Personal = c.fields(attributes, "the dimension's attributes", d.personal, path+".personal")
	if d.Rows != nil && len(d.NaturalKey) == len(d.naturalKey) {
		c.staticRows(d, path)
	}
}

// times finds the columns that say since when a row is so.
func (c *checker) times(d *Dimension, fields []column.Field, of, path string) {
	if d.effective != nil {
		if f, ok := c.field(fields, of, *d.effective, path+".effective"); ok {
			if f.Type.Kind != column.Date && f.Type.Kind != column.Timestamp && known(f.Type) {
				c.errorf(d.effective.At, path+".effective", "%s is of type %s; an effective time is a date or a timestamp", f.Name, f.Type)
			}
			d.Effective = &f
		}
	}
	if d.sequence != nil {
		if f, ok := c.field(fields, of, *d.sequence, path+".sequence"); ok {
			if f.Type.Wide() || f.Type.Kind == column.Text || f.Type.Kind == column.Double {
				c.errorf(d.sequence.At, path+".sequence", "%s is of type %s; a sequence is an integer, a short decimal, a date or a timestamp", f.Name, f.Type)
			}
			d.Sequence = &f
		}
		if d.effective == nil {
			c.errorf(d.sequence.At, path+".sequence", "sequence decides between rows of one effective time, and no effective is given")
		}
	}
	if d.Versioned() && d.effective == nil {
		at := d.At
		if len(d.type2) > 0 {
			at = d.type2[0].At
		}
		c.errorf(at, path+".type_2", "versions need effective: the column that says since when a row is so")
	}
	if d.RefuseLate && d.effective == nil {
		c.errorf(d.lateAt, path+".late_rows", "without effective, the column that says since when a row is so, none is late")
	}
	if d.Durable && !d.Versioned() {
		c.errorf(d.durableAt, path+".durable_key", "without type_2 attributes a member has one row, whose key is durable already")
	}
	if d.Rows != nil && d.effective != nil {
		c.errorf(d.effective.At, path+".effective", "rows that stand in the model have no effective time")
	}
}

// deliveries completes what is said about deliveries of all.
func (c *checker) deliveries(d *Dimension, fields []column.Field, of, path string) {
	if d.delivers != "all" {
		for _, said := range []struct {
			is   bool
			name string
		}{{d.gone != "", "gone"}, {d.completeFor != nil, "complete_for"}, {d.deliveredOn != nil, "delivered_on"}} {
			if said.is {
				c.errorf(d.At, path, "%s speaks of deliveries of all: delivers: all", said.name)
			}
		}
		return
	}
	all := &Deliveries{Gone: Departure(cmp.Or(d.gone, string(Keep)))}
	d.Deliveries = all
	for _, w := range d.completeFor {
		f, ok := c.field(fields, of, w, path+".complete_for")
		if !ok {
			continue
		}
		has := false
		for _, list := range [][]column.Field{d.NaturalKey, d.Type0, d.Type1, d.Type2, d.Type3} {
			has = has || column.Find(list, f.Name) >= 0
		}
		if !has {
			c.errorf(w.At, path+".complete_for", "%s is neither of the natural key nor an attribute, so it isn't known of members", w.Text)
		}
		all.Scope = append(all.Scope, f)
	}
	if d.deliveredOn != nil {
		if f, ok := c.field(fields, of, *d.deliveredOn, path+".delivered_on"); ok {
			if d.Effective != nil && f.Type != d.Effective.Type || f.Type.Kind != column.Date && f.Type.Kind != column.Timestamp {
				c.errorf(d.deliveredOn.At, path+".delivered_on", "%s is of type %s; it is a date or a timestamp, as effective is", f.Name, f.Type)
			}
			all.On = &f
		}
	}
	if all.Gone == Close && (!d.Versioned() || d.deliveredOn == nil) {
		c.errorf(d.At, path+".gone", "close makes a version from the time of the delivery: it needs type_2 attributes, and delivered_on, the column that says that time")
	}
}

// hierarchy finds the columns that say who the parent is.
func (c *checker) hierarchy(d *Dimension, path string) {
	h := d.Hierarchy
	if h == nil {
		return
	}
	path += ".hierarchy"
	h.Above = c.fields(d.Type1, "type_1", h.above, path+".parent")
	if len(h.above) != len(d.naturalKey) {
		c.errorf(h.at, path, "the natural key has %d columns, and the parent's has %d", len(d.naturalKey), len(h.above))
	}
	for i, f := range h.Above {
		if i < len(d.NaturalKey) && len(h.Above) == len(h.above) && f.Type != d.NaturalKey[i].Type && known(f.Type) {
			c.errorf(h.above[i].At, path+".parent", "%s is of type %s, but %s of the natural key is of type %s: nothing would ever match", f.Name, f.Type, d.NaturalKey[i].Name, d.NaturalKey[i].Type)
		}
	}
	if d.Versioned() && !d.Durable {
		c.errorf(h.at, path, "members with versions are told apart by their durable keys: durable_key: kept")
	}
}

// attributes gives the dimension all columns as type 1 that stand nowhere else, unless it lists
// them, and refuses names that stand twice or that the table has for itself.
func (c *checker) attributes(d *Dimension, fields []column.Field, path string) {
	used := map[string]string{d.KeyColumn(): "the surrogate key", "load_run": "the run that wrote the row"}
	if d.effective != nil {
		for _, name := range ValidityColumns() {
			used[name] = "the validity"
		}
	}
	if d.Durable {
		used[d.DurableColumn()] = "the durable key"
	}
	if d.Hierarchy != nil {
		used["parent_"+d.MemberColumn()], used[d.LevelColumn()] = "the parent's key", "the level"
	}
	if d.Source != nil {
		used["is_inferred"] = "the mark of inferred members"
	}
	if d.gone == string(Flag) || d.gone == string(Close) {
		used["is_gone"] = "the mark of members that are gone"
	}
	claim := func(w Name, role, in string) {
		for name, by := range used {
			if strings.EqualFold(name, w.Text) {
				c.errorf(w.At, path+"."+in, "%s is already %s", w.Text, by)
				return
			}
		}
		used[w.Text] = role
	}
	taken := map[string]bool{}
	for _, group := range []struct {
		names    []Name
		role, in string
	}{{d.naturalKey, "the natural key", "natural_key"}, {d.type0, "a type 0 attribute", "type_0"}, {d.type1, "a type 1 attribute", "type_1"}, {d.type2, "a type 2 attribute", "type_2"}, {d.type3, "a type 3 attribute", "type_3"}} {
		for _, w := range group.names {
			claim(w, group.role, group.in)
			taken[w.Text] = true
		}
	}
	for _, w := range []*Name{d.effective, d.sequence, d.deliveredOn} {
		if w != nil {
			taken[w.Text] = true
		}
	}
	for _, k := range d.Keys {
		for _, by := range k.by {
			taken[by.column.Text] = true
		}
	}
	others := d.others
	if d.type1 == nil {
		others = cmp.Or(others, "type_1")
	}
	for _, f := range fields {
		if others == "" || taken[f.Name] {
			continue
		}
		claim(Name{f.Name, d.At}, "an attribute", others)
		of := map[string]*[]column.Field{"type_0": &d.Type0, "type_1": &d.Type1, "type_2": &d.Type2, "type_3": &d.Type3}[others]
		*of = append(*of, f)
	}
	slices.SortFunc(d.Type3, func(a, b column.Field) int { // in the order of the table
		return cmp.Compare(column.Find(fields, a.Name), column.Find(fields, b.Name))
	})
	for _, f := range d.Type3 {
		claim(Name{PreviousColumn(f.Name), d.At}, "what "+f.Name+" was before", "type_3")
	}
	for _, w := range d.current {
		if i := column.Find(d.Type2, w.Text); i >= 0 {
			d.Current = append(d.Current, d.Type2[i])
			claim(Name{CurrentColumn(w.Text), w.At}, "the current "+w.Text, "with_current")
		} else {
			c.errorf(w.At, path+".with_current", "%s is no type 2 attribute%s", w.Text, place.Suggest(w.Text, column.Names(d.Type2)))
		}
	}
}

// ValidityColumns are the columns that a versioned dimension has besides.
func ValidityColumns() []string {
	return []string{"effective_from", "effective_sequence", "valid_from", "valid_to", "is_current"}
}

// junk makes the columns of a junk dimension its natural key.
func (c *checker) junk(d *Dimension, path string) {
	c.refuse(d, path, "a junk dimension has the columns of combinations", d.said())
	d.Rows = &Rows{columns: d.combinations}
	used := map[string]bool{strings.ToLower(d.KeyColumn()): true, "load_run": true}
	for _, col := range d.combinations {
		if lower := strings.ToLower(col.Text); used[lower] {
			c.errorf(col.At, path+".combinations", "the table has a column %s of its own", col.Text)
		} else if used[lower] = true; col.Type.Kind == column.Double {
			c.errorf(col.At, path+".combinations", "a double can't be a key: make it a decimal or text")
		}
		d.Rows.Fields = append(d.Rows.Fields, column.Field{Name: col.Text, Type: col.Type})
	}
	d.NaturalKey = d.Rows.Fields
	d.Rows.Batch = column.NewBatch(d.Rows.Fields)
	d.Rows.Batch.From.File = c.file
}

func (c *checker) calendar(d *Dimension, path string) {
	cal := d.Calendar
	c.refuse(d, path, "a calendar has its own columns", d.said())
	if cal.To < cal.From {
		c.errorf(d.calendarAt, path+".calendar", "to is before from")
	}
	d.NaturalKey, d.Type1, d.Type2 = calendar.Fields()[:1], calendar.Fields()[1:], nil
}

// said lists what may be said of a dimension that takes its columns from a source or from rows, natural_key first.
func (d *Dimension) said() []said {
	return []said{{d.naturalKey != nil, "natural_key"}, {d.type0 != nil, "type_0"}, {d.type1 != nil, "type_1"}, {d.type2 != nil, "type_2"}, {d.type3 != nil, "type_3"},
		{d.current != nil, "with_current"}, {d.others != "", "others"}, {d.Durable, "durable_key"}, {d.RefuseLate, "late_rows"}, {d.delivers != "", "delivers"}, {d.Aliases != nil, "aliases"}, {d.Adopts != nil, "adopts"}, {d.gone != "", "gone"}, {d.personal != nil, "personal"},
		{d.effective != nil, "effective"}, {d.Keys != nil, "keys"}}
}

// said is a key of the model that may be there.
type said struct {
	given bool
	name  string
}

// refuse tells what has no place in a dimension, and why.
func (c *checker) refuse(d *Dimension, path, why string, list []said) {
	for _, w := range list {
		if w.given {
			c.errorf(d.At, path, "%s: %s has no place here", why, w.name)
		}
	}
	d.Keys = nil
}

// staticRows gives the rows their types.
func (c *checker) staticRows(d *Dimension, path string) {
	rows := d.Rows
	rows.Batch = column.NewBatch(rows.Fields)
	rows.Batch.Reset(len(rows.nodes))
	rows.Batch.From.File = c.file
	reader := column.NewReader(c.model.Zone)
	seen := map[string]bool{}
	for i, node := range rows.nodes {
		for k, f := range rows.Fields {
			col := &rows.Batch.Cols[k]
			w, ok := node[f.Name]
			if !ok {
				col.SetNull(i)
			} else if err := reader.Set(col, i, w.Text); err != nil {
				c.errorf(w.At, path+".rows", "%s: %s %v", f.Name, w.Text, err)
			}
		}
		var id []string
		for _, f := range d.NaturalKey {
			value := &rows.Batch.Cols[column.Find(rows.Fields, f.Name)]
			if value.Null[i] {
				c.errorf(rows.places[i], path+".rows", "the row has no %s, which is its natural key", f.Name)
			}
			id = append(id, value.Value(i))
		}
		if joined := strings.Join(id, "\x00"); seen[joined] {
			c.errorf(rows.places[i], path+".rows", "%s stands twice", strings.Join(id, ", "))
		} else {
			seen[joined] = true
		}
		rows.Batch.From.Line = append(rows.Batch.From.Line, int64(rows.places[i].Line))
	}
	rows.Batch.From.Raw = func(i int) string { return c.lines[rows.places[i].Line-1] }
}

func (c *checker) outriggers(d *Dimension) {
	var fields []column.Field
	of := "the dimension"
	if d.Source != nil {
		fields, of = d.Source.Fields(), "source "+d.Source.Text
	} else if d.Rows != nil {
		fields = d.Rows.Fields
	}
	for _, k := range d.Keys {
		c.key(k, d.Source, fields, of)
		if k.Dimension == nil {
			continue
		}
		for _, group := range [][]column.Field{d.NaturalKey, d.Type0, d.Type1, d.Type2, d.Type3, {{Name: d.KeyColumn()}}} {
			if column.Find(group, k.Column()) >= 0 {
				c.errorf(k.At, k.subject, "there is already a column %s", k.Column())
			}
		}
	}
}

// key finds what a key refers to and completes its rules.
func (c *checker) key(k *Key, s *Source, fields []column.Field, of string) {
	w := k.dimension
	if w == nil {
		w = &k.Name
	}
	if k.Dimension = c.findDimension(w, k.subject); k.Dimension == nil || len(k.by) == 0 {
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
		if f.Type.Kind != nk.Kind || f.Type.Scale != nk.Scale || f.Type.Wide() != nk.Wide() {
			c.errorf(w.At, k.subject, "%s is of type %s, but %s of dimension %s is of type %s: nothing would ever match", w.Text, f.Type, d.NaturalKey[i].Name, d.Text, nk)
		}
	}
	for i, w := range by {
		if d.Source == nil && d.Matching == nil && d.Aliases == nil || column.Find(fields, w.Text) < 0 {
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
		c.errorf(k.by[0].column.At, k.subject, "the natural key of dimension %s is %s: %d columns, not %d",
			k.Dimension.Text, strings.Join(column.Names(natural), ", "), len(natural), len(k.by))
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
				c.errorf(b.natural.At, k.subject, "the natural key of dimension %s has no column %s%s", k.Dimension.Text, b.natural.Text,
					place.Suggest(b.natural.Text, column.Names(natural)))
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
		c.errorf(k.asOf.At, k.subject+".as_of", "dimension %s is versioned to the microsecond, and %s has only a day: cast(%s as timestamp) in a derived column says which time is meant", d.Text, f.Name, f.Name)
		return
	}
	if !d.Versioned() {
		c.remark(k.asOf.At, k.subject+".as_of", "dimension %s has no versions, so as_of changes nothing", d.Text)
		return
	}
	k.AsOf = f.Name
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
	made := k.Dimension.from != nil || k.Dimension.Junk
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
				c.errorf(k.At, k.subject, "dimension %s has no unknown member that looked_up names: unknown: its key", k.Dimension.Text)
			} else if rule == ToNotYet || rule == NotApplying {
				c.errorf(k.At, k.subject, "dimension %s is only looked up in, and has no member for %s", k.Dimension.Text, rule)
			}
		}
	}
	if k.Unmatched == Infer && !made {
		c.errorf(k.At, k.subject, "dimension %s has no source, so its members can't be inferred: unknown, set_aside or stop", k.Dimension.Text)
	}
}

func (c *checker) fact(f *Fact) {
	path := "facts." + f.Text
	f.Source = c.findSource(f.from, path+".from")
	if f.Source == nil {
		return
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
	names := map[string]bool{"load_run": true, "load_line": true}
	claim := func(at place.Place, name string) {
		if lower := strings.ToLower(name); names[lower] {
			c.errorf(at, path, "the table would have two columns called %s", name)
		} else {
			names[lower] = true
		}
	}
	for _, k := range f.Keys {
		if k.Dimension != nil {
			claim(k.At, k.Column())
		}
		if k.Dimension != nil && k.Both {
			claim(k.At, k.DurableColumn())
		}
	}
	for _, field := range append(slices.Clone(f.Degenerate), f.Measures...) {
		claim(f.At, field.Name)
	}
}

// Day gives the calendar key of the fact that says in days what k is as of, if there is one that
// always does and k's dimension is versioned in days (rule R16); else nil.
func (f *Fact) Day(k *Key) *Key {
	if k.Dimension.Validity().Kind != column.Date {
		return nil
	}
	for _, role := range f.Keys {
		if role.Dimension != nil && role.Dimension.Calendar != nil && len(role.By) == 1 && role.By[0] == k.AsOf &&
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
				c.errorf(k.At, k.subject, "%s is part of the grain, so it is what tells that a row comes again: again: keep has no place here", k.Text)
			}
			for _, rule := range []Outcome{k.Unmatched, k.Missing, k.Outside} {
				if rule == ToUnknown || rule == LeaveEmpty || rule == ToNotYet || rule == NotApplying {
					c.errorf(k.At, k.subject, "%s is part of the grain, so it can't become %s: set_aside or stop", k.Text, rule)
				}
			}
			continue
		}
		i := column.Find(fields, w.Text)
		if i < 0 {
			c.errorf(w.At, path+".grain", "there is no column or key %s%s", w.Text, place.Suggest(w.Text, append(names, column.Names(fields)...)))
			continue
		}
		if fields[i].Type.Kind == column.Double {
			c.errorf(w.At, path+".grain", "a double can't be part of the grain")
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
		for _, k := range d.Keys {
			switch to := k.Dimension; {
			case to == nil:
			case state[to] == walking:
				c.errorf(k.At, k.subject, "dimensions wait for each other: %s", strings.Join(append(trail, to.Text), " -> "))
			case state[to] == 0:
				walk(to, trail)
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

// specials gives each dimension unknown, and the other special members that a rule names; a
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
		for _, s := range []Special{Unknown, NotYet, NotApplicable} {
			if need[d][s] && d.LookedUp == nil {
				d.Specials = append(d.Specials, s)
			}
		}
	}
}
