// Package history works out the versions of a member from all that was observed of it.
//
// A [Member] is how a member stands: its versions, with digests of their values, and the observations that made no
// version. A [Maker] puts these together with the new [Observation] values of a load and returns an [Outcome]: the
// versions as they are to be, which of them keep the key of one that stands, and what became of each observation. The
// result is a function of all observations (rule R8): neither the order of the loads nor their number matters. The
// package compares digests and times only; it reads and writes nothing.
package history

import (
	"cmp"
	"slices"
	"sort"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
)

// Unsaid is the effective time of what has none: it is before all others.
const Unsaid = -1 << 62

// None is the number of no row and of no version.
const None = -1

// Timing says since when a row is so, and which of several rows of that time it is.
type Timing struct{ Effective, Sequence int64 }

// Untimed is the timing of what has none.
var Untimed = Timing{Unsaid, Unsaid}

// Compare orders timings by effective time, then by sequence.
func (s Timing) Compare(o Timing) int {
	return cmp.Or(cmp.Compare(s.Effective, o.Effective), cmp.Compare(s.Sequence, o.Sequence))
}

// TimingOf returns the timing of row i of two columns; each is nil where there is none.
func TimingOf(effective, sequence *column.Column, i int) Timing {
	s := Untimed
	if effective != nil && !effective.Null[i] {
		s.Effective = effective.Int[i]
	}
	if sequence != nil && !sequence.Null[i] {
		s.Sequence = sequence.Int[i]
	}
	return s
}

// Mark tells a row from an observation that no row makes: that a member was missing from a delivery of all, or was
// there again (rule R13). Such an observation says nothing about attributes, and any row of the same time counts more.
type Mark uint8

const (
	Row Mark = iota
	Gone
	Back
)

// Marks are the texts by which the tables keep marks.
var Marks = []string{"", "gone", "back"}

// MarkOf reads a mark from row i of a column.
func MarkOf(c *column.Column, i int) Mark { return Mark(max(0, slices.Index(Marks, c.Text[i]))) }

// Digests are those of the values of a row, by the type of the attributes.
type Digests struct{ Type0, Type1, Type2, Type3 digest.Sum }

// Version is a version of a member. It is valid from From until the next version begins.
type Version struct {
	Key      int64
	From     int64      // the beginning of time if the dimension has no versions
	Timing              // as delivered; Unsaid for an inferred member
	Type2    digest.Sum // of the type 2 values
	Inferred bool
	Gap      bool // nothing is valid from here; only of a dimension that is looked up in
	Gone     bool // a delivery of all did not have the member any more
	Repeated Repeated
}

// Repeated counts the rows of the load at hand that say what is known.
type Repeated struct {
	File  int32 // the last of the files that had one
	Times uint8 // how many there were, up to ManyTimes
}

// ManyTimes is the number that a [Repeated] does not count beyond.
const ManyTimes = 255

// Add adds rows. ranks orders the files.
func (s *Repeated) Add(more Repeated, ranks []int64) {
	if s.Times == 0 || more.Times > 0 && ranks[more.File] > ranks[s.File] {
		s.File = more.File
	}
	s.Times += min(more.Times, ManyTimes-s.Times)
}

// Note is an observation that is kept apart from the versions: each that made no version, or all of them where the
// dimension keeps complete records.
type Note struct {
	Timing
	Type3    digest.Sum // of the type 3 values observed
	Mark     Mark
	Repeated Repeated
}

// Compare orders notes by their timing.
func (n Note) Compare(o Note) int { return n.Timing.Compare(o.Timing) }

// Member is a member as it stands. One that is new has no versions.
type Member struct {
	Durable  int64      // the key that is the same for all versions, where there is one
	Versions []Version  // by From
	Type1    digest.Sum // of the type 1 values
	Type0    digest.Sum // of the type 0 values
	Type3    digest.Sum // of the type 3 values as they are now
	Noted    []Note     // in order
}

