package star

import (
	"cmp"
	"slices"
	"strings"

	"ironmonger/internal/calendar"
	"ironmonger/internal/clock"
	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/parse"
)

func (c *checker) dimension(d *Dimension) {
	path := "dimensions." + d.Text
	kinds := 0
	for _, is := range []bool{d.text.from != nil, d.Rows != nil, d.text.calendar != nil, d.text.clock != nil, d.Junk, d.LookedUp != nil} {
		if is {
			kinds++
		}
	}
	if kinds != 1 {
		c.errorf(
			d.At,
			path,
			"a dimension has either from (a source), or rows, or combinations, or calendar, or clock, or looked_up",
		)
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
		if d.Source = cmp.Or(d.text.calendar, d.text.clock); d.Source != nil {
			c.source(d.Source)
			if natural := map[bool]string{true: calendar.Date, false: clock.Time}[d.text.calendar != nil]; d.text.naturalKey == nil {
				d.text.naturalKey = []Name{{natural, d.At}}
			}
		} else if d.Source = c.findSource(d.text.from, path+".from"); d.Source == nil {
			return
		}
		fields, of = d.Source.Fields(), "source "+d.Source.Text
	}
	if len(d.text.naturalKey) == 0 {
		c.errorf(d.At, path, "natural_key is missing (a column or a list)")
	}
	d.NaturalKey = c.fields(fields, of, d.text.naturalKey, path+".natural_key")
	for i, f := range d.NaturalKey {
		if f.Type.Kind == column.Double {
			c.errorf(
				d.text.naturalKey[i].At,
				path+".natural_key",
				"a double cannot be a key: make it a decimal or text",
			)
		}
	}
	d.text.type2 = slices.DeleteFunc(d.text.type2, func(w Name) bool { // a key may make versions, too
		at := slices.IndexFunc(
			d.Keys,
			func(k *Key) bool { return k.Text == w.Text && column.Find(fields, w.Text) < 0 },
		)
		if at >= 0 {
			d.Keys[at].Type2 = true
		}
		return at >= 0
	})
	d.Type0 = c.fields(fields, of, d.text.type0, path+".type_0")
	d.Type1 = c.fields(fields, of, d.text.type1, path+".type_1")
	d.Type2 = c.fields(fields, of, d.text.type2, path+".type_2")
	d.Type3 = c.fields(fields, of, d.text.type3, path+".type_3")
	c.matching(d, path)
	c.aliases(d, path)
	c.attributes(d, fields, path)
	c.days(d, path)
	c.timesOfDay(d, path)
	c.times(d, fields, of, path)
	c.deliveries(d, fields, of, path)
	c.watched(d.Source, path, d.Deliveries)
	c.hierarchy(d, path)
	if d.Adopts != nil && d.Complete() {
		c.errorf(
			d.Adopts.at,
			path+".adopts",
			"what was observed of the members is not known of a table that stood before, and type 3 attributes, or an effective time without versions, need it",
		)
	} else if d.Adopts != nil && d.Adopts.ValidFrom != "" && !d.Versioned() {
		c.errorf(d.Adopts.at, path+".adopts", "a dimension without type_2 attributes has one row for a natural key: valid_from has no place here")
	}
	var attributes []column.Field
	for _, f := range fields {
		if column.Find(d.Attributes(), f.Name) >= 0 {
			attributes = append(attributes, f)
		}
	}
	d.Personal = c.fields(attributes, "dimension "+d.Text, d.text.personal, path+".personal")
	if d.Rows != nil && len(d.NaturalKey) == len(d.text.naturalKey) {
		c.staticRows(d, path)
	}
}

// times finds the columns that say since when a row is so.
func (c *checker) times(d *Dimension, fields []column.Field, of, path string) {
	if d.text.effective != nil {
		if f, ok := c.field(fields, of, *d.text.effective, path+".effective"); ok {
			if f.Type.Kind != column.Date && f.Type.Kind != column.Timestamp && known(f.Type) {
				c.errorf(
					d.text.effective.At,
					path+".effective",
					"%s is of type %s; an effective time is a date or a timestamp",
					f.Name,
					f.Type,
				)
			}
			d.Effective = &f
		}
	}
	if d.text.sequence != nil {
		if f, ok := c.field(fields, of, *d.text.sequence, path+".sequence"); ok {
			if f.Type.Wide() || f.Type.Kind == column.Text || f.Type.Kind == column.Double {
				c.errorf(
					d.text.sequence.At,
					path+".sequence",
					"%s is of type %s; a sequence is an integer, a short decimal, a date or a timestamp",
					f.Name,
					f.Type,
				)
			}
			d.Sequence = &f
		}
		if d.text.effective == nil {
			c.errorf(
				d.text.sequence.At,
				path+".sequence",
				"sequence decides between rows of one effective time, and no effective is given",
			)
		}
	}
	if d.Versioned() && d.text.effective == nil {
		at := d.At
		if len(d.text.type2) > 0 {
			at = d.text.type2[0].At
		}
		c.errorf(at, path+".type_2", "versions need effective: the column that says since when a row is so")
	}
	if d.RefuseLate && d.text.effective == nil {
		c.errorf(
			d.text.lateAt,
			path+".late_rows",
			"without effective, the column that says since when a row is so, none is late",
		)
	}
	if d.Durable && !d.Versioned() {
		c.errorf(
			d.text.durableAt,
			path+".durable_key",
			"without type_2 attributes a member has one row, whose key is durable already",
		)
	}
	if d.Rows != nil && d.text.effective != nil {
		c.errorf(d.text.effective.At, path+".effective", "rows that stand in the model have no effective time")
	}
}

