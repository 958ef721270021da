package load

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/fact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// kind is what is special to the steps of one kind of table. What all steps have in common is in [work], which
// calls the kind from step.go; a new kind of fact is another implementation.
type kind interface {
	// target is the table that the step writes to.
	target() target
	// tables makes what the step writes to.
	tables(ctx context.Context) error
	// refusals lists what speaks against writing to the table, besides what its declaration says.
	refusals(ctx context.Context) ([]Alteration, error)
	// source is what the step reads; nil if rows stand in the model or are made.
	source() *star.Source
	// reads decides which files of the source are read, and returns where they are read; nil if none has to be.
	reads(ctx context.Context) (*source.Inputs, error)
	// given returns what stands in the model or is made.
	given() column.Source
	// columns lists the columns that the step needs of its source, besides those of its keys.
	columns() []string
	limits() star.Limits
	// says returns the columns in which the rows of a batch say which member, or which grain, they are of.
	says(b *column.Batch) (member, grain []*column.Column)
	// load reads the rows and writes them.
	load(ctx context.Context) error
}

// target is the table of a step.
type target struct {
	*warehouse.Table
	inferred string            // what it is called where other steps make members in it; empty if none do
	measures []column.Field    // whose totals its account keeps
	meant    map[string]string // what it is meant to be, besides its columns
}

// kindOf returns the kind of a step that goes on.
func (s *step) kindOf(w *work) kind {
	switch {
	case s.fact != nil:
		return &factStep{work: w, fact: s.fact}
	case s.dimension.LookedUp != nil:
		return &lookedUpStep{w, s.dimension}
	}
	return &dimensionStep{w, s.dimension}
}

// factStep loads a fact.
type factStep struct {
	*work
	fact      *schema.Fact
	days      map[*star.Lag]*fact.Workdays // working days by which lags are counted
	countedBy string                       // a digest of them; "" if there are no such lags
	recounts  bool                         // they are others than those by which the rows were counted
	current   map[*star.Key]string         // of keys as of a milestone: by which step the dimension was changed last
	moves     []*star.Key                  // and those whose dimension was another when the fact was loaded

	numbered *fact.Files     // the files of the step
	came     map[string]bool // files that the ledger knew before the step, by their names without what compression adds
}

func (w *factStep) target() target {
	t := target{Table: w.fact.Table, meant: meansFact(w.fact)}
	if w.countedBy != "" {
		t.meant[workingDays] = w.countedBy
	}
	for k, by := range w.current {
		t.meant[currentOf(k)] = by
	}
	for _, m := range w.fact.Measures {
		if m.Type.Exact() {
			t.measures = append(t.measures, m)
		}
	}
	return t
}

func (w *factStep) tables(ctx context.Context) error {
	made, changed, err := w.ensure(ctx, w.tx, w.fact.Table, ofFact(w.fact))
	if err == nil && changed && !made { // before rows are written, after which a database may not do it
		err = w.tx.Constrain(ctx, w.fact.Table)
	}
	if err != nil {
		return err
	}
	for _, t := range w.fact.Tables()[1:] {
		if _, _, err := w.ensure(ctx, w.tx, t, nothing); err != nil {
			return err
		}
	}
	if err := w.countDays(ctx); err != nil {
		return err
	}
	was, err := ledger.Meant(ctx, w.tx, w.fact.Table.Name)
	if err != nil {
		return err
	}
	if err := w.seeCurrent(ctx, was); err != nil {
		return err
	}
	w.recounts = was[workingDays] != "" && was[workingDays] != w.countedBy && w.days != nil
	return w.openAccount(ctx, made)
}

func (w *factStep) reads(ctx context.Context) (*source.Inputs, error) {
	if err := w.settleKeys(ctx); err != nil { // which needs no file
		return nil, err
	}
	if err := w.recount(ctx); err != nil { // likewise
		return nil, err
	}
	if err := w.moveOpen(ctx); err != nil { // likewise
		return nil, err
	}
	if err := w.tryKept(ctx); err != nil {
		return nil, err
	}
	if w.fact.Source.InStar() {
		return w.readDerived(ctx)
	}
	r, err := w.findReading(ctx, w.counting(), w.fact.Deliveries)
	return w.readNew(ctx, r, err)
}

