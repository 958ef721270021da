package render

import (
	"fmt"
	"io"
	"strings"

	"ironmonger/internal/draft"
)

// Drafted writes what a draft proposes.
func Drafted(w io.Writer, d *draft.Draft, file string, skipped []string, width int) {
	t := &Table{Columns: columns("source~", "becomes", "identified by~", "refers to~")}
	for _, s := range d.Sources {
		key := strings.Join(s.Key, ", ")
		if s.Effective != "" {
			key += ", as of " + s.Effective
		}
		var refers []string
		for _, r := range s.Refers {
			refers = append(refers, fmt.Sprintf("%s (%s)", r.To, strings.Join(r.Columns, ", ")))
		}
		t.Add(s.Name, s.As, key, strings.Join(refers, "; "))
	}
	t.Write(w, width)
	fmt.Fprintln(w)
	for _, name := range d.Empty {
		skipped = append(skipped, name+": it has no rows")
	}
	for _, s := range skipped {
		fmt.Fprintln(w, "not looked at:", s)
	}
	fmt.Fprintf(w, "%s is written, with %s. Look at it; then: ironmonger check\n", file, Plural(int64(d.Doubts), "doubt"))
}

// DraftRecords returns a row for each source.
func DraftRecords(d *draft.Draft) *Records {
	r := &Records{Head: []string{"source", "as", "key", "effective", "refers_to"}}
	for _, s := range d.Sources {
		var refers []string
		for _, x := range s.Refers {
			refers = append(refers, strings.Join(x.Columns, "+")+":"+x.To)
		}
		r.add(s.Name, s.As, strings.Join(s.Key, " "), s.Effective, strings.Join(refers, " "))
	}
	return r
}

// Added writes what was added to a model that was there.
func Added(w io.Writer, d *draft.Draft, file string, skipped []string) {
	for _, a := range d.Added {
		fmt.Fprintf(w, "%s:%d\n%s\n\n", file, a.Line, a.Text)
	}
	for _, s := range skipped {
		fmt.Fprintln(w, "not looked at:", s)
	}
	if len(d.Added) == 0 {
		fmt.Fprintf(w, "%s lacks nothing\n", file)
		return
	}
	fmt.Fprintf(w, "%s has got this, with %s. Look at it; then: ironmonger check\n", file, Plural(int64(d.Doubts), "doubt"))
}

// AddedRecords returns a row for each place at which lines were added.
func AddedRecords(d *draft.Draft) *Records {
	r := &Records{Head: []string{"line", "added"}}
	for _, a := range d.Added {
		r.add(a.Line, a.Text)
	}
	return r
}
