package render

import (
	"fmt"
	"io"

	"ironmonger/internal/moving"
)

// Copied writes what was copied.
func Copied(w io.Writer, r *moving.Report, into string, width int) {
	t := &Table{Columns: columns("table~", "rows>")}
	for _, x := range r.Tables {
		t.Add(x.Name, Number(x.Rows))
	}
	t.Write(w, width)
	fmt.Fprintf(w, "\n%s copied into %s; they are the same in both\n", Plural(r.Rows, "row"), into)
}

// CopiedRecords returns a row for each table that was copied.
func CopiedRecords(r *moving.Report) *Records {
	list := &Records{Head: []string{"table", "rows"}}
	for _, x := range r.Tables {
		list.add(x.Name, x.Rows)
	}
	return list
}
