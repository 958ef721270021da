// Package resolve resolves the foreign keys of rows: of facts, and of dimensions that point to others.
//
// A [Link] is one key with its rule and the roster of its dimension. Workers look keys up in frozen
// rosters through a [Resolver] and apply the rules (R1, R2); what is left over are the rows that need a
// member to be inferred. These a step's single sequencer completes, in source order, through [Join].
package resolve

import (
	"fmt"
	"slices"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/dimension"
	"ironmonger/internal/ledger"
	"ironmonger/internal/roster"
	"ironmonger/internal/star"
)

// Link is a foreign key of a step.
type Link struct {
	*star.Key
	Roster  *roster.Roster
	Session *dimension.Session // what the step infers; shared by the links to one dimension
	Answers *roster.Answers    // the keys, where they were looked up beforehand: the roster is blind then
	by      []int              // columns of the shaped batch
	unread  []int              // those that say that one of these could not be read
	asOf    int                // or -1
}

// New returns the links of a step whose shaped rows have the given fields.
func New(
	keys []*star.Key,
	fields []column.Field,
	roster func(*star.Dimension) *roster.Roster,
	session func(*roster.Roster) *dimension.Session,
) []*Link {
	var links []*Link
	for _, k := range keys {
		x := roster(k.Dimension)
		l := &Link{Key: k, Roster: x, Session: session(x), asOf: -1}
		for _, name := range k.By {
			l.by = append(l.by, column.Find(fields, name))
		}
		for _, name := range k.Unread {
			l.unread = append(l.unread, column.Find(fields, name))
		}
		if k.AsOf != "" {
			l.asOf = column.Find(fields, k.AsOf)
		}
		links = append(links, l)
	}
	return links
}

// columns returns the natural key's columns of a batch.
func (l *Link) columns(b *column.Batch, buf []*column.Column) []*column.Column {
	buf = buf[:0]
	for _, k := range l.by {
		buf = append(buf, &b.Cols[k])
	}
	return buf
}

// Natural returns the natural key of a row for people.
func (l *Link) Natural(b *column.Batch, i int) string { return Natural(l.columns(b, nil), i) }

// Natural writes row i of the columns of a natural key for people.
func Natural(by []*column.Column, i int) string {
	s := ""
	for n, c := range by {
		if n > 0 {
			s += ", "
		}
		s += c.Value(i)
	}
	return diag.Clip(diag.Printable(s), 60)
}

// Resolved is the keys of a batch.
type Resolved struct {
	Keys    []column.Column // a column of surrogate keys for each link
	Durable []column.Column // and of durable keys, where they are held too
	Open    [][]bool        // for each link, the rows that need a member inferred; nil if none do
	Pending []int32         // rows that need any
	Counts  []ledger.KeyCounts
	Strays  []Stray // rows whose key was unmatched or outside, in order
	Stop    error   // the first row that a rule makes stop
	First   int64   // how many rows come before the batch, where answers are read
}

// Stray is a row whose key was unmatched or outside: the link and the row.
type Stray struct {
	Link, Row int32
	Outside   bool
}

// Resolver resolves batches. It is for one goroutine.
type Resolver struct {
	links  []*Link
	lookup []*roster.Lookup
	recall []*roster.Recall // in place of a lookup
	match  []roster.Match
	buf    []*column.Column
}

// NewResolver returns a resolver for the links of a step.
func NewResolver(links []*Link) *Resolver {
	r := &Resolver{links: links}
	for _, l := range links {
		lookup := l.Roster.Lookup()
		lookup.CurrentIfTimeless = l.Milestone
		r.lookup, r.recall = append(r.lookup, lookup), append(r.recall, nil)
		if l.Answers != nil {
			r.recall[len(r.recall)-1] = l.Answers.Recall()
		}
	}
	return r
}

var integer = column.Type{Kind: column.Integer}

