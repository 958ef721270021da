package render

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/load"
	"ironmonger/internal/precheck"
	"ironmonger/internal/star"
)

// Survey writes what was found of the sources.
func Survey(w io.Writer, sources []*precheck.Source, width int) {
	t := &Table{Columns: columns("source~", "files>", "size>", "rows sampled>", "would be set aside>")}
	why := &Table{Columns: columns("rows set aside of~", "rows>", "reason~", "first file and line", "value!?")}
	for _, s := range sources {
		size := ""
		if s.Bytes > 0 { // a table's isn't known
			size = Size(s.Bytes)
		}
		t.Add(s.Name, fmt.Sprint(len(s.Files)), size, Number(s.Rows), Number(s.SetAside))
		for _, r := range s.Reasons {
			why.Add(
				s.Name,
				Number(r.Rows),
				r.Reason,
				diag.Place{File: r.File, Line: int(r.Line)}.String(),
				quoted(r.Detail),
			)
		}
	}
	t.Write(w, width)
	fmt.Fprintln(w)
	if len(why.Rows) > 0 {
		why.Write(w, width)
		fmt.Fprintln(w)
	}
}

// Taken is what holds for a thing of the model, said or not.
type Taken struct {
	Thing string `json:"thing"`
	Rules string `json:"rules"`
}

// TakenBy lists what holds for each join, dimension and key of a model.
func TakenBy(m *star.Model) []Taken {
	list := []Taken{}
	add := func(thing string, parts ...string) { list = append(list, Taken{thing, strings.Join(parts, "; ")}) }
	for _, s := range m.Sources {
		for _, j := range s.Joins {
			parts := []string{"unmatched: " + string(j.Unmatched), "several: " + string(j.Several)}
			if j.AsOf != "" {
				parts = append([]string{"the latest " + j.Effective + " not after " + j.AsOf}, parts...)
			}
			add("source "+s.Text+", join "+j.Text, parts...)
		}
	}
	for _, d := range m.Dimensions {
		var parts []string
		say := func(what string, fields []column.Field) {
			if len(fields) > 0 && (d.Calendar == nil || d.DayKeys() == nil) {
				parts = append(parts, what+" "+strings.Join(column.Names(fields), ", "))
			}
		}
		say("natural key", d.NaturalKey)
		for _, rule := range d.Matching {
			if rule != nil && rule.As.Text != "" {
				parts = append(parts, rule.Text+" matched as "+rule.As.Text)
			}
			if rule != nil && len(rule.Codes) > 0 {
				parts = append(parts, Plural(int64(len(rule.Codes)), "other code")+" for "+rule.Text)
			}
		}
		say("type 0", d.Type0)
		say("type 1", d.Type1)
		say("type 2", d.Type2)
		say("type 3", d.Type3)
		if d.Calendar != nil {
			parts = append(parts, calendarOf(d.Calendar))
		}
		if d.Durable {
			parts = append(parts, "a durable key")
		}
		if all := d.Deliveries; all != nil {
			parts = append(parts, delivers(all))
		}
		if h := d.Hierarchy; h != nil {
			parts = append(
				parts,
				"the parent is "+strings.Join(column.Names(h.Above), ", ")+"; unmatched: "+string(h.Unmatched),
			)
		}
		if a := d.Aliases; a != nil {
			parts = append(parts, "aliases in "+a.Source.Text)
		}
		if d.LookedUp != nil {
			parts = append(parts, "looked up in "+d.TableName()+", which is not written to")
		}
		if d.Junk {
			parts = append(parts, "the combinations that occur")
		}
		if d.Versioned() && d.LookedUp == nil {
			first := "from the beginning"
			if !d.FromStart {
				first = "from its effective time"
			}
			parts = append(parts, "the first version is valid "+first)
		}
		add("dimension "+d.Text, parts...)
		for _, k := range d.Keys {
			add("dimension "+d.Text+", key "+k.Text, rules(k)...)
		}
	}
	for _, f := range m.Facts {
		repeated := "repeated: " + string(f.Repeated)
		if f.NewerBy != nil {
			repeated += ", newer by " + f.NewerBy.Name
		}
		parts := []string{"grain " + strings.Join(grainOf(f), ", "), repeated}
		if f.Deliveries != nil {
			parts = append(parts, delivers(f.Deliveries))
		}
		add("fact "+f.Text, parts...)
		for _, k := range f.Keys {
			parts := rules(k)
			if k.Dimension.Aliases != nil &&
				slices.ContainsFunc(f.Grain, func(g star.GrainPart) bool { return g.Key == k }) {
				parts = append(parts, "when members are combined, one fact of each grain is kept")
			}
			add("fact "+f.Text+", key "+k.Text, parts...)
		}
	}
	return list
}

