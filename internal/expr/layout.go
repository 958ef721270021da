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
	if _, ok := r.d.Read("", n.typ()); !ok {
		return r.refuse("a cast of text to " + n.typ().String())
	}
	value := r.d.bound(r.usual(x.Value, groups, n.typ().Kind), func(written string) string {
		read, _ := r.d.Read(written, n.typ())
		return read.Value // null where the text is no such value
	})
	const clean = "(%s is null or %s and %s is not null)"
	return SQL{value, all(x.Clean, fmt.Sprintf(clean, x.Value, r.d.matches(x.Value, pattern), value))}
}

// usual writes a text that matches in the usual layout. Numbers that always stand at the same place are cut out, which is
// fast; of others, those of one digit or two get a zero in front where they have one.
func (r *renderer) usual(text string, groups []parse.Group, kind column.Kind) string {
	if !slices.ContainsFunc(groups, func(g parse.Group) bool { return g.At == 0 || g.Digits == 0 }) {
		return usualText(groups, kind, func(g parse.Group) string {
			return fmt.Sprintf("substr(%s, %d, %d)", text, g.At, g.Digits)
		})
	}
	return r.d.runs(text, func(run func(nth int) string) string {
		return usualText(groups, kind, func(g parse.Group) string {
			if g.Digits > 0 {
				return fmt.Sprintf("substr(%s, %d, %d)", run(g.Run), g.In, g.Digits)
			}
			rest := fmt.Sprintf("substr(%s, %d)", run(g.Run), g.In)
			if g.Letter == 'S' {
				return rest
			}
			return "lpad(" + rest + ", 2, '0')"
		})
	})
}

// usualText is a text in the usual layout, of numbers that number makes of groups. A number that there is no group for is the
// least that there is.
func usualText(groups []parse.Group, kind column.Kind, number func(parse.Group) string) string {
	var parts []string
	add := func(before string, letter byte, least string) {
		if before != "" {
			parts = append(parts, Quoted(before))
		}
		if at := slices.IndexFunc(groups, func(g parse.Group) bool { return g.Letter == letter }); at >= 0 {
			parts = append(parts, number(groups[at]))
		} else {
			parts = append(parts, Quoted(least))
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
	return "(" + strings.Join(parts, " || ") + ")"
}
