package transform

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"slices"
	"sync"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
)

// part is where some of a flow's rows come from: files, a table, another flow. It lines their columns up.
type part struct {
	from   source.Input
	take   []int           // for each column that the flow takes, the part's column; -1-k is constant k, none if the file tells
	ofFile []*star.OfFile  // and what of the file it is then
	same   bool            // they are the same
	consts []column.Column // of one row
	pool   sync.Pool       // of batches of the part's columns

	delivered func(file string) int64
	zone      *time.Location        // of the model
	leave     func(b *column.Batch) // takes out the rows that are left out once they are read; nil if none are
	then      func(b *column.Batch) // or once they are taken from another source
	unpivot   *unpivot
	split     *split
}

// openParts opens what the source reads, or what it is made of.
func (f *Flow) openParts(ctx context.Context) error {
	s := f.of
	switch {
	case s.DrivenBy != nil:
		return f.openList(ctx)
	case s.Reads():
		in, err := f.in.Open(ctx, s, f.in.Model.Bound, func(c string) bool { return f.need[c] || s.Unpivot.Has(c) })
		if err != nil {
			return err
		}
		f.parts = []*part{f.newPart(in, nil)}
		return nil
	}
	theirs := map[string]string{} // our column's name there
	for _, c := range s.Columns {
		theirs[c.Text] = c.InFile()
	}
	wanted := map[string]bool{}
	for _, c := range f.taken {
		wanted[theirs[c.Name]] = true
	}
	if s.Calendar != nil {
		in, err := f.openCalendar(ctx, func(c string) bool { return wanted[c] })
		if err == nil {
			f.parts = []*part{newPart(in, f.taken, func(c string) string { return theirs[c] }, nil)}
		}
		return err
	}
	if s.Clock != nil {
		in := times{s.Clock.Rows(func(c string) bool { return wanted[c] })}
		f.parts = []*part{newPart(in, f.taken, func(c string) string { return theirs[c] }, nil)}
		return nil
	}
	if s.Standing != nil {
		if f.in.Star != nil {
			in := f.in.Star.Open(s.Standing, func(c string) bool { return wanted[c] })
			f.parts = []*part{newPart(in, f.taken, func(c string) string { return theirs[c] }, nil)}
		}
		return nil
	}
	for _, o := range append(slices.Clone(s.Union), s.From) {
		if o == nil {
			continue
		}
		below, err := Open(ctx, f.in, o, func(c string) bool { return wanted[c] })
		if err != nil {
			return err
		}
		f.parts = append(f.parts, newPart(below, f.taken, func(c string) string { return theirs[c] }, nil))
	}
	return nil
}

// newPart makes a part of what the source reads itself.
func (f *Flow) newPart(in source.Input, consts map[string]*column.Column) *part {
	p := newPart(in, f.taken, func(c string) string { return c }, consts)
	p.leave = f.leaver(in.Fields())
	if p.unpivot = f.newUnpivot(in.Fields()); p.unpivot != nil {
		p.same = false
	}
	for k, c := range f.taken {
		for n := range f.of.OfFile {
			o := &f.of.OfFile[n]
			if o.Text != c.Name {
				continue
			}
			if p.ofFile == nil {
				p.ofFile, p.zone = make([]*star.OfFile, len(f.taken)), f.in.Model.Zone
			}
			p.ofFile[k], p.same = o, false
			p.delivered = func(name string) int64 { return f.in.DeliveredOn(f.of, name) }
		}
	}
	return p
}

func newPart(
	from source.Input,
	taken []column.Field,
	theirs func(string) string,
	consts map[string]*column.Column,
) *part {
	p := &part{from: from}
	fields := from.Fields()
	p.same = len(fields) == len(taken)
	for k, c := range taken {
		at := column.Find(fields, theirs(c.Name))
		if value := consts[c.Name]; value != nil {
			at = -1 - len(p.consts)
			p.consts = append(p.consts, *value)
		}
		p.take, p.same = append(p.take, at), p.same && at == k
	}
	p.pool.New = func() any { return column.NewBatch(fields) }
	return p
}

func (p *part) batch() *column.Batch { return column.NewBatch(p.from.Fields()) }

// fill fills the first columns of b.
func (p *part) fill(piece column.Piece, b *column.Batch) error {
	err := p.lineUp(piece, b)
	if err == nil && p.then != nil {
		p.then(b)
	}
	return err
}

