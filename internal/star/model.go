// Package star is the model: what a person has declared about sources, dimensions and facts, read
// from a YAML file, checked, and kept in plain structs with the places they were written at.
//
// [Read] does all of it. It gathers every mistake before it gives up, and what it returns without an
// error refers only to things that exist and have types that fit; nothing that comes later has to
// ask again. Package star opens neither sources nor warehouses.
package star

import (
	"slices"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
)

// Name is a word of the model with its place.
type Name struct {
	Text string
	At   diag.Place
}

// Model is a whole model.
type Model struct {
	File       string
	Text       string // as written, for the ledger
	Warehouse  Warehouse
	Zone       *time.Location // nil if the model names none
	Limits     Limits
	Lineage    Lineage
	Keep       time.Duration // for how long the ledger keeps all that it says of a run; 0 is for ever
	Undo       int           // for how many of the latest runs it is kept what they changed
	Parameters []*Parameter
	Databases  []*Database
	Notices    []*Notice
	Sources    []*Source
	Dimensions []*Dimension
	Facts      []*Fact
	Remarks    diag.List // what a reader took for granted and should be told

	execute    *Name
	executeAll Execution // what a call says, whatever the model does

	read        bool // it is YAML
	warehouses  []Warehouse
	inWarehouse Name // which of them; "" if the model has but one
}

// String says where the star is, for people.
func (w Warehouse) String() string {
	if w.Kind != SQLite {
		return "schema " + w.Schema + " of the database"
	}
	return w.Path
}

// Limits are the shares of rows, or of members that are gone, in millionths, beyond which a step stops (rule R7). A
// negative one is no limit.
type Limits struct {
	SetAside, Unmatched, Gone int64

	Usual      int64         // the least rows that are read, as a share of what usually is
	Time       time.Duration // that a step may take; negative lifts the limit
	Retries    int64         // how often a step begins again that failed of what may be gone by itself
	AsideBreak string        // what a load comes to that sets rows aside: CountsAsDone or CountsAsBroken
}

// What a load comes to that sets rows aside.
const (
	CountsAsDone   = "done"
	CountsAsBroken = "broken"
)

// NoLimit lifts a limit; LimitFrom is the number of rows from which on limits count.
const (
	NoLimit   = -1
	LimitFrom = 100
)

// Dimension is a dimension: fed from a source, of rows that stand in the model, or a calendar.
type Dimension struct {
	Name
	Origin
	Identity
	Changes
	AttributeTypes

	Said      Described
	Keys      []*Key     // outriggers
	Hierarchy *Hierarchy // nil if members have no parents
	Specials  []Special  // the special members that it has, unknown first
	Limits    Limits
	MustHold  []*Must

	execute *Name
	text    dimensionText
}

// Origin is where the members of a dimension come from: one of these.
type Origin struct {
	Source   *Source   // nil for the others
	Rows     *Rows     // that stand in the model; none of a junk dimension
	Calendar *Calendar // the days of which its rows are; nil for others
	Clock    *Clock    // the times of the day of which its rows are; nil for others
	LookedUp *LookedUp // a table that another program loads
	Junk     bool      // the combinations of values that occur, null among them
	Adopts   *Adopted  // the table that has the first members and their keys; nil if there is none
}

// Identity is what tells one member from another, and the keys that stand for it.
type Identity struct {
	NaturalKey []column.Field
	Delivered  []string    // the columns of the shaped source that say the natural key
	Matching   []*Matching // how natural keys are brought to one form, where they are
	Aliases    *Aliases    // nil if members have one natural key
	FirstKey   int64       // the first surrogate key
	KeyStep    int64       // how far the next one is
	Durable    bool        // members have a key that is the same for all their versions
}

// Changes say how a dimension follows its members through time.
type Changes struct {
	Effective  *column.Field // since when a row is so; nil if the order of arrival decides
	Sequence   *column.Field // decides between rows of one effective time; nil if order does
	RefuseLate bool          // rows older than what is known of their member are set aside
	FromStart  bool          // the first version is valid from the beginning of time
	Deliveries *Deliveries   // nil if the source delivers changes
}

