package render

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"ironmonger/internal/diag"
	"ironmonger/internal/ledger"
)

// Run writes what a run did: a table of its steps, what was set aside and why, and how it ended.
func Run(w io.Writer, r *ledger.Run, width int) {
	facts, dims := split(r.Steps)
	dimensionSteps(w, dims, width)
	factSteps(w, facts, width)
	var ways []staged
	for _, s := range r.Steps {
		ways = append(ways, staged{s.Name, s.Figures.Stages, s.Figures.Passed})
	}
	stages(w, ways, width)
	reasons(w, r.Steps, width)
	remarks(w, r.Steps, dims, facts)
	differences(w, r)
	for _, s := range r.Steps {
		if s.Message != "" {
			fmt.Fprintf(w, "%s: %s: %s\n", s.Name, s.State, s.Message)
		}
	}
	took := ""
	if r.EndedAt != nil {
		took = " in " + Duration(r.EndedAt.Sub(r.StartedAt))
	}
	for _, name := range slices.Sorted(maps.Keys(r.Parameters)) {
		fmt.Fprintf(w, "%s = %s\n", name, diag.Printable(r.Parameters[name]))
	}
	if r.Dry {
		examples(w, dims)
		foretold(w, r.Steps, width)
		fmt.Fprintf(w, "dry run: %s%s; nothing was written\n", r.State, took)
		return
	}
	if r.Message != "" {
		fmt.Fprintln(w, remark(r))
	}
	fmt.Fprintf(w, "run %d: %s%s\n", r.ID, r.State, took)
}

// foretold writes which tables a load would change, and which it would leave as they are.
func foretold(w io.Writer, steps []*ledger.Step, width int) {
	var changes, same, unread []string
	for _, s := range steps {
		switch f := &s.Figures; {
		case s.State != ledger.Done:
		case f.Wrote():
			changes = append(changes, noun(s.Name))
		case f.Read == 0 && f.Unread > 0:
			unread = append(unread, noun(s.Name))
		default:
			same = append(same, noun(s.Name))
		}
	}
	t := &Table{Columns: columns("a load would~", "dimensions and facts~")}
	for _, x := range []struct {
		what  string
		names []string
	}{{"change", changes}, {"read, and leave as they are", same}, {"not read, since no file has changed", unread}} {
		if x.names != nil {
			t.Add(x.what, strings.Join(x.names, ", "))
		}
	}
	fmt.Fprintln(w)
	t.Write(w, width)
	fmt.Fprintln(w)
}

// dimensionSteps writes what became of the rows of dimensions.
func dimensionSteps(w io.Writer, dims []*ledger.Step, width int) {
	if len(dims) == 0 {
		return
	}
	t := &Table{Columns: columns("dimension~", "state", "read>", "new>", "versions>", "filled>?", "changed>",
		"same>", "conflicts>?", "gone>?", "back>?", "left out>?", "dropped>?", "merged>?",
		"set aside>", "files unchanged>?", "in the warehouse>?", "time>")}
	for _, s := range dims {
		f := &s.Figures
		t.Add(
			noun(s.Name),
			s.State,
			Number(f.Read),
			Number(f.New),
			Number(f.Versions),
			Number(f.Filled),
			Number(f.Changed),
			Number(f.Same),
			Number(f.Conflicts),
			Number(f.Gone),
			Number(f.Back),
			Number(f.LeftOut),
			Number(f.Dropped),
			Number(f.Merged),
			Number(f.SetAside),
			Number(f.Unread),
			Number(f.Inside),
			stepTook(s),
		)
	}
	t.Write(w, width)
	fmt.Fprintln(w)
}

// factSteps writes what became of the rows of facts, of their keys and of their measures.
func factSteps(w io.Writer, facts []*ledger.Step, width int) {
	if len(facts) == 0 {
		return
	}
	t := &Table{Columns: columns(
		"fact~",
		"state",
		"read>",
		"inserted>",
		"changed>?",
		"same>",
		"older>?",
		"kept out>?",
		"gone>?",
		"back>?",
		"removed>?",
		"reversed>?",
		"left out>?",
		"dropped>?",
		"merged>?",
		"set aside>",
		"files unchanged>?",
		"in the warehouse>?",
		"members inferred~?",
		"time>",
	)}
	for _, s := range facts {
		f := &s.Figures
		t.Add(
			noun(s.Name),
			s.State,
			Number(f.Read),
			Number(f.Inserted),
			Number(f.Changed),
			Number(f.Same),
			Number(f.Older),
			Number(f.Kept),
			Number(f.Gone),
			Number(f.Back),
			Number(f.Removed),
			Number(f.Reversed),
			Number(f.LeftOut),
			Number(f.Dropped),
			Number(f.Merged),
			Number(f.SetAside),
			Number(f.Unread),
			Number(f.Inside),
			byName(f.Inferred),
			stepTook(s),
		)
	}
	t.Write(w, width)
	fmt.Fprintln(w)
	keys(w, facts, width)
	totals(w, facts, width)
}

