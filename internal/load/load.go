// Package load runs a load: it opens the sources and plans the steps. Each step is one transaction: it reads,
// transforms and resolves rows, writes, checks the account and commits.
package load

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"
	"strings"
	"sync"
	"time"

	"ironmonger/internal/diag"
	"ironmonger/internal/ledger"
	"ironmonger/internal/plan"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
	"ironmonger/internal/undo"
	"ironmonger/internal/warehouse"
)

// Options are what a caller may choose.
type Options struct {
	Program string         // what the ledger calls the program
	Holder  string         // and who runs it
	Workers int            // goroutines that read and resolve; 0 is one for each core
	Piece   int            // bytes of a file that a goroutine takes at a time; 0 is the default
	Opening Opening        // how dimensions are opened
	Anew    bool           // make the star anew from its sources
	Without bool           // and do without the rows of files that are not there any more
	AtOnce  int            // steps that may run at the same time, where the warehouse allows several; 0 is as many as it allows
	Memory  int64          // bytes for members and the rows that become members, about; 0 is [Memory]
	Dry     bool           // write nothing: say what a load would do
	Again   bool           // read all files, those too whose rows are known
	Part    Part           // which steps
	Accept  []string       // dimensions and facts whose tables are right as they stand, whatever the ledger's account says
	Watch   func(Progress) // told what happens, from one goroutine at a time; may be nil
}

// Progress is news of a step, or of what keeps the run from beginning.
type Progress struct {
	Waits string // for whom
	Step  string
	Total int64  // bytes to read, 0 if not known
	Bytes int64  // read so far
	Rows  int64  // read so far
	Doing string // what is done beside reading in earnest; may be empty
	Ended bool
	Err   error

	Again error         // of what a step failed that begins again
	Wait  time.Duration // and how long it waits before

	Run   int64        // the run's number; 0 before it has one
	Entry *ledger.Step // what the ledger says of a step that has ended
}

// run is a load that is going on.
type run struct {
	model   *star.Model
	star    *schema.Star
	wh      warehouse.Warehouse
	inputs  *source.Inputs
	opts    Options
	steps   []*step
	reads   map[*star.Source][]string // the files and tables that sources read
	places  map[*step]*place          // of the steps among those that run at the same time
	held    hold
	entry   *ledger.Run
	mu      sync.Mutex
	rosters map[*star.Dimension]*seat
	watch   sync.Mutex
	kept    *undo.Recorder  // nil if it is not kept what the run changes
	dry     *dryWarehouse   // nil unless all steps are one transaction
	remake  *remake         // nil unless the star is made anew
	whole   map[string]bool // steps of a dry run that have to read all files
}

// step is a step of a run: it loads a dimension or a fact.
type step struct {
	name      string
	dimension *schema.Dimension
	fact      *schema.Fact
	keys      []*star.Key
}

// noun is a step's name without its kind.
func noun(step string) string { return step[strings.Index(step, " ")+1:] }

// ErrSteps says that a run has ended with steps that failed; the run's entry tells which.
var ErrSteps = errors.New("the load is not complete")

// ErrUnmet says that a run is done, and that something is not as the model asks; the run's entry tells what.
var ErrUnmet = errors.New("the load is done, and something is not as the model asks")