// delivers says what deliveries of all are complete for, and what becomes of what is gone.
func delivers(all *star.Deliveries) string {
	what := "delivers all"
	if all.Files {
		what = "each file delivers all of its rows"
	} else if len(all.Scope) > 0 {
		what += " of each " + strings.Join(column.Names(all.Scope), ", ")
	}
	return what + "; gone: " + string(all.Gone)
}

// grainOf lists the columns and keys of a grain.
func grainOf(f *star.Fact) []string {
	var names []string
	for _, g := range f.Grain {
		if g.Key != nil {
			names = append(names, g.Key.Text)
		} else {
			names = append(names, g.Column)
		}
	}
	return names
}

// Alterations tells what a load would do to the tables before it writes rows; those that it makes are only counted.
func Alterations(w io.Writer, list []load.Alteration, unseen string) {
	if unseen != "" {
		fmt.Fprintf(w, "the warehouse cannot be read: %s\n", unseen)
		return
	}
	made := int64(0)
	for _, a := range list {
		if a.Does == "is made" {
			made++
		} else {
			fmt.Fprintf(w, "table %s %s\n", a.Table, a.Does)
		}
	}
	if made > 0 {
		fmt.Fprintf(w, "a load would create %s\n", Plural(made, "table"))
	}
}

// broken breaks a list of rules into lines of at most width characters, if that is more than a few.
func broken(list string, width int) []string {
	if width < 30 {
		return []string{list}
	}
	var lines []string
	for _, part := range strings.Split(list, "; ") {
		if n := len(lines) - 1; n >= 0 && len(lines[n])+2+len(part) <= width {
			lines[n] += "; " + part
		} else {
			lines = append(lines, part)
		}
	}
	return lines
}

func rules(k *star.Key) []string {
	if k.Dimension.Junk {
		return []string{"a new combination is a new member; null is a value"}
	}
	parts := []string{"missing: " + string(k.Missing), "unmatched: " + string(k.Unmatched)}
	if k.AsOf != "" {
		parts = append(parts, "as of "+k.AsOf, "outside: "+string(k.Outside))
	} else if k.Dimension.Versioned() {
		parts = append(parts, "the current version")
	}
	if k.Type2 {
		parts = append(parts, "type 2: a change makes a version")
	}
	if !k.Again {
		parts = append(parts, "again: keep")
	}
	return parts
}

// calendarOf says which days a calendar has.
func calendarOf(c *star.Calendar) string {
	if !c.Grows() {
		return "a calendar of " + Plural(c.To-c.From+1, "day")
	}
	from, to := c.Limits()
	written := func(day int64) string { return string(column.AppendInt(nil, column.Date, day)) }
	return "a calendar of the years that facts have, from " + written(from) + " to " + written(to) + " at most"
}

// Assumed writes what holds, and the remarks on the model.
func Assumed(w io.Writer, taken []Taken, remarks diag.List, width int) {
	t := &Table{Columns: columns("part of the model", "rules, with the defaults~")}
	first := 0
	for _, k := range taken {
		first = max(first, len(k.Thing))
	}
	for _, k := range taken {
		thing := k.Thing
		for _, line := range broken(k.Rules, width-first-6) {
			t.Add(thing, line)
			thing = ""
		}
	}
	t.Write(w, width)
	for _, r := range remarks {
		fmt.Fprintf(w, "\n%s", r.Error())
	}
}

// Notes writes what people should know of the sources.
func Notes(w io.Writer, sources []*precheck.Source) {
	for _, s := range sources {
		for _, note := range s.Notes {
			fmt.Fprintf(w, "\n%s: %s\n", s.Name, note)
		}
	}
}

// Fits reports whether the sources fit the model, as far as the sample tells.
func Fits(w io.Writer, sources []*precheck.Source, limits []precheck.Limit) {
	aside := int64(0)
	for _, s := range sources {
		aside += s.SetAside
	}
	fmt.Fprintln(w)
	for _, l := range limits {
		fmt.Fprintf(
			w,
			"%s would stop: in the sample, %s of the rows of %s are set aside, and the limit is %s; the most frequent reason: %s\n",
			l.Step,
			l.Share,
			l.Source,
			l.Limit,
			l.Because,
		)
	}
	if aside == 0 {
		fmt.Fprintln(w, "the model is right and fits the sampled rows")
	} else {
		fmt.Fprintf(w, "the model is right; a load would set aside %s of those sampled\n", Plural(aside, "row"))
	}
}
