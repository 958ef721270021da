package inside

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/database"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Where rows become one, those that are shaped are put into a table of the step first, with their numbers. What is judged
// then is one row for each value of the columns that they have in common. If it is not plain, all rows are left to others of
// which it was made: others work it out once more. It is not plain if one of them is not, as others may set that one aside.
// Where columns depend on other rows, the rows are put there, too: see windows.go.

// merging is what becomes of the shaped rows of a source whose rows become one, or depend on each other.
type merging struct {
	engine  engine        // that numbers the shaped rows
	from    *source.Plain // the rows of the source
	table   string        // of the shaped rows
	at      int           // the level that says it
	all     bool          // which row belongs to which others is not known
	windows []star.Window // the columns that depend on other rows; nil if rows become one
	faults  bool          // some are not plain
	tells   bool          // rows that are not seen together are told apart by what is not such a column
	unsure  []string      // columns that say which rows belong to which others, and may not be known
}

// parts is the column that says of how many rows one is made.
const parts = "parts"

// raw is the select of the rows as the source has them.
func (r *shaper) raw() *source.Plain {
	if r.merging != nil {
		return r.merging.from
	}
	return r.from
}

// merges has the rows that are judged be made of those of the source, if a level says so. Some columns tell them apart.
func (r *judging) merges(apart []string) {
	at := mergingOf(r.levels)
	if at < 0 {
		return
	}
	r.merging = &merging{engine: r.engine, from: r.from, at: at, windows: r.levels[at].windows()}
	r.merging.tells = areAmong(r.common(), r.beneath(apart))
	if r.arrived != nil { // with their numbers
		r.merging.faults = r.arrived.faults
		return
	}
	r.merging.table = r.own("load_shaped")
	r.engine, r.from = numberedEngine{r.engine, r.Statements}, numberedRows()
}

// mergingOf is the level whose rows become one, or depend on each other; -1 if there is none.
func mergingOf(levels []Level) int {
	return slices.IndexFunc(levels, func(l Level) bool {
		return l.Source.Group != nil || l.Source.Distinct != nil || l.windows() != nil
	})
}

// beneath returns the names that columns have where rows become one, of those that they have there.
func (r *shaper) beneath(list []string) []string {
	list = slices.Clone(list)
	for _, level := range slices.Backward(r.levels[r.merging.at+1:]) {
		s, theirs := level.Source, theirNames(level.Source)
		filled := func(name string) bool {
			return slices.ContainsFunc(s.Fill, func(f star.Fill) bool { return f.Text == name })
		}
		list = slices.DeleteFunc(list, func(name string) bool { return filled(name) || column.Find(s.Taken(), name) < 0 })
		for k, name := range list {
			list[k] = theirs[name]
		}
	}
	return list
}

// merged is the source whose rows become one, or depend on each other.
func (r *shaper) merged() *star.Source { return r.levels[r.merging.at].Source }

// areAmong reports whether there are names, and all of them are among others.
func areAmong(names, all []string) bool {
	return names != nil && !slices.ContainsFunc(names, func(name string) bool { return !slices.Contains(all, name) })
}

// numberedRows are rows that have their numbers already.
func numberedRows() *source.Plain {
	return &source.Plain{Since: -1, Select: database.Select{Order: []database.Column{{}}}}
}

// common lists the columns in which rows are equal that become one, or are seen together.
func (r *shaper) common() []string {
	switch {
	case r.merging.windows != nil:
		return seenBy(r.merging.windows)
	case r.merged().Group != nil:
		return r.merged().Group.By
	}
	return r.merged().Distinct.By
}

// gather puts the shaped rows into a table, where rows become one.
func (r *judging) gather(ctx context.Context) error {
	m := r.merging
	if m == nil || r.arrived != nil {
		return nil
	}
	l, err := r.rows(m.at)
	if err != nil {
		return err
	}
	l.close()
	kept := append([]string{okColumn, ruleColumn}, r.empties(m.at+1)...)
	if m.windows != nil {
		kept = append(kept, quoted(sureOf(l.fields, l.doubted))...)
	}
	holds, err := r.put(ctx, m.engine, m.from, l.layers, kept, l.fields, r.doubtedOf(l), m.table)
	m.all, m.faults = holds[vagueColumn], holds[faultsColumn]
	return err
}

