package inside

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/database"
	"ironmonger/internal/star"
)

// Rows of one grain are left to others, which know what becomes of each. Where rows are numbered by their grain, they
// stand one after the other: that is seen when they are judged, and they are judged once more if there are such. Else
// the grains are looked for before, and again in what was judged, since a table may have got rows between two
// statements.

// several is the select of the grains that several shaped rows have.
func (r *Rows) several(of string) string {
	grain := r.grains("")
	named, meant := make([]string, len(grain)), make([]string, len(grain))
	for k, value := range grain { // one that is not whole is left to others anyway
		named[k], meant[k] = fmt.Sprintf("%s AS g%d", value, k), value+" IS NOT NULL"
	}
	if r.rules() > 0 {
		meant = append(meant, ruleColumn+" IS NULL")
	}
	return fmt.Sprintf("SELECT %s FROM (%s) AS l WHERE %s GROUP BY %s HAVING count(*) > 1",
		strings.Join(named, ", "), of, strings.Join(meant, " and "), strings.Join(grain, ", "))
}

// grains returns what tells grains apart, of columns whose names have of before them.
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

// lookAhead finds the grains that several rows have before the rows are judged, where that is worth it.
func (r *Rows) lookAhead(ctx context.Context) error {
	if r.beside() || r.apart() {
		return nil
	}
	l, _, err := r.shape()
	if err != nil {
		return err
	}
	sql := r.several(l.text())
	if is, err := r.unlike(ctx, sql); err != nil || !is {
		return err
	}
	return r.mark(ctx, sql)
}

// apart reports whether the rows of one grain have become one already, by some of the columns that tell it.
func (r *Rows) apart() bool {
	return r.merging != nil && r.merging.windows == nil && r.merging.tells
}

// mark makes a table of the grains that a select has: their rows are left to others then.
func (r *Rows) mark(ctx context.Context, sql string) error {
	if err := r.remove(ctx, &r.repeated); err != nil {
		return err
	}
	r.repeated = r.own("load_repeated")
	return r.create(ctx, r.repeated, sql)
}

// markedColumn is the column that says that a row has one of the grains that were marked before it was judged.
const markedColumn = "marked"

// lookBack reports whether judged rows share a grain that was not marked, and marks all that rows share then. repeats says
// whether any is not the first of its grain, where they are beside each other.
func (r *Rows) lookBack(ctx context.Context, repeats bool) (found bool, err error) {
	if r.arrived != nil || r.merging != nil { // nobody else writes there
		return false, nil
	}
	all := "SELECT * FROM " + r.table
	unmarked := all + " WHERE true"
	if r.repeated != "" {
		unmarked = all + " WHERE not " + markedColumn
	}
	if r.beside() && !repeats { // of two that are beside each other, one may be left out
		return false, nil
	}
	if found, err = r.unlike(ctx, r.several(unmarked)); err != nil || !found {
		return false, err
	}
	return true, r.mark(ctx, r.several(all))
}

// among joins the grains that are marked, and says that a row has one of them.
func (r *Rows) among(of string) (join, is string) {
	if r.repeated == "" {
		return "", "false"
	}
	var alike []string
	for k, value := range r.grains(of) {
		alike = append(alike, fmt.Sprintf("u.g%d = %s", k, value))
	}
	return fmt.Sprintf(" LEFT JOIN %s AS u ON %s", r.repeated, strings.Join(alike, " and ")), "u.g0 is not null"
}

// repeats is the column that says that a row is not the first of its grain.
const repeats = "repeats"

// beside reports whether rows of one grain are numbered one after the other: what orders the rows begins with the
// columns of the grain, as the table has them.
func (r *Rows) beside() bool {
	grain := r.GrainFields()
	if len(r.levels) > 1 || r.merging != nil || len(r.from.Order) < len(grain) {
		return false
	}
	for _, g := range grain {
		is := func(c database.Column) bool { return r.as(c) == g.Name }
		first := slices.ContainsFunc(r.from.Order[:len(grain)], is)
		filled := slices.ContainsFunc(r.source.Fill, func(f star.Fill) bool { return f.Text == g.Name })
		if !first || filled {
			return false
		}
	}
	return true
}

// as returns the column of the source that a column of the table is read as, if no two of its values become one; else
// "".
func (r *Rows) as(c database.Column) string {
	for k, of := range r.from.Columns {
		at := column.Find(r.source.Taken(), r.from.Read[k])
		if of.Name != c.Name || at < 0 {
			continue
		}
		switch to := r.source.Taken()[at].Type.Kind; {
		case to != c.Type.Kind, to == column.Text && !r.isText(c):
		case to == column.Text || to == column.Integer || to == column.Date:
			return r.from.Read[k]
		}
	}
	return ""
}

// notFirst says that a row is not the first of its grain: the row before it, in the window that numbers rows, has the same
// values in the columns of the grain. If these are empty, it may say so of the first row, too.
func notFirst(grain []string, window string) string {
	var alike []string
	for _, name := range grain {
		alike = append(alike, fmt.Sprintf("lag(%s) over %s is not distinct from %[1]s", name, window))
	}
	return strings.Join(alike, " and ")
}
