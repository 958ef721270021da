package roster

import (
	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/keyindex"
)

// Match is what became of a natural key (rule R1).
type Match uint8

// The outcomes. Timeless is a key that is there beside a time that is null, Beyond one that no member has, at a time
// at which none could hold.
const (
	Matched Match = iota
	Missing
	Unmatched
	Outside
	Timeless
	Beyond
)

// Lookup finds surrogate keys in a frozen roster. It is for one goroutine.
type Lookup struct {
	x      *Roster
	days   column.Column // the days of timestamps that are looked up in a calendar
	member []int32

	CurrentIfTimeless bool // where there is no time, the current version is meant
}

// Lookup returns a new lookup.
func (x *Roster) Lookup() *Lookup {
	return &Lookup{x: x, days: column.Column{Type: x.dim.NaturalKey[0].Type}}
}

// inDays returns c, or its days if it has timestamps and days are meant (rule R26); the times of a clock likewise.
func (l *Lookup) inDays(by []*column.Column, n int) []*column.Column {
	if of := l.x.dim.Clock; of != nil {
		l.days.Resize(n)
		for i := range n {
			l.days.Null[i], l.days.Int[i] = by[0].Null[i], of.Start(civil.TimeOf(by[0].Int[i]))
		}
		return []*column.Column{&l.days}
	}
	if len(by) != 1 || by[0].Type.Kind != column.Timestamp || l.x.dim.NaturalKey[0].Type.Kind != column.Date {
		return by
	}
	l.days.Resize(n)
	for i := range n {
		l.days.Null[i], l.days.Int[i] = by[0].Null[i], civil.DayOf(by[0].Int[i])
	}
	return []*column.Column{&l.days}
}

// Resolve finds the keys of n rows whose natural keys are in by and whose times are in asOf, or nil
// for the current versions. The key of an Outside row is that of the nearest version. Durable keys go to durable,
// unless that is nil.
func (l *Lookup) Resolve(by []*column.Column, asOf *column.Column, n int, surrogate, durable []int64, match []Match) {
	l.member = column.Resized(l.member, n)
	member := l.member
	l.x.index.Find(l.inDays(by, n), member)
	toDay := asOf != nil && asOf.Type.Kind == column.Timestamp && l.x.dim.Time.Kind == column.Date
	for i, m := range member {
		if durable != nil && m >= 0 {
			durable[i] = l.x.members[m].Durable
		}
		switch {
		case m == keyindex.Missing:
			match[i] = Missing
		case asOf != nil && asOf.Null[i] && !(l.CurrentIfTimeless && m >= 0):
			if match[i] = Timeless; l.CurrentIfTimeless {
				match[i] = Unmatched
			}
		case m == keyindex.Absent && asOf != nil && l.beyond(asOf.Int[i], toDay):
			match[i] = Beyond
		case m == keyindex.Absent:
			match[i] = Unmatched
		case asOf == nil || asOf.Null[i]:
			versions := l.x.members[m].Versions
			match[i], surrogate[i] = Matched, versions[len(versions)-1].Key
		default:
			p := &l.x.members[m]
			at := asOf.Int[i]
			if toDay {
				at = civil.DayOf(at)
			}
			k, inside := p.At(at)
			match[i], surrogate[i] = Matched, p.Versions[k].Key
			if !inside || at >= l.x.rules.End || p.Versions[k].Gap {
				match[i] = Outside
			}
		}
	}
}

// beyond reports whether a time is one at which no member holds, whoever it may be.
func (l *Lookup) beyond(at int64, toDay bool) bool {
	if toDay {
		at = civil.DayOf(at)
	}
	return l.x.dim.Versioned() && (at < l.x.rules.Beginning || at >= l.x.rules.End)
}
