package draft

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/star"
)

// writer writes a model with comments.
type writer struct {
	strings.Builder
	doubts int
	date   string // the dimension of dates
}

// line writes a line of the model, indented by two blanks a level.
func (w *writer) line(level int, format string, args ...any) {
	w.WriteString(strings.Repeat("  ", level))
	fmt.Fprintf(w, format, args...)
	w.WriteByte('\n')
}

// because writes a comment.
func (w *writer) because(level int, format string, args ...any) {
	w.line(level, "# "+format, args...)
}

// doubt writes a comment that somebody should look at.
func (w *writer) doubt(level int, format string, args ...any) {
	w.doubts++
	w.line(level, "# doubt: "+format, args...)
}

// write writes the model.
func write(tables []*table, o Options) (text string, doubts int) {
	w := &writer{date: "date"}
	w.because(0, "A draft, made of what stands in the files. Each decision has its evidence beside it; look at what is marked \"doubt\".")
	w.because(0, "Then: ironmonger check; ironmonger load; ironmonger prove")
	w.line(0, "warehouse:")
	w.line(1, "sqlite: %s", quoted(o.Warehouse))
	if slices.ContainsFunc(tables, func(t *table) bool { return t.hasOffsets() }) {
		w.line(0, "")
		w.doubt(0, "timestamps have offsets from UTC: the star shows them in this zone")
		w.line(0, "time_zone: UTC")
	}
	w.databases(tables)
	w.line(0, "")
	w.line(0, "sources:")
	for _, t := range tables {
		w.source(t)
	}
	w.line(0, "dimensions:")
	w.calendar(tables)
	for _, t := range tables {
		if t.as == asDimension {
			w.dimension(t, o)
		}
	}
	facts := slices.ContainsFunc(tables, func(t *table) bool { return t.as == asFact })
	if facts {
		w.line(0, "facts:")
	}
	for _, t := range tables {
		if t.as == asFact {
			w.fact(t, o)
		}
	}
	return strings.TrimRight(w.String(), "\n") + "\n", w.doubts
}

// databases writes where the tables are.
func (w *writer) databases(tables []*table) {
	var met []*star.Database
	for _, t := range tables {
		d := t.Database
		if d == nil || slices.Contains(met, d) {
			continue
		}
		if met = append(met, d); len(met) == 1 {
			w.line(0, "")
			w.line(0, "databases:")
		}
		w.database(d)
	}
}

func (w *writer) database(d *star.Database) {
	where := d.Connection
	if d.Kind == star.SQLite {
		where = d.Path
	}
	w.line(1, "%s:", d.Text)
	w.line(2, "%s: %s", d.Kind, quoted(where))
}

func (t *table) hasOffsets() bool {
	return slices.ContainsFunc(t.fields, func(f *field) bool {
		return slices.ContainsFunc(f.Doubts, func(s string) bool { return strings.Contains(s, "offset") })
	})
}

// quoted writes a word so that YAML reads it as it is.
func quoted(s string) string {
	if s != "" && strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_./") == "" && s[0] != '.' && s[0] != '/' {
		return s
	}
	return strconv.Quote(s)
}

func list(words []string) string {
	var parts []string
	for _, s := range words {
		parts = append(parts, quoted(s))
	}
	if len(parts) == 1 {
		return parts[0]
	}
	return "[" + strings.Join(parts, ", ") + "]"
}

// calendar writes a date dimension for the dates of facts.
func (w *writer) calendar(tables []*table) {
	from, to := "", ""
	for _, t := range tables {
		for _, f := range t.fields {
			if t.as == asFact && isTime(f) && f.Least != "" {
				if day := f.Least[:10]; from == "" || day < from {
					from = day
				}
				to = max(to, f.Greatest[:10])
			}
		}
	}
	if from == "" && !slices.ContainsFunc(tables, func(t *table) bool { return t.as == asDimension }) {
		w.doubt(1, "no members were found, and no dates of facts")
		w.line(1, "date: {calendar: {from: 2000-01-01, to: 2049-12-31}}")
		w.line(0, "")
	}
	if from == "" {
		return
	}
	w.because(1, "the dates of facts are from %s to %s; the calendar grows with them", from, to)
	w.line(1, "date:")
	w.line(2, "calendar:")
	w.line(3, "from: data")
	w.line(3, "at_least: %s-01-01", max(yearOf(from, -30), firstYear))
	w.line(3, "to: data")
	w.line(3, "at_most: %s-12-31", min(yearOf(to, 30), lastYear))
	w.line(0, "")
}

// The calendar of a draft ends there: a date beyond it, such as the last one that there is, stands for something else.
const firstYear, lastYear = "1900", "2199"

// yearOf is the year of a day, and some more, between those that a calendar may have.
func yearOf(day string, more int) string {
	year, _ := strconv.Atoi(day[:4])
	return fmt.Sprintf("%04d", min(max(1900, year+more), 2199))
}

