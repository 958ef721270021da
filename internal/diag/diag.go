// Package diag says where something stands and what is wrong there.
//
// Every complaint about a model or a file is an [Error]: a place (file, line, column), the path of
// the thing inside the model, what is wrong, what to do, and the line itself with a caret under it.
// Complaints are gathered in a [List], so that a person learns all of them at once.
package diag

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Place is a position in a file. Line and Column count from 1, in characters; 0 means not known.
type Place struct {
	File   string
	Line   int
	Column int
}

// String returns file:line:column, leaving out what is not known.
func (p Place) String() string {
	s := p.File
	if p.Line > 0 {
		s += fmt.Sprintf(":%d", p.Line)
		if p.Column > 0 {
			s += fmt.Sprintf(":%d", p.Column)
		}
	}
	return s
}

// Right returns the place n characters further on in the same line.
func (p Place) Right(n int) Place {
	p.Column += n
	return p
}

// Error is one complaint.
type Error struct {
	At      Place
	Subject string // path inside the model, such as facts.passage.keys.vessel; may be empty
	Message string // what is wrong and what to do
	Text    string // the line at At, for the caret; may be empty
}

// Error returns "place: subject: message" and, where the line is known, the line and a caret.
func (e *Error) Error() string {
	var b strings.Builder
	if s := e.At.String(); s != "" {
		b.WriteString(s)
		b.WriteString(": ")
	}
	if e.Subject != "" {
		b.WriteString(e.Subject)
		b.WriteString(": ")
	}
	b.WriteString(e.Message)
	if e.Text != "" && e.At.Line > 0 {
		fmt.Fprintf(&b, "\n%5d | %s", e.At.Line, Printable(e.Text))
		if e.At.Column > 0 {
			text := []rune(e.Text)
			lead := []rune(Printable(string(text[:min(e.At.Column-1, len(text))])))
			for i, r := range lead {
				if r != '\t' {
					lead[i] = ' '
				}
			}
			fmt.Fprintf(&b, "\n      | %s^", string(lead))
		}
	}
	return b.String()
}

// List is several complaints, in the order of their places once sorted.
type List []*Error

// Error returns all complaints, one after the other.
func (l List) Error() string {
	parts := make([]string, len(l))
	for i, e := range l {
		parts[i] = e.Error()
	}
	return strings.Join(parts, "\n")
}

// Err returns the list as an error, sorted by place and without repeats, or nil if it is empty.
func (l List) Err() error {
	if len(l) == 0 {
		return nil
	}
	slices.SortStableFunc(l, func(a, b *Error) int {
		return cmp.Or(
			cmp.Compare(a.At.File, b.At.File),
			cmp.Compare(a.At.Line, b.At.Line),
			cmp.Compare(a.At.Column, b.At.Column),
		)
	})
	return slices.CompactFunc(l, func(a, b *Error) bool { return *a == *b })
}

// Printable returns s with control characters and bytes that are no UTF-8 written as \xNN, so that
// text from a file can neither steer a terminal nor break a text column.
func Printable(s string) string { return escape(s, false) }

// Storable is [Printable] but lets tabs and line breaks stand.
func Storable(s string) string { return escape(s, true) }

func escape(s string, breaks bool) string {
	clean := func(r rune, n int) bool {
		if r == utf8.RuneError && n <= 1 {
			return false
		}
		if r == '\t' || breaks && (r == '\n' || r == '\r') {
			return true
		}
		return r >= 0x20 && r != 0x7f && (r < 0x80 || r > 0x9f) && (breaks || !turns(r))
	}
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		if !clean(r, n) {
			var b strings.Builder
			for j := 0; j < len(s); {
				r, n := utf8.DecodeRuneInString(s[j:])
				if clean(r, n) {
					b.WriteString(s[j : j+n])
				} else {
					for _, c := range []byte(s[j : j+n]) {
						fmt.Fprintf(&b, `\x%02x`, c)
					}
				}
				j += n
			}
			return b.String()
		}
		i += n
	}
	return s
}

// turns reports whether a character changes the direction or the line of what stands around it, so that one would see
// another text than there is.
func turns(r rune) bool {
	return r == 0x200e || r == 0x200f || r >= 0x2028 && r <= 0x202e || r >= 0x2066 && r <= 0x2069
}

// Clip shortens s to at most n characters, marking the cut.
func Clip(s string, n int) string {
	if utf8.RuneCountInString(s) <= n {
		return s
	}
	return string([]rune(s)[:n-1]) + "…"
}