// AttributeTypes lists the attributes of a dimension by what becomes of a change.
type AttributeTypes struct {
	Type0    []column.Field // they stay as they were at first
	Type1    []column.Field // they are overwritten
	Type2    []column.Field // their changes make versions
	Type3    []column.Field // they are overwritten, with the value before beside
	Current  []column.Field // those of type 2 whose current value stands on all versions too
	Personal []column.Field // those that may have to be erased
}

// dimensionText is what the text of the model says of a dimension, with its places, before names are resolved.
type dimensionText struct {
	from, effective, sequence           *Name
	deliveries                          deliveriesText
	others                              string // what attributes are that are not listed
	naturalKey, personal                []Name
	type0, type1, type2, type3, current []Name
	combinations                        []Column
	validity                            column.Type // of a dimension that is looked up in
	durableAt, lateAt                   diag.Place
	calendar                            *Source // the days, where the dimension declares them itself
	clock                               *Source // the times, likewise
	numbered                            bool    // it says how keys are numbered
	specials                            []Special
}

// Inferable reports whether facts may make members of the dimension which its source describes later.
func (d *Dimension) Inferable() bool { return d.Source != nil && !d.Generated() }

// Versioned reports whether members may have several versions.
func (d *Dimension) Versioned() bool {
	return d.changes() || d.LookedUp != nil && d.LookedUp.From != ""
}

// changes reports whether anything of a member makes versions.
func (d *Dimension) changes() bool {
	return len(d.Type2) > 0 || slices.ContainsFunc(d.Keys, func(k *Key) bool { return k.Type2 })
}

// Validity is the type of the times since when versions hold; Null if nothing says since when.
func (d *Dimension) Validity() column.Type {
	if d.Effective != nil {
		return d.Effective.Type
	}
	return d.text.validity
}

// TableName is the name of the dimension's table.
func (d *Dimension) TableName() string {
	if d.LookedUp != nil {
		return d.LookedUp.Table
	}
	return "dim_" + d.Text
}

// KeyOf returns the key of a special member; false if the dimension has none.
func (d *Dimension) KeyOf(s Special) (int64, bool) {
	if d.LookedUp == nil {
		return d.Special(s).Key, true
	}
	if s.Kind != ToUnknown || d.LookedUp.Unknown == nil {
		return 0, false
	}
	return *d.LookedUp.Unknown, true
}

// Deliveries are those of a source that delivers all members, or all rows of a fact, each time (rule R13).
type Deliveries struct {
	Gone  Departure
	Files bool           // of a fact: each file is complete for the rows that came from it
	Scope []column.Field // what a delivery is complete for: all that are equal to one of its rows in these
	On    *column.Field  // says when it was delivered; nil if nothing does
	Until string         // of a fact: a column of the table; with a value in it, later deliveries need not have the fact. "" for none
}

// deliveriesText is what the text of the model says of deliveries.
type deliveriesText struct {
	delivers, gone string
	completeFor    []Name
	deliveredOn    *Name
	until          *Name
}

// said lists the keys that have no place where only changes are delivered.
func (t *deliveriesText) said() []said {
	return []said{
		{t.gone != "", "gone"}, {t.completeFor != nil, "complete_for"}, {t.deliveredOn != nil, "delivered_on"},
		{t.until != nil, "open_until"},
	}
}

// KeepsScopes reports whether the rows of the dimension do not tell in which scope a member was delivered last, and
// when: the scope is an attribute, which can change.
func (d *Dimension) KeepsScopes() bool {
	all := d.Deliveries
	if all == nil || all.On == nil {
		return false
	}
	return slices.ContainsFunc(all.Scope, func(f column.Field) bool { return column.Find(d.NaturalKey, f.Name) < 0 })
}

// Hierarchy says which members are the parents of others.
type Hierarchy struct {
	Above     []column.Field // the attributes that have the parent's natural key
	Unmatched Outcome        // what to do when that is no member: unknown or stop

	above []Name
	at    diag.Place
}

