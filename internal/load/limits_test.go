package load

import (
	"context"
	"errors"
	"testing"
	"time"

	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// TestClock: what a step waits for others does not count for its time, and what it does after that does.
func TestClock(t *testing.T) {
	d := &schema.Dimension{Dimension: &star.Dimension{Limits: star.Limits{Time: 200 * time.Millisecond}}}
	w := (&run{}).workOf(&step{dimension: d}, false)
	ctx, cancel := w.inTime(t.Context())
	defer cancel()
	for range 3 {
		w.clock.stop()
		time.Sleep(150 * time.Millisecond)
		w.clock.start()
	}
	if ctx.Err() != nil || w.clock.waited < 450*time.Millisecond {
		t.Fatalf("%v; it waited %s", ctx.Err(), w.clock.waited)
	}
	begin := time.Now()
	<-ctx.Done()
	if took := time.Since(begin); took > time.Second || !errors.Is(context.Cause(ctx), errLate) {
		t.Errorf("%v after %s", context.Cause(ctx), took)
	}
}
