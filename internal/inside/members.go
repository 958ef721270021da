package inside

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
)

// Members are the rows of a dimension's source while a step loads them.
//
// A member is plain if it is new, each of its rows is, and none of its rows contradicts another of the same time: the
// warehouse works out its versions and writes them. One that stands already is the same if its rows say what is known of it.
// All rows of other members are left to the program, those that change something among them.
type Members struct {
	judging
	of      *schema.Dimension
	stands  bool
	columns []value
	places  string   // the table of the rows that versions of plain members begin with, and their places among all
	made    []string // the tables of the step that are there
}

// value is what rows say of a column of the dimension's table.
type value struct {
	name string
	as   role
	sql  string
}

// role is what becomes of a value that changes: it is the natural key, and never does; the first one holds, the last one, or
// each for its time. Of an attribute of type 3, the last one does, too: what it was before is known of no new member.
type role int

const (
	natural role = iota
	type0
	type1
	type2
)

// NewMembers prepares the loading of a dimension, as [New] does that of a fact. stands says whether it has members.
func NewMembers(
	d *schema.Dimension, s *schema.Star, m *star.Model,
	from *source.Plain, levels []Level, step Step, stands bool,
) *Members {
	r := newMembers(d, s, m, from, levels, step, stands)
	r.merges(d.Delivered)
	return r
}

func newMembers(
	d *schema.Dimension, s *schema.Star, m *star.Model,
	from *source.Plain, levels []Level, step Step, stands bool,
) *Members {
	r := &Members{judging: newJudging(d.Keys, s, m, from, levels, step), of: d, stands: stands}
	r.places = r.own("load_places")
	add := func(name, sql string, as role) { r.columns = append(r.columns, value{name, as, sql}) }
	for k, f := range d.NaturalKey {
		add(f.Name, quote(said+d.Delivered[k]), natural)
	}
	for _, f := range d.Attributes() {
		as := type1
		if isPrevious(d, f.Name) {
			continue
		}
		if column.Find(d.Type0, f.Name) >= 0 {
			as = type0
		} else if column.Find(d.Type2, f.Name) >= 0 {
			as = type2
		}
		add(f.Name, quote(said+d.Delivers(f.Name)), as)
	}
	for n, f := range d.Outriggers {
		as := type1
		if d.Keys[n].Type2 {
			as = type2
		}
		add(f.Name, fmt.Sprintf("key%d", n), as)
	}
	return r
}

// isPrevious reports whether a column of a dimension is what an attribute of type 3 was before.
func isPrevious(d *schema.Dimension, name string) bool {
	return slices.ContainsFunc(d.Type3, func(f column.Field) bool { return star.PreviousColumn(f.Name) == name })
}

// Most is how many rows may be left to others: the warehouse is told by a statement which keys their members take.
func (r *Members) Most() int64 { return r.mostBelow() }

// named lists the columns of some roles, as the judged rows have them.
func (r *Members) named(of string, roles ...role) []string {
	var list []string
	for _, v := range r.columns {
		for _, as := range roles {
			if v.as == as {
				list = append(list, of+quote(placed+v.name))
			}
		}
	}
	return list
}

// times are the columns that say since when a row holds, and which of several rows of a time counts; "" for those that the
// dimension does not have.
func (r *Members) times() (effective, sequence string) { return r.timesOf("") }

// timesOf is [Members.times] of rows with a name.
func (r *Members) timesOf(of string) (effective, sequence string) {
	if r.of.Timed() {
		effective = of + quote(placed+schema.EffectiveFrom)
		if r.of.Sequence != nil {
			sequence = of + quote(placed+schema.Sequence)
		}
	}
	return effective, sequence
}

// KeyNotSure is why all rows need a second look of which one has a natural key that is not known.
const KeyNotSure = "the natural key of a row is not sure before the program has read it"

// PartsNotSure is why all rows need a second look of which it is not known which belong together.
const PartsNotSure = "which rows become one, or are seen together, is not sure before the program has read them"

