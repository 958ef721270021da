package dimension

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/history"
	"ironmonger/internal/ledger"
	"ironmonger/internal/roster"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// presence is a row of a delivery of all.
type presence struct {
	member, scope int32
	on            int64 // when it was delivered; 0 if nobody says
}

// attendance is who was there in a delivery of all.
type attendance struct {
	scopes    []string // what the delivery is complete for, such as the registries that it has rows of
	scopeOf   map[string]int32
	presences []presence
	unsure    map[int32]bool                  // members with rows that were set aside: nobody says that these are gone
	latest    map[string]int64                // by scope, the last delivery that was loaded before, as the ledger has it
	names     map[int32]string                // the natural keys of members that were delivered, where their scopes have to be kept
	old       map[presence]bool               // deliveries that were met and are older than the last of their scope
	kept      map[string]ledger.LastDelivered // what is kept of them, by natural key
	at        []int                           // the columns of the scope in a feed's values
	buf       []byte
	cols      []*column.Column
	rest      *rest // nil if all rows are handed to the feed
}

// rest is what a delivery of all has besides the rows that are handed to a feed.
type rest struct {
	scopes  *column.Batch
	members []int64
	absent  *column.Batch
}

// Beside has the feed find out who is gone beside rows of the delivery that others take, and that say nothing new of members
// which stand and are not gone: the scopes of these rows, how many of these members have their last row in each, and
// the members that stand and have no such row, by their keys, scopes and natural keys.
func (f *Feed) Beside(scopes *column.Batch, members []int64, absent *column.Batch) {
	f.here.rest = &rest{scopes, members, absent}
}

// hear takes note of the rows that others take, and counts their members as not lost.
func (a *attendance) hear(of map[presence]int64) {
	if a.rest == nil {
		return
	}
	cols := column.Pointers(a.rest.scopes.Cols)
	for i, n := range a.rest.members {
		of[presence{scope: a.scope(cols, i)}] += n
	}
}

// newAttendance returns nil where only changes are delivered.
func newAttendance(x *roster.Roster, l roster.Layout) *attendance {
	all := x.Dimension().Deliveries
	if all == nil {
		return nil
	}
	a := &attendance{scopeOf: map[string]int32{}, unsure: map[int32]bool{}}
	if x.Dimension().KeepsScopes() {
		a.names = map[int32]string{}
	}
	for _, f := range all.Scope {
		a.at = append(a.at, column.Find(l.Fields, f.Name))
	}
	return a
}

// scope returns the number of a row's scope.
func (a *attendance) scope(cols []*column.Column, i int) int32 {
	a.buf = digest.AppendRow(a.buf[:0], cols, i)
	n, ok := a.scopeOf[string(a.buf)]
	if !ok {
		n = int32(len(a.scopes))
		var parts []string
		for _, c := range cols {
			parts = append(parts, c.Value(i))
		}
		a.scopeOf[string(a.buf)] = n
		a.scopes = append(a.scopes, strings.Join(parts, ", "))
	}
	return n
}

// Delivered reads which deliveries of all were loaded before. Call it before the first Take.
func (f *Feed) Delivered(ctx context.Context, r warehouse.Reader) error {
	if f.here == nil {
		return nil
	}
	d := f.x.Dimension()
	f.here.latest = map[string]int64{}
	known, err := ledger.Deliveries(ctx, r, d.Text)
	for _, k := range known {
		if latest, ok := f.here.latest[k.Scope]; !ok || k.On > latest {
			f.here.latest[k.Scope] = k.On
		}
	}
	if err == nil && f.here.names != nil {
		f.here.kept, err = ledger.Scopes(ctx, r, d.Text)
	}
	return err
}

// scopeIn returns the scope of a row.
func (f *Feed) scopeIn(v *Delivery, i int) int32 {
	f.here.cols = f.here.cols[:0]
	for _, k := range f.here.at {
		f.here.cols = append(f.here.cols, v.Values[k])
	}
	return f.here.scope(f.here.cols, i)
}

