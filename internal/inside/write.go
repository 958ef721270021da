package inside

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/parse"
	"ironmonger/internal/schema"
)

// Became is what became of the rows of a dimension that are not left to others.
type Became struct {
	Shaped
	Taken      int64   // all of them, but for those left out
	Left       int64   // rows of the source that are left to others
	Missing    []int64 // of each key, the rows that have none
	New        int64   // rows that made a member,
	Versions   int64   // that made a further version of one,
	Changed    int64   // that changed one otherwise,
	Conflicts  int64   // and that lost to another row with other values; the others say what is known
	Attributes map[string]int64
	Examples   map[string][]Example // by what the rows did, as [ledger.Figures] names it
}

// Example is a member by its natural key, and the line of the first of its rows.
type Example struct {
	Line int64
	Name []string
}

// did are the flags of what plain rows did that are not the same.
func (r *Members) did() []named {
	list := []named{{"new", begins}, {"versions", "false"}, {"changed", "false"}, {"conflicts", opposes}}
	if r.of.Observed != nil {
		list[0].sql, list[1].sql, list[2].sql = begins+" and ordinal = 1", begins+" and ordinal > 1", "changed"
	}
	return list
}

// Count says what becomes of the rows.
func (r *Members) Count(ctx context.Context) (*Became, error) {
	b := &Became{Shaped: r.shaped(), Missing: make([]int64, len(r.keys)), Attributes: map[string]int64{}}
	parts := append([]string{"verdict", ruleColumn, "count(*)", r.size()}, r.emptied(len(r.levels))...)
	for k := range r.keys {
		parts = append(parts, fmt.Sprintf("count(*) FILTER (WHERE missing%d)", k))
	}
	did, different := r.did(), r.differences()
	for _, d := range did {
		parts = append(parts, "count(*) FILTER (WHERE "+d.sql+")")
	}
	for _, d := range different {
		parts = append(parts, "count(*) FILTER (WHERE "+d.name+")")
	}
	sql := fmt.Sprintf("SELECT %s FROM %s GROUP BY verdict, %s", strings.Join(parts, ", "), r.table, ruleColumn)
	into := []*int64{&b.New, &b.Versions, &b.Changed, &b.Conflicts}
	err := r.Statements.Ask(ctx, sql, func(values [][]byte) error {
		n, is := count(values[2]), verdict(count(values[0]))
		if is == hard {
			b.Left += count(values[3])
			return nil
		}
		b.Merged += count(values[3]) - n
		if b.empty(values[4:]); is == leftOut {
			b.LeftOut[count(values[1])] += n
			return nil
		}
		b.Taken += n
		b.Passed += n
		values = values[4+len(b.Emptied):]
		for k := range r.keys {
			b.Missing[k] += count(values[k])
		}
		if values = values[len(r.keys):]; is == same {
			return nil
		}
		for k := range did {
			*into[k] += count(values[k])
		}
		for k, d := range different {
			if times := count(values[len(did)+k]); times > 0 {
				b.Attributes[r.columnOf(d.sql)] += times
			}
		}
		return nil
	})
	if err == nil {
		err = r.leftOutParts(ctx, &b.Shaped)
	}
	if err == nil {
		b.Examples, err = r.examples(ctx, into)
	}
	return b, err
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

// mostExamples is how many members are named of each kind.
const mostExamples = 3

// examples names the members whose rows did something, those first that were heard of first, where any rows did it.
func (r *Members) examples(ctx context.Context, times []*int64) (map[string][]Example, error) {
	of := strings.Join(r.named("", natural), ", ")
	texts := []string{"touch"}
	for _, name := range r.named("", natural) {
		texts = append(texts, "cast("+name+" as varchar)")
	}
	parts, found := []string{of, "min(line) AS touch"}, []string(nil)
	did := r.did()
	for k, d := range did {
		if parts = append(parts, fmt.Sprintf("bool_or(%s) AS does%d", d.sql, k)); *times[k] > 0 {
			const some = "SELECT * FROM (SELECT %d AS did, %s FROM m WHERE does%[1]d ORDER BY touch LIMIT %[3]d) AS e%[1]d"
			found = append(found, fmt.Sprintf(some, k, strings.Join(texts, ", "), mostExamples))
		}
	}
	if found == nil {
		return nil, nil
	}
	sql := fmt.Sprintf("WITH m AS (SELECT %s FROM %s WHERE verdict = %d GROUP BY %s) %s ORDER BY 1, 2",
		strings.Join(parts, ", "), r.numbered(r.table), plain, of, strings.Join(found, " UNION ALL "))
	one, reader := column.NewBatch(r.of.NaturalKey), parse.NewReader(r.model.Zone)
	one.Reset(1)
	list := map[string][]Example{}
	err := r.Statements.Ask(ctx, sql, func(values [][]byte) error {
		e := Example{Line: count(values[1])}
		for k, v := range values[2:] {
			if err := reader.Set(&one.Cols[k], 0, string(v)); err != nil {
				return err
			}
			e.Name = append(e.Name, one.Cols[k].Value(0))
		}
		name := did[count(values[0])].name
		list[name] = append(list[name], e)
		return nil
	})
	return list, err
}

// Between returns, of lines in order, how many versions begin with a line before each, and how many there are in all.
func (r *Members) Between(ctx context.Context, lines []int64) (before []int64, all int64, err error) {
	versions := make([]int64, len(lines)+1)
	after := "0"
	if len(lines) > 0 {
		after = r.below("line", lines)
	}
	err = r.Statements.Ask(ctx, "SELECT "+after+", count(*) FROM "+r.places+" GROUP BY 1", func(values [][]byte) error {
		versions[count(values[0])] += count(values[1])
		return nil
	})
	for _, n := range versions {
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
	at, sequence := r.times()
	where := map[schema.Role]string{ // the values of the columns that are not those of the source
		schema.SurrogateKey: r.key(keys, "place", "line"), schema.DurableKey: r.key(keys, "first_place", "first_line"),
		schema.EffectiveTime: at, schema.EffectiveSequence: sequence,
		schema.ValidityStart: at, schema.CurrentMark: "until is null", schema.InferredMark: "false", schema.GoneMark: "false",
		schema.RunMark: fmt.Sprint(run),
	}
	parts := []string{"j.*", "p.place"}
	if !slices.Contains(r.numbers(), "line") {
		parts = append(parts, "p.line")
	}
	window := "(partition by " + strings.Join(r.named("j.", natural), ", ")
	if d.Durable {
		parts = append(parts, "min(p.place) over "+window+") AS first_place", "min(p.line) over "+window+") AS first_line")
	}
	if d.Versioned() {
		beginning, end := bounds(r.engine, d.Time)
		parts = append(parts, "lead("+at+") over "+window+" order by "+at+") AS until")
		where[schema.ValidityEnd] = "coalesce(until, " + end + ")"
		if d.FromStart {
			where[schema.ValidityStart] = "case when ordinal = 1 then " + beginning + " else " + at + " end"
		}
	}
	holds := map[string]string{}
	for _, v := range r.columns {
		if holds[v.name] = quote(placed + v.name); v.as == type0 || v.as == type1 && d.Observed != nil {
			holds[v.name] = quote(holding + v.name)
		}
	}
	var columns, values []string
	for k, c := range d.Table.Columns {
		value := where[d.Roles[k]]
		if value == "" {
			value = holds[c.Name]
		}
		if value != "" { // the hierarchy is worked out when all members are there
			columns, values = append(columns, c.Name), append(values, value)
		}
	}
	const begun = "SELECT %s FROM (SELECT %s FROM %s AS j JOIN %s AS p ON %s WHERE verdict = %d) AS v"
	query := fmt.Sprintf(begun, strings.Join(values, ", "), strings.Join(parts, ", "), r.table, r.places, r.placeOf(""), plain)
	added, err := r.Statements.Insert(ctx, d.Table, columns, query)
	if err == nil && d.Observed != nil {
		err = r.observe(ctx, keys)
	}
	return added, err
}

// observe adds the observations that made no version.
func (r *Members) observe(ctx context.Context, keys Keys) error {
	at, sequence := r.times()
	values, columns := []string{r.key(keys, "p.place", "p.line"), "j." + at}, []string{r.of.KeyColumn(), schema.EffectiveFrom}
	if sequence != "" {
		values, columns = append(values, "j."+sequence), append(columns, schema.Sequence)
	}
	const rest = "SELECT %s FROM %s AS j JOIN %s AS p ON %s WHERE verdict = %d and %s and not %s"
	query := fmt.Sprintf(rest, strings.Join(values, ", "), r.table, r.places, r.placeOf(ofFirst), plain, counts, begins)
	_, err := r.Statements.Insert(ctx, r.of.Observed, columns, query)
	return err
}

// placeOf joins judged rows, or the first rows of their versions, with their places.
func (r *Members) placeOf(of string) string {
	var on []string
	for _, name := range r.numbers() {
		on = append(on, fmt.Sprintf("p.%s = j.%s%[1]s", name, of))
	}
	return strings.Join(on, " and ")
}

// key is the surrogate key of a version that begins with a line, by its place among those of the warehouse.
func (r *Members) key(keys Keys, place, line string) string {
	if place += " - 1"; len(keys.Others) > 0 {
		place += " + " + r.below(line, keys.Others)
	}
	return fmt.Sprintf("cast(%d + (%s) * %d as bigint)", keys.First, place, keys.Step)
}

// Drop removes the tables of the step.
func (r *Members) Drop(ctx context.Context) error {
	for _, table := range r.made {
		if _, err := r.Statements.Run(ctx, "DROP TABLE "+table); err != nil {
			return err
		}
	}
	return nil
}
