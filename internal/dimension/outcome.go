package dimension

import (
	"cmp"
	"slices"

	"ironmonger/internal/history"
)

// none is the number of no row, no version and no column.
const none = history.None

// observation is a row of the load that may change something, or a mark.
type observation struct {
	history.Observation
	member   int32
	previous int32 // of the same member, plus 1
	file     int32 // that the row is of, by its place in ties.names
}

// outcome is the history of a member as it is to be, and what the tables need of it.
type outcome struct {
	history.Outcome
	member  int32
	durable int64 // the key that is the same for all versions
	lost    []loser

	type3        []lastTwo // what the values of type 3 attributes are to be
	type3Differs bool      // and that they aren't so yet
}

// loser is a known observation that loses to a row of this load, while its own row is still there.
type loser struct {
	history.Beaten
	repeated history.Repeated
}

// observations lists the new observations of a member in the order of effective time, sequence, delivery and
// appearance (rule R11), in a buffer that the next call uses again.
func (f *Feed) observations(m int32) []history.Observation {
	list := f.list[:0]
	for o := f.last[m]; o != 0; o = f.seen[o-1].previous {
		list = append(list, f.seen[o-1].Observation)
	}
	slices.SortFunc(list, func(a, b history.Observation) int {
		return cmp.Or(a.Compare(b.Timing), cmp.Compare(a.Delivered, b.Delivered), cmp.Compare(a.Number, b.Number))
	})
	f.list = list
	return list
}

// before returns the member as it stands; new members have no versions.
func (f *Feed) before(m int32) *history.Member {
	if int(m) < f.x.Len() {
		return f.x.Member(m)
	}
	return &f.nobody
}

// outcomeOf works out the history of a member.
func (f *Feed) outcomeOf(m int32) outcome {
	p := f.before(m)
	o := outcome{Outcome: f.maker.Of(p, f.fresh(p, f.observations(m))), member: m}
	for _, b := range o.Beaten {
		f.ties.known = true
		said := *p.RepeatedAt(b.Effective)
		said.Add(f.saidIn[moment{m, b.Effective}], f.ties.ranks)
		if said.Times > 0 {
			o.lost = append(o.lost, loser{b, said})
		}
	}
	return o
}

// fresh leaves of a member's new observations those that have not lost before to what stands.
func (f *Feed) fresh(p *history.Member, list []history.Observation) []history.Observation {
	if f.ties == nil || len(f.ties.before) == 0 || len(p.Versions) == 0 || p.Versions[0].Inferred {
		return list
	}
	return slices.DeleteFunc(list, func(o history.Observation) bool {
		if o.Moved || o.Mark != history.Row || !f.maker.Contradicts(p, &o) || !f.lostBefore(o.Number) {
			return false
		}
		f.count(o.Number, history.Tied)
		return true
	})
}

// outcomes names what became of observations, as examples do.
var outcomes = [...]string{
	history.Fresh:    "new",
	history.Further:  "versions",
	history.Filled:   "filled",
	history.Changed:  "changed",
	history.Conflict: "conflicts",
	history.Tied:     "conflicts",
}

// count counts what became of a row.
func (f *Feed) count(row int32, v history.Verdict) {
	c := &f.Counts
	n := [...]*int64{&c.Same, &c.New, &c.Versions, &c.Filled, &c.Changed, &c.Conflicts, &c.Conflicts}[v]
	*n++
	if v != history.Same {
		f.example(outcomes[v], row)
	}
	if v == history.Tied {
		f.lose(row)
	}
}
