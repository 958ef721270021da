package inside

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
)

// layers are selects, each of the one before. Columns of one are expressions over those of the one before; what reads
// columns that have just been added needs a further layer, and all else comes into the same, since planners take their
// time for each. Where expressions would be worked out as often as they are used, the layer is closed.
type layers struct {
	engine
	sql     string
	columns []string // that the last layer hands on
	n       int
	open    map[string]bool // columns that have come since a layer was closed, and cost much

	// Of the next layer, which is not written yet:
	more    []named
	instead []named  // columns that it has otherwise
	sound   []string // what a row has to be, too, that is plain so far
	lookups []string // joins, which are a layer of their own,
	found   []named  // and the columns that they add
}

type named struct{ name, sql string }

func names(list []named) []string {
	var names []string
	for _, x := range list {
		names = append(names, x.name)
	}
	return names
}

// add adds columns; instead are those that are there otherwise.
func (l *layers) add(more []named, instead ...named) {
	for _, list := range [][]named{more, instead} {
		for _, x := range list {
			l.ready(x.sql)
		}
	}
	for _, x := range instead {
		l.ready(x.name)
	}
	l.more, l.instead = append(l.more, more...), append(l.instead, instead...)
}

// require has rows not be plain of which a condition does not hold.
func (l *layers) require(conditions ...string) {
	for _, c := range conditions {
		l.ready(c)
	}
	if slices.Contains(names(l.more), okColumn) {
		l.write()
	}
	l.sound = append(l.sound, conditions...)
}

// lookUp joins the rows, which are called as [layers.rows] says, with a table, and adds columns of it.
func (l *layers) lookUp(join string, found []named) {
	l.lookups, l.found = append(l.lookups, join), append(l.found, found...)
}

// rows is what the rows are called in joins.
func (l *layers) rows() string {
	if l.lookups == nil {
		l.write()
	}
	return fmt.Sprintf("l%d", l.n+1)
}

var word = regexp.MustCompile(`\w+`)

// ready writes the next layer if an expression may read what it has.
func (l *layers) ready(sql string) {
	reads := func(name string) bool { // or has it in another name
		return strings.Contains(sql, name) || strings.Contains(sql, quote(name))
	}
	switch {
	case l.lookups != nil,
		slices.ContainsFunc(names(l.more), reads), slices.ContainsFunc(names(l.instead), reads),
		l.sound != nil && slices.Contains(word.FindAllString(sql, -1), okColumn):
		l.write()
	}
}

// write writes the next layer, if it has anything.
func (l *layers) write() {
	switch {
	case l.lookups != nil:
		l.n++
		const joined = "SELECT l%d.*, %s FROM (%s) AS l%[1]d %[4]s"
		l.sql = fmt.Sprintf(joined, l.n, aliased(l.found), l.sql, strings.Join(l.lookups, " "))
	case l.more != nil || l.instead != nil || l.sound != nil:
		l.n++
		l.sql = fmt.Sprintf("SELECT %s FROM (%s) AS l%d", strings.Join(l.parts(), ", "), l.sql, l.n)
	}
	l.columns = append(append(l.columns, names(l.found)...), names(l.more)...)
	l.more, l.instead, l.sound, l.lookups, l.found = nil, nil, nil, nil, nil
}

// parts lists the columns of the next layer.
func (l *layers) parts() (list []string) {
	with := map[string]string{}
	for _, x := range l.instead {
		with[x.name] = x.sql
	}
	if l.sound != nil {
		with[okColumn] = "(" + strings.Join(append([]string{okColumn}, l.sound...), " and ") + ")"
	}
	for _, name := range l.columns {
		part := quote(name)
		if sql, ok := with[name]; ok {
			part = sql + " AS " + part
		}
		list = append(list, part)
	}
	for _, x := range l.more {
		list = append(list, x.sql+" AS "+quote(x.name))
	}
	return list
}

// text is the select of the last layer.
func (l *layers) text() string {
	l.write()
	return l.sql
}

// close has the expressions so far worked out once.
func (l *layers) close() {
	l.sql = l.once(l.text(), l.n)
	l.open = map[string]bool{}
}

// reads closes the last layer if an expression reads columns of it that cost much.
func (l *layers) reads(p *expr.Program, fields []column.Field) {
	if slices.ContainsFunc(p.Columns(), func(k int) bool { return l.open[fields[k].Name] }) {
		l.close()
	}
}