// lineUp fills the first columns of b with those of the part.
func (p *part) lineUp(piece column.Piece, b *column.Batch) error {
	if have, ok := piece.(filled); p.same && (!ok || len(have.Cols) == len(b.Cols)) {
		if err := piece.Fill(b); err != nil || p.leave == nil {
			return err
		}
		p.leave(b)
		return nil
	}
	have := p.pool.Get().(*column.Batch)
	defer p.pool.Put(have)
	if err := piece.Fill(have); err != nil {
		return err
	}
	if p.leave != nil {
		p.leave(have)
	}
	switch {
	case p.unpivot != nil:
		p.unpivot.apply(have, b, p)
		return p.tellAll(b)
	case p.split != nil:
		p.split.apply(have, b, p)
		return p.tellAll(b)
	}
	b.Reset(have.N)
	for k, at := range p.take {
		switch c := &b.Cols[k]; {
		case p.ofFile != nil && p.ofFile[k] != nil: // once it is known which file it is
		case at < 0:
			for i := range have.N {
				c.Set(i, &p.consts[-1-at], 0)
			}
		case slices.Index(p.take, at) == k: // nobody else has taken it yet
			defer func() { *c, have.Cols[at] = have.Cols[at], *c }()
		default:
			c.Copy(&have.Cols[at], have.N)
		}
	}
	for _, fault := range have.Faults {
		b.SetAside(int(fault.Row), fault.Of, fault.Reason, fault.Detail)
	}
	b.From, have.From = have.From, b.From
	return p.tellAll(b)
}

// tellAll fills the columns that the file of some rows tells.
func (p *part) tellAll(b *column.Batch) error {
	for k, o := range p.ofFile {
		if o == nil {
			continue
		}
		if err := p.tell(o, &b.From, &b.Cols[k]); err != nil {
			for i := range b.N {
				b.SetAside(i, o.Text, err.Error(), "")
			}
		}
	}
	return nil
}

// tell fills a column with what the file of some rows tells. The error is of a path that does not tell it.
func (p *part) tell(o *star.OfFile, from *column.Origin, c *column.Column) error {
	if o.What == star.FilePart {
		if len(from.Line) == 0 {
			return nil
		}
		err := o.Read(from.File, p.zone, c)
		for i := range from.Line {
			c.Set(i, c, 0)
		}
		return err
	}
	clear(c.Null)
	for i, line := range from.Line {
		switch o.What {
		case star.FilePath:
			c.Text[i] = from.File
		case star.FileName:
			c.Text[i] = path.Base(from.File)
		case star.FileLine:
			c.Int[i] = line
		case star.Delivered:
			if i == 0 {
				c.Int[0] = p.delivered(from.File)
			}
			c.Int[i] = c.Int[0]
		}
	}
	return nil
}

// mostReads is how many rows a list that drives reading may have.
const mostReads = 10_000

// openList opens a read for each row of the list.
func (f *Flow) openList(ctx context.Context) error {
	s := f.of
	list, err := Open(ctx, f.in, s.DrivenBy, func(string) bool { return true })
	if err != nil {
		return err
	}
	f.helpers = append(f.helpers, list)
	fields := s.DrivenBy.Fields()
	var failed error
	err = f.each(ctx, list, func(b *column.Batch, i int) error {
		if len(f.parts) == mostReads {
			return diag.List{
				{
					At:      diag.Place{File: b.From.File, Line: int(b.From.Line[i])},
					Subject: "source " + s.Text,
					Message: fmt.Sprintf("the list %s has more than %d rows", s.DrivenBy.Text, mostReads),
				},
			}
		}
		consts := constants(fields, b, i)
		in, err := f.openRead(ctx, consts)
		var unfit *unfitError
		switch {
		case err == nil:
			f.parts = append(f.parts, f.newPart(in, consts))
		case s.PassOver && ctx.Err() == nil && !errors.As(err, &unfit):
			f.passed = append(f.passed, Passed{b.From.File, b.From.Line[i], f.plain(err)})
		default:
			failed = diag.List{
				{
					At:      diag.Place{File: b.From.File, Line: int(b.From.Line[i])},
					Subject: "source " + s.Text,
					Message: f.plain(err),
				},
			}
		}
		return failed
	})
	return err
}

// plain is an error without the place that it has in the model, which is the same for all rows of a list.
func (f *Flow) plain(err error) string {
	var list diag.List
	if errors.As(err, &list) && len(list) > 0 && list[0].At.File == f.in.Model.File {
		return list[0].Message
	}
	return err.Error()
}

// unfitError is a value that cannot be part of a path.
type unfitError struct{ column, value string }

func (e *unfitError) Error() string {
	if e.value == "" {
		return e.column + " is empty, and says nothing of what to read"
	}
	return fmt.Sprintf("%s cannot be part of a file's name: %q", e.column, diag.Clip(diag.Printable(e.value), 60))
}