// put puts shaped rows into a table of the step, with their numbers, some columns and fields, and the texts of what
// the source has of them. It says whether any row is not plain, by [faultsColumn], and whether one that is not left
// out is not sure in some fields that may be doubted, by [vagueColumn].
func (r *judging) put(
	ctx context.Context, by engine, from *source.Plain, l *layers, kept []string, fields []column.Field, doubted []string, table string,
) (holds map[string]bool, err error) {
	for _, f := range fields {
		kept = append(kept, quote(said+f.Name))
	}
	inner, outer := slices.Clone(kept), slices.Clone(kept)
	for k := range from.Columns {
		inner = append(inner, fmt.Sprintf("c%d", k))
	}
	var order, unknown []string
	for k := range from.Order {
		order = append(order, fmt.Sprintf("o%d", k))
	}
	conditions := map[string]string{faultsColumn: "not " + okColumn}
	for _, name := range doubted {
		unknown = append(unknown, "not "+quote(sure+name))
	}
	if unknown != nil {
		inner = append(inner, "("+ruleColumn+" is null and ("+strings.Join(unknown, " or ")+")) AS "+vagueColumn)
		outer = append(outer, vagueColumn)
		conditions[vagueColumn] = vagueColumn
	}
	before, number, _ := by.number(order)
	for _, x := range append(number, r.second(from)...) {
		outer = append(outer, x.sql+" AS "+quote(x.name))
	}
	sql := fmt.Sprintf("SELECT %s FROM (%s) AS l", strings.Join(append(before, inner...), ", "), l.text())
	if err := r.create(ctx, table, fmt.Sprintf("SELECT %s FROM (%s) AS l", strings.Join(outer, ", "), sql)); err != nil {
		return nil, err
	}
	return by.count(ctx, table, conditions)
}

// faultsColumn is what it is called that rows are not plain.
const faultsColumn = "faults"

// gathered is the shaped rows, called n.
func (r *shaper) gathered() string {
	if r.arrived != nil {
		return "(SELECT *, o0 AS line FROM (" + r.arrivals().text() + ") AS a) AS n"
	}
	return r.merging.engine.numbered(r.merging.table)
}

// placed is the file and line of the row with a number, as a column, where rows have arrived.
func (r *shaper) placed(line string) []named {
	if r.arrived == nil {
		return nil
	}
	return []named{{placeColumn, r.arrived.place(line)}}
}

// doubtedOf lists the columns that say which rows belong to which others, and may not be known.
func (r *shaper) doubtedOf(l *rows) []string {
	return slices.DeleteFunc(slices.Clone(r.common()), func(name string) bool { return !l.doubted[name] })
}

// merge makes layers of the rows that others have become.
func (r *shaper) merge(l *rows) error {
	r.merging.unsure = r.doubtedOf(l)
	l.write() // what the table of the shaped rows is made by
	if r.merging.windows != nil {
		return r.see(l)
	}
	var more []named
	if r.merged().Group != nil {
		var err error
		if more, err = r.group(l); err != nil {
			return err
		}
	} else {
		r.keepOne(l)
	}
	l.open, l.doubted = map[string]bool{}, map[string]bool{}
	for _, f := range l.fields { // what one says of many is known if none of them may be set aside
		if !slices.Contains(r.common(), f.Name) {
			more, l.doubted[f.Name] = append(more, named{sure + f.Name, okColumn}), true
		}
	}
	if more != nil {
		l.add(more)
	}
	if r.merging.all {
		l.require("false")
	}
	return nil
}

// group has the rows be groups, and returns the columns that are made of what was worked out of their rows.
func (r *shaper) group(l *rows) (more []named, err error) {
	own := []named{
		{"o0", "min(line)"}, {parts, "count(*)"}, {okColumn, "bool_and(" + okColumn + ")"}, {ruleColumn, "cast(null as integer)"},
	}
	own = append(own, r.placed("min(line)")...)
	by := saidOf(r.common())
	for _, name := range r.common() {
		own = append(own, named{said + name, quote(said + name)})
	}
	for _, name := range r.empties(r.merging.at + 1) {
		own = append(own, named{name, "sum(" + name + ")"})
	}
	var clean []string
	for n, a := range r.merged().Group.Aggregates {
		if !l.level.Need(a.Text) {
			continue
		}
		of, x, err := r.aggregate(fmt.Sprintf("a%d", n), a, l.fields)
		if err != nil {
			return nil, fmt.Errorf("aggregate %s: %w", a.Text, err)
		}
		own, more = append(own, of...), append(more, named{said + a.Text, r.Stored(x, a.Type)})
		if x.Clean != "" {
			clean = append(clean, x.Clean)
		}
	}
	const grouped = "SELECT %s FROM %s WHERE %s IS NULL GROUP BY %s"
	l.sql, l.columns = fmt.Sprintf(grouped, aliased(own), r.gathered(), ruleColumn, strings.Join(by, ", ")), names(own)
	var fields []column.Field
	for _, f := range r.merged().Group.Fields(l.fields) {
		if l.level.Need(f.Name) {
			fields = append(fields, f)
		}
	}
	l.fields = fields
	l.require(clean...)
	return more, nil
}

