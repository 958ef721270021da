package survey

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/exact"
	"ironmonger/internal/locale"
	"ironmonger/internal/parse"
)

// Column is what was found of a column.
type Column struct {
	Name   string `json:"column"`
	Type   string `json:"type"`                  // as the model says it
	Layout string `json:"layout,omitempty"`      // of dates and timestamps, if it is not the usual one
	Months string `json:"month_names,omitempty"` // the language of the names of months, if it is not English
	Marks  string `json:"marks,omitempty"`       // of numbers: the thousands mark, if there is one, and the decimal mark

	Filled   int64    `json:"filled"`
	Empty    int64    `json:"empty"`
	Distinct int64    `json:"distinct"`
	Nulls    []string `json:"null_words,omitempty"` // words that stand for nothing
	Unfit    int64    `json:"unfit,omitempty"`      // values that do not fit the type
	Example  string   `json:"unfit_example,omitempty"`
	Place    string   `json:"unfit_at,omitempty"`
	Doubts   []string `json:"doubts,omitempty"`
	Totals   int64    `json:"totals,omitempty"` // rows of which it says that they are lines of totals
	Total    string   `json:"-"`                // what the first of them says

	Least, Greatest string `json:"-"` // of dates and timestamps
	least, most     int64

	Set        Set         `json:"-"`
	Is         column.Type `json:"-"`
	candidates []*candidate
	words      map[string]int64
	typed      bool
	english    bool // the names of months can be English only
	asIs       bool // nothing can be declared of how values are written
	zeros      bool // a value begins with a zero that a number would lose
	unfit      []string
}

// candidate is a type, and how its values are written.
type candidate struct {
	typ    column.Type
	layout string
	months string
	marks  string
	reader *parse.Reader
	value  column.Column

	fits, misses int64
	whole, after int
	least, most  int64
	example      string
	place        diag.Place
	misfits      []string
	offset       bool
}

// dateLayouts are tried besides the usual form; of two that fit alike the former counts.
var dateLayouts = []string{
	"d.M.yyyy", "d/M/yyyy", "M/d/yyyy", "yyyy/M/d", "yyyy.M.d", "d-M-yyyy", "yyyyMMdd", "d MMM yyyy", "d-MMM-yyyy", "MMM d, yyyy",
	"d. MMM yyyy", "d.M.yy", "d/M/yy", "M/d/yy", "d-MMM-yy", "MM.yyyy", "MM/yyyy", "yyyy-MM", "MMM yyyy",
}

// languages are those whose names of months are tried besides English.
var languages = []string{"de", "fr", "es", "it", "nl", "pt", "pl", "cs", "sv"}

var namedLayouts = []string{"d. MMM yyyy", "d MMM yyyy", "d-MMM-yyyy", "MMM yyyy"}

var clockLayouts = []string{" H:mm", " H:mm:ss", " H:mm:ss.S", " h:mm a", " h:mm:ss a"}

// Century is the first year that two digits mean in a survey.
const Century = 1950

var months = parse.MonthNames(
	[]string{"January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December"},
	[]string{"Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"},
	[]string{"", "", "", "", "", "", "", "", "Sept", "", "", ""},
)

// nullWords may stand for nothing, in a column whose other values are numbers or dates.
var nullWords = map[string]bool{
	"NULL": true, "null": true, "Null": true, "NA": true, "N/A": true, "n/a": true, "-": true, "--": true, "?": true, "none": true,
	"None": true, "nan": true, "NaN": true, "#N/A": true, `\N`: true, "(null)": true, ".": true,
}

