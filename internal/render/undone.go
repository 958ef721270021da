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
		if len(t.Rows) == 0 {
			fmt.Fprintf(w, "run %d changed nothing\n", u.Run)
		} else {
			fmt.Fprintf(w, "run %d\n", u.Run)
			t.Write(w, width)
		}
		if len(u.Files) > 0 {
			fmt.Fprintln(w, "the next load reads again: "+some(u.Files))
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
const mostFiles = 6

// some names the first of some files, and says how many more there are.
func some(files []string) string {
	left := len(files) - mostFiles
	text := diag.Printable(strings.Join(files[:min(len(files), mostFiles)], ", "))
	if left > 0 {
		text += " and " + Plural(int64(left), "more file")
	}
	return text
}

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