// keepOne has one row stay of all that are equal in some columns: the first one or the last one.
func (r *shaper) keepOne(l *rows) {
	stays, sums := "min(line)", ""
	if r.merged().Distinct.Last {
		stays = "max(line)"
	}
	own := []named{{"o0", "n.line"}, {parts, "g." + parts}, {okColumn, "g." + okColumn}, {ruleColumn, "n." + ruleColumn}}
	own = append(own, r.placed("n.line")...)
	for _, f := range l.fields {
		own = append(own, named{said + f.Name, "n." + quote(said+f.Name)})
	}
	for _, name := range r.empties(r.merging.at + 1) {
		own, sums = append(own, named{name, "g." + name}), sums+", sum("+name+") AS "+name
	}
	const groups = "SELECT %s AS line, count(*) AS %s, bool_and(%s) AS %[3]s%[4]s FROM %[5]s WHERE %[6]s IS NULL GROUP BY %[7]s"
	of := fmt.Sprintf(groups, stays, parts, okColumn, sums, r.gathered(), ruleColumn, strings.Join(saidOf(r.common()), ", "))
	l.sql = fmt.Sprintf("SELECT %s FROM %s JOIN (%s) AS g ON g.line = n.line", aliased(own), r.gathered(), of)
	l.columns = names(own)
}

// saidOf lists columns of the source as the shaped rows have them.
func saidOf(list []string) []string {
	out := make([]string, len(list))
	for k, name := range list {
		out[k] = quote(said + name)
	}
	return out
}

// leftParts selects the rows of the source that are left to others with what was made of them, or with those that are.
// They are those of a table, called n.
func (r *judging) leftParts(columns, table string) string {
	m := r.merging
	if m.all {
		return fmt.Sprintf("SELECT %s FROM %s WHERE %s IS NULL", columns, table, ruleColumn)
	}
	own, on := strings.Join(saidOf(r.common()), ", "), r.together("h", "n")
	if own == "" { // all are seen together
		own, on = "1 AS one", "true"
	}
	const these = "SELECT DISTINCT %s FROM (SELECT * FROM %s WHERE line IN (%s)) AS n"
	const all = "SELECT %s FROM %s JOIN (%s) AS h ON %s WHERE n.%s IS NULL"
	hardOnes := fmt.Sprintf(these, own, r.gathered(), r.hardLines())
	return fmt.Sprintf(all, columns, table, hardOnes, on, ruleColumn)
}

// together says that two rows become one, or are seen together.
func (r *shaper) together(a, b string) string {
	var on []string
	for _, name := range r.common() {
		f := r.merged().Complete()[column.Find(r.merged().Complete(), name)]
		on = append(on, r.means(a+"."+quote(said+name), b+"."+quote(said+name), f.Type, true))
	}
	return strings.Join(on, " and ")
}

// size counts the rows of the source that judged rows are made of.
func (r *judging) size() string {
	if r.merging == nil {
		return "count(*)"
	}
	return "sum(" + parts + ")"
}

// leftOutParts counts the shaped rows that rules leave out, where rows become one.
func (r *judging) leftOutParts(ctx context.Context, of *Shaped) error {
	if r.merging == nil || r.arrived != nil || len(of.LeftOut) == 0 {
		return nil
	}
	columns := strings.Join(append([]string{ruleColumn, "count(*)"}, r.emptied(r.merging.at+1)...), ", ")
	sql := fmt.Sprintf("SELECT %s FROM %s WHERE %s IS NOT NULL GROUP BY %[3]s", columns, r.merging.table, ruleColumn)
	return r.Statements.Ask(ctx, sql, func(values [][]byte) error {
		of.LeftOut[count(values[0])] += count(values[1])
		of.empty(values[2:])
		return nil
	})
}

// numberedEngine is an engine for rows that have their numbers already, in the only column that orders them.
type numberedEngine struct {
	engine
	run warehouse.Statements
}

func (numberedEngine) number([]string) ([]string, []named, string) {
	return []string{"o0"}, []named{{"line", "o0"}}, ""
}

func (e numberedEngine) count(ctx context.Context, judged string, conditions map[string]string) (map[string]bool, error) {
	return holdsOf(ctx, e.run, judged, conditions)
}

func (numberedEngine) numbered(judged string) string { return judged + " AS n" }

func (numberedEngine) ranked(_ context.Context, judged, holds string) (string, error) {
	return fmt.Sprintf("(SELECT *, row_number() over (order by line) AS place FROM %s WHERE %s) AS n", judged, holds), nil
}
