// Package trace tells where a row of the star comes from: the file and line of a fact, its values as read and as
// shaped, what each key was resolved to and why; of a member its whole history, and who points to it.
//
// Of a fact, the table keeps file and line, one integer a row; all else is read again where it stands: in the
// file, the tables, the ledger.
package trace

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/ledger"
	"ironmonger/internal/parse"
	"ironmonger/internal/resolve"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/standing"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
	"ironmonger/internal/warehouse"
)

// Value is a named value as text; null is nil.
type Value struct {
	Name  string  `json:"name"`
	Value *string `json:"value"`
}

// Run is what a run had to do with a row.
type Run struct {
	Run  int64  `json:"run"`
	At   string `json:"at"` // when it started, UTC
	Step string `json:"step"`
	Did  string `json:"did"`
}

// Origin is where a row stands in the sources.
type Origin struct {
	Place  string   `json:"place"` // file and line
	Fault  string   `json:"fault,omitempty"`
	Read   []Value  `json:"as_read,omitempty"`
	Shaped []Value  `json:"as_shaped,omitempty"`
	Joined []Joined `json:"joined,omitempty"` // rows of other sources that completed it
}

// Joined is a row of another source that completed one.
type Joined struct {
	Join   string `json:"join"`
	Source string `json:"source"`
	Place  string `json:"place"` // file and line
}

// Key is a key of a fact.
type Key struct {
	Key       string  `json:"key"`
	Column    string  `json:"column"`
	Surrogate *string `json:"surrogate_key"`
	Delivered string  `json:"natural_key_delivered,omitempty"` // as shaped; if the file still has it
	Member    string  `json:"member"`                          // its natural key, or the special member's label
	From      string  `json:"valid_from,omitempty"`
	To        string  `json:"valid_to,omitempty"`
	Because   string  `json:"because"`
}

// Fact is a row of a fact.
type Fact struct {
	Fact   string  `json:"fact"`
	Row    []Value `json:"row"`
	Origin *Origin `json:"origin"`
	Keys   []Key   `json:"keys"`

	Entries [][]Value `json:"entries,omitempty"` // where what was booked stays: all rows of its grain, the first comes first

	Runs []Run `json:"runs"` // the one that wrote it first, then those that pointed rows of its table elsewhere
}

// ErrNone says that there is no such row.
var ErrNone = errors.New("there is no such row")

// tracer looks things up.
type tracer struct {
	ctx   context.Context
	r     warehouse.Reader
	root  *os.Root
	model *star.Model
	star  *schema.Star
	runs  []*ledger.Run // the first comes first
}

// inputs returns where the sources are read, whose files were delivered when the ledger says it.
func (t *tracer) inputs() (*source.Inputs, error) {
	in := &source.Inputs{Model: t.model, Root: t.root, Star: standing.New(t.r, t.star)}
	return in, ledger.EachDelivered(t.ctx, t.r, func(s, name string, day int64) {
		in.Deliver(source.FileOf{Source: s, Name: name}, day)
	})
}

func newTracer(ctx context.Context, r warehouse.Reader, root *os.Root, m *star.Model) (*tracer, error) {
	t := &tracer{ctx: ctx, r: r, root: root, model: m, star: schema.New(m)}
	var err error
	t.runs, err = ledger.Runs(ctx, r, 0)
	t.runs = ledger.Lasting(t.runs)
	slices.Reverse(t.runs)
	return t, err
}

// Typed reads values from words, one for each field.
func Typed(fields []column.Field, words []string, what string) ([]column.Column, error) {
	if len(words) != len(fields) {
		return nil, fmt.Errorf(
			"%s is %s: %d values, not %d",
			what,
			strings.Join(column.Names(fields), ", "),
			len(fields),
			len(words),
		)
	}
	cols := make([]column.Column, len(fields))
	for k, f := range fields {
		cols[k].Type = f.Type
		cols[k].Resize(1)
		if err := parse.NewReader(nil).Set(&cols[k], 0, words[k]); err != nil {
			return nil, fmt.Errorf("%s: %s %w", f.Name, words[k], err)
		}
	}
	return cols, nil
}

