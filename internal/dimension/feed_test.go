package dimension

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/history"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// model has a dimension of each sort: with versions from the beginning, from the effective time, with a
// sequence, and without versions.
const model = `warehouse: {sqlite: s.db}
sources:
  s: {read: s.csv, columns: {id: integer, name: text, class: text, since: date, rank: integer}}
dimensions:
  beginning: {from: s, natural_key: id, type_1: name, type_2: class, effective: since}
  effective: {from: s, natural_key: id, type_1: name, type_2: class, effective: since, first_version: from_effective}
  sequence: {from: s, natural_key: id, type_1: name, type_2: class, effective: since, sequence: rank}
  single: {from: s, natural_key: id, type_1: [name, class], effective: since, sequence: rank}
`

// told is an observation as a test makes it up.
type told struct {
	id, since, rank int64
	name, class     string
}

// load takes observations as a step would, without a warehouse, and returns the moves that it would make.
func load(x *roster.Roster, list []told) (*change, Counts) {
	f := NewFeed(x, 1, "test")
	integer, text := column.Type{Kind: column.Integer}, column.Type{Kind: column.Text}
	id, name, class := &column.Column{Type: integer}, &column.Column{Type: text}, &column.Column{Type: text}
	since, rank := &column.Column{Type: x.Dimension().Time}, &column.Column{Type: integer}
	for _, o := range list {
		id.AppendInt(o.id)
		name.AppendText(o.name)
		class.AppendText(o.class)
		since.AppendInt(o.since)
		if o.rank == 0 {
			rank.AppendNull()
		} else {
			rank.AppendInt(o.rank)
		}
	}
	v := NewDelivery(x)
	v.Values, v.Effective = []*column.Column{id, name, class}, since
	if x.Dimension().Dimension.Sequence != nil {
		v.Sequence = rank
	}
	v.Prepare(len(list), func(int) bool { return false })
	f.From(v, "rows.csv", len(list))
	for i := range list {
		f.Take(v, i)
	}
	c := &change{f: f}
	c.outline()
	c.allocate()
	for k := range c.outcomes {
		c.moves(&c.outcomes[k])
	}
	f.settled, f.changed = c.outcomes, true
	f.Commit()
	return c, f.Counts
}

// story writes a member's history without its keys.
func story(p *history.Member) string {
	s := fmt.Sprint(p.Type1)
	for _, v := range p.Versions {
		s += fmt.Sprintf(" [%d %d/%d %v %v]", v.From, v.Effective, v.Sequence, v.Type2, v.Inferred)
	}
	return s
}

// TestHistoryIsPure: however observations are cut into loads, the history is that of one load of them all
// (R8); validity has no gap and no empty version (R9); what persists keeps its key (R14), and no key comes
// twice (R6); facts, moved as told, are always at the version of their day; every row is counted once (R20).
func TestHistoryIsPure(t *testing.T) {
	m, err := star.Parse("m.yaml", []byte(model), star.Outside{})
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range schema.New(m).Dimensions {
		for seed := range uint64(2000) {
			r := rand.New(rand.NewPCG(seed, 5))
			list := make([]told, 1+r.IntN(20))
			for i := range list {
				list[i] = told{
					id:    1 + int64(r.IntN(2)),
					since: civil.Day(2024, 1, 1) + int64(r.IntN(2+int(seed%4))),
					rank:  int64(r.IntN(3)),
					name:  string(rune('a' + r.IntN(2))),
					class: string(rune('x' + r.IntN(2+int(seed%2)))),
				}
			}
			whole := roster.New(d)
			load(whole, list)
			cut := roster.New(d)
			if r.IntN(2) == 0 { // a fact has come first
				id := &column.Column{Type: column.Type{Kind: column.Integer}}
				id.AppendInt(1)
				s := NewSession(cut, 1, "fact")
				s.Infer([]*column.Column{id}, 0)
				s.Commit()
			}
			facts := map[int64]map[int64]int64{} // member, day: key
			ever := map[int64]string{}           // key: the member and start it stood for first
			for rest := list; len(rest) > 0; {
				n := 1 + r.IntN(min(len(rest), 1+int(seed%5)))
				before := map[string]int64{}
				for id := range cut.Len() {
					for _, v := range cut.Member(int32(id)).Versions {
						before[fmt.Sprint(id, v.Effective, v.Type2)] = v.Key
					}
				}
				c, counts := load(cut, rest[:n])
				sum := counts.New + counts.Versions + counts.Filled + counts.Changed + counts.Same + counts.Conflicts
				if sum != int64(n) {
					t.Fatalf("%s, seed %d: %d rows were taken, and %d counted: %+v", d.Text, seed, n, sum, counts)
				}
				rest = rest[n:]
				check(t, d, cut, seed, c, facts, ever, before)
				if seed%3 > 0 {
					continue // a repeat could mend what a cut has broken
				}
				if _, again := load(cut, list[:len(list)-len(rest)]); again.New+again.Versions+again.Filled != 0 {
					t.Fatalf("%s, seed %d: the same rows again: %+v", d.Text, seed, again)
				}
			}
			for id := range whole.Len() {
				p := whole.Member(int32(id))
				other := &column.Column{Type: column.Type{Kind: column.Integer}}
				other.AppendInt(member(whole, id))
				number := make([]int32, 1)
				cut.Find([]*column.Column{other}, number)
				q := cut.Member(number[0])
				if story(p) != story(q) {
					t.Fatalf(
						"%s, seed %d: in one load\n%s\nin several\n%s\nof %v",
						d.Text,
						seed,
						story(p),
						story(q),
						list,
					)
				}
			}
		}
	}
}

