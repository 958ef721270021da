package transform

import (
	"context"
	"iter"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
)

// Flow is the shaped rows of a source.
type Flow struct {
	in     *source.Inputs
	of     *star.Source
	parts  []*part
	taken  []column.Field // as the parts give them
	local  []column.Field // once what concerns a row alone has been done
	fields []column.Field // in the end
	joins  []*join
	need   names
	tools  sync.Pool // of *tool
	last   sync.Pool // of matcher, behind a group

	read, checks, distinct, group stage
	leaves                        []atomic.Int64 // rows left out, by rule
	emptied                       atomic.Int64   // columns without a value that make no rows
	made                          atomic.Int64   // rows of periods beyond those that were read

	passed  []Passed
	notes   []string
	mu      sync.Mutex
	met     map[diag.Place][]Joined // rows that others were joined with, by where these stand
	ready   bool
	fallen  []Fallen
	helpers []*Flow
	aliases map[*star.Aliases]*aliases
}

// tool is what one goroutine shapes with.
type tool struct {
	*shaper
	matcher
	finders []finder
}

// Open opens a source, and those that it is made of, for the columns that want names at its end. The error is a
// diag.List where it has a place.
func Open(ctx context.Context, in *source.Inputs, s *star.Source, want func(column string) bool) (*Flow, error) {
	f := &Flow{in: in, of: s, need: needed(s, want), leaves: make([]atomic.Int64, len(s.LeaveOut))}
	for _, c := range s.Taken() {
		if f.need[c.Name] {
			f.taken = append(f.taken, c)
		}
	}
	if err := f.openParts(ctx); err != nil {
		return f, err
	}
	for _, p := range f.parts {
		if p.split = f.newSplit(p); !s.Reads() {
			p.then = f.leaver(f.taken)
		}
	}
	f.local = slices.Clone(f.taken)
	for _, j := range s.Joins {
		if !matters(j, f.need) {
			continue
		}
		x, err := f.openJoin(ctx, j)
		if err != nil {
			return f, err
		}
		f.joins = append(f.joins, x)
	}
	for _, a := range s.Aliased {
		if f.aliases[a.Aliases] == nil && slices.ContainsFunc(a.Columns, func(c string) bool { return f.need[c] }) {
			x, err := f.openAliases(ctx, a.Aliases)
			if err != nil {
				return f, err
			}
			if f.aliases == nil {
				f.aliases = map[*star.Aliases]*aliases{}
			}
			f.aliases[a.Aliases] = x
		}
	}
	t, err := f.tool()
	if err != nil {
		return f, err
	}
	if f.local = t.fields; !f.late() {
		t.matcher, f.fields, err = f.newMatcher(f.local)
		f.tools.Put(t)
		return f, err
	}
	f.tools.Put(t)
	f.local = append(f.local[:len(f.local):len(f.local)], f.windowFields()...)
	switch f.fields = f.local; {
	case s.Group != nil:
		f.fields = f.groupFields()
	case s.Periods != nil:
		f.fields = f.periodFields()
	}
	m, fields, err := f.newMatcher(f.fields)
	f.fields = fields
	f.last.Put(&m)
	return f, err
}

// late reports whether natural keys are brought to their form behind what concerns several rows.
func (f *Flow) late() bool {
	return f.of.Group != nil || f.of.Periods != nil || f.of.Spans != nil || len(f.of.Windows) > 0
}

// tool makes what one goroutine shapes with.
func (f *Flow) tool() (*tool, error) {
	if t, ok := f.tools.Get().(*tool); ok {
		return t, nil
	}
	joined := slices.Clone(f.taken)
	for _, j := range f.joins {
		joined = append(joined, j.brings...)
	}
	sh, err := newShaper(f.in.Model, f.of, joined, f.need)
	if err != nil {
		return nil, err
	}
	t := &tool{shaper: sh, finders: make([]finder, len(f.joins))}
	if !f.late() {
		t.matcher, _, err = f.newMatcher(sh.fields)
	}
	return t, err
}

// Fields lists the columns of the rows.
func (f *Flow) Fields() []column.Field { return f.fields }

// Names lists the files and tables that are read, in order.
func (f *Flow) Names() []string {
	var names []string
	for _, p := range f.parts {
		names = append(names, p.from.Names()...)
	}
	return names
}

// Size is the bytes of all files.
func (f *Flow) Size() int64 {
	sum := int64(0)
	for _, p := range f.parts {
		sum += p.from.Size()
	}
	return sum
}

// Pieces yields the rows.
func (f *Flow) Pieces(ctx context.Context) iter.Seq2[column.Piece, error] {
	return f.pieces(ctx, false)
}

// Samples yields some rows of each file, as if there were no others.
func (f *Flow) Samples(ctx context.Context) iter.Seq2[column.Piece, error] {
	return f.pieces(ctx, true)
}

func (f *Flow) pieces(ctx context.Context, samples bool) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		if err := f.prepare(ctx); err != nil {
			yield(nil, err)
			return
		}
		rows := f.windowed(ctx, samples, f.shaped(ctx, samples))
		if f.of.Distinct != nil {
			rows = f.distinctRows(ctx, rows)
		}
		if f.of.Group != nil {
			rows = f.groups(ctx, rows)
		} else if f.of.Periods != nil {
			rows = f.periods(ctx, rows)
		} else if f.of.Spans != nil {
			rows = f.spans(ctx, rows)
		} else if f.late() {
			rows = f.finished(rows)
		}
		rows(yield)
	}
}