// rows reads the rows of a table that have the given values.
func (t *tracer) rows(
	table *warehouse.Table,
	by []string,
	match []column.Column,
	order ...string,
) (*column.Batch, error) {
	cols := make([]*column.Column, len(match))
	for k := range match {
		cols[k] = &match[k]
	}
	return warehouse.ReadAll(
		t.ctx,
		t.r,
		warehouse.Query{
			Table:   table.Name,
			Fields:  table.Fields(),
			Convert: table.Borrowed,
			By:      by,
			Match:   cols,
			OrderBy: order,
		},
	)
}

func values(fields []column.Field, b *column.Batch, i int) []Value {
	list := make([]Value, len(fields))
	for k, f := range fields {
		list[k] = Value{f.Name, text(&b.Cols[k], i)}
	}
	return list
}

func text(c *column.Column, i int) *string {
	if c.Null[i] {
		return nil
	}
	s := c.Value(i)
	return &s
}

// OfFact traces the row of a fact that has the given grain; of a key in the grain, its natural key is given.
func OfFact(
	ctx context.Context,
	r warehouse.Reader,
	root *os.Root,
	m *star.Model,
	f *schema.Fact,
	grain []string,
) (*Fact, error) {
	t, err := newTracer(ctx, r, root, m)
	if err != nil {
		return nil, err
	}
	b, err := t.find(f, grain)
	if err != nil {
		return nil, err
	}
	fields := f.Table.Fields()
	var entries [][]Value
	if f.Reverses() {
		for i := range b.N {
			entries = append(entries, values(fields, b, i))
		}
		b = only(b, b.N-1)
	}
	found := &Fact{Fact: f.Text, Row: values(fields, b, 0), Entries: entries}
	at := func(name string) *column.Column { return &b.Cols[column.Find(fields, name)] }
	var rows []transform.At
	if found.Origin, rows, err = t.origin(f, b, at(schema.LoadLine).Int[0]); err != nil {
		return nil, err
	}
	if err := t.fromOneOf(rows, f, b, found); err != nil {
		return nil, err
	}
	found.Runs, err = t.history(f, b)
	return found, err
}

// Parameters returns the values that the parameters had in the run which read the file of a fact first.
func Parameters(
	ctx context.Context,
	r warehouse.Reader,
	root *os.Root,
	m *star.Model,
	f *schema.Fact,
	grain []string,
) (map[string]string, error) {
	t, err := newTracer(ctx, r, root, m)
	if err != nil {
		return nil, err
	}
	b, err := t.find(f, grain)
	if err != nil {
		return nil, err
	}
	number, _ := ledger.FileAndLine(b.Cols[column.Find(f.Table.Fields(), schema.LoadLine)].Int[b.N-1])
	files, err := ledger.FilesKnown(ctx, r)
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		for _, run := range t.runs {
			if file.Number == number && run.ID == file.FirstRun {
				return run.Parameters, nil
			}
		}
	}
	return nil, nil
}

// only returns a batch of row i of another.
func only(b *column.Batch, i int) *column.Batch {
	row := &column.Batch{N: 1, Cols: make([]column.Column, len(b.Cols))}
	for k := range row.Cols {
		row.Cols[k].Type = b.Cols[k].Type
		row.Cols[k].Append(&b.Cols[k], i)
	}
	return row
}

// fromOneOf tells what the keys of a fact point to, as the first of the rows of its line says that agrees with
// them; most lines make one row.
func (t *tracer) fromOneOf(rows []transform.At, f *schema.Fact, b *column.Batch, found *Fact) error {
	if len(rows) == 0 {
		rows = []transform.At{{Row: -1}}
	}
	for _, row := range rows {
		var keys []Key
		agrees := true
		for _, k := range f.Keys {
			key, err := t.key(f, k, b, row.Batch, row.Row)
			if err != nil {
				return err
			}
			keys, agrees = append(keys, key), agrees && key.Because != otherKey
		}
		if found.Keys == nil || agrees {
			found.Keys = keys
			if row.Batch != nil {
				found.Origin.Shaped = values(f.Source.Fields(), row.Batch, row.Row)
			}
		}
		if agrees {
			return nil
		}
	}
	return nil
}

// otherKey is why a key is not explained.
const otherKey = "the line now says another natural key: the file was changed since"

