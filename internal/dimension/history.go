package dimension

import (
	"cmp"
	"slices"

	"ironmonger/internal/digest"
)

// outcome is the history of one member as it is to be.
type outcome struct {
	member   int32
	versions []nextVersion
	durable  int64  // the key that is the same for all of them
	type0    int32  // the observation whose type 0 values hold; none if those that stand do
	type1    int32  // and type 1 values
	noted    []note // observations to keep apart
	renoted  []note // known ones that they take the place of
	lost     []loser

	story        []candidate // all that holds of the member, in order, where there are type 3 attributes
	type3        []lastTwo   // what their values are to be, one for each
	type3Differs bool        // and that they aren't so yet
}

// nextVersion is a version as it is to be.
type nextVersion struct {
	version
	to     int64
	start  int32 // the observation it begins with; none if that is a known one
	claims int   // the version whose key and row it keeps; none if it gets new ones
	values int   // the version whose type 2 values it has, where start is none
}

const none = -1

// candidate is an observation, known or new, on its way into a history.
type candidate struct {
	timing
	type2   digest.Sum
	seen    int32 // the new observation, or none
	version int   // the version that a known one belongs to, or none
	mark    mark
}

// observations lists the new observations of a member in the order of effective time, sequence, delivery and
// appearance (rule R11).
func (f *Feed) observations(m int32) []int32 {
	list := f.list[:0]
	for o := f.last[m]; o != 0; o = f.seen[o-1].previous {
		list = append(list, o-1)
	}
	slices.SortFunc(list, func(a, b int32) int {
		x, y := &f.seen[a], &f.seen[b]
		return cmp.Or(x.compare(y.timing), cmp.Compare(x.on, y.on), cmp.Compare(a, b))
	})
	f.list = list
	return list
}

// before returns the member as it stands; new members have no versions.
func (f *Feed) before(m int32) *memberState {
	if int(m) < f.x.Len() {
		return &f.x.members[m]
	}
	return &f.nobody
}

// lost counts observations that lost to another of the same time: equal ones say the same, others are in
// conflict.
func (f *Feed) lost(o, winner int32) {
	if f.seen[o].moved {
		return
	}
	if f.seen[o].digests == f.seen[winner].digests {
		f.Counts.Same++
	} else {
		f.Counts.Conflicts++
		f.example("conflicts", o)
		if f.seen[o].sequence == f.seen[winner].sequence {
			f.lose(o)
		}
	}
}

// single works out the outcome of a member of a dimension without versions: the latest observation
// holds.
func (f *Feed) single(m int32) outcome {
	p := f.before(m)
	list := f.fresh(p, f.observations(m))
	if len(list) == 0 { // all have lost before
		v := p.versions[0]
		return outcome{
			member:   m,
			type0:    none,
			type1:    none,
			versions: append(f.room(1), nextVersion{version: v, to: f.x.end, start: none}),
		}
	}
	winner := list[len(list)-1]
	w := &f.seen[winner]
	for _, o := range list[:len(list)-1] {
		if f.seen[o].effective == w.effective {
			f.lost(o, winner)
		} else if !f.seen[o].moved {
			f.Counts.Same++ // older than another row of this load
		}
	}
	out := outcome{
		member: m,
		type0:  list[0],
		type1:  winner,
	} // without an effective time the first to arrive is the earliest
	if len(f.x.dim.Type3) > 0 {
		out.story = []candidate{{timing: w.timing, seen: winner, version: none}}
	}
	h := nextVersion{
		version: version{from: f.x.beginning, timing: w.timing},
		to:      f.x.end,
		start:   winner,
		claims:  none,
	}
	if len(p.versions) == 0 {
		f.Counts.New++
		f.example("new", winner)
		out.versions = append(f.room(1), h)
		return out
	}
	old := p.versions[0]
	if h.key, h.claims = old.key, 0; !old.inferred {
		out.type0 = none
	}
	count := f.Counts
	if w.moved {
		defer func() { f.Counts = count }()
	}
	switch {
	case old.inferred:
		f.Counts.Filled++
		f.example("filled", winner)
	case w.compare(old.timing) < 0:
		f.Counts.Same++
		out.type1, h.timing = none, old.timing
	case w.type1 == p.type1 && w.type3 == p.type3:
		f.Counts.Same++
		out.type1 = none
	default:
		f.Counts.Changed++
		f.example("changed", winner)
		if l, ok := f.beats(p, winner); ok {
			out.lost = []loser{l}
		}
	}
	out.versions = append(f.room(1), h)
	return out
}

