package parse

import (
	"regexp"
	"strconv"
	"testing"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
)

// FuzzPattern holds what a layout reads against its pattern: what is read matches, and the groups of what matches are a day,
// which is read, or none.
func FuzzPattern(f *testing.F) {
	for _, s := range []string{"dd.MM.yyyy", "d.M.yyyy", "yyyyMMdd", "M/yyyy", "(d)M*yyyy", "d1MM.yyyy", "yyyyM dd"} {
		f.Add(s, "03.04.2024")
		f.Add(s, "1.12.2024")
		f.Add(s, "31/02/2024")
	}
	f.Fuzz(func(t *testing.T, layout, text string) {
		l, err := NewLayout(layout, column.Date, Words{})
		if err != nil {
			return
		}
		pattern, groups, ok := l.Pattern()
		if !ok {
			return
		}
		read, err := l.parse(text)
		found := regexp.MustCompile(`\A(?:` + pattern + `)\z`).FindStringSubmatch(text)
		if found == nil {
			if err == nil {
				t.Errorf("%q is read in the layout %q, and does not match %q", text, layout, pattern)
			}
			return
		}
		v, runs := map[byte]int{'d': 1}, regexp.MustCompile("[^0-9]+").Split(text, -1)
		for k, g := range groups {
			v[g.Letter], _ = strconv.Atoi(found[k+1])
			if at := g.At - 1; g.At > 0 && g.Digits > 0 && text[at:at+g.Digits] != found[k+1] {
				t.Errorf("%q in the layout %q: %q does not begin at %d", text, layout, found[k+1], g.At)
			}
			if rest := runs[g.Run-1][g.In-1:]; rest[:max(g.Digits, len(found[k+1]))] != found[k+1] || g.Digits == 0 && rest != found[k+1] {
				t.Errorf("%q in the layout %q: %q is not in part %d at %d", text, layout, found[k+1], g.Run, g.In)
			}
		}
		is := v['y'] > 0 && v['M'] > 0 && v['M'] < 13 && v['d'] > 0 && v['d'] <= civil.DaysIn(v['y'], v['M'])
		if is != (err == nil) || is && read.day != civil.Day(v['y'], v['M'], v['d']) {
			t.Errorf("%q in the layout %q: read as day %d (%v), its groups are %q", text, layout, read.day, err, found)
		}
	})
}
