package dimension

import (
	"cmp"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/digest"
	"ironmonger/internal/history"
	"ironmonger/internal/keyindex"
	"ironmonger/internal/ledger"
	"ironmonger/internal/roster"
)

// Feed is the session of the step that loads a dimension from what its source delivers.
//
// Versions are a function of all observations of a member (rule R8): [Feed.Take] keeps those that may
// change something, [Feed.Settle] puts them together with what is known and works out the difference.
type Feed struct {
	*Session
	overflow
	layout  roster.Layout
	seen    []observation
	kept    *column.Batch // the values of each observation, in the order of feedLayout.fields
	last    []int32       // the latest observation of each member at hand, plus 1
	settled []outcome
	touched []int32 // members with observations, in order of appearance
	Counts  Counts

	Attributes map[string]int64 // how many members' or versions' values of an attribute are others than before

	examples map[string][]example // of members that rows made, changed and so on, by what they did

	here       *attendance    // nil where only changes are delivered
	flagged    map[int32]bool // members that a mark is set on or taken off
	Gone, Back int64          // members that went, and that came back

	ties   *ties                       // nil where all that counts is the last row
	relost map[tied]ledger.Lost        // rows of this load that have lost in an earlier one
	losers map[tied]ledger.Lost        // rows of this load that have lost
	saidIn map[moment]history.Repeated // in a part, what its rows say again; else the roster has it

	others Others // nil if the feed takes all rows
	among  *among

	maker  history.Maker
	merged []merger
	blank  []int64               // keys of members that have to stay blank like those that became part of them
	nobody history.Member        // what is known of new members
	list   []history.Observation // a buffer
}

// Counts says what became of the rows of a delivery; each row counts once.
type Counts struct{ New, Versions, Filled, Changed, Same, Conflicts int64 }

// mostExamples is how many members are named of each kind.
const mostExamples = 3

// example is a member by its natural key, and the row that it was first heard of in.
type example struct {
	row  int64
	name string
}

// example names the member that a row which did something is about.
func (f *Feed) example(did string, o int32) {
	if len(f.examples[did]) == mostExamples {
		return
	}
	var parts []string
	for k := range f.layout.Natural {
		parts = append(parts, f.kept.Cols[k].Value(int(o)))
	}
	f.exemplify(did, example{f.touch(f.seen[o].member), called(parts)})
}

// exemplify adds an example, unless there are enough that came before it.
func (f *Feed) exemplify(did string, e example) {
	if f.examples == nil {
		f.examples = map[string][]example{}
	}
	list := f.examples[did]
	if slices.ContainsFunc(list, func(o example) bool { return o.name == e.name }) {
		return
	}
	list = append(list, e)
	slices.SortStableFunc(list, func(a, b example) int { return cmp.Compare(a.row, b.row) })
	f.examples[did] = list[:min(len(list), mostExamples)]
}

// Differ counts values of attributes that are others than before.
func (f *Feed) Differ(attributes map[string]int64) {
	for name, n := range attributes {
		if f.Attributes == nil {
			f.Attributes = map[string]int64{}
		}
		f.Attributes[name] += n
	}
}

// Exemplify names a member whose rows others have taken, by its natural key and the number of the first of them.
func (f *Feed) Exemplify(did string, row int64, name []string) {
	f.exemplify(did, example{row, called(name)})
}

func called(name []string) string { return diag.Clip(diag.Printable(strings.Join(name, ", ")), 60) }

// Examples returns the natural keys of the first members that rows made, changed and so on, by what they did.
func (f *Feed) Examples() map[string][]string {
	if len(f.examples) == 0 {
		return nil
	}
	names := map[string][]string{}
	for did, list := range f.examples {
		for _, e := range list {
			names[did] = append(names[did], e.name)
		}
	}
	return names
}

// NewFeed starts the overlay of the step that loads the dimension.
func NewFeed(x *roster.Roster, run int64, step string) *Feed {
	f := &Feed{
		Session: NewSession(x, run, step),
		layout:  x.Layout(),
		last:    make([]int32, x.Len()),
		flagged: map[int32]bool{},
	}
	f.maker = history.Maker{Rules: *x.Rules(), Tell: f.count}
	f.here = newAttendance(x, f.layout)
	if x.Dimension().Timed() {
		f.ties = &ties{numbers: map[string]int64{}, before: map[tied]ledger.Lost{}}
	}
	f.kept = column.NewBatch(f.layout.Fields)
	return f
}

// Delivery is a batch of rows on their way into a feed. It belongs to one goroutine at a time.
type Delivery struct {
	x         *roster.Roster
	layout    roster.Layout
	Values    []*column.Column // as Roster.Values lists them
	Effective *column.Column   // nil if there is none
	Sequence  *column.Column   // nil if there is none
	Delivered *column.Column   // when the row was delivered; nil if nothing says
	File      *column.Column   // which file it is of, as Feed.From says; nil if that doesn't matter
	Numbers   []int64          // of the rows among all; nil if they are numbered as they come
	member    []int32
	digests   []history.Digests
	known     []bool
	digest    digest.Maker
}

// NewDelivery makes a buffer for a batch.
func NewDelivery(x *roster.Roster) *Delivery { return &Delivery{x: x, layout: x.Layout()} }