// Run loads a model into a warehouse, reading sources below root. The entry of the run is returned as far as there
// is one; the error is ErrSteps if steps failed, ErrDiffers if tables are not what the ledger says, or what kept
// the run from starting.
func Run(
	ctx context.Context,
	m *star.Model,
	root *os.Root,
	wh warehouse.Warehouse,
	opts Options,
) (*ledger.Run, error) {
	if opts.Workers <= 0 {
		opts.Workers = runtime.GOMAXPROCS(0)
	}
	if opts.Anew {
		opts.Again, opts.Opening = true, Whole
	}
	if opts.Memory <= 0 {
		opts.Memory = Memory
	}
	r := &run{model: m, star: schema.New(m), wh: wh, opts: opts,
		inputs: &source.Inputs{
			Model:   m,
			Root:    root,
			Piece:   opts.Piece,
			Workers: opts.Workers,
			Memory:  opts.Memory,
			Days:    &source.Days{},
		}, rosters: map[*star.Dimension]*seat{}, whole: map[string]bool{}}
	var err error
	if r.steps, err = r.chosen(ctx); err != nil {
		return nil, err
	}
	sources := m.Sources
	if !opts.Part.all() {
		sources = sourcesOf(r.steps)
	}
	if r.reads, err = openAll(ctx, r.inputs, sources); err != nil {
		return nil, err
	}
	if r.held.Hold, err = r.hold(ctx); err != nil {
		return nil, err
	}
	defer r.held.release()
	defer func() {
		if r.dry != nil { // whatever happens
			r.dry.end()
		}
	}()
	failed, err := r.attempt(ctx)
	for errors.Is(err, errAll) { // a step of a dry run has to begin again, and so have all
		r.dry.end()
		r.rosters, r.dry, r.wh = map[*star.Dimension]*seat{}, nil, wh
		failed, err = r.attempt(ctx)
	}
	late := context.WithoutCancel(ctx)
	if err != nil {
		if r.entry != nil && r.dry != nil && !opts.Dry { // the run began, and nothing else did
			r.dry.end()
			r.dry, r.wh = nil, wh
			end := func(tx warehouse.Tx) error { return ledger.EndRun(late, tx, r.entry, ledger.Failed, time.Now()) }
			err = errors.Join(err, r.transact(late, end))
		}
		return r.entry, err
	}
	state := ledger.Done
	if failed {
		state = ledger.Failed
	}
	var kept error // what keeps the star from being made anew
	if opts.Anew {
		if kept = r.swap(ctx, wh, failed); kept != nil {
			state = ledger.Failed
		}
	}
	if r.dry != nil {
		ended := time.Now()
		r.entry.State, r.entry.EndedAt = state, &ended
		return r.entry, cmp.Or(kept, r.outcome())
	}
	end := func(tx warehouse.Tx) error {
		if err := undo.Trim(late, tx, r.model, r.entry); err != nil {
			return err
		}
		if keep := r.model.Keep; keep > 0 {
			if err := ledger.Shorten(late, tx, time.Now().Add(-keep)); err != nil {
				return err
			}
		}
		if err := tx.Freeze(late, r.entry.ID); err != nil {
			return err
		}
		return ledger.EndRun(late, tx, r.entry, state, time.Now())
	}
	if err = r.transact(late, end); errors.Is(err, warehouse.ErrUnknown) {
		err = r.transact(late, end) // twice is as good as once
	}
	if err == nil {
		err = cmp.Or(kept, r.outcome())
	}
	return r.entry, err
}

// attempt begins the run and runs its steps, and reports whether any failed.
func (r *run) attempt(ctx context.Context) (failed bool, err error) {
	if r.opts.Dry {
		r.dry = &dryWarehouse{Warehouse: r.wh}
		r.wh = r.dry
	}
	if err := r.begin(ctx, ""); err != nil {
		r.entry = nil
		return false, err
	}
	r.entry.Dry = r.opts.Dry
	if r.opts.Anew {
		if err := r.anew(ctx); err != nil {
			return false, err
		}
	}
	steps := r.steps
	plan.Run(ctx, order(steps), r.atOnce(), func(ctx context.Context, i int) error {
		return r.step(ctx, steps[i])
	}, func(i int, serr error) {
		defer r.places[steps[i]].end()
		failed = failed || serr != nil
		switch {
		case errors.Is(serr, errAll):
			err = serr
			return
		case errors.Is(serr, plan.ErrNotRun):
			serr = r.inLedger(
				ctx,
				steps[i],
				&ledger.Step{
					Run:     r.entry.ID,
					Name:    steps[i].name,
					State:   ledger.NotRun,
					Message: "a step that it needs failed",
				},
				nil,
			)
		}
		r.tell(Progress{Step: steps[i].name, Ended: true, Err: serr, Entry: r.entryOf(steps[i].name)})
	})
	r.sortEntries()
	return failed, err
}

