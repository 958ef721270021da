package inside

import (
	"context"
	"fmt"
	"strings"

	"ironmonger/internal/schema"
)

// The flags of judged rows: it counts among those of its time, and a version begins with it.
const (
	counts = "counts"
	begins = "begins"
)

// verdicts makes the last selects: all rows of a member are looked at together, in the order of their times.
func (r *Members) verdicts(l *layers, vague bool) string {
	kept := []string{ruleColumn, okColumn}
	for k := range r.keys {
		kept = append(kept, fmt.Sprintf("missing%d", k))
	}
	for _, x := range r.place() {
		kept = append(kept, quote(x.name))
	}
	if vague {
		kept = append(kept, vagueColumn)
	}
	outer := kept
	var order []string
	for k := range r.from.Columns {
		kept = append(kept, fmt.Sprintf("c%d", k))
	}
	for k := range r.from.Order {
		order = append(order, fmt.Sprintf("o%d", k))
	}
	before, number := r.number(order)
	sql := fmt.Sprintf("SELECT %s FROM (%s) AS l", strings.Join(append(before, kept...), ", "), l.sql)
	sql = fmt.Sprintf("SELECT %s, %s FROM (%s) AS l", strings.Join(kept, ", "), aliased(number), sql)
	flags, join := r.flags(number)
	sql = fmt.Sprintf("SELECT n.*, %s FROM (%s) AS n%s", aliased(flags), sql, join)
	sql = fmt.Sprintf("SELECT f.*, %s FROM (%s) AS f", aliased(r.together()), sql)
	verdict := fmt.Sprintf("case when %s is not null then %d when bad then %d", ruleColumn, leftOut, hard)
	if r.stands {
		verdict += fmt.Sprintf(" when stood and known then %d when stood then %d", same, hard)
	}
	sql = fmt.Sprintf("SELECT v.*, %s else %d end AS verdict FROM (%s) AS v", verdict, plain, sql)
	for _, x := range append(number, r.differences()...) {
		outer = append(outer, quote(x.name))
	}
	outer = append(outer, counts, begins, "verdict")
	for k := range r.from.Columns {
		name := fmt.Sprintf("c%d", k)
		if k != r.from.Since { // of the others, only those are needed that a second look is taken at
			name = fmt.Sprintf("case when verdict = %d then %s end AS %[3]s", hard, r.from.Texts[k], name)
		}
		outer = append(outer, name)
	}
	return fmt.Sprintf("SELECT %s FROM (%s) AS v", strings.Join(outer, ", "), sql)
}

// member is the window of a member's rows in the order of their times, after which others decide.
func (r *Members) member(number []named) string {
	var order []string
	at, sequence := r.times()
	for _, name := range []string{at, sequence} {
		if name != "" {
			order = append(order, name+" NULLS FIRST")
		}
	}
	for _, x := range number {
		order = append(order, quote(x.name))
	}
	return "(PARTITION BY " + ruleColumn + ", " + strings.Join(r.named("", natural), ", ") + " ORDER BY " + strings.Join(order, ", ") + ")"
}

// flags are what is found out about a row by those beside it, and by what stands, with which the rows are joined.
func (r *Members) flags(number []named) (list []named, join string) {
	at, sequence := r.times()
	w := r.member(number)
	isFirst, tied, last := "row_number() over "+w+" = 1", "row_number() over "+w+" > 1", "lead(1) over "+w+" is null"
	counting := last
	if at != "" {
		tied = fmt.Sprintf("coalesce(lag(%s) over %s = %[1]s, false)", at, w)
		if r.of.Observed != nil {
			counting = fmt.Sprintf("coalesce(lead(%s) over %s <> %[1]s, true)", at, w)
		}
	}
	var unlike []string
	others := r.named("", type0, type1, type2)
	if sequence != "" {
		others = append(others, sequence)
	}
	for _, name := range others {
		unlike = append(unlike, fmt.Sprintf("lag(%s) over %s is distinct from %[1]s", name, w))
	}
	disagrees := "false"
	if unlike != nil {
		disagrees = "(" + tied + " and (" + strings.Join(unlike, " or ") + "))"
	}
	list = []named{{"opens", isFirst}, {"disagrees", disagrees}, {counts, counting}}
	for _, x := range r.differences() {
		list = append(list, named{x.name, fmt.Sprintf("(row_number() over %s > 1 and lag(%s) over %[1]s is distinct from %[2]s)", w, x.sql)})
	}
	if r.stands {
		stood, known, with := r.standing()
		list, join = append(list, named{"stood", stood}, named{"said_so", known}), with
	}
	return list, join
}