// prepare reads what is joined, once.
func (f *Flow) prepare(ctx context.Context) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.ready {
		return nil
	}
	for _, o := range f.below() {
		if err := o.prepare(ctx); err != nil {
			return err
		}
	}
	for _, j := range f.joins {
		if err := j.load(ctx); err != nil {
			return err
		}
	}
	for _, a := range f.aliases {
		if err := a.load(ctx, f); err != nil {
			return err
		}
	}
	f.ready = true
	return nil
}

// shaped yields the rows with all done that concerns a row alone.
func (f *Flow) shaped(ctx context.Context, samples bool) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) {
		for _, p := range f.parts {
			from := p.from.Pieces
			if samples {
				from = p.from.Samples
			}
			for piece, err := range from(ctx) {
				if err != nil {
					yield(nil, err)
					return
				}
				if !yield(&rawPiece{f, p, piece}, nil) {
					return
				}
			}
		}
	}
}

// rawPiece is a piece that is shaped when it is filled.
type rawPiece struct {
	flow *Flow
	part *part
	from column.Piece
}

func (p *rawPiece) Fill(b *column.Batch) error {
	if err := p.part.fill(p.from, b); err != nil {
		return err
	}
	return p.flow.shape(b)
}

// shape does what concerns a row alone.
func (f *Flow) shape(b *column.Batch) error {
	t, err := f.tool()
	if err != nil {
		return err
	}
	defer f.tools.Put(t)
	count := func(s *stage, before int) int {
		bad := 0
		if len(b.Faults) > 0 {
			for i := range b.N {
				if b.Bad(i) {
					bad++
				}
			}
		}
		s.in.Add(int64(b.N - before))
		s.aside.Add(int64(bad - before))
		return bad
	}
	bad := 0
	if len(f.below()) > 0 { // what was set aside there has been counted there
		bad = count(&stage{}, 0)
	}
	bad = count(&f.read, bad)
	for k, j := range f.joins {
		dropped, err := j.apply(b, &t.finders[k])
		if err != nil {
			return err
		}
		j.in.Add(int64(dropped))
		bad = count(&j.stage, bad)
	}
	t.shaper.apply(b)
	t.matcher.apply(b)
	count(&f.checks, bad)
	return nil
}

// Row fills b with the rows around a line of a file and returns the first row that begins there, or -1 if none does.
func (f *Flow) Row(ctx context.Context, name string, line int64, b *column.Batch) (int, error) {
	for at, err := range f.Rows(ctx, name, line) {
		if err == nil {
			b.Take(at.Batch)
		}
		return at.Row, err
	}
	return -1, nil
}

// At is a row of a batch.
type At struct {
	*column.Batch
	Row int
}

// Rows yields each row that a line of a file makes: several where a line has a list of rows, or where parts of the
// source read one file, as a list that names a folder twice does.
func (f *Flow) Rows(ctx context.Context, name string, line int64) iter.Seq2[At, error] {
	return func(yield func(At, error) bool) {
		for b, err := range f.around(ctx, name, line) {
			if err != nil {
				yield(At{nil, -1}, err)
				return
			}
			for i, at := range b.From.Line {
				if at == line && !yield(At{b, i}, nil) {
					return
				}
			}
		}
	}
}

// around yields batches that have all rows of a line of a file.
func (f *Flow) around(ctx context.Context, name string, line int64) iter.Seq2[*column.Batch, error] {
	return func(yield func(*column.Batch, error) bool) {
		if err := f.prepare(ctx); err != nil {
			yield(nil, err)
			return
		}
		if f.of.Distinct != nil || f.late() {
			for p, err := range f.Pieces(ctx) {
				b := column.NewBatch(f.fields)
				if err == nil {
					err = p.Fill(b)
				}
				if err != nil {
					yield(nil, err)
					return
				}
				if b.From.File == name && slices.Contains(b.From.Line, line) && !yield(b, nil) {
					return
				}
			}
			return
		}
		for _, p := range f.parts {
			if !slices.Contains(p.from.Names(), name) {
				continue
			}
			for have, err := range p.around(ctx, name, line) {
				b := column.NewBatch(f.localFields())
				if err == nil {
					err = p.fill(filled{have}, b)
				}
				if err == nil {
					err = f.shape(b)
				}
				if err != nil {
					yield(nil, err)
					return
				}
				if !yield(b, nil) {
					return
				}
			}
		}
	}
}

// around yields batches that have all rows of a line as a part reads them.
func (p *part) around(ctx context.Context, name string, line int64) iter.Seq2[*column.Batch, error] {
	if from, ok := p.from.(*Flow); ok {
		return from.around(ctx, name, line)
	}
	return func(yield func(*column.Batch, error) bool) {
		b := p.batch()
		if i, err := p.from.Row(ctx, name, line, b); i >= 0 || err != nil {
			yield(b, err)
		}
	}
}

// filled is a piece whose rows are there already.
type filled struct{ *column.Batch }

func (p filled) Fill(b *column.Batch) error {
	b.Take(p.Batch)
	return nil
}

// localFields lists the columns before rows are added up.
func (f *Flow) localFields() []column.Field {
	if !f.late() {
		return f.fields
	}
	return f.local
}

func (f *Flow) workers() int {
	if f.in.Workers > 0 {
		return f.in.Workers
	}
	return runtime.GOMAXPROCS(0)
}
