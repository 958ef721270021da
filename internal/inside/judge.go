package inside

import (
	"fmt"
	"strconv"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/schema"
)

// field is a column of the fact's table, but for the line and the run.
type field struct {
	name     string
	compared bool // a row that comes again has to say the same
	key      bool // it has surrogate keys,
	link     int  // of the key with that number,
	durable  bool // or durable ones
	double   bool
}

// judge returns the select that judges all rows, and says whether rows may have a grain that is not known.
func (r *Rows) judge(stands bool) (sql string, vague bool, err error) {
	l, doubted, err := r.shape()
	if err != nil {
		return "", false, err
	}
	for k, key := range r.keys {
		if err := r.join(l, k, key); err != nil {
			return "", false, fmt.Errorf("key %s: %w", key.Text, err)
		}
	}
	l.add(r.place())
	r.standable(l)
	sql, vague = r.verdicts(l, doubted, stands)
	return sql, vague, nil
}

// several is the select of the grains that several shaped rows have.
func (r *Rows) several(of string) string {
	grain := r.grains("")
	named := make([]string, len(grain))
	for k, value := range grain {
		named[k] = fmt.Sprintf("%s AS g%d", value, k)
	}
	meant := ""
	if r.source.LeaveOut != nil {
		meant = " WHERE " + ruleColumn + " IS NULL"
	}
	return fmt.Sprintf("SELECT %s FROM (%s) AS l%s GROUP BY %s HAVING count(*) > 1",
		strings.Join(named, ", "), of, meant, strings.Join(grain, ", "))
}

// grain returns what tells grains apart, of columns whose names have of before them.
func (r *Rows) grains(of string) []string {
	var list []string
	for _, g := range r.of.Grain {
		if g.Key == nil {
			list = append(list, of+quote(said+g.Column))
		} else {
			list = append(list, r.by(of, g.Key)...)
		}
	}
	return list
}

// place arranges the columns of the table.
func (r *Rows) place() []named {
	var list []named
	r.fields = nil
	all := r.of.Table.Fields()
	for _, f := range all[:len(all)-2] {
		x := field{name: f.Name, compared: true, double: f.Type.Kind == column.Double}
		sql := quote(said + f.Name)
		for n, k := range r.keys {
			switch {
			case k.Column() == f.Name:
				sql, x.compared, x.key, x.link = fmt.Sprintf("key%d", n), k.Again, true, n
			case k.Both && k.DurableColumn() == f.Name:
				sql, x.compared, x.key, x.link, x.durable = fmt.Sprintf("durable%d", n), k.Again, true, n, true
			}
		}
		r.fields = append(r.fields, x)
		list = append(list, named{placed + f.Name, sql})
	}
	return list
}

// mostText is how many bytes a text of a grain may have, as [roster.TooLong] has it.
const mostText = 2000

// standable leaves rows to others that cannot stand in a table: their grain is not whole, or too long.
func (r *Rows) standable(l *layers) {
	ok := []string{okColumn}
	for _, f := range r.GrainFields() {
		if f.Type.Kind == column.Text {
			ok = append(ok, fmt.Sprintf("coalesce(%s <= %d, true)", r.long(quote(said+f.Name)), mostText))
		}
	}
	for _, name := range r.of.GrainColumns() {
		ok = append(ok, quote(placed+name)+" is not null")
	}
	if newer := r.of.NewerBy; newer != nil {
		ok = append(ok, quote(placed+newer.Name)+" is not null")
	}
	l.add(nil, named{okColumn, "(" + strings.Join(ok, " and ") + ")"})
}

