package locale

import (
	"strconv"
	"strings"
)

// Pattern writes dates. Digits are 0 to 9 in all languages.
type Pattern struct{ parts []part }

// part is text, or a part of a date.
type part struct {
	letter byte // as the CLDR has it (Unicode TS 35, part 4); 0 for text
	width  int
	text   string
	names  []string
}

// compile reads a pattern of the CLDR for a locale.
func compile(pattern string, l *Locale) Pattern {
	var p Pattern
	for i := 0; i < len(pattern); {
		letter := pattern[i]
		switch {
		case letter == '\'':
			end := strings.IndexByte(pattern[i+1:], '\'')
			text := pattern[i+1 : i+1+end]
			if text == "" { // two of them are one
				text = "'"
			}
			p.parts = append(p.parts, part{text: text})
			i += end + 2
		case letter >= 'a' && letter <= 'z' || letter >= 'A' && letter <= 'Z':
			width := 1
			for i+width < len(pattern) && pattern[i+width] == letter {
				width++
			}
			p.parts = append(p.parts, part{letter: letter, width: width, names: l.namesOf(letter, width)})
			i += width
		default:
			end := i
			for end < len(pattern) && pattern[end] != '\'' && !(pattern[end] >= 'a' && pattern[end] <= 'z' ||
				pattern[end] >= 'A' && pattern[end] <= 'Z') {
				end++
			}
			p.parts = append(p.parts, part{text: pattern[i:end]})
			i = end
		}
	}
	return p
}

// namesOf returns the names that a part is written with, or nil if it is a number.
func (l *Locale) namesOf(letter byte, width int) []string {
	of := func(n Names, standAlone bool) []string {
		forms := n.Wide
		if width < 4 {
			forms = n.Short
		}
		if standAlone {
			return forms.StandAlone
		}
		return forms.Format
	}
	switch letter {
	case 'G':
		return []string{l.Era}
	case 'R':
		return []string{"i", "ii", "iii", "iv", "v", "vi", "vii", "viii", "ix", "x", "xi", "xii"}
	case 'E', 'c':
		return of(l.Weekdays, letter == 'c')
	}
	if width < 3 {
		return nil
	}
	switch letter {
	case 'M', 'L':
		return of(l.Months, letter == 'L')
	case 'Q', 'q':
		return of(l.Quarters, letter == 'q')
	}
	return nil
}

// Append writes a date to b. The weekday is counted from Monday, 1.
func (p Pattern) Append(b []byte, year, month, day, weekday int) []byte {
	for k := range p.parts {
		x := &p.parts[k]
		value := 0
		switch x.letter {
		case 0:
			b = append(b, x.text...)
			continue
		case 'y':
			if value = year; x.width == 2 {
				value = year % 100
			}
		case 'M', 'L', 'R':
			value = month
		case 'd':
			value = day
		case 'E', 'c':
			value = weekday
		case 'Q', 'q':
			value = (month + 2) / 3
		case 'G':
			value = 1
		}
		switch {
		case x.names != nil:
			b = append(b, x.names[value-1]...)
		case x.width == 2 && value < 10:
			b = append(b, '0', byte('0'+value))
		default:
			b = strconv.AppendInt(b, int64(value), 10)
		}
	}
	return b
}
