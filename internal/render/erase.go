package render

import (
	"fmt"
	"io"
	"strings"

	"ironmonger/internal/diag"
	"ironmonger/internal/erase"
)

// Erased writes what was blanked.
func Erased(w io.Writer, e *erase.Erased) {
	did := "blanked"
	if e.Dry {
		did = "would be blanked"
	}
	fmt.Fprintf(
		w,
		"%s ‹%s›: %s %s in %s\n",
		e.Dimension,
		diag.Printable(e.NaturalKey),
		strings.Join(e.Attributes, ", "),
		did,
		Plural(int64(len(e.Keys)), "row"),
	)
	fmt.Fprintf(
		w,
		"%s in %s set aside, and in %s of the ledger\n",
		did,
		Plural(e.SetAside, "row"),
		Plural(e.Steps, "step"),
	)
	if e.Dry {
		fmt.Fprintln(w, "dry run: nothing was written")
		return
	}
	fmt.Fprintln(
		w,
		"its keys and facts stay, and later loads keep it blank; sources, backups and logs of the database are not changed",
	)
}

// ErasedRecords returns a row of what was blanked.
func ErasedRecords(e *erase.Erased) *Records {
	r := &Records{Head: []string{"dimension", "natural_key", "rows", "attributes", "set_aside", "steps"}}
	r.add(e.Dimension, e.NaturalKey, len(e.Keys), strings.Join(e.Attributes, "; "), e.SetAside, e.Steps)
	return r
}
