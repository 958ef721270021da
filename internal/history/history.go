package history

import (
	"slices"

	"ironmonger/internal/digest"
)

// Rules say how a dimension keeps the history of its members.
type Rules struct {
	Timed     bool // rows have an effective time
	Observed  bool // every observation is kept, in the versions or apart from them
	Versioned bool // values of type 2 make versions
	FromStart bool // the first version is valid from the beginning of time
	Complete  bool // the observations are kept apart with their type 3 values
	Type3     bool // there are attributes of type 3
	Beginning int64
	End       int64 // of time, in the unit of the effective times
}

// Observation is what a row, or a mark, says of a member.
type Observation struct {
	Timing
	Delivered int64 // when the row was delivered, where that is said
	Number    int32 // of the row in the load
	Mark      Mark
	Moved     bool // it was observed of a member that is part of this one now, and is not a row of this load
	Digests
}

// Verdict is what became of an observation.
type Verdict uint8

const (
	Same     Verdict = iota
	Fresh            // it made the member
	Further          // it made a further version
	Filled           // it filled an inferred member
	Changed          // it changed the member without making a version
	Conflict         // it lost to another row of its time with other values
	Tied             // it did, and nothing but the order of the rows decided
)

// Outcome is the history of a member as it is to be.
type Outcome struct {
	Versions []Next
	Type0    int32  // the row whose type 0 values hold; None if those that stand do
	Type1    int32  // and type 1 values
	Noted    []Note // observations to keep apart
	Renoted  []Note // known ones that they take the place of
	Beaten   []Beaten

	Story []Candidate // all that counts of the member, in order, where there are type 3 attributes
}

// Next is a version as it is to be.
type Next struct {
	Version
	To     int64
	Start  int32 // the row that it begins with; None if that is a known observation
	Claims int   // the version whose key and row it keeps; None if it gets new ones
	Values int   // the version whose type 2 values it has, where Start is None
}

// Beaten is a known observation of a version that lost to a row of this load.
type Beaten struct {
	Timing
	Version int
}

// Candidate is an observation, known or new, on its way into a history.
type Candidate struct {
	Timing
	Digests       // of a known one, that of type 2 alone
	Row     int32 // the new observation, or None
	Version int   // the version that a known one belongs to, or None
	Mark    Mark
	moved   bool
}

// isRow reports whether the candidate is a row of this load.
func (c *Candidate) isRow() bool { return c.Row != None && c.Mark == Row }

func newCandidate(o *Observation) Candidate {
	return Candidate{o.Timing, o.Digests, o.Number, None, o.Mark, o.Moved}
}

// Maker works out histories. Its buffers are used again, so one goroutine uses it at a time.
type Maker struct {
	Rules
	Tell func(row int32, v Verdict) // is told what became of each row

	slab      []Next
	all, best []Candidate
	claimed   []bool
}

// Of returns the history of a member, given new observations in the order of effective time, sequence, delivery and
// appearance (rule R11). Where the dimension has attributes of type 3 and keeps all observations, the caller works out
// their values from Outcome.Story, and calls [Maker.Judge] then.
func (h *Maker) Of(p *Member, list []Observation) Outcome {
	if h.Observed {
		return h.versions(p, list)
	}
	return h.latest(p, list)
}

// contradicts reports whether an observation says something else than what is known of its time.
func (h *Rules) contradicts(p *Member, o Timing, of *Digests) bool {
	k, sequence := p.Observed(o.Effective)
	if k == None || sequence != o.Sequence || p.marked(o.Effective) {
		return false
	}
	return p.Versions[k].Type2 != of.Type2 || o.Effective == p.Latest() && of.Type1 != p.Type1 ||
		h.Complete && p.Note(o.Effective) != None && p.Noted[p.Note(o.Effective)].Type3 != of.Type3
}

// Contradicts reports whether an observation says something else than what is known of its time.
func (h *Rules) Contradicts(p *Member, o *Observation) bool {
	return h.contradicts(p, o.Timing, &o.Digests)
}

