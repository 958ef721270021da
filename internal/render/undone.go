package render

import (
	"fmt"
	"io"
	"strings"

	"ironmonger/internal/diag"
	"ironmonger/internal/undo"
)

// Undone writes what was done to take runs back.
func Undone(w io.Writer, r *undo.Report, width int) {
	for _, u := range r.Undone {
		t := &Table{Columns: columns("table~", "rows taken out>", "rows restored>", "rows put back>", "dropped~?")}
		for _, x := range u.Tables {
			dropped := ""
			if x.Dropped {
				dropped = "yes"
			}
			t.Add(x.Name, Number(x.TakenOut), Number(x.Restored), Number(x.PutBack), dropped)
		}
		fmt.Fprintf(w, "run %d\n", u.Run)
		if len(t.Rows) > 0 {
			t.Write(w, width)
		}
		for n, file := range u.Files {
			if n == mostFiles {
				fmt.Fprintf(w, "and %s more\n", Plural(int64(len(u.Files)-n), "file"))
				break
			}
			fmt.Fprintf(w, "the next load reads %s again\n", diag.Printable(file))
		}
		fmt.Fprintln(w)
	}
	if r.Dry {
		fmt.Fprintln(w, "dry run: nothing was written")
		return
	}
	fmt.Fprintf(w, "run %d: %s taken back\n", r.Run, Plural(int64(len(r.Undone)), "run"))
}

// mostFiles is how many files are named.
const mostFiles = 10

// UndoneRecords returns a row for each table of each run that was taken back.
func UndoneRecords(r *undo.Report) *Records {
	records := &Records{Head: []string{"run", "table", "taken_out", "restored", "put_back", "dropped", "files"}}
	for _, u := range r.Undone {
		for _, t := range u.Tables {
			records.add(u.Run, t.Name, t.TakenOut, t.Restored, t.PutBack, t.Dropped, strings.Join(u.Files, "; "))
		}
	}
	return records
}
