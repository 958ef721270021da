package render

import (
	"fmt"
	"io"
	"strings"

	"ironmonger/internal/diag"
	"ironmonger/internal/strays"
)

// Causes writes why natural keys have no members, and what would mend it.
func Causes(w io.Writer, causes []strays.Cause, width int) {
	if len(causes) == 0 {
		fmt.Fprintln(w, "no strays: every natural key has its member")
		return
	}
	t := &Table{Columns: columns("dimension~", "natural keys>", "rows>", "cause~", "for example~", "meant, perhaps~?", "first file and line?", "now~")}
	for _, c := range causes {
		place, member := "", ""
		if c.File != "" {
			place = diag.Place{File: c.File, Line: int(c.Line)}.String()
		}
		if c.Member != "" {
			member = quoted(c.Member)
		}
		t.Add(c.Dimension, Number(c.Keys), Number(c.Rows), c.What, quoted(c.Example), member, place, strings.Join(c.Outcome, ", "))
	}
	t.Write(w, width)
	for _, c := range causes {
		if c.Mend == "" {
			continue
		}
		fmt.Fprintf(w, "\n%s, %s: in dimension %s\n    %s\n", c.Dimension, c.What, c.Dimension, c.Mend)
		fmt.Fprintf(w, "gives %d of %s their members", c.Mended, Plural(c.Keys, "natural key"))
		if c.Merged > 0 {
			fmt.Fprintf(w, ", but makes %s one with another", Plural(c.Merged, "member"))
		}
		fmt.Fprintln(w)
	}
}

// CauseRecords returns a row for each cause.
func CauseRecords(causes []strays.Cause) *Records {
	r := &Records{Head: []string{"dimension", "cause", "what", "natural_keys", "rows", "example", "member", "file", "line", "outcomes", "mend", "mended", "merged"}}
	for _, c := range causes {
		r.add(c.Dimension, c.Kind, c.What, c.Keys, c.Rows, c.Example, c.Member, c.File, c.Line, strings.Join(c.Outcome, " "), c.Mend, c.Mended, c.Merged)
	}
	return r
}

// Written writes which files were written of rows set aside.
func Written(w io.Writer, written []strays.Written, not []strays.Unwritten, width int) {
	t := &Table{Columns: columns("source~", "rows>", "file~")}
	for _, f := range written {
		t.Add(f.Source, Number(f.Rows), f.File)
	}
	if len(written) == 0 {
		fmt.Fprintln(w, "no row is written")
	} else {
		t.Write(w, width)
	}
	for _, u := range not {
		fmt.Fprintf(w, "%s of %s not written: %s\n", Plural(u.Rows, "row"), u.Source, u.Reason)
	}
}

// WrittenRecords returns a row for each file.
func WrittenRecords(written []strays.Written) *Records {
	r := &Records{Head: []string{"source", "file", "rows"}}
	for _, f := range written {
		r.add(f.Source, f.File, f.Rows)
	}
	return r
}
