package expr

import (
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/parse"
)

// laidOut reads a text in a layout: its numbers are put where the usual one has them, of a text that matches.
func (r *renderer) laidOut(n *cast) SQL {
	pattern, groups, ok := n.layout.Pattern()
	if !ok {
		return r.refuse("a layout with names, halves of days or numbers that are not told apart")
	}
	x := r.of(n.of)
	read, ok := r.d.Read(r.usual(x.Value, pattern, groups, n.typ().Kind), n.typ())
	if !ok {
		return r.refuse("a cast of text to " + n.typ().String())
	}
	return SQL{read.Value, all(x.Clean, read.Clean, "coalesce("+r.d.matches(x.Value, pattern)+", true)")}
}

// usual writes a text that matches in the usual layout. Numbers that always stand at the same place are cut out, which is
// fast; of others, those of one digit or two get a zero in front, which is one too many where they have two.
func (r *renderer) usual(text, pattern string, groups []parse.Group, kind column.Kind) string {
	if !slices.ContainsFunc(groups, func(g parse.Group) bool { return g.At == 0 || g.Digits == 0 }) {
		parts := usualParts(groups, kind, Quoted, func(_ int, g parse.Group) string {
			return fmt.Sprintf("substr(%s, %d, %d)", text, g.At, g.Digits)
		})
		return "(" + strings.Join(parts, " || ") + ")"
	}
	parts := usualParts(groups, kind, func(s string) string { return s }, func(nth int, g parse.Group) string {
		if g.Digits == 0 && g.Letter != 'S' {
			return fmt.Sprintf(`0\%d`, nth)
		}
		return fmt.Sprintf(`\%d`, nth)
	})
	return r.d.replaced(r.d.replaced(text, pattern, strings.Join(parts, "")), "(^|[-T:])0([0-9]{2})", `\1\2`)
}

// usualParts are the parts of a text in the usual layout: what stands between the numbers, and these, which number makes of a
// group. A number that there is no group for is the least that there is.
func usualParts(groups []parse.Group, kind column.Kind, between func(string) string, number func(nth int, g parse.Group) string) []string {
	var parts []string
	add := func(before string, letter byte, least string) {
		if before != "" {
			parts = append(parts, between(before))
		}
		if at := slices.IndexFunc(groups, func(g parse.Group) bool { return g.Letter == letter }); at >= 0 {
			parts = append(parts, number(at+1, groups[at]))
		} else {
			parts = append(parts, between(least))
		}
	}
	before := ""
	if kind != column.Time {
		add("", 'y', "")
		add("-", 'M', "")
		add("-", 'd', "01")
		before = "T"
	}
	if kind != column.Date {
		add(before, 'H', "")
		add(":", 'm', "00")
		add(":", 's', "00")
		if slices.ContainsFunc(groups, func(g parse.Group) bool { return g.Letter == 'S' }) {
			add(".", 'S', "")
		}
	}
	return parts
}
