package render

import (
	"fmt"
	"io"
	"strings"

	"ironmonger/internal/diag"
	"ironmonger/internal/rehearse"
)

// Rehearsals writes what came of worked examples: a line for each, then the rows in which one differs.
func Rehearsals(w io.Writer, results []*rehearse.Result, width int) {
	t := &Table{Columns: columns("example~", "loads>", "tables>", "result")}
	for _, r := range results {
		outcome := "agrees"
		if len(r.Differences) > 0 {
			outcome = "differs"
		}
		t.Add(r.Example, fmt.Sprint(r.Loads), fmt.Sprint(r.Tables), outcome)
	}
	t.Write(w, width)
	for _, r := range results {
		for _, d := range r.Differences {
			fmt.Fprintf(
				w,
				"\n%s: %s, load %d: %s\n",
				diag.Printable(d.Place),
				diag.Printable(r.Example),
				d.Load,
				d.Table,
			)
			if d.Message != "" {
				fmt.Fprintln(w, "  "+diag.Printable(d.Message))
				continue
			}
			fmt.Fprintln(w, "                "+strings.Join(d.Columns, ","))
			for _, row := range d.Missing {
				fmt.Fprintln(w, "  must stand    "+diag.Printable(row))
			}
			for _, row := range d.Extra {
				fmt.Fprintln(w, "  stands        "+diag.Printable(row))
			}
		}
	}
}

// RehearsalRecords returns a row for each row in which an example differs.
func RehearsalRecords(results []*rehearse.Result) *Records {
	out := &Records{Head: []string{"example", "load", "table", "what", "row"}}
	for _, r := range results {
		for _, d := range r.Differences {
			for _, row := range d.Missing {
				out.add(r.Example, d.Load, d.Table, "must stand", row)
			}
			for _, row := range d.Extra {
				out.add(r.Example, d.Load, d.Table, "stands", row)
			}
			if d.Message != "" {
				out.add(r.Example, d.Load, d.Table, "failed", d.Message)
			}
		}
	}
	return out
}
