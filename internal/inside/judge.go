package inside

import (
	"fmt"
	"strings"

	"ironmonger/internal/expr"
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
	if err := r.keyed(l); err != nil {
		return "", false, err
	}
	if err := r.place(l); err != nil {
		return "", false, err
	}
	r.standable(l)
	sql, vague = r.verdicts(l, doubted, stands)
	return sql, vague, nil
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
	if r.merging != nil {
		c.keep(parts)
	}
	for _, name := range r.empties(len(r.levels)) {
		c.keep(name)
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
	for _, x := range r.second(r.from, hard, waits) {
		c.add("", x.sql+" AS "+x.name, x.name)
	}
	var order []string
	for k := range r.from.Order {
		order = append(order, fmt.Sprintf("o%d", k))
		c.inner = append(c.inner, "l."+order[k])
	}
	join, isAgain := r.among("l.")
	joinRemoved, isBack := r.removed()
	from := fmt.Sprintf(" FROM (%s) AS l", l.text()) + join + joinRemoved
	verdict := fmt.Sprintf("case when not l.%s or l.%s is null and (%t or %s or %s) then %d when l.%[2]s is not null then %[7]d",
		okColumn, ruleColumn, r.all, isAgain, isBack, hard, leftOut)
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
		number = append(number, named{repeats, notFirst(order[:len(r.GrainFields())], window)})
	}
	sql = fmt.Sprintf("SELECT %s, %s end AS verdict%s", strings.Join(c.inner, ", "), verdict, from)
	return fmt.Sprintf("SELECT %s, verdict, %s FROM (SELECT verdict, %s FROM (%s) AS v) AS n",
		aliased(number), strings.Join(c.outer, ", "), strings.Join(append(c.narrow, also...), ", "), r.once(sql, 0)), vague
}

// aliased lists columns of a select with their names.
func aliased(list []named) string {
	parts := make([]string, len(list))
	for k, x := range list {
		parts[k] = x.sql + " AS " + quote(x.name)
	}
	return strings.Join(parts, ", ")
}

// refuse says why a fact cannot be loaded inside the warehouse.
func refuse(format string, args ...any) error { return &expr.NoSQL{What: fmt.Sprintf(format, args...)} }