func newColumn(f column.Field) *Column {
	c := &Column{Name: f.Name, Is: f.Type, words: map[string]int64{}, typed: f.Type.Kind != column.Text}
	if c.typed {
		return c
	}
	add := func(t column.Type, layout, marks string, style *parse.Style) {
		x := &candidate{typ: t, layout: layout, marks: marks, reader: parse.NewReader(time.UTC)}
		if style != nil {
			x.reader.Styled(style)
		}
		x.value.Type = t
		x.value.Resize(1)
		c.candidates = append(c.candidates, x)
	}
	of := func(kind column.Kind) column.Type { return column.Type{Kind: kind} }
	add(of(column.Integer), "", "", nil)
	decimal := column.Type{Kind: column.Decimal, Precision: exact.MaxDigits, Scale: 12}
	add(decimal, "", "", nil)
	for _, marks := range []string{",", ".,", " ,", ",.", "'."} {
		s := &parse.Style{Decimal: marks[len(marks)-1]}
		if len(marks) > 1 {
			s.Thousands = marks[0]
		}
		add(decimal, "", marks, s)
	}
	add(of(column.Boolean), "", "", nil)
	add(of(column.Date), "", "", nil)
	words := parse.Words{Century: Century, Months: months}
	for _, text := range dateLayouts {
		if l, err := parse.NewLayout(text, column.Date, words); err == nil {
			add(of(column.Date), text, "", &parse.Style{Date: parse.Layouts{l}})
		}
	}
	for _, tag := range languages {
		names, err := locale.Find(tag)
		if err != nil {
			continue
		}
		words.Months = parse.MonthNames(names.Months.Wide.Format, names.Months.Wide.StandAlone, names.Months.Short.Format, names.Months.Short.StandAlone)
		for _, text := range namedLayouts {
			if l, err := parse.NewLayout(text, column.Date, words); err == nil {
				add(of(column.Date), text, "", &parse.Style{Date: parse.Layouts{l}})
				c.candidates[len(c.candidates)-1].months = tag
			}
		}
	}
	words.Months = months
	add(of(column.Timestamp), "", "", nil)
	for _, day := range dateLayouts[:10] {
		for _, clock := range clockLayouts {
			if l, err := parse.NewLayout(day+clock, column.Timestamp, words); err == nil {
				add(of(column.Timestamp), day+clock, "", &parse.Style{Timestamp: parse.Layouts{l}})
			}
		}
	}
	add(of(column.Time), "", "", nil)
	return c
}

// add looks at a value.
func (c *Column) add(values *column.Column, i int, at diag.Place) {
	if values.Null[i] {
		c.Empty++
		return
	}
	if c.typed {
		if c.Filled++; c.Is.Temporal() {
			text := values.Value(i)
			if c.Least == "" || values.Int[i] < c.least {
				c.Least, c.least = text, values.Int[i]
			}
			if c.Greatest == "" || values.Int[i] > c.most {
				c.Greatest, c.most = text, values.Int[i]
			}
		}
		c.Set.add(values.Value(i))
		return
	}
	s := values.Text[i]
	if nullWords[s] {
		c.words[strings.Clone(s)]++
		return
	}
	c.Filled++
	c.Set.add(s)
	digits := strings.TrimLeft(s, "+-")
	zero := len(digits) > 1 && digits[0] == '0' && digits[1] >= '0' && digits[1] <= '9'
	left := c.candidates[:0]
	for _, x := range c.candidates {
		if x.add(s, zero, at) {
			left = append(left, x)
		}
	}
	c.candidates = left
}

// add tries a value, and says false once too many do not fit.
func (x *candidate) add(s string, zero bool, at diag.Place) bool {
	if zero && x.typ.Exact() || x.reader.Set(&x.value, 0, s) != nil || x.layout == "yyyyMMdd" && !likely(x.value.Int[0]) {
		if x.misses++; x.misses == 1 {
			x.example, x.place = strings.Clone(s), at
		}
		if len(x.misfits) < 20 {
			x.misfits = append(x.misfits, strings.Clone(s))
		}
		return x.misses <= 20 || x.misses*50 <= x.fits
	}
	x.fits++
	switch x.typ.Kind {
	case column.Decimal:
		mark := "."
		if x.marks != "" {
			mark = x.marks[len(x.marks)-1:]
		}
		whole, after, _ := strings.Cut(strings.TrimLeft(s, "+-"), mark)
		n := 0
		for _, ch := range whole {
			if ch >= '0' && ch <= '9' {
				n++
			}
		}
		x.whole, x.after = max(x.whole, n), max(x.after, len(after))
	case column.Date, column.Timestamp:
		v := x.value.Int[0]
		if x.fits == 1 {
			x.least, x.most = v, v
		}
		x.least, x.most = min(x.least, v), max(x.most, v)
		x.offset = x.offset || x.layout == "" && x.typ.Kind == column.Timestamp && len(s) > 16 && strings.ContainsAny(s[16:], "Zz+-")
	}
	return true
}

// likely reports whether a day is one that a date without any marks may mean: else any number of eight digits is a
// date.
func likely(day int64) bool { return day >= civil.Day(1900, 1, 1) && day <= civil.Day(2100, 12, 31) }

