package survey

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"ironmonger/internal/star"
)

// form is how a text file of records is written, and how much speaks for it.
type form struct {
	csv    star.CSV
	head   []string // the header; nil if there is none
	line   int      // where the records begin, with the header if there is one
	width  int      // fields of most records
	share  float64  // of the records that have so many
	others int      // records of the sample that have not
}

// separators are those that are tried, the likelier ones first.
var separators = []byte{',', ';', '\t', '|'}

// formOf finds out how records are written, from the beginning of a file in UTF-8. The separator and the quote are
// those with which most records have the same number of fields; the header is the first record of that many that has
// names in all its fields.
func formOf(text []byte, separators []byte) form {
	best := form{csv: star.PlainCSV, share: -1}
	quotes := quotesOf(text)
	for _, separator := range separators {
		for _, quote := range quotes {
			f := star.PlainCSV
			f.Separator, f.Quote = separator, quote
			records, lines, broken := split(text, f)
			x := judge(records, lines)
			if x.csv = f; broken {
				x.share /= 2
			}
			if x.better(&best) {
				best = x
			}
		}
	}
	if best.width < 2 { // a column alone: what separates it from others cannot be told
		records, lines, _ := split(text, star.PlainCSV)
		best = judgeWidth(records, lines, 1)
		best.csv = star.PlainCSV
	}
	best.csv.Headless = best.head == nil
	if best.head != nil && best.line > 1 {
		if best.csv.Header.Line = best.line; len(best.head) > 1 && strings.TrimSpace(best.head[0]) != "" {
			best.csv.Header = star.Header{Begins: []string{strings.TrimSpace(best.head[0]), strings.TrimSpace(best.head[1])}}
		}
	}
	return best
}

// better reports whether a form fits more of the records; of two that fit as many, the one with a header is better,
// then the one that begins earlier, then the one with more fields: marks of decimals, and commas in names, make fields
// in all records but the header.
func (f *form) better(than *form) bool {
	const alike = 0.002
	if f.share > than.share+alike || f.share < than.share-alike {
		return f.share > than.share
	}
	headed, many := f.head != nil, f.width > 1 && than.width > 1
	switch {
	case many && headed != (than.head != nil):
		return headed
	case many && f.share == than.share && f.line != than.line:
		return f.line < than.line
	case f.width != than.width:
		return f.width > than.width
	}
	return f.share > than.share
}

// quotesOf returns the quotes that a text may have: those that stand around fields, whatever separates them, else the
// usual ones; and none, where double quotes stand elsewhere.
func quotesOf(text []byte) []byte {
	around := map[byte]bool{}
	for _, separator := range separators {
		f := star.PlainCSV
		f.Separator, f.Quote = separator, 0
		records, _, _ := split(text, f)
		for _, quote := range []byte{'"', '\''} {
			around[quote] = around[quote] || wraps(records, quote)
		}
	}
	switch {
	case around['"']:
		return []byte{'"'}
	case around['\'']:
		return []byte{'\''}
	case bytes.IndexByte(text, '"') >= 0:
		return []byte{'"', 0}
	}
	return []byte{'"'}
}

// wraps reports whether a quote stands around fields, in some of the records; a field with a separator in it has been
// cut.
func wraps(records [][]string, quote byte) bool {
	n := 0
	for _, r := range records {
		begins := slices.IndexFunc(r, func(s string) bool { return len(s) > 0 && s[0] == quote })
		if begins >= 0 && slices.ContainsFunc(r[begins:], func(s string) bool { return len(s) > 1 && s[len(s)-1] == quote }) {
			n++
		}
	}
	return n*100 >= len(records) && n > 0
}

