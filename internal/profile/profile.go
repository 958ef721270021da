// Package profile tells what the values of columns are like: how many are null, how many distinct, the least, the
// greatest, the most frequent, and what would go wrong with them as keys.
//
// It sees every row once and keeps a bounded amount of each column. Beyond 65,536 distinct values their number is
// estimated by adaptive sampling (P. Flajolet, On adaptive sampling, Computing 34, 1990); beyond 8,192 the most
// frequent one is that of the counters of J. Misra and D. Gries (Finding repeated elements, Science of Computer
// Programming 2, 1982), whose count is then a least one. All else is exact.
package profile

import (
	"cmp"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode"
	"unicode/utf8"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/exact"
	"ironmonger/internal/parse"
)

// Column is what was seen of a column.
type Column struct {
	Name     string  `json:"column"`
	Type     string  `json:"type"`
	Rows     int64   `json:"rows"`
	Nulls    int64   `json:"nulls"`
	Distinct int64   `json:"distinct"`
	Error    float64 `json:"distinct_error"` // standard error of Distinct as a share; 0 where it is exact
	Unique   string  `json:"unique"`         // yes, no, or probably: no value twice, nulls apart

	Least        *string `json:"least"`
	Greatest     *string `json:"greatest"`
	Longest      int     `json:"longest"` // characters
	Frequent     *string `json:"most_frequent"`
	FrequentRows int64   `json:"most_frequent_rows"`
	AtLeast      bool    `json:"most_frequent_at_least"` // FrequentRows may be more

	Padded int64  `json:"padded"`         // rows of text with blanks at an end
	Alike  int64  `json:"alike"`          // distinct values that only blanks at an end or letter case tell from another; an estimate where Distinct is
	Fits   string `json:"fits,omitempty"` // the narrowest type that all values of a text column fit
}

// The values of Unique.
const (
	Yes      = "yes"
	No       = "no"
	Probably = "probably"
)

// Profile gathers figures of columns, batch by batch.
type Profile struct{ columns []*gatherer }

// New returns an empty profile of columns.
func New(fields []column.Field) *Profile {
	p := &Profile{}
	for _, f := range fields {
		g := &gatherer{out: Column{Name: f.Name, Type: f.Type.String()}, exact: newSample(), folded: newSample()}
		g.least.Type, g.greatest.Type = f.Type, f.Type
		if f.Type.Kind == column.Text {
			g.fits = newFits()
			g.numbers = newNumbers()
		}
		p.columns = append(p.columns, g)
	}
	return p
}

// Add looks at the given rows of the columns, on all cores: a column's figures depend on the order of its values, and
// on no other column.
func (p *Profile) Add(cols []*column.Column, rows []int32) {
	workers := min(runtime.GOMAXPROCS(0), len(p.columns))
	var done sync.WaitGroup
	var next atomic.Int32
	for range workers {
		done.Go(func() {
			for k := int(next.Add(1)) - 1; k < len(p.columns); k = int(next.Add(1)) - 1 {
				for _, i := range rows {
					p.columns[k].add(cols[k], int(i))
				}
			}
		})
	}
	done.Wait()
}

// Columns returns the figures so far.
func (p *Profile) Columns() []Column {
	list := make([]Column, len(p.columns))
	for k, g := range p.columns {
		list[k] = g.figures()
	}
	return list
}

// gatherer gathers the figures of a column.
type gatherer struct {
	out             Column
	exact, folded   *sample
	least, greatest column.Column // a row each, once there is a value
	counts          counts
	fits            *fits
	numbers         *numbers // of a text column whose values have all been numbers so far; else nil
	buf             []byte
}

func (g *gatherer) add(c *column.Column, i int) {
	g.out.Rows++
	if c.Null[i] {
		g.out.Nulls++
		return
	}
	if g.least.Null == nil || c.Compare(i, &g.least, 0) < 0 {
		keep(&g.least, c, i)
	}
	if g.greatest.Null == nil || c.Compare(i, &g.greatest, 0) > 0 {
		keep(&g.greatest, c, i)
	}
	g.buf = digest.AppendKey(g.buf[:0], c, i)
	h := hash(g.buf)
	g.exact.add(h)
	g.counts.add(h, c, i)
	switch c.Type.Kind {
	case column.Text:
	case column.Double, column.Timestamp, column.Time:
		g.out.Longest = max(g.out.Longest, len(c.AppendValue(g.buf[:0], i)))
		return
	default: // the extremes are the longest
		return
	}
	s := c.Text[i]
	g.out.Longest = max(g.out.Longest, utf8.RuneCountInString(s))
	trimmed := strings.TrimFunc(s, unicode.IsSpace)
	if trimmed != s {
		g.out.Padded++
	}
	g.folded.add(hash(fold(g.buf[:0], trimmed)))
	g.fits.add(s)
	if g.numbers != nil && !g.numbers.add(s) {
		g.numbers = nil
	}
}

