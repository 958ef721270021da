package inside

import (
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/star"
)

// complete makes the joins of a level.
func (r *shaper) complete(l *rows) error {
	for n, j := range r.joins {
		if !slices.Contains(l.level.Source.Joins, j) {
			continue
		}
		if err := r.join(l, n, j); err != nil {
			return fmt.Errorf("join %s: %w", j.Text, err)
		}
		for _, b := range j.Bring {
			if l.level.Need(b.Name) {
				l.fields = append(l.fields, b.Field)
			}
		}
	}
	return nil
}

// join joins the rows with those of another source. A row is plain if it meets one row there, about which nothing is
// special either, or none where that leaves columns empty; so which of several is taken need not be said here.
func (r *shaper) join(l *rows, n int, j *star.Join) error {
	other, unsure, err := r.joined[n].shape()
	if err != nil {
		return err
	}
	if m := r.joined[n].merging; m != nil && len(m.unsure) > 0 {
		return notSure(m.unsure[0], j.Source)
	}
	var by, on []string
	rows := l.rows()
	for k, pair := range j.By {
		if unsure[pair[0]] {
			return notSure(pair[0], j.Source)
		}
		by = append(by, quote(said+pair[0]))
		on = append(on, fmt.Sprintf("j%d.b%d = %s.%s", n, k, rows, quote(said+pair[1])))
	}
	var parts []string
	for k, column := range by {
		parts = append(parts, fmt.Sprintf("%s AS b%d", column, k))
	}
	met, theirs := fmt.Sprintf("met%d", n), other.text()
	switch {
	case j.Range != nil:
		var limits, within string
		theirs, limits, within = ranges(j.Range, by, theirs, met)
		parts = append(parts, limits)
		on = append(on, fmt.Sprintf(within, fmt.Sprintf("j%d", n), rows+"."+quote(said+j.Range.Of)))
	case j.Effective == "":
		const alone = "(%s and count(*) over (partition by %s) = 1) AS %s, row_number() over (partition by %[2]s) AS nth"
		parts = append(parts, fmt.Sprintf(alone, okColumn, strings.Join(by, ", "), met))
		on = append(on, fmt.Sprintf("j%d.nth = 1", n))
	default:
		spans, at, err := r.spans(l, j, by, met, unsure)
		if err != nil {
			return err
		}
		parts = append(parts, spans)
		const within = "j%d.since <= %s and (j%[1]d.until is null or %[2]s < j%[1]d.until)"
		on = append(on, fmt.Sprintf(within, n, strings.ReplaceAll(at, "%", rows+".")))
	}
	from := fmt.Sprintf("j%d.", n)
	found := []named{{met, from + met}}
	sound, more := "coalesce("+met+", false)", []named(nil)
	if r.leavesEmpty(j) {
		sound = "coalesce(" + met + ", true)"
		const none = "(case when %s is null and %s is null then 1 else 0 end)"
		more = []named{{emptyColumn(n), fmt.Sprintf(none, met, ruleColumn)}}
	}
	for _, b := range j.Bring {
		if l.level.Need(b.Name) {
			name := quote(said + b.Name)
			parts, found = append(parts, quote(said+b.From)+" AS "+name), append(found, named{said + b.Name, from + name})
			more, l.doubted[b.Name] = append(more, named{sure + b.Name, sound}), true
		}
	}
	const sql = "LEFT JOIN (SELECT %s FROM (%s) AS o WHERE %s IS NULL) AS j%d ON %s"
	l.lookUp(fmt.Sprintf(sql, strings.Join(parts, ", "), theirs, ruleColumn, n, strings.Join(on, " and ")), found)
	l.require(sound)
	l.add(more)
	return nil
}

// notSure refuses a column that says by what rows are joined, or since when they hold.
func notSure(name string, of *star.Source) error {
	return refuse("the column %s of %s, which may not be a value", name, of.Text)
}

