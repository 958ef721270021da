package inside

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
)

// The rows of a union come from several tables, which are unlike: each has types and an order of its own. So each is
// shaped by itself up to the end, or up to where they become one or depend on each other, numbered, and put into a table
// of the step. What is judged is all of them, one after the other, as rows that have arrived, or what is made of these.

// Branch is one of the sources of a union, with all that is made of it.
type Branch struct {
	judging
	File    int64   // the number of its table among files, as the star has it
	Rows    int64   // that it has, but for those that rules leave out
	LeftOut []int64 // by the rules of its levels

	first int64 // rows of the branches before, those left out among them
	all   int64
	above []Level  // the level whose rows become one, or depend on each other, and those above; nil if there is none
	told  []string // the columns that say which row is which
	sure  bool     // these have to be values for sure
	fault bool     // some rows are not plain
}

// NewBranch prepares the shaping of rows of a table as the nth part of a union, for the last of some levels, of which some
// columns tell the rows apart.
func NewBranch(m *star.Model, from *source.Plain, levels []Level, apart []string, nth int, step Step) *Branch {
	b := &Branch{judging: newJudging(nil, nil, m, from, levels, step), told: apart}
	if b.merges(apart); b.merging != nil {
		b.told = append(slices.Clone(b.common()), b.beneath(apart)...)
		at := b.merging.at
		b.judging, b.above = newJudging(nil, nil, m, from, levels[:at+1], step), levels[at:]
	}
	b.table = b.own(fmt.Sprintf("load_branch_%d", nth))
	b.parted, b.part = true, nth
	b.LeftOut = make([]int64, b.rules())
	return b
}

// NewJoined is [NewBranch] for a union that others are joined with by some columns, whose values have to be known.
func NewJoined(m *star.Model, from *source.Plain, levels []Level, by []string, nth int, step Step) *Branch {
	b := NewBranch(m, from, levels, by, nth, step)
	b.sure = true
	return b
}

// Levels are those that the branch shapes its rows for.
func (b *Branch) Levels() []Level { return b.levels }

// Gather shapes the rows of the branches of a union, and returns them as if they had arrived, with some columns of their
// last level, or with all that are needed where they become one or depend on each other. It says whether of all rows those
// columns are known that tell which row is which. A file has so many lines at most.
func Gather(
	ctx context.Context, branches []*Branch, fields []column.Field, lines int64,
) (of *Arrived, known bool, err error) {
	of, known = &Arrived{levels: branches[0].above}, true
	var parts []string
	first := int64(0)
	for _, b := range branches {
		b.first = first
		have, all, err := b.gatherOwn(ctx, fields)
		if err != nil {
			return nil, false, err
		}
		known, of.faults, of.Fields = known && all, of.faults || b.fault, have
		first += b.all
		parts = append(parts, b.arriving(have, lines))
	}
	of.Table = "(" + strings.Join(parts, " UNION ALL ") + ")"
	of.place = func(line string) string {
		places := "case"
		for _, b := range slices.Backward(branches) {
			own := fmt.Sprintf("%s - %d", line, b.first)
			places += fmt.Sprintf(" when %s > %d then %s", line, b.first, b.place(own, lines))
		}
		return places + " end"
	}
	return of, known, nil
}

// place is the file and line of a row of the branch by its number there.
func (b *Branch) place(number string, lines int64) string {
	return fmt.Sprintf("%d + least(%s, %d)", b.File*lines, number, lines-1)
}

// shape makes layers of the rows: up to the end, where they have some columns, or up to where they become one or depend on
// each other.
func (b *Branch) shape(fields []column.Field) (*rows, error) {
	if b.above == nil {
		l, doubted, err := b.judging.shape()
		return &rows{layers: l, fields: fields, doubted: doubted}, err
	}
	l, err := b.rows(len(b.levels) - 1)
	if err == nil {
		l.close()
	}
	return l, err
}

// gatherOwn puts the shaped rows of the branch into a table of the step, and returns which columns they have.
func (b *Branch) gatherOwn(ctx context.Context, want []column.Field) (fields []column.Field, known bool, err error) {
	l, err := b.shape(want)
	if err != nil { // what types of columns refuse
		return nil, false, err
	}
	for _, name := range b.told {
		if b.sure && l.doubted[name] {
			return nil, false, notSure(name, b.source)
		}
	}
	if err := b.usable(ctx); err != nil {
		return nil, false, err
	}
	if err := b.gatherOthers(ctx); err != nil {
		return nil, false, err
	}
	if err := b.plan(ctx, &b.judging); err != nil {
		return nil, false, err
	}
	if l, err = b.shape(want); err != nil { // as it is planned
		return nil, false, err
	}
	told := slices.DeleteFunc(slices.Clone(b.told), func(name string) bool { return !l.doubted[name] })
	holds, err := b.put(ctx, b.engine, b.from, l.layers, []string{okColumn, ruleColumn}, l.fields, told, b.table)
	if err != nil {
		return nil, false, err
	}
	known, b.fault = !holds[vagueColumn], holds[faultsColumn]
	if err := b.planned(ctx); err != nil {
		return nil, false, err
	}
	sql := fmt.Sprintf("SELECT %s, count(*) FROM %s GROUP BY %[1]s", ruleColumn, b.table)
	return l.fields, known, b.Statements.Ask(ctx, sql, func(values [][]byte) error {
		n := count(values[1])
		if b.all += n; values[0] == nil {
			b.Rows = n
		} else {
			b.LeftOut[count(values[0])] = n
		}
		return nil
	})
}

// arriving selects the rows of the branch that are not left out, as a table of rows that have arrived has them.
func (b *Branch) arriving(fields []column.Field, lines int64) string {
	parts := []string{
		fmt.Sprintf("%d + line AS c0", b.first),
		b.place("line", lines) + " AS c1",
		"not " + okColumn + " AS c2",
	}
	for k, f := range fields {
		parts = append(parts, fmt.Sprintf("%s AS c%d", quote(said+f.Name), k+len(ArrivedTypes())))
	}
	return fmt.Sprintf("SELECT %s FROM %s WHERE %s IS NULL", strings.Join(parts, ", "), b.numbered(b.table), ruleColumn)
}

// First is how many rows stand in the branches before: the numbers of all rows begin with the next ones there.
func (b *Branch) First() int64 { return b.first }

// Joins is how many joins the sources of the branch have.
func (b *Branch) Joins() int { return len(b.joins) }

// Left reads the rows of the branch that are left to others, once all are judged.
func (b *Branch) Left(ctx context.Context, of Judged) (*Left, error) {
	r := of.judged()
	return b.left(ctx, func(columns string) (string, error) {
		if r.merging != nil {
			return r.leftParts(columns, b.numbered(b.table)), r.whole(ctx)
		}
		const hardOnes = "SELECT %s FROM %s WHERE n.line IN (SELECT line - %d FROM %s WHERE %s = %d)"
		return fmt.Sprintf(hardOnes, columns, b.numbered(b.table), b.first, r.numbered(r.table), r.become(), hard), nil
	})
}

// Judged are rows that the warehouse has judged: [Rows] or [Members].
type Judged interface{ judged() *judging }

func (r *judging) judged() *judging { return r }