// remarks writes a line for each thing of a step that happens seldom.
func remarks(w io.Writer, steps, dims, facts []*ledger.Step) {
	for _, s := range steps {
		for _, note := range s.Figures.Notes {
			fmt.Fprintf(w, "%s: %s\n", s.Name, note)
		}
		if n := byName(s.Figures.Left); n != "" {
			fmt.Fprintf(w, "%s: rows left out: %s\n", s.Name, n)
		}
	}
	for _, s := range dims {
		if n := s.Figures.Adopted; n > 0 {
			fmt.Fprintf(w, "%s: %s adopted\n", s.Name, Plural(n, "row"))
		}
		if f := &s.Figures; f.Renamed+f.Combined > 0 {
			fmt.Fprintf(
				w,
				"%s: %s renamed, %s combined with others\n",
				s.Name,
				Plural(f.Renamed, "member"),
				Plural(f.Combined, "member"),
			)
		}
		if n := byName(s.Figures.Met); n != "" {
			fmt.Fprintf(
				w,
				"%s: facts removed because combined members gave them the grain of another fact: %s\n",
				s.Name,
				n,
			)
		}
		if n := byName(s.Figures.Attributes); n != "" {
			fmt.Fprintf(w, "%s: changed values: %s\n", s.Name, n)
		}
	}
	for _, s := range facts {
		if n := byName(s.Figures.Settled); n != "" {
			fmt.Fprintf(w, "%s: rows pointed to members that came after them: %s\n", s.Name, n)
		}
		if n := s.Figures.Disagree; n > 0 {
			fmt.Fprintf(
				w,
				"%s: %s of which rows of one time tell different things; the later row counts\n",
				s.Name,
				Plural(n, "fact"),
			)
		}
		if n := byName(s.Figures.Empty); n != "" {
			fmt.Fprintf(w, "%s: inserted rows with nulls: %s\n", s.Name, n)
		}
	}
	for _, s := range steps {
		if n := byName(s.Figures.Repointed); n != "" {
			fmt.Fprintf(w, "%s: rows pointed to another version: %s\n", s.Name, n)
		}
	}
}

// differences tells where tables hold other than the ledger's account says, and what was accepted so.
func differences(w io.Writer, r *ledger.Run) {
	told := false
	for _, s := range r.Steps {
		for _, text := range s.Figures.Unmet {
			fmt.Fprintf(w, "%s: %s\n", s.Name, text)
		}
		for _, d := range s.Figures.Differs {
			told = true
			fmt.Fprintf(w, "%s: %s\n", s.Name, d)
		}
		for _, d := range s.Figures.Accepted {
			fmt.Fprintf(w, "%s: %s: accepted as it stands by %s\n", s.Name, d, r.Holder)
		}
	}
	if told {
		fmt.Fprintln(
			w,
			"something other than a load has changed these tables: find the cause and restore the rows; ironmonger prove shows more",
		)
	}
}

// examples names members that rows made, changed and so on.
func examples(w io.Writer, dims []*ledger.Step) {
	for _, s := range dims {
		for _, did := range []string{"new", "versions", "filled", "changed", "conflicts"} {
			names := s.Figures.Examples[did]
			if len(names) == 0 {
				continue
			}
			fmt.Fprintf(w, "%s, %s, for example: ‹%s›\n", noun(s.Name), did, strings.Join(names, "› ‹"))
		}
	}
}

func split(steps []*ledger.Step) (facts, dims []*ledger.Step) {
	for _, s := range steps {
		if strings.HasPrefix(s.Name, "fact ") {
			facts = append(facts, s)
		} else {
			dims = append(dims, s)
		}
	}
	return
}

// noun is a step's name without its kind.
func noun(step string) string { return step[strings.Index(step, " ")+1:] }

