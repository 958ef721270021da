package load

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// withinLimits checks the shares of rows set aside and unmatched (rule R7).
func (w *work) withinLimits(ctx context.Context) error {
	f := &w.figures
	over := func(n, of, limit int64) bool {
		return of > star.LimitFrom && limit != star.NoLimit && n*100_0000 > limit*of
	}
	percent := func(n, of int64) string {
		return string(exact.AppendDecimal(nil, exact.Wide(n*1000/of), 1)) + "%"
	}
	limit := func(l int64) string {
		return string(exact.AppendDecimal(nil, exact.Wide(l/1000), 1)) + "%"
	}
	if meant := f.Read - f.LeftOut; over(f.SetAside, meant, w.kind.limits().SetAside) {
		return fmt.Errorf(
			"%d of %d rows (%s) would be set aside, more than %s: nothing is kept. The most frequent reason: %s. Look at the rows, or raise limits.set_aside",
			f.SetAside,
			meant,
			percent(f.SetAside, meant),
			limit(w.kind.limits().SetAside),
			w.aside.main(),
		)
	}
	for k, l := range w.links {
		if l.Dimension.Inferable() && over(w.keys[k].Unmatched, w.arrived, w.kind.limits().Unmatched) {
			return fmt.Errorf(
				"key %s: %d of %d rows (%s) are unmatched, more than %s: nothing is kept. Is the dimension's source complete, and the key written alike on both sides? Else raise limits.unmatched",
				l.Text,
				w.keys[k].Unmatched,
				w.arrived,
				percent(w.keys[k].Unmatched, w.arrived),
				limit(w.kind.limits().Unmatched),
			)
		}
	}
	if err := w.asUsual(ctx); err != nil {
		return err
	}
	return w.asAsked(ctx)
}

// errLate says that a step took longer than it may.
var errLate = errors.New("the step took longer than limits.time allows")

// inTime ends a step that takes longer than it may, not counting what it waits for others.
func (w *work) inTime(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancelCause(ctx)
	if limit := w.kind.limits().Time; limit > 0 {
		w.clock.left = limit
		w.clock.timer = time.AfterFunc(limit, func() { cancel(fmt.Errorf("%w: %s", errLate, limit)) })
	}
	w.clock.start()
	return ctx, func() {
		w.clock.stop()
		cancel(nil)
	}
}

// clock measures the time that a step takes. It stands still while the step waits for others.
type clock struct {
	timer   *time.Timer   // nil if the step may take as long as it likes
	left    time.Duration // that it may still take
	since   time.Time     // it has been running, or standing still
	waiting bool
	waited  time.Duration
}

func (c *clock) start() {
	if c.waiting {
		c.waited += time.Since(c.since)
		if c.timer != nil {
			c.timer.Reset(max(c.left, 0))
		}
	}
	c.waiting, c.since = false, time.Now()
}

func (c *clock) stop() {
	if c.timer != nil {
		c.timer.Stop()
		c.left -= time.Since(c.since)
	}
	c.waiting, c.since = true, time.Now()
}

const (
	usualRuns  = 10 // the loads by which it is judged what is usual
	leastUsual = 3  // with fewer, nothing is
)

// asUsual refuses a step that reads far fewer rows than it usually does.
func (w *work) asUsual(ctx context.Context) error {
	limit := w.kind.limits().Usual
	if limit == star.NoLimit || w.figures.Read == 0 || w.derived != nil { // what is read of the star says nothing of deliveries
		return nil
	}
	runs, err := ledger.Runs(ctx, w.tx, mostRuns)
	if err != nil {
		return err
	}
	var read []int64
	for _, run := range ledger.Lasting(runs) {
		for _, s := range run.Steps {
			if s.Name == w.name && s.State == ledger.Done && s.Figures.Read > 0 && len(read) < usualRuns {
				read = append(read, s.Figures.Read)
			}
		}
	}
	if len(read) < leastUsual {
		return nil
	}
	slices.Sort(read)
	usual := read[len(read)/2]
	if w.figures.Read*100_0000 >= usual*limit {
		return nil
	}
	return fmt.Errorf(
		"%d rows were read, and usually it is %d: nothing is kept. Is a file missing or cut off? Else lower limits.fewer_than_usual",
		w.figures.Read,
		usual,
	)
}

// asAsked notes what the model asks of a load, and that is not so.
func (w *work) asAsked(ctx context.Context) error {
	f := &w.figures
	if f.SetAside > 0 && w.kind.limits().AsideBreak == star.CountsAsBroken {
		f.Unmet = append(f.Unmet, fmt.Sprintf("%d rows are set aside, which counts as broken", f.SetAside))
	}
	if w.fact == nil {
		return nil
	}
	for i := range w.fact.Newest {
		if err := w.newEnough(ctx, &w.fact.Newest[i]); err != nil {
			return err
		}
	}
	return nil
}

// newEnough notes that the newest value of a column is older than it may be.
func (w *work) newEnough(ctx context.Context, n *star.Newest) error {
	q := warehouse.Query{Table: w.fact.Table.Name, Fields: []column.Field{n.Field}}
	newest, any := int64(0), false
	err := warehouse.Each(ctx, w.tx, q, func(b *column.Batch) error {
		for i := range b.N {
			if !b.Cols[0].Null[i] && (!any || b.Cols[0].Int[i] > newest) {
				newest, any = b.Cols[0].Int[i], true
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if !any {
		w.figures.Unmet = append(w.figures.Unmet, fmt.Sprintf("there is no %s, which may be %s old", n.Text, ageOf(n.AtMost)))
		return nil
	}
	at := newest
	if n.Field.Type.Kind == column.Date {
		at = (newest+1)*civil.DayMicros - 1
	}
	zone := w.model.Zone
	if zone == nil {
		zone = time.UTC
	}
	began := w.entry.StartedAt.In(zone)
	_, offset := began.Zone()
	now := began.UnixMicro() + int64(offset)*1_000_000
	if age := time.Duration(now-at) * time.Microsecond; age > n.AtMost {
		text := string(column.AppendInt(nil, n.Field.Type.Kind, newest))
		w.figures.Unmet = append(w.figures.Unmet, fmt.Sprintf("the newest %s is %s, which is %s old; it may be %s", n.Text, text, ageOf(age), ageOf(n.AtMost)))
	}
	return nil
}

// ageOf writes a time in days, or in hours and less.
func ageOf(d time.Duration) string {
	const day = 24 * time.Hour
	switch days := d / day; {
	case days >= 2:
		return fmt.Sprintf("%d days", days)
	case d >= time.Hour:
		return fmt.Sprintf("%d h", d/time.Hour)
	}
	return d.Round(time.Second).String()
}
