package inside

import (
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/star"
)

// Check returns why a fact of a model cannot be loaded inside its warehouse, as far as the model tells; nil if it can.
func Check(m *star.Model, f *star.Fact) error {
	switch {
	case !runs(m):
		return refuse("a star in SQLite")
	case f.Deliveries != nil && f.Deliveries.Files:
		return refuse("delivers: files")
	case f.Deliveries != nil && f.Deliveries.On != nil:
		return refuse("delivered_on")
	}
	if !f.Source.OnlyFiles() {
		if err := checkSource(m, f.Source, ""); err != nil {
			return err
		}
	}
	for _, k := range f.Keys {
		inGrain := slices.ContainsFunc(f.Grain, func(g star.GrainPart) bool { return g.Key == k })
		if err := checkKey(f.Source, k, inGrain); err != nil {
			return fmt.Errorf("key %s: %w", k.Text, err)
		}
	}
	return nil
}

// CheckMembers is [Check] for a dimension.
func CheckMembers(m *star.Model, d *star.Dimension) error {
	switch {
	case d.Source == nil || d.Generated():
		return refuse("members that are not from a source")
	case d.Deliveries != nil && d.Deliveries.On != nil:
		return refuse("delivered_on")
	case d.Aliases != nil:
		return refuse("aliases")
	case len(d.Type3) > 0 && d.Observed():
		return refuse("type_3 with an effective time")
	case d.Complete():
		return refuse("type_0 with an effective time, where no attribute makes versions")
	}
	if !d.Source.OnlyFiles() {
		if err := checkSource(m, d.Source, ""); err != nil {
			return err
		}
	}
	for _, k := range d.Keys {
		if k.Dimension == d {
			return refuse("a key of the dimension itself")
		}
		if err := checkKey(d.Source, k, false); err != nil {
			return fmt.Errorf("key %s: %w", k.Text, err)
		}
	}
	return nil
}

// runs reports whether the warehouse of a model loads facts at all.
func runs(m *star.Model) bool {
	return m.Warehouse.Kind == star.Postgres || m.Warehouse.Kind == star.Trino
}

// Reads returns the source that reads the rows of which those of a source are made, or the union that has them.
func Reads(s *star.Source) *star.Source {
	for s.From != nil {
		s = s.From
	}
	return s
}

// Stands reports whether the rows of a source are those of a table or query of the database in which the star is.
func Stands(m *star.Model, s *star.Source) bool {
	s = Reads(s)
	if s.Union != nil {
		return !slices.ContainsFunc(s.Union, func(o *star.Source) bool { return !Stands(m, o) })
	}
	d := s.Database
	if d == nil || d.Kind != m.Warehouse.Kind {
		return false
	}
	return d.Kind == star.Postgres && d.Connection == m.Warehouse.Connection || d.Kind == star.Trino && d.Connection == m.Warehouse.Server
}

// merges reports whether rows of a source become one, or depend on each other.
func merges(s *star.Source) bool { return s.Distinct != nil || s.Group != nil || len(s.Windows) > 0 }

// checkSource is [Check] for a source. Its rows must not become one, nor depend on each other, where something is
// said of that.
func checkSource(m *star.Model, s *star.Source, where string) error {
	switch {
	case !Stands(m, s) && s.OnlyFiles():
		return refuse("rows of files")
	case !Stands(m, s):
		return refuse("a source that is not a table or query of the database in which the star is, by the same connection string, nor files")
	case merges(s) && where != "":
		return refuse("rows that become one, or depend on each other, %s", where)
	case s.DrivenBy != nil:
		return refuse("reads that a list drives")
	case s.Unpivot != nil || s.Split != nil:
		return refuse("columns or lists that become rows")
	case slices.ContainsFunc(s.Windows, star.Window.Weighs):
		return refuse("weights")
	case len(s.Windows) > 0 && (s.Distinct != nil || s.Group != nil):
		return refuse("columns that depend on other rows, where rows become one behind them")
	case s.Distinct != nil && s.Group != nil:
		return refuse("distinct and group in one source")
	case s.Periods != nil || s.Spans != nil:
		return refuse("periods and spans")
	case len(s.Aliased) > 0:
		return refuse("natural keys that may be aliases")
	case len(s.OfFile) > 0:
		return refuse("columns that files tell")
	}
	for _, c := range s.Columns {
		if c.Optional || len(c.Others) > 0 || c.Unfit != (star.Unfit{}) || c.Layouts != nil || c.Zone != nil || c.WrittenIn != nil {
			return refuse("column %s, of which more is said than its type", c.Text)
		}
	}
	for _, j := range s.Joins {
		if err := checkJoin(m, j); err != nil {
			return fmt.Errorf("join %s: %w", j.Text, err)
		}
	}
	switch {
	case s.Union != nil:
		where = "before they are united"
	case merges(s):
		where = "before they do once more"
	}
	for _, o := range s.Made() {
		if err := checkSource(m, o, where); err != nil {
			return fmt.Errorf("source %s: %w", o.Text, err)
		}
	}
	if err := checkUnion(s); err != nil {
		return err
	}
	if err := checkAggregates(m, s); err != nil {
		return err
	}
	if err := checkWindows(m, s); err != nil {
		return err
	}
	return checkExpressions(m, s)
}