// differences are, by the names of flags, the columns whose values make versions: the flag says that a row has another value
// than the row before it.
func (r *Members) differences() []named {
	var list []named
	if r.of.Observed == nil {
		return nil
	}
	for k, name := range r.named("", type2) {
		list = append(list, named{fmt.Sprintf("d%d", k), name})
	}
	return list
}

// together is what is found out about the rows of a member, or of one of its times, as a whole.
func (r *Members) together() []named {
	at, _ := r.times()
	of := ruleColumn + ", " + strings.Join(r.named("", natural), ", ")
	list := []named{{"bad", fmt.Sprintf("bool_or(not %s or disagrees) over (partition by %s)", okColumn, of)}}
	if r.stands {
		list = append(list, named{"known", "bool_and(said_so) over (partition by " + of + ")"})
	}
	begin := counts
	if r.of.Observed != nil { // rows of a time are alike, or bad
		changed := []string{"opens"}
		for _, x := range r.differences() {
			changed = append(changed, x.name)
		}
		begin = fmt.Sprintf("(%s and bool_or(%s) over (partition by %s, %s))", counts, strings.Join(changed, " or "), of, at)
	}
	return append(list, named{begins, begin})
}

// standing joins the rows with what is known, and says whether the member of a row stands, and whether what the row says is
// known of it ([history.Rules.Says]).
func (r *Members) standing() (stood, known, join string) {
	if r.of.Observed != nil {
		return r.observed()
	}
	at, sequence := r.times()
	equal := r.equal("t", type1)
	if at != "" {
		held := "t." + quote(schema.EffectiveFrom)
		again := fmt.Sprintf("%s = %s and %s", at, held, equal)
		if sequence != "" {
			again += fmt.Sprintf(" and t.%s is not distinct from %s", quote(schema.Sequence), sequence)
		}
		equal = fmt.Sprintf("(%s < %s or %s)", at, held, again)
	}
	key := "t." + quote(r.of.KeyColumn())
	join = fmt.Sprintf(" LEFT JOIN %s AS t ON %s >= 0 and %s", r.run.Named(r.of.Table.Name), key, r.on("t"))
	return "(" + key + " is not null)", fmt.Sprintf("coalesce(not t.%s and %s, false)", quote(schema.IsInferred), equal), join
}

// on says that rows are of one member, and equal that they have the same values of some roles.
func (r *Members) on(of string) string {
	var list []string
	for _, f := range r.of.NaturalKey {
		list = append(list, fmt.Sprintf("%s.%s = n.%s", of, quote(f.Name), quote(placed+f.Name)))
	}
	return strings.Join(list, " and ")
}

func (r *Members) equal(of string, as role) string {
	list := []string{"true"}
	for _, v := range r.columns {
		if v.as == as {
			list = append(list, fmt.Sprintf("%s.%s is not distinct from n.%s", of, quote(v.name), quote(placed+v.name)))
		}
	}
	return "(" + strings.Join(list, " and ") + ")"
}