// history works out the outcome of a member of which all that was observed is kept (rules R8 to R14).
func (f *Feed) history(m int32) outcome {
	p := f.before(m)
	winners := f.winners(p, f.fresh(p, f.observations(m)))
	out := outcome{member: m, type0: none, type1: none, lost: slices.Clone(f.beaten)}
	filled := len(p.versions) > 0 && p.versions[0].inferred
	out.versions = f.room(len(winners))
	claimed := make([]bool, len(p.versions))
	for _, w := range winners {
		last := len(out.versions) - 1
		if w.mark != real {
			if last < 0 {
				continue
			}
			w.type2 = out.versions[last].type2
		}
		begins := w.version != none && p.versions[w.version].effective == w.effective
		starts := last < 0 || out.versions[last].type2 != w.type2 || out.versions[last].gone != (w.mark == gone) ||
			begins && p.alike(w.version)
		if starts {
			h := nextVersion{
				version: version{from: w.effective, timing: w.timing, type2: w.type2, gone: w.mark == gone},
				start:   w.seen,
				claims:  none,
				values:  w.version,
			}
			if w.mark != real { // what was last said goes on holding
				h.start, h.values = out.versions[last].start, out.versions[last].values
			}
			if last < 0 && (f.x.dim.FromStart || !f.x.dim.Versioned()) {
				h.from = f.x.beginning
			}
			if last >= 0 {
				out.versions[last].to = h.from
			}
			h.to = f.x.end
			out.versions = append(out.versions, h)
			last++
		}
		if begins && out.versions[last].claims == none { // a split or moved start keeps the key (rule R14)
			out.versions[last].claims, claimed[w.version] = w.version, true
		}
		f.note(p, &out, w, !starts && (w.version == none || begins || f.newer(p, w)))
	}
	if filled {
		out.versions[0].claims = 0
	}
	for k, v := range p.versions { // what a row of the same time has corrected keeps its key, too
		for j := range out.versions {
			if h := &out.versions[j]; !claimed[k] && !filled && h.claims == none && h.effective == v.effective {
				h.claims, claimed[k] = k, true
			}
		}
	}
	for j := range out.versions {
		if h := &out.versions[j]; h.claims != none {
			h.key = p.versions[h.claims].key
		}
	}
	if len(f.x.dim.Type3) > 0 {
		out.story = slices.Clone(winners) // judged once their values are known
	} else {
		f.judge(p, &out, winners)
	}
	if !f.x.dim.Versioned() { // its one row says what was seen last
		out.versions[0].timing = winners[len(winners)-1].timing
	}
	return out
}

// alike reports whether a version is told apart by nothing from the one before it: the attribute that did is not of
// type 2 any more, or has been erased. The versions stay (rule R15).
func (p *memberState) alike(k int) bool {
	return k > 0 && p.versions[k-1].type2 == p.versions[k].type2 && p.versions[k-1].gone == p.versions[k].gone
}

// note keeps a new observation apart, where the row of its version does not tell it: it made none, or all are kept.
func (f *Feed) note(p *memberState, out *outcome, w candidate, silent bool) {
	if w.mark != real {
		if w.seen != none {
			out.noted = append(out.noted, note{timing: w.timing, mark: w.mark})
		}
		return
	}
	if !f.x.dim.Complete() {
		if k := p.note(w.effective); k != none && p.noted[k].mark != real {
			out.renoted = append(out.renoted, p.noted[k])
		}
		if silent {
			out.noted = append(out.noted, note{timing: w.timing})
		}
		return
	}
	if w.seen == none {
		return
	}
	n := note{timing: w.timing, type3: f.seen[w.seen].type3}
	if k := p.note(w.effective); k == none {
		out.noted = append(out.noted, n)
	} else if was := p.noted[k]; was.timing != n.timing || was.type3 != n.type3 || was.mark != n.mark {
		out.noted, out.renoted = append(out.noted, n), append(out.renoted, p.noted[k])
	}
}