// Note returns the place of the last note of a time, or None. It reads nothing but times: what is counted of notes may
// change meanwhile.
func (p *Member) Note(effective int64) int {
	n := sort.Search(len(p.Noted), func(i int) bool { return p.Noted[i].Effective > effective })
	if n--; n < 0 || p.Noted[n].Effective != effective {
		return None
	}
	return n
}

// Observed returns the version that an observation of exactly that time belongs to, and the sequence of the one that
// counts. The version is None if there was no such observation.
func (p *Member) Observed(effective int64) (version int, sequence int64) {
	for k := len(p.Versions) - 1; k >= 0; k-- {
		v := &p.Versions[k]
		if v.Effective > effective && k > 0 { // without versions, the one row says what was seen last
			continue
		}
		at, sequence := None, int64(Unsaid)
		if v.Effective == effective {
			at, sequence = k, v.Sequence
		}
		if n := p.Note(effective); n != None {
			at, sequence = k, max(sequence, p.Noted[n].Sequence)
		}
		return at, sequence
	}
	return None, Unsaid
}

// Latest returns the greatest effective time of a row ever seen.
func (p *Member) Latest() int64 {
	latest := int64(Unsaid)
	for k := len(p.Noted) - 1; k >= 0; k-- {
		if p.Noted[k].Mark == Row {
			latest = p.Noted[k].Effective
			break
		}
	}
	for k := len(p.Versions) - 1; k >= 0; k-- {
		if n := p.Note(p.Versions[k].Effective); n == None || p.Noted[n].Mark == Row {
			return max(latest, p.Versions[k].Effective)
		}
	}
	return latest
}

// Earliest returns the least effective time ever seen.
func (p *Member) Earliest() int64 {
	earliest := p.Versions[0].Effective
	if len(p.Noted) > 0 {
		earliest = min(earliest, p.Noted[0].Effective)
	}
	return earliest
}

// At returns the version that is valid at a time, and whether the time is not before the first.
func (p *Member) At(time int64) (int, bool) {
	for k := len(p.Versions) - 1; k > 0; k-- {
		if p.Versions[k].From <= time {
			return k, true
		}
	}
	return 0, p.Versions[0].From <= time
}

// RepeatedAt returns the count of the rows of this load that say again what is known of a time, to be counted on; nil
// if nothing is known of it.
func (p *Member) RepeatedAt(effective int64) *Repeated {
	if n := p.Note(effective); n != None {
		return &p.Noted[n].Repeated
	}
	if k, _ := p.Observed(effective); k != None {
		return &p.Versions[k].Repeated
	}
	return nil
}

// Known returns the version that a known observation of a time belongs to, or None.
func (p *Member) Known(effective int64) int {
	if len(p.Versions) == 0 || p.Versions[0].Inferred {
		return None
	}
	k, _ := p.Observed(effective)
	return k
}

// marked reports whether what is known of a time is a mark.
func (p *Member) marked(effective int64) bool {
	n := p.Note(effective)
	return n != None && p.Noted[n].Mark != Row
}

// alike reports whether nothing distinguishes a version from the one before it: the attribute that did is no longer
// of type 2, or has been erased. The versions stay (rule R15).
func (p *Member) alike(k int) bool {
	return k > 0 && p.Versions[k-1].Type2 == p.Versions[k].Type2 && p.Versions[k-1].Gone == p.Versions[k].Gone
}

// Slab is versions that are cut from large pieces, since most members have one.
type Slab []Version

// Cut returns an empty list with room for n versions.
func (s *Slab) Cut(n int) []Version { return cut((*[]Version)(s), n) }

// cut takes an empty list with room for n off a piece, or off a new one.
func cut[T any](piece *[]T, n int) []T {
	if len(*piece) < n {
		*piece = make([]T, max(n, 4096))
	}
	list := (*piece)[:0:n]
	*piece = (*piece)[n:]
	return list
}