// observed is standing where all observations are kept: a row is known if one of its time is, with the values of its
// version; the last one has the values of type 1, and the first one those of type 0.
func (r *Members) observed() (stood, known, join string) {
	d := r.of
	table, key, since := r.run.Named(d.Table.Name), quote(d.KeyColumn()), quote(schema.EffectiveFrom)
	at, sequence := r.times()
	greatest, same := "", ""
	if sequence != "" {
		greatest, same = ", max("+quote(schema.Sequence)+") AS "+quote(schema.Sequence), fmt.Sprintf(" and o.%s is not distinct from %s", quote(schema.Sequence), sequence)
	}
	all := fmt.Sprintf("SELECT %s, %s%s FROM (SELECT * FROM (SELECT %[4]s FROM %[5]s WHERE %[2]s IS NOT NULL) AS v UNION ALL SELECT %[4]s FROM %[6]s) AS o GROUP BY %[1]s, %[2]s",
		key, since, greatest, r.observation(), table, r.run.Named(d.Observed.Name))
	var names, differ, values []string
	for _, f := range d.NaturalKey {
		names = append(names, "v."+quote(f.Name))
	}
	for _, v := range r.columns {
		if values = append(values, "v."+quote(v.name)); v.as == type0 || v.as == type1 { // all versions have it, unless it was of another type
			const unlike = "min(v.%[1]s) is distinct from max(v.%[1]s) or count(v.%[1]s) not in (0, count(*))"
			differ = append(differ, strings.ReplaceAll(unlike, "v.%[1]s", r.ordered("v."+quote(v.name), v.name)))
		}
	}
	if differ == nil {
		differ = []string{"false"}
	}
	member := fmt.Sprintf("SELECT %s, bool_or(v.%s) AS inferred, max(o.%s) AS latest, min(o.%[3]s) AS earliest, (%s) AS differ FROM %s AS v LEFT JOIN (%s) AS o ON o.%s = v.%[7]s WHERE v.%[7]s >= 0 GROUP BY %[1]s",
		strings.Join(names, ", "), quote(schema.IsInferred), since, strings.Join(differ, " or "), table, all, key)
	one := fmt.Sprintf("SELECT %s, o.%s%s FROM %s AS v JOIN (%s) AS o ON o.%s = v.%[6]s WHERE v.%[6]s >= 0",
		strings.Join(values, ", "), since, map[bool]string{true: ", o." + quote(schema.Sequence)}[sequence != ""], table, all, key)
	join = fmt.Sprintf(" LEFT JOIN (%s) AS m ON %s LEFT JOIN (%s) AS o ON %s and o.%s = %s", member, r.on("m"), one, r.on("o"), since, at)
	known = fmt.Sprintf("coalesce(not m.inferred and o.%s is not null and %s%s and (%s < m.latest or not m.differ and %s) and (%[4]s > m.earliest or not m.differ and %[6]s), false)",
		since, r.equal("o", type2), same, at, r.equal("o", type1), r.equal("o", type0))
	return "(m.inferred is not null)", known, join
}

// ordered makes a value of a column of the table one of which there is a least and a greatest.
func (r *Members) ordered(sql, name string) string {
	for _, c := range r.of.Table.Columns {
		if c.Name == name && c.Type.String() == "boolean" {
			return "cast(" + sql + " as integer)"
		}
	}
	return sql
}

// observation lists what is known of an observation besides its values: the key of its version, its time and its sequence.
func (r *Members) observation() string {
	names := []string{r.of.KeyColumn(), schema.EffectiveFrom}
	if r.of.Sequence != nil {
		names = append(names, schema.Sequence)
	}
	return strings.Join(quoted(names), ", ")
}