// spans are the times for which rows of another source hold: each until the next one of its key begins, and one of a key all of whose
// rows are sound, and of which no two begin at a time. The second result is the time of a row here, with % before its name.
func (r *shaper) spans(l *rows, j *star.Join, by []string, met string, unsure map[string]bool) (sql, at string, err error) {
	if unsure[j.Effective] {
		return "", "", notSure(j.Effective, j.Source)
	}
	theirs, ours := j.Source.Shaped(), l.level.Source.Complete()
	from, to := theirs[column.Find(theirs, j.Effective)].Type.Kind, ours[column.Find(ours, j.AsOf)].Type.Kind
	at = "%" + quote(said+j.AsOf)
	switch {
	case from == column.Date && to == column.Timestamp:
		at = "cast(" + at + " as date)"
	case from != to:
		return "", "", refuse("a join as of a %s, where rows begin at a %s", ours[column.Find(ours, j.AsOf)].Type, theirs[column.Find(theirs, j.Effective)].Type)
	}
	since, of := quote(said+j.Effective), strings.Join(by, ", ")
	const spans = "%[1]s AS since, lead(%[1]s) over (partition by %[2]s order by %[1]s) AS until, " +
		"(bool_and(%[3]s and %[1]s is not null) over (partition by %[2]s) and count(*) over (partition by %[2]s, %[1]s) = 1) AS %[4]s"
	return fmt.Sprintf(spans, since, of, okColumn, met), at, nil
}

// leavesEmpty reports whether a row is plain that meets none by a join: if there may be one, that is met. Of times it is not so:
// one before all of a key meets none, although a time there may not be known. Of a branch it is not so either, as these rows are
// counted by the joins of one source.
func (r *shaper) leavesEmpty(j *star.Join) bool {
	return j.Unmatched == star.LeaveEmpty && j.Effective == "" && !r.parted
}

// emptyColumn is the column that says whether the nth join has left columns of a row empty: 1 if it has.
func emptyColumn(n int) string { return fmt.Sprintf("empty%d", n) }

// empties lists these columns, of the joins of so many levels.
func (r *shaper) empties(levels int) []string {
	var list []string
	for n, j := range r.joins {
		of := func(l Level) bool { return slices.Contains(l.Source.Joins, j) }
		if r.leavesEmpty(j) && slices.ContainsFunc(r.levels[:levels], of) {
			list = append(list, emptyColumn(n))
		}
	}
	return list
}

// emptied adds these columns up, as further columns of a select, one of each join: no row is plain that another one leaves empty.
func (r *shaper) emptied(levels int) []string {
	list, there := make([]string, len(r.joins)), r.empties(levels)
	for n := range r.joins {
		if list[n] = "0"; slices.Contains(there, emptyColumn(n)) {
			list[n] = "coalesce(sum(" + emptyColumn(n) + "), 0)"
		}
	}
	return list
}

// ranges has rows of another source hold for the values from one limit to below another. It returns the rows with the limits
// before each, what is selected of them, and the condition that a row called %[1]s holds for the value %[2]s. If two rows of a
// key hold for one value, or a row is not sound, none of the key is met: then it has one row, so that no other is multiplied.
func ranges(x *star.Range, by []string, theirs, met string) (rows, limits, within string) {
	from, to, of := quote(said+x.From), quote(said+x.To), ""
	if by != nil {
		of = "partition by " + strings.Join(by, ", ")
	}
	before := fmt.Sprintf("over (%s order by %s nulls first, %s rows between unbounded preceding and 1 preceding)", of, from, to)
	const apart = "SELECT *, (count(*) %[1]s = 0 or coalesce(%[2]s >= max(%[3]s) %[1]s, false) and not bool_or(%[3]s is null) %[1]s) " +
		"AS apart FROM (%[4]s) AS r WHERE %[5]s IS NULL"
	rows = fmt.Sprintf(apart, before, from, to, theirs, ruleColumn)
	const all = "%s AS since, %s AS until, bool_and(%s and apart) over (%s) AS %s, row_number() over (%[4]s) AS nth"
	limits = fmt.Sprintf(all, from, to, okColumn, of, met)
	const holds = "case when %%[1]s.%s then (%%[1]s.since is null or %%[1]s.since <= %%[2]s) " +
		"and (%%[1]s.until is null or %%[2]s < %%[1]s.until) else %%[1]s.nth = 1 end"
	return rows, limits, fmt.Sprintf(holds, met)
}