// winners brings known and new observations of a member into order and keeps one for each effective
// time: of the greatest sequence, the latest (rule R11). One that says what is known goes on standing
// for its version.
func (f *Feed) winners(p *memberState, list []int32) []candidate {
	all := f.all[:0]
	for k, v := range p.versions {
		if v.effective != unsaid {
			s := candidate{timing: v.timing, type2: v.type2, seen: none, version: k}
			if n := p.note(v.effective); n != none {
				s.mark = p.noted[n].mark
			}
			all = append(all, s)
		}
	}
	for _, c := range p.noted {
		k, _ := p.observed(c.effective)
		all = append(
			all,
			candidate{timing: c.timing, type2: p.versions[k].type2, seen: none, version: k, mark: c.mark},
		)
	}
	for _, o := range list {
		s := &f.seen[o]
		all = append(all, candidate{timing: s.timing, type2: s.type2, seen: o, version: none, mark: s.mark})
	}
	slices.SortStableFunc(all, func(a, b candidate) int { // known ones stay first
		if a.effective == b.effective && (a.mark == real) != (b.mark == real) { // a row counts more than a mark
			if a.mark == real {
				return 1
			}
			return -1
		}
		return a.compare(b.timing)
	})
	winners := f.best[:0]
	f.beaten = f.beaten[:0]
	for from := 0; from < len(all); {
		to := from + 1
		for to < len(all) && all[to].effective == all[from].effective {
			to++
		}
		w := all[to-1]
		if k := known(p, w.effective); k != none && p.versions[k].type2 == w.type2 && w.mark == real {
			if n := p.note(w.effective); n == none || p.noted[n].mark == real {
				w.version = k
			}
		}
		for _, s := range all[from : to-1] {
			switch {
			case s.seen == none || s.mark != real || f.seen[s.seen].moved:
			case s.type2 == w.type2 && (w.seen == none || f.seen[s.seen].digests == f.seen[w.seen].digests):
				f.Counts.Same++
			default:
				f.Counts.Conflicts++
				f.example("conflicts", s.seen)
				if s.sequence == w.sequence {
					f.lose(s.seen)
				}
			}
		}
		if w.seen != none && w.mark == real {
			if l, ok := f.beats(p, w.seen); ok {
				f.beaten = append(f.beaten, l)
			}
		}
		winners = append(winners, w)
		from = to
	}
	f.all, f.best = all, winners
	return winners
}

// newer reports whether a new observation has a greater sequence than the known one that it repeats.
func (f *Feed) newer(p *memberState, w candidate) bool {
	if w.seen == none || w.version == none {
		return false
	}
	_, sequence := p.observed(w.effective)
	return w.sequence > sequence
}

// known returns the version that a known observation of that time belongs to, or none.
func known(p *memberState, effective int64) int {
	if len(p.versions) == 0 || p.versions[0].inferred {
		return none
	}
	k, _ := p.observed(effective)
	return k
}

// judge finds whose type 1 values hold, and counts what became of each new observation.
func (f *Feed) judge(p *memberState, out *outcome, winners []candidate) {
	rows := winners
	for len(rows) > 1 && rows[len(rows)-1].mark != real {
		rows = rows[:len(rows)-1]
	}
	latest := rows[len(rows)-1]
	fresh := len(p.versions) == 0
	filled := !fresh && p.versions[0].inferred
	cause := int32(none) // the row that changed type 3 values
	for k, w := range winners {
		if out.type3Differs && w.seen != none && w.mark == real &&
			(cause == none || k == 0 || winners[k-1].seen == none || f.seen[w.seen].type3 != f.seen[winners[k-1].seen].type3) {
			cause = w.seen
		}
	}
	if latest.seen != none && (fresh || filled || f.seen[latest.seen].type1 != p.type1) {
		out.type1 = latest.seen
	}
	if first := winners[0]; first.seen != none && (fresh || filled || f.seen[first.seen].type0 != p.type0) {
		out.type0 = first.seen
	}
	j := 0
	for _, w := range winners {
		if j+1 < len(out.versions) && out.versions[j+1].effective == w.effective {
			j++
		}
		if w.seen == none || w.mark != real || f.seen[w.seen].moved {
			continue
		}
		h := &out.versions[j]
		starts := h.effective == w.effective && w.version == none
		switch {
		case starts && filled && j == 0:
			f.Counts.Filled++
			f.example("filled", w.seen)
		case starts && h.claims == none && fresh && j == 0:
			f.Counts.New++
			f.example("new", w.seen)
		case starts && h.claims == none:
			f.Counts.Versions++
			f.example("versions", w.seen)
		case starts, w.version == none && known(p, w.effective) != none: // it corrects a known row
			f.Counts.Changed++
			f.example("changed", w.seen)
		case out.type1 == w.seen && (!(fresh || filled) || f.seen[w.seen].type1 != f.seen[h.start].type1):
			f.Counts.Changed++
			f.example("changed", w.seen)
		case (out.type0 == w.seen || cause == w.seen) && !fresh && !filled:
			f.Counts.Changed++
			f.example("changed", w.seen)
		default:
			f.Counts.Same++
		}
	}
}
