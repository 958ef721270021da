package load

import (
	"context"
	"errors"
	"time"

	"ironmonger/internal/dberror"
	"ironmonger/internal/ledger"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// errLost says that a step was not committed, since the connection broke before.
var errLost = errors.New("the connection to the database was lost before the step was committed")

// firstWait is how long a step waits before it begins again; each time after that, four times as long.
const firstWait = time.Second

// passing reports whether what a step failed of may be gone by itself.
func passing(err error) bool {
	return errors.Is(err, errLost) || errors.Is(err, warehouse.ErrUnknown) || dberror.Passing(err)
}

// again waits until a step can begin again; false if it has begun as often as the model says, or if another load has
// run meanwhile.
func (r *run) again(ctx context.Context, s *step, tries int, err error) bool {
	limits := r.workOf(s, false).kind.limits()
	if r.dry != nil {
		return false
	}
	for ; int64(tries) < limits.Retries; tries++ {
		wait := firstWait << (2 * min(tries, 4))
		r.tell(Progress{Step: s.name, Again: err, Wait: wait})
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return false
		}
		if err = r.regain(ctx); err == nil {
			return true
		}
		if !passing(err) {
			return false
		}
	}
	return false
}

// errMeanwhile says that another load has run while this one did not hold the warehouse.
var errMeanwhile = errors.New("another load has run meanwhile")

// regain takes the warehouse once more, which is lost with the connection that held it, and forgets what it knew of its
// members.
func (r *run) regain(ctx context.Context) error {
	r.held.mu.Lock()
	defer r.held.mu.Unlock()
	if r.held.Hold != nil && r.held.Check(ctx) == nil {
		return nil // only the step's own connection was lost, or another step has it back
	}
	if r.held.Hold != nil {
		r.held.Release()
		r.held.Hold = nil
	}
	held, err := r.hold(ctx)
	if err != nil {
		return err
	}
	r.held.Hold = held
	runs, err := ledger.Runs(ctx, r.wh, 1)
	if err != nil {
		return err
	}
	if len(runs) == 0 || runs[0].ID != r.entry.ID {
		r.held.meanwhile = true
		return errMeanwhile
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.rosters = map[*star.Dimension]*seat{}
	return nil
}
