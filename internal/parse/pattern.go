package parse

import (
	"fmt"
	"regexp"
	"unicode/utf8"
)

// Group is a number in a text that is written in a layout.
type Group struct {
	Letter byte // as the layout has it
	At     int  // the character that it begins with, from 1; 0 where what stands before it is not always as long
	Digits int  // how many it has; 0 where it may have fewer than others
}

// Pattern returns a regular expression that matches the texts that are written in the layout, without those around them, and
// the numbers that are its groups. Not each match is a moment: a month may have too many days. It says no where a layout has names,
// halves of days, years of two digits or characters that are not of ASCII, where it counts, and where a number is not told from the digits after it.
func (l *Layout) Pattern() (pattern string, groups []Group, ok bool) {
	at, open := 1, false // open is after a number that may have another digit
	for _, f := range l.fields {
		switch {
		case f.letter == 0:
			if open && f.literal >= '0' && f.literal <= '9' || f.literal >= utf8.RuneSelf {
				return "", nil, false
			}
			pattern += regexp.QuoteMeta(string(rune(f.literal)))
			at, open = next(at, 1), false
			continue
		case open || f.letter == monthName || f.letter == half || f.letter == 'h' || f.letter == 'y' && f.most == 2:
			return "", nil, false
		}
		g := Group{Letter: f.letter, At: at, Digits: f.most}
		pattern += fmt.Sprintf("([0-9]{%d,%d})", f.least, f.most)
		if open = f.least < f.most; open {
			g.Digits, at = 0, 0
		}
		at = next(at, f.most)
		groups = append(groups, g)
	}
	return pattern, groups, l.since == nil
}

// next is the place after some more characters, if it is known.
func next(at, more int) int {
	if at == 0 {
		return 0
	}
	return at + more
}
