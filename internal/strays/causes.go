package strays

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ironmonger/internal/cause"
	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Cause is natural keys that have no member for one reason.
type Cause struct {
	Dimension string   `json:"dimension"`
	Kind      string   `json:"cause"`
	What      string   `json:"what"`
	Keys      int64    `json:"natural_keys"`
	Rows      int64    `json:"rows"`
	Example   string   `json:"example"`
	Member    string   `json:"member,omitempty"` // that is meant by it, perhaps
	File      string   `json:"file,omitempty"`   // where the example stands
	Line      int64    `json:"line,omitempty"`
	Outcome   []string `json:"outcomes"`         // inferred, waiting for a member, set aside
	Mend      string   `json:"mend,omitempty"`   // a change to the model that would give them their members
	Mended    int64    `json:"mended,omitempty"` // of the natural keys
	Merged    int64    `json:"merged,omitempty"` // members that the change would make one with others
}

// lost is a natural key without a member.
type lost struct {
	natural []string
	rows    int64
	file    string
	line    int64
	outcome string
}

// The outcomes of a natural key without a member.
const (
	wasInferred = "inferred"
	waits       = "no member yet"
	wasAside    = "set aside"
)

// Causes finds out why natural keys have no members: those of members that were inferred, of facts that wait for a
// member, and of rows that were set aside. The most frequent cause of a dimension comes first.
func Causes(ctx context.Context, r warehouse.Reader, s *schema.Star) ([]Cause, error) {
	found := []Cause{}
	files, err := ledger.FileNames(ctx, r)
	if err != nil {
		return nil, err
	}
	asides, err := unmatchedAsides(ctx, r)
	if err != nil {
		return nil, err
	}
	runs, err := ledger.Runs(ctx, r, 0)
	if err != nil {
		return nil, err
	}
	runs = ledger.Lasting(runs)
	places, last := strayPlaces(runs), lastSteps(runs)
	for _, d := range s.Dimensions {
		if d.Calendar != nil || d.Clock != nil || d.Junk || len(d.NaturalKey) == 0 {
			continue
		}
		early, err := outsides(ctx, r, s, d, last)
		if err != nil {
			return nil, err
		}
		found = append(found, early...)
		list, err := lostOf(ctx, r, s, d, files, asides, places)
		if err != nil || len(list) == 0 {
			if err != nil {
				return nil, err
			}
			continue
		}
		members, err := naturalKeys(ctx, r, d)
		if err != nil {
			return nil, err
		}
		causes := group(d, list, members)
		for k := range causes {
			if err := causes[k].mend(d, members); err != nil {
				return nil, err
			}
			found = append(found, causes[k].Cause)
		}
	}
	return found, nil
}

// naturalKeys reads the natural keys of the members of a dimension that were not inferred, each once.
func naturalKeys(ctx context.Context, r warehouse.Reader, d *schema.Dimension) ([][]string, error) {
	fields := append([]column.Field{{Name: d.KeyColumn(), Type: column.Type{Kind: column.Integer}}}, d.NaturalKey...)
	marked := d.LookedUp == nil && d.Inferable()
	if marked {
		fields = append(fields, column.Field{Name: schema.IsInferred, Type: column.Type{Kind: column.Boolean}})
	}
	var list [][]string
	seen := map[string]bool{}
	q := warehouse.Query{Table: d.Table.Name, Fields: fields, Convert: d.Table.Borrowed}
	if there, err := r.Describe(ctx, d.Table.Name); err != nil || there == nil {
		return nil, err
	}
	return list, warehouse.Each(ctx, r, q, func(b *column.Batch) error {
	rows:
		for i := range b.N {
			if b.Cols[0].Int[i] < 0 || marked && b.Cols[len(fields)-1].Int[i] != 0 {
				continue
			}
			natural := make([]string, len(d.NaturalKey))
			for k := range natural {
				if b.Cols[1+k].Null[i] {
					continue rows
				}
				natural[k] = strings.Clone(b.Cols[1+k].Value(i))
			}
			if id := strings.Join(natural, "\x00"); !seen[id] {
				seen[id], list = true, append(list, natural)
			}
		}
		return nil
	})
}

// lostOf lists the natural keys that have no member of a dimension.
func lostOf(
	ctx context.Context,
	r warehouse.Reader,
	s *schema.Star,
	d *schema.Dimension,
	files map[int64]string,
	asides map[string][]ledger.Aside,
	places map[string]ledger.Stray,
) ([]lost, error) {
	list, err := inferredOf(ctx, r, d, files)
	if err != nil {
		return nil, err
	}
	for _, f := range s.Facts {
		for _, k := range f.Keys {
			if k.Dimension != d.Dimension {
				continue
			}
			open, err := ledger.OpenKeys(ctx, r, f.Table.Name, k.Column())
			if err != nil {
				return nil, err
			}
			at := map[string]int{}
			for _, o := range open {
				id := strings.Join(o.Natural, "\x00")
				if n, met := at[id]; met {
					list[n].rows++
					continue
				}
				at[id] = len(list)
				first := places["fact "+f.Text+"\x00"+k.Text+"\x00"+strings.Join(o.Natural, ", ")]
				list = append(list, lost{o.Natural, 1, first.File, first.Line, waits})
			}
			list = append(list, asideOf(d, asides["fact "+f.Text+"\x00"+k.Text])...)
		}
	}
	for _, o := range s.Dimensions {
		for _, k := range o.Keys {
			if k.Dimension == d.Dimension {
				list = append(list, asideOf(d, asides["dimension "+o.Text+"\x00"+k.Text])...)
			}
		}
	}
	return list, nil
}

