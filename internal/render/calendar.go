package render

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"ironmonger/internal/civil"
	"ironmonger/internal/locale"
)

// Holiday is a day that is marked in a picture of a calendar.
type Holiday struct {
	Region string `json:"region,omitempty"` // "" if there is but one
	Name   string `json:"name"`
	Half   bool   `json:"half,omitempty"`
}

// Pages is what pictures of months and years are drawn from.
type Pages struct {
	Language *locale.Locale
	First    int                 // the weekday on which weeks begin
	Holidays map[int64][]Holiday // by day
	Week     func(day int64) int64
	Width    int // of the terminal; 0 for any
}

// mark returns what stands behind the number of a day.
func (p *Pages) mark(day int64) string {
	mark := " "
	for _, h := range p.Holidays[day] {
		if !h.Half {
			return "*"
		}
		mark = "'"
	}
	return mark
}

// weekday counts from Monday, 1.
func weekday(day int64) int { return int(((day+3)%7+7)%7) + 1 }

// weeks returns the days of a month in rows of seven; those of other months are 0.
func (p *Pages) weeks(year, month int) (rows [][7]int64) {
	first := civil.Day(year, month, 1)
	at := first - int64((weekday(first)-p.First+7)%7)
	for ; at < first+int64(civil.DaysIn(year, month)); at += 7 {
		var row [7]int64
		for k := range row {
			if day := at + int64(k); day >= first && day < first+int64(civil.DaysIn(year, month)) {
				row[k] = day
			}
		}
		rows = append(rows, row)
	}
	return rows
}

// block draws a month: its name, the weekdays, and a line for each week, all of the same width.
func (p *Pages) block(title string, year, month, cell int, names []string) []string {
	width := 3 + 7*cell
	lines := []string{text.AlignCenter.Apply(title, width)}
	head := "   "
	for k := range 7 {
		head += text.AlignRight.Apply(cut(names[(p.First-1+k)%7], cell-1), cell-1) + " "
	}
	lines = append(lines, head)
	for _, row := range p.weeks(year, month) {
		line := ""
		for _, day := range row {
			if day == 0 {
				line += strings.Repeat(" ", cell)
				continue
			}
			if strings.TrimSpace(line) == "" {
				line = fmt.Sprintf("%2d ", p.Week(day)) + line
			}
			_, _, of := civil.Date(day)
			line += fmt.Sprintf("%*d%s", cell-1, of, p.mark(day))
		}
		lines = append(lines, line)
	}
	return lines
}

// cut takes as many characters as fit into some columns.
func cut(s string, width int) string { return text.Trim(s, width) }

// Month draws a month, with its holidays below.
func (p *Pages) Month(w io.Writer, year, month int) {
	title := string(p.Language.MonthAndYear.Append(nil, year, month, 1, weekday(civil.Day(year, month, 1))))
	for _, line := range p.block(title, year, month, 7, p.Language.Weekdays.Short.StandAlone) {
		fmt.Fprintln(w, strings.TrimRight(line, " "))
	}
	p.list(w, civil.Day(year, month, 1), civil.Day(year, month, civil.DaysIn(year, month)))
}

// Year draws the twelve months of a year, three in a row.
func (p *Pages) Year(w io.Writer, year int) {
	const gap = "   "
	cell := 4
	if wide := 3*(3+7*cell) + 2*len(gap); p.Width > 0 && p.Width < wide {
		cell = 3
	}
	fmt.Fprintln(w, strings.TrimRight(text.AlignCenter.Apply(fmt.Sprint(year), 3*(3+7*cell)+2*len(gap)), " "))
	for month := 1; month <= 12; month += 3 {
		fmt.Fprintln(w)
		var blocks [3][]string
		most := 0
		for k := range blocks {
			blocks[k] = p.block(p.Language.Months.Wide.StandAlone[month-1+k], year, month+k, cell, p.Language.Letters)
			most = max(most, len(blocks[k]))
		}
		for n := range most {
			var parts []string
			for _, b := range blocks {
				part := strings.Repeat(" ", 3+7*cell)
				if n < len(b) {
					part = b[n]
				}
				parts = append(parts, part)
			}
			fmt.Fprintln(w, strings.TrimRight(strings.Join(parts, gap), " "))
		}
	}
	p.list(w, civil.Day(year, 1, 1), civil.Day(year, 12, 31))
}

// list writes the holidays of some days.
func (p *Pages) list(w io.Writer, from, to int64) {
	t := &Table{Columns: columns("date", "holiday~", "region?", "off")}
	for day := from; day <= to; day++ {
		y, m, d := civil.Date(day)
		for n, h := range p.Holidays[day] {
			same := func(o Holiday) bool { return o.Name == h.Name && o.Half == h.Half }
			if slices.ContainsFunc(p.Holidays[day][:n], same) {
				continue
			}
			var regions []string
			for _, o := range p.Holidays[day] {
				if same(o) {
					regions = append(regions, o.Region)
				}
			}
			off := "* all day"
			if h.Half {
				off = "' half a day"
			}
			t.Add(string(p.Language.Full.Append(nil, y, m, d, weekday(day))), h.Name, strings.Join(regions, ", "), off)
		}
	}
	if len(t.Rows) > 0 {
		fmt.Fprintln(w)
		t.Write(w, 0)
	}
}
