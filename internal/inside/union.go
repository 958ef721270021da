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

// The rows of a union come from several tables, which are unlike: each has types and an order of its own. So each is shaped by
// itself up to the end, numbered, and put into a table of the step. What is judged is all of them, one after the other, as rows
// that have arrived.

// Branch is one of the sources of a union, with all that is made of it.
type Branch struct {
	judging
	File    int64   // the number of its table among files, as the star has it
	Rows    int64   // that it has, but for those that rules leave out
	LeftOut []int64 // by the rules of its levels

	first int64 // rows of the branches before, those left out among them
	all   int64
}

// NewBranch prepares the shaping of rows of a table as the nth part of a union, for the last of some levels.
func NewBranch(m *star.Model, from *source.Plain, levels []Level, nth int, step Step) *Branch {
	b := &Branch{judging: newJudging(nil, nil, m, from, levels, step)}
	b.table = b.own(fmt.Sprintf("load_branch_%d", nth))
	b.parted, b.part = true, nth
	b.LeftOut = make([]int64, b.rules())
	return b
}

// Gather shapes the rows of the branches of a union, and returns them as if they had arrived, with some columns. told are those
// that tell which row is which: it says whether they are known of all rows. A file has so many lines at most.
func Gather(
	ctx context.Context, branches []*Branch, fields []column.Field, told []string, lines int64,
) (of *Arrived, known bool, err error) {
	var parts []string
	first := int64(0)
	known = true
	for _, b := range branches {
		b.first = first
		all, err := b.gatherOwn(ctx, fields, told)
		if err != nil {
			return nil, false, err
		}
		known = known && all
		first += b.all
		parts = append(parts, b.arriving(fields, lines))
	}
	return &Arrived{Table: "(" + strings.Join(parts, " UNION ALL ") + ")", Fields: fields}, known, nil
}

// gatherOwn puts the shaped rows of the branch into a table of the step.
func (b *Branch) gatherOwn(ctx context.Context, fields []column.Field, told []string) (known bool, err error) {
	if _, _, err := b.shape(); err != nil { // what types of columns refuse
		return false, err
	}
	if err := b.usable(ctx); err != nil {
		return false, err
	}
	if err := b.gatherOthers(ctx); err != nil {
		return false, err
	}
	if err := b.plan(ctx, &b.judging); err != nil {
		return false, err
	}
	l, doubted, err := b.shape() // as it is planned
	if err != nil {
		return false, err
	}
	told = slices.DeleteFunc(slices.Clone(told), func(name string) bool { return !doubted[name] })
	holds, err := b.put(ctx, b.engine, b.from, l, []string{okColumn, ruleColumn}, fields, told, b.table)
	if err != nil {
		return false, err
	}
	known = !holds[vagueColumn]
	if err := b.planned(ctx); err != nil {
		return false, err
	}
	sql := fmt.Sprintf("SELECT %s, count(*) FROM %s GROUP BY %[1]s", ruleColumn, b.table)
	return known, b.Statements.Ask(ctx, sql, func(values [][]byte) error {
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
		fmt.Sprintf("%d + least(line, %d) AS c1", b.File*lines, lines-1),
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
		const hardOnes = "SELECT %s FROM %s WHERE n.line IN (SELECT line - %d FROM %s WHERE %s = %d)"
		return fmt.Sprintf(hardOnes, columns, b.numbered(b.table), b.first, r.numbered(r.table), r.become(), hard), nil
	})
}

// Judged are rows that the warehouse has judged: [Rows] or [Members].
type Judged interface{ judged() *judging }

func (r *judging) judged() *judging { return r }
