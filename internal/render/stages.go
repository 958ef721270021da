package render

import (
	"fmt"
	"io"

	"ironmonger/internal/diag"
	"ironmonger/internal/transform"
)

// staged is what became of a source's rows on their way, for a step or a source that was shown.
type staged struct {
	of     string
	stages []transform.Count
	passed []transform.Passed
}

// stages writes what became of rows, stage by stage, where more was done to them than reading and checking, or a source
// that completes them, such as a list of holidays, lost some of its own; of the steps of a run only the stages that not
// all rows got through whole.
func stages(w io.Writer, list []staged, width int) {
	t := &Table{Columns: columns("step~?", "source~", "stage~", "rows>", "left out>?", "set aside>?", "dropped>?", "merged>?",
		"left empty>?", "rows after>")}
	count := func(n int64) string {
		if n == 0 {
			return ""
		}
		return Number(n)
	}
	for _, s := range list {
		said := false
		for _, c := range s.stages {
			completes := c.Source != s.stages[len(s.stages)-1].Source
			said = said || c.Stage != "read" && c.Stage != "checks" || completes && lossy(c)
		}
		for _, c := range s.stages {
			if said && (s.of == "" || lossy(c)) {
				t.Add(
					s.of,
					c.Source,
					c.Stage,
					Number(c.Rows),
					count(c.LeftOut),
					count(c.SetAside),
					count(c.Dropped),
					count(c.Merged),
					count(c.Empty),
					Number(c.Rows-c.LeftOut-c.SetAside-c.Dropped-c.Merged),
				)
			}
		}
	}
	if len(t.Rows) > 0 {
		t.Write(w, width)
		fmt.Fprintln(w)
	}
	told := map[transform.Passed]bool{}
	for _, s := range list {
		for _, p := range s.passed {
			if told[p] { // for another step
				continue
			}
			told[p] = true
			fmt.Fprintf(w, "skipped: %s: %s\n", diag.Place{File: p.File, Line: int(p.Line)}, p.Message)
		}
	}
	if len(told) > 0 {
		fmt.Fprintln(w)
	}
}

// lossy reports whether not all rows got through a stage whole.
func lossy(c transform.Count) bool { return c.LeftOut+c.SetAside+c.Dropped+c.Merged+c.Empty > 0 }
