// Package plan orders steps: what needs what, what merely has to come after what, and who may run at
// the same time. It knows nothing of what steps do.
package plan

import (
	"context"
	"errors"
	"slices"
)

// Step is a piece of work with the steps before it, by position.
type Step struct {
	Name  string
	Needs []int // these must have succeeded
	After []int // these must have ended, however
}

// ErrNotRun is why a step did not run: one that it needs did not succeed.
var ErrNotRun = errors.New("not run")

// Run calls do for every step as soon as what it waits for allows, at most limit at a time, and
// earlier steps first. A failed step keeps only those that need it from running. The errors stand in
// the order of the steps; where needs failed, the error is ErrNotRun and ended is told it.
func Run(
	ctx context.Context,
	steps []Step,
	limit int,
	do func(ctx context.Context, step int) error,
	ended func(step int, err error),
) []error {
	errs := make([]error, len(steps))
	started, done := make([]bool, len(steps)), make([]bool, len(steps))
	type end struct {
		step int
		err  error
	}
	ends := make(chan end)
	running := 0
	finish := func(i int, err error) {
		errs[i], done[i] = err, true
		ended(i, err)
	}
	for slices.Contains(done, false) {
		progress := false
		for i, s := range steps {
			if started[i] || !all(s.Needs, done) || !all(s.After, done) {
				continue
			}
			if slices.ContainsFunc(s.Needs, func(n int) bool { return errs[n] != nil }) {
				started[i], progress = true, true
				finish(i, ErrNotRun)
			} else if running < limit {
				started[i], progress = true, true
				running++
				go func() { ends <- end{i, do(ctx, i)} }()
			}
		}
		if progress {
			continue
		}
		e := <-ends
		running--
		finish(e.step, e.err)
	}
	return errs
}

func all(steps []int, done []bool) bool {
	for _, s := range steps {
		if !done[s] {
			return false
		}
	}
	return true
}
