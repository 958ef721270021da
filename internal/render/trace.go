package render

import (
	"fmt"
	"io"
	"slices"

	"ironmonger/internal/trace"
)

// Fact writes where a row of a fact comes from.
func Fact(w io.Writer, f *trace.Fact, width int) {
	fmt.Fprintf(w, "fact %s, from %s\n", f.Fact, f.Origin.Place)
	if f.Origin.Fault != "" {
		fmt.Fprintln(w, f.Origin.Fault)
	}
	fmt.Fprintln(w)
	t := &Table{Columns: columns("column", "as read~", "transformed~", "in the table~")}
	var names []string
	of := func(list []trace.Value) map[string]string {
		m := map[string]string{}
		for _, v := range list {
			m[v.Name] = "null"
			if v.Value != nil {
				m[v.Name] = value(v.Value)
			}
			if !slices.Contains(names, v.Name) {
				names = append(names, v.Name)
			}
		}
		return m
	}
	read, shaped, row := of(f.Origin.Read), of(f.Origin.Shaped), of(f.Row)
	for _, name := range names {
		t.Add(name, read[name], shaped[name], row[name])
	}
	t.Write(w, width)
	for _, j := range f.Origin.Joined {
		fmt.Fprintf(w, "join %s, from %s (source %s)\n", j.Join, j.Place, j.Source)
	}
	fmt.Fprintln(w)
	entries(w, f, width)
	keys := &Table{Columns: columns("key", "natural key as read~", "surrogate key>", "member~", "valid from?", "to?",
		"reason~")}
	for _, k := range f.Keys {
		surrogate := "null"
		if k.Surrogate != nil {
			surrogate = *k.Surrogate
		}
		keys.Add(k.Key, k.Delivered, surrogate, k.Member, k.From, k.To, k.Because)
	}
	keys.Write(w, width)
	fmt.Fprintln(w)
	runs := &Table{Columns: columns("run>", "started (UTC)", "step", "what the step did~")}
	for _, r := range f.Runs {
		runs.Add(fmt.Sprint(r.Run), r.At, r.Step, r.Did)
	}
	runs.Write(w, width)
}

// entries writes all rows of a fact of which what was booked stays: what tells them apart.
func entries(w io.Writer, f *trace.Fact, width int) {
	if len(f.Entries) < 2 {
		return
	}
	t := &Table{}
	var shown []int
	for k, v := range f.Entries[0] {
		differs := slices.ContainsFunc(f.Entries, func(e []trace.Value) bool {
			return (e[k].Value == nil) != (v.Value == nil) || v.Value != nil && *e[k].Value != *v.Value
		})
		if differs && v.Name != "load_line" {
			shown = append(shown, k)
			t.Columns = append(t.Columns, Column{Head: v.Name, Align: Right})
		}
	}
	for _, e := range f.Entries {
		cells := texts(e)
		var row []string
		for _, k := range shown {
			row = append(row, cells[k])
		}
		t.Add(row...)
	}
	t.Fit(width - 3)
	t.Write(w, width)
	fmt.Fprintln(w)
}

// Member writes the history of a member.
func Member(w io.Writer, m *trace.Member, width int) {
	fmt.Fprintf(w, "dimension %s, member %s\n", m.Dimension, m.NaturalKey)
	switch {
	case m.Filled > 0:
		fmt.Fprintf(w, "inferred in run %d, filled in run %d\n", m.Inferred, m.Filled)
	case m.Inferred > 0:
		fmt.Fprintf(w, "inferred in run %d; its source has not described it yet\n", m.Inferred)
	}
	if m.Fault != "" {
		fmt.Fprintln(w, m.Fault)
	}
	fmt.Fprintln(w)
	t := &Table{Columns: columns("key>")}
	for _, v := range m.Versions[0].Row {
		t.Columns = append(t.Columns, Column{Head: v.Name, Cut: true})
	}
	for _, v := range m.Versions {
		t.Add(append([]string{v.Key}, texts(v.Row)...)...)
	}
	t = t.turned()
	t.Fit(width - 3)
	t.Write(w, width)
	fmt.Fprintln(w)
	pointing := &Table{Columns: columns("key>", "table and key that point to it", "rows>")}
	for _, v := range m.Versions {
		var names []string
		for name := range v.Rows {
			names = append(names, name)
		}
		slices.Sort(names)
		for _, name := range names {
			pointing.Add(v.Key, name, Number(v.Rows[name]))
		}
	}
	if len(pointing.Rows) > 0 {
		pointing.Write(w, width)
		fmt.Fprintln(w)
	}
	if len(m.Observations) == 0 {
		return
	}
	rows := &Table{Columns: columns("rows of its source~")}
	for _, v := range m.Observations[0].Shaped {
		rows.Columns = append(rows.Columns, Column{Head: v.Name, Cut: true})
	}
	rows.Columns = append(rows.Columns, Column{Head: "which", Cut: true})
	for _, o := range m.Observations {
		which := o.Became
		if o.Fault != "" {
			which += ": " + o.Fault
		}
		rows.Add(append(append([]string{o.Place}, texts(o.Shaped)...), which)...)
	}
	rows.turned().Write(w, width)
}

func texts(list []trace.Value) []string {
	var cells []string
	for _, v := range list {
		if v.Value == nil {
			cells = append(cells, "∅")
		} else {
			cells = append(cells, *v.Value)
		}
	}
	return cells
}

// FactRecords returns a row for each key.
func FactRecords(f *trace.Fact) *Records {
	out := &Records{
		Head: []string{"from", "key", "delivered", "surrogate_key", "member", "valid_from", "valid_to", "because"},
	}
	for _, k := range f.Keys {
		surrogate := ""
		if k.Surrogate != nil {
			surrogate = *k.Surrogate
		}
		out.add(f.Origin.Place, k.Key, k.Delivered, surrogate, k.Member, k.From, k.To, k.Because)
	}
	return out
}

// MemberRecords returns a row for each version.
func MemberRecords(m *trace.Member) *Records {
	out := &Records{Head: []string{"key"}}
	for _, v := range m.Versions[0].Row {
		out.Head = append(out.Head, v.Name)
	}
	for _, v := range m.Versions {
		cells := []string{v.Key}
		for _, x := range v.Row {
			if x.Value == nil {
				cells = append(cells, "")
			} else {
				cells = append(cells, *x.Value)
			}
		}
		out.Rows = append(out.Rows, cells)
	}
	return out
}