// passed reports whether row i is of an older delivery than the last that was loaded of its scope, or of its member
// where members change their scopes: what it said was taken then, and says nothing any more.
func (f *Feed) passed(v *Delivery, i int) bool {
	if f.here == nil || v.Delivered == nil || len(f.here.latest) == 0 {
		return false
	}
	s := f.scopeIn(v, i)
	latest, ok := f.here.latest[f.here.scopes[s]]
	if f.here.names != nil { // members change their scopes
		var last ledger.LastDelivered
		last, ok = f.here.kept[v.naturalText(i)]
		latest = last.On
	}
	if on := stamp(f.x.Dimension().Deliveries.On.Type, v.Delivered.Int[i]); !ok || on >= latest {
		return false
	}
	if f.here.old == nil {
		f.here.old = map[presence]bool{}
	}
	f.here.old[presence{scope: s, on: v.Delivered.Int[i]}] = true
	return true
}

// present notes that a member was delivered.
func (f *Feed) present(v *Delivery, i int, m int32) {
	p := presence{member: m, scope: f.scopeIn(v, i)}
	if f.here.names != nil {
		f.here.names[m] = v.naturalText(i)
	}
	if v.Delivered != nil {
		p.on = v.Delivered.Int[i]
	}
	f.here.presences = append(f.here.presences, p)
}

// Doubtful passes over row i of a delivery, which was set aside: its member, if it is known, is not gone for that.
func (f *Feed) Doubtful(v *Delivery, i int) {
	if f.here != nil && v.member[i] >= 0 {
		f.here.unsure[v.member[i]] = true
	}
}

// Missed finds the members that were missing from a delivery of all, or are there again, and marks them. Call it
// once, after the last Take and before Settle. It says no where a delivery cannot be believed.
func (f *Feed) Missed(ctx context.Context, tx warehouse.Tx, limit int64) error {
	if f.here == nil {
		return nil
	}
	a, d := f.here, f.x.Dimension()
	lost, of := map[presence]int64{}, map[presence]int64{}
	if a.hear(of); len(a.presences)+len(a.unsure)+len(a.old)+len(of) == 0 {
		for m := range f.x.Len() {
			if !f.x.Member(int32(m)).Versions[0].Inferred {
				return fmt.Errorf("a delivery of all is empty, so all members would be gone: nothing is kept")
			}
		}
		return nil
	}
	times, err := f.times(ctx, tx)
	if err != nil {
		return err
	}
	scopes, err := f.scopesOf(ctx, tx)
	if err != nil {
		return err
	}
	slices.SortStableFunc(
		a.presences,
		func(x, y presence) int { return cmp.Or(cmp.Compare(x.member, y.member), cmp.Compare(x.on, y.on)) },
	)
	order := make([]int32, 0, len(scopes)) // members, by key, so that new keys don't depend on who was read first
	for m := range scopes {
		order = append(order, int32(m))
	}
	slices.SortFunc(
		order,
		func(x, y int32) int { return cmp.Or(cmp.Compare(f.keyOf(x), f.keyOf(y)), cmp.Compare(x, y)) },
	)
	for _, m := range order {
		if a.unsure[m] {
			continue
		}
		from, _ := slices.BinarySearchFunc(
			a.presences,
			m,
			func(p presence, m int32) int { return cmp.Compare(p.member, m) },
		)
		to := from
		for to < len(a.presences) && a.presences[to].member == m {
			to++
		}
		f.walk(m, scopes[m], times, a.presences[from:to], func(at presence, left bool) {
			if of[at]++; left {
				lost[at]++
			}
		})
	}
	for at, n := range lost {
		if all := of[at]; d.Deliveries.Gone != star.Keep && limit != star.NoLimit && all > star.LimitFrom &&
			n*100_0000 > limit*all {
			what := ""
			if s := a.scopes[at.scope]; s != "" {
				what = " of " + s
			}
			return fmt.Errorf(
				"%d of %d members%s would be gone, more than limits.gone allows: nothing is kept. Is the delivery complete?",
				n,
				all,
				what,
			)
		}
	}
	return nil
}