// Resolve finds the keys of the rows of b that have not been set aside, and sets aside those that a
// rule says so of. The error is of answers that cannot be read.
func (r *Resolver) Resolve(b *column.Batch, out *Resolved) error {
	if out.Keys == nil {
		out.Keys = make([]column.Column, len(r.links))
		out.Durable = make([]column.Column, len(r.links))
		out.Open = make([][]bool, len(r.links))
		out.Counts = make([]ledger.KeyCounts, len(r.links))
	}
	out.Pending, out.Strays, out.Stop = out.Pending[:0], out.Strays[:0], nil
	for _, l := range r.links {
		if l.Unmatched == star.Infer || l.Dimension.Junk { // what isn't there may have to be made
			r.buf = l.columns(b, r.buf)
			roster.TooLong(b, r.buf, l.Text)
		}
	}
	passed := passing(b)
	if cap(r.match) < b.N {
		r.match = make([]roster.Match, b.N+b.N/4)
	}
	match := r.match[:b.N]
	pending := false
	for k, l := range r.links {
		c := &out.Keys[k]
		c.Type = integer
		c.Resize(b.N)
		clear(c.Null)
		var asOf *column.Column
		if l.asOf >= 0 {
			asOf = &b.Cols[l.asOf]
		}
		r.buf = l.columns(b, r.buf)
		durable := &out.Durable[k]
		if l.Both {
			durable.Type = integer
			durable.Resize(b.N)
		}
		if r.recall[k] == nil {
			r.lookup[k].Resolve(r.buf, asOf, b.N, c.Int, durable.Int, match)
		} else if err := r.recall[k].Resolve(out.First, b.N, c.Int, durable.Int, match); err != nil {
			return err
		}
		out.Counts[k], out.Open[k] = ledger.KeyCounts{}, nil
		for i, m := range match {
			if passed != nil && !passed[i] {
				if m != roster.Matched && m != roster.Outside { // it has no key, nor that of a row before
					c.Int[i], _ = l.Dimension.KeyOf(star.Unknown)
				}
				continue
			}
			if m == roster.Matched {
				out.Counts[k].Matched++
				continue
			}
			pending = l.apply(b, out, k, i, m) || pending
		}
		if l.Both {
			copy(durable.Null, c.Null)
			for i, surrogate := range c.Int {
				if surrogate < 0 { // special members have one key
					durable.Int[i] = surrogate
				}
			}
		}
	}
	if !pending {
		return nil
	}
	for i := range b.N {
		for k := range r.links {
			if out.Open[k] != nil && out.Open[k][i] && !b.Bad(i) {
				out.Pending = append(out.Pending, int32(i))
				break
			}
		}
	}
	return nil
}

// passing returns the rows that have not been set aside, or nil if none have.
func passing(b *column.Batch) []bool {
	if len(b.Faults) == 0 {
		return nil
	}
	passed := make([]bool, b.N)
	for i := range passed {
		passed[i] = !b.Bad(i)
	}
	return passed
}

// apply does what the rule for an outcome says, and tells whether a member has to be inferred.
func (l *Link) apply(b *column.Batch, out *Resolved, k, i int, m roster.Match) bool {
	if l.Dimension.Junk && m == roster.Unmatched { // a combination that is new is no stray
		out.Counts[k].Matched++
		out.Keys[k].Int[i], _ = l.Dimension.KeyOf(star.Unknown) // until it is made, no row has it
		return l.leaveOpen(b, out, k, i)
	}
	if l.Dimension.Calendar != nil && m == roster.Unmatched && l.Dimension.Calendar.Reaches(dayOf(&b.Cols[l.by[0]], i)) {
		out.Counts[k].Matched++ // the calendar grows
		out.Keys[k].Int[i], _ = l.Dimension.KeyOf(star.Unknown)
		return l.leaveOpen(b, out, k, i)
	}
	if m == roster.Beyond { // to infer a member doesn't help where it isn't to hold
		if m = roster.Unmatched; l.Unmatched == star.Infer && l.Outside != star.Nearest {
			m = roster.Outside
		}
	}
	var rule star.Outcome
	var what string
	switch m {
	case roster.Missing:
		out.Counts[k].Missing++
		if rule, what = l.Missing, "no "+l.Text; IsUnread(b, l.unread, i) {
			rule = star.ToUnreadable
		}
	case roster.Unmatched:
		out.Counts[k].Unmatched++
		out.Strays = append(out.Strays, Stray{int32(k), int32(i), false})
		rule, what = l.Unmatched, "unmatched "+l.Text
	case roster.Outside:
		out.Counts[k].Outside++
		out.Strays = append(out.Strays, Stray{int32(k), int32(i), true})
		rule, what = l.Outside, l.Text+" outside every version"
	case roster.Timeless:
		out.Counts[k].Missing++
		rule, what = star.SetAside, l.Text+" without "+l.AsOf
	}
	c := &out.Keys[k]
	if rule != star.Nearest { // an outside row has the nearest version's key already
		c.Int[i], _ = l.Dimension.KeyOf(star.Unknown)
	}
	switch rule {
	case star.Infer:
		return l.leaveOpen(b, out, k, i)
	case star.SetAside:
		detail := ""
		if m != roster.Missing {
			detail = l.Natural(b, i)
		}
		b.SetAside(i, l.Text, what, detail)
	case star.Stop:
		if out.Stop == nil {
			out.Stop = &diag.Error{
				At:      diag.Place{File: b.From.File, Line: int(b.From.Line[i])},
				Subject: "key " + l.Text,
				Message: fmt.Sprintf("%s: %s; the model says stop", what, l.Natural(b, i)),
			}
		}
	case star.LeaveEmpty:
		c.SetNull(i)
	case star.ToNotYet:
		c.Int[i], _ = l.Dimension.KeyOf(star.NotYet)
	case star.NotApplying:
		c.Int[i], _ = l.Dimension.KeyOf(star.NotApplicable)
	case star.ToUnreadable:
		c.Int[i], _ = l.Dimension.KeyOf(star.Unreadable)
	}
	return false
}

