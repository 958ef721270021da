package inside

import (
	"context"
	"fmt"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/schema"
)

// The flags of judged rows: it counts among those of its time, and a version begins with it; or it says something else than the
// one that counts.
const (
	counts  = "counts"
	begins  = "begins"
	opposes = "opposes"
)

// verdicts makes the last selects: all rows of a member are looked at together, in the order of their times.
func (r *Members) verdicts(l *layers, vague bool) string {
	kept := append([]string{ruleColumn, okColumn}, r.empties(len(r.levels))...)
	if r.merging != nil {
		kept = append(kept, parts)
	}
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
	before, number, _ := r.number(order)
	sql := fmt.Sprintf("SELECT %s FROM (%s) AS l", strings.Join(append(before, kept...), ", "), l.text())
	sql = fmt.Sprintf("SELECT %s, %s FROM (%s) AS l", strings.Join(kept, ", "), aliased(number), sql)
	w := r.member(number)
	if r.stands { // the table may have columns that are called as those of rows are
		stood, known, join := r.standing()
		flags := aliased([]named{{"stood", stood}, {"said_so", known}})
		sql = fmt.Sprintf("SELECT n.*, %s FROM (%s) AS n%s", flags, sql, join)
	}
	sql = fmt.Sprintf("SELECT n.*, %s FROM (%s) AS n", aliased(r.flags(w)), sql)
	sql = fmt.Sprintf("SELECT f.*, %s FROM (%s) AS f", aliased(r.together(number)), sql)
	more := append(append(number, r.differences()...), named{name: counts}, named{name: begins}, named{name: opposes})
	wholes := r.wholes(w)
	sql = fmt.Sprintf("SELECT w.*, %s FROM (%s) AS w", aliased(append(r.among(w), wholes...)), sql)
	more = append(more, wholes...)
	if list := r.ofVersion(w, number); list != nil {
		sql = fmt.Sprintf("SELECT w.*, %s FROM (%s) AS w", aliased(list), sql)
		more = append(more, list...)
	}
	verdict := fmt.Sprintf("case when %s is not null then %d when bad then %d", ruleColumn, leftOut, hard)
	if r.stands {
		verdict += fmt.Sprintf(" when stood and known then %d when stood then %d", same, hard)
	}
	sql = fmt.Sprintf("SELECT v.*, %s else %d end AS verdict FROM (%s) AS v", verdict, plain, sql)
	for _, x := range more {
		outer = append(outer, quote(x.name))
	}
	outer = append(outer, "verdict")
	for _, x := range r.second(r.from, hard) {
		outer = append(outer, x.sql+" AS "+x.name)
	}
	return fmt.Sprintf("SELECT %s FROM (%s) AS v", strings.Join(outer, ", "), sql)
}

// member is the window of a member's rows in the order of their times, after which others decide; whole is all of it.
func (r *Members) member(number []named) string {
	order := r.within(number)
	if at, _ := r.times(); at != "" {
		order = append([]string{at}, order...)
	}
	return "(" + r.alone() + " ORDER BY " + strings.Join(order, ", ") + ")"
}

// within orders the rows of one time of a member.
func (r *Members) within(number []named) (order []string) {
	if _, sequence := r.times(); sequence != "" {
		order = append(order, sequence+" NULLS FIRST")
	}
	for _, x := range number {
		order = append(order, quote(x.name))
	}
	return order
}

// alone keeps the rows of a member apart, of those that are not left out.
func (r *Members) alone(more ...string) string {
	return "PARTITION BY " + strings.Join(append(append(r.named("", natural), ruleColumn), more...), ", ")
}

func whole(window string) string {
	return strings.TrimSuffix(window, ")") + " ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING)"
}

