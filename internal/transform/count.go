package transform

import (
	"slices"
	"sync/atomic"

	"ironmonger/internal/column"
	"ironmonger/internal/source"
)

// stage counts what became of the rows that came to it.
type stage struct{ in, left, aside, dropped, merged, empty atomic.Int64 }

// Count says what became of the rows that a stage of a source was given: of Rows some were left out or set aside there,
// dropped because nothing fits them, or merged into others; Empty were left without what a join would have brought.
type Count struct {
	Source   string `json:"source"`
	Stage    string `json:"stage"`
	Rows     int64  `json:"rows"`
	LeftOut  int64  `json:"left_out,omitempty"`
	SetAside int64  `json:"set_aside,omitempty"`
	Dropped  int64  `json:"dropped,omitempty"`
	Merged   int64  `json:"merged,omitempty"`
	Empty    int64  `json:"left_empty,omitempty"`
}

// Passed is a read of a list that could not be done and was passed over.
type Passed struct {
	File    string `json:"file"` // where it stands in the list
	Line    int64  `json:"line"`
	Message string `json:"message"`
}

// Fallen is a row of a source that completes another, a list or one that is joined, which was set aside.
type Fallen struct {
	Source, File string
	Line         int64
	Raw          string
	Faults       []column.Fault
}

// Passed lists the reads that were passed over.
func (f *Flow) Passed() []Passed {
	all := slices.Clone(f.passed)
	for _, o := range f.others() {
		all = append(all, o.Passed()...)
	}
	return all
}

// Notes lists what people should know of the sources, although nothing is wrong with a row.
func (f *Flow) Notes() []string {
	all := slices.Clone(f.notes)
	if f.of.Reads() && f.of.Database == nil {
		all = append(all, f.in.HeldNotes(f.of)...)
	}
	for _, p := range f.parts {
		if in, ok := p.from.(*source.Files); ok {
			all = append(all, in.Notes()...)
		}
	}
	for _, o := range f.others() {
		all = append(all, o.Notes()...)
	}
	return all
}

// others lists the flows that this one takes rows from, then those that complete it.
func (f *Flow) others() []*Flow { return append(f.below(), f.helpers...) }

func (f *Flow) below() []*Flow {
	var list []*Flow
	for _, p := range f.parts {
		if o, ok := p.from.(*Flow); ok {
			list = append(list, o)
		}
	}
	return list
}

// Read is how many rows have been read, not counting those that only complete others. Rows of periods count that are
// made beyond those that were read.
func (f *Flow) Read() int64 {
	below := f.below()
	if len(below) == 0 {
		return f.read.in.Load() + f.made.Load()
	}
	sum := f.made.Load()
	for _, o := range below {
		sum += o.Read()
	}
	return sum
}

// Took notes rows that somebody else has dealt with, of the nth source where this one is a union, or is made of one:
// those that passed, and how many more they were before some became one; those left out, by the rules of the sources,
// first those of the ones that this one is made of; and those whose columns joins have left empty, by the joins, in
// the same order.
func (f *Flow) Took(nth int, passed, merged int64, leftOut, emptied []int64) {
	for _, j := range slices.Backward(f.joins) {
		last := len(emptied) - 1
		j.empty.Add(emptied[last])
		emptied = emptied[:last]
	}
	for _, s := range []struct {
		is bool
		*stage
	}{{f.of.Distinct != nil, &f.distinct}, {f.of.Group != nil, &f.group}} {
		if s.is {
			s.in.Add(passed + merged)
			s.merged.Add(merged)
			passed, merged = passed+merged, 0
		}
	}
	if below := f.below(); len(below) > 0 {
		part := below[0]
		if len(below) > 1 {
			part = below[nth]
		}
		own, all := len(leftOut)-len(f.leaves), passed
		for _, n := range leftOut[own:] {
			all += n
		}
		part.Took(nth, all, merged, leftOut[:own], emptied)
		leftOut = leftOut[own:]
	}
	f.read.in.Add(passed)
	f.checks.in.Add(passed)
	for _, j := range f.joins {
		j.in.Add(passed)
	}
	for k, n := range leftOut {
		f.leaves[k].Add(n)
		f.read.in.Add(n)
		f.read.left.Add(n)
	}
}

// LeftOut returns how many of the rows read were left out, by the reasons of the model.
func (f *Flow) LeftOut() map[string]int64 {
	sums := map[string]int64{}
	for _, o := range f.below() {
		for reason, n := range o.LeftOut() {
			sums[reason] += n
		}
	}
	for k, r := range f.of.LeaveOut {
		if n := f.leaves[k].Load(); n > 0 {
			sums[r.Reason.Text] += n
		}
	}
	if n := f.emptied.Load(); n > 0 {
		sums["no "+f.of.Spread().Text] += n
	}
	return sums
}

// Gone is how many of the rows read were dropped, and how many merged into others.
func (f *Flow) Gone() (dropped, merged int64) {
	for _, o := range f.below() {
		d, m := o.Gone()
		dropped, merged = dropped+d, merged+m
	}
	for _, j := range f.joins {
		dropped += j.dropped.Load()
	}
	return dropped, merged + f.distinct.merged.Load() + f.group.merged.Load()
}

// Counts says what became of the rows, stage by stage: first in the sources that this one is made of.
func (f *Flow) Counts() []Count {
	var list []Count
	for _, o := range f.others() {
		for _, c := range o.Counts() {
			if !slices.Contains(list, c) { // a source that is joined twice
				list = append(list, c)
			}
		}
	}
	add := func(name string, s *stage) {
		list = append(
			list,
			Count{f.of.Text, name, s.in.Load(), s.left.Load(), s.aside.Load(), s.dropped.Load(), s.merged.Load(), s.empty.Load()},
		)
	}
	add("read", &f.read)
	for _, j := range f.joins {
		add("join "+j.of.Text, &j.stage)
	}
	if len(f.of.Require)+len(f.of.SetAside)+len(f.of.Derive) > 0 {
		add("checks", &f.checks)
	}
	if f.of.Distinct != nil {
		add("distinct", &f.distinct)
	}
	if f.of.Periods != nil {
		add("periods", &f.group)
	}
	if f.of.Spans != nil {
		add("spans", &f.group)
	}
	if f.of.Group != nil {
		add("group", &f.group)
	}
	return list
}

// Fallen lists the rows set aside of sources that complete others.
func (f *Flow) Fallen() []Fallen {
	all := slices.Clone(f.fallen)
	for _, o := range f.others() {
		all = append(all, o.Fallen()...)
	}
	return all
}
