package load

import (
	"context"
	"maps"
	"slices"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/parse"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
)

// marking is how far a step reads tables and queries of which only new rows are read (rule R34).
type marking struct {
	sources []*star.Source
	known   map[source.FileOf]ledger.Mark
	parts   map[string]bool                  // what is read in part, by its name
	depends string                           // a digest of what else decides what becomes of its rows
	held    map[source.FileOf]*column.Column // the least value of rows set aside, which are read again
	stays   bool                             // such a row has no value there: the marks stay where they are
}

// newer returns the inputs of the step where only new rows of tables and queries are read.
func (w *work) newer(ctx context.Context) (*source.Inputs, error) {
	declared := w.kind.source()
	if declared == nil || len(declared.Watched()) == 0 {
		return w.inputs, nil
	}
	m := &marking{
		sources: declared.Watched(),
		known:   map[source.FileOf]ledger.Mark{},
		parts:   map[string]bool{},
		held:    map[source.FileOf]*column.Column{},
	}
	w.marks = m
	r := &reading{}
	if err := w.dependsOn(ctx, r, nil, declared.Completing()); err != nil {
		return nil, err
	}
	m.depends = r.depends
	known, err := ledger.Marks(ctx, w.tx, w.name)
	if err != nil || w.opts.Again || w.made || slices.Contains(w.opts.Accept, noun(w.name)) {
		return w.inputs, err
	}
	from := map[source.FileOf]star.Value{}
	for _, k := range known {
		at := slices.IndexFunc(m.sources, func(s *star.Source) bool { return s.Text == k.Source })
		if at < 0 || k.DependsOn != m.depends {
			continue
		}
		id := source.FileOf{Source: k.Source, Name: k.Read}
		value, ok := w.markValue(m.sources[at].Since, k.Value)
		if !ok {
			continue
		}
		from[id], m.known[id], m.parts[k.Read] = value, k, true
	}
	if len(from) == 0 {
		return w.inputs, nil
	}
	return w.inputs.Since(from), nil
}

// aDay is by how much earlier timestamps are read where the model has a time zone: a database may compare with instants
// what the mark says in the time of that zone.
const aDay = civil.DayMicros

// markValue returns the value from which rows are read: a mark less the overlap.
func (w *work) markValue(s *star.Since, text string) (star.Value, bool) {
	c := column.Column{Type: s.Type}
	c.Resize(1)
	if parse.NewReader(nil).Set(&c, 0, text) != nil {
		return star.Value{}, false
	}
	if c.Int[0] -= s.Overlap; s.Type.Kind == column.Timestamp && w.model.Zone != nil {
		c.Int[0] -= aDay
	}
	if s.Type.Temporal() && c.Int[0] < leastTime(s.Type) {
		c.Int[0] = leastTime(s.Type)
	}
	return star.Value{Text: c.Value(0), Type: s.Type}, true
}

// leastTime is the first day of the year 1.
func leastTime(t column.Type) int64 {
	c := column.Column{Type: t}
	c.Resize(1)
	text := "0001-01-01"
	if t.Kind == column.Timestamp {
		text += " 00:00:00"
	}
	_ = parse.NewReader(nil).Set(&c, 0, text) // which can be read
	return c.Int[0]
}

// hold notes the rows of a batch that are set aside by faults from the given one on: they are to be read again.
func (w *work) hold(b *column.Batch, from int) {
	if w.marks == nil {
		return
	}
	for _, fault := range b.Faults[min(from, len(b.Faults)):] {
		w.marks.hold(w.fields, b, int(fault.Row))
	}
}

func (m *marking) hold(fields []column.Field, b *column.Batch, i int) {
	for _, s := range m.sources {
		at := column.Find(fields, s.Since.Column.Text)
		if at < 0 || fields[at].Type != s.Since.Type {
			m.stays = true
			continue
		}
		if b.Cols[at].Null[i] { // it is always read
			continue
		}
		id := source.FileOf{Source: s.Text, Name: b.From.File}
		if c := m.held[id]; c == nil {
			m.held[id] = &column.Column{Type: s.Since.Type}
			m.held[id].Append(&b.Cols[at], i)
		} else if b.Cols[at].Int[i] < c.Int[0] {
			c.Set(0, &b.Cols[at], i)
		}
	}
}

// wholly returns the names of what the step has read in whole.
func (w *work) wholly() []string {
	return slices.DeleteFunc(slices.Clone(w.files), func(name string) bool {
		return w.marks != nil && w.marks.parts[name] || w.tried.has(name)
	})
}

// unread returns what the step has read in part or not at all, although it is there: rows of it may wait on.
func (w *work) unread() map[string]bool {
	names := map[string]bool{}
	if w.marks != nil {
		maps.Copy(names, w.marks.parts)
	}
	if w.reading != nil {
		for f := range w.reading.skip {
			names[f.Name] = true
		}
	}
	return names
}

// keepMarks writes down how far the step has read.
func (w *work) keepMarks(ctx context.Context) error {
	m := w.marks
	if m == nil || m.stays {
		return nil
	}
	var list []ledger.Mark
	for _, s := range m.sources {
		for _, name := range w.files {
			id := source.FileOf{Source: s.Text, Name: name}
			reached := w.chosen.Reached(id)
			if reached == nil {
				continue
			}
			value := reached.Value(0)
			if held := m.held[id]; held != nil && held.Int[0] < reached.Int[0] {
				value = held.Value(0)
			}
			mark := ledger.Mark{Source: s.Text, Read: name, Value: value, DependsOn: m.depends}
			if m.known[id] != mark {
				list = append(list, mark)
			}
		}
	}
	return ledger.KeepMarks(ctx, w.tx, w.name, list, w.entry.ID)
}
