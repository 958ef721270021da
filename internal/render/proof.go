package render

import (
	"fmt"
	"io"
	"time"

	"ironmonger/internal/prove"
)

// Proof writes what was proved: a line for each check, then the rows that speak against one, and what to do.
func Proof(w io.Writer, r *prove.Report, width int) {
	t := &Table{Columns: columns("check", "state", "tables>", "rows checked>", "rows that fail>", "time>",
		"rule~")}
	count := map[string]int64{}
	for _, n := range prove.Names() {
		states := map[string]int64{}
		var of, looked, against int64
		seconds := 0.0
		for _, c := range r.Checks {
			if c.Name == n[0] {
				states[c.State]++
				count[c.State]++
				of, looked, against, seconds = of+1, looked+c.Looked, against+c.Against, seconds+c.Seconds
			}
		}
		if of == 0 {
			continue
		}
		state := prove.Holds
		for _, worse := range []string{prove.Warned, prove.Unseen, prove.Broken} {
			if states[worse] > 0 {
				state = worse
			}
		}
		t.Add(
			n[0],
			state,
			Number(of),
			Number(looked),
			Number(against),
			Duration(time.Duration(seconds*float64(time.Second))),
			n[1],
		)
	}
	t.Write(w, width)
	for _, c := range r.Checks {
		if c.Note != "" {
			fmt.Fprintf(w, "\n%s of %s: %s\n", c.Name, c.Table, c.Note)
		}
		if len(c.Examples) == 0 {
			continue
		}
		fmt.Fprintf(w, "\n%s of %s, %s: %s\n", c.Name, c.Table, c.State, c.Says)
		rows := &Table{Columns: columns("row~", "fault~", "file and line?", "run>?")}
		for _, e := range c.Examples {
			rows.Add(e.Row, e.What, e.At, Number(e.Run))
		}
		rows.Write(w, width)
		if more := c.Against - int64(len(c.Examples)); more > 0 {
			fmt.Fprintf(w, "and %s more\n", Number(more))
		}
		fmt.Fprintf(w, "what to do: %s\n", c.Remedy)
	}
	fmt.Fprintf(w, "\n%s hold", Plural(count[prove.Holds], "check"))
	for _, state := range []string{prove.Broken, prove.Warned, prove.Unseen} {
		if count[state] > 0 {
			fmt.Fprintf(w, ", %d %s", count[state], state)
		}
	}
	fmt.Fprintln(w)
}

// ProofRecords returns a row for each check.
func ProofRecords(r *prove.Report) *Records {
	out := &Records{Head: []string{"check", "table", "state", "looked_at", "against", "seconds", "says", "note"}}
	for _, c := range r.Checks {
		out.add(c.Name, c.Table, c.State, c.Looked, c.Against, c.Seconds, c.Says, c.Note)
	}
	return out
}