// IsPersonal reports whether a column of the table has what may have to be erased.
func (d *Dimension) IsPersonal(name string) bool {
	for _, f := range d.Personal {
		if name == f.Name || name == CurrentColumn(f.Name) || name == PreviousColumn(f.Name) {
			return true
		}
	}
	return false
}

// Adopted is a table that stood before, whose members and keys a dimension begins with.
type Adopted struct {
	Table, Key string
	ValidFrom  string // the column that says since when a row holds; "" if a natural key has one row

	at diag.Place
}

// Departure is what becomes of a member or a fact that is not delivered any more.
type Departure string

// The departures.
const (
	Keep   Departure = "keep"
	Flag   Departure = "flag"
	Close  Departure = "close"  // of a member
	Remove Departure = "remove" // of a fact

	ReverseGone Departure = "reverse" // of a fact whose entries stay
)

// Marked reports whether the dimension marks members that are gone.
func (d *Dimension) Marked() bool { return d.Deliveries != nil && d.Deliveries.Gone != Keep }

// Closes reports whether members that are gone get a version that says so.
func (d *Dimension) Closes() bool { return d.Deliveries != nil && d.Deliveries.Gone == Close }

// CurrentColumn is the column of all versions that has the current value of a type 2 attribute, and PreviousColumn
// the one that has what a type 3 attribute was before its last change.
func CurrentColumn(attribute string) string  { return "current_" + attribute }
func PreviousColumn(attribute string) string { return "previous_" + attribute }

// Delivers returns the column of the source that says what a column of the table is.
func (d *Dimension) Delivers(name string) string {
	for _, f := range d.Current {
		if name == CurrentColumn(f.Name) {
			return f.Name
		}
	}
	return name
}

// Observed reports whether all that was observed of members is kept, because the row of a version does not say enough
// to fit in what comes late: see [Dimension.Complete].
func (d *Dimension) Observed() bool {
	return d.changes() || d.Effective != nil && len(d.Type0)+len(d.Type3) > 0
}

// Complete reports whether each observation is kept apart; else only those that made no version are.
func (d *Dimension) Complete() bool { return d.Observed() && (!d.changes() || len(d.Type3) > 0) }

// Attributes lists all types of them in the order of the source, with the columns that stand beside them.
func (d *Dimension) Attributes() []column.Field {
	var order, list []column.Field
	switch {
	case d.Rows != nil:
		order = d.Rows.Fields
	case d.Source != nil:
		order = d.Source.Fields()
	}
	for _, f := range order {
		for _, of := range [][]column.Field{d.Type0, d.Type1, d.Type2, d.Type3} {
			if column.Find(of, f.Name) >= 0 {
				list = append(list, f)
			}
		}
		if column.Find(d.Type3, f.Name) >= 0 {
			list = append(list, column.Field{Name: PreviousColumn(f.Name), Type: f.Type})
		}
		if column.Find(d.Current, f.Name) >= 0 {
			list = append(list, column.Field{Name: CurrentColumn(f.Name), Type: f.Type})
		}
	}
	return list
}

// KeyColumn is the name of the dimension's surrogate key.
func (d *Dimension) KeyColumn() string {
	if d.LookedUp != nil {
		return d.LookedUp.Key
	}
	return d.Text + "_key"
}

// DurableColumn is the name of the key that is the same for all versions of a member.
func (d *Dimension) DurableColumn() string { return d.Text + "_durable_key" }

// MemberColumn is the name of the key by which members are told apart, whatever their versions.
func (d *Dimension) MemberColumn() string {
	if d.Durable {
		return d.DurableColumn()
	}
	return d.KeyColumn()
}

// LevelColumn is the name of the column that has a member's level in the hierarchy.
func (d *Dimension) LevelColumn() string { return d.Text + "_level" }

// Special is a special member (rule R21): its key, which is negative, and what its text attributes say.
type Special struct {
	Kind  Outcome // the rule that points to it
	Key   int64
	Label string
	First bool // of a calendar: its sort_order is before those of all dates
}