// verdicts makes the last selects: of each row what it is, what counts it, what stands in the table then, and what others
// need that it is left to.
func (r *Rows) verdicts(l *layers, doubted map[string]bool, stands bool) (sql string, vague bool) {
	var inner, narrow, outer, order, alike, unknown []string // selects, from the inside out: judge, leave out, number
	keep := func(name string) {
		inner, narrow, outer = append(inner, "l."+name), append(narrow, name), append(outer, name)
	}
	keep(ruleColumn)
	if r.arrived != nil {
		keep(placeColumn)
	}
	for k := range r.keys {
		keep(fmt.Sprintf("missing%d", k))
	}
	take, opened := strconv.Itoa(int(plain)), "false"
	if opens := r.opens(); opens != nil {
		var any []string
		for _, n := range opens {
			keep(openColumn(n))
			any = append(any, "l."+openColumn(n))
			for i, value := range r.by("l.", r.keys[n]) {
				name := openBy(n, i)
				inner, outer = append(inner, value+" AS "+name), append(outer, name)
				narrow = append(narrow, fmt.Sprintf("case when verdict = %d then %s end AS %[2]s", waits, name))
			}
		}
		opened = "(" + strings.Join(any, " or ") + ")"
		take = fmt.Sprintf("(case when %s then %d else %d end)", opened, waits, plain)
	}
	for _, f := range r.fields {
		keep(quote(placed + f.name))
	}
	for _, f := range r.GrainFields() {
		name := quote(said + f.Name)
		keep(name)
		if doubted[f.Name] {
			unknown = append(unknown, "not l."+quote(sure+f.Name))
		}
	}
	if vague = unknown != nil; vague {
		inner = append(inner, strings.Join(unknown, " or ")+" AS "+vagueColumn)
		narrow, outer = append(narrow, vagueColumn), append(outer, vagueColumn)
	}
	for k := range r.from.Columns {
		inner = append(inner, fmt.Sprintf("l.c%d", k))
	}
	for _, x := range r.second(hard, waits) {
		narrow, outer = append(narrow, x.sql+" AS "+x.name), append(outer, x.name)
	}
	for k := range r.from.Order {
		order = append(order, fmt.Sprintf("o%d", k))
		inner = append(inner, "l."+order[k])
	}
	from, isAgain := fmt.Sprintf(" FROM (%s) AS l", l.sql), "false"
	if r.repeated != "" {
		for k, value := range r.grains("l.") {
			alike = append(alike, fmt.Sprintf("u.g%d = %s", k, value))
		}
		from, isAgain = from+fmt.Sprintf(" LEFT JOIN %s AS u ON %s", r.repeated, strings.Join(alike, " and ")), "u.g0 is not null"
	}
	verdict := fmt.Sprintf("case when not l.%s or l.%s is null and (%t or %s) then %d when l.%[2]s is not null then %[6]d",
		okColumn, ruleColumn, r.all, isAgain, hard, leftOut)
	if stands {
		join, rest := r.standing(take, opened)
		from, verdict = from+join, verdict+rest
	} else {
		verdict += " else " + take
	}
	also, number := r.number(order)
	sql = fmt.Sprintf("SELECT %s, %s end AS verdict%s", strings.Join(inner, ", "), verdict, from)
	return fmt.Sprintf("SELECT %s, verdict, %s FROM (SELECT verdict, %s FROM (%s) AS v) AS n",
		aliased(number), strings.Join(outer, ", "), strings.Join(append(narrow, also...), ", "), r.once(sql, 0)), vague
}

// standing joins the rows that stand in the table, and says which verdicts follow of them; take is that of a row that is new.
// One that waits for members, and stands, is left to others: it has lost a member, perhaps.
func (r *Rows) standing(take, opened string) (join, verdict string) {
	var equal []string
	table, on := r.grained()
	for _, f := range r.fields {
		if !f.compared {
			continue
		}
		equal = append(equal, fmt.Sprintf("t.%s is not distinct from l.%s", quote(f.name), quote(placed+f.name)))
		if f.key { // which special member is meant, and why, is not told by the key
			equal = append(equal, "coalesce(l."+quote(placed+f.name)+" >= 0, false)")
		}
		if f.double {
			equal = append(equal, "false")
		}
	}
	join = fmt.Sprintf(" LEFT JOIN %s AS t ON %s", table, strings.Join(on, " and "))
	return join, fmt.Sprintf(" when t.%s is null then %s when not %s and %s then %d else %d",
		quote(schema.LoadRun), take, opened, strings.Join(equal, " and "), same, hard)
}

// aliased lists columns of a select with their names.
func aliased(list []named) string {
	parts := make([]string, len(list))
	for k, x := range list {
		parts[k] = x.sql + " AS " + quote(x.name)
	}
	return strings.Join(parts, ", ")
}

// grained is the fact's table, and what says that a row of it has the grain of a judged one. A version in the grain means its
// member: the table is joined with the dimension then, for the natural keys.
func (r *Rows) grained() (table string, on []string) {
	table = r.run.Named(r.of.Table.Name)
	var joins, names []string
	for n, name := range r.of.GrainColumns() {
		k := r.of.Grain[n].Key
		if k == nil || !k.Dimension.Versioned() {
			on = append(on, fmt.Sprintf("t.%s = l.%s", quote(name), quote(placed+name)))
			continue
		}
		d, as := r.star.Dimension(k.Dimension), fmt.Sprintf("d%d", n)
		for i, value := range r.by("l.", k) {
			of := fmt.Sprintf("%s_%d", as, i)
			names, on = append(names, fmt.Sprintf("%s.%s AS %s", as, quote(d.NaturalKey[i].Name), of)), append(on, "t."+of+" = "+value)
		}
		joins = append(joins, fmt.Sprintf(" JOIN %s AS %s ON %[2]s.%[3]s = f.%[4]s", r.run.Named(d.Table.Name), as, quote(d.KeyColumn()), quote(name)))
	}
	if joins != nil {
		table = fmt.Sprintf("(SELECT f.*, %s FROM %s AS f%s)", strings.Join(names, ", "), table, strings.Join(joins, ""))
	}
	return table, on
}

// refuse says why a fact cannot be loaded inside the warehouse.
func refuse(format string, args ...any) error { return &expr.NoSQL{What: fmt.Sprintf(format, args...)} }