// member returns the natural key of a member of a test's roster.
func member(x *roster.Roster, number int) int64 {
	c := &column.Column{Type: column.Type{Kind: column.Integer}}
	for id := range int64(3) {
		c.AppendInt(id)
	}
	found := make([]int32, 3)
	x.Find([]*column.Column{c}, found)
	return int64(slices.Index(found, int32(number)))
}

// check looks at a roster after a load: its versions, their keys, and the facts, which are moved first.
func check(
	t *testing.T,
	d *schema.Dimension,
	x *roster.Roster,
	seed uint64,
	c *change,
	facts map[int64]map[int64]int64,
	ever map[int64]string,
	before map[string]int64,
) {
	t.Helper()
	for id := range x.Len() {
		p := x.Member(int32(id))
		who := member(x, id)
		if !d.Versioned() {
			if len(p.Versions) != 1 {
				t.Fatalf("%s, seed %d: %d versions", d.Text, seed, len(p.Versions))
			}
			continue
		}
		if inferred := p.Versions[0].Inferred; (d.FromStart || inferred) && p.Versions[0].From != x.Rules().Beginning ||
			!d.FromStart && !inferred && p.Versions[0].From != p.Versions[0].Effective {
			t.Fatalf("%s, seed %d: the first version is from %d", d.Text, seed, p.Versions[0].From)
		}
		for k, v := range p.Versions {
			if k > 0 &&
				(v.From <= p.Versions[k-1].From || v.Type2 == p.Versions[k-1].Type2 || v.From != v.Effective) {
				t.Fatalf("%s, seed %d: %s", d.Text, seed, story(p))
			}
			if held, ok := before[fmt.Sprint(id, v.Effective, v.Type2)]; ok && held != v.Key {
				t.Fatalf(
					"%s, seed %d: a version that was there changed its key from %d to %d",
					d.Text,
					seed,
					held,
					v.Key,
				)
			}
			if owner, ok := ever[v.Key]; ok && owner != fmt.Sprint(who) {
				t.Fatalf("%s, seed %d: key %d is given again", d.Text, seed, v.Key)
			}
			ever[v.Key] = fmt.Sprint(who)
		}
		days := facts[who]
		if days == nil {
			days = map[int64]int64{}
			facts[who] = days
		}
		for day := civil.Day(2023, 12, 28); day < civil.Day(2024, 1, 12); day++ {
			at, _ := p.At(day)
			if held, ok := days[day]; ok {
				moved := held
				for _, move := range c.timed {
					if move.Old == held && day >= move.From && day < move.To {
						moved = move.New
					}
				}
				if moved != p.Versions[at].Key {
					t.Fatalf(
						"%s, seed %d: the fact of day %d had key %d, is moved to %d, and belongs to %d; %s",
						d.Text,
						seed,
						day,
						held,
						moved,
						p.Versions[at].Key,
						story(p),
					)
				}
			}
			days[day] = p.Versions[at].Key
		}
	}
}