// The special members, as they are unless the model says otherwise.
var (
	Unknown       = Special{Kind: ToUnknown, Key: -1, Label: "Unknown"}
	NotYet        = Special{Kind: ToNotYet, Key: -2, Label: "Not yet"}
	NotApplicable = Special{Kind: NotApplying, Key: -3, Label: "Not applicable"}
	Unreadable    = Special{Kind: ToUnreadable, Key: -4, Label: "Unreadable"}
)

// AllSpecials lists the special members that a dimension can have, unknown first.
func AllSpecials() []Special { return []Special{Unknown, NotYet, NotApplicable, Unreadable} }

// Special returns a special member as the dimension has it.
func (d *Dimension) Special(s Special) Special {
	for _, own := range d.text.specials {
		if own.Kind == s.Kind {
			return own
		}
	}
	return s
}

// Rows are the rows of a static dimension, typed.
type Rows struct {
	Fields []column.Field
	Batch  *column.Batch

	columns []Column
	nodes   []map[string]Name
	places  []diag.Place
}

// Outcome is what a rule does with a key that is missing, unmatched or outside (rules R1 and R2).
type Outcome string

// The outcomes.
const (
	Infer       Outcome = "infer"
	ToUnknown   Outcome = "unknown"
	SetAside    Outcome = "set_aside"
	Stop        Outcome = "stop"
	LeaveEmpty  Outcome = "leave_empty"
	ToNotYet    Outcome = "not_yet"
	NotApplying Outcome = "not_applicable"

	ToUnreadable Outcome = "unreadable" // what was delivered is no value of its type
	Nearest      Outcome = "nearest"
)

// Key is a foreign key of a fact or, as an outrigger, of a dimension.
type Key struct {
	Name
	Dimension *Dimension
	By        []string // columns of the source, in the order of the dimension's natural key
	Unread    []string // columns of the source that say that what was delivered of one in By could not be read
	AsOf      string   // column of the source that says which version; "" is the current one
	Unmatched Outcome
	Missing   Outcome
	Outside   Outcome
	Type2     bool // of a dimension: a change of it makes a version
	Again     bool // it is compared when the row comes again; else what was loaded stays
	Both      bool // the durable key is held beside that of the version
	Milestone bool // AsOf is a milestone of a fact: until it is told, the current version is meant

	dimension, asOf *Name
	by              []byName
	member          []Name // the member that is meant whatever a row says
	subject         string
	holds           *Name
	missingSaid     bool // the model says what to do with a missing key
}

// byName is one column of a key's by, with the natural key's column where the model says it outright.
type byName struct {
	column  Name
	natural *Name
}

// Column is the name of the key's column in the table that holds it: vessel_key, or booked_date_key
// where the role has a name of its own.
func (k *Key) Column() string {
	return k.named(k.Dimension.KeyColumn())
}

// DurableColumn is the name of the column that has the member's durable key.
func (k *Key) DurableColumn() string { return k.named(k.Dimension.DurableColumn()) }

// named returns a column of the dimension the name of the role.
func (k *Key) named(column string) string {
	if !k.Role() {
		return column
	}
	return k.Text + "_" + column
}

// Role reports whether the key has a name of its own.
func (k *Key) Role() bool { return k.Text != k.Dimension.Text }

// Fact is a fact table.
type Fact struct {
	Name
	Said       Described
	Source     *Source
	Grain      []GrainPart
	Keys       []*Key
	Measures   []column.Field
	Additive   Additive
	Degenerate []column.Field // the grain's columns, the times that keys are as of, NewerBy and scopes, too
	Repeated   Repeated
	NewerBy    *column.Field // says which of two rows of a grain is newer; nil if the order of arrival does
	Deliveries *Deliveries   // nil if the source delivers changes
	Completion *Completion   // which columns later rows fill or change; nil if none do
	BookedOn   *column.Field // says on which day an entry is booked; nil if the run does
	Partition  *Partition    // how the table is divided; nil if it is not
	Limits     Limits
	MustHold   []*Must
	Newest     []Newest

	execute, from, newerBy, bookedOn *Name
	partition                        partitionText
	grain, measures, degenerate      []Name
	deliveries                       deliveriesText
}

