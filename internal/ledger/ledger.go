// Package ledger keeps the book of what was loaded: runs, their steps with figures, the highest keys
// given, and the rows set aside. Its tables stand beside the star. What belongs to a step is written in
// the step's own transaction, so that the book is never ahead of the star nor behind it.
package ledger

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/transform"
	"ironmonger/internal/warehouse"
)

// States of runs and steps.
const (
	Running = "running"
	Broken  = "broken off" // a run that died
	Done    = "done"
	Failed  = "failed"
	NotRun  = "not run" // a step whose predecessor failed
	Undone  = "undone"  // a run that was taken back
)

// Run is an entry of load_run.
type Run struct {
	ID        int64      `json:"run"`
	State     string     `json:"state"`
	StartedAt time.Time  `json:"started_at"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	Program   string     `json:"program"`
	Holder    string     `json:"holder"`            // the process that ran it
	Message   string     `json:"message,omitempty"` // why it didn't start
	Dry       bool       `json:"dry_run,omitempty"` // nothing of it was written
	ModelFile string     `json:"model"`

	Parameters map[string]string `json:"parameters,omitempty"` // the values of the model's
	ModelText  string            `json:"-"`
	Steps      []*Step           `json:"steps,omitempty"`
}

// Day returns the day on which the run started, in UTC.
func (r *Run) Day() int64 { return civil.DayOf(r.StartedAt.UnixMicro()) }

// Step is an entry of load_step.
type Step struct {
	Run       int64      `json:"-"`
	Name      string     `json:"step"`
	State     string     `json:"state"`
	Message   string     `json:"message,omitempty"`
	StartedAt *time.Time `json:"started_at,omitempty"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	Figures   Figures    `json:"figures"`
}

// Took is how long the step took, less what it waited for others; 0 if it did not run.
func (s *Step) Took() time.Duration {
	if s.StartedAt == nil || s.EndedAt == nil {
		return 0
	}
	return s.EndedAt.Sub(*s.StartedAt) - time.Duration(s.Figures.Waited)*time.Millisecond
}

// Wrote reports whether a step of the run has changed a table of the star, or set rows aside.
func (r *Run) Wrote() bool {
	return slices.ContainsFunc(r.Steps, func(s *Step) bool {
		return s.State == Done && (s.Figures.SetAside > 0 || s.Figures.Wrote())
	})
}

// Wrote reports whether a step has changed a table of the star.
func (f *Figures) Wrote() bool {
	return f.Written()+f.Removed+f.Reversed+f.Gone+f.Back+f.Adopted+f.Renamed+f.Combined > 0 ||
		len(f.Met)+len(f.Inferred)+len(f.Repointed)+len(f.Settled) > 0
}

