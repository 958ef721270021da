package inside

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// judging is what the loading of facts and that of dimensions have in common: a table of the rows that have arrived, with
// their numbers, and what each of them is.
type judging struct {
	shaper
	keys  []*star.Key
	grain map[*star.Key]bool // the keys that tell rows apart
	star  *schema.Star
	Step
	table string
	open  map[*star.Key]bool // the keys of which rows may wait for members
	first string             // the table of the first rows that wait for a member each; "" if none do

	repeated string // the table of the grains that several rows have; "" if none have

	part   int        // of a union; -1 for what is behind it
	others []*judging // the rows of the sources that these are joined with, where they become one or depend on each other
}

// Step is the step that loads rows by statements of the warehouse.
type Step struct {
	Statements warehouse.Statements
	Number     int   // by which its tables are called
	Day        int64 // of the run, in UTC
	// Workdays returns the first day of the calendar of a lag, and the numbers of the working days of all its days.
	Workdays func(*star.Lag) (first int64, numbers []int64)
}

// own is the name of a table of the step.
func (r *judging) own(name string) string {
	return r.Statements.Named(fmt.Sprintf("%s_%d", name, r.Number))
}

// newJudging prepares the judging of a source's rows, which have keys.
func newJudging(
	keys []*star.Key, s *schema.Star, m *star.Model, from *source.Plain, levels []Level, step Step,
) judging {
	r := judging{
		shaper: *newShaper(engineOf(m, step.Statements), m, from, levels),
		keys:   keys, grain: map[*star.Key]bool{}, star: s, Step: step,
	}
	r.table = r.own("load_judged")
	return r
}

// Join has the rows of another source complete those that are to be judged, by a join of their source.
func (r *judging) Join(j *star.Join, from *source.Plain, levels []Level) {
	other := &judging{shaper: *newShaper(engineOf(r.model, r.Statements), r.model, from, levels), Step: r.Step}
	if other.merges(nil); other.merging != nil {
		texts := *from // which nobody reads
		texts.Texts = nil
		other.merging.from, other.merging.table = &texts, r.own(fmt.Sprintf("load_met_%d_%d", r.part+1, len(r.joins)))
		r.others = append(r.others, other)
	}
	r.joins, r.shaper.joined = append(r.joins, j), append(r.shaper.joined, &other.shaper)
}

// JoinArrived is [judging.Join] where the rows of the other source have arrived in a table: those that are not set
// aside, and that tell by what they are joined.
func (r *judging) JoinArrived(j *star.Join, of *Arrived) {
	other := newJudging(nil, nil, r.model, numberedRows(), of.levelsTo(j.Source), r.Step)
	other.arrive(of, nil)
	r.joins, r.shaper.joined = append(r.joins, j), append(r.shaper.joined, &other.shaper)
}

// gatherOthers puts the rows of the sources into tables that these are joined with, where they become one or depend
// on each other.
func (r *judging) gatherOthers(ctx context.Context) error {
	for _, o := range r.others {
		if err := o.plan(ctx, o); err != nil {
			return err
		}
		if err := o.gather(ctx); err != nil {
			return err
		}
		if err := o.planned(ctx); err != nil {
			return err
		}
	}
	return nil
}

// sound refuses dimensions that have a member twice, since a row would become two, and what the database cannot do.
func (r *judging) sound(ctx context.Context) error {
	if err := r.usable(ctx); err != nil {
		return err
	}
	var dimensions []*schema.Dimension
	var selects []string
	for _, k := range r.keys {
		d := r.star.Dimension(k.Dimension)
		if sql := r.twice(d, k.AsOf != ""); !slices.Contains(selects, sql) {
			dimensions, selects = append(dimensions, d), append(selects, sql)
		}
	}
	return r.single(ctx, dimensions, selects)
}

// single refuses dimensions of which a select of [judging.twice] has rows. All are asked for at once.
func (r *judging) single(ctx context.Context, dimensions []*schema.Dimension, selects []string) error {
	if len(selects) == 0 {
		return nil
	}
	parts := make([]string, len(selects))
	for k, sql := range selects {
		parts[k] = fmt.Sprintf("(SELECT %d AS nth FROM (%s) AS d%[1]d LIMIT 1)", k, sql)
	}
	found := ""
	err := r.Statements.Ask(ctx, strings.Join(parts, " UNION ALL "), func(values [][]byte) error {
		found = dimensions[count(values[0])].Text
		return nil
	})
	if err == nil && found != "" {
		err = fmt.Errorf("dimension %s has a member, or a time of one, twice: ironmonger prove tells which", found)
	}
	return err
}

// twice selects what a dimension has that no two of its rows should have: a member, or, where times are asked for, a time of one.
func (r *judging) twice(d *schema.Dimension, timed bool) string {
	by := strings.Join(quoted(column.Names(d.NaturalKey)), ", ")
	table, key := r.Statements.Named(d.Table.Name), quote(d.KeyColumn())
	sql := fmt.Sprintf("SELECT 1 FROM %s WHERE %s >= 0%%s GROUP BY %s HAVING count(*) > 1", table, key, by)
	switch {
	case timed:
		const next = "SELECT 1 FROM (SELECT %[1]s AS until, lead(%[2]s) OVER (PARTITION BY %[3]s ORDER BY %[2]s) AS since " +
			"FROM %[4]s WHERE %[5]s >= 0) AS v WHERE since < until"
		return fmt.Sprintf(next, quote(d.ValidTo), quote(d.ValidFrom), by, table, key)
	case d.Versioned():
		return fmt.Sprintf(sql, " AND "+quote(schema.IsCurrent))
	}
	return fmt.Sprintf(sql, "")
}

func quoted(names []string) []string {
	list := make([]string, len(names))
	for k, name := range names {
		list[k] = quote(name)
	}
	return list
}

// greatest returns the greatest value among all rows of the column by which new rows are known.
func (r *judging) greatest(ctx context.Context) (value []byte, err error) {
	from, table := r.raw(), r.table
	if from.Since < 0 {
		return nil, nil
	}
	if r.merging != nil {
		table = r.merging.table
	}
	const sql = "SELECT %s FROM (SELECT max(c%d) AS c%[2]d FROM %s) AS m"
	of := fmt.Sprintf(sql, from.Texts[from.Since], from.Since, table)
	err = r.Statements.Ask(ctx, of, func(values [][]byte) error {
		value = slices.Clone(values[0])
		return nil
	})
	return value, err
}

// Drop removes the tables of the step.
func (r *judging) Drop(ctx context.Context) error {
	tables := []*string{&r.table, &r.repeated, &r.first}
	if r.merging != nil {
		tables = append(tables, &r.merging.table)
	}
	for _, o := range r.others {
		tables = append(tables, &o.merging.table)
	}
	for _, table := range tables {
		if err := r.remove(ctx, table); err != nil {
			return err
		}
	}
	return nil
}

// remove removes a table of the step, if there is one.
func (r *judging) remove(ctx context.Context, table *string) error {
	name := *table
	if *table = ""; name == "" {
		return nil
	}
	_, err := r.Statements.Run(ctx, "DROP TABLE "+name)
	return err
}