// find reads the row with a grain.
func (t *tracer) find(f *schema.Fact, grain []string) (*column.Batch, error) {
	table := f.Table.Fields()
	var asked []column.Field // what is to be given: columns, and the natural keys of keys
	for _, g := range f.Grain {
		if g.Key == nil {
			asked = append(asked, table[column.Find(table, g.Column)])
		} else {
			asked = append(asked, g.Key.Dimension.NaturalKey...)
		}
	}
	given, err := Typed(asked, grain, "the grain of "+f.Text)
	if err != nil {
		return nil, err
	}
	match := make([]column.Column, len(f.Grain)) // with every version of a member
	for k, name := range f.GrainColumns() {
		match[k].Type = table[column.Find(table, name)].Type
	}
	var fill func(n, used int, row []*column.Column, at []int) error
	fill = func(n, used int, row []*column.Column, at []int) error {
		if n == len(f.Grain) {
			for k := range match {
				match[k].Append(row[k], at[k])
			}
			return nil
		}
		g := f.Grain[n]
		if g.Key == nil {
			return fill(n+1, used+1, append(row, &given[used]), append(at, 0))
		}
		d := t.star.Dimension(g.Key.Dimension)
		parts := len(d.NaturalKey)
		match, err := t.natural(d, grain[used:used+parts])
		if err != nil {
			return err
		}
		members, err := t.rows(d.Table, column.Names(d.NaturalKey), match)
		if err != nil {
			return err
		}
		for i := range members.N {
			if err := fill(n+1, used+parts, append(row, &members.Cols[0]), append(at, i)); err != nil {
				return err
			}
		}
		return nil
	}
	if err := fill(0, 0, nil, nil); err != nil {
		return nil, err
	}
	if len(match[0].Null) == 0 {
		return nil, ErrNone
	}
	var order []string
	if f.Reverses() {
		order = []string{star.EntryNumber}
	}
	b, err := t.rows(f.Table, f.GrainColumns(), match, order...)
	if err == nil && b.N == 0 {
		err = ErrNone
	}
	return b, err
}

// origin reads the line that a fact came from, as it stands, and returns the rows that it makes which say what the
// fact says.
func (t *tracer) origin(f *schema.Fact, fact *column.Batch, at int64) (*Origin, []transform.At, error) {
	names, err := ledger.FileNames(t.ctx, t.r)
	if err != nil {
		return nil, nil, err
	}
	number, line := ledger.FileAndLine(at)
	o := &Origin{Place: diag.Place{File: names[number], Line: int(line)}.String()}
	in, err := t.inputs()
	if err != nil {
		return nil, nil, err
	}
	in.Places = true
	flow, err := transform.Open(t.ctx, in, f.Source, func(string) bool { return true })
	if err != nil {
		o.Fault = "the sources cannot be read as the model has them: " + err.Error()
		return o, nil, nil
	}
	columns := append(slices.Clone(f.Degenerate), f.Measures...)
	var rows []transform.At
	var first transform.At
	other := ""
	for row, err := range flow.Rows(t.ctx, names[number], line) {
		if err != nil {
			break
		}
		if differs := differing(columns, f, fact, flow, row); differs == "" {
			rows = append(rows, row)
		} else {
			other = differs
		}
		if first.Batch == nil {
			first = row
		}
	}
	if first.Batch == nil {
		o.Fault = "the file is gone, or has no row there any more"
		return o, nil, nil
	}
	if o.Read, err = t.asRead(in, f.Source, names[number], line); err != nil {
		return nil, nil, err
	}
	if len(rows) > 0 {
		first = rows[0]
	}
	o.Shaped = values(f.Source.Fields(), first.Batch, first.Row)
	for _, j := range flow.Joined(diag.Place{File: names[number], Line: int(line)}) {
		o.Joined = append(o.Joined, Joined{j.Join, j.Source, j.Place.String()})
	}
	if len(rows) == 0 {
		o.Fault = "the line now has another " + other + ": the file was changed since"
	}
	return o, rows, nil
}

// differing names a column of a fact that has another value than a row of its source; it is empty where none has.
func differing(
	columns []column.Field,
	f *schema.Fact,
	fact *column.Batch,
	flow *transform.Flow,
	row transform.At,
) string {
	table := f.Table.Fields()
	for _, c := range columns {
		have, said := &fact.Cols[column.Find(table, c.Name)], &row.Cols[column.Find(flow.Fields(), c.Name)]
		if !have.Equal(0, said, row.Row) {
			return c.Name
		}
	}
	return ""
}