// settle decides for a type.
func (c *Column) settle() {
	c.Distinct = c.Set.Len()
	if c.typed {
		c.Type = c.Is.String()
		return
	}
	c.Is = column.Type{Kind: column.Text}
	var best *candidate
	for _, x := range c.candidates {
		if c.fitting(x) && (best == nil || better(x, best)) {
			best = x
		}
	}
	if best != nil && c.asIs && (best.layout != "" || best.marks != "" || best.misses > 0 || len(c.words) > 0) {
		best = nil
	}
	if best == nil || c.Filled == 0 {
		c.Type = "text"
		for _, n := range c.words { // they are words like others
			c.Filled += n
		}
		for w := range c.words {
			c.Set.add(w)
		}
		c.Distinct = c.Set.Len()
		return
	}
	c.Is, c.Layout, c.Months, c.Marks = best.typ, best.layout, best.months, best.marks
	if c.Is.Kind == column.Decimal {
		c.Is.Precision, c.Is.Scale = uint8(min(exact.MaxDigits, max(1, best.whole+best.after)+2)), uint8(best.after)
	}
	c.Type, c.Unfit, c.unfit = c.Is.String(), best.misses, best.misfits
	c.Doubts = c.rivals(best)
	if best.misses > 0 {
		c.Example, c.Place = diag.Clip(diag.Printable(best.example), 40), best.place.String()
	}
	if c.Is.Kind == column.Date || c.Is.Kind == column.Timestamp {
		best.value.Null[0], best.value.Int[0] = false, best.least
		c.Least = best.value.Value(0)
		best.value.Int[0] = best.most
		c.Greatest = best.value.Value(0)
	}
	if best.offset {
		c.Doubts = append(c.Doubts, "has offsets from UTC: time_zone says in which zone the star shows timestamps")
	}
	for w, n := range c.words {
		c.Nulls = append(c.Nulls, w)
		c.Empty += n
	}
	slices.Sort(c.Nulls)
}

// fitting reports whether a column may be what a candidate is: next to no value does not fit, besides those in lines of
// totals.
func (c *Column) fitting(x *candidate) bool {
	if x.fits == 0 || c.english && x.months != "" {
		return false
	}
	return x.misses*100 <= x.fits || totals(x.misfits) && x.misses <= x.fits
}

// rivals says which candidates fit the same values as the best one, and read them as others.
func (c *Column) rivals(best *candidate) (doubts []string) {
	thousands := false
	for _, x := range c.candidates {
		switch {
		case !c.fitting(x) || x.fits != best.fits || x.typ.Kind != best.typ.Kind:
		case x.layout != best.layout && (x.least != best.least || x.most != best.most):
			doubts = append(doubts, fmt.Sprintf("%s would fit as well", cmp.Or(x.layout, "yyyy-MM-dd")))
		case x.after == 0 && best.after > 0:
			thousands = true
		}
	}
	if thousands && !c.asIs {
		doubts = append(doubts, "its numbers would fit as whole numbers with a thousands mark as well")
	}
	return doubts
}

// better reports whether a candidate is the better one of two that fit: the one that fits more values, else the
// narrower one.
func better(x, than *candidate) bool {
	if x.misses != than.misses {
		return x.misses < than.misses
	}
	order := func(c *candidate) int {
		switch {
		case c.layout == "yyyyMMdd" && c.fits >= 20:
			return 0
		case c.layout == "yyyyMMdd":
			return 3
		case c.typ.Kind == column.Integer:
			return 1
		case c.typ.Kind == column.Decimal && c.after == 0 && c.marks != "": // its marks are thousands, or nothing
			return 5
		case c.typ.Kind == column.Decimal:
			return 2
		}
		return 4
	}
	return order(x) < order(than)
}

// TotalWords are words with which lines of totals begin.
var TotalWords = []string{"Total", "TOTAL", "total", "Sum", "SUM", "Grand total", "Subtotal", "Sub-total"}

// totals reports whether all values begin with such a word.
func totals(values []string) bool {
	return len(values) > 0 && !slices.ContainsFunc(values, func(s string) bool {
		return !slices.ContainsFunc(TotalWords, func(word string) bool { return strings.HasPrefix(s, word) })
	})
}

// Misfits reports whether most values that do not fit the type begin with a word.
func (c *Column) Misfits(word string) bool {
	n := 0
	for _, s := range c.unfit {
		if strings.HasPrefix(s, word) {
			n++
		}
	}
	return n > 0 && n*2 > len(c.unfit)
}