// keyOf returns the key of a member's last version; those of new members are the greatest.
func (f *Feed) keyOf(m int32) int64 {
	if v := f.before(m).Versions; len(v) > 0 {
		return v[len(v)-1].Key
	}
	return 1 << 62
}

// times returns the times of the deliveries of each scope that were not loaded before, in order, and writes them down.
func (f *Feed) times(ctx context.Context, tx warehouse.Tx) ([][]int64, error) {
	a, d := f.here, f.x.Dimension()
	times := make([][]int64, len(a.scopes))
	if d.Deliveries.On == nil {
		for s := range times {
			times[s] = []int64{0}
		}
		return times, nil
	}
	known, err := ledger.Deliveries(ctx, tx, d.Text)
	if err != nil {
		return nil, err
	}
	note := func(p presence) {
		if !slices.Contains(times[p.scope], p.on) {
			times[p.scope] = append(times[p.scope], p.on)
		}
	}
	for _, p := range a.presences {
		note(p)
	}
	for p := range a.old {
		note(p)
	}
	var fresh []ledger.Delivery
	for s, list := range times {
		slices.Sort(list)
		latest, run := int64(history.Unsaid), int64(0)
		list = slices.DeleteFunc(list, func(on int64) bool {
			return slices.ContainsFunc(
				known,
				func(k ledger.Delivery) bool { return k.Scope == a.scopes[s] && k.On == stamp(d.Deliveries.On.Type, on) },
			)
		})
		for _, k := range known {
			if k.Scope == a.scopes[s] && k.On > latest {
				latest, run = k.On, k.Run
			}
		}
		for _, on := range list {
			if stamp(d.Deliveries.On.Type, on) < latest {
				c := column.Column{Type: d.Deliveries.On.Type}
				c.AppendInt(on)
				c.AppendInt(latest / stamp(d.Deliveries.On.Type, 1))
				return nil, fmt.Errorf(
					"the delivery of all of %s is older than the one of %s that run %d loaded: what was gone in between cannot be known any more. Load deliveries in their order",
					c.Value(0),
					c.Value(1),
					run,
				)
			}
			fresh = append(
				fresh,
				ledger.Delivery{Scope: a.scopes[s], On: stamp(d.Deliveries.On.Type, on), Run: f.run},
			)
		}
		times[s] = list
	}
	return times, ledger.Delivered(ctx, tx, d.Text, fresh)
}

// stamp returns a time of a type in microseconds.
func stamp(t column.Type, v int64) int64 {
	if t.Kind == column.Date {
		return v * civil.DayMicros
	}
	return v
}

// scopesOf returns the scope of each member that was known before as its last delivery said it, none if it is not
// one of which anything was delivered now.
func (f *Feed) scopesOf(ctx context.Context, tx warehouse.Tx) ([]int32, error) {
	a, d := f.here, f.x.Dimension()
	scopes := make([]int32, len(f.last))
	if len(a.at) == 0 && a.rest == nil {
		return scopes, nil
	}
	for m := range scopes {
		scopes[m] = none
	}
	byName := map[string]int32{}
	for s, name := range a.scopes {
		byName[name] = int32(s)
	}
	fields := d.Table.Fields()[:1:1]
	for _, k := range a.at {
		fields = append(fields, f.layout.Fields[k])
	}
	natural := len(fields)
	if a.names != nil {
		fields = append(fields, d.NaturalKey...)
	}
	each := func(b *column.Batch) error {
		cols := column.Pointers(b.Cols[1:natural])
		known := len(a.scopes)
		for i := range b.N {
			m, ok := f.x.MemberOf(b.Cols[0].Int[i])
			if !ok || f.keyOf(m) != b.Cols[0].Int[i] {
				continue // a special member, or a version that isn't the current one
			}
			if a.names != nil { // what was delivered last need not be the current version
				if last, kept := a.kept[textOf(column.Pointers(b.Cols[natural:]), i)]; kept {
					if s, now := byName[last.Scope]; now {
						scopes[m] = s
					}
					continue
				}
			}
			if s := a.scope(cols, i); int(s) < known {
				scopes[m] = s
			}
		}
		a.scopes = a.scopes[:known]
		for k, s := range a.scopeOf {
			if int(s) >= known {
				delete(a.scopeOf, k)
			}
		}
		return nil
	}
	if a.rest != nil { // the others are there
		return scopes, each(a.rest.absent)
	}
	return scopes, warehouse.Each(ctx, tx, warehouse.Query{Table: d.Table.Name, Fields: fields}, each)
}