// deliveries completes what is said about deliveries of all.
func (c *checker) deliveries(d *Dimension, fields []column.Field, of, path string) {
	text := &d.text.deliveries
	if text.delivers != "all" {
		for _, w := range text.said() {
			if w.given {
				c.errorf(d.At, path, "%s speaks of deliveries of all: delivers: all", w.name)
			}
		}
		return
	}
	all := &Deliveries{Gone: Departure(cmp.Or(text.gone, string(Keep)))}
	d.Deliveries = all
	for _, w := range text.completeFor {
		f, ok := c.field(fields, of, w, path+".complete_for")
		if !ok {
			continue
		}
		has := false
		for _, list := range [][]column.Field{d.NaturalKey, d.Type0, d.Type1, d.Type2, d.Type3} {
			has = has || column.Find(list, f.Name) >= 0
		}
		if !has {
			c.errorf(
				w.At,
				path+".complete_for",
				"%s is neither of the natural key nor an attribute, so it is not known of members",
				w.Text,
			)
		}
		all.Scope = append(all.Scope, f)
	}
	if text.deliveredOn != nil {
		if f, ok := c.field(fields, of, *text.deliveredOn, path+".delivered_on"); ok {
			if d.Effective != nil && f.Type != d.Effective.Type ||
				f.Type.Kind != column.Date && f.Type.Kind != column.Timestamp {
				c.errorf(
					text.deliveredOn.At,
					path+".delivered_on",
					"%s is of type %s; it is a date or a timestamp, as effective is",
					f.Name,
					f.Type,
				)
			}
			all.On = &f
		}
	}
	if all.Gone == Close && (!d.Versioned() || text.deliveredOn == nil) {
		c.errorf(
			d.At,
			path+".gone",
			"close makes a version from the time of the delivery: it needs type_2 attributes, and delivered_on, the column that says that time",
		)
	}
}

// hierarchy finds the columns that say who the parent is.
func (c *checker) hierarchy(d *Dimension, path string) {
	h := d.Hierarchy
	if h == nil {
		return
	}
	path += ".hierarchy"
	h.Above = c.fields(
		append(slices.Clone(d.NaturalKey), d.Type1...),
		"what is of type 1 or of the natural key",
		h.above,
		path+".parent",
	)
	if len(h.above) != len(d.text.naturalKey) {
		c.errorf(
			h.at,
			path,
			"the natural key has %d columns, and the parent's has %d",
			len(d.text.naturalKey),
			len(h.above),
		)
	}
	for i, f := range h.Above {
		if i < len(d.NaturalKey) && len(h.Above) == len(h.above) && f.Type != d.NaturalKey[i].Type && known(f.Type) {
			c.errorf(
				h.above[i].At,
				path+".parent",
				"%s is of type %s, but %s of the natural key is of type %s: nothing would ever match",
				f.Name,
				f.Type,
				d.NaturalKey[i].Name,
				d.NaturalKey[i].Type,
			)
		}
	}
	if d.Versioned() && !d.Durable {
		c.errorf(h.at, path, "members with versions are told apart by their durable keys: durable_key: kept")
	}
}

