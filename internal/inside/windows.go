package inside

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/star"
)

// A row whose columns depend on other rows is plain only if all rows are that it is seen with: others may set one of
// them aside, and none of the others sees that one then. A row that is left to others is read with all those that it
// is seen with, of which others do not take those that are not left to them.

// windows lists the columns that are needed and depend on other rows.
func (l Level) windows() (list []star.Window) {
	for _, w := range l.Source.Windows {
		if l.Need(w.Text) {
			list = append(list, w)
		}
	}
	return list
}

// seenBy lists the columns in which rows are equal that some windows see together: none if they see all rows, or
// different ones.
func seenBy(windows []star.Window) []string {
	sorted := func(w star.Window) []string { return slices.Compact(slices.Sorted(slices.Values(w.By))) }
	by := sorted(windows[0])
	for _, w := range windows {
		if !slices.Equal(by, sorted(w)) {
			return nil
		}
	}
	return by
}

// sureOf lists the columns that say whether the values of some are known, where they may not be.
func sureOf(fields []column.Field, doubted map[string]bool) (list []string) {
	for _, f := range fields {
		if doubted[f.Name] {
			list = append(list, sure+f.Name)
		}
	}
	return list
}

// saidNames lists what the columns of the source are called.
func saidNames(fields []column.Field) (list []string) {
	for _, f := range fields {
		list = append(list, said+f.Name)
	}
	return list
}

// see makes layers of the rows with the columns that depend on others.
func (r *shaper) see(l *rows) error {
	m := r.merging
	ok, from := "n."+okColumn, r.gathered()
	if common := r.common(); m.faults && common != nil {
		ok = "b.bad is null"
		const faults = " LEFT JOIN (SELECT DISTINCT 1 AS bad, %s FROM %s WHERE %s IS NULL AND NOT %s) AS b ON %s"
		by := strings.Join(saidOf(common), ", ")
		from += fmt.Sprintf(faults, by, r.gathered(), ruleColumn, okColumn, r.together("b", "n"))
	}
	own := []named{{"o0", "n.line"}, {parts, "1"}, {ruleColumn, "n." + ruleColumn}, {okColumn, ok}}
	own = append(own, r.placed("n.line")...)
	for _, name := range slices.Concat(r.empties(m.at+1), saidNames(l.fields), sureOf(l.fields, l.doubted)) {
		own = append(own, named{name, "n." + quote(name)})
	}
	l.sql = fmt.Sprintf("SELECT %s FROM %s WHERE n.%s IS NULL", aliased(own), from, ruleColumn)
	l.columns, l.open = names(own), map[string]bool{}
	if m.all || m.faults && r.common() == nil {
		l.require("false")
	}
	for _, w := range m.windows {
		if err := r.addWindow(l, &w); err != nil {
			return fmt.Errorf("column %s: %w", w.Text, err)
		}
	}
	if m.tells { // an unknown one has no grain of rows that are seen elsewhere
		return nil
	}
	var more []named
	for _, w := range m.windows {
		more, l.doubted[w.Text] = append(more, named{sure + w.Text, okColumn}), true
	}
	l.add(more)
	return nil
}

// addWindow adds a column that depends on other rows.
func (r *shaper) addWindow(l *rows, w *star.Window) error {
	sql, fits, err := r.window(w, l.fields)
	if err != nil {
		return err
	}
	x := expr.SQL{Value: sql}
	if fits != nil {
		l.add([]named{{asRead + w.Text, sql}})
		x = fits(quote(asRead + w.Text))
	}
	l.add([]named{{said + w.Text, r.Stored(x, w.Type)}})
	if x.Clean != "" {
		l.require(x.Clean)
	}
	l.fields = append(l.fields, column.Field{Name: w.Text, Type: w.Type})
	return nil
}

// window is the value of a column that depends on other rows, and what makes one of it that fits the type of the
// column; nil if it does.
func (r *shaper) window(w *star.Window, fields []column.Field) (sql string, fits func(value string) expr.SQL, err error) {
	var over, order []string
	if len(w.By) > 0 {
		over = append(over, "partition by "+strings.Join(saidOf(w.By), ", "))
	}
	for _, o := range w.Order {
		if t := fields[column.Find(fields, o.Column)].Type; t.Kind == column.Double {
			return "", nil, refuse("rows in the order of doubles")
		}
		direction := " asc nulls last"
		if o.Descending {
			direction = " desc nulls first"
		}
		order = append(order, quote(said+o.Column)+direction)
	}
	within := func(order []string) string {
		if order == nil {
			return " over (" + strings.Join(over, "") + ")"
		}
		return " over (" + strings.Join(append(over, "order by "+strings.Join(order, ", ")), " ") + ")"
	}
	value, t := "*", column.Type{}
	if w.Column != "" {
		value, t = quote(said+w.Column), fields[column.Find(fields, w.Column)].Type
	}
	switch w.Function {
	case "row_number":
		return "row_number()" + within(append(order, "o0")), nil, nil
	case "lag", "lead": // of equal ones, in the order of the rows
		return w.Function + "(" + value + ")" + within(append(order, "o0")), nil, nil
	case "count":
		return "count(" + value + ")" + within(order), nil, nil
	}
	switch {
	case t.Kind == column.Double:
		return "", nil, refuse("%s of a double", w.Function)
	case w.Function == "sum":
		sums := column.Type{Kind: column.Decimal, Precision: mostDecimal, Scale: t.Scale}
		fits = func(value string) expr.SQL { return r.Fitting(expr.SQL{Value: value}, sums, w.Type) }
		return r.sum(value, t, within(order)), fits, nil
	case w.Function == "min" || w.Function == "max":
		function := w.Function
		if t.Kind == column.Boolean {
			function = map[string]string{"min": "bool_and", "max": "bool_or"}[function]
		}
		return function + "(" + value + ")" + within(order), nil, nil
	}
	return "", nil, refuse("the window function %s", w.Function)
}

// Beside reports whether [judging.Left] hands on rows, too, that are not left to others, and what becomes of these.
func (r *judging) Beside(ctx context.Context) (of Shaped, some bool, err error) {
	of = r.shaped()
	if r.merging == nil || r.merging.windows == nil {
		return of, false, nil
	}
	if err := r.whole(ctx); err != nil {
		return of, true, err
	}
	const counts = "SELECT %s FROM (SELECT * FROM %s WHERE %s <> %d) AS n JOIN (%s) AS b ON b.line = n.line GROUP BY 1"
	columns := strings.Join(append([]string{ruleColumn, "count(*)"}, r.emptied(len(r.levels))...), ", ")
	sql := fmt.Sprintf(counts, columns, r.numbered(r.table), r.become(), hard, r.leftParts("n.line", r.gathered()))
	err = r.Statements.Ask(ctx, sql, func(values [][]byte) error {
		if of.empty(values[2:]); values[0] == nil {
			of.Passed = count(values[1])
		} else {
			of.LeftOut[count(values[0])] = count(values[1])
		}
		return nil
	})
	if err == nil {
		err = r.planned(ctx)
	}
	return of, true, err
}