// textOf is the natural key of a row as the ledger keeps it.
func textOf(cols []*column.Column, i int) string {
	var values []string
	for _, c := range cols {
		values = append(values, c.Value(i))
	}
	return ledger.MemberText(values)
}

// naturalText is the natural key of row i.
func (v *Delivery) naturalText(i int) string { return textOf(v.Values[:v.layout.Natural], i) }

// KeepScopes writes down when and in which scope members were delivered, where their rows do not tell.
func (f *Feed) KeepScopes(ctx context.Context, tx warehouse.Tx) error {
	if f.here == nil || f.here.names == nil {
		return nil
	}
	last := map[string]ledger.LastDelivered{}
	for _, p := range f.here.presences { // sorted by member and delivery
		last[f.here.names[p.member]] = ledger.LastDelivered{
			Scope: f.here.scopes[p.scope],
			On:    stamp(f.x.Dimension().Deliveries.On.Type, p.on),
		}
	}
	return ledger.KeepScopes(ctx, tx, f.x.Dimension().Text, f.here.kept, last)
}

// walk goes through the deliveries that concern a member, and marks when it went and came back: those of the scope
// in which it was delivered last, which another delivery may have changed (rule R13). tell is told of each before
// which it was there.
func (f *Feed) walk(m, scope int32, times [][]int64, there []presence, tell func(at presence, left bool)) {
	p, d := f.before(m), f.x.Dimension()
	known := len(p.Versions) > 0 && !p.Versions[0].Inferred
	away := known && p.Versions[len(p.Versions)-1].Gone
	was := away
	see := func(on int64, here bool) {
		if !known { // it begins when it is delivered first
			known = here
			return
		}
		if d.Deliveries.On != nil && !here && len(p.Versions) > 0 && on <= p.Earliest() {
			return // nothing was known of it yet
		}
		if !away {
			tell(presence{scope: scope, on: on}, !here)
		}
		if away == !here {
			return
		}
		if away = !here; away {
			f.Gone++
		} else {
			f.Back++
		}
		if d.Deliveries.Gone == star.Close {
			f.mark(m, on, away)
		}
	}
	since := int64(math.MinInt64)
	for len(there) > 0 || scope != none {
		next := int64(math.MaxInt64)
		if len(there) > 0 {
			next = there[0].on
		}
		if scope != none {
			for _, on := range times[scope] {
				if on > since && on < next {
					see(on, false)
				}
			}
		}
		if len(there) == 0 {
			break
		}
		for len(there) > 0 && there[0].on == next { // of two scopes at one time, the later row
			scope, there = there[0].scope, there[1:]
		}
		if since = next; slices.Contains(times[scope], next) {
			see(next, true)
		}
	}
	if d.Deliveries.Gone == star.Flag && away != was {
		f.flagged[m] = away
	}
}

// mark adds an observation that no row makes.
func (f *Feed) mark(m int32, on int64, away bool) {
	for k := range f.kept.Cols {
		f.kept.Cols[k].AppendNull()
	}
	o := history.Observation{Timing: history.Timing{Effective: on, Sequence: history.Unsaid}, Mark: history.Back}
	if away {
		o.Mark = history.Gone
	}
	f.hear(m, 0, o)
}
