package survey

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
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

// marks are the separators and quotes that are tried, the likelier ones first.
var (
	separators = []byte{',', ';', '\t', '|'}
	quotes     = []byte{'"', '\'', 0}
)

// formOf finds out how records are written, from the beginning of a file in UTF-8. The separator and the quote are those with
// which most records have the same number of fields; the header is the first record of that many that has names in
// all its fields.
func formOf(text []byte) form {
	best := form{csv: star.PlainCSV, share: -1}
	for _, quote := range quotes {
		for _, separator := range separators {
			f := star.PlainCSV
			f.Separator, f.Quote = separator, quote
			records, lines, broken := split(text, f)
			x := judge(records, lines)
			x.csv = f
			if broken {
				x.share /= 2
			}
			if quote != '"' && !bytes.Contains(text, []byte{max(quote, '"')}) { // it says nothing that the usual one does not
				continue
			}
			if x.share+0.001*float64(x.width) > best.share+0.001*float64(best.width)+1e-9 {
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
	for len(rest) > 0 {
		rd := csv.NewReader(bytes.NewReader(rest))
		rd.Comma, rd.FieldsPerRecord = rune(f.Separator), -1
		for {
			record, err := rd.Read()
			if err != nil {
				if len(records) > maxAbove || rd.InputOffset() >= int64(len(rest)) && !isQuote(err) {
					return records, lines, isQuote(err)
				}
				break
			}
			line, _ := rd.FieldPos(0)
			if f.Quote != '"' {
				for k := range record {
					record[k] = swap(record[k])
				}
			}
			records, lines = append(records, record), append(lines, passed+line)
		}
		// a line above the header may be no CSV: it is passed over
		at := bytes.IndexByte(rest, '\n')
		if at < 0 {
			break
		}
		if len(records) > 0 {
			return records[:0], nil, true
		}
		rest, passed = rest[at+1:], passed+1
	}
	return records, lines, false
}

func isQuote(err error) bool {
	var parse *csv.ParseError
	return errors.As(err, &parse)
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

// isHead reports whether a record may be a header: it has a name in each field, no name twice, and not what the records below it
// have.
func isHead(record []string, below [][]string) bool {
	seen, values, empty := map[string]bool{}, 0, 0
	for _, s := range record {
		name := strings.TrimSpace(s)
		switch {
		case name == "":
			empty++
			continue
		case seen[name] || utf8.RuneCountInString(name) > 80:
			return false
		case !strings.ContainsFunc(name, unicode.IsLetter):
			values++
		}
		seen[name] = true
	}
	if empty*5 > len(record) || values*2 > len(record) || len(seen) == 0 {
		return false
	}
	for _, r := range below { // the very values that are below
		same := 0
		for k := range min(len(r), len(record)) {
			if r[k] == record[k] && record[k] != "" {
				same++
			}
		}
		if same*3 > len(record) && same > 1 {
			return false
		}
	}
	return true
}

// evidence says what speaks for the form.
func (f *form) evidence() string {
	s := fmt.Sprintf("%d fields in %s of the records", f.width, percent(f.share))
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