// Says reports whether an observation is already part of the member's history, so that by itself it would change
// nothing.
func (h *Rules) Says(p *Member, o Timing, of *Digests) bool {
	if p.Versions[0].Inferred {
		return false
	}
	if !h.Observed {
		held := p.Versions[0].Timing
		return o.Compare(held) < 0 || o == held && of.Type1 == p.Type1 && of.Type3 == p.Type3
	}
	k, sequence := p.Observed(o.Effective)
	if k == None || o.Sequence > sequence || p.marked(o.Effective) {
		return false
	}
	return o.Sequence < sequence ||
		p.Versions[k].Type2 == of.Type2 &&
			(o.Effective < p.Latest() || of.Type1 == p.Type1) &&
			(o.Effective > p.Earliest() || of.Type0 == p.Type0) &&
			(!h.Complete || p.Noted[p.Note(o.Effective)].Type3 == of.Type3)
}

// lost tells of an observation that lost to another of the same time: an equal one says the same, another is in
// conflict.
func (h *Maker) lost(row int32, same, tied bool) {
	switch {
	case same:
		h.Tell(row, Same)
	case tied:
		h.Tell(row, Tied)
	default:
		h.Tell(row, Conflict)
	}
}

// beats notes the known observation of a time that a row contradicts.
func (h *Maker) beats(p *Member, out *Outcome, c *Candidate) {
	if !h.Timed || p.Known(c.Effective) == None || !h.contradicts(p, c.Timing, &c.Digests) {
		return
	}
	k, sequence := p.Observed(c.Effective)
	out.Beaten = append(out.Beaten, Beaten{Timing{c.Effective, sequence}, k})
}

// latest works out the history of a member of which only the latest observation counts.
func (h *Maker) latest(p *Member, list []Observation) Outcome {
	out := Outcome{Type0: None, Type1: None, Versions: cut(&h.slab, 1)}
	if len(list) == 0 {
		out.Versions = append(out.Versions, Next{Version: p.Versions[0], To: h.End, Start: None})
		return out
	}
	w := &list[len(list)-1]
	for k := range list[:len(list)-1] {
		switch o := &list[k]; {
		case o.Moved:
		case o.Effective == w.Effective:
			h.lost(o.Number, o.Digests == w.Digests, o.Sequence == w.Sequence)
		default:
			h.Tell(o.Number, Same) // older than another row of this load
		}
	}
	out.Type0, out.Type1 = list[0].Number, w.Number // without an effective time the first to arrive is the earliest
	if h.Type3 {
		out.Story = []Candidate{newCandidate(w)}
	}
	next := Next{Version: Version{From: h.Beginning, Timing: w.Timing}, To: h.End, Start: w.Number, Claims: None}
	verdict := Fresh
	if len(p.Versions) > 0 {
		old := p.Versions[0]
		if next.Key, next.Claims = old.Key, 0; !old.Inferred {
			out.Type0 = None
		}
		switch {
		case old.Inferred:
			verdict = Filled
		case w.Compare(old.Timing) < 0:
			verdict, out.Type1, next.Timing = Same, None, old.Timing
		case w.Type1 == p.Type1 && w.Type3 == p.Type3:
			verdict, out.Type1 = Same, None
		default:
			c := newCandidate(w)
			h.beats(p, &out, &c)
			verdict = Changed
		}
	}
	if !w.Moved {
		h.Tell(w.Number, verdict)
	}
	out.Versions = append(out.Versions, next)
	return out
}

// versions works out the history of a member of which all that was observed is kept (rules R8 to R14).
func (h *Maker) versions(p *Member, list []Observation) Outcome {
	out := Outcome{Type0: None, Type1: None}
	winners := h.winners(p, list, &out)
	out.Versions = cut(&h.slab, len(winners))
	h.claimed = append(h.claimed[:0], make([]bool, len(p.Versions))...)
	for _, w := range winners {
		h.add(p, &out, w)
	}
	h.keepKeys(p, &out)
	if h.Type3 {
		out.Story = slices.Clone(winners) // judged once their values are known
	} else {
		h.Judge(p, &out, winners, false)
	}
	if !h.Versioned { // its one row says what was seen last
		out.Versions[0].Timing = winners[len(winners)-1].Timing
	}
	return out
}

