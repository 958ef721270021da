package load

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"ironmonger/internal/ledger"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Part is which dimensions and facts of the model a load is of; the zero value is all of them.
type Part struct {
	Names   []string // these, and what they need
	Alone   bool     // these, and nothing else
	Without []string // all but these
	Failed  bool     // those of which the last load is not done
}

// ErrAllDone says that there is nothing to do again.
var ErrAllDone = errors.New("no step of the last load failed or was left out")

// all reports whether a part is the whole.
func (p Part) all() bool { return len(p.Names) == 0 && len(p.Without) == 0 && !p.Failed }

// chosen returns the steps that the run is of, in their order.
func (r *run) chosen(ctx context.Context) ([]*step, error) {
	steps, part := r.ordered(), r.opts.Part
	if part.all() {
		return steps, nil
	}
	wanted := map[*step]bool{}
	if part.Failed {
		open, err := r.lastOpen(ctx)
		if err != nil {
			return nil, err
		}
		for _, s := range steps {
			wanted[s] = open(s.name)
		}
	}
	for _, s := range slices.Backward(steps) {
		switch {
		case len(part.Names) == 0 && !part.Failed, slices.Contains(part.Names, noun(s.name)):
			wanted[s] = true
		}
		for _, other := range steps { // which come before it
			if wanted[s] && len(part.Names) > 0 && !part.Alone && other != s && s.needs(other) {
				wanted[other] = true
			}
		}
	}
	for _, s := range steps {
		if slices.Contains(part.Without, noun(s.name)) {
			wanted[s] = false
		}
	}
	list := slices.DeleteFunc(slices.Clone(steps), func(s *step) bool { return !wanted[s] })
	if len(list) == 0 && part.Failed {
		return nil, ErrAllDone
	}
	return list, r.standing(ctx, steps, list)
}

// lastOpen tells the steps that the last load did not do: those that failed or did not run because of that, or that it
// did not come to before it died.
func (r *run) lastOpen(ctx context.Context) (func(step string) bool, error) {
	runs, err := ledger.Runs(ctx, r.wh, mostRuns)
	if err != nil {
		return nil, err
	}
	for _, run := range runs {
		if len(run.Steps) == 0 || run.State == ledger.Undone {
			continue
		}
		state := map[string]string{}
		for _, s := range run.Steps {
			state[s.Name] = s.State
		}
		died := run.State == ledger.Broken || run.State == ledger.Running
		return func(step string) bool {
			s, there := state[step]
			return there && s != ledger.Done || !there && died
		}, nil
	}
	return nil, ErrAllDone
}

// standing refuses a part of which a step needs a table that is not there and that it does not load.
func (r *run) standing(ctx context.Context, all, list []*step) error {
	for _, s := range list {
		for _, other := range all {
			if slices.Contains(list, other) || other == s || !s.needs(other) {
				continue
			}
			table := ""
			if other.dimension != nil {
				table = other.dimension.Table.Name
			} else {
				table = other.fact.Table.Name
			}
			there, err := describe(ctx, r.wh, table)
			if err != nil {
				return err
			}
			if !there {
				return fmt.Errorf("%s needs %s, which has never been loaded and is not part of this load", s.name, other.name)
			}
		}
	}
	return nil
}

func describe(ctx context.Context, r warehouse.Reader, table string) (bool, error) {
	t, err := r.Describe(ctx, table)
	return t != nil, err
}

// sourcesOf lists the sources of some steps, and all that these are made of.
func sourcesOf(steps []*step) []*star.Source {
	var list []*star.Source
	var walk func(s *star.Source)
	walk = func(s *star.Source) {
		if s == nil || slices.Contains(list, s) {
			return
		}
		list = append(list, s)
		for _, o := range s.Others() {
			walk(o)
		}
	}
	for _, s := range steps {
		switch {
		case s.fact != nil:
			walk(s.fact.Source)
		case s.dimension.Source != nil:
			walk(s.dimension.Source)
		}
		if s.dimension != nil && s.dimension.Aliases != nil {
			walk(s.dimension.Aliases.Source)
		}
	}
	return list
}
