// Package render turns results into text for people: tables no wider than the terminal, numbers in
// groups, short durations. What comes from files is escaped.
package render

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"ironmonger/internal/diag"
)

// Align says how a column stands.
type Align = text.Align

// The alignments: words to the left, numbers to the right.
const (
	Left  = text.AlignLeft
	Right = text.AlignRight
)

// Column is a column of a table. A table that is too wide cuts those that may be cut; those that may be
// spared are left out where they say nothing.
type Column struct {
	Head  string
	Align Align
	Cut   bool
	First bool // it is cut before others are
	Spare bool
}

// columns makes columns of headings, each with what it is besides: > has its numbers to the right, ~ may be cut, !
// is cut before others, ? is left out where it is empty.
func columns(heads ...string) []Column {
	list := make([]Column, len(heads))
	for k, head := range heads {
		c := &list[k]
		c.Head = strings.TrimRight(head, ">~!?")
		if marks := head[len(c.Head):]; marks != "" {
			c.Cut = strings.Contains(marks, "~")
			c.First = strings.Contains(marks, "!")
			c.Spare = strings.Contains(marks, "?")
			if strings.Contains(marks, ">") {
				c.Align = Right
			}
		}
	}
	return list
}

// Table is rows under headings.
type Table struct {
	Columns []Column
	Rows    [][]string
}

// Add adds a row.
func (t *Table) Add(cells ...string) { t.Rows = append(t.Rows, cells) }

// Write writes the table; width is that of the terminal, 0 for any.
func (t *Table) Write(w io.Writer, width int) {
	t.spare()
	out := table.NewWriter()
	out.SetOutputMirror(w)
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Format.Header = text.FormatDefault
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "   "
	style.Box.MiddleHorizontal = "─"
	out.SetStyle(style)
	out.SuppressTrailingSpaces()
	head := make(table.Row, len(t.Columns))
	configs := make([]table.ColumnConfig, len(t.Columns))
	widths := t.widths(width)
	for k, c := range t.Columns {
		head[k] = c.Head
		configs[k] = table.ColumnConfig{Number: k + 1, Align: c.Align, AlignHeader: c.Align}
	}
	out.AppendHeader(head)
	out.SetColumnConfigs(configs)
	for _, cells := range t.Rows {
		row := make(table.Row, len(cells))
		for k, cell := range cells {
			row[k] = shorten(diag.Printable(cell), widths[k])
		}
		out.AppendRow(row)
	}
	out.Render()
}

// shorten takes out the middle of a text that has no room: its beginning and its end say most.
func shorten(s string, n int) string {
	all := []rune(s)
	if len(all) <= n {
		return s
	}
	end := (n - 1) / 3
	return string(all[:n-1-end]) + "…" + string(all[len(all)-end:])
}

// A table of so many columns and so few rows is read more easily with a row for each column.
const (
	manyColumns = 24
	fewRows     = 6
)

// turned returns the table with a row for each of its columns, if it has many, and few rows.
func (t *Table) turned() *Table {
	if len(t.Columns) < manyColumns || len(t.Rows) > fewRows {
		return t
	}
	other := &Table{Columns: []Column{{Head: t.Columns[0].Head}}}
	for _, row := range t.Rows {
		other.Columns = append(other.Columns, Column{Head: row[0], Cut: true})
	}
	for k, c := range t.Columns[1:] {
		cells := []string{c.Head}
		for _, row := range t.Rows {
			cells = append(cells, row[1+k])
		}
		other.Add(cells...)
	}
	return other
}

// spare takes out the columns that may be spared and have nothing in any row.
func (t *Table) spare() {
	for k := len(t.Columns) - 1; k >= 0; k-- {
		if !t.Columns[k].Spare ||
			slices.ContainsFunc(t.Rows, func(row []string) bool { return row[k] != "" && row[k] != Number(0) }) {
			continue
		}
		t.Columns = slices.Delete(t.Columns, k, k+1)
		for i := range t.Rows {
			t.Rows[i] = slices.Delete(t.Rows[i], k, k+1)
		}
	}
}

// Fit takes the last columns out of a table that cannot be cut to the width, and returns their heads.
func (t *Table) Fit(width int) []string {
	var out []string
	for width > 0 && len(t.Columns) > 1 {
		total := -3 // there is no gap behind the last
		for _, w := range t.widths(width) {
			total += w + 3
		}
		if total <= width {
			break
		}
		last := len(t.Columns) - 1
		out = append([]string{t.Columns[last].Head}, out...)
		t.Columns = t.Columns[:last]
		for i := range t.Rows {
			t.Rows[i] = t.Rows[i][:last]
		}
	}
	return out
}

// widths returns how many characters each column may have, taking what is too much from those that may
// be cut.
func (t *Table) widths(width int) []int {
	widths := make([]int, len(t.Columns))
	total := 0
	for k, c := range t.Columns {
		widths[k] = text.StringWidth(c.Head)
		for _, cells := range t.Rows {
			if k < len(cells) {
				widths[k] = max(widths[k], text.StringWidth(diag.Printable(cells[k])))
			}
		}
		total += widths[k] + 3
	}
	over := total - width
	for _, may := range []func(c Column) bool{func(c Column) bool { return c.First }, func(c Column) bool { return c.Cut }} {
		for width > 0 && over > 0 {
			widest := -1
			for k, c := range t.Columns {
				if may(c) && widths[k] > max(12, text.StringWidth(c.Head)) &&
					(widest < 0 || widths[k] > widths[widest]) {
					widest = k
				}
			}
			if widest < 0 {
				break
			}
			widths[widest]--
			over--
		}
	}
	return widths
}

// Number writes a count with its digits in groups; zero is a dash, so that what happened stands out.
func Number(n int64) string {
	if n == 0 {
		return "–"
	}
	return Decimal(strconv.FormatInt(n, 10))
}

// Decimal groups the digits before the point of a number.
func Decimal(s string) string {
	whole, frac, point := strings.Cut(s, ".")
	sign := ""
	if strings.HasPrefix(whole, "-") {
		sign, whole = "-", whole[1:]
	}
	for at := len(whole) - 3; at > 0; at -= 3 {
		whole = whole[:at] + " " + whole[at:]
	}
	if point {
		whole += "." + frac
	}
	return sign + whole
}

// Duration writes a time span in as few characters as say something.
func Duration(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}

// Size writes a number of bytes.
func Size(n int64) string {
	units := []string{"bytes", "kB", "MB", "GB", "TB"}
	v, u := float64(n), 0
	for v >= 1000 && u < len(units)-1 {
		v, u = v/1000, u+1
	}
	if u == 0 {
		return fmt.Sprintf("%d bytes", n)
	}
	return fmt.Sprintf("%.1f %s", v, units[u])
}

// Plural returns "1 row" or "2 rows".
func Plural(n int64, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return strings.ReplaceAll(Number(n), "–", "0") + " " + one + "s"
}
