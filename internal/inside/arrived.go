package inside

import (
	"context"
	"fmt"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// Arrived is a table of rows that the program has read and shaped, since they stood in files: nothing about their
// values is in doubt. Rows that are set aside before their keys are looked up are not among them.
type Arrived struct {
	Table  string         // its name in SQL
	Fields []column.Field // of the rows, behind the columns of [ArrivedTypes]

	// Of a union whose rows become one behind it, or depend on each other, else nil:
	levels []Level                  // the source that says so, whose rows these are before, and those made of it
	place  func(line string) string // where the row with a number stood
	faults bool                     // some rows are not plain
}

// Above are the sources that are made of rows that have arrived, and that the warehouse has still to shape.
func (a *Arrived) Above() []Level {
	if a.levels == nil {
		return nil
	}
	return a.levels[1:]
}

// ArrivedTypes are the types of the first columns of the table: the number of a row among all, its file and line as the
// star has them, and whether it is left to others whatever it says.
func ArrivedTypes() []column.Type {
	integer := column.Type{Kind: column.Integer}
	return []column.Type{integer, integer, {Kind: column.Boolean}}
}

// NewArrived prepares the loading of a fact, as [New] does, from rows that have arrived in a table.
func NewArrived(f *schema.Fact, s *schema.Star, m *star.Model, of *Arrived, step Step) *Rows {
	r := newRows(f, s, m, numberedRows(), of.levelsTo(f.Source), step)
	r.arrive(of, GrainColumns(f))
	return r
}

// NewArrivedMembers is [NewArrived] for a dimension, as [NewMembers] is [New].
func NewArrivedMembers(d *schema.Dimension, s *schema.Star, m *star.Model, of *Arrived, step Step, stands bool) *Members {
	r := newMembers(d, s, m, numberedRows(), of.levelsTo(d.Source), step, stands)
	r.arrive(of, d.Delivered)
	return r
}

// levelsTo are the levels of rows that have arrived, up to their source.
func (a *Arrived) levelsTo(s *star.Source) []Level {
	if a.levels == nil {
		return []Level{{Source: s}}
	}
	return a.levels
}

// arrive has the rows be those that have arrived. Some columns tell them apart.
func (r *judging) arrive(of *Arrived, apart []string) {
	r.engine, r.arrived = numberedEngine{r.engine, r.Statements}, of
	if r.part = -1; of.levels != nil {
		r.merges(apart)
	}
}

// placeColumn is the file and line of a row that has arrived.
const placeColumn = "at"

// arrivals makes the layers of rows that have arrived.
func (r *shaper) arrivals() *layers {
	parts := []string{"c0 AS o0", "c1 AS " + placeColumn}
	l := &layers{engine: r.engine, columns: []string{"o0", placeColumn}, open: map[string]bool{}}
	for k, f := range r.arrived.Fields {
		value := expr.SQL{Value: fmt.Sprintf("c%d", k+len(ArrivedTypes()))}
		parts = append(parts, r.Stored(value, f.Type)+" AS "+quote(said+f.Name))
		l.columns = append(l.columns, said+f.Name)
	}
	parts = append(parts, "not c2 AS "+okColumn, "cast(null as integer) AS "+ruleColumn)
	l.columns = append(l.columns, okColumn, ruleColumn)
	l.sql = fmt.Sprintf("SELECT %s FROM %s AS a", strings.Join(parts, ", "), r.arrived.Table)
	return l
}

// LeaveAll has all rows be left to others.
func (r *Rows) LeaveAll() { r.all = true }

// Numbers hands the numbers of the rows that are left to others to row, in any order.
func (r *judging) Numbers(ctx context.Context, row func(number int64)) error {
	return r.Statements.Ask(ctx, r.hardLines(), func(values [][]byte) error {
		row(count(values[0]))
		return nil
	})
}

// hardLines selects the numbers of the rows that are left to others.
func (r *judging) hardLines() string {
	return fmt.Sprintf("SELECT line FROM %s WHERE %s = %d", r.numbered(r.table), r.become(), hard)
}
