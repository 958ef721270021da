package prove

import (
	"math"
	"slices"
	"strings"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// delivered says which rows of a fact's source count, where deliveries or files have all rows (rule R13), and which
// facts may stand although no row says them.
type delivered struct {
	*star.Deliveries
	on      int              // the column of the source that says when a row was delivered, or -1
	scope   [2][]int         // the columns that say of which scope a row is: in the source, and in the table
	goneAt  int              // the mark of the table, or -1
	until   int              // its column that has a value in facts that are closed, or -1
	latest  map[string]int64 // the last delivery that was loaded, by scope
	seen    map[string]bool  // scopes of whose last delivery rows were read
	current []uint64         // identities of the facts of which the last delivery has the grain
	passed  []uint64         // and of those that it says
	kept    int64            // facts that stand although they are gone
	unseen  int64            // facts that no row says, and of whose scope the last delivery is not there any more
}

func (x *rereader) newDelivered() (*delivered, error) {
	all := x.f.Deliveries
	if all == nil {
		return nil, nil
	}
	fields, shaped := x.f.Table.Fields(), x.f.Source.Shaped()
	d := &delivered{Deliveries: all, on: -1, latest: map[string]int64{}, seen: map[string]bool{}}
	d.goneAt, d.until = column.Find(fields, schema.IsGone), column.Find(fields, all.Until)
	if all.On != nil {
		d.on = column.Find(shaped, all.On.Name)
	}
	for _, f := range all.Scope {
		d.scope[0] = append(d.scope[0], column.Find(shaped, f.Name))
		d.scope[1] = append(d.scope[1], column.Find(fields, f.Name))
	}
	list, err := ledger.Deliveries(x.p.ctx, x.p.r, "fact "+x.f.Text)
	for _, k := range list {
		if was, ok := d.latest[k.Scope]; !ok || k.On > was {
			d.latest[k.Scope] = k.On
		}
	}
	return d, err
}

// scopeOf returns the scope of a row of the source, or of the table.
func scopeOf(cols []column.Column, at []int, i int) string {
	var parts []string
	for _, k := range at {
		s := ""
		if !cols[k].Null[i] {
			s = cols[k].Value(i)
		}
		parts = append(parts, s)
	}
	return strings.Join(parts, ", ")
}

// of returns the scope of row i, and when it was delivered.
func (d *delivered) of(b *slot, i int) (scope string, on int64) {
	scope = scopeOf(b.Cols, d.scope[0], i)
	switch {
	case d.on < 0:
	case b.Cols[d.on].Null[i]:
		on = math.MinInt64
	case d.On.Type.Kind == column.Date:
		on = b.Cols[d.on].Int[i] * civil.DayMicros
	default:
		on = b.Cols[d.on].Int[i]
	}
	return scope, on
}

// late reports whether row i is of an older delivery than the last one of its scope, so that it says nothing any more.
func (d *delivered) late(b *slot, i int) bool {
	if d == nil || d.on < 0 {
		return false
	}
	scope, on := d.of(b, i)
	latest, ok := d.latest[scope]
	return ok && on < latest
}

// note takes down that row i, of the last delivery of its scope, has the grain of some facts.
func (d *delivered) note(b *slot, i int, ids []uint64) {
	if d == nil || d.late(b, i) {
		return
	}
	if !d.Files {
		scope, _ := d.of(b, i)
		d.seen[scope] = true
	}
	d.current = append(d.current, ids...)
}

// says takes down that row i says a fact.
func (d *delivered) says(b *slot, i int, id uint64) {
	if d != nil && d.goneAt >= 0 && !d.late(b, i) {
		d.passed = append(d.passed, id)
	}
}

// ready sorts what was taken down.
func (d *delivered) ready() {
	slices.Sort(d.current)
	slices.Sort(d.passed)
}

// judge says what is wrong with fact j: a row of the sources says it, or says other things of its grain, and its file
// is named, or not. It reports whether the fact is known to be right.
func (d *delivered) judge(facts *column.Batch, j int, id uint64, said, other, named bool) (fault string, right bool) {
	marked := d.goneAt >= 0 && facts.Cols[d.goneAt].Int[j] != 0
	_, has := slices.BinarySearch(d.current, id)
	if d.Files && d.Gone == star.Keep && named && !said {
		d.kept++
		return "", true
	}
	said = said || other
	gone := named && !said && !has
	if !d.Files {
		seen := d.seen[scopeOf(facts.Cols, d.scope[1], j)]
		if gone = seen && !has; !seen && !said {
			d.unseen++
			return "", true
		}
	}
	switch _, passed := slices.BinarySearch(d.passed, id); {
	case marked && passed:
		return "a row at the source says this, and it is marked as gone", false
	case marked:
		return "", true
	case gone && (d.Gone == star.Keep || d.until >= 0 && !facts.Cols[d.until].Null[j]):
		d.kept++
		return "", true
	case gone:
		return "it is gone from the source, and neither marked nor removed", false
	}
	return "", said || has // a row of its grain is set aside
}
