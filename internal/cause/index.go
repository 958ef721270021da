// Package cause finds out why a natural key has no member: because the two are written differently, because another
// part of the key is meant, because a letter is wrong, or because nothing like it is there.
//
// It compares what strayed with the natural keys that a dimension has. Differences in writing are steps, such as letter
// case or leading zeros; a stray has the fewest steps that lead to a member, and a column in `matching` takes the same
// steps.
package cause

import (
	"fmt"
	"hash/maphash"
	"strings"
	"unicode/utf8"
)

// Kind is why a natural key has no member.
type Kind string

// The kinds, the surer ones first.
const (
	Written     Kind = "written" // it is written differently
	Part        Kind = "part"    // another value of one part of the key: the register of another system
	Near        Kind = "near"    // a member is one or two characters away; or several are one character away
	Several     Kind = "several" // it is written differently, and several members would be meant
	NothingNear Kind = "nothing" // no member is like it
)

// Cause is why one natural key has no member.
type Cause struct {
	Kind   Kind
	Member int // the nearest one; -1 if there is none
	steps  set
	part   int // the column that is another
	edits  int
}

// Index is the natural keys of a dimension.
type Index struct {
	members [][]string
	sure    map[string][]int32   // by their form
	all     map[string][]int32   // and where characters that look alike are one
	parts   []map[string][]int32 // without one of their parts
	near    *nearby
}

// NewIndex indexes natural keys, each of the same number of parts.
func NewIndex(members [][]string) *Index {
	x := &Index{members: members, sure: map[string][]int32{}, all: map[string][]int32{}}
	for n, m := range members {
		x.sure[form(m, sure, -1)] = append(x.sure[form(m, sure, -1)], int32(n))
		x.all[form(m, all, -1)] = append(x.all[form(m, all, -1)], int32(n))
		for k := 0; k < len(m) && len(m) > 1; k++ {
			if k == len(x.parts) {
				x.parts = append(x.parts, map[string][]int32{})
			}
			x.parts[k][form(m, sure, k)] = append(x.parts[k][form(m, sure, k)], int32(n))
		}
	}
	x.near = newNearby(members)
	return x
}

// form is the form of a natural key, without one of its parts; -1 for all of it.
func form(natural []string, s set, without int) string {
	var b strings.Builder
	for k, text := range natural {
		if k != without {
			b.WriteString(s.apply(text))
		}
		b.WriteByte(0)
	}
	return b.String()
}

// Find returns why a natural key has no member.
func (x *Index) Find(natural []string) Cause {
	for _, way := range []struct {
		found []int32
		steps set
	}{{x.sure[form(natural, sure, -1)], sure}, {x.all[form(natural, all, -1)], all}} {
		if c, ok := x.fewest(natural, way.found, way.steps); ok {
			return c
		}
	}
	several := Cause{Member: -1}
	for k := range x.parts {
		switch found := x.parts[k][form(natural, sure, k)]; {
		case len(found) == 1:
			return Cause{Kind: Part, Member: int(found[0]), part: k}
		case len(found) > 0 && len(found) <= mostOthers && several.Kind == "":
			several = Cause{Kind: Part, Member: -1, part: k}
		}
	}
	at, edits := x.near.find(natural)
	switch {
	case at >= 0:
		return Cause{Kind: Near, Member: at, edits: edits}
	case several.Kind != "":
		return several
	case edits > 0:
		return Cause{Kind: Near, Member: -1, edits: edits}
	}
	return Cause{Kind: NothingNear, Member: -1}
}

// mostOthers is how many members may be equal to a natural key in all parts but one: more say nothing.
const mostOthers = 5

// fewest returns the member to which the fewest steps lead.
func (x *Index) fewest(natural []string, found []int32, most set) (Cause, bool) {
	best, least, ties := Cause{Kind: Written, Member: -1}, 0, 0
	for _, n := range found {
		steps, ok := between(natural, x.members[n], most)
		if !ok {
			continue
		}
		count := 0
		for s := range stepCount {
			if steps.has(s) {
				count++
			}
		}
		switch {
		case best.Member < 0 || count < least:
			best.Member, best.steps, least, ties = int(n), steps, count, 0
		case count == least:
			ties++
		}
	}
	if ties > 0 {
		best.Kind = Several
	}
	return best, best.Member >= 0
}

// nearby finds natural keys that are one or two characters away: two texts of which so many characters have been taken
// have something in common then.
type nearby struct {
	texts    []string
	variants map[uint64][]int32
	depth    int // characters taken of members, and of strays
	seed     maphash.Seed
}

// mostVariants is how many texts are kept of which characters have been taken.
const mostVariants = 8_000_000