// Figures are what a step counted. Each row read is exactly one of inserted, new, versions, filled,
// changed, same, conflicts, older, kept, dropped, merged and set aside (rule R20).
type Figures struct {
	Read     int64 `json:"read"`
	SetAside int64 `json:"set_aside"`
	Same     int64 `json:"same"`

	Waited int64 `json:"waited_ms,omitempty"` // milliseconds, for steps that ran at the same time

	Inside int64 `json:"in_warehouse,omitempty"` // rows that the warehouse has dealt with by itself

	Unread int64 `json:"files_unchanged,omitempty"` // files that were not read, since their rows are known

	LeftOut int64            `json:"left_out,omitempty"`         // rows that are not meant, such as lines of totals
	Left    map[string]int64 `json:"left_out_because,omitempty"` // and why
	Dropped int64            `json:"dropped,omitempty"`          // by a join that says so of rows that nothing fits
	Merged  int64            `json:"merged,omitempty"`           // into others that are like them

	Inserted int64 `json:"inserted,omitempty"` // of a fact
	Older    int64 `json:"older,omitempty"`    // repeated rows that came before another of their grain
	Kept     int64 `json:"kept_out,omitempty"` // repeated rows that were not taken, since what is there counts

	New       int64 `json:"new,omitempty"`       // of a dimension: rows that made a member
	Versions  int64 `json:"versions,omitempty"`  // that made a further version of one
	Filled    int64 `json:"filled,omitempty"`    // that filled an inferred member
	Changed   int64 `json:"changed,omitempty"`   // that changed one without making a version; or replaced a fact
	Conflicts int64 `json:"conflicts,omitempty"` // that lost to another row of the same effective time

	Adopted  int64 `json:"adopted,omitempty"`  // rows of a table that stood before
	Renamed  int64 `json:"renamed,omitempty"`  // members known by an alias that have another natural key now
	Combined int64 `json:"combined,omitempty"` // members known by an alias that are part of others now

	Met map[string]int64 `json:"facts_met,omitempty"` // facts taken out of tables, since members became one and so their grain another's

	Gone    int64 `json:"gone,omitempty"`    // members or facts that a delivery of all, or a file, has no longer
	Back    int64 `json:"back,omitempty"`    // and that it has again
	Removed int64 `json:"removed,omitempty"` // facts that were removed since they are gone

	Reversed int64 `json:"reversed,omitempty"` // rows of a fact that reverse others

	Table int64 `json:"table_rows"` // in the step's table at its end

	Differs  []Difference `json:"differs,omitempty"`  // where tables hold other than the ledger's account says
	Accepted []Difference `json:"accepted,omitempty"` // and where the account was changed to what they hold, as asked for

	Attributes map[string]int64 `json:"attributes,omitempty"` // how many members or versions have another value in one than before

	Examples map[string][]string `json:"examples,omitempty"` // natural keys of the first members that rows made, changed and so on

	Inferred  map[string]int64      `json:"inferred,omitempty"`  // members made, by dimension
	Repointed map[string]int64      `json:"repointed,omitempty"` // rows of other tables pointed to another version
	Settled   map[string]int64      `json:"settled,omitempty"`   // facts pointed to members that came later, by key
	Keys      map[string]*KeyCounts `json:"keys,omitempty"`
	Totals    []Total               `json:"totals,omitempty"`
	Disagree  int64                 `json:"disagreeing,omitempty"`    // facts of which two rows of one time tell different things
	Empty     map[string]int64      `json:"empty_measures,omitempty"` // rows inserted without a value, by measure
	Reasons   []Reason              `json:"reasons,omitempty"`
	Stages    []transform.Count     `json:"stages,omitempty"` // what became of the source's rows on their way
	Passed    []transform.Passed    `json:"passed_over,omitempty"`
	Notes     []string              `json:"notes,omitempty"` // what people should know of the sources
	Unmet     []string              `json:"unmet,omitempty"` // what the model asks of a load that is done, and that is not so
}

// Written is the rows read that changed the table.
func (f Figures) Written() int64 { return f.Inserted + f.New + f.Versions + f.Filled + f.Changed }

// Accounted is the rows of which it is known what became of them: all that were read (rule R20).
func (f Figures) Accounted() int64 {
	return f.Written() + f.Same + f.Conflicts + f.Older + f.Kept + f.SetAside + f.LeftOut + f.Dropped + f.Merged
}

// KeyCounts counts the outcomes of a key (rule R1), over the rows that passed all checks.
type KeyCounts struct {
	Matched   int64 `json:"matched"`
	Missing   int64 `json:"missing"`
	Unmatched int64 `json:"unmatched"`
	Outside   int64 `json:"outside"`

	Strays []Stray `json:"strays,omitempty"`      // the most frequent of the unmatched and outside
	More   int64   `json:"more_strays,omitempty"` // natural keys beyond these
}

// Stray is a natural key that was unmatched or outside, with the place of its first row.
type Stray struct {
	Outcome string `json:"outcome"` // unmatched or outside
	Rule    string `json:"rule"`    // what became of its rows
	Natural string `json:"natural_key"`
	Rows    int64  `json:"rows"`
	File    string `json:"file"`
	Line    int64  `json:"line"`

	Earliest string `json:"earliest,omitempty"` // of those outside: the times of the rows, from the first
	Latest   string `json:"latest,omitempty"`   // to the last
}

