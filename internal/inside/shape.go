package inside

import (
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/database"
	"ironmonger/internal/expr"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
)

// said is what the names of columns begin with that say what the source does, placed what those begin with that are
// columns of the fact's table, and asRead what those begin with that texts are read as, before it is known whether they
// fit; others are those of the program.
const (
	said   = "s_"
	placed = "t_"
	asRead = "r_"
)

// ok is where a row is plain so far, rule which rule leaves it out, and vague whether a value of its grain is not known.
const (
	okColumn    = "ok"
	ruleColumn  = "rule"
	vagueColumn = "vague"
)

// Level is a source, and which of its columns are needed.
type Level struct {
	Source *star.Source
	Need   func(column string) bool
}

// shaper shapes the rows of a source by SQL.
type shaper struct {
	engine
	source *star.Source
	levels []Level // the source that reads the rows, then each that is made of the one before it; the last one is source
	from   *source.Plain
	model  *star.Model
	joined []*shaper // by the joins of the sources that matter
	joins  []*star.Join

	arrived *Arrived // rows that are shaped already; nil if those of the source's table are to be
	merging *merging // nil unless rows become one
	parted  bool     // the rows are those of a branch of a union
}

// newShaper shapes the rows of a table for the last of some levels.
func newShaper(e engine, m *star.Model, from *source.Plain, levels []Level) *shaper {
	return &shaper{engine: e, source: levels[len(levels)-1].Source, levels: levels, from: from, model: m}
}

// rules is how many rules of the levels leave rows out.
func (r *shaper) rules() int {
	n := 0
	for _, level := range r.levels {
		n += len(level.Source.LeaveOut)
	}
	return n
}

// rows are layers of rows, and what is known of their columns.
type rows struct {
	*layers
	level   Level
	fields  []column.Field
	doubted map[string]bool // of each column, whether its value may not be known
}

// shape makes the layers up to the shaped rows, and says of each column whether its value may not be known.
func (r *shaper) shape() (*layers, map[string]bool, error) {
	if r.arrived != nil && r.merging == nil {
		return r.arrivals(), nil, nil
	}
	last := len(r.levels) - 1
	at := last
	if r.merging != nil {
		at = r.merging.at
	}
	l, err := r.rows(at)
	if err != nil {
		return nil, nil, err
	}
	if r.merging != nil {
		if err := r.merge(l); err != nil {
			return nil, nil, err
		}
	}
	for at++; at <= last; at++ {
		r.take(l, r.levels[at])
		if err := r.alone(l, at); err != nil {
			return nil, nil, err
		}
	}
	if err := r.match(l); err != nil {
		return nil, nil, err
	}
	l.close()
	return l.layers, l.doubted, nil
}

// rows makes the layers of the rows up to a level, before they become one.
func (r *shaper) rows(last int) (*rows, error) {
	if r.arrived != nil { // up to there
		return &rows{r.arrivals(), r.levels[last], r.arrived.Fields, map[string]bool{}}, nil
	}
	l, err := r.read(r.levels[0])
	if err == nil {
		err = r.alone(l, 0)
	}
	for at := 1; at <= last && err == nil; at++ {
		r.take(l, r.levels[at])
		err = r.alone(l, at)
	}
	return l, err
}

// alone does what a level does that concerns a row alone.
func (r *shaper) alone(l *rows, at int) error {
	rules := 0 // of the levels below
	for _, level := range r.levels[:at] {
		rules += len(level.Source.LeaveOut)
	}
	for _, step := range []func(*rows) error{
		func(l *rows) error { return r.leaveOut(l, rules) }, r.complete, r.derive, r.fill, r.check,
	} {
		if err := step(l); err != nil {
			return err
		}
	}
	return nil
}

