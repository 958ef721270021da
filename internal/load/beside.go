package load

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"ironmonger/internal/ledger"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Steps that do not need each other run at the same time. Where the warehouse has several writers, as many write; where it
// has one, steps read ahead of it ([ahead]). What a load makes is what it would make one step after the other, to the key
// and the number:
//
//   - Steps that may add members to the same dimension, or one of which reads what the other adds to, follow each other
//     ([order]).
//   - Before a step changes a table that others may change, too, such as the keys of a fact, it waits for the steps before it
//     ([inTurn]). Where there is one writer, it does so before it changes any.
//   - Files are numbered before the first step, or in the order of the steps ([work.inOrder]), and rows set aside in ranges
//     ([ledger.AsideNumbers]).

// stepsAhead is how many steps read at the same time where one writes.
const stepsAhead = 4

// atOnce is how many steps may run at the same time.
func (r *run) atOnce() int {
	can := r.wh.Capabilities()
	most := can.Writers
	if can.Ahead {
		most = stepsAhead
	}
	if r.opts.AtOnce > 0 {
		most = min(most, r.opts.AtOnce)
	}
	return max(most, 1)
}

// place is where a step stands among those of the run.
type place struct {
	aside    int64         // the last number that a row which it sets aside has got
	beside   int           // how many steps may run at the same time, itself included
	numbered chan struct{} // closed once it numbers no files any more
	ended    chan struct{} // closed once it has ended
}

// placesOf returns the places of the run's steps.
func (r *run) placesOf(ctx context.Context, tx warehouse.Tx) (map[*step]*place, error) {
	numbers, err := ledger.AsideNumbers(ctx, tx, len(r.steps))
	if err != nil {
		return nil, err
	}
	plain, err := r.numberPlain(ctx, tx)
	if err != nil {
		return nil, err
	}
	beside := besides(r.steps, r.atOnce())
	places := map[*step]*place{}
	for i, s := range r.steps {
		places[s] = &place{
			aside: numbers[i], beside: beside[i], numbered: make(chan struct{}), ended: make(chan struct{}),
		}
		if plain[s] {
			places[s].hasNumbered()
		}
	}
	return places, nil
}

// numberPlain numbers the files of facts for which it does not matter in which order files came, and which share none
// with steps for which it does. These are numbered before any step runs.
func (r *run) numberPlain(ctx context.Context, tx warehouse.Tx) (map[*step]bool, error) {
	careful := map[string]bool{} // files of steps that number them themselves, or none
	plain := map[*step]bool{}
	for _, s := range r.steps {
		of := (*star.Source)(nil)
		switch {
		case s.fact != nil && countingOf(s.fact) == anyOrder:
			plain[s] = true
			continue
		case s.fact != nil:
			of = s.fact.Source
		case s.dimension.Timed():
			of = s.dimension.Source
		}
		for _, name := range r.reads[of] {
			careful[name] = true
		}
	}
	var names []string
	for _, s := range r.steps {
		if plain[s] && slices.ContainsFunc(r.reads[s.fact.Source], func(name string) bool { return careful[name] }) {
			delete(plain, s)
		}
		if plain[s] {
			names = append(names, r.reads[s.fact.Source]...)
		}
	}
	_, err := ledger.Files(ctx, tx, names, r.entry.ID)
	return plain, err
}

// hasNumbered says that the step of the place numbers no more files. Only the step itself says so before it ends.
func (p *place) hasNumbered() {
	select {
	case <-p.numbered:
	default:
		close(p.numbered)
	}
}

func (p *place) end() {
	p.hasNumbered()
	close(p.ended)
}

// sortEntries puts the entries of the run's steps in the order of the steps.
func (r *run) sortEntries() {
	r.mu.Lock()
	defer r.mu.Unlock()
	at := map[string]int{}
	for i, s := range r.steps {
		at[s.name] = i
	}
	slices.SortStableFunc(r.entry.Steps, func(a, b *ledger.Step) int { return cmp.Compare(at[a.Name], at[b.Name]) })
}