func newNearby(members [][]string) *nearby {
	x := &nearby{seed: maphash.MakeSeed(), variants: map[uint64][]int32{}, depth: 2}
	size := 0
	for _, m := range members {
		text := asText(m)
		x.texts = append(x.texts, text)
		size += len(text) * len(text) / 2
	}
	if size > mostVariants {
		x.depth = 1
	}
	for n, text := range x.texts {
		x.each(text, x.depth, func(h uint64) bool {
			if list := x.variants[h]; len(list) == 0 || list[len(list)-1] != int32(n) {
				x.variants[h] = append(list, int32(n))
			}
			return true
		})
	}
	return x
}

// asText is a natural key as one text, in which differences of writing do not count.
func asText(natural []string) string { return form(natural, sure, -1) }

// longest is how many characters a text may have that is compared so.
const longest = 40

// each calls do for the fingerprints of a text, and of what is left of it without one, or two, of its characters, until
// do says that it is enough.
func (x *nearby) each(text string, depth int, do func(h uint64) bool) bool {
	if !do(maphash.String(x.seed, text)) || len(text) > longest {
		return false
	}
	buf := make([]byte, 0, 2*len(text))
	return without(text, buf, func(one []byte, from int) bool {
		if !do(maphash.Bytes(x.seed, one)) {
			return false
		}
		return depth < 2 || without(string(one), one[len(one):cap(one)], func(two []byte, at int) bool {
			return at < from || do(maphash.Bytes(x.seed, two))
		})
	})
}

// without calls do for what is left of a text without each of its characters, with where it stood.
func without(text string, buf []byte, do func(left []byte, at int) bool) bool {
	for i, c := range text {
		if c == 0 {
			continue
		}
		buf = append(append(buf[:0], text[:i]...), text[i+utf8.RuneLen(c):]...)
		if !do(buf, i) {
			return false
		}
	}
	return true
}

// find returns the nearest member and how many characters have to be changed. The member is -1 if none is near, or
// several are as near; then the characters are 1 if several are one away, else 0.
func (x *nearby) find(natural []string) (member, edits int) {
	text := asText(natural)
	most := 1
	if utf8.RuneCountInString(text) >= 6 {
		most = x.depth
	}
	for edits = 1; edits <= most; edits++ {
		member, several := -1, false
		x.each(text, edits, func(h uint64) bool {
			for _, n := range x.variants[h] {
				if int(n) == member || distance(text, x.texts[n], edits) > edits {
					continue
				}
				if several = member >= 0; several {
					return false
				}
				member = int(n)
			}
			return true
		})
		if several && edits == 1 {
			return -1, 1
		} else if several {
			return -1, 0
		}
		if member >= 0 {
			return member, edits
		}
	}
	return -1, 0
}

// distance is how many characters have to be put in, taken out, changed or exchanged with their neighbour to make one
// text of another; more than most is as good as any number above it.
func distance(a, b string, most int) int {
	var one, two [longest + 8]rune
	x, y := append(one[:0], []rune(a)...), append(two[:0], []rune(b)...)
	if len(x)-len(y) > most || len(y)-len(x) > most || len(y) > longest {
		return most + 1
	}
	var rows [3][longest + 1]int
	before, last, row := &rows[0], &rows[1], &rows[2]
	for k := range len(y) + 1 {
		last[k] = k
	}
	for i := 1; i <= len(x); i++ {
		row[0] = i
		least := i
		for k := 1; k <= len(y); k++ {
			cost := 1
			if x[i-1] == y[k-1] {
				cost = 0
			}
			row[k] = min(last[k]+1, row[k-1]+1, last[k-1]+cost)
			if i > 1 && k > 1 && x[i-1] == y[k-2] && x[i-2] == y[k-1] {
				row[k] = min(row[k], before[k-2]+1)
			}
			least = min(least, row[k])
		}
		if least > most {
			return most + 1
		}
		before, last, row = last, row, before
	}
	return last[len(y)]
}

// ID is the same for causes that one change of a model would mend.
func (c Cause) ID() string { return fmt.Sprint(c.Kind, c.steps, c.part, c.edits > 0, c.Member < 0) }

// Says says in words what the cause is; columns are the names of the parts of the natural key.
func (c Cause) Says(columns []string) string {
	switch c.Kind {
	case Written:
		return "written differently: " + c.steps.String()
	case Several:
		return "written differently, and several members would be meant: " + c.steps.String()
	case Part:
		return "another " + columns[c.part]
	case Near:
		if c.Member < 0 {
			return "one character is another or too many, and several members would be meant"
		}
		return "one or two characters are others"
	}
	return "no member is like it"
}

// Expressions are expressions of a column in which natural keys and members are equal, simpler ones first, which may
// not do for all; nil if writing is not the cause.
func (c Cause) Expressions(column string) []string {
	if c.Kind != Written || c.steps == 0 {
		return nil
	}
	return []string{c.steps.expression(column, true), c.steps.expression(column, false)}
}

// Members returns the members of some numbers.
func (Cause) Members(all [][]string, numbers []int) [][]string {
	list := make([][]string, len(numbers))
	for n, at := range numbers {
		list[n] = all[at]
	}
	return list
}