// Execution says where a fact, or a dimension, is loaded; "" leaves that to the program.
type Execution string

// The places: the program reads all rows; or the warehouse loads rows that it has already, but for those that need a
// second look.
const (
	InProcess   Execution = "in_process"
	InWarehouse Execution = "in_warehouse"
)

// Execution says where a fact is loaded, and which place says so: that of the fact if none does.
func (m *Model) Execution(f *Fact) (Execution, diag.Place) {
	if m.executeAll != "" {
		return m.executeAll, f.At
	}
	for _, said := range []*Name{f.execute, m.execute} {
		if said != nil {
			return Execution(said.Text), said.At
		}
	}
	return "", f.At
}

// ExecutionOf is [Model.Execution] for a dimension. demanded says that the dimension itself says it: what is said of all is
// for those dimensions that can be loaded there.
func (m *Model) ExecutionOf(d *Dimension) (where Execution, at diag.Place, demanded bool) {
	switch {
	case m.executeAll != "":
		return m.executeAll, d.At, d.execute != nil && Execution(d.execute.Text) == m.executeAll
	case d.execute != nil:
		return Execution(d.execute.Text), d.execute.At, true
	case m.execute != nil:
		return Execution(m.execute.Text), m.execute.At, false
	}
	return "", d.At, false
}

// Execute says where all facts and dimensions are loaded, whatever the model says.
func (m *Model) Execute(e Execution) { m.executeAll = e }

// Execute has the model say where the fact is loaded.
func (f *Fact) Execute(e Execution) { f.execute = &Name{Text: string(e), At: f.At} }

// Execute has the model say where the dimension is loaded.
func (d *Dimension) Execute(e Execution) { d.execute = &Name{Text: string(e), At: d.At} }

// Marked reports whether the fact marks rows that are gone.
func (f *Fact) Marked() bool { return f.Deliveries != nil && f.Deliveries.Gone == Flag }

// Removes reports whether rows that are gone are removed from the fact.
func (f *Fact) Removes() bool { return f.Deliveries != nil && f.Deliveries.Gone == Remove }

// Reverses reports whether what was booked stays: a row that comes again with other values adds entries to the fact.
func (f *Fact) Reverses() bool { return f.Repeated == ReverseRepeated }

// Repeated is what becomes of a row whose grain is there already with other values (rule R17).
type Repeated string

// The rules for repeated rows.
const (
	AsideRepeated    Repeated = "set_aside"
	ReplaceRepeated  Repeated = "replace"  // the later row counts
	CompleteRepeated Repeated = "complete" // the later row counts in the columns that may change
	ReverseRepeated  Repeated = "reverse"  // the row that is there is reversed by another, and the later row is added
	SumRepeated      Repeated = "sum"      // rows of one load are one, with the sums of their measures
	KeepRepeated     Repeated = "keep"     // the row that is there counts
	StopRepeated     Repeated = "stop"
)

// GrainPart is a key or, if that is nil, a column of the source.
type GrainPart struct {
	Key    *Key
	Column string
}

// Special reports whether a rule gives a key that does not tell which natural key was delivered.
func (o Outcome) Special() bool {
	return o == ToUnknown || o == LeaveEmpty || o == ToNotYet || o == NotApplying || o == ToUnreadable
}

// Stands reports whether row j of a column of keys is what the rule makes of a natural key that has no member in d.
func (o Outcome) Stands(d *Dimension, c *column.Column, j int) bool {
	if c.Null[j] || o == LeaveEmpty {
		return o == LeaveEmpty && c.Null[j]
	}
	key, ok := o.Key(d)
	return ok && c.Int[j] == key
}

// Key returns the key of the special member of d that a rule means; false if it means none.
func (o Outcome) Key(d *Dimension) (int64, bool) {
	for _, s := range AllSpecials() {
		if s.Kind == o {
			key, _ := d.KeyOf(s)
			return key, true
		}
	}
	return 0, false
}