// add adds what counts of a time to a history: a version, or a part of the last one.
func (h *Maker) add(p *Member, out *Outcome, w Candidate) {
	last := len(out.Versions) - 1
	if w.Mark != Row {
		if last < 0 {
			return
		}
		w.Type2 = out.Versions[last].Type2
	}
	begins := w.Version != None && p.Versions[w.Version].Effective == w.Effective
	starts := last < 0 || out.Versions[last].Type2 != w.Type2 || out.Versions[last].Gone != (w.Mark == Gone) ||
		begins && p.alike(w.Version)
	if starts {
		next := Next{
			Version: Version{From: w.Effective, Timing: w.Timing, Type2: w.Type2, Gone: w.Mark == Gone},
			To:      h.End,
			Start:   w.Row,
			Claims:  None,
			Values:  w.Version,
		}
		if w.Mark != Row { // what was last said goes on holding
			next.Start, next.Values = out.Versions[last].Start, out.Versions[last].Values
		}
		if last < 0 && (h.FromStart || !h.Versioned) {
			next.From = h.Beginning
		}
		if last >= 0 {
			out.Versions[last].To = next.From
		}
		out.Versions = append(out.Versions, next)
		last++
	}
	if begins && out.Versions[last].Claims == None { // a split or moved start keeps the key (rule R14)
		out.Versions[last].Claims, h.claimed[w.Version] = w.Version, true
	}
	h.note(p, out, &w, !starts && (w.Version == None || begins || newer(p, &w)))
}

// keepKeys sets the keys of versions that take the place of others to the keys of these.
func (h *Maker) keepKeys(p *Member, out *Outcome) {
	if len(p.Versions) > 0 && p.Versions[0].Inferred {
		out.Versions[0].Claims, h.claimed[0] = 0, true
	}
	for k, v := range p.Versions { // what a row of the same time has corrected keeps its key, too
		for j := range out.Versions {
			if next := &out.Versions[j]; !h.claimed[k] && next.Claims == None && next.Effective == v.Effective {
				next.Claims, h.claimed[k] = k, true
			}
		}
	}
	for j := range out.Versions {
		if next := &out.Versions[j]; next.Claims != None {
			next.Key = p.Versions[next.Claims].Key
		}
	}
}

// note keeps a new observation apart where the row of its version does not tell it: it made none, or all are kept.
func (h *Maker) note(p *Member, out *Outcome, w *Candidate, silent bool) {
	if w.Mark != Row {
		if w.Row != None {
			out.Noted = append(out.Noted, Note{Timing: w.Timing, Mark: w.Mark})
		}
		return
	}
	if !h.Complete {
		if k := p.Note(w.Effective); k != None && p.Noted[k].Mark != Row {
			out.Renoted = append(out.Renoted, p.Noted[k])
		}
		if silent {
			out.Noted = append(out.Noted, Note{Timing: w.Timing})
		}
		return
	}
	if w.Row == None {
		return
	}
	n := Note{Timing: w.Timing, Type3: w.Type3}
	if k := p.Note(w.Effective); k == None {
		out.Noted = append(out.Noted, n)
	} else if was := p.Noted[k]; was.Timing != n.Timing || was.Type3 != n.Type3 || was.Mark != n.Mark {
		out.Noted, out.Renoted = append(out.Noted, n), append(out.Renoted, p.Noted[k])
	}
}

// newer reports whether a new observation has a greater sequence than the known one that it repeats.
func newer(p *Member, w *Candidate) bool {
	if w.Row == None || w.Version == None {
		return false
	}
	_, sequence := p.Observed(w.Effective)
	return w.Sequence > sequence
}

// candidates lists known and new observations of a member in order.
func (h *Maker) candidates(p *Member, list []Observation) []Candidate {
	all := h.all[:0]
	for k, v := range p.Versions {
		if v.Effective != Unsaid {
			c := Candidate{Timing: v.Timing, Digests: Digests{Type2: v.Type2}, Row: None, Version: k}
			if n := p.Note(v.Effective); n != None {
				c.Mark = p.Noted[n].Mark
			}
			all = append(all, c)
		}
	}
	for _, n := range p.Noted {
		k, _ := p.Observed(n.Effective)
		of := Digests{Type2: p.Versions[k].Type2}
		all = append(all, Candidate{Timing: n.Timing, Digests: of, Row: None, Version: k, Mark: n.Mark})
	}
	for k := range list {
		all = append(all, newCandidate(&list[k]))
	}
	slices.SortStableFunc(all, func(a, b Candidate) int { // known ones stay first
		if a.Effective == b.Effective && (a.Mark == Row) != (b.Mark == Row) { // a row counts more than a mark
			if a.Mark == Row {
				return 1
			}
			return -1
		}
		return a.Compare(b.Timing)
	})
	h.all = all
	return all
}

