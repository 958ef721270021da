// Package schema says which tables a model makes: their columns, keys and views, and which column
// of which table points to which dimension. It is what loading, proving and printing of DDL share.
package schema

import (
	"path/filepath"
	"slices"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Columns that tables have besides what the model names.
const (
	EffectiveFrom = "effective_from"     // since when, as delivered
	Sequence      = "effective_sequence" // which of several rows of that time, as delivered
	ValidFrom     = star.ValidFrom       // the version holds from here
	ValidTo       = star.ValidTo         // to before here
	IsCurrent     = star.IsCurrent
	IsInferred    = "is_inferred"
	IsGone        = star.IsGone   // a delivery of all, or the file of a fact, has it no longer
	Mark          = "mark"        // of an observation that no row made: gone or back
	LoadLine      = "load_line"   // of a fact: the file and line that it came from, see ledger.Line
	LoadRun       = "load_run"    // the run that wrote the row last
	RemovedRun    = "removed_run" // of a fact that was removed: the run that did it
)

var (
	integer = column.Type{Kind: column.Integer}
	boolean = column.Type{Kind: column.Boolean}
)

// The ends of time (rule R9), in days.
var (
	Beginning = civil.Day(1900, 1, 1)
	End       = civil.Day(9999, 12, 31)
)

// Bounds returns the ends of time in the precision of a type.
func Bounds(t column.Type) (beginning, end int64) {
	if t.Kind == column.Timestamp {
		return Beginning * civil.DayMicros, End * civil.DayMicros
	}
	return Beginning, End
}

// Star is the tables of a model.
type Star struct {
	Dimensions []*Dimension
	Facts      []*Fact
}

// Dimension is the tables of a dimension.
type Dimension struct {
	*star.Dimension
	Table      *warehouse.Table
	Roles      []Role           // of the table's columns
	Observed   *warehouse.Table // what was observed and isn't told by the versions (rule R8); nil if nothing is kept
	Alias      *warehouse.Table // keys of members that are part of others now; nil if there can be none
	AsOf       *warehouse.Table // the reference day of a calendar; nil if nothing is relative to one
	Closure    *warehouse.Table // of a hierarchy: what stands above what; nil if there is none
	Parent     column.Field     // and the key of the parent
	Level      column.Field     // and the level
	Above      []column.Field   // the attributes that have the parent's natural key
	Time       column.Type      // of the validity, or of effective_from; Null if there is neither
	Outriggers []column.Field   // one for each of Keys
	PointedAt  []Reference

	ValidFrom, ValidTo string // the columns that say when a version holds; "" if there are no versions

	Views []*warehouse.View // one for each role of its own name
}

// Tables lists the dimension's tables.
func (d *Dimension) Tables() []*warehouse.Table {
	list := []*warehouse.Table{d.Table}
	for _, t := range []*warehouse.Table{d.Observed, d.Closure, d.Alias, d.AsOf} {
		if t != nil {
			list = append(list, t)
		}
	}
	return list
}

// Inferable reports whether the dimension marks inferred members.
func (d *Dimension) Inferable() bool { return d.Dimension.Inferable() }

// Timed reports whether rows have an effective time.
func (d *Dimension) Timed() bool { return d.Effective != nil }

// times lists the columns that say since when a row is so, as delivered.
func (d *Dimension) times() []column.Field {
	fields := []column.Field{{Name: EffectiveFrom, Type: d.Time}}
	if d.Dimension.Sequence != nil {
		fields = append(fields, column.Field{Name: Sequence, Type: d.Dimension.Sequence.Type})
	}
	return fields
}

// Reference is a column that points to a dimension.
type Reference struct {
	Table, Key string
	Durable    bool   // has durable keys, which change only when members are merged
	Outrigger  bool   // points to the current version and moves with it (rule R22)
	Time       string // the column that says which version; "" if none does
	ByDay      bool   // Time is a yyyymmdd key
	TimeType   column.Type
}

// UnknownKey returns the key of the unknown member that an outrigger's column points to as long as nobody says
// more; false if the column is none.
func (d *Dimension) UnknownKey(name string) (int64, bool) {
	at := column.Find(d.Outriggers, name)
	if at < 0 {
		return 0, false
	}
	unknown, _ := d.Keys[at].Dimension.KeyOf(star.Unknown)
	return unknown, true
}

// NamesakeKey returns the key of the special member that an outrigger's column points to in the row of one of the same
// kind.
func (d *Dimension) NamesakeKey(name string, s star.Special) int64 {
	key, _ := d.Keys[column.Find(d.Outriggers, name)].Dimension.KeyOf(s)
	return key
}

// Pointers lists the columns by which facts and other dimensions point to the dimension's rows: of PointedAt, those
// that are not its own, and no durable keys.
func (d *Dimension) Pointers() []Reference {
	var list []Reference
	for _, ref := range d.PointedAt {
		own := ref.Durable
		for _, t := range d.Tables() {
			own = own || ref.Table == t.Name
		}
		if !own {
			list = append(list, ref)
		}
	}
	return list
}

// Fact is the tables of a fact.
type Fact struct {
	*star.Fact
	Table   *warehouse.Table
	Removed *warehouse.Table // the rows that were removed since they are gone; nil if none are
	Told    *warehouse.Table // milestones that another row has told than the last one of their fact; nil if none are
}

// GrainColumns lists the columns by which facts are told apart: those of the primary key, without the number of the
// entry.
func (f *Fact) GrainColumns() []string { return f.Table.Primary[:len(f.Grain)] }

// Tables lists the fact's tables.
func (f *Fact) Tables() []*warehouse.Table {
	list := []*warehouse.Table{f.Table}
	for _, t := range []*warehouse.Table{f.Removed, f.Told} {
		if t != nil {
			list = append(list, t)
		}
	}
	return list
}

// New lays out a model.
func New(m *star.Model) *Star {
	s := &Star{}
	tables := map[*star.Dimension]*Dimension{}
	for _, d := range m.Dimensions {
		t := dimension(d)
		s.Dimensions = append(s.Dimensions, t)
		tables[d] = t
	}
	for _, d := range s.Dimensions {
		for _, k := range d.Keys {
			to := tables[k.Dimension]
			to.PointedAt = append(to.PointedAt, Reference{Table: d.Table.Name, Key: k.Column(), Outrigger: !k.Type2})
		}
	}
	roles := map[string]bool{}
	view := func(keys []*star.Key) {
		for _, k := range keys {
			if k.Role() && !roles[k.Column()] && k.Dimension.LookedUp == nil {
				roles[k.Column()] = true
				d := tables[k.Dimension]
				d.Views = append(d.Views, role(k, d))
			}
		}
	}
	for _, d := range m.Dimensions {
		view(d.Keys)
	}
	for _, f := range m.Facts {
		s.Facts = append(s.Facts, fact(f, tables))
		view(f.Keys)
	}
	s.describe()
	return s
}

// Named lists the names of a star for which is holds.
func (s *Star) Named(is func(name string) bool) []string {
	var list []string
	look := func(what, name string) {
		if is(name) {
			list = append(list, what+" "+name)
		}
	}
	table := func(t *warehouse.Table) {
		look("table", t.Name)
		for _, c := range t.Columns {
			look("column of table "+t.Name+":", c.Name)
		}
	}
	for _, d := range s.Dimensions {
		if d.LookedUp != nil {
			continue
		}
		for _, t := range d.Tables() {
			table(t)
		}
		for _, v := range d.Views {
			look("view", v.Name)
			for _, c := range v.Columns {
				look("column of view "+v.Name+":", c.To)
			}
		}
	}
	for _, f := range s.Facts {
		for _, t := range f.Tables() {
			table(t)
		}
	}
	return list
}

// Dimension returns the layout of a dimension of the model.
func (s *Star) Dimension(d *star.Dimension) *Dimension {
	for _, t := range s.Dimensions {
		if t.Dimension == d {
			return t
		}
	}
	return nil
}

func dimension(d *star.Dimension) *Dimension {
	t := &Dimension{
		Dimension: d,
		Time:      d.Validity(),
		Table:     &warehouse.Table{Name: d.TableName(), Primary: []string{d.KeyColumn()}},
	}
	t.add(SurrogateKey, true, column.Field{Name: d.KeyColumn(), Type: integer})
	if d.LookedUp != nil {
		t.lookedUp(d.LookedUp)
		return t
	}
	t.add(NaturalKey, false, d.NaturalKey...)
	if d.Durable {
		t.add(DurableKey, true, column.Field{Name: d.DurableColumn(), Type: integer})
	}
	t.Table.Unique = column.Names(d.NaturalKey)
	t.add(Attribute, false, d.Attributes()...)
	t.outriggers()
	if d.Aliases != nil {
		t.Alias = table("dim_"+d.Text+"_alias", "alias_key", d.KeyColumn(), LoadRun)
		t.Alias.Primary = []string{"alias_key"}
		t.PointedAt = append(t.PointedAt, Reference{Table: t.Alias.Name, Key: d.KeyColumn()})
	}
	if d.Hierarchy != nil {
		t.Parent = column.Field{Name: "parent_" + d.MemberColumn(), Type: integer}
		t.Level, t.Above = column.Field{Name: d.LevelColumn(), Type: integer}, d.Hierarchy.Above
		t.add(ParentKey, false, t.Parent)
		t.add(HierarchyLevel, false, t.Level)
		t.Closure = table("dim_"+d.Text+"_closure", "ancestor_key", "descendant_key", "distance")
		t.Closure.Primary = []string{"ancestor_key", "descendant_key"}
	}
	if d.Effective != nil {
		t.add(EffectiveTime, false, t.times()[:1]...)
		t.add(EffectiveSequence, false, t.times()[1:]...)
	}
	if d.Versioned() {
		t.ValidFrom, t.ValidTo = ValidFrom, ValidTo
		t.add(ValidityStart, true, column.Field{Name: ValidFrom, Type: t.Time})
		t.add(ValidityEnd, true, column.Field{Name: ValidTo, Type: t.Time})
		t.add(CurrentMark, true, column.Field{Name: IsCurrent, Type: boolean})
		t.Table.Unique = append(t.Table.Unique, ValidFrom)
	}
	if d.Observed() {
		t.observed()
	}
	if t.Inferable() {
		t.add(InferredMark, true, column.Field{Name: IsInferred, Type: boolean})
	}
	if d.Marked() {
		t.add(GoneMark, true, column.Field{Name: IsGone, Type: boolean})
	}
	t.add(RunMark, true, column.Field{Name: LoadRun, Type: integer})
	t.relative()
	return t
}

// table returns a table of integers that are never null.
func table(name string, columns ...string) *warehouse.Table {
	t := &warehouse.Table{Name: name}
	for _, c := range columns {
		t.Columns = append(t.Columns, warehouse.Column{Field: column.Field{Name: c, Type: integer}, NotNull: true})
	}
	return t
}

// lookedUp adds what is read of a table that another program loads.
func (t *Dimension) lookedUp(l *star.LookedUp) {
	t.Table.Borrowed = true
	t.add(NaturalKey, false, t.NaturalKey...)
	if l.From != "" {
		t.add(ValidityStart, false, column.Field{Name: l.From, Type: t.Time})
		t.add(ValidityEnd, false, column.Field{Name: l.To, Type: t.Time})
		t.ValidFrom, t.ValidTo = l.From, l.To
	}
}

// outriggers adds the keys of other dimensions.
func (t *Dimension) outriggers() {
	for _, k := range t.Keys {
		f := column.Field{Name: k.Column(), Type: integer}
		t.Outriggers = append(t.Outriggers, f)
		t.add(OutriggerKey, !empty(k), f)
		if of := k.Dimension; of.LookedUp == nil {
			foreign := warehouse.Foreign{Column: f.Name, Table: of.TableName(), Key: of.KeyColumn()}
			t.Table.Foreign = append(t.Table.Foreign, foreign)
		}
	}
}

// observed makes the table of observations that are kept apart from the versions.
func (t *Dimension) observed() {
	d := t.Dimension
	o := table("dim_"+d.Text+"_observed", d.KeyColumn())
	o.Index = []string{d.KeyColumn()}
	for _, f := range t.times() {
		o.Columns = append(o.Columns, warehouse.Column{Field: f, NotNull: f.Name == EffectiveFrom})
	}
	for _, f := range d.Type3 {
		o.Columns = append(o.Columns, warehouse.Column{Field: f})
	}
	if d.Closes() {
		mark := column.Field{Name: Mark, Type: column.Type{Kind: column.Text}}
		o.Columns = append(o.Columns, warehouse.Column{Field: mark})
	}
	t.Observed = o
	r := Reference{Table: o.Name, Key: d.KeyColumn(), Time: EffectiveFrom, TimeType: t.Time}
	t.PointedAt = append(t.PointedAt, r)
}

// empty reports whether a key's column may be null.
func empty(k *star.Key) bool { return k.Missing == star.LeaveEmpty || k.Unmatched == star.LeaveEmpty }

func fact(f *star.Fact, tables map[*star.Dimension]*Dimension) *Fact {
	t := &Fact{Fact: f, Table: &warehouse.Table{Name: "fact_" + f.Text}}
	if p := f.Partition; p != nil {
		t.Table.Partition = &warehouse.Partition{Column: p.Key.Column(), Step: p.Step}
	}
	grain := map[string]bool{}
	for _, g := range f.Grain {
		name := g.Column
		if g.Key != nil {
			name = g.Key.Column()
		}
		grain[name] = true
		t.Table.Primary = append(t.Table.Primary, name)
	}
	add := func(notNull bool, fields ...column.Field) {
		for _, field := range fields {
			t.Table.Columns = append(
				t.Table.Columns,
				warehouse.Column{Field: field, NotNull: notNull || grain[field.Name]},
			)
		}
	}
	add(false, f.Degenerate...)
	for _, k := range f.Keys {
		add(!empty(k), column.Field{Name: k.Column(), Type: integer})
		if k.Both {
			add(!empty(k), column.Field{Name: k.DurableColumn(), Type: integer})
		}
		d := tables[k.Dimension]
		if k.Dimension.LookedUp == nil { // a view has no keys
			t.Table.Foreign = append(
				t.Table.Foreign,
				warehouse.Foreign{Column: k.Column(), Table: d.Table.Name, Key: d.KeyColumn()},
			)
		}
		d.PointedAt = append(d.PointedAt, reference(f, k, t.Table.Name))
		if k.Both {
			d.PointedAt = append(d.PointedAt, Reference{Table: t.Table.Name, Key: k.DurableColumn(), Durable: true})
		}
	}
	add(false, f.Measures...)
	if f.Completion != nil {
		for _, l := range f.Completion.Lags {
			add(false, l.Field())
		}
		if !f.Completion.TellAll {
			t.Told = told(t)
		}
	}
	if f.Marked() {
		add(true, column.Field{Name: IsGone, Type: boolean})
	}
	if f.Reverses() {
		t.Table.Primary = append(t.Table.Primary, star.EntryNumber)
		add(true, column.Field{Name: star.EntryNumber, Type: integer}, column.Field{Name: star.EntrySign, Type: integer},
			column.Field{Name: star.BookedOn, Type: column.Type{Kind: column.Date}})
	}
	add(true, column.Field{Name: LoadLine, Type: integer}, column.Field{Name: LoadRun, Type: integer})
	if f.Removes() {
		t.Removed = &warehouse.Table{Name: t.Table.Name + "_removed", Index: []string{RemovedRun}}
		t.Removed.Columns = append(slices.Clone(t.Table.Columns), warehouse.Column{
			Field: column.Field{Name: RemovedRun, Type: integer}, NotNull: true,
		})
	}
	return t
}

// Milestone is the column of a table of milestones that names them.
const Milestone = "milestone"

// told makes the table of milestones that another row has told than the last one of their fact.
func told(f *Fact) *warehouse.Table {
	t := &warehouse.Table{Name: f.Table.Name + "_told", Primary: append(slices.Clone(f.Table.Primary), Milestone)}
	add := func(fields ...column.Field) {
		for _, field := range fields {
			t.Columns = append(t.Columns, warehouse.Column{Field: field, NotNull: true})
		}
	}
	add(f.Table.PrimaryFields()...)
	add(column.Field{Name: Milestone, Type: column.Type{Kind: column.Text}})
	if f.NewerBy != nil {
		add(*f.NewerBy)
	}
	add(column.Field{Name: LoadLine, Type: integer})
	return t
}

func reference(f *star.Fact, k *star.Key, table string) Reference {
	r := Reference{Table: table, Key: k.Column(), Time: k.AsOf}
	if k.AsOf == "" {
		return r
	}
	if day := f.Day(k); day != nil {
		r.Time, r.ByDay, r.TimeType = day.Column(), true, integer
		return r
	}
	fields := f.Source.Fields()
	r.TimeType = fields[column.Find(fields, k.AsOf)].Type
	return r
}

// role is a view of a dimension under the name of its role, its columns named for it too, so that
// two roles can be joined at once.
func role(k *star.Key, d *Dimension) *warehouse.View {
	v := &warehouse.View{Name: "dim_" + k.Text + "_" + d.Text, Of: d.Table.Name}
	for _, c := range d.Table.Columns {
		to := k.Text + "_" + c.Name
		if c.Name != LoadRun {
			v.Columns = append(v.Columns, warehouse.Renamed{From: c.Name, To: to})
		}
	}
	return v
}

// Location says where a model's star stands; dir is the model's folder, as seen from here.
func Location(m *star.Model, dir string) warehouse.Location {
	w := m.Warehouse
	at := warehouse.Location{Kind: w.Kind, Path: w.Path, Connection: w.Connection, Schema: w.Schema, Permissions: w.Permissions, Readers: w.Readers,
		Server: w.Server, Published: w.Published, Working: w.Working, Staging: w.Staging, StagedAt: w.StagedAt}
	if at.Staging != "" && !filepath.IsAbs(at.Staging) {
		at.Staging = filepath.Join(dir, at.Staging)
	}
	if at.Path != "" && !filepath.IsAbs(at.Path) {
		at.Path = filepath.Join(dir, at.Path)
	}
	return at
}
