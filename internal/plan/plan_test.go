package plan

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"
)

// TestRandomGraphs runs random graphs with random failures: nothing runs before what it waits for, nothing
// more at once than is allowed, all that can run does, and what needs a failure does not.
func TestRandomGraphs(t *testing.T) {
	failure := errors.New("failure")
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 1))
		steps := make([]Step, 1+r.IntN(12))
		fails := make([]bool, len(steps))
		for i := range steps {
			fails[i] = r.IntN(5) == 0
			for j := range i { // in another order than they stand
				from, to := i, j
				if seed%2 == 0 {
					from, to = len(steps)-1-i, len(steps)-1-j
				}
				switch r.IntN(5) {
				case 0:
					steps[from].Needs = append(steps[from].Needs, to)
				case 1:
					steps[from].After = append(steps[from].After, to)
				}
			}
		}
		limit := 1 + r.IntN(3)
		var mu sync.Mutex
		var running, most int
		ended := map[int]bool{}
		ran := map[int]bool{}
		errs := Run(context.Background(), steps, limit, func(_ context.Context, i int) error {
			mu.Lock()
			running++
			most = max(most, running)
			for _, j := range slices.Concat(steps[i].Needs, steps[i].After) {
				if !ended[j] {
					t.Errorf("seed %d: step %d runs before %d has ended", seed, i, j)
				}
			}
			ran[i] = true
			mu.Unlock()
			time.Sleep(time.Duration(rand.IntN(2)) * time.Microsecond)
			mu.Lock()
			defer mu.Unlock()
			running--
			if fails[i] {
				return failure
			}
			return nil
		}, func(i int, err error) {
			mu.Lock()
			defer mu.Unlock()
			ended[i] = true
		})
		if most > limit {
			t.Errorf("seed %d: %d at once, allowed are %d", seed, most, limit)
		}
		for i, err := range errs {
			want := error(nil)
			if slices.ContainsFunc(steps[i].Needs, func(j int) bool { return errs[j] != nil }) {
				want = ErrNotRun
			} else if fails[i] {
				want = failure
			}
			if err != want || ran[i] != (want != ErrNotRun) {
				t.Errorf("seed %d: step %d: %v, ran %v; want %v", seed, i, err, ran[i], want)
			}
		}
		if len(ended) != len(steps) {
			t.Error("some steps never ended:", fmt.Sprint(ended))
		}
	}
}
