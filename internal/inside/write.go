package inside

import (
	"context"
	"fmt"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/parse"
	"ironmonger/internal/schema"
)

// Became is what became of the rows of a dimension that are not left to others.
type Became struct {
	Taken      int64   // all of them, but for those left out
	LeftOut    []int64 // by the rules of the source
	Left       int64   // rows that are left to others
	Missing    []int64 // of each key, the rows that have none
	New        int64   // rows that made a member,
	Versions   int64   // that made a further version of one,
	Changed    int64   // and that changed one otherwise; the others say what is known
	Attributes map[string]int64
	Examples   map[string][]Example // by what the rows did, as [ledger.Figures] names it
}

// Example is a member by its natural key, and the line of the first of its rows.
type Example struct {
	Line int64
	Name []string
}

// Read is how many rows these are, without those left to others.
func (b *Became) Read() int64 {
	sum := b.Taken
	for _, n := range b.LeftOut {
		sum += n
	}
	return sum
}

// Count says what becomes of the rows.
func (r *Members) Count(ctx context.Context) (*Became, error) {
	b := &Became{LeftOut: make([]int64, len(r.source.LeaveOut)), Missing: make([]int64, len(r.keys)), Attributes: map[string]int64{},
		Examples: map[string][]Example{}}
	parts := []string{"verdict", ruleColumn, "count(*)"}
	for k := range r.keys {
		parts = append(parts, fmt.Sprintf("count(*) FILTER (WHERE missing%d)", k))
	}
	different := r.differences()
	for _, d := range different {
		parts = append(parts, "count(*) FILTER (WHERE "+d.name+")")
	}
	sql := fmt.Sprintf("SELECT %s FROM %s GROUP BY verdict, %s", strings.Join(parts, ", "), r.table, ruleColumn)
	err := r.run.Ask(ctx, sql, func(values [][]byte) error {
		n := whole(values[2])
		switch is := verdict(whole(values[0])); is {
		case leftOut:
			b.LeftOut[whole(values[1])] += n
		case hard:
			b.Left += n
		default:
			b.Taken += n
			for k := range r.keys {
				b.Missing[k] += whole(values[3+k])
			}
			for k, d := range different {
				if times := whole(values[3+len(r.keys)+k]); is == plain && times > 0 {
					b.Attributes[r.columnOf(d.sql)] += times
				}
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return b, r.countVersions(ctx, b)
}

// columnOf returns the column of the table that a column of the judged rows is.
func (r *Members) columnOf(judged string) string {
	for _, v := range r.columns {
		if quote(placed+v.name) == judged {
			return v.name
		}
	}
	return ""
}

// did are the flags of what rows did that are not the same.
var did = []named{
	{"new", begins + " and opens"},
	{"versions", begins + " and not opens"},
	{"changed", "changed"},
}

func (r *Members) countVersions(ctx context.Context, b *Became) error {
	var parts []string
	for _, d := range did {
		parts = append(parts, "count(*) FILTER (WHERE "+d.sql+")")
	}
	into := []*int64{&b.New, &b.Versions, &b.Changed}
	err := r.run.Ask(ctx, "SELECT "+strings.Join(parts, ", ")+" FROM "+r.versions, func(values [][]byte) error {
		for k, n := range into {
			*n = whole(values[k])
		}
		return nil
	})
	for k, d := range did {
		if err == nil && *into[k] > 0 {
			b.Examples[d.name], err = r.examples(ctx, d.sql)
		}
	}
	return err
}

// mostExamples is how many members are named of each kind.
const mostExamples = 3

// examples names the members that have rows of which a flag is set, those first that were heard of first.
func (r *Members) examples(ctx context.Context, flag string) (list []Example, err error) {
	of := strings.Join(r.named("", natural), ", ")
	texts := []string{"min(line)"}
	var on []string
	for _, name := range r.named("", natural) {
		texts, on = append(texts, "cast(n."+name+" as varchar)"), append(on, "n."+name+" = e."+name)
	}
	const sql = "SELECT %s FROM %s JOIN (SELECT DISTINCT %s FROM %s WHERE %s) AS e ON %s WHERE verdict = %d GROUP BY %s ORDER BY 1 LIMIT %d"
	one, reader := column.NewBatch(r.of.NaturalKey), parse.NewReader(r.model.Zone)
	one.Reset(1)
	query := fmt.Sprintf(sql, strings.Join(texts, ", "), r.numbered(r.table), of, r.versions, flag, strings.Join(on, " and "), plain,
		strings.Join(r.named("n.", natural), ", "), mostExamples)
	err = r.run.Ask(ctx, query, func(values [][]byte) error {
		e := Example{Line: whole(values[0])}
		for k, v := range values[1:] {
			if err := reader.Set(&one.Cols[k], 0, string(v)); err != nil {
				return err
			}
			e.Name = append(e.Name, one.Cols[k].Value(0))
		}
		list = append(list, e)
		return nil
	})
	return list, err
}

// Between returns, of lines in order, how many versions begin with a line before each, and how many there are in all.
func (r *Members) Between(ctx context.Context, lines []int64) (before []int64, all int64, err error) {
	counts := make([]int64, len(lines)+1)
	after := "0"
	if len(lines) > 0 {
		after = r.below("line", lines)
	}
	err = r.run.Ask(ctx, "SELECT "+after+", count(*) FROM "+r.versions+" WHERE "+begins+" GROUP BY 1", func(values [][]byte) error {
		counts[whole(values[0])] += whole(values[1])
		return nil
	})
	for _, n := range counts {
		all += n
		before = append(before, all)
	}
	return before[:len(lines)], all, err
}

// Keys say which surrogate keys versions get, in the order of the lines that they begin with: those of First and every Step
// after it, except for versions that begin with Others, which are not of the warehouse.
type Keys struct {
	First, Step int64
	Others      []int64
}

// Insert adds the versions of the plain members to the dimension's table, and what they do not tell to that of what was
// observed. It returns how many rows the dimension has got.
func (r *Members) Insert(ctx context.Context, run int64, keys Keys) (int64, error) {
	d := r.of
	key := func(of string) string {
		place := of + "_place - 1"
		if len(keys.Others) > 0 {
			place += " + " + r.below(of+"_line", keys.Others)
		}
		return fmt.Sprintf("cast(%d + (%s) * %d as bigint)", keys.First, place, keys.Step)
	}
	at, sequence := r.times()
	from := r.versions + " WHERE " + begins
	if d.Versioned() {
		const until = "(SELECT v.*, lead(%[1]s) over (partition by %[2]s order by %[1]s) AS until FROM %[3]s AS v WHERE %[4]s) AS v"
		from = fmt.Sprintf(until, at, strings.Join(r.named("", natural), ", "), r.versions, begins)
	}
	beginning, end := "", ""
	if d.Versioned() {
		beginning, end = r.bounds()
	}
	holds := map[string]string{}
	for _, v := range r.columns {
		if holds[v.name] = quote(placed + v.name); v.as == type0 || v.as == type1 {
			holds[v.name] = quote(holding + v.name)
		}
	}
	var columns, values []string
	for k, c := range d.Table.Columns {
		value := ""
		switch d.Roles[k] {
		case schema.SurrogateKey:
			value = key("version")
		case schema.DurableKey:
			value = key("member")
		case schema.NaturalKey, schema.Attribute, schema.OutriggerKey:
			value = holds[c.Name]
		case schema.EffectiveTime:
			value = at
		case schema.EffectiveSequence:
			value = sequence
		case schema.ValidityStart:
			if value = at; d.FromStart {
				value = "case when opens then " + beginning + " else " + at + " end"
			}
		case schema.ValidityEnd:
			value = "coalesce(until, " + end + ")"
		case schema.CurrentMark:
			value = "until is null"
		case schema.InferredMark:
			value = "false"
		case schema.RunMark:
			value = fmt.Sprint(run)
		default: // the hierarchy, which is worked out when all members are there
			continue
		}
		columns, values = append(columns, c.Name), append(values, value)
	}
	added, err := r.run.Insert(ctx, d.Table, columns, "SELECT "+strings.Join(values, ", ")+" FROM "+from)
	if err != nil || d.Observed == nil {
		return added, err
	}
	observed := []string{key("version"), at}
	columns = []string{d.KeyColumn(), schema.EffectiveFrom}
	if sequence != "" {
		observed, columns = append(observed, sequence), append(columns, schema.Sequence)
	}
	_, err = r.run.Insert(ctx, d.Observed, columns, "SELECT "+strings.Join(observed, ", ")+" FROM "+r.versions+" WHERE not "+begins)
	return added, err
}

// Drop removes the tables of the step.
func (r *Members) Drop(ctx context.Context) error {
	if r.worked {
		if _, err := r.run.Run(ctx, "DROP TABLE "+r.versions); err != nil {
			return err
		}
	}
	return r.judging.Drop(ctx)
}