// asRead finds the row at a line of a file in the source that reads it, s or one that s is made of.
func (t *tracer) asRead(in *source.Inputs, s *star.Source, name string, line int64) ([]Value, error) {
	if !s.Reads() {
		for _, o := range s.Made() {
			if read, err := t.asRead(in, o, name, line); read != nil || err != nil {
				return read, err
			}
		}
		return nil, nil
	}
	if s.DrivenBy != nil { // its files are told by the list
		return nil, nil
	}
	plain, err := in.AsRead(t.ctx, s, t.model.Bound)
	if err != nil {
		return nil, err
	}
	raw, err := in.Open(t.ctx, plain, t.model.Bound, func(string) bool { return true })
	if err != nil {
		return nil, err
	}
	read := column.NewBatch(plain.Fields())
	n, err := raw.Row(t.ctx, name, line, read)
	if err != nil || n < 0 {
		return nil, err
	}
	return values(plain.Fields(), read, n), nil
}

// key tells what a key points to and why.
func (t *tracer) key(f *schema.Fact, k *star.Key, fact, shaped *column.Batch, row int) (Key, error) {
	d := t.star.Dimension(k.Dimension)
	c := &fact.Cols[column.Find(f.Table.Fields(), k.Column())]
	out := Key{Key: k.Text, Column: k.Column(), Surrogate: text(c, 0)}
	missing := false
	var said []string
	var asOf *string
	if shaped != nil {
		fields := f.Source.Shaped()
		var parts []string
		for _, name := range k.By {
			by := &shaped.Cols[column.Find(fields, name)]
			missing = missing || by.Null[row]
			parts = append(parts, name+" "+shown(text(by, row)))
			if s := text(by, row); s != nil {
				said = append(said, *s)
			}
		}
		out.Delivered = strings.Join(parts, ", ")
		if k.AsOf != "" {
			asOf = text(&shaped.Cols[column.Find(fields, k.AsOf)], row)
		}
	}
	special := c.Null[0] || c.Int[0] < 0
	switch {
	case missing:
		out.Because = "missing: a part of the natural key is null, and the rule is " + string(k.Missing)
		for _, name := range k.Unread {
			if resolve.IsUnread(shaped, []int{column.Find(f.Source.Shaped(), name)}, row) {
				out.Because = "unreadable: a part of the natural key is no value of its type"
			}
		}
	case special && shaped == nil:
		out.Because = "missing, unmatched or outside: a rule of the model points such rows there"
	case special:
		out.Because = "unmatched, and the rule is " + string(k.Unmatched)
		if k.AsOf != "" && k.Outside == star.ToUnknown {
			out.Because = "unmatched or outside; the rule is unknown"
		}
	}
	if c.Null[0] {
		out.Member = "nothing"
		return out, nil
	}
	match := column.Column{Type: c.Type}
	match.Append(c, 0)
	b, err := t.rows(d.Table, []string{d.KeyColumn()}, []column.Column{match})
	if err != nil {
		return out, err
	}
	if b.N == 0 {
		out.Member, out.Because = "none", "no member has this key"
		return out, nil
	}
	fields := d.Table.Fields()
	if special {
		for _, s := range d.Specials {
			if s.Key == c.Int[0] {
				out.Member = s.Label
			}
		}
		return out, nil
	}
	out.Member = natural(d, b, 0)
	inferred := d.Inferable() && b.Cols[column.Find(fields, schema.IsInferred)].Int[0] != 0
	why := "matched"
	if in, filled, err := ledger.InferredIn(t.ctx, t.r, d.Text, c.Int[0]); err != nil {
		return out, err
	} else if inferred {
		why = fmt.Sprintf("unmatched, so the member was inferred in run %d; its source has not described it yet", in)
	} else if in > 0 {
		why = fmt.Sprintf("the member was inferred in run %d and filled in run %d", in, filled)
	}
	if d.Versioned() {
		from, to := &b.Cols[column.Find(fields, d.ValidFrom)], &b.Cols[column.Find(fields, d.ValidTo)]
		out.From, out.To = from.Value(0), to.Value(0)
		switch {
		case k.AsOf == "":
			why += "; the version that was current when the fact was loaded"
		case asOf == nil:
			why += "; the version of its " + k.AsOf
		case *asOf < out.From || *asOf >= out.To: // ISO 8601 is in order of time
			why += fmt.Sprintf("; outside every version on %s; the rule is nearest", *asOf)
		default:
			why += fmt.Sprintf("; the version that is valid on %s", *asOf)
		}
	}
	out.Because = why
	if s := strings.Join(said, ", "); s != out.Member && said != nil &&
		!(d.Calendar != nil && strings.HasPrefix(s, out.Member)) && !(d.Clock != nil && atTime(d, s, out.Member)) {
		out.Because = otherKey
	}
	return out, nil
}