// dimension writes a dimension.
func (w *writer) dimension(t *table, o Options) {
	w.keyEvidence(t, "is unique")
	w.line(1, "%s:", t.single)
	w.line(2, "from: %s", t.name)
	w.line(2, "natural_key: %s", list(namesOf(t.key)))
	if e := t.effective; e != nil {
		if o.History {
			w.because(2, "several rows of one %s, each of a time: its history", t.single)
			w.line(2, "others: type_2")
			w.line(2, "effective: %s", e.name)
		} else {
			w.because(2, "several rows of one %s: the last one counts", t.single)
			w.line(2, "type_1: %s", list(namesOf(t.rest())))
		}
	}
	w.keys(t, o, false)
	w.line(0, "")
}

// rest lists the fields of a dimension that are attributes.
func (t *table) rest() []*field {
	var list []*field
	for _, f := range t.fields {
		if !slices.Contains(t.key, f) && f != t.effective && !t.refersBy(f) {
			list = append(list, f)
		}
	}
	return list
}

// keyEvidence says how unique the natural key or the grain is.
func (w *writer) keyEvidence(t *table, verb string) {
	names := namesOf(t.key)
	if t.effective != nil {
		names = append(names, t.effective.name)
	}
	said := fmt.Sprintf("%s %s in %s rows", strings.Join(names, ", "), verb, evidence(t.unique, t.rows()))
	if t.unique < t.rows() {
		w.doubt(1, "%s: the others repeat one", said)
		return
	}
	w.because(1, "%s", said)
}

// keys writes the keys of a fact or a dimension.
func (w *writer) keys(t *table, o Options, fact bool) {
	if !fact && len(t.refs) == 0 {
		return
	}
	first := (*field)(nil) // the time as of which versions are taken
	for _, f := range t.fields {
		if isTime(f) && f.Filled > 0 && (first == nil || f.Empty < first.Empty || f.Is.Kind == column.Timestamp && first.Is.Kind == column.Date && f.Empty*100 <= t.Rows) {
			first = f
		}
	}
	w.line(2, "keys:")
	taken := map[string]bool{}
	for _, r := range t.refs {
		found := fmt.Sprintf("%s of the values of %s are in %s (%s)", share(r.hits, r.values), strings.Join(namesOf(r.by), ", "), r.to.name, evidence(r.hits, r.values))
		if r.hits*100 < r.values*90 {
			w.doubt(3, "%s", found)
		} else {
			w.because(3, "%s", found)
		}
		name := r.to.single
		if taken[name] || len(r.by) == 1 && taken[name] {
			name = unlike(core(r.by[0].name), taken)
		}
		taken[name] = true
		w.line(3, "%s:", name)
		if name != r.to.single {
			w.line(4, "dimension: %s", r.to.single)
		}
		w.line(4, "by: %s", list(namesOf(r.by)))
		if r.to.effective != nil && o.History && fact && first != nil {
			if n := t.empty(first); n > 0 {
				w.doubt(4, "%s without %s: they will be set aside", many(n, "row"), first.name)
			}
			w.line(4, "as_of: %s", first.name)
		}
		if !o.Infer {
			w.line(4, "unmatched: unknown")
		}
	}
	if !fact {
		return
	}
	for _, f := range t.fields {
		if !isTime(f) || f.Filled == 0 || t.refersBy(f) {
			continue
		}
		name := unlike(stripped(f.name), taken)
		w.line(3, "%s:", name)
		w.line(4, "dimension: %s", w.date)
		w.line(4, "by: %s", f.name)
		if n := t.empty(f); n > 0 {
			w.because(4, "empty in %s rows: not yet", evidence(n, t.rows()))
			w.line(4, "missing: not_yet")
		}
		if inGrain := slices.Contains(t.key, f); !inGrain && f.Least != "" && (f.Least < firstYear || f.Greatest[:4] > lastYear) {
			w.line(4, "unmatched: unknown")
		}
	}
}

func share(n, of int64) string {
	if n == of {
		return "all"
	}
	return fmt.Sprintf("%.1f%%", float64(n)*100/float64(of))
}

// fact writes a fact.
func (w *writer) fact(t *table, o Options) {
	w.keyEvidence(t, "is the grain: it is unique")
	w.line(1, "%s:", t.single)
	w.line(2, "from: %s", t.name)
	w.line(2, "grain: %s", list(namesOf(t.key)))
	if len(t.refs) > 0 || slices.ContainsFunc(t.fields, func(f *field) bool { return isTime(f) && f.Filled > 0 }) {
		w.keys(t, o, true)
	}
	var measures, others []string
	for _, f := range t.fields {
		switch {
		case f.Filled == 0 || slices.Contains(t.key, f) || t.refersBy(f):
		case f.Is.Numeric() && !t.isName(f):
			measures = append(measures, f.name)
		case f.Is.Kind != column.Date:
			others = append(others, f.name)
		}
	}
	for _, name := range measures {
		if slices.ContainsFunc(strings.Split(name, "_"), func(s string) bool { return slices.Contains(ratios, s) }) {
			w.doubt(2, "%s: is it added up? If not, it belongs to degenerate", name)
		}
	}
	if measures != nil {
		w.line(2, "measures: %s", list(measures))
	}
	if others != nil {
		w.line(2, "degenerate: %s", list(others))
	}
	w.line(0, "")
}

// ratios are words in the names of numbers that are not added up.
var ratios = []string{"rate", "ratio", "percent", "pct", "percentage", "share", "factor", "rebate", "discount", "temperature", "grade", "score", "rating", "age", "lat", "lon", "latitude", "longitude"}

func many(n int64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