func stepTook(s *ledger.Step) string {
	if s.StartedAt == nil || s.EndedAt == nil {
		return ""
	}
	return Duration(s.Took())
}

func took(from, to *time.Time) string {
	if from == nil || to == nil {
		return ""
	}
	return Duration(to.Sub(*from))
}

func byName(counts map[string]int64) string {
	var parts []string
	for name, n := range counts {
		parts = append(parts, name+" "+Number(n))
	}
	slices.Sort(parts)
	return strings.Join(parts, ", ")
}

// keys lists the keys that had other outcomes than matched.
func keys(w io.Writer, facts []*ledger.Step, width int) {
	t := &Table{Columns: columns("key~", "matched>", "missing>", "unmatched>", "outside>")}
	for _, s := range facts {
		var names []string
		for name := range s.Figures.Keys {
			names = append(names, name)
		}
		slices.Sort(names)
		for _, name := range names {
			k := s.Figures.Keys[name]
			if k.Missing+k.Unmatched+k.Outside == 0 {
				continue // what is as it should be needs no line
			}
			t.Add(noun(s.Name)+"."+name, Number(k.Matched), Number(k.Missing), Number(k.Unmatched), Number(k.Outside))
		}
	}
	if len(t.Rows) > 0 {
		t.Write(w, width)
		fmt.Fprintln(w)
	}
}

func totals(w io.Writer, facts []*ledger.Step, width int) {
	t := &Table{Columns: columns("measure~", "total read>", "inserted>", "changed>?", "same>", "older>?", "kept out>?",
		"set aside>", "written>?", "replaced>?", "reversed>?", "removed>?")}
	for _, s := range facts {
		for _, m := range s.Figures.Totals {
			t.Add(
				noun(s.Name)+"."+m.Measure,
				Decimal(m.Read),
				Decimal(m.Inserted),
				Decimal(m.Changed),
				Decimal(m.Same),
				Decimal(m.Older),
				Decimal(m.Kept),
				Decimal(m.SetAside),
				Decimal(m.Written),
				Decimal(m.Replaced),
				Decimal(m.Reversed),
				Decimal(m.Removed),
			)
		}
	}
	if len(t.Rows) > 0 {
		t.Write(w, width)
		fmt.Fprintln(w)
	}
}

func reasons(w io.Writer, steps []*ledger.Step, width int) {
	t := &Table{Columns: columns("rows set aside of~", "rows>", "reason~", "first file and line", "value!?")}
	for _, s := range steps {
		for _, r := range s.Figures.Reasons {
			t.Add(
				s.Name,
				Number(r.Rows),
				r.Reason,
				diag.Place{File: r.File, Line: int(r.Line)}.String(),
				quoted(r.Detail),
			)
		}
	}
	if len(t.Rows) > 0 {
		t.Write(w, width)
		fmt.Fprintln(w)
	}
}

// quoted shows a value between marks, so that blanks at its ends are seen.
func quoted(s string) string {
	if s == "" {
		return ""
	}
	return "‹" + s + "›"
}

// remark is what the ledger has to say of a run: why it did not start, or which runs it took back.
func remark(r *ledger.Run) string {
	if r.Message != "" && r.State == ledger.Failed {
		return "it did not start: " + r.Message
	}
	return r.Message
}

// Runs writes a line for each run.
func Runs(w io.Writer, runs []*ledger.Run, width int) {
	if len(runs) == 0 {
		fmt.Fprintln(w, "nothing has been loaded yet: ironmonger load")
		return
	}
	t := &Table{Columns: columns("run>", "started (UTC)", "state", "time>", "steps>", "read>", "written>",
		"same>", "set aside>", "model~", "remark~?")}
	for _, r := range runs {
		var sum ledger.Figures
		var written int64
		for _, s := range r.Steps {
			sum.Read += s.Figures.Read
			sum.Same += s.Figures.Same
			sum.SetAside += s.Figures.SetAside
			written += s.Figures.Written()
		}
		t.Add(
			fmt.Sprint(r.ID),
			r.StartedAt.Format("2006-01-02 15:04:05"),
			r.State,
			took(&r.StartedAt, r.EndedAt),
			fmt.Sprint(len(r.Steps)),
			Number(
				sum.Read,
			),
			Number(written),
			Number(sum.Same),
			Number(sum.SetAside),
			r.ModelFile,
			strings.ReplaceAll(remark(r), "\n", " "),
		)
	}
	t.Write(w, width)
}