// Total is the account of a measure, as exact decimals.
type Total struct {
	Measure  string `json:"measure"`
	Read     string `json:"read"`
	Inserted string `json:"inserted"`
	Same     string `json:"same"`
	Changed  string `json:"changed,omitempty"`  // of rows that replaced others
	Replaced string `json:"replaced,omitempty"` // and of those that they replaced
	Reversed string `json:"reversed,omitempty"` // of rows that reverse others
	Written  string `json:"written,omitempty"`  // where rows complete facts, in place of those: what stands then
	Older    string `json:"older,omitempty"`
	Kept     string `json:"kept_out,omitempty"`
	SetAside string `json:"set_aside"`
	Removed  string `json:"removed,omitempty"` // of facts that were removed
	Table    string `json:"table"`             // in the step's table at its end
}

// Reason is how many rows were set aside for a reason, and the place of the first.
type Reason struct {
	Reason string `json:"reason"`
	Rows   int64  `json:"rows"`
	File   string `json:"file"`
	Line   int64  `json:"line"`
	Detail string `json:"detail,omitempty"`
}

// Reasons counts reasons, keeping the first example of each.
type Reasons map[string]*Reason

// Count adds a fault of a batch.
func (r Reasons) Count(b *column.Batch, f *column.Fault) {
	name := diag.Storable(f.Reason)
	known := r[name]
	if known == nil {
		known = &Reason{Reason: name, File: b.From.File, Line: b.From.Line[f.Row], Detail: f.Detail}
		r[name] = known
	}
	known.Rows++
}

// List returns the reasons, the most frequent first.
func (r Reasons) List() []Reason {
	var list []Reason
	for _, reason := range r {
		list = append(list, *reason)
	}
	slices.SortFunc(list, func(a, b Reason) int {
		return cmp.Or(cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Reason, b.Reason))
	})
	return list
}

// row writes values into a new row of a batch, in the order of the fields. Times are UTC; nil is null.
func row(b *column.Batch, values ...any) {
	for k, v := range values {
		c := &b.Cols[k]
		switch v := v.(type) {
		case int64:
			c.AppendInt(v)
		case string:
			c.AppendText(v)
		case time.Time:
			c.AppendInt(v.UnixMicro())
		case *time.Time:
			if v == nil {
				c.AppendNull()
			} else {
				c.AppendInt(v.UnixMicro())
			}
		case nil:
			c.AppendNull()
		default:
			panic(fmt.Sprintf("ledger: a value of type %T has no column", v))
		}
	}
	b.N++
}

func appendRow(ctx context.Context, tx warehouse.Tx, t *warehouse.Table, values ...any) error {
	b := column.NewBatch(t.Fields())
	row(b, values...)
	return warehouse.AppendAll(ctx, tx, t, b)
}

// amendRow changes one row: first the value of the key fields, then the others, named.
func amendRow(ctx context.Context, tx warehouse.Tx, t *warehouse.Table, by int, names []string, values ...any) error {
	b := column.NewBatch(pick(t, names...))
	row(b, values...)
	_, err := tx.Amend(ctx, t.Name, by, pick(t, names...), b)
	return err
}

// replace puts rows in place of those that have a text in a column, unless they are the same.
func replace(ctx context.Context, tx warehouse.Tx, t *warehouse.Table, by, text string, rows *column.Batch) error {
	gone := column.NewBatch(pick(t, by))
	row(gone, text)
	q := warehouse.Query{Table: t.Name, Fields: t.Fields(), By: []string{by}, Match: column.Pointers(gone.Cols)}
	old, err := warehouse.ReadAll(ctx, tx, q)
	if err != nil || slices.Equal(rowTexts(t, old), rowTexts(t, rows)) {
		return err
	}
	if old.N > 0 {
		if _, err := tx.Remove(ctx, t.Name, pick(t, by), gone); err != nil {
			return err
		}
	}
	return warehouse.AppendAll(ctx, tx, t, rows)
}