// counting says whether the order decides in which files came.
func (w *factStep) counting() counting { return countingOf(w.fact) }

func countingOf(f *schema.Fact) counting {
	if f.Repeated == star.ReplaceRepeated || f.Reverses() || f.Completion != nil || f.Deliveries != nil {
		return inArrival
	}
	return anyOrder
}

func (w *factStep) refusals(context.Context) ([]Alteration, error) { return nil, nil }
func (w *factStep) source() *star.Source                           { return w.fact.Source }
func (w *factStep) given() column.Source                           { return nil }
func (w *factStep) limits() star.Limits                            { return w.fact.Limits }

func (w *factStep) columns() []string { return w.fact.Takes() }

// dimensionStep loads a dimension.
type dimensionStep struct {
	*work
	dimension *schema.Dimension
}

func (w *dimensionStep) target() target {
	d := w.dimension
	return target{Table: d.Table, inferred: d.Text, meant: meansDimension(d)}
}

func (w *dimensionStep) tables(ctx context.Context) error {
	d := w.dimension
	changed := false
	for _, t := range d.Tables() {
		made, more, err := w.ensure(ctx, w.tx, t, may(d, t))
		if err != nil {
			return err
		}
		if t == d.Table {
			if err := w.openAccount(ctx, made); err != nil {
				return err
			}
		}
		if changed = changed || more; made && t == d.Table && d.Adopts != nil {
			if err := w.adopt(ctx); err != nil {
				return err
			}
		}
	}
	for _, v := range d.Views {
		if changed { // it has other columns now
			if err := w.tx.DropView(ctx, v.Name); err != nil {
				return err
			}
		}
		if there, err := w.tx.Describe(ctx, v.Name); err != nil {
			return err
		} else if there == nil {
			if err := w.tx.CreateView(ctx, v); err != nil {
				return err
			}
		}
	}
	return w.referToday(ctx)
}

func (w *dimensionStep) refusals(ctx context.Context) ([]Alteration, error) {
	return unfitRows(ctx, w.tx, w.dimension)
}

func (w *dimensionStep) reads(ctx context.Context) (*source.Inputs, error) {
	d := w.dimension
	if d.Source == nil {
		return w.inputs, nil
	}
	in, others := anyOrder, []*star.Source(nil)
	if !d.Timed() { // the last row of a load decides
		in = inReading
	}
	if d.Aliases != nil {
		others = append(others, d.Aliases.Source)
	}
	r, err := w.findReading(ctx, in, d.Deliveries, others...)
	return w.readNew(ctx, r, err)
}

func (w *dimensionStep) source() *star.Source { return w.dimension.Source }
func (w *dimensionStep) limits() star.Limits  { return w.dimension.Limits }

func (w *dimensionStep) given() column.Source {
	return written{w.dimension.Rows}
}

func (w *dimensionStep) columns() []string { return w.dimension.Takes() }

// lookedUpStep looks at a dimension that somebody else has made, so that what is wrong with it is told here.
type lookedUpStep struct {
	*work
	dimension *schema.Dimension
}

func (w *lookedUpStep) target() target {
	return target{Table: w.dimension.Table, inferred: w.dimension.Text}
}

func (w *lookedUpStep) tables(ctx context.Context) error { return there(ctx, w.tx, w.dimension.Table) }

func (w *lookedUpStep) refusals(context.Context) ([]Alteration, error) { return nil, nil }
func (w *lookedUpStep) reads(context.Context) (*source.Inputs, error)  { return w.inputs, nil }
func (w *lookedUpStep) source() *star.Source                           { return nil }
func (w *lookedUpStep) given() column.Source                           { return nil }
func (w *lookedUpStep) columns() []string                              { return nil }
func (w *lookedUpStep) limits() star.Limits                            { return w.dimension.Limits }
func (w *lookedUpStep) says(*column.Batch) (_, _ []*column.Column)     { return nil, nil }

func (w *lookedUpStep) load(ctx context.Context) error {
	if _, err := w.roster(ctx, w.tx, w.dimension.Dimension); err != nil {
		return err
	}
	tally, err := w.tx.Tally(ctx, w.dimension.Table.Name, nil)
	w.figures.Table = tally.Rows
	return err
}