func keep(to, c *column.Column, i int) {
	to.Truncate(0)
	to.Append(c, i)
	if c.Type.Kind == column.Text {
		to.Text[0] = strings.Clone(to.Text[0]) // it is a slice of a read buffer
	}
}

// fold writes a text without its letter case.
func fold(b []byte, s string) []byte {
	for i := 0; i < len(s); i++ {
		if s[i] >= utf8.RuneSelf {
			for _, r := range s[i:] {
				b = utf8.AppendRune(b, unicode.ToLower(unicode.ToUpper(r)))
			}
			return b
		}
		ch := s[i]
		if 'A' <= ch && ch <= 'Z' {
			ch += 'a' - 'A'
		}
		b = append(b, ch)
	}
	return b
}

func (g *gatherer) figures() Column {
	f := g.out
	f.Distinct, f.Error = g.exact.size()
	f.Unique = Yes
	switch {
	case g.exact.again:
		f.Unique = No
	case f.Error > 0:
		f.Unique = Probably
	}
	if g.least.Null == nil {
		return f
	}
	least, greatest := g.least.Value(0), g.greatest.Value(0)
	if g.numbers != nil {
		least, greatest = g.numbers.written[0], g.numbers.written[1]
	}
	if g.least.Type.Kind != column.Text {
		f.Longest = max(f.Longest, len(least), len(greatest))
	}
	frequent, rows := g.counts.first()
	f.Least, f.Greatest, f.Frequent, f.FrequentRows, f.AtLeast = &least, &greatest, &frequent, rows, g.counts.lost
	if g.fits != nil {
		folded, _ := g.folded.size()
		f.Alike, f.Fits = max(0, f.Distinct-folded), g.fits.narrowest()
	}
	return f
}

// numbers finds the least and the greatest of texts that are numbers, by what they mean: 9 is less than 10.
type numbers struct {
	reader  *parse.Reader
	values  column.Column // the least, the greatest, and the one at hand
	written [2]string
	any     bool
}

func newNumbers() *numbers {
	n := &numbers{
		reader: parse.NewReader(nil),
		values: column.Column{
			Type: column.Type{Kind: column.Decimal, Precision: exact.MaxDigits, Scale: exact.MaxDigits / 2},
		},
	}
	n.values.Resize(3)
	return n
}

// add says false if s is not a number.
func (n *numbers) add(s string) bool {
	if n.reader.Set(&n.values, 2, s) != nil {
		return false
	}
	for k, sign := range []int{-1, 1} {
		if !n.any || n.values.Compare(2, &n.values, k)*sign > 0 {
			n.values.Set(k, &n.values, 2)
			n.written[k] = strings.Clone(s)
		}
	}
	n.any = true
	return true
}

// fits tries narrower types on text.
type fits struct {
	types        []column.Column
	reader       *parse.Reader
	whole, after int // most digits before and after the point
}

func newFits() *fits {
	f := &fits{reader: parse.NewReader(time.UTC)}
	for _, t := range []column.Type{{Kind: column.Integer}, {Kind: column.Decimal, Precision: exact.MaxDigits, Scale: 19}, {Kind: column.Boolean},
		{Kind: column.Date}, {Kind: column.Timestamp}, {Kind: column.Time}} {
		c := column.Column{Type: t}
		c.Resize(1)
		f.types = append(f.types, c)
	}
	return f
}

func (f *fits) add(s string) {
	left := f.types[:0]
	for k := range f.types {
		c := &f.types[k]
		digits := strings.TrimLeft(s, "+-")
		code := c.Type.Exact() && len(digits) > 1 && digits[0] == '0' && digits[1] != '.' // 007 is no number
		if code || f.reader.Set(c, 0, s) != nil {
			continue
		}
		if c.Type.Kind == column.Decimal {
			whole, after, _ := strings.Cut(digits, ".")
			f.whole, f.after = max(f.whole, len(whole)), max(f.after, len(after))
		}
		left = append(left, *c)
	}
	f.types = left
}

func (f *fits) narrowest() string {
	if len(f.types) == 0 {
		return column.Type{Kind: column.Text}.String()
	}
	t := f.types[0].Type
	if t.Kind == column.Decimal {
		t.Precision, t.Scale = uint8(cmp.Or(f.whole+f.after, 1)), uint8(f.after)
	}
	return t.String()
}