// become returns the select of what the plain members become: of each row that counts, the place and the line of the row
// that its version begins with, and the values that hold for the whole member.
func (r *Members) become(ctx context.Context) (string, error) {
	holds := fmt.Sprintf("verdict = %d and %s", plain, counts)
	ranked, err := r.ranked(ctx, r.table, holds+" and "+begins)
	if err != nil {
		return "", err
	}
	names := append(r.named("", natural, type0, type1, type2), "line", begins)
	at, sequence := r.times()
	for _, name := range []string{at, sequence} {
		if name != "" {
			names = append(names, name)
		}
	}
	if r.of.Observed == nil {
		return r.latest(ranked, names), nil
	}
	const rows = "(SELECT %[1]s, place FROM %[2]s UNION ALL SELECT %[1]s, null FROM %[3]s WHERE %[4]s and not %[5]s) AS n"
	from := fmt.Sprintf(rows, strings.Join(names, ", "), ranked, r.numbered(r.table), holds, begins)
	sql := fmt.Sprintf("SELECT n.*, %s FROM %s", aliased(r.wholes(at)), from)
	return fmt.Sprintf("SELECT v.*, %s FROM (%s) AS v", aliased(r.ofVersion(at)), sql), nil
}

// wholes are, in the order of a member's times, what holds for all of it, and which of its versions each row is of.
func (r *Members) wholes(at string) []named {
	member := "PARTITION BY " + strings.Join(r.named("", natural), ", ") + " ORDER BY " + at
	whole := "(" + member + " ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING)"
	member = "(" + member + ")"
	list := []named{
		{"opens", "row_number() over " + member + " = 1"}, {"closes", "lead(1) over " + member + " is null"},
		{"ordinal", "sum(case when " + begins + " then 1 else 0 end) over " + member},
	}
	for _, v := range r.columns {
		switch name := quote(placed + v.name); v.as {
		case type0:
			list = append(list, named{holding + v.name, "first_value(" + name + ") over " + whole})
		case type1:
			list = append(list, named{holding + v.name, "last_value(" + name + ") over " + whole})
		}
	}
	return list
}

// ofVersion are the first rows of a row's version, and of its member, and whether the row changes values of type 1 alone.
func (r *Members) ofVersion(at string) []named {
	of := strings.Join(r.named("", natural), ", ")
	unlike := []string{"false"}
	for _, name := range r.named("", type1) {
		const begun = "first_value(%s) over (partition by %s, ordinal order by %s) is distinct from %[1]s"
		unlike = append(unlike, fmt.Sprintf(begun, name, of, at))
	}
	begun := func(how, what, of string) string {
		return fmt.Sprintf("%s(case when %s then %s end) over (partition by %s)", how, begins, what, of)
	}
	return []named{
		{"version_place", begun("max", "place", of+", ordinal")}, {"version_line", begun("max", "line", of+", ordinal")},
		{"member_place", begun("min", "place", of)}, {"member_line", begun("min", "line", of)},
		{"changed", "(closes and not " + begins + " and (" + strings.Join(unlike, " or ") + "))"},
	}
}

// holding begins the names of values that hold for a member as a whole.
const holding = "w_"

// latest is become for a dimension of whose members the last row holds; but the first one for values of type 0.
func (r *Members) latest(ranked string, names []string) string {
	list := []named{
		{"opens", "true"}, {"version_place", "n.place"}, {"version_line", "n.line"}, {"member_place", "n.place"}, {"member_line", "n.line"},
		{"changed", "false"},
	}
	for k, name := range names {
		names[k] = "n." + name
	}
	of := r.named("", natural)
	var values []string
	for _, v := range r.columns {
		switch name := quote(placed + v.name); v.as {
		case type1:
			list = append(list, named{holding + v.name, "n." + name})
		case type0:
			values = append(values, name)
			list = append(list, named{holding + v.name, "b." + name})
		}
	}
	if values != nil {
		on := "b.nth = 1"
		for _, name := range of {
			on += fmt.Sprintf(" and b.%s = n.%[1]s", name)
		}
		const first = " JOIN (SELECT %[1]s, %[2]s, row_number() over (partition by %[1]s order by line) AS nth FROM %[3]s WHERE verdict = %[4]d) AS b ON %[5]s"
		ranked += fmt.Sprintf(first, strings.Join(of, ", "), strings.Join(values, ", "), r.numbered(r.table), plain, on)
	}
	return fmt.Sprintf("SELECT %s, n.place, %s FROM %s", strings.Join(names, ", "), aliased(list), ranked)
}
