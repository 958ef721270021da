package load

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/dimension"
	"ironmonger/internal/ledger"
	"ironmonger/internal/plan"
	"ironmonger/internal/resolve"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/standing"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
	"ironmonger/internal/warehouse"
)

// work is a step that is going on.
type work struct {
	*run
	*step
	kind     kind
	tx       warehouse.Tx
	clock    *clock
	figures  ledger.Figures
	chosen   *source.Inputs // where the step reads; nil if it need not read
	rows     column.Source
	files    []string
	source   string
	fields   []column.Field  // of shaped rows
	flow     *transform.Flow // nil for static rows and calendars
	arrived  int64           // rows of the flow
	links    []*resolve.Link
	sessions []*dimension.Session
	wanted   map[*star.Dimension]*roster.Wanted // the keys for which dimensions are opened, where not for all
	partial  map[*star.Dimension]*roster.Roster // and these
	cuts     map[*star.Dimension]*roster.Parts  // dimensions on disk that keys point to
	answers  map[*star.Key]*roster.Answers      // and the keys, looked up beforehand
	spilled  []io.Closer                        // what is on disk
	names    []string                           // the columns that the step needs of its source
	keys     []ledger.KeyCounts
	aside    *setAsideBook
	all      bool            // all files are read
	reading  *reading        // which files are read; nil where all are
	derived  *derived        // nil unless the step's fact is made of tables of the star alone
	tried    tried           // rows that were set aside before, and may pass now
	marks    *marking        // how far tables and queries are read; nil where all rows are
	book     *ledger.Account // of the step's table
	made     bool            // the step has made its table
	within   *within         // nil unless the step loads a fact in the warehouse
	apart    *apart          // nil unless it loads a dimension there
	shaped   int             // parts of unions that the warehouse has shaped for it
	strays   map[strayID]*ledger.Stray
	contents map[int64]string // what is in the files of the step, by their numbers, where it counts
	finish   []func()         // to call after the commit
	total    int64
	bytes    int64
}

// step runs one step, and again if what it failed of may be gone by itself, as often as the model says.
func (r *run) step(ctx context.Context, s *step) error {
	var said []string
	for {
		entry, aside, err := r.once(ctx, s, said)
		if entry == nil {
			return err
		}
		if err == nil {
			r.add(entry)
			return nil
		}
		if ctx.Err() == nil && passing(err) && r.again(ctx, s, len(said), err) {
			said = append(said, "begun again: "+err.Error())
			continue
		}
		if lerr := r.inLedger(ctx, s, entry, aside); lerr != nil {
			err = errors.Join(err, lerr)
		}
		return err
	}
}

// once runs one step in one transaction. What failed before is said in its notes. The entry says how it ended, and is
// written if it went well; aside are the rows that it would have set aside.
func (r *run) once(ctx context.Context, s *step, said []string) (*ledger.Step, *setAsideBook, error) {
	if r.dry != nil && r.dry.failed {
		return nil, nil, plan.ErrNotRun
	}
	started := time.Now().UTC()
	r.tell(Progress{Step: s.name})
	w := r.workOf(s, r.whole[s.name])
	whole := ctx
	ctx, cancel := w.inTime(ctx)
	defer cancel()
	err := w.try(ctx)
	switch {
	case errors.Is(err, errAll) && r.dry != nil: // one step alone cannot be taken back
		r.whole[s.name] = true
		w.tx.Rollback()
		w.discard()
		return nil, nil, err
	case errors.Is(err, errAll): // once more from the beginning
		w.tx.Rollback()
		w.discard()
		if s.dimension != nil {
			w.forget(s.dimension.Dimension) // the roster has heard of rows already
		}
		clock := w.clock
		w = r.workOf(s, true)
		w.clock = clock
		err = w.try(ctx)
	}
	if a, ok := w.tx.(*ahead); ok && err == nil { // it is not over before
		_, err = a.turn(ctx)
	}
	if late := context.Cause(ctx); errors.Is(late, errLate) && err != nil {
		err = late
	}
	ctx = whole
	w.figures.Notes = append(w.figures.Notes, said...)
	ended := time.Now().UTC()
	w.figures.Waited = w.clock.waited.Milliseconds()
	entry := &ledger.Step{
		Run:       r.entry.ID,
		Name:      s.name,
		StartedAt: &started,
		EndedAt:   &ended,
		State:     ledger.Done,
		Figures:   w.figures,
	}
	if err == nil {
		err = r.inTx(ctx, w, entry)
	}
	if w.tx != nil {
		w.tx.Rollback()
	}
	w.discard()
	if err == nil {
		return entry, nil, nil
	}
	if ctx.Err() != nil {
		err = errors.New("stopped")
	}
	entry.State, entry.Message = ledger.Failed, err.Error()
	entry.Figures = ledger.Figures{Read: w.figures.Read, SetAside: w.figures.SetAside, Reasons: w.figures.Reasons, Notes: said}
	return entry, w.aside, err
}