// split cuts a text into records, with the lines on which they begin, as far as they can be read.
func split(text []byte, f star.CSV) (records [][]string, lines []int, broken bool) {
	swap := func(s string) string {
		return strings.Map(func(c rune) rune {
			switch c {
			case '"':
				return rune(f.Quote)
			case rune(f.Quote):
				return '"'
			}
			return c
		}, s)
	}
	switch {
	case f.Quote == 0:
		for n, line := range strings.Split(strings.TrimSuffix(string(text), "\n"), "\n") {
			if line = strings.TrimSuffix(line, "\r"); line != "" {
				records, lines = append(records, strings.Split(line, string(f.Separator))), append(lines, n+1)
			}
		}
		return records, lines, false
	case f.Quote != '"':
		text = []byte(swap(string(text)))
	}
	rest, passed := text, 0
	for {
		rd := csv.NewReader(bytes.NewReader(rest))
		rd.Comma, rd.FieldsPerRecord = rune(f.Separator), -1
		for {
			record, err := rd.Read()
			var mistake *csv.ParseError
			if !errors.As(err, &mistake) {
				if err != nil {
					return records, lines, false
				}
				line, _ := rd.FieldPos(0)
				if f.Quote != '"' {
					for k := range record {
						record[k] = swap(record[k])
					}
				}
				records, lines = append(records, record), append(lines, passed+line)
				continue
			}
			if len(records) > maxAbove {
				return records, lines, true
			}
			// a line above the header may be no CSV: it begins behind it
			records, lines = nil, nil
			for range mistake.StartLine {
				at := bytes.IndexByte(rest, '\n')
				rest, passed = rest[at+1:], passed+1
				if at < 0 {
					return nil, nil, true
				}
			}
			break
		}
	}
}

// maxAbove is how many records may stand above a header, and below the data.
const maxAbove = 40

// judge finds the number of fields that most records have, two at least.
func judge(records [][]string, lines []int) form {
	count := map[int]int{}
	width := 0
	for _, r := range records {
		if count[len(r)]++; len(r) > 1 && (count[len(r)] > count[width] || width == 0) {
			width = len(r)
		}
	}
	return judgeWidth(records, lines, width)
}

// judgeWidth finds the header and the share of records that have so many fields.
func judgeWidth(records [][]string, lines []int, width int) form {
	x := form{width: width, line: 1}
	first, last := -1, -1
	for n, r := range records {
		if len(r) == width {
			if last = n; first < 0 {
				first = n
			}
		}
	}
	if first < 0 || first > maxAbove {
		return x
	}
	for n := first; n <= min(last, first+maxAbove); n++ { // titles have separators, too, where a spreadsheet has written them
		if len(records[n]) == width && !sparse(records[n]) {
			if isHead(records[n], records[n+1:min(len(records), n+50)]) {
				first = n
			}
			break
		}
	}
	if len(records)-1-last > maxAbove {
		last = len(records) - 1
	}
	fit := 0
	for n := first; n <= last; n++ {
		if len(records[n]) == width {
			fit++
		}
	}
	x.share = float64(fit) / float64(last-first+1)
	x.others = len(records) - first - fit
	x.line = lines[first]
	if isHead(records[first], records[first+1:min(len(records), first+50)]) {
		x.head = records[first]
	}
	return x
}

// sparse reports whether most fields of a record are empty.
func sparse(record []string) bool {
	filled := 0
	for _, s := range record {
		if strings.TrimSpace(s) != "" {
			filled++
		}
	}
	return filled*2 < len(record)
}

// isHead reports whether a record may be a header: it has names, no name twice, and not what the records below it have.
func isHead(record []string, below [][]string) bool {
	seen, values, empty := map[string]bool{}, 0, 0
	for k, s := range record {
		name := strings.TrimSpace(s)
		if name == "" {
			empty++
			continue
		}
		if seen[name] || utf8.RuneCountInString(name) > 80 {
			return false
		}
		seen[name] = true
		again := slices.ContainsFunc(below, func(r []string) bool { return k < len(r) && strings.TrimSpace(r[k]) == name })
		if again || nullWords[name] || isValue(name) {
			values++
		}
	}
	return empty*5 <= len(record) && values*2 <= len(record) && len(seen) > 0
}

// isValue reports whether a text is rather a value than a name: it begins with a digit, or has no letters.
func isValue(s string) bool {
	return s[0] >= '0' && s[0] <= '9' || !strings.ContainsFunc(s, unicode.IsLetter)
}

// evidence says what speaks for the form.
func (f *form) evidence() string {
	fields := "fields"
	if f.width == 1 {
		fields = "field"
	}
	s := fmt.Sprintf("%d %s in %s of the records", f.width, fields, percent(f.share))
	if f.others > 0 {
		s += fmt.Sprintf(" (%d of the sample have another number)", f.others)
	}
	return s
}

// percent writes a share for people; it says 100% only if nothing is missing.
func percent(share float64) string {
	if share >= 1 {
		return "100%"
	}
	return fmt.Sprintf("%.1f%%", min(share*100, 99.9))
}