// checkUnion is [Check] for what the sources of a union may not have.
func checkUnion(s *star.Source) error {
	var read []*star.Source
	for _, o := range s.Union {
		one := Reads(o)
		switch {
		case one.Union != nil:
			return refuse("a union of unions")
		case one.Since != nil:
			return refuse("a union with a source of which new rows are read alone")
		case slices.ContainsFunc(read, func(x *star.Source) bool {
			return x == one || x.Table.Text == one.Table.Text && x.Query.Text == one.Query.Text
		}):
			return refuse("a union of two sources that read the same")
		}
		read = append(read, one)
	}
	return nil
}

// checkAggregates looks for aggregates that there is no SQL for.
func checkAggregates(m *star.Model, s *star.Source) error {
	if s.Group == nil {
		return nil
	}
	of := shaper{engine: engineOf(m, nil), model: m}
	for k, a := range s.Group.Aggregates {
		if _, _, err := of.aggregate(fmt.Sprint("a", k), a, s.Complete()); err != nil {
			return fmt.Errorf("aggregate %s: %w", a.Text, err)
		}
	}
	return nil
}

// checkWindows looks for columns that depend on other rows, and that there is no SQL for.
func checkWindows(m *star.Model, s *star.Source) error {
	of := shaper{engine: engineOf(m, nil), model: m}
	for _, w := range s.Windows {
		if _, _, err := of.window(&w, s.Windowed()); err != nil {
			return fmt.Errorf("column %s: %w", w.Text, err)
		}
	}
	return nil
}

func checkJoin(m *star.Model, j *star.Join) error {
	switch {
	case j.Source == nil: // which is told elsewhere
		return nil
	case j.Source.OnlyFiles(): // which the program reads and shapes
		return nil
	}
	if err := checkJoined(j.Source); err != nil {
		return err
	}
	return checkSource(m, j.Source, "")
}

// checkJoined is [Check] for what a source that others are joined with may not have, nor one that it is made of.
func checkJoined(s *star.Source) error {
	switch {
	case s.Since != nil:
		return refuse("joins with sources of which new rows are read alone")
	case len(s.Joins) > 0:
		return refuse("joins with sources that are joined with others")
	}
	for _, o := range s.Made() {
		if err := checkJoined(o); err != nil {
			return err
		}
	}
	return nil
}

// checkExpressions looks for expressions that there is no SQL for.
func checkExpressions(m *star.Model, s *star.Source) error {
	try := func(what string, e star.Expression, fields []column.Field) error {
		p, err := e.Compile(fields)
		if err != nil {
			return nil // which is told elsewhere
		}
		if _, err := p.SQL(dialectOf(m), make([]expr.SQL, len(fields))); err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
		return nil
	}
	for _, r := range s.LeaveOut {
		if err := try("leave_out", r.Condition, s.AsRead()); err != nil {
			return err
		}
	}
	all, joined := s.Complete(), len(s.Joined())
	for k, d := range s.Derive {
		if err := try("column "+d.Text, d.Expression, all[:joined+k]); err != nil {
			return err
		}
	}
	for _, rules := range [][]star.Rule{s.SetAside, s.Require} {
		for _, r := range rules {
			if err := try("the rule "+r.Reason.Text, r.Condition, all); err != nil {
				return err
			}
		}
	}
	return nil
}

func checkKey(s *star.Source, k *star.Key, inGrain bool) error {
	d, fields := k.Dimension, s.Shaped()
	switch {
	case d.LookedUp != nil:
		return refuse("a dimension that another program loads")
	case d.Junk && inGrain:
		return refuse("a grain with combinations")
	case d.Clock != nil && inGrain:
		return refuse("a grain with the times of a clock")
	case d.Clock != nil && column.Find(fields, k.By[0]) >= 0 && fields[column.Find(fields, k.By[0])].Type.Kind != column.Timestamp:
		return refuse("the times of a clock, looked up by a column that is not a timestamp")
	case k.AsOf != "" && !d.Versioned():
		return refuse("as_of, where the dimension has no versions")
	}
	return nil
}