// workOf begins a step.
func (r *run) workOf(s *step, all bool) *work {
	w := &work{run: r, step: s, all: all, clock: &clock{}, strays: map[strayID]*ledger.Stray{}}
	w.kind = s.kindOf(w)
	return w
}

// inTx writes the entry of a step that went well in the step's own transaction, and commits.
func (r *run) inTx(ctx context.Context, w *work, entry *ledger.Step) error {
	if err := ledger.WriteStep(ctx, w.tx, entry); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := w.tx.Commit(); errors.Is(err, warehouse.ErrUnknown) {
		if err := r.committed(ctx, w, entry); err != nil {
			return err
		}
	} else if err != nil {
		return err
	}
	for _, s := range w.sessions {
		s.Commit()
	}
	for _, f := range w.finish {
		f()
	}
	for _, s := range w.sessions {
		r.seat(s.Dimension().Dimension).weigh()
	}
	return nil
}

// committed asks the ledger whether a step was committed whose connection broke meanwhile: in a transaction, so
// that the server has ended the one before.
func (r *run) committed(ctx context.Context, w *work, entry *ledger.Step) error {
	w.tx.Rollback()
	return r.transactFor(context.WithoutCancel(ctx), w.step, func(tx warehouse.Tx) error {
		if ended, err := ledger.Ended(ctx, tx, entry.Run, entry.Name); err != nil || ended {
			return err
		}
		return errLost
	})
}

// inLedger writes the entry of a step that failed or was not run, with the first rows that it had set
// aside, in a transaction of its own.
func (r *run) inLedger(ctx context.Context, s *step, entry *ledger.Step, aside *setAsideBook) error {
	ctx = context.WithoutCancel(ctx)
	r.add(entry)
	if r.dry != nil {
		return nil
	}
	return r.transactFor(ctx, s, func(tx warehouse.Tx) error {
		if err := ledger.WriteStep(ctx, tx, entry); err != nil || aside == nil {
			return err
		}
		book, err := ledger.OpenAsides(ctx, tx, entry.Name, entry.Run, &r.places[s].aside)
		if err != nil {
			return err
		}
		for i := range aside.first {
			if err := book.Fail(&aside.first[i]); err != nil {
				return err
			}
		}
		return book.Write()
	})
}

func (r *run) add(entry *ledger.Step) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.entry.Steps = append(r.entry.Steps, entry)
}

// try does the step's work up to the point where only the ledger's entry is missing.
func (w *work) try(ctx context.Context) error {
	if err := w.held.check(ctx); err != nil {
		return err
	}
	err := w.openTx(ctx)
	if err != nil {
		return err
	}
	if err := w.kind.tables(ctx); err != nil {
		return err
	}
	if err := w.checkMeaning(ctx); err != nil {
		return err
	}
	if err := standing.Days(ctx, w.tx, w.star, w.inputs.Days); err != nil {
		return err
	}
	if w.aside, err = openAsides(ctx, w); err != nil {
		return err
	}
	w.names = w.kind.columns()
	if err = w.deliverFiles(ctx); err != nil {
		return err
	}
	if w.chosen, err = w.kind.reads(ctx); err != nil {
		return err
	}
	if w.chosen == nil {
		if err := w.nothingNew(ctx); err != nil {
			return err
		}
		return w.asAsked(ctx)
	}
	w.inArrival()
	if err := w.open(ctx); err != nil {
		return err
	}
	if err := w.findKeys(ctx); err != nil {
		return err
	}
	if err := w.answerKeys(ctx); err != nil {
		return err
	}
	if err := w.kind.load(ctx); err != nil {
		return err
	}
	if err := w.recordReferences(ctx); err != nil {
		return err
	}
	w.keep()
	w.figures.Keys = map[string]*ledger.KeyCounts{}
	for k := range w.keys {
		w.figures.Keys[w.links[k].Text] = &w.keys[k]
	}
	if err := w.aside.fallen(); err != nil {
		return err
	}
	if err := w.aside.close(ctx, w.wholly(), w.unread()); err != nil {
		return err
	}
	if err := w.keepMarks(ctx); err != nil {
		return err
	}
	if err := w.keepDerived(ctx); err != nil {
		return err
	}
	f := &w.figures
	w.arrived = f.Read
	if w.flow != nil {
		f.Read = w.flow.Read()
		f.Dropped, f.Merged = w.flow.Gone()
		f.Left = w.flow.LeftOut()
		for _, n := range f.Left {
			f.LeftOut += n
		}
		f.Stages, f.Passed = w.flow.Counts(), w.flow.Passed()
		f.Notes = append(f.Notes, w.flow.Notes()...)
	}
	if sum := f.Accounted(); sum != f.Read {
		return fmt.Errorf("the account does not hold: %d rows were read, and %d are accounted for", f.Read, sum)
	}
	return w.withinLimits(ctx)
}