// winners keeps one observation for each effective time: of the greatest sequence, the latest (rule R11). One that
// says what is known continues to stand for its version.
func (h *Maker) winners(p *Member, list []Observation, out *Outcome) []Candidate {
	all, winners := h.candidates(p, list), h.best[:0]
	for from := 0; from < len(all); {
		to := from + 1
		for to < len(all) && all[to].Effective == all[from].Effective {
			to++
		}
		w := all[to-1]
		if k := p.Known(w.Effective); k != None && p.Versions[k].Type2 == w.Type2 && w.Mark == Row &&
			!p.marked(w.Effective) {
			w.Version = k
		}
		for _, c := range all[from : to-1] {
			if c.isRow() && !c.moved {
				same := c.Type2 == w.Type2 && (w.Row == None || c.Digests == w.Digests)
				h.lost(c.Row, same, c.Sequence == w.Sequence)
			}
		}
		if w.isRow() {
			h.beats(p, out, &w)
		}
		winners = append(winners, w)
		from = to
	}
	h.best = winners
	return winners
}

// Judge finds whose type 0 and type 1 values hold, and tells what became of each row that counts. type3Differs says
// that the values of type 3 are others than those that stand.
func (h *Maker) Judge(p *Member, out *Outcome, winners []Candidate, type3Differs bool) {
	rows := winners
	for len(rows) > 1 && rows[len(rows)-1].Mark != Row {
		rows = rows[:len(rows)-1]
	}
	first, latest := &winners[0], &rows[len(rows)-1]
	begun := len(p.Versions) == 0 || p.Versions[0].Inferred
	if latest.Row != None && (begun || latest.Type1 != p.Type1) {
		out.Type1 = latest.Row
	}
	if first.Row != None && (begun || first.Type0 != p.Type0) {
		out.Type0 = first.Row
	}
	cause := int32(None)
	if type3Differs {
		cause = causeOfType3(winners)
	}
	j := 0
	for k := range winners {
		w := &winners[k]
		if j+1 < len(out.Versions) && out.Versions[j+1].Effective == w.Effective {
			j++
		}
		if w.isRow() && !w.moved {
			h.Tell(w.Row, verdictOf(p, out, winners, w, j, cause))
		}
	}
}

// causeOfType3 returns the row that changed type 3 values.
func causeOfType3(winners []Candidate) int32 {
	cause := int32(None)
	for k := range winners {
		w := &winners[k]
		if w.isRow() && (cause == None || k == 0 || winners[k-1].Row == None || w.Type3 != winners[k-1].Type3) {
			cause = w.Row
		}
	}
	return cause
}

// verdictOf returns what became of a row that counts; it is of version j.
func verdictOf(p *Member, out *Outcome, winners []Candidate, w *Candidate, j int, cause int32) Verdict {
	fresh := len(p.Versions) == 0
	filled := !fresh && p.Versions[0].Inferred
	next := &out.Versions[j]
	starts := next.Effective == w.Effective && w.Version == None
	switch {
	case starts && filled && j == 0:
		return Filled
	case starts && next.Claims == None && fresh && j == 0:
		return Fresh
	case starts && next.Claims == None:
		return Further
	case starts, w.Version == None && p.Known(w.Effective) != None: // it corrects a known row
		return Changed
	case out.Type1 == w.Row && (!(fresh || filled) || w.Type1 != type1Of(winners, next.Start)):
		return Changed
	case (out.Type0 == w.Row || cause == w.Row) && !fresh && !filled:
		return Changed
	}
	return Same
}

// type1Of returns the digest of the type 1 values of a row.
func type1Of(winners []Candidate, row int32) digest.Sum {
	k := slices.IndexFunc(winners, func(c Candidate) bool { return c.Row == row })
	return winners[k].Type1
}
