package render

import (
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"ironmonger/internal/ledger"
)

// Changes writes what differs between two runs.
func Changes(w io.Writer, before, after *ledger.Run, list []ledger.Change, width int) {
	if len(list) == 0 {
		fmt.Fprintf(w, "runs %d and %d do not differ\n", before.ID, after.ID)
		return
	}
	t := &Table{Columns: columns("step~", "of", fmt.Sprintf("run %d>", before.ID), fmt.Sprintf("run %d>", after.ID), "change>")}
	last := ""
	for _, c := range list {
		name := c.Step
		if name == last {
			name = ""
		}
		if last = c.Step; c.Of == "state" {
			t.Add(name, c.Of, c.Was, c.Is, "")
			continue
		}
		t.Add(name, c.Of, measure(c.Of, c.Before), measure(c.Of, c.After), change(c))
	}
	t.Write(w, width)
}

// change is by how much a measure is another, and in times what it was if that is a number.
func change(c ledger.Change) string {
	if c.Before == nil || c.After == nil {
		return ""
	}
	by := *c.After - *c.Before
	sign := "+"
	if by < 0 {
		sign, by = "−", -by
	}
	text := sign + measure(c.Of, &by)
	if ratio := *c.After / *c.Before; *c.Before > 0 && *c.After > 0 && math.Abs(ratio-1) >= 0.01 {
		text += fmt.Sprintf(" (%.2f times)", ratio)
	}
	return text
}

// measure writes the value of a measure.
func measure(of string, v *float64) string {
	switch {
	case v == nil:
		return "–"
	case of == "seconds":
		return fmt.Sprintf("%.3f", *v)
	}
	return Decimal(fmt.Sprint(int64(*v)))
}

// blocks are the heights of a value, from nothing to the greatest.
var blocks = []rune("▁▂▃▄▅▆▇█")

// Courses draws measures over runs: a block for each run, as high as the value beside the greatest.
func Courses(w io.Writer, list []ledger.Course, width int) {
	if len(list) == 0 {
		fmt.Fprintln(w, "nothing has been loaded yet: ironmonger load")
		return
	}
	runs := list[0].Runs
	t := &Table{Columns: columns("step~", "of", fmt.Sprintf("runs %d to %d", runs[0], runs[len(runs)-1]), "least>", "greatest>", "last>")}
	last := ""
	for _, c := range list {
		name := c.Step
		if name == last {
			name = ""
		}
		last = c.Step
		least, most, end := math.Inf(1), 0.0, (*float64)(nil)
		for _, v := range c.Values {
			if v != nil {
				least, most = min(least, *v), max(most, *v)
			}
			end = v
		}
		t.Add(name, c.Of, draw(c.Values, most), measure(c.Of, &least), measure(c.Of, &most), measure(c.Of, end))
	}
	t.Write(w, width)
}

// draw draws values up to the greatest; one that is not there is a point.
func draw(values []*float64, most float64) string {
	var b strings.Builder
	for _, v := range values {
		switch {
		case v == nil:
			b.WriteRune('·')
		case *v == 0:
			b.WriteRune(' ')
		default:
			b.WriteRune(blocks[min(len(blocks)-1, int(*v/most*float64(len(blocks))))])
		}
	}
	return b.String()
}

// ChangeRecords returns a row for each change.
func ChangeRecords(list []ledger.Change) *Records {
	r := &Records{Head: []string{"step", "of", "before", "after", "was", "is"}}
	for _, c := range list {
		r.add(c.Step, c.Of, exactly(c.Before), exactly(c.After), c.Was, c.Is)
	}
	return r
}

// CourseRecords returns a row for each value of each measure.
func CourseRecords(list []ledger.Course) *Records {
	r := &Records{Head: []string{"step", "of", "run", "value"}}
	for _, c := range list {
		for n, run := range c.Runs {
			r.add(c.Step, c.Of, run, exactly(c.Values[n]))
		}
	}
	return r
}

// exactly writes a value that may not be there.
func exactly(v *float64) string {
	if v == nil {
		return ""
	}
	return strconv.FormatFloat(*v, 'f', -1, 64)
}