// entryOf returns what the ledger says of a step that has ended; nil if nothing was written down.
func (r *run) entryOf(step string) *ledger.Step {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range r.entry.Steps {
		if s.Name == step {
			return s
		}
	}
	return nil
}

// outcome says what a run that is over came to.
func (r *run) outcome() error {
	var err error
	for _, s := range r.entry.Steps {
		if s.State != ledger.Done {
			return ErrSteps
		}
		if len(s.Figures.Unmet) > 0 {
			err = cmp.Or(err, ErrUnmet)
		}
		if len(s.Figures.Differs) > 0 {
			err = ErrDiffers
		}
	}
	return err
}

// openAll finds the files of sources before anything is written, so that what is missing is told
// at once. It returns the names of what each source reads.
func openAll(ctx context.Context, in *source.Inputs, sources []*star.Source) (map[*star.Source][]string, error) {
	var errs diag.List
	names := map[*star.Source][]string{}
	for _, s := range sources {
		flow, err := transform.Open(ctx, in, s, func(string) bool { return true })
		var list diag.List
		if errors.As(err, &list) {
			errs = append(errs, list...)
		} else if err != nil {
			return nil, err
		} else {
			names[s] = flow.Names()
		}
	}
	return names, errs.Err()
}

// Startable says what would keep a load from starting: a source that is not as the model has it. [Run] says it too,
// once the warehouse is open.
func Startable(ctx context.Context, m *star.Model, root *os.Root) error {
	_, err := openAll(ctx, &source.Inputs{Model: m, Root: root}, m.Sources)
	return err
}