// read makes the layers of the rows as the source has them that reads them.
func (r *shaper) read(level Level) (*rows, error) {
	l := &rows{&layers{engine: r.engine, sql: r.raw().SQL, open: map[string]bool{}}, level, nil, map[string]bool{}}
	for k := range r.raw().Columns {
		l.columns = append(l.columns, fmt.Sprintf("c%d", k))
	}
	for k := range r.raw().Order {
		l.columns = append(l.columns, fmt.Sprintf("o%d", k))
	}
	var read, typed []named
	sound := []string{"true"}
	taken := level.Source.Taken()
	for k, c := range r.raw().Columns {
		name := r.raw().Read[k]
		at := column.Find(taken, name)
		if name == "" || at < 0 || !level.Need(name) {
			continue
		}
		f := taken[at]
		x, ok := r.typed(fmt.Sprintf("c%d", k), c, f.Type, r.model.Zone)
		if !ok {
			return nil, fmt.Errorf("column %s: %w", name, refuse("a value of the type %s, read as %s", called(c), f.Type))
		}
		l.fields = append(l.fields, f)
		if r.isText(c) && f.Type.Kind != column.Text { // what is read of a text costs much
			value := quote(asRead + name)
			read = append(read, named{asRead + name, x.Value})
			x = expr.SQL{Value: value, Clean: strings.ReplaceAll(x.Clean, x.Value, value)}
		}
		typed = append(typed, named{said + name, r.Stored(x, f.Type)})
		if x.Clean != "" {
			typed = append(typed, named{sure + name, "(" + x.Clean + ")"})
			sound = append(sound, quote(sure+name))
			l.doubted[name] = r.isText(c) || c.Type.Kind == column.Double // other values that do not fit are faults for sure
		}
	}
	if carried := l.columns; read != nil {
		l.add(read)
		l.close()
		l.add(typed)
		l.write()
		l.columns = append(slices.Clone(carried), names(typed)...)
	} else {
		l.add(typed)
	}
	l.add([]named{{okColumn, strings.Join(sound, " and ")}})
	return l, nil
}

// take has the rows be those of the next level: it has some of their columns, by names of its own.
func (r *shaper) take(l *rows, level Level) {
	list, doubted := []named{}, map[string]bool{}
	own := func(name string) bool {
		always := []string{okColumn, ruleColumn, parts, placeColumn}
		return slices.Contains(append(always, r.empties(len(r.levels))...), name) || name[0] == 'c' || name[0] == 'o'
	}
	l.write()
	for _, name := range l.columns {
		if own(name) {
			list = append(list, named{name, quote(name)})
		}
	}
	theirs := theirNames(level.Source)
	var fields []column.Field
	for _, f := range level.Source.Taken() {
		if !level.Need(f.Name) {
			continue
		}
		fields, list = append(fields, f), append(list, named{said + f.Name, quote(said + theirs[f.Name])})
		if doubted[f.Name] = l.doubted[theirs[f.Name]]; doubted[f.Name] {
			list = append(list, named{sure + f.Name, quote(sure + theirs[f.Name])})
		}
	}
	l.n++
	l.sql = fmt.Sprintf("SELECT %s FROM (%s) AS l%d", aliased(list), l.sql, l.n)
	l.columns, l.open = names(list), map[string]bool{}
	l.level, l.fields, l.doubted = level, fields, doubted
}

// theirNames are the names that columns of a source have in the one that it is made of.
func theirNames(s *star.Source) map[string]string {
	theirs := map[string]string{}
	for _, c := range s.Columns {
		theirs[c.Text] = c.InFile()
	}
	return theirs
}

// derive adds the columns that the model works out.
func (r *shaper) derive(l *rows) error {
	for n, d := range l.level.Source.Derive {
		if !l.level.Need(d.Text) {
			continue
		}
		p, err := d.Expression.Compile(l.fields)
		if err != nil {
			return err
		}
		l.reads(p, l.fields)
		step := func(nth int) string { return fmt.Sprintf("q%d_%d", n, nth) } // no other name begins so
		steps, x, err := p.SQLInSteps(r.engine, r.over(l.fields), func(nth int) string { return quote(step(nth)) })
		if err != nil {
			return fmt.Errorf("column %s: %w", d.Text, err)
		}
		for nth, sql := range steps {
			l.add([]named{{step(nth), sql}})
			l.close()
		}
		if len(x.Value) > longValue && strings.Contains(x.Clean, x.Value) {
			value := quote(asRead + d.Text)
			l.add([]named{{asRead + d.Text, x.Value}})
			l.close()
			x = expr.SQL{Value: value, Clean: strings.ReplaceAll(x.Clean, x.Value, value)}
		}
		more := []named{{said + d.Text, r.Stored(x, d.Type)}}
		for _, k := range p.Columns() {
			l.doubted[d.Text] = l.doubted[d.Text] || l.doubted[l.fields[k].Name]
		}
		if x.Clean != "" || l.doubted[d.Text] {
			clean := x.Clean
			for _, k := range p.Columns() {
				if l.doubted[l.fields[k].Name] {
					clean = strings.TrimPrefix(clean+" and "+quote(sure+l.fields[k].Name), " and ")
				}
			}
			clean = "(" + clean + ")"
			l.require(clean)
			more, l.doubted[d.Text] = append(more, named{sure + d.Text, clean}), true
		}
		l.add(more)
		l.open[d.Text] = true
		l.fields = append(l.fields, column.Field{Name: d.Text, Type: d.Type})
	}
	return nil
}