// rowTexts returns rows as texts, sorted.
func rowTexts(t *warehouse.Table, b *column.Batch) []string {
	list := make([]string, b.N)
	for i := range list {
		list[i] = RowText(t.Fields(), column.Pointers(b.Cols), i)
	}
	slices.Sort(list)
	return list
}

func pick(t *warehouse.Table, names ...string) []column.Field {
	all := t.Fields()
	fields := make([]column.Field, len(names))
	for i, n := range names {
		fields[i] = all[column.Find(all, n)]
	}
	return fields
}

// StartRun makes the entry of a new run and gives it its number. The caller holds the warehouse, so a run that
// is said to go on has died.
func StartRun(ctx context.Context, tx warehouse.Tx, r *Run) error {
	known, err := warehouse.ReadAll(
		ctx,
		tx,
		warehouse.Query{Table: runTable.Name, Fields: pick(runTable, "run", "state")},
	)
	if err != nil {
		return err
	}
	parameters, err := json.Marshal(r.Parameters)
	if err != nil {
		return err
	}
	r.ID, r.State, r.StartedAt = 1, Running, r.StartedAt.UTC()
	for i, id := range known.Cols[0].Int {
		r.ID = max(r.ID, id+1)
		if known.Cols[1].Text[i] == Running {
			if err := amendRow(ctx, tx, runTable, 1, []string{"run", "state"}, id, Broken); err != nil {
				return err
			}
		}
	}
	return appendRow(
		ctx,
		tx,
		runTable,
		r.ID,
		r.State,
		r.StartedAt,
		nil,
		r.Program,
		r.Holder,
		string(parameters),
		r.ModelFile,
		r.ModelText,
		orNull(r.Message),
		nil,
	)
}

// EndRun writes how a run ended.
func EndRun(ctx context.Context, tx warehouse.Tx, r *Run, state string, at time.Time) error {
	r.State, at = state, at.UTC()
	r.EndedAt = &at
	return amendRow(ctx, tx, runTable, 1, []string{"run", "state", "ended_at"}, r.ID, state, at)
}

// WriteStep makes the entry of a step.
func WriteStep(ctx context.Context, tx warehouse.Tx, s *Step) error {
	figures, err := json.Marshal(&s.Figures)
	if err != nil {
		return err
	}
	var message any
	if s.Message != "" {
		message = s.Message
	}
	f := &s.Figures
	return appendRow(
		ctx,
		tx,
		stepTable,
		s.Run,
		s.Name,
		s.State,
		message,
		s.StartedAt,
		s.EndedAt,
		f.Read,
		f.Written(),
		f.Same,
		f.SetAside,
		string(figures),
	)
}

// Highest returns the highest key ever given in a dimension, 0 if none, and the step that changed the
// dimension last.
func Highest(ctx context.Context, r warehouse.Reader, dimension string) (int64, string, error) {
	match := column.Column{Type: text}
	match.AppendText(dimension)
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{Table: keyTable.Name, Fields: pick(keyTable, "highest_key", "changed_by"),
			By: []string{"dimension"}, Match: []*column.Column{&match}},
	)
	if err != nil || b.N == 0 {
		return 0, "", err
	}
	return b.Cols[0].Int[0], b.Cols[1].Text[0], nil
}

// SetHighest keeps the highest key of a dimension and who changed it.
func SetHighest(ctx context.Context, tx warehouse.Tx, dimension string, key int64, by string) error {
	_, before, err := Highest(ctx, tx, dimension)
	if err != nil {
		return err
	}
	if before == "" {
		return appendRow(ctx, tx, keyTable, dimension, key, by)
	}
	return amendRow(ctx, tx, keyTable, 1, []string{"dimension", "highest_key", "changed_by"}, dimension, key, by)
}
