package member

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// mark is an observation that no row makes: that a member was missing from a delivery of all, or was there again
// (rule R13). It says nothing about attributes, and any row of the same time counts more.
type mark uint8

const (
	real mark = iota // a row
	gone
	back
)

var marks = []string{"", "gone", "back"}

// markOf reads one from a column.
func markOf(c *column.Column, i int) mark { return mark(max(0, slices.Index(marks, c.Text[i]))) }

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
	unsure    map[int32]bool // members with rows that were set aside: nobody says that these are gone
	at        []int          // the columns of the scope in a feed's values
	buf       []byte
	cols      []*column.Column
}

// attendance is nil where only changes are delivered.
func (x *Roster) attendance(l feedLayout) *attendance {
	all := x.dim.Deliveries
	if all == nil {
		return nil
	}
	a := &attendance{scopeOf: map[string]int32{}, unsure: map[int32]bool{}}
	for _, f := range all.Scope {
		a.at = append(a.at, column.Find(l.fields, f.Name))
	}
	return a
}

// scope gives the number of a row's scope.
func (a *attendance) scope(cols []*column.Column, i int) int32 {
	a.buf = column.AppendRow(a.buf[:0], cols, i)
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

// present notes that a member was delivered.
func (f *Feed) present(v *Delivery, i int, m int32) {
	p := presence{member: m}
	f.here.cols = f.here.cols[:0]
	for _, k := range f.here.at {
		f.here.cols = append(f.here.cols, v.Values[k])
	}
	p.scope = f.here.scope(f.here.cols, i)
	if v.Delivered != nil {
		p.on = v.Delivered.Int[i]
	}
	f.here.presences = append(f.here.presences, p)
}

// Doubtful passes over row i of a delivery, which was set aside: its member, if it is known, isn't gone for that.
func (f *Feed) Doubtful(v *Delivery, i int) {
	if f.here != nil && v.member[i] >= 0 {
		f.here.unsure[v.member[i]] = true
	}
}

// Missed finds the members that were missing from a delivery of all, or are there again, and marks them. Call it
// once, after the last Take and before Settle. It says no where a delivery can't be believed.
func (f *Feed) Missed(ctx context.Context, tx warehouse.Tx, limit int64) error {
	if f.here == nil {
		return nil
	}
	a, d := f.here, f.x.dim
	if len(a.presences) == 0 && len(a.unsure) == 0 {
		for m := range f.x.people {
			if !f.x.people[m].versions[0].inferred {
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
	slices.SortStableFunc(a.presences, func(x, y presence) int { return cmp.Or(cmp.Compare(x.member, y.member), cmp.Compare(x.on, y.on)) })
	order := make([]int32, 0, len(scopes)) // members, by key, so that new keys don't depend on who was read first
	for m := range scopes {
		order = append(order, int32(m))
	}
	slices.SortFunc(order, func(x, y int32) int { return cmp.Or(cmp.Compare(f.keyOf(x), f.keyOf(y)), cmp.Compare(x, y)) })
	lost, of := map[presence]int64{}, map[presence]int64{}
	for _, m := range order {
		if scopes[m] == none || a.unsure[m] {
			continue
		}
		from, _ := slices.BinarySearchFunc(a.presences, m, func(p presence, m int32) int { return cmp.Compare(p.member, m) })
		to := from
		for to < len(a.presences) && a.presences[to].member == m {
			to++
		}
		f.walk(m, times[scopes[m]], a.presences[from:to], func(on int64, left bool) {
			at := presence{scope: scopes[m], on: on}
			if of[at]++; left {
				lost[at]++
			}
		})
	}
	for at, n := range lost {
		if all := of[at]; d.Deliveries.Gone != star.Keep && limit != star.NoLimit && all > star.LimitFrom && n*100_0000 > limit*all {
			what := ""
			if s := a.scopes[at.scope]; s != "" {
				what = " of " + s
			}
			return fmt.Errorf("%d of %d members%s would be gone, more than limits.gone allows: nothing is kept. Is the delivery complete?", n, all, what)
		}
	}
	return nil
}

// keyOf gives the key of a member's last version; those of new members are the greatest.
func (f *Feed) keyOf(m int32) int64 {
	if v := f.before(m).versions; len(v) > 0 {
		return v[len(v)-1].key
	}
	return 1 << 62
}

// times gives the times of the deliveries of each scope that were not loaded before, in order, and writes them down.
func (f *Feed) times(ctx context.Context, tx warehouse.Tx) ([][]int64, error) {
	a, d := f.here, f.x.dim
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
	for _, p := range a.presences {
		if !slices.Contains(times[p.scope], p.on) {
			times[p.scope] = append(times[p.scope], p.on)
		}
	}
	var fresh []ledger.Delivery
	for s, list := range times {
		slices.Sort(list)
		latest, run := int64(unsaid), int64(0)
		list = slices.DeleteFunc(list, func(on int64) bool {
			return slices.ContainsFunc(known, func(k ledger.Delivery) bool { return k.Scope == a.scopes[s] && k.On == stamp(d.Deliveries.On.Type, on) })
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
				return nil, fmt.Errorf("the delivery of all of %s is older than the one of %s that run %d loaded: what was gone in between can't be known any more. Load deliveries in their order", c.Value(0), c.Value(1), run)
			}
			fresh = append(fresh, ledger.Delivery{Scope: a.scopes[s], On: stamp(d.Deliveries.On.Type, on), Run: f.run})
		}
		times[s] = list
	}
	return times, ledger.Delivered(ctx, tx, d.Text, fresh)
}

// stamp gives a time of a type in microseconds.
func stamp(t column.Type, v int64) int64 {
	if t.Kind == column.Date {
		return v * column.DayMicros
	}
	return v
}

// scopesOf gives the scope of each member, none if it isn't one that was delivered.
func (f *Feed) scopesOf(ctx context.Context, tx warehouse.Tx) ([]int32, error) {
	a, d := f.here, f.x.dim
	scopes := make([]int32, len(f.last))
	for m := range scopes {
		if len(a.at) > 0 {
			scopes[m] = none
		}
	}
	if len(a.at) > 0 {
		fields := d.Table.Fields()[:1:1]
		for _, k := range a.at {
			fields = append(fields, f.layout.fields[k])
		}
		err := warehouse.Each(ctx, tx, warehouse.Query{Table: d.Table.Name, Fields: fields}, func(b *column.Batch) error {
			cols := column.Pointers(b.Cols[1:])
			known := len(a.scopes)
			for i := range b.N {
				m, ok := f.x.MemberOf(b.Cols[0].Int[i])
				if !ok || f.keyOf(m) != b.Cols[0].Int[i] {
					continue // a special member, or a version that isn't the current one
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
		})
		if err != nil {
			return nil, err
		}
	}
	for _, p := range a.presences {
		scopes[p.member] = p.scope
	}
	return scopes, nil
}

// walk goes through the deliveries of a member's scope, and marks when it went and came back. tell is told of each
// delivery before which the member was there.
func (f *Feed) walk(m int32, times []int64, there []presence, tell func(on int64, left bool)) {
	p, d := f.before(m), f.x.dim
	known := len(p.versions) > 0 && !p.versions[0].inferred
	away := known && p.versions[len(p.versions)-1].gone
	was := away
	for _, on := range times {
		here := slices.ContainsFunc(there, func(p presence) bool { return p.on == on })
		if !known { // it begins when it is delivered first
			known = here
			continue
		}
		if d.Deliveries.On != nil && !here && len(p.versions) > 0 && on <= p.earliest() {
			continue // nothing was known of it yet
		}
		if !away {
			tell(on, !here)
		}
		if away == !here {
			continue
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
	if d.Deliveries.Gone == star.Flag && away != was {
		f.flagged[m] = away
	}
}

// mark adds an observation that no row makes.
func (f *Feed) mark(m int32, on int64, away bool) {
	o := observation{sighting: sighting{on, unsaid}, member: m, previous: f.last[m], mark: back}
	if away {
		o.mark = gone
	}
	if o.previous == 0 {
		f.touched = append(f.touched, m)
	}
	for k := range f.kept.Cols {
		f.kept.Cols[k].AppendNull()
	}
	f.kept.N++
	f.seen = append(f.seen, o)
	f.last[m] = int32(len(f.seen))
}