// longValue is how long an expression is that is worked out in a select of its own: it costs more than that does.
const longValue = 300

// called is what a database calls the type of a column.
func called(c database.Column) string {
	if c.Foreign != "" {
		return c.Foreign
	}
	return c.Type.String()
}

// sure begins the name of what says whether the value of a column is known.
const sure = "k_"

// over returns columns as expressions see them.
func (r *shaper) over(fields []column.Field) []expr.SQL {
	var list []expr.SQL
	for _, f := range fields {
		list = append(list, expr.SQL{Value: r.Operand(quote(said+f.Name), f.Type)})
	}
	return list
}

// leaveOut finds the rows that are not meant. So many rules stand in the levels below.
func (r *shaper) leaveOut(l *rows, below int) error {
	var cases, clean []string
	for k, rule := range l.level.Source.LeaveOut {
		p, err := rule.Condition.Compile(l.fields)
		if err != nil {
			return err
		}
		l.reads(p, l.fields)
		x, err := p.SQL(r.engine, r.over(l.fields))
		if err != nil {
			return fmt.Errorf("leave_out: %w", err)
		}
		if x.Clean != "" {
			clean = append(clean, x.Clean)
		}
		cases = append(cases, fmt.Sprintf("when %s then %d", x.Value, below+k))
	}
	first := !slices.Contains(append(names(l.more), l.columns...), ruleColumn)
	rule, was := "cast(null as integer)", ""
	if !first {
		was = fmt.Sprintf("when %s is not null then %[1]s ", ruleColumn)
	}
	if cases != nil {
		known := strings.Join(append([]string{okColumn}, clean...), " and ")
		rule = "(case " + was + "when not (" + known + ") then null " + strings.Join(cases, " ") + " end)"
	}
	switch {
	case first:
		l.add([]named{{ruleColumn, rule}})
	case cases != nil:
		l.add(nil, named{ruleColumn, rule})
	}
	l.require(clean...)
	return nil
}

// fill gives empty columns their values.
func (r *shaper) fill(l *rows) error {
	var replaced []named
	for _, f := range l.level.Source.Fill {
		at := column.Find(l.fields, f.Text)
		if at < 0 {
			continue
		}
		value, err := f.Column(l.fields[at].Type, r.model)
		if err != nil {
			return err
		}
		t := l.fields[at].Type
		x := expr.SQL{Value: fmt.Sprintf("coalesce(%s, %s)", quote(said+f.Text), r.Literal(value.Value(0), t))}
		replaced = append(replaced, named{said + f.Text, r.Stored(x, t)})
	}
	if replaced != nil {
		l.add(nil, replaced...)
	}
	return nil
}

// check finds the rows that rules set aside.
func (r *shaper) check(l *rows) error {
	for n, rules := range [][]star.Rule{l.level.Source.SetAside, l.level.Source.Require} {
		for _, rule := range rules {
			p, err := rule.Condition.Compile(l.fields)
			if err != nil {
				return err
			}
			l.reads(p, l.fields)
			x, err := p.SQL(r.engine, r.over(l.fields))
			if err != nil {
				return fmt.Errorf("the rule %q: %w", rule.Reason.Text, err)
			}
			holds := "coalesce(" + x.Value + ", false)"
			if n == 0 {
				holds = "not " + holds
			}
			if l.require(holds); x.Clean != "" {
				l.require(x.Clean)
			}
		}
	}
	return nil
}

// match brings natural keys to their one form.
func (r *shaper) match(l *rows) error {
	for _, m := range r.source.Matched {
		if !l.level.Need(m.Text) {
			continue
		}
		at := column.Find(l.fields, m.Column)
		x, known := expr.SQL{Value: quote(said + m.Column)}, ""
		if m.Rule != nil {
			p, err := m.Rule.Compile(l.fields[at].Type)
			if err != nil {
				return err
			}
			if x, err = p.SQL(r.engine, r.over(l.fields[at:at+1])); err != nil {
				return fmt.Errorf("the form of %s as a key: %w", m.Column, err)
			}
			known = x.Clean
		}
		more := []named{{said + m.Text, r.Stored(x, m.Type)}}
		if l.doubted[m.Column] {
			known = strings.TrimPrefix(known+" and "+quote(sure+m.Column), " and ")
		}
		if known != "" {
			known = "(" + known + ")"
			l.require(known)
			more, l.doubted[m.Text] = append(more, named{sure + m.Text, known}), true
		}
		l.add(more)
	}
	return nil
}