// IsUnread reports whether one of some columns says of a row that what was delivered could not be read.
func IsUnread(b *column.Batch, columns []int, i int) bool {
	for _, k := range columns {
		if c := &b.Cols[k]; !c.Null[i] && c.Int[i] != 0 {
			return true
		}
	}
	return false
}

// dayOf returns the day of a date or a timestamp.
func dayOf(c *column.Column, i int) int64 {
	if c.Type.Kind == column.Timestamp {
		return civil.DayOf(c.Int[i])
	}
	return c.Int[i]
}

// Says returns the columns of a batch in which its rows say the natural key, as it is compared.
func (l *Link) Says(b *column.Batch) []*column.Column { return l.columns(b, nil) }

// Settles reports whether the key of a fact that no member had points to the member once it comes (rule R2): a rule
// gave the fact a special member or null, and the key may change.
func Settles(f *star.Fact, k *star.Key) bool {
	inGrain := slices.ContainsFunc(f.Grain, func(g star.GrainPart) bool { return g.Key == k })
	return k.Unmatched.Special() && k.Again && !inGrain
}

// Time returns the column of a batch that says as of when a key is; nil if it is of no time.
func (l *Link) Time(b *column.Batch) *column.Column {
	if l.asOf < 0 {
		return nil
	}
	return &b.Cols[l.asOf]
}

// leaveOpen leaves a row's key to the step's sequencer.
func (l *Link) leaveOpen(b *column.Batch, out *Resolved, k, i int) bool {
	if out.Open[k] == nil {
		out.Open[k] = make([]bool, b.N)
	}
	out.Open[k][i] = true
	return true
}

// Join returns row i, which needs members to be inferred, its keys: of members that the step has made
// already, or makes now.
func Join(links []*Link, b *column.Batch, r *Resolved, i int32) {
	for k, l := range links {
		if r.Open[k] == nil || !r.Open[k][i] {
			continue
		}
		surrogate, _ := l.Session.Infer(l.columns(b, nil), int(i))
		r.set(k, i, surrogate)
	}
}

// set returns a row the key of a member that the step has made; it is its durable key, too.
func (r *Resolved) set(k int, i int32, surrogate int64) {
	if r.Keys[k].Int[i] = surrogate; len(r.Durable[k].Int) > 0 {
		r.Durable[k].Int[i] = surrogate
	}
}

// Known is [Join] without making members, for the links that of names, nil for all: it says false if
// one would have to be made.
func Known(links []*Link, b *column.Batch, r *Resolved, i int32, of func(*Link) bool) bool {
	for k, l := range links {
		if r.Open[k] == nil || !r.Open[k][i] || of != nil && !of(l) {
			continue
		}
		surrogate, ok := l.Session.Find(l.columns(b, nil), int(i))
		if !ok {
			return false
		}
		r.set(k, i, surrogate)
	}
	return true
}