// share is the part of the memory that is a step's: others that may run at the same time have as much.
func (w *work) share() int64 { return max(1, w.opts.Memory/int64(w.places[w.step].beside)) }

// besides returns how many steps may run at the same time as each of some, itself included: as many as neither wait for
// it nor it for them, and at most most.
func besides(steps []*step, most int) []int {
	edges := order(steps)
	before := make([]map[int]bool, len(steps))
	for i, e := range edges { // steps stand behind those that they wait for
		before[i] = map[int]bool{}
		for _, j := range slices.Concat(e.Needs, e.After) {
			before[i][j] = true
			for k := range before[j] {
				before[i][k] = true
			}
		}
	}
	counts := make([]int, len(steps))
	for i := range steps {
		n := len(steps)
		for j := range steps {
			if before[i][j] || before[j][i] {
				n--
			}
		}
		counts[i] = min(n, most)
	}
	return counts
}

// waitTurn waits until the dimensions before the step have ended, which may change the tables of others, too. So these
// change as if one step ran after the other. The earlier of two steps never waits for the later one.
func (w *work) waitTurn(ctx context.Context) error {
	return w.waitFor(ctx, func(s *step, p *place) chan struct{} {
		if s.dimension == nil {
			return nil
		}
		return p.ended
	})
}

// waitFor waits until the steps before this one have come as far as a channel says; nil is not waited for.
func (w *work) waitFor(ctx context.Context, far func(s *step, p *place) chan struct{}) error {
	w.clock.stop()
	defer w.clock.start()
	for _, s := range w.steps[:slices.Index(w.steps, w.step)] {
		until := far(s, w.places[s])
		if until == nil {
			continue
		}
		select {
		case <-until:
			continue
		default:
			w.tell(Progress{Step: w.name, Total: w.total, Bytes: w.bytes, Doing: "waits for " + s.name})
		}
		select {
		case <-until:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
	return nil
}

// inOrder runs f, which gives files their numbers, once the steps before have numbered theirs.
func (w *work) inOrder(ctx context.Context, f func(tx warehouse.Tx) error) error {
	err := w.waitFor(ctx, func(s *step, p *place) chan struct{} {
		if s.dimension != nil && !s.dimension.Timed() { // it never numbers any
			return nil
		}
		return p.numbered
	})
	if err != nil {
		return err
	}
	return w.ofFiles(ctx, f)
}

// ofFiles runs f, which writes down something of files. Steps that write at the same time would wait for each other's
// transactions, or not see what these have written, so f has one of its own where there are others: if the step fails,
// its files keep their place in the order in which they came.
func (w *work) ofFiles(ctx context.Context, f func(tx warehouse.Tx) error) error {
	if a, ok := w.tx.(*ahead); ok { // f asks before it writes
		return a.write(ctx, f)
	}
	if w.atOnce() == 1 || w.wh.Capabilities().Writers == 1 {
		return f(w.tx)
	}
	tx, err := w.wh.Beside(ctx, "files")
	if err != nil {
		return err
	}
	if err = in(tx, f); errors.Is(err, warehouse.ErrUnknown) { // numbers that are there already are found again
		return errLost
	}
	return err
}

// openTx begins the step's transaction.
func (w *work) openTx(ctx context.Context) error {
	if w.wh.Capabilities().Ahead && w.places[w.step].beside > 1 {
		return w.beginAhead(ctx)
	}
	tx, err := w.wh.Beside(ctx, w.name)
	if err == nil {
		w.tx = &inTurn{w.kept.Wrap(tx), w}
	}
	return err
}

// inTurn is a step's transaction, which waits for its turn before it changes keys in the tables of others.
type inTurn struct {
	warehouse.Tx
	of *work
}

// Repoint waits unless the table is the step's own.
func (t *inTurn) Repoint(ctx context.Context, r *warehouse.Repointing) (int64, error) {
	if r.Table != t.of.kind.target().Name {
		if err := t.of.waitTurn(ctx); err != nil {
			return 0, err
		}
	}
	return t.Tx.Repoint(ctx, r)
}