// Take takes the rows from where they are and judges them. Where all rows need a second look, it says why.
func (r *Members) Take(ctx context.Context) (why string, err error) {
	_, vague, err := r.judge()
	if err != nil { // what types of columns refuse
		return "", err
	}
	if err := r.sound(ctx); err != nil {
		return "", err
	}
	if r.stands {
		if err := r.single(ctx, []*schema.Dimension{r.of}, []string{r.twice(r.of, false)}); err != nil {
			return "", err
		}
		if is, err := r.unlike(ctx); err != nil || is {
			return "an attribute of the members that stand was of type 2 before", err
		}
	}
	for _, o := range r.others {
		r.made = append(r.made, o.merging.table)
	}
	if err := r.gatherOthers(ctx); err != nil {
		return "", err
	}
	if err := r.plan(ctx, &r.judging); err != nil {
		return "", err
	}
	if r.merging != nil && r.arrived == nil {
		if err := r.gather(ctx); err != nil {
			return "", err
		}
		r.made = append(r.made, r.merging.table)
		if r.merging.all {
			return PartsNotSure, r.planned(ctx)
		}
	}
	sql, _, err := r.judge() // as it is planned
	if err != nil {
		return "", err
	}
	if err := r.create(ctx, r.table, sql); err != nil {
		return "", err
	}
	r.made = append(r.made, r.table)
	conditions := map[string]string{}
	if vague {
		conditions[vagueColumn] = vagueColumn
	}
	if holds, err := r.count(ctx, r.table, conditions); err != nil {
		return "", err
	} else if holds[vagueColumn] {
		return KeyNotSure, r.planned(ctx)
	}
	if err := r.rank(ctx); err != nil {
		return "", err
	}
	return "", r.planned(ctx)
}

// rank finds the place of each version among all, by the rows that they begin with.
func (r *Members) rank(ctx context.Context) error {
	ranked, err := r.ranked(ctx, r.table, fmt.Sprintf("verdict = %d and %s", plain, begins))
	if err != nil {
		return err
	}
	names := []string{"line", "place"}
	for _, x := range r.numbers() {
		if x != "line" {
			names = append(names, x)
		}
	}
	r.made = append(r.made, r.places)
	return r.create(ctx, r.places, "SELECT "+strings.Join(names, ", ")+" FROM "+ranked)
}

// numbers are the columns by which a judged row is numbered.
func (r *Members) numbers() []string {
	_, number, _ := r.number(nil)
	return names(number)
}

// judge returns the select that judges all rows, and says whether rows may have a natural key that is not known.
func (r *Members) judge() (sql string, vague bool, err error) {
	l, doubted, err := r.shape()
	if err != nil {
		return "", false, err
	}
	if err := r.keyed(l); err != nil {
		return "", false, err
	}
	l.add(r.place())
	r.standable(l)
	var unknown []string
	for _, name := range r.of.Delivered {
		if doubted[name] {
			unknown = append(unknown, "not "+quote(sure+name))
		}
	}
	if vague = unknown != nil; vague {
		l.add([]named{{vagueColumn, "(" + ruleColumn + " is null and (" + strings.Join(unknown, " or ") + "))"}})
	}
	return r.verdicts(l, vague), vague, nil
}

// place arranges what the rows say of the columns of the table.
func (r *Members) place() []named {
	var list []named
	for _, v := range r.columns {
		list = append(list, named{placed + v.name, v.sql})
	}
	if r.of.Timed() {
		list = append(list, named{placed + schema.EffectiveFrom, quote(said + r.of.Effective.Name)})
		if r.of.Sequence != nil {
			list = append(list, named{placed + schema.Sequence, quote(said + r.of.Sequence.Name)})
		}
	}
	return list
}

// standable leaves rows to others that cannot stand in a table: their natural key is not whole, or too long, or they say no
// time that is one of the calendar. Others decide, too, which of two zeros stands, as these are equal.
func (r *Members) standable(l *layers) {
	var ok, long []string
	for _, f := range r.of.NaturalKey {
		name := quote(placed + f.Name)
		if ok = append(ok, name+" is not null"); f.Type.Kind == column.Text {
			long = append(long, "coalesce("+r.long(name)+", 0)")
		}
	}
	if long != nil {
		ok = append(ok, fmt.Sprintf("%s <= %d", strings.Join(long, " + "), roster.MostKey))
	}
	for _, f := range r.of.Attributes() {
		if name := quote(placed + f.Name); f.Type.Kind == column.Double && !isPrevious(r.of, f.Name) {
			ok = append(ok, fmt.Sprintf("coalesce(%s <> 0 or cast(%[1]s as varchar) not like '-%%', true)", name))
		}
	}
	if at, _ := r.times(); at != "" {
		beginning, end := bounds(r.engine, r.of.Time)
		ok = append(ok, fmt.Sprintf("coalesce(%[1]s >= %[2]s and %[1]s < %[3]s, false)", at, beginning, end))
	}
	l.require(ok...)
}