// strayPlaces returns the natural keys that strayed in the last loads, with where they stood first, by step and key.
func strayPlaces(runs []*ledger.Run) map[string]ledger.Stray {
	places := map[string]ledger.Stray{}
	for _, run := range runs { // the last one first
		for _, step := range run.Steps {
			for key, k := range step.Figures.Keys {
				for _, s := range k.Strays {
					if id := step.Name + "\x00" + key + "\x00" + s.Natural; places[id].File == "" {
						places[id] = s
					}
				}
			}
		}
	}
	return places
}

// inferredOf lists the natural keys of inferred members, with the rows that point to them.
func inferredOf(ctx context.Context, r warehouse.Reader, d *schema.Dimension, files map[int64]string) ([]lost, error) {
	if there, err := r.Describe(ctx, d.Table.Name); err != nil || there == nil || d.LookedUp != nil || !d.Inferable() {
		return nil, err
	}
	mark := column.Column{Type: column.Type{Kind: column.Boolean}}
	mark.AppendInt(1)
	fields := append([]column.Field{{Name: d.KeyColumn(), Type: column.Type{Kind: column.Integer}}}, d.NaturalKey...)
	b, err := warehouse.ReadAll(ctx, r, warehouse.Query{
		Table: d.Table.Name, Fields: fields, By: []string{schema.IsInferred}, Match: []*column.Column{&mark},
	})
	if err != nil {
		return nil, err
	}
	var list []lost
	at := map[int64]int{}
	for i := range b.N {
		natural := make([]string, len(d.NaturalKey))
		for k := range natural {
			natural[k] = b.Cols[1+k].Value(i)
		}
		at[b.Cols[0].Int[i]], list = len(list), append(list, lost{natural: natural, outcome: wasInferred})
	}
	if len(list) == 0 {
		return nil, nil
	}
	for _, ref := range d.Pointers() {
		if err := pointing(ctx, r, ref, files, at, list); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// pointing counts the rows of a table that point to members, and finds the first of each.
func pointing(
	ctx context.Context,
	r warehouse.Reader,
	ref schema.Reference,
	files map[int64]string,
	at map[int64]int,
	list []lost,
) error {
	there, err := r.Describe(ctx, ref.Table)
	if err != nil || there == nil {
		return err
	}
	integer := column.Type{Kind: column.Integer}
	fields := []column.Field{{Name: ref.Key, Type: integer}}
	placed := there.Has(schema.LoadLine)
	if placed {
		fields = append(fields, column.Field{Name: schema.LoadLine, Type: integer})
	}
	first := map[int]int64{}
	err = warehouse.Each(ctx, r, warehouse.Query{Table: ref.Table, Fields: fields}, func(b *column.Batch) error {
		for i := range b.N {
			n, ok := at[b.Cols[0].Int[i]]
			if b.Cols[0].Null[i] || !ok {
				continue
			}
			if list[n].rows++; !placed || b.Cols[1].Null[i] {
				continue
			}
			if line := b.Cols[1].Int[i]; first[n] == 0 || line < first[n] {
				first[n] = line
			}
		}
		return nil
	})
	for n, line := range first {
		if file, at := ledger.FileAndLine(line); list[n].file == "" {
			list[n].file, list[n].line = files[file], at
		}
	}
	return err
}

// unmatchedAsides reads the rows set aside that wait because a natural key had no member, by step and key.
func unmatchedAsides(ctx context.Context, r warehouse.Reader) (map[string][]ledger.Aside, error) {
	found := map[string][]ledger.Aside{}
	err := ledger.EachAside(ctx, r, ledger.Waiting, func(a *ledger.Aside, _ int64) error {
		for _, c := range a.Causes {
			if c.Of != "" && c.Reason == "unmatched "+c.Of {
				one := *a
				one.Causes = []ledger.Cause{c}
				found[a.Step+"\x00"+c.Of] = append(found[a.Step+"\x00"+c.Of], one)
			}
		}
		return nil
	})
	return found, err
}

// asideOf lists the natural keys of rows set aside. One that was clipped, or cannot be taken to pieces, is passed over.
func asideOf(d *schema.Dimension, rows []ledger.Aside) []lost {
	var list []lost
	at := map[string]int{}
	for _, a := range rows {
		value := a.Causes[0].Value
		natural := []string{value}
		if len(d.NaturalKey) > 1 {
			natural = strings.Split(value, ", ")
		}
		if len(natural) != len(d.NaturalKey) || strings.HasSuffix(value, "…") {
			continue
		}
		if n, met := at[value]; met {
			list[n].rows++
			continue
		}
		at[value], list = len(list), append(list, lost{natural, 1, a.File, a.Line, wasAside})
	}
	return list
}

// causeGroup is a cause on its way, with the natural keys that have it.
type causeGroup struct {
	Cause
	of    cause.Cause
	lost  [][]string
	means []int // the member of each
	most  int64
}

// group finds the cause of each natural key, and puts those of one cause together.
func group(d *schema.Dimension, list []lost, members [][]string) []*causeGroup {
	index := cause.NewIndex(members)
	byID := map[string]*causeGroup{}
	var groups []*causeGroup
	seen := map[string]bool{}
	for _, l := range list {
		c := index.Find(l.natural)
		id := c.ID()
		g := byID[id]
		if g == nil {
			g = &causeGroup{Cause: Cause{Dimension: d.Text, Kind: string(c.Kind), What: c.Says(column.Names(d.NaturalKey))}, of: c}
			byID[id], groups = g, append(groups, g)
		}
		key := strings.Join(l.natural, "\x00")
		if g.Rows += l.rows; !seen[key] {
			seen[key] = true
			g.Keys++
			g.lost, g.means = append(g.lost, l.natural), append(g.means, c.Member)
		}
		if !slices.Contains(g.Outcome, l.outcome) {
			g.Outcome = append(g.Outcome, l.outcome)
		}
		if g.Example == "" || l.rows > g.most || g.File == "" && l.file != "" && l.rows == g.most {
			g.Example, g.most, g.File, g.Line = strings.Join(l.natural, ", "), l.rows, l.file, l.line
			if g.Member = ""; c.Member >= 0 {
				g.Member = strings.Join(members[c.Member], ", ")
			}
		}
	}
	slices.SortStableFunc(groups, func(a, b *causeGroup) int { return cmp.Or(cmp.Compare(b.Rows, a.Rows), cmp.Compare(b.Keys, a.Keys)) })
	return groups
}

// mostCodes is how many other codes are proposed for one cause.
const mostCodes = 10

// mend proposes what would give the natural keys their members, and tries it with all of them and with all members.
func (g *causeGroup) mend(d *schema.Dimension, members [][]string) error {
	for k, f := range d.NaturalKey {
		if g.of.Kind != cause.Written || f.Type.Kind != column.Text || !g.differs(k, members) {
			continue
		}
		for _, e := range g.of.Expressions(quotedName(f.Name)) {
			rule := star.Matching{Name: star.Name{Text: f.Name}, As: star.Expression{Name: star.Name{Text: e}}}
			mended, merged, err := g.try(&rule, f.Type, k, members)
			if err != nil {
				return err
			}
			if mended > g.Mended {
				g.Mend, g.Mended, g.Merged = fmt.Sprintf("matching: {%s: %s}", f.Name, yamlText(e)), mended, merged
			}
		}
	}
	if g.Mend != "" {
		return nil
	}
	if g.of.Kind == cause.Near && g.of.Member >= 0 && len(d.NaturalKey) == 1 && d.NaturalKey[0].Type.Kind == column.Text {
		var codes []string
		for n := range min(len(g.lost), mostCodes) {
			codes = append(codes, yamlText(g.lost[n][0])+": "+yamlText(members[g.means[n]][0]))
		}
		g.Mend = fmt.Sprintf("matching: {%s: {codes: {%s}}}", d.NaturalKey[0].Name, strings.Join(codes, ", "))
		g.Mended = int64(len(codes))
	}
	return nil
}

// differs reports whether part k of a natural key is what is written differently.
func (g *causeGroup) differs(k int, members [][]string) bool {
	for n, natural := range g.lost {
		if natural[k] != members[g.means[n]][k] {
			return true
		}
	}
	return false
}

// try applies a rule to the natural keys and to those of the members: how many of the former have their member then,
// and how many members are no longer told from others.
func (g *causeGroup) try(rule *star.Matching, t column.Type, part int, members [][]string) (mended, merged int64, err error) {
	program, err := rule.Compile(t)
	if err != nil {
		return 0, 0, err
	}
	apply := func(list [][]string) []string {
		b := column.NewBatch([]column.Field{{Name: rule.Text, Type: t}})
		for _, natural := range list {
			b.Cols[0].AppendText(natural[part])
		}
		b.N = len(list)
		out := program.Eval(b)
		forms := make([]string, len(list))
		for n, natural := range list {
			natural = slices.Clone(natural)
			natural[part] = out.Text[n]
			forms[n] = strings.Join(natural, "\x00")
		}
		return forms
	}
	forms := map[string]int{}
	for _, form := range apply(members) {
		if forms[form]++; forms[form] > 1 {
			merged++
		}
	}
	means := apply(g.of.Members(members, g.means))
	for n, form := range apply(g.lost) {
		if form == means[n] {
			mended++
		}
	}
	return mended, merged, nil
}

var plainName = regexp.MustCompile(`^[a-z_][a-z0-9_]*$`)

// quotedName is a column as expressions have it.
func quotedName(name string) string {
	if plainName.MatchString(name) {
		return name
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// yamlText writes a text so that YAML reads it as it is.
func yamlText(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
