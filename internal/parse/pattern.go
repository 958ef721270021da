package parse

import (
	"fmt"
	"regexp"
	"unicode/utf8"
)

// Group is a number in a text that is written in a layout.
type Group struct {
	Letter byte // as the layout has it
	Digits int  // how many it has; 0 where it may have fewer than others
	At     int  // the character that it begins with, from 1; 0 where what stands before it is not always as long
	Run    int  // which of the parts of the text between characters that are not digits it is in, from 1; the first may be empty,
	In     int  // and the digit of it that it begins with, from 1
}

// Pattern returns a regular expression that matches the texts that are written in the layout, without those around them, and
// its numbers, which are the groups. Not each match is a moment: a month may have too many days. It says no where a layout has
// names, halves of days, years of two digits or characters that are not of ASCII, where it counts, and where a number is not told
// from the digits after it.
func (l *Layout) Pattern() (pattern string, groups []Group, ok bool) {
	at, run, in := 1, 1, 1
	open, between := false, false // after a number that may have another digit, and after what is no digit
	for _, f := range l.fields {
		digit := f.letter != 0 || f.literal >= '0' && f.literal <= '9'
		switch {
		case open && digit, f.letter == 0 && f.literal >= utf8.RuneSelf,
			f.letter == monthName, f.letter == half, f.letter == 'h', f.letter == 'y' && f.most == 2:
			return "", nil, false
		case !digit && !between: // several are one gap
			run, in = run+1, 1
		}
		between = !digit
		if f.letter == 0 {
			pattern += regexp.QuoteMeta(string(rune(f.literal)))
			at, open = next(at, 1), false
			if digit {
				in++
			}
			continue
		}
		g := Group{Letter: f.letter, Digits: f.most, At: at, Run: run, In: in}
		pattern += fmt.Sprintf("([0-9]{%d,%d})", f.least, f.most)
		if open = f.least < f.most; open {
			g.Digits, at = 0, 0
		}
		at, in = next(at, f.most), in+f.most
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