// atTime reports whether a timestamp or a time is in a time of the dimension's clock.
func atTime(d *schema.Dimension, said, member string) bool {
	c := column.Column{Type: d.NaturalKey[0].Type}
	c.Resize(1)
	if _, clock, timed := strings.Cut(said, " "); timed {
		said = clock
	}
	return parse.NewReader(nil).Set(&c, 0, said) == nil && string(column.AppendInt(nil, c.Type.Kind, d.Clock.Start(c.Int[0]))) == member
}

func shown(s *string) string {
	if s == nil {
		return "null"
	}
	return "‹" + *s + "›"
}

// natural returns the natural key of a row of a dimension.
func natural(d *schema.Dimension, b *column.Batch, i int) string {
	var parts []string
	for k := range d.NaturalKey {
		if s := text(&b.Cols[1+k], i); s != nil {
			parts = append(parts, *s)
		}
	}
	return strings.Join(parts, ", ")
}

// history tells which run wrote a row of a fact, and which have pointed rows of the table to other versions since: of
// those only such as have written to a member that the row points to.
func (t *tracer) history(f *schema.Fact, fact *column.Batch) ([]Run, error) {
	fields := f.Table.Fields()
	wrote := fact.Cols[column.Find(fields, schema.LoadRun)].Int[0]
	written := map[string]int64{} // by step of a dimension, the last run that wrote to the row's member
	for _, k := range f.Keys {
		c := &fact.Cols[column.Find(fields, k.Column())]
		if !k.Dimension.Versioned() || c.Null[0] {
			continue
		}
		d := t.star.Dimension(k.Dimension)
		match := column.Column{Type: c.Type}
		match.Append(c, 0)
		b, err := t.rows(d.Table, []string{d.KeyColumn()}, []column.Column{match})
		if err == nil && b.N > 0 {
			b, err = t.rows(d.Table, column.Names(d.NaturalKey), b.Cols[1:1+len(d.NaturalKey)])
		}
		if err != nil {
			return nil, err
		}
		for _, run := range b.Cols[len(b.Cols)-1].Int {
			written["dimension "+d.Text] = max(written["dimension "+d.Text], run)
		}
	}
	elsewhere := int64(0) // rows of the table that the run which wrote the row last pointed to other versions
	for _, run := range t.runs {
		for _, s := range run.Steps {
			if run.ID == wrote {
				elsewhere += s.Figures.Repointed[f.Table.Name]
			}
		}
	}
	list := []Run{}
	for _, run := range t.runs {
		at := run.StartedAt.Format(time.DateTime)
		for _, s := range run.Steps {
			n := s.Figures.Repointed[f.Table.Name]
			switch own := s.Name == "fact "+f.Text && s.Figures.Inserted+s.Figures.Changed > 0 || len(s.Figures.Settled) > 0; {
			case own && run.ID == wrote && len(s.Figures.Settled) > 0:
				const what = "wrote the row, or pointed it to a member that came after it"
				list = append(list, Run{run.ID, at, s.Name, what})
			case own && run.ID == wrote && elsewhere == 0:
				list = append(list, Run{run.ID, at, s.Name, "wrote the row"})
			case own && run.ID <= wrote && elsewhere > 0:
				list = append(
					list,
					Run{
						run.ID,
						at,
						s.Name,
						fmt.Sprintf(
							"wrote rows of the table (%d), perhaps this one",
							s.Figures.Inserted+s.Figures.Changed,
						),
					},
				)
			case n > 0 && run.ID == wrote && run.ID <= written[s.Name]:
				list = append(list, Run{run.ID, at, s.Name, "pointed the row to another version"})
			case n > 0 && run.ID > wrote && run.ID <= written[s.Name]:
				list = append(
					list,
					Run{
						run.ID,
						at,
						s.Name,
						fmt.Sprintf("pointed rows of the table to other versions (%d), perhaps this one", n),
					},
				)
			}
		}
	}
	return list, nil
}