// Prepare looks the rows up and compares them with what is loaded; it changes nothing and may run on any
// goroutine. Rows that skip says true for are passed over.
func (v *Delivery) Prepare(n int, skip func(int) bool) {
	v.member = column.Resized(v.member, n)
	v.digests = column.Resized(v.digests, n)
	v.known = column.Resized(v.known, n)
	if v.x.Blind() {
		return
	}
	v.x.Find(v.Values[:v.layout.Natural], v.member)
	v.forget(n)
	for i := range n {
		if !skip(i) && v.member[i] != keyindex.Missing {
			v.Judge(i)
		}
	}
}

// forget blanks what rows say of members that were erased.
func (v *Delivery) forget(n int) {
	if !v.x.HasErased() {
		return
	}
	for k, f := range v.layout.Fields {
		if !v.x.Dimension().IsPersonal(f.Name) {
			continue
		}
		for i := range n {
			if v.Erased(i) {
				v.Values[k].SetNull(i)
			}
		}
	}
}

// Erased reports whether row i is of a member that was erased.
func (v *Delivery) Erased(i int) bool {
	if v.member[i] >= 0 {
		return v.x.Erased(v.member[i])
	}
	was := v.x.Former().Of(v.Values[:len(v.x.Dimension().NaturalKey)], i)
	return was != nil && was.Erased
}

// Late reports whether row i tells something of its member that is older than what an earlier load brought.
func (v *Delivery) Late(i int) bool {
	if v.member[i] < 0 || v.known[i] {
		return false
	}
	p := v.x.Member(v.member[i])
	latest := p.Latest()
	if v.x.Dimension().Observed == nil {
		latest = p.Versions[0].Effective
	}
	return history.TimingOf(v.Effective, nil, i).Effective < latest
}

// Judge compares row i once more, after its outrigger keys have changed.
func (v *Delivery) Judge(i int) {
	if v.x.Blind() {
		return
	}
	part := func(from, to int) digest.Sum { return v.digest.Of(v.Values[from:to], i) }
	l := &v.layout
	v.digests[i] = history.Digests{
		Type0: part(l.Type0, l.Type3),
		Type1: part(l.Type1, l.Type0),
		Type2: part(l.Type2, len(l.Fields)),
		Type3: part(l.Type3, l.Type2),
	}
	if v.known[i] = false; v.member[i] >= 0 {
		at := history.TimingOf(v.Effective, v.Sequence, i)
		v.known[i] = v.x.Rules().Says(v.x.Member(v.member[i]), at, &v.digests[i])
	}
}

// touch returns the number of the row that a member was first heard of in.
func (f *Feed) touch(m int32) int64 {
	o := f.last[m]
	for f.seen[o-1].previous != 0 {
		o = f.seen[o-1].previous
	}
	if f.numbers != nil {
		return f.numbers[o-1]
	}
	return int64(o)
}

// Take adds row i of a prepared delivery. Deliveries come in source order. A row that says what is
// known counts as same, unless something else has been heard of its member in this load: then the
// order decides, and it is kept.
func (f *Feed) Take(v *Delivery, i int) {
	if f.taken != nil {
		f.put(v, i)
		return
	}
	m := v.member[i]
	if f.passed(v, i) {
		f.Counts.Same++
		return
	}
	if m < 0 {
		added, fresh := f.index.Add(v.Values[:f.layout.Natural], i)
		if fresh {
			f.keys = append(f.keys, 0)
		}
		if m = int32(f.x.Len()) + added; fresh {
			f.last = append(f.last, 0)
		}
	} else if v.known[i] && f.last[m] == 0 && v.Delivered == nil { // else another row may be of an earlier delivery
		f.Counts.Same++
		f.repeated(v, i, m)
		if f.here != nil {
			f.present(v, i, m)
		}
		return
	}
	if f.here != nil {
		f.present(v, i, m)
	}
	o := history.Observation{Timing: history.TimingOf(v.Effective, v.Sequence, i), Digests: v.digests[i]}
	if v.Delivered != nil {
		o.Delivered = v.Delivered.Int[i]
	}
	f.reserve()
	for k := range f.kept.Cols {
		f.kept.Cols[k].Append(v.Values[k], i)
	}
	if v.Numbers != nil {
		f.numbers = append(f.numbers, v.Numbers[i])
	}
	f.hear(m, v.fileOf(i), o)
	if f.limit > 0 {
		f.weigh(v, i)
	}
}

// hear adds an observation of a member, whose values have been added to kept.
func (f *Feed) hear(m, file int32, o history.Observation) {
	previous := f.last[m]
	if previous == 0 {
		f.touched = append(f.touched, m)
	}
	o.Number = int32(len(f.seen))
	f.kept.N++
	f.seen = append(f.seen, observation{o, m, previous, file})
	f.last[m] = int32(len(f.seen))
}

// reserve makes room for as many observations again once there is none: millions are copied less often so.
func (f *Feed) reserve() {
	if n := len(f.seen); n == cap(f.seen) && n > 0 {
		f.seen = slices.Grow(f.seen, n)
		for k := range f.kept.Cols {
			f.kept.Cols[k].Grow(n)
		}
	}
}

// allocate returns the surrogate key of a new version of observation o.
func (f *Feed) allocate(o int32) int64 {
	if made := f.x.Dimension().MadeKeys(); made != nil {
		surrogate := made.Key(f.kept.Cols[0].Int[o])
		f.highest = max(f.highest, surrogate)
		return surrogate
	}
	return f.next()
}
