package inside

import (
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// place adds the columns of the table, all but the line and the run. It refuses lags that there is no SQL for.
func (r *Rows) place(l *layers) error {
	var list []named
	r.fields = nil
	all := r.of.Table.Fields()
	for _, f := range all[:len(all)-2] {
		x := field{name: f.Name, compared: true, double: f.Type.Kind == column.Double}
		sql := quote(said + f.Name)
		if own, is, err := r.follows(f); err != nil {
			return err
		} else if is {
			sql, x.compared = r.Stored(own, f.Type), f.Name == schema.IsGone // what is there again is not gone
			if own.Clean != "" {
				l.require(own.Clean)
			}
		}
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
	l.add(list)
	return nil
}

// follows returns what stands in a column of a row that is new, if it is none that the row says: a lag, the mark of
// what is gone, or what tells entries apart.
func (r *Rows) follows(f column.Field) (x expr.SQL, is bool, err error) {
	switch {
	case r.of.Marked() && f.Name == schema.IsGone:
		return expr.SQL{Value: r.Literal("false", f.Type)}, true, nil
	case r.of.Reverses() && (f.Name == star.EntryNumber || f.Name == star.EntrySign):
		return expr.SQL{Value: r.Literal("1", f.Type)}, true, nil
	case r.of.Reverses() && f.Name == star.BookedOn && r.of.BookedOn == nil:
		day := column.Column{Type: f.Type}
		day.AppendInt(r.Day)
		return expr.SQL{Value: r.Literal(day.Value(0), f.Type)}, true, nil
	case r.of.Reverses() && f.Name == star.BookedOn:
		return expr.SQL{Value: quote(said + r.of.BookedOn.Name)}, true, nil
	case r.of.Completion != nil:
		for _, l := range r.of.Completion.Lags {
			if l.Text == f.Name {
				x, err = r.lag(l)
				return x, true, err
			}
		}
	}
	return x, false, nil
}

// lag works out a lag as an expression of a model would (rule R33): such an expression is as exact.
func (r *Rows) lag(l *star.Lag) (expr.SQL, error) {
	fields, ends := make([]column.Field, 2), make([]expr.SQL, 2)
	for k, name := range []string{l.From, l.To} {
		fields[k] = column.Field{Name: string("ab"[k]), Type: r.typeOf(name)}
		ends[k].Value = r.Operand(quote(said+name), fields[k].Type)
	}
	if l.In == star.WorkingDays {
		return r.workdays(l, fields, ends)
	}
	p, err := expr.Compile(map[star.Unit]string{
		star.Days:    "cast(b as date) - cast(a as date)",
		star.Hours:   "cast((b - a) / 3600 as decimal(18,6))",
		star.Minutes: "cast((b - a) / 60 as decimal(18,6))",
	}[l.In], fields)
	if err != nil {
		return expr.SQL{}, err
	}
	return p.SQL(r.engine, ends)
}

// workdays works out a lag in working days, by their numbers. It is null if an end is outside the calendar.
func (r *Rows) workdays(l *star.Lag, fields []column.Field, ends []expr.SQL) (x expr.SQL, err error) {
	first, days := r.Workdays(l)
	if int64(len(days)) > r.mostBelow() {
		return x, refuse("working days of a calendar of %d days", len(days))
	}
	day := column.Column{Type: column.Type{Kind: column.Date}}
	day.AppendInt(first)
	var numbers []string
	for k, f := range fields {
		between := []column.Field{{Name: "a", Type: f.Type}, {Name: "c", Type: day.Type}}
		p, err := expr.Compile("cast(a as date) - c + 1", between)
		if err != nil {
			return x, err
		}
		at, err := p.SQL(r.engine, []expr.SQL{ends[k], {Value: r.Literal(day.Value(0), day.Type)}})
		if err != nil {
			return x, err
		}
		if at.Clean != "" {
			x.Clean = strings.TrimPrefix(x.Clean+" and "+at.Clean, " and ")
		}
		const number = "(case when %s between 1 and %d then %s end)"
		numbers = append(numbers, fmt.Sprintf(number, at.Value, len(days), r.nth(at.Value, days)))
	}
	x.Value = "(" + numbers[1] + " - " + numbers[0] + ")"
	return x, nil
}

// typeOf is the type of a column of the shaped rows.
func (r *Rows) typeOf(name string) column.Type {
	fields := r.source.Shaped()
	return fields[column.Find(fields, name)].Type
}

// standable leaves rows to others that cannot stand in a table: their grain is not whole, or too long, it is not known
// which is newer or when it is booked, or their milestones are not in their order.
func (r *Rows) standable(l *layers) {
	for _, f := range r.GrainFields() {
		if f.Type.Kind == column.Text {
			l.require(fmt.Sprintf("coalesce(%s <= %d, true)", r.long(quote(said+f.Name)), roster.MostKey))
		}
	}
	whole := slices.Clone(r.of.GrainColumns())
	if newer := r.of.NewerBy; newer != nil {
		whole = append(whole, newer.Name)
	}
	if r.of.Reverses() {
		whole = append(whole, star.BookedOn)
	}
	for _, name := range whole {
		there := quote(placed+name) + " is not null"
		n := slices.IndexFunc(r.keys, func(k *star.Key) bool { return k.Column() == name })
		if n >= 0 && r.open[r.keys[n]] {
			there = "(" + there + " or " + openColumn(n) + ")" // it is made by a row of its own
		}
		l.require(there)
	}
	if c := r.of.Completion; c != nil {
		for k, after := range c.InOrder {
			for _, before := range c.InOrder[:k] {
				l.require(r.inOrder(before, after))
			}
		}
	}
}

// inOrder says that a milestone is not before another one, unless one is not reached. A day is not before a time on it.
func (r *Rows) inOrder(before, after string) string {
	a, b := quote(placed+before), quote(placed+after)
	if r.typeOf(before) != r.typeOf(after) {
		a, b = "cast("+a+" as date)", "cast("+b+" as date)"
	}
	return fmt.Sprintf("coalesce(%s >= %s, true)", b, a)
}