// nothingNew ends a step of which no file has to be read: the table is as the ledger says, which was asked.
func (w *work) nothingNew(ctx context.Context) error {
	if w.figures.Table = w.book.Rows; w.figures.Wrote() { // keys were pointed to members
		if err := w.book.Keep(ctx, w.tx, w.entry.ID); err != nil {
			return err
		}
	}
	return w.recordReferences(ctx)
}

// recordReferences writes down where the step's table points to, so that loads of other models know it too. Of a table
// that another program or model loads, that is not this model's to say.
func (w *work) recordReferences(ctx context.Context) error {
	if w.kind.target().Borrowed {
		return nil
	}
	table := w.kind.target().Name
	refs := map[string][]schema.Reference{}
	for _, k := range w.step.keys {
		for _, ref := range w.star.Dimension(k.Dimension).PointedAt {
			if ref.Table == table && (ref.Key == k.Column() || ref.Durable && ref.Key == k.DurableColumn()) {
				refs[k.Dimension.TableName()] = append(refs[k.Dimension.TableName()], ref)
			}
		}
	}
	return ledger.Points(ctx, w.tx, table, refs)
}

// open finds the rows of the step, reading only the columns it needs.
func (w *work) open(ctx context.Context) error {
	declared := w.kind.source()
	if declared == nil {
		w.source = noun(w.name)
		if w.rows = w.kind.given(); w.rows != nil {
			w.fields = w.rows.Fields()
		}
		return nil
	}
	w.source = declared.Text
	w.chosen = w.seeing(w.chosen)
	err := w.openWithin(ctx)
	if err != nil {
		return err
	}
	w.flow, err = transform.Open(ctx, w.chosen, declared, w.needs)
	if err != nil {
		return err
	}
	w.rows, w.files, w.total, w.fields = w.taking(w.flow), w.flow.Names(), w.flow.Size(), w.flow.Fields()
	if w.remake != nil {
		w.remake.read[w.name] = w.files
	}
	return nil
}

// seeing returns inputs that see the star as it stands, if the step's source is made of some of it.
func (w *work) seeing(in *source.Inputs) *source.Inputs {
	if len(w.kind.source().Stands()) == 0 {
		return in
	}
	seen := standing.New(w.tx, w.star)
	if w.derived != nil && w.derived.grown != nil {
		seen = seen.Growing(w.derived.grown)
	}
	return in.Over(seen)
}

// needs reports whether the step needs a column of its source.
func (w *work) needs(name string) bool {
	return slices.Contains(w.names, name)
}

// connect makes the links of the step's keys; links to one dimension share a session.
func (w *work) connect(ctx context.Context) error {
	rosters := map[*star.Dimension]*roster.Roster{}
	for _, k := range w.step.keys {
		x, err := w.members(ctx, k.Dimension)
		if err != nil {
			return err
		}
		rosters[k.Dimension] = x
	}
	sessions := map[*roster.Roster]*dimension.Session{}
	w.links = resolve.New(w.step.keys, w.fields, func(d *star.Dimension) *roster.Roster { return rosters[d] },
		func(x *roster.Roster) *dimension.Session {
			if sessions[x] == nil {
				sessions[x] = dimension.NewSession(x, w.entry.ID, w.name)
				if g := w.growth(ctx, x.Dimension()); g != nil {
					sessions[x].Grows(g)
				}
				w.sessions = append(w.sessions, sessions[x])
			}
			return sessions[x]
		})
	for _, l := range w.links {
		l.Answers = w.answers[l.Key]
	}
	w.keys = make([]ledger.KeyCounts, len(w.links))
	return nil
}