// flags are what is found out about a row by those beside it.
func (r *Members) flags(w string) []named {
	at, sequence := r.times()
	isFirst, tied, counting := "row_number() over "+w+" = 1", "", "lead(1) over "+w+" is null"
	if at != "" {
		tied = fmt.Sprintf("coalesce(lag(%s) over %s = %[1]s, false)", at, w)
		if r.of.Observed != nil {
			counting = fmt.Sprintf("coalesce(lead(%s) over %s <> %[1]s, true)", at, w)
		}
	}
	others, beside := r.named("", type0, type1, type2), "lag(%[1]s) over "+w
	if sequence != "" {
		others = append(others, sequence)
	}
	if at == "" { // of several rows the last one counts
		beside = "last_value(%[1]s) over " + whole(w)
	}
	unlike := []string{"false"}
	for _, name := range others {
		unlike = append(unlike, fmt.Sprintf(beside+" is distinct from %[1]s", name))
	}
	differs, never := "("+tied+" and ("+strings.Join(unlike, " or ")+"))", "false"
	disagrees, opposing := differs, never
	if at == "" {
		disagrees, opposing = never, "("+strings.Join(unlike, " or ")+")"
	}
	list := []named{
		{"nr", "row_number() over " + w}, {"opens", isFirst}, {"disagrees", disagrees}, {counts, counting}, {opposes, opposing},
	}
	for _, x := range r.differences() {
		list = append(list, named{x.name, fmt.Sprintf("(row_number() over %s > 1 and lag(%s) over %[1]s is distinct from %[2]s)", w, x.sql)})
	}
	return list
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

// together is what is found out about the rows of one time of a member as a whole. Its last row counts, so the window has
// the order of the others, and the rows need not be sorted once more.
func (r *Members) together(number []named) []named {
	begin := counts
	if at, _ := r.times(); r.of.Observed != nil { // rows of a time are alike, or bad
		changed := []string{"opens"}
		for _, x := range r.differences() {
			changed = append(changed, x.name)
		}
		const any = "(%s and bool_or(%s) over (%s ORDER BY %s ROWS UNBOUNDED PRECEDING))"
		begin = fmt.Sprintf(any, counts, strings.Join(changed, " or "), r.alone(at), strings.Join(r.within(number), ", "))
	}
	return []named{{begins, begin}}
}

// among is what is found out about a member by all of its rows, and how many rows before each its version begins.
func (r *Members) among(w string) []named {
	list := []named{{"bad", fmt.Sprintf("bool_or(not %s or disagrees) over %s", okColumn, whole(w))}}
	if r.stands {
		list = append(list, named{"known", "bool_and(said_so) over " + whole(w)})
	}
	if r.of.Observed != nil {
		const back = "cast(coalesce(nr - max(case when %s then nr end) over %s, 0) as integer)"
		list = append(list, named{"back", fmt.Sprintf(back, begins, w)})
	}
	return list
}

// wholes are what holds for all of a member, and which of its versions each row is of.
func (r *Members) wholes(w string) []named {
	var list []named
	if r.of.Observed != nil {
		list = []named{{"ordinal", "sum(case when " + begins + " then 1 else 0 end) over " + w}, {"closes", "lead(1) over " + w + " is null"}}
	}
	for _, v := range r.columns {
		switch name := quote(placed + v.name); {
		case v.as == type0:
			list = append(list, named{holding + v.name, "first_value(" + name + ") over " + whole(w)})
		case v.as == type1 && r.of.Observed != nil:
			list = append(list, named{holding + v.name, "last_value(" + name + ") over " + whole(w)})
		}
	}
	return list
}

// ofVersion are the number of the row that a row's version begins with, and whether the row changes values of type 1 alone.
func (r *Members) ofVersion(w string, number []named) []named {
	if r.of.Observed == nil {
		return nil
	}
	var list []named
	first := func(name string) string { return fmt.Sprintf("lag(%s, back) over %s", name, w) }
	for _, x := range number {
		list = append(list, named{ofFirst + x.name, first(quote(x.name))})
	}
	unlike := []string{"false"}
	for _, name := range r.named("", type1) {
		unlike = append(unlike, first(name)+" is distinct from "+name)
	}
	return append(list, named{"changed", "(closes and not " + begins + " and (" + strings.Join(unlike, " or ") + "))"})
}

// The names of values that hold for a member as a whole begin with holding, those of the number of a version's first row with
// ofFirst.
const (
	holding = "w_"
	ofFirst = "v_"
)

// standing joins the rows with what is known, and says whether the member of a row stands, and whether what the row says is
// known of it ([history.Rules.Says]).
func (r *Members) standing() (stood, known, join string) {
	if r.of.Observed != nil {
		return r.observed()
	}
	at, sequence := r.timesOf("n.")
	equal := r.equal("t", type1)
	if at != "" {
		held := "t." + quote(schema.EffectiveFrom)
		again := fmt.Sprintf("%s = %s and %s", at, held, equal)
		if sequence != "" {
			again += fmt.Sprintf(" and t.%s is not distinct from %s", quote(schema.Sequence), sequence)
		}
		equal = fmt.Sprintf("(%s < %s or %s)", at, held, again)
	}
	equal += r.present("t")
	key := "t." + quote(r.of.KeyColumn())
	join = fmt.Sprintf(" LEFT JOIN %s AS t ON %s >= 0 and %s", r.Statements.Named(r.of.Table.Name), key, r.on("t"))
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

// present says of a member that it is not gone: one that is comes back with its row.
func (r *Members) present(of string) string {
	if !r.of.Marked() {
		return ""
	}
	return " and " + of + "." + quote(schema.IsGone) + " is distinct from true"
}

// observed is standing where all observations are kept: a row is known if one of its time is, with the values of its
// version; the last one has the values of type 1, and the first one those of type 0.
func (r *Members) observed() (stood, known, join string) {
	d := r.of
	table, key, since := r.Statements.Named(d.Table.Name), quote(d.KeyColumn()), quote(schema.EffectiveFrom)
	at, sequence := r.timesOf("n.")
	const every = "SELECT %[1]s, %[2]s%[3]s FROM (SELECT * FROM (SELECT %[4]s FROM %[5]s WHERE %[2]s IS NOT NULL) AS v " +
		"UNION ALL SELECT %[4]s FROM %[6]s) AS o GROUP BY %[1]s, %[2]s"
	greatest, known := "", "o."+since+" is not null and "+r.equal("o", type2)+r.present("m")
	values := []string{"o." + since}
	for _, v := range r.columns {
		values = append(values, "v."+quote(v.name))
	}
	if sequence != "" {
		name := quote(schema.Sequence)
		greatest, values = ", max("+name+") AS "+name, append(values, "o."+name)
		known += " and o." + name + " is not distinct from " + sequence
	}
	member := "(partition by " + strings.Join(values[1:1+len(d.NaturalKey)], ", ") + ")"
	for _, of := range []struct {
		as                 role
		name, function, is string
	}{{type1, "latest", "max", "<"}, {type0, "earliest", "min", ">"}} {
		if r.named("", of.as) != nil {
			values = append(values, fmt.Sprintf("%s(o.%s) over %s AS %s", of.function, since, member, of.name))
			known += fmt.Sprintf(" and (%s %s o.%s or %s)", at, of.is, of.name, r.equal("o", of.as))
		}
	}
	all := fmt.Sprintf(every, key, since, greatest, r.observation(), table, r.Statements.Named(d.Observed.Name))
	const joins = " LEFT JOIN %[1]s AS m ON m.%[2]s >= 0 and m.%[3]s and %[4]s " +
		"LEFT JOIN (SELECT %[5]s FROM %[1]s AS v JOIN (%[6]s) AS o ON o.%[2]s = v.%[2]s WHERE v.%[2]s >= 0) AS o ON %[7]s and o.%[8]s = %[9]s"
	join = fmt.Sprintf(joins, table, key, quote(schema.IsCurrent), r.on("m"), strings.Join(values, ", "), all, r.on("o"), since, at)
	return "(m." + key + " is not null)", "coalesce(" + known + ", false)", join
}

// unlike reports whether versions of a member have unlike values that all of them should have: an attribute was of type 2
// before. Then a row that says what its version says may change the others.
func (r *Members) unlike(ctx context.Context) (bool, error) {
	var names, differ []string
	for _, v := range r.columns {
		if name := quote(v.name); v.as == natural {
			names = append(names, name)
		} else if v.as != type2 {
			const unlike = "min(%[1]s) is distinct from max(%[1]s) or count(%[1]s) not in (0, count(*))"
			differ = append(differ, fmt.Sprintf(unlike, r.ordered(name, v.name)))
		}
	}
	if r.of.Observed == nil || differ == nil {
		return false, nil
	}
	const sql = "SELECT 1 FROM %s WHERE %s >= 0 GROUP BY %s HAVING count(*) > 1 and (%s)"
	return r.any(ctx, fmt.Sprintf(sql, r.Statements.Named(r.of.Table.Name), quote(r.of.KeyColumn()), strings.Join(names, ", "), strings.Join(differ, " or ")))
}

// ordered makes a value of a column of the table one of which there is a least and a greatest.
func (r *Members) ordered(sql, name string) string {
	if at := column.Find(r.of.Table.Fields(), name); r.of.Table.Columns[at].Type.Kind == column.Boolean {
		return "cast(" + sql + " as integer)"
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
