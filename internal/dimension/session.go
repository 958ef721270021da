// Package dimension adds members and versions to dimensions.
//
// A [Session] is what one step adds to a roster, an overlay: committed, it becomes part of the roster; rolled back,
// nothing remains. It infers the members that facts name. A [Feed] is the session of the step that loads the dimension
// itself. [Feed.Take] keeps the rows that may change something, and [Feed.Settle] has their history worked out (package
// history), and writes what that changes: rows of versions, observations that are kept apart, and the keys of rows that
// point to another version now. Where memory has no room for the rows, they go on disk, and one part after another is
// settled.
package dimension

import (
	"context"
	"fmt"
	"math"
	"slices"

	"ironmonger/internal/calendar"
	"ironmonger/internal/column"
	"ironmonger/internal/history"
	"ironmonger/internal/keyindex"
	"ironmonger/internal/ledger"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Session is what one step adds to a dimension. It is used by the step's sequencer alone.
type Session struct {
	x        *roster.Roster
	run      int64
	step     string
	index    *keyindex.Index // of the members that the step adds
	keys     []int64         // of these, by member number
	highest  int64
	full     bool    // there is no key beyond
	growth   *Growth // nil unless the dimension is a calendar that grows
	days     []*column.Column
	failed   error         // the calendar could not grow
	rows     *column.Batch // inferred members that are not written yet
	appender warehouse.Appender
	changed  bool
	inferred []int64 // keys of inferred members
	Added    int64   // rows written to the dimension's table
	Removed  int64   // and taken from it
}

// NewSession starts a step's overlay. step names the step and its run in the ledger.
func NewSession(x *roster.Roster, run int64, step string) *Session {
	s := &Session{x: x, run: run, step: step, index: roster.NewIndex(x.Dimension()), highest: x.Highest(),
		rows: column.NewBatch(x.Dimension().Table.Fields())}
	return s
}

// next returns a key that was never given (rule R6).
func (s *Session) next() int64 {
	return s.keysFor(1)
}

// keysFor takes n keys that were never given, and returns the first. Where there are not so many, what is written
// next fails.
func (s *Session) keysFor(n int64) int64 {
	d, first := s.x.Dimension(), s.x.Dimension().FirstKey
	if s.highest >= first {
		if s.full = s.full || d.KeyStep > math.MaxInt64-s.highest; s.full {
			return s.highest
		}
		first = s.highest + d.KeyStep
	}
	if s.full = s.full || n-1 > (math.MaxInt64-first)/d.KeyStep; s.full {
		return s.highest
	}
	s.highest = first + (n-1)*d.KeyStep
	return first
}

// Find looks a key up among the members that the step has added.
func (s *Session) Find(by []*column.Column, i int) (surrogate int64, ok bool) {
	if s.growth != nil {
		by, i = s.day(by, i), 0
	}
	if m := s.index.Get(by, i); m >= 0 {
		return s.keys[m], true
	}
	return 0, false
}

// Infer returns the key of a natural key that the roster does not have: of the member that the step has
// made for it, or makes now.
func (s *Session) Infer(by []*column.Column, i int) (surrogate int64, fresh bool) {
	if s.growth != nil {
		if surrogate, ok := s.Find(by, i); ok {
			return surrogate, false
		}
		return s.grow(s.day(by, i)[0].Int[0]), true
	}
	m, fresh := s.index.Add(by, i)
	if !fresh {
		return s.keys[m], false
	}
	durable := int64(0)
	if was := s.x.Former().Of(by, i); was != nil {
		surrogate, durable = was.Versions[0].Key, was.Durable
	} else {
		surrogate = s.next()
		durable = surrogate
	}
	s.keys = append(s.keys, surrogate)
	s.changed = true
	if s.x.Dimension().Inferable() {
		s.inferred = append(s.inferred, surrogate)
	}
	s.unfilled(surrogate, durable, by, i)
	return surrogate, true
}

// unfilled adds the row of an inferred member: for all time, with its natural key and nothing else
// (rules R12 and R22).
func (s *Session) unfilled(surrogate, durable int64, by []*column.Column, i int) {
	r := schema.Row{
		Key:      surrogate,
		Durable:  durable,
		From:     s.x.Rules().Beginning,
		To:       s.x.Rules().End,
		Current:  true,
		Inferred: true,
		Run:      s.run,
	}
	s.x.Dimension().AppendRow(s.rows, &r, unfilled{s.x.Dimension(), by, i})
}

// unfilled is the values of an inferred member. The columns of the natural key come first among those that ask for
// one.
type unfilled struct {
	dim     *schema.Dimension
	natural []*column.Column
	row     int
}

func (u unfilled) Append(c *column.Column, at int, role schema.Role) {
	switch name := u.dim.Table.Columns[at].Name; role {
	case schema.NaturalKey:
		c.Append(u.natural[column.Find(u.dim.NaturalKey, name)], u.row)
	case schema.OutriggerKey:
		unknown, _ := u.dim.UnknownKey(name)
		c.AppendInt(unknown)
	default:
		c.AppendNull()
	}
}

// Write sends the inferred members made since the last call to the warehouse.
func (s *Session) Write(ctx context.Context, tx warehouse.Tx) error {
	if s.failed != nil {
		return s.failed
	}
	if s.rows.N == 0 {
		return nil
	}
	if err := s.append(ctx, tx, s.rows); err != nil {
		return err
	}
	s.rows.Reset(0)
	return nil
}

func (s *Session) append(ctx context.Context, tx warehouse.Tx, b *column.Batch) error {
	return s.appendRows(ctx, tx, column.Pointers(b.Cols), upTo(b.N))
}

func (s *Session) appendRows(ctx context.Context, tx warehouse.Tx, cols []*column.Column, rows []int32) error {
	if s.full {
		return s.noKey()
	}
	if s.appender == nil {
		var err error
		if s.appender, err = tx.Append(ctx, s.x.Dimension().Table.Name, s.x.Dimension().Table.Fields()); err != nil {
			return err
		}
	}
	s.Added += int64(len(rows))
	return s.appender.Append(cols, rows)
}

func (s *Session) noKey() error {
	const message = "dimension %s has no key left: the highest is %d, and an integer ends at %d"
	return fmt.Errorf(message, s.x.Dimension().Text, s.highest, math.MaxInt64)
}

func upTo(n int) []int32 {
	rows := make([]int32, n)
	for i := range rows {
		rows[i] = int32(i)
	}
	return rows
}

// Finish writes what is left and the dimension's entry in the ledger.
func (s *Session) Finish(ctx context.Context, tx warehouse.Tx) error {
	if err := s.written(ctx, tx); err != nil || !s.changed {
		return err
	}
	if err := ledger.Inferred(ctx, tx, s.x.Dimension().Text, s.inferred, s.run); err != nil {
		return err
	}
	return ledger.SetHighest(ctx, tx, s.x.Dimension().Text, s.highest, s.by())
}

// written writes what is left, and waits until the warehouse has it.
func (s *Session) written(ctx context.Context, tx warehouse.Tx) error {
	if err := s.Write(ctx, tx); err != nil || s.appender == nil {
		return err
	}
	_, err := s.appender.Close()
	s.appender = nil
	return err
}

func (s *Session) by() string { return fmt.Sprintf("%d %s", s.run, s.step) }

// Commit makes what the step added part of the roster. It is called after the step's transaction has
// been committed.
func (s *Session) Commit() {
	if !s.changed {
		return
	}
	first := int32(s.x.Len())
	s.x.Add(s.index, len(s.keys))
	for k, surrogate := range s.keys {
		p := s.x.Member(first + int32(k))
		p.Durable = surrogate
		p.Versions = append(s.x.Room(1), history.Version{
			Key:      surrogate,
			From:     s.x.Rules().Beginning,
			Timing:   history.Untimed,
			Inferred: s.x.Dimension().Inferable(),
		})
	}
	s.x.Committed(s.highest, s.by())
}

// Made is the number of members that the step inferred.
func (s *Session) Made() int64 { return int64(len(s.keys)) }

// Specials writes the special members that the dimension lacks (rule R21), and their labels in columns that it got
// later.
func (s *Session) Specials(ctx context.Context, tx warehouse.Tx) error {
	d := s.x.Dimension()
	fields := d.Table.Fields()[:1:1]
	for _, f := range d.Attributes() {
		if f.Type.Kind == column.Text {
			fields = append(fields, f)
		}
	}
	present, err := warehouse.ReadAll(
		ctx,
		tx,
		warehouse.Query{Table: d.Table.Name, Fields: fields, By: []string{d.KeyColumn()}, Match: specialKeys(d)},
	)
	if err != nil {
		return err
	}
	fresh, unnamed := column.NewBatch(d.Table.Fields()), column.NewBatch(fields)
	for _, special := range d.Specials {
		at := slices.Index(present.Cols[0].Int, special.Key)
		if at < 0 {
			s.special(fresh, special)
			continue
		}
		if !slices.ContainsFunc(present.Cols[1:], func(c column.Column) bool { return c.Null[at] || c.Text[at] != special.Label }) {
			continue
		}
		unnamed.Cols[0].AppendInt(special.Key)
		for k := range fields[1:] {
			unnamed.Cols[1+k].AppendText(special.Label)
		}
		unnamed.N++
	}
	if fresh.N+unnamed.N == 0 {
		return nil
	}
	s.changed = true
	if unnamed.N > 0 {
		if _, err := tx.Amend(ctx, d.Table.Name, 1, fields, unnamed); err != nil {
			return err
		}
	}
	if fresh.N == 0 {
		return nil
	}
	return s.append(ctx, tx, fresh)
}

func specialKeys(d *schema.Dimension) []*column.Column {
	c := column.Column{Type: column.Type{Kind: column.Integer}}
	for _, special := range d.Specials {
		c.AppendInt(special.Key)
	}
	return []*column.Column{&c}
}

func (s *Session) special(b *column.Batch, special star.Special) {
	r := schema.Row{
		Key:     special.Key,
		Durable: special.Key,
		From:    s.x.Rules().Beginning,
		To:      s.x.Rules().End,
		Current: true,
		Run:     s.run,
	}
	s.x.Dimension().AppendRow(b, &r, specialValues{s.x.Dimension(), special})
}

// specialValues is the values of a special member: its label in every attribute that is a text.
type specialValues struct {
	dim *schema.Dimension
	star.Special
}

func (s specialValues) Append(c *column.Column, at int, role schema.Role) {
	switch name := s.dim.Table.Columns[at].Name; {
	case role == schema.OutriggerKey:
		c.AppendInt(s.dim.NamesakeKey(name, s.Special))
	case role == schema.Attribute && s.dim.Generated() && name == calendar.SortOrder:
		c.AppendInt(calendar.SpecialOrder(s.Key, s.First))
	case role == schema.Attribute && c.Type.Kind == column.Text:
		c.AppendText(s.Label)
	default:
		c.AppendNull()
	}
}

// Dimension is the dimension that the session adds to.
func (s *Session) Dimension() *schema.Dimension { return s.x.Dimension() }