// count adds up the outcomes of a chunk's keys, and stops where a rule says so.
func (w *work) count(b *column.Batch, r *resolve.Resolved) error {
	for k := range w.keys {
		c := &r.Counts[k]
		w.keys[k].Matched += c.Matched
		w.keys[k].Missing += c.Missing
		w.keys[k].Unmatched += c.Unmatched
		w.keys[k].Outside += c.Outside
	}
	for _, s := range r.Strays {
		l := w.links[s.Link]
		id := strayID{s.Link, s.Outside, l.Natural(b, int(s.Row))}
		found := w.strays[id]
		if found == nil {
			if len(w.strays) >= mostStrays {
				continue
			}
			found = &ledger.Stray{
				Outcome: "unmatched",
				Rule:    string(l.Unmatched),
				Natural: id.natural,
				File:    b.From.File,
				Line:    b.From.Line[s.Row],
			}
			if s.Outside {
				found.Outcome, found.Rule = "outside", string(l.Outside)
			}
			w.strays[id] = found
		}
		found.Rows++
		if times := l.Time(b); s.Outside && times != nil {
			at := times.Value(int(s.Row)) // as text, times are in the order of time
			if found.Earliest == "" || at < found.Earliest {
				found.Earliest = at
			}
			found.Latest = max(found.Latest, at)
		}
	}
	return r.Stop
}

// strayID tells strays apart.
type strayID struct {
	link    int32
	outside bool
	natural string
}

// So many strays are told apart in a step, and so many of a key are kept: the most frequent.
const (
	mostStrays = 10_000
	keptStrays = 20
)

// keep returns the keys' figures their most frequent strays.
func (w *work) keep() {
	for id, s := range w.strays {
		w.keys[id.link].Strays = append(w.keys[id.link].Strays, *s)
	}
	for k := range w.keys {
		list := w.keys[k].Strays
		slices.SortFunc(list, func(a, b ledger.Stray) int {
			return cmp.Or(
				cmp.Compare(b.Rows, a.Rows),
				cmp.Compare(a.File, b.File),
				cmp.Compare(a.Line, b.Line),
				cmp.Compare(a.Natural, b.Natural),
			)
		})
		w.keys[k].Strays = list[:min(len(list), keptStrays)]
		w.keys[k].More = int64(len(list) - len(w.keys[k].Strays))
	}
}

// read tells how far the step has come.
func (w *work) read(b *column.Batch) {
	w.bytes += b.From.Bytes
	rows := w.figures.Read
	if w.flow != nil {
		rows = w.flow.Read()
	}
	w.tell(Progress{Step: w.name, Total: w.total, Bytes: w.bytes, Rows: rows})
}

// busy tells which of the parts on disk is gone through.
func (w *work) busy(part, of int) {
	w.tell(
		Progress{Step: w.name, Total: w.total, Bytes: w.bytes, Doing: fmt.Sprintf("part %d of %d on disk", part, of)},
	)
}

// inferred writes what the step made in other dimensions, and counts it.
func (w *work) inferred(ctx context.Context) error {
	for _, s := range w.sessions {
		if err := w.keepMade(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

// keepMade writes the members that a session has made, and the account of their dimension.
func (w *work) keepMade(ctx context.Context, s *dimension.Session) error {
	if err := s.Finish(ctx, w.tx); err != nil || s.Made() == 0 {
		return err
	}
	if err := w.inferredAccount(ctx, s.Dimension().Text, s.Dimension().Table.Name, s.Added); err != nil {
		return err
	}
	if w.figures.Inferred == nil {
		w.figures.Inferred = map[string]int64{}
	}
	w.figures.Inferred[s.Dimension().Text] += s.Made()
	return w.buildHierarchy(ctx, s.Dimension())
}

// written is the rows of a static dimension as a source.
type written struct{ *star.Rows }

func (s written) Fields() []column.Field { return s.Rows.Fields }

func (s written) Pieces(context.Context) iter.Seq2[column.Piece, error] {
	return func(yield func(column.Piece, error) bool) { yield(s, nil) }
}

func (s written) Fill(b *column.Batch) error {
	b.Reset(s.Batch.N)
	for k := range s.Batch.Cols {
		b.Cols[k].Copy(&s.Batch.Cols[k], s.Batch.N)
	}
	b.From = s.Batch.From
	return nil
}