// hold takes the warehouse, waiting for the load that has it and telling which that is.
func (r *run) hold(ctx context.Context) (warehouse.Hold, error) {
	told, begin := false, time.Now()
	for {
		held, err := r.wh.Hold(ctx)
		if !errors.Is(err, warehouse.ErrHeld) {
			return held, err
		}
		if !told {
			other, err := ledger.Going(ctx, r.wh)
			if err != nil {
				return nil, err
			}
			switch { // one that has just begun may not be in the ledger yet
			case other != nil:
				r.tell(
					Progress{
						Waits: fmt.Sprintf(
							"run %d (%s, since %s UTC)",
							other.ID,
							other.Holder,
							other.StartedAt.Format(time.DateTime),
						),
					},
				)
				told = true
			case time.Since(begin) > time.Second:
				r.tell(Progress{Waits: "another load"})
				told = true
			}
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// begin makes the ledger's tables if they are not there, and the run's entry, with the reason why nothing comes of it.
func (r *run) begin(ctx context.Context, why string) error {
	return r.transact(ctx, func(tx warehouse.Tx) (err error) {
		r.entry = &ledger.Run{}
		if err := ledger.Carry(ctx, tx); err != nil {
			return err
		}
		for _, t := range ledger.Tables() {
			if _, _, err := r.ensure(ctx, tx, t, nullable); err != nil {
				return err
			}
		}
		r.entry = &ledger.Run{
			StartedAt:  time.Now(),
			Program:    r.opts.Program,
			Holder:     r.opts.Holder,
			ModelFile:  r.model.File,
			ModelText:  r.model.Text,
			Parameters: map[string]string{},
			Message:    diag.Clip(diag.Storable(why), 2000),
		}
		for _, p := range r.model.Parameters {
			if !p.Secret {
				r.entry.Parameters[p.Text] = p.Value
			}
		}
		if err := ledger.StartRun(ctx, tx, r.entry); err != nil || r.star == nil {
			return err
		}
		if err := tx.Share(ctx, r.owned()); err != nil {
			return err
		}
		if r.dry == nil && !r.opts.Anew && r.model.Undo > 0 {
			r.kept = undo.NewRecorder(r.entry.ID, r.star)
			if err := r.kept.Begin(ctx, tx); err != nil {
				return err
			}
		}
		r.places, err = r.placesOf(ctx, tx)
		return err
	})
}

// owned lists the names of all tables and views that loads of the model make.
func (r *run) owned() []string {
	var names []string
	add := func(tables []*warehouse.Table) {
		for _, t := range tables {
			names = append(names, t.Name)
		}
	}
	add(ledger.Tables())
	for _, d := range r.star.Dimensions {
		if d.LookedUp != nil {
			continue
		}
		add(d.Tables())
		for _, v := range d.Views {
			names = append(names, v.Name)
		}
	}
	for _, f := range r.star.Facts {
		add(f.Tables())
	}
	return names
}

// Unstarted notes in the ledger that a load did not start, and why. Where there is no ledger, nothing was ever
// loaded, and nothing is written.
func Unstarted(ctx context.Context, m *star.Model, wh warehouse.Warehouse, opts Options, why string) error {
	if there, err := wh.Describe(ctx, ledger.Tables()[0].Name); err != nil || there == nil {
		return err
	}
	r := &run{model: m, wh: wh, opts: opts}
	held, err := r.hold(ctx)
	if err != nil {
		return err
	}
	defer held.Release()
	if err := r.begin(ctx, why); err != nil {
		return err
	}
	return r.transact(
		ctx,
		func(tx warehouse.Tx) error { return ledger.EndRun(ctx, tx, r.entry, ledger.Failed, time.Now()) },
	)
}

// there checks that a table that somebody else has made has the columns that are looked up in.
func there(ctx context.Context, r warehouse.Reader, t *warehouse.Table) error {
	columns, err := r.Describe(ctx, t.Name)
	if err != nil {
		return err
	}
	if columns == nil {
		return fmt.Errorf("there is no table %s in the warehouse to look up in", t.Name)
	}
	for _, c := range t.Columns {
		if !columns.Has(c.Name) {
			return fmt.Errorf(
				"table %s in the warehouse has no column %s%s",
				t.Name,
				c.Name,
				diag.Suggest(c.Name, columns.Names()),
			)
		}
	}
	return nil
}

// transact runs f in a transaction while no step goes on.
func (r *run) transact(ctx context.Context, f func(tx warehouse.Tx) error) error {
	tx, err := r.wh.Begin(ctx)
	if err != nil {
		return err
	}
	return in(tx, f)
}

// transactFor runs f in a transaction for a step, which has none meanwhile.
func (r *run) transactFor(ctx context.Context, s *step, f func(tx warehouse.Tx) error) error {
	tx, err := r.wh.Beside(ctx, s.name)
	if err != nil {
		return err
	}
	return in(tx, f)
}

// in runs f in a transaction and ends it.
func in(tx warehouse.Tx, f func(tx warehouse.Tx) error) error {
	defer tx.Rollback()
	if err := f(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// roster returns the members of a dimension, as the step's transaction sees them.
func (r *run) roster(ctx context.Context, tx warehouse.Tx, d *star.Dimension) (*roster.Roster, error) {
	s := r.seat(d)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.x != nil {
		if current, err := s.x.Current(ctx, tx); err != nil || current {
			return s.x, err
		}
	}
	x, err := roster.Open(ctx, tx, r.star.Dimension(d))
	if err != nil {
		return nil, err
	}
	if r.remake != nil {
		x.Remember(r.remake.former[d])
	}
	s.take(x)
	return x, nil
}

func (r *run) tell(p Progress) {
	if r.opts.Watch != nil {
		if r.entry != nil {
			p.Run = r.entry.ID
		}
		r.watch.Lock()
		defer r.watch.Unlock()
		r.opts.Watch(p)
	}
}
