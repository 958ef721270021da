package inside

import (
	"cmp"
	"fmt"
	"strings"

	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// standing joins the rows that stand in the table, and says which verdicts follow of them; take is that of a row that
// is new. One that waits for members, and stands, is left to others: it has lost a member, perhaps.
func (r *Rows) standing(take, opened string) (join, verdict string) {
	var equal []string
	for _, f := range r.fields {
		if !f.compared {
			continue
		}
		alike := "t.%s is not distinct from l.%s"
		if f.double { // zeros of both signs are equal, and not the same
			alike = "cast(t.%s as varchar) is not distinct from cast(l.%s as varchar)"
		}
		equal = append(equal, fmt.Sprintf(alike, quote(f.name), quote(placed+f.name)))
		if f.key && ambiguous(r.keys[f.link]) { // which special member is meant, and why, is not told by the key
			equal = append(equal, "coalesce(l."+quote(placed+f.name)+" >= 0, false)")
		}
	}
	if r.of.Completion != nil && r.of.NewerBy != nil { // what stands may have been told by older rows
		equal = append(equal, "false")
	}
	where := ""
	if r.of.Reverses() { // of a grain with several entries, others know which is the last
		where = entryIs(1)
		equal = append(equal, "e."+quote(schema.LoadRun)+" is null")
		join = r.withGrains("e", r.of.Table.Name, entryIs(2))
	}
	join = r.withGrains("t", r.of.Table.Name, where) + join
	return join, fmt.Sprintf(" when t.%s is null then %s when not %s and %s then %d else %d",
		quote(schema.LoadRun), take, opened, strings.Join(equal, " and "), same, hard)
}

// ambiguous reports whether a key may have a special member, or none, for another reason than that rows say nothing.
func ambiguous(k *star.Key) bool { return k.Unmatched.Special() || k.AsOf != "" && k.Outside.Special() }

// entryIs says that a row of the table, called f, is the entry with a number.
func entryIs(n int) string { return fmt.Sprintf("f.%s = %d", quote(star.EntryNumber), n) }

// removed joins the grains of facts that were removed since they were gone, and says that a row has one of them: it is
// back.
func (r *Rows) removed() (join, is string) {
	if !r.of.Removes() {
		return "", "false"
	}
	rows, grain := r.grained(r.of.Removed.Name, "")
	var names []string
	for _, g := range grain {
		names = append(names, g.name)
	}
	rows = fmt.Sprintf("(SELECT DISTINCT %s FROM %s AS f)", strings.Join(names, ", "), rows)
	return fmt.Sprintf(" LEFT JOIN %s AS g ON %s", rows, alike("g", grain)), "g." + names[0] + " is not null"
}

// withGrains joins rows that [Rows.grained] returns with the judged rows of their grain, under a name.
func (r *Rows) withGrains(as, table, where string) string {
	rows, grain := r.grained(table, where)
	return fmt.Sprintf(" LEFT JOIN %s AS %s ON %s", rows, as, alike(as, grain))
}

// alike says that a row has the grain of a judged one.
func alike(as string, grain []named) string {
	var on []string
	for _, g := range grain {
		on = append(on, as+"."+g.name+" = "+g.sql)
	}
	return strings.Join(on, " and ")
}

// grained is the rows of a table of the fact's, called f, of which a condition holds, and the columns that tell them
// apart: their names, and what judged rows, called l, have there. A version in the grain means its member: the table is
// joined with the dimension then, for the natural keys.
func (r *Rows) grained(table, where string) (rows string, grain []named) {
	rows = r.Statements.Named(table)
	joins, more := "", ""
	for n, name := range r.of.GrainColumns() {
		k := r.of.Grain[n].Key
		if k == nil || !k.Dimension.Versioned() {
			grain = append(grain, named{quote(name), "l." + quote(placed+name)})
			continue
		}
		d, of := r.star.Dimension(k.Dimension), fmt.Sprintf("d%d", n)
		for i, value := range r.by("l.", k) {
			part := fmt.Sprintf("%s_%d", of, i)
			more += fmt.Sprintf(", %s.%s AS %s", of, quote(d.NaturalKey[i].Name), part)
			grain = append(grain, named{part, value})
		}
		const member = " LEFT JOIN %s AS %s ON %[2]s.%[3]s = f.%[4]s"
		joins += fmt.Sprintf(member, r.Statements.Named(d.Table.Name), of, quote(d.KeyColumn()), quote(name))
	}
	if joins != "" || where != "" {
		rows = fmt.Sprintf("(SELECT f.*%s FROM %s AS f%s WHERE %s)", more, rows, joins, cmp.Or(where, "true"))
	}
	return rows, grain
}
