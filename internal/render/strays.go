package render

import (
	"fmt"
	"io"
	"strings"

	"ironmonger/internal/diag"
	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/preview"
	"ironmonger/internal/strays"
)

// Strays writes what strayed.
func Strays(w io.Writer, r *strays.Report, width int) {
	failed := false
	for _, l := range r.Loads {
		if l.State != ledger.Done {
			failed = true
			fmt.Fprintf(w, "run %d: %s: %s: %s\n", l.Run, l.Step, l.State, l.Message)
		}
	}
	if len(r.SetAside)+len(r.Keys)+len(r.Inferred) == 0 {
		if !failed {
			fmt.Fprintln(
				w,
				"no strays: the star has every row that the last loads read, and every key has its member",
			)
		}
		return
	}
	if failed {
		fmt.Fprintln(w)
	}
	aside := &Table{Columns: columns("rows set aside of~", "rows>", "reason~", "since run>", "first file and line",
		"value!?", "row!")}
	for _, a := range r.SetAside {
		step := a.Step
		if a.State == ledger.OfFail {
			step += " (failed)"
		}
		aside.Add(
			step,
			Number(a.Rows),
			a.Reason,
			fmt.Sprint(a.Since),
			diag.Place{File: a.File, Line: int(a.Line)}.String(),
			quoted(a.Value),
			quoted(a.Content),
		)
	}
	keys := &Table{Columns: columns("key~", "rows>", "outcome", "rule", "natural key~", "first file and line")}
	for _, k := range r.Keys {
		keys.Add(
			noun(k.Step)+"."+k.Key,
			Number(k.Rows),
			k.Outcome,
			k.Rule,
			quoted(k.Natural),
			diag.Place{File: k.File, Line: int(k.Line)}.String(),
		)
	}
	inferred := &Table{Columns: columns("inferred members of~", "members>", "rows that point to them>", "since run>", "since",
		"for example~")}
	for _, d := range r.Inferred {
		inferred.Add(
			d.Dimension,
			Number(d.Members),
			Number(d.Rows),
			fmt.Sprint(d.Since),
			d.SinceTime,
			"‹"+strings.Join(d.Examples, "› ‹")+"›",
		)
	}
	first := true
	for _, t := range []*Table{aside, keys, inferred} {
		if len(t.Rows) == 0 {
			continue
		}
		if !first {
			fmt.Fprintln(w)
		}
		first = false
		t.Write(w, width)
		if t == keys {
			for _, m := range r.More {
				fmt.Fprintf(w, "and %s more of %s.%s\n", Plural(m.More, "natural key"), noun(m.Step), m.Key)
			}
		}
	}
}

// Order writes the waves of a load.
func Order(w io.Writer, order []load.Ordered, width int) {
	t := &Table{Columns: columns("wave>", "step", "waits for", "reason~")}
	for _, o := range order {
		wave, step := fmt.Sprint(o.Wave), o.Step
		if len(o.Waits) == 0 {
			t.Add(wave, step, "", "")
		}
		for _, wait := range o.Waits {
			t.Add(wave, step, wait.Step, wait.Because)
			wave, step = "", ""
		}
	}
	t.Write(w, width)
}

// Rows writes rows that were asked for, numbers to the right.
func Rows(w io.Writer, r *preview.Rows, width int) {
	t := &Table{}
	if r.Places != nil {
		t.Columns = append(t.Columns, Column{Head: "at", Cut: true})
	}
	for k, name := range r.Columns {
		c := Column{Head: name, Cut: true, Align: Right}
		for _, row := range r.Rows {
			if row[k] != nil && strings.Trim(*row[k], "0123456789.-") != "" {
				c.Align = Left
			}
		}
		t.Columns = append(t.Columns, c)
	}
	for i, row := range r.Rows {
		var cells []string
		if r.Places != nil {
			cells = append(cells, r.Places[i])
		}
		for _, v := range row {
			if v == nil {
				cells = append(cells, "∅")
			} else {
				cells = append(cells, *v)
			}
		}
		t.Add(cells...)
	}
	left := t.Fit(width - 3)
	if len(t.Rows) > 0 {
		t.Write(w, width)
		fmt.Fprintln(w)
	}
	if len(left) > 0 {
		fmt.Fprintf(w, "no room for %s (--columns chooses)\n", strings.Join(left, ", "))
	}
	said := []string{Plural(int64(len(r.Rows)), "row") + " shown"}
	switch {
	case r.All && r.Aside:
		said = append(said, "of "+Plural(r.SetAside, "row")+" set aside")
	case r.All:
		said = append(said, "of "+Plural(r.Matched, "row")+" that meet the condition")
		if r.Matched == r.Seen-r.SetAside {
			said[1] = "of " + Plural(r.Matched, "row")
		}
	default:
		said = append(said, "there are more (--count counts them)")
	}
	if r.SetAside > 0 && !r.Aside {
		said = append(said, Plural(r.SetAside, "row")+" set aside")
	}
	if r.LeftOut > 0 {
		said = append(said, Plural(r.LeftOut, "row")+" left out")
	}
	fmt.Fprintln(w, strings.Join(said, ", "))
	if r.Stages != nil || r.Passed != nil {
		fmt.Fprintln(w)
		stages(w, []staged{{"", r.Stages, r.Passed}}, width)
	}
}