// constants are the values of a row of a list, by their columns' names.
func constants(fields []column.Field, b *column.Batch, i int) map[string]*column.Column {
	consts := map[string]*column.Column{}
	for k, c := range fields {
		one := &column.Column{Type: c.Type}
		one.Append(&b.Cols[k], i)
		consts[c.Name] = one
	}
	return consts
}

// readOf returns the read that a row of a list means: the source with its paths filled in, and what binds the
// parameters of its query.
func readOf(
	m *star.Model,
	s *star.Source,
	consts map[string]*column.Column,
) (one *star.Source, bind func(name string) (star.Value, error), err error) {
	copied := *s
	one = &copied
	one.Read = slices.Clone(s.Read)
	fill := func(w *star.Name) {
		w.Text, _ = star.Placeholders(w.Text, func(name string) string {
			value := consts[name].Value(0)
			if !star.FitsPath(value) && err == nil {
				err = &unfitError{name, value}
			}
			return value
		})
	}
	for k := range one.Read {
		fill(&one.Read[k])
	}
	fill(&one.Within)
	return one, func(name string) (star.Value, error) {
		if c := consts[name]; c != nil && c.Null[0] {
			return star.Value{}, &unfitError{name, ""}
		} else if c != nil {
			return star.Value{Text: c.Value(0), Type: c.Type}, nil
		}
		return m.Bound(name)
	}, err
}

// openRead opens the read that a row of a list means.
func (f *Flow) openRead(ctx context.Context, consts map[string]*column.Column) (source.Input, error) {
	one, bind, err := readOf(f.in.Model, f.of, consts)
	if err != nil {
		return nil, err
	}
	return f.in.Open(ctx, one, bind, func(c string) bool { return (f.need[c] || f.of.Unpivot.Has(c)) && consts[c] == nil })
}

// each calls row for the rows of a flow that completes this one, in their order, and keeps those that are set aside.
func (f *Flow) each(ctx context.Context, from *Flow, row func(b *column.Batch, i int) error) error {
	return pipeline.Batches(ctx, from, f.workers(), func(b *column.Batch) error {
		for i := range b.N {
			if b.Bad(i) {
				f.fall(from, b, i)
			} else if err := row(b, i); err != nil {
				return err
			}
		}
		return nil
	})
}

// refuse sets a row aside of a flow that completes this one.
func (f *Flow) refuse(from *Flow, b *column.Batch, i int, of, reason string) {
	from.read.aside.Add(1)
	b.SetAside(i, of, reason, "")
	f.fall(from, b, i)
}

// fall keeps a row that was set aside of a flow that completes this one.
func (f *Flow) fall(from *Flow, b *column.Batch, i int) {
	x := Fallen{Source: from.of.Text, File: b.From.File, Line: b.From.Line[i], Raw: b.From.Raw(i)}
	for _, fault := range b.Faults {
		if int(fault.Row) == i {
			x.Faults = append(x.Faults, fault)
		}
	}
	f.fallen = append(f.fallen, x)
}

// Outside is what the reader of a model whose files are below root asks for: values of parameters, and the columns of
// sources that type them themselves.
func Outside(ctx context.Context, root *os.Root, parameter func(name string) (string, bool)) star.Outside {
	return star.Outside{Parameter: parameter, Columns: func(m *star.Model, s *star.Source) ([]star.Column, error) {
		return Columns(ctx, &source.Inputs{Model: m, Root: root}, s)
	}}
}

// Columns looks at a source that types its columns itself for what it has: where a list drives the reading, at the
// first read.
func Columns(ctx context.Context, in *source.Inputs, s *star.Source) ([]star.Column, error) {
	if s.DrivenBy == nil {
		return in.Columns(ctx, s, in.Model.Bound)
	}
	f := &Flow{in: in, of: s, need: names{}}
	list, err := Open(ctx, in, s.DrivenBy, func(string) bool { return true })
	if err != nil {
		return nil, err
	}
	var found []star.Column
	err = f.each(ctx, list, func(b *column.Batch, i int) error {
		if found != nil {
			return nil
		}
		one, bind, err := readOf(in.Model, s, constants(list.Fields(), b, i))
		if err != nil {
			return diag.List{
				{
					At:      diag.Place{File: b.From.File, Line: int(b.From.Line[i])},
					Subject: "source " + s.Text,
					Message: err.Error(),
				},
			}
		}
		found, err = in.Columns(ctx, one, bind)
		if err != nil && s.PassOver {
			return nil
		}
		return err
	})
	if err == nil && found == nil {
		err = errors.New("the list has no row that can be read, so nothing tells the types of the columns: say them")
	}
	return found, err
}