// attributes returns the dimension all columns as type 1 that stand nowhere else, unless it lists
// them, and refuses names that stand twice or that the table has for itself.
func (c *checker) attributes(d *Dimension, fields []column.Field, path string) {
	used := map[string]string{d.KeyColumn(): "the surrogate key", "load_run": "the run that wrote the row"}
	if d.text.effective != nil {
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
	if d.Inferable() {
		used["is_inferred"] = "the mark of inferred members"
	}
	if d.text.deliveries.gone == string(Flag) || d.text.deliveries.gone == string(Close) {
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
	}{{d.text.naturalKey, "the natural key", "natural_key"}, {d.text.type0, "a type 0 attribute", "type_0"}, {d.text.type1, "a type 1 attribute", "type_1"}, {d.text.type2, "a type 2 attribute", "type_2"}, {d.text.type3, "a type 3 attribute", "type_3"}} {
		for _, w := range group.names {
			claim(w, group.role, group.in)
			taken[w.Text] = true
		}
	}
	for _, w := range []*Name{d.text.effective, d.text.sequence, d.text.deliveries.deliveredOn} {
		if w != nil {
			taken[w.Text] = true
		}
	}
	for _, k := range d.Keys {
		for _, by := range k.by {
			taken[by.column.Text] = true
		}
	}
	others := d.text.others
	if d.text.type1 == nil {
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
	for _, w := range d.text.current {
		if i := column.Find(d.Type2, w.Text); i >= 0 {
			d.Current = append(d.Current, d.Type2[i])
			claim(Name{CurrentColumn(w.Text), w.At}, "the current "+w.Text, "with_current")
		} else {
			c.errorf(w.At, path+".with_current", "%s is not a type 2 attribute%s", w.Text, diag.Suggest(w.Text, column.Names(d.Type2)))
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
	d.Rows = &Rows{columns: d.text.combinations}
	used := map[string]bool{strings.ToLower(d.KeyColumn()): true, "load_run": true}
	for _, col := range d.text.combinations {
		if lower := strings.ToLower(col.Text); used[lower] {
			c.errorf(col.At, path+".combinations", "the table has a column %s of its own", col.Text)
		} else if used[lower] = true; col.Type.Kind == column.Double {
			c.errorf(col.At, path+".combinations", "a double cannot be a key: make it a decimal or text")
		}
		d.Rows.Fields = append(d.Rows.Fields, column.Field{Name: col.Text, Type: col.Type})
	}
	d.NaturalKey = d.Rows.Fields
	d.Rows.Batch = column.NewBatch(d.Rows.Fields)
	d.Rows.Batch.From.File = c.file
}

// days checks a dimension whose rows are the days of a calendar.
func (c *checker) days(d *Dimension, path string) {
	if d.Calendar = d.Source.OnCalendar(); d.Calendar == nil {
		return
	}
	if len(d.NaturalKey) != 1 || d.Delivered != nil && d.Delivered[0] != calendar.Date || d.NaturalKey[0].Name != calendar.Date {
		d.Calendar = nil // they are something of these days
		return
	}
	for _, w := range []said{
		{d.text.type2 != nil, "type_2"}, {d.Aliases != nil, "aliases"}, {d.Adopts != nil, "adopts"}, {d.text.numbered, "surrogate_key"},
	} {
		if w.given && d.DayKeys() != nil {
			c.errorf(d.At, path, "the keys are made of the days: %s needs key: numbered in the calendar", w.name)
		}
	}
}

// said lists what may be said of a dimension that takes its columns from a source or from rows, natural_key first.
func (d *Dimension) said() []said {
	return []said{
		{d.text.naturalKey != nil, "natural_key"},
		{d.text.type0 != nil, "type_0"},
		{d.text.type1 != nil, "type_1"},
		{d.text.type2 != nil, "type_2"},
		{d.text.type3 != nil, "type_3"},
		{
			d.text.current != nil,
			"with_current",
		},
		{d.text.others != "", "others"},
		{d.Durable, "durable_key"},
		{d.RefuseLate, "late_rows"},
		{d.text.deliveries.delivers != "", "delivers"},
		{d.Aliases != nil, "aliases"},
		{d.Adopts != nil, "adopts"},
		{d.text.deliveries.gone != "", "gone"},
		{d.text.personal != nil, "personal"},
		{d.text.effective != nil, "effective"},
		{d.Keys != nil, "keys"},
	}
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

// staticRows returns the rows their types.
func (c *checker) staticRows(d *Dimension, path string) {
	rows := d.Rows
	rows.Batch = column.NewBatch(rows.Fields)
	rows.Batch.Reset(len(rows.nodes))
	rows.Batch.From.File = c.file
	reader := parse.NewReader(c.model.Zone)
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
	type keysOf struct{ *Dimension }
	if c.seen[keysOf{d}] {
		return
	}
	c.seen[keysOf{d}] = true
	c.pointedTo(d.Keys)
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
		if k.Type2 && k.Dimension.Versioned() {
			c.errorf(
				k.At,
				k.subject,
				"dimension %s has versions of its own, and points to its current one: as type_2, %s would make a version whenever that one has a new one",
				k.Dimension.Text,
				k.Text,
			)
		}
		for _, group := range [][]column.Field{d.NaturalKey, d.Type0, d.Type1, d.Type2, d.Type3, {{Name: d.KeyColumn()}}} {
			if column.Find(group, k.Column()) >= 0 {
				c.errorf(k.At, k.subject, "there is already a column %s", k.Column())
			}
		}
	}
}
