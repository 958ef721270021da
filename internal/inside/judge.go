package inside

import (
	"fmt"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/roster"
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

// standable leaves rows to others that cannot stand in a table: their grain is not whole, or too long.
func (r *Rows) standable(l *layers) {
	ok := []string{okColumn}
	for _, f := range r.GrainFields() {
		if f.Type.Kind == column.Text {
			ok = append(ok, fmt.Sprintf("coalesce(%s <= %d, true)", r.long(quote(said+f.Name)), roster.MostKey))
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

// selects are the columns of the last selects, from the inside out: of the one that judges, of the one that leaves out
// what is not needed any more, and of the one that numbers.
type selects struct{ inner, narrow, outer []string }

func (s *selects) keep(name string) { s.add("l."+name, name, name) }

// add adds a column by what it is in the first select and in the second; "" if it is in neither.
func (s *selects) add(inner, narrow, name string) {
	if inner != "" {
		s.inner = append(s.inner, inner)
	}
	s.narrow, s.outer = append(s.narrow, narrow), append(s.outer, name)
}

// verdicts makes the last selects: of each row what it is, what counts it, what stands in the table then, and what others
// need that it is left to.
func (r *Rows) verdicts(l *layers, doubted map[string]bool, stands bool) (sql string, vague bool) {
	var c selects
	c.keep(ruleColumn)
	if r.arrived != nil {
		c.keep(placeColumn)
	}
	for k := range r.keys {
		c.keep(fmt.Sprintf("missing%d", k))
	}
	take, opened := r.waiting(&c)
	for _, f := range r.fields {
		c.keep(quote(placed + f.name))
	}
	var unknown []string
	for _, f := range r.GrainFields() {
		c.keep(quote(said + f.Name))
		if doubted[f.Name] {
			unknown = append(unknown, "not l."+quote(sure+f.Name))
		}
	}
	if vague = unknown != nil; vague {
		c.add(strings.Join(unknown, " or ")+" AS "+vagueColumn, vagueColumn, vagueColumn)
	}
	for k := range r.from.Columns {
		c.inner = append(c.inner, fmt.Sprintf("l.c%d", k))
	}
	for _, x := range r.second(hard, waits) {
		c.add("", x.sql+" AS "+x.name, x.name)
	}
	var order []string
	for k := range r.from.Order {
		order = append(order, fmt.Sprintf("o%d", k))
		c.inner = append(c.inner, "l."+order[k])
	}
	join, isAgain := r.among("l.")
	from := fmt.Sprintf(" FROM (%s) AS l", l.sql) + join
	verdict := fmt.Sprintf("case when not l.%s or l.%s is null and (%t or %s) then %d when l.%[2]s is not null then %[6]d",
		okColumn, ruleColumn, r.all, isAgain, hard, leftOut)
	if stands {
		join, rest := r.standing(take, opened)
		from, verdict = from+join, verdict+rest
	} else {
		verdict += " else " + take
	}
	if r.repeated != "" {
		c.add(isAgain+" AS "+markedColumn, markedColumn, markedColumn)
	}
	also, number, window := r.number(order)
	if r.beside() {
		number = append(number, named{repeats, notFirst(number[len(number)-1].sql, window(len(r.of.Grain)))})
	}
	sql = fmt.Sprintf("SELECT %s, %s end AS verdict%s", strings.Join(c.inner, ", "), verdict, from)
	return fmt.Sprintf("SELECT %s, verdict, %s FROM (SELECT verdict, %s FROM (%s) AS v) AS n",
		aliased(number), strings.Join(c.outer, ", "), strings.Join(append(c.narrow, also...), ", "), r.once(sql, 0)), vague
}

// standing joins the rows that stand in the table, and says which verdicts follow of them; take is that of a row that
// is new. One that waits for members, and stands, is left to others: it has lost a member, perhaps.
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
	table = r.Statements.Named(r.of.Table.Name)
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
		joins = append(joins, fmt.Sprintf(" JOIN %s AS %s ON %[2]s.%[3]s = f.%[4]s", r.Statements.Named(d.Table.Name), as, quote(d.KeyColumn()), quote(name)))
	}
	if joins != nil {
		table = fmt.Sprintf("(SELECT f.*, %s FROM %s AS f%s)", strings.Join(names, ", "), table, strings.Join(joins, ""))
	}
	return table, on
}

// refuse says why a fact cannot be loaded inside the warehouse.
func refuse(format string, args ...any) error { return &expr.NoSQL{What: fmt.Sprintf(format, args...)} }
