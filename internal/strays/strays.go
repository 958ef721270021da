// Package strays tells what did not match or did not pass: rows set aside, natural keys that no member had
// or that were outside every version, and inferred members that still wait for their own source. It reads the
// ledger and the star's tables, and changes nothing.
package strays

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/layout"
	"ironmonger/internal/ledger"
	"ironmonger/internal/warehouse"
)

// Report is what was found.
type Report struct {
	SetAside []Aside    `json:"set_aside"`
	Keys     []Key      `json:"keys"`
	Inferred []Inferred `json:"inferred"`
}

// Aside is rows that stand outside the star for the same reasons.
type Aside struct {
	Step    string `json:"step"`
	Reasons string `json:"reasons"`
	Rows    int64  `json:"rows"`
	Since   int64  `json:"since_run"` // the run in which the first of them was met
	File    string `json:"file"`      // the first example
	Line    int64  `json:"line"`
	Content string `json:"content"`
}

// Key is a natural key that strayed in the last load of a step.
type Key struct {
	Step string `json:"step"`
	Key  string `json:"key"`
	ledger.Stray
}

// Inferred is the members of a dimension that were inferred and are not filled yet.
type Inferred struct {
	Dimension string   `json:"dimension"`
	Members   int64    `json:"members"`
	Since     int64    `json:"since_run"`
	Rows      int64    `json:"rows_pointing"` // rows of other tables that point to them
	Examples  []string `json:"examples"`      // natural keys, the oldest first
}

// examples is how many natural keys are shown of each dimension.
const examples = 5

// Find looks into a warehouse.
func Find(ctx context.Context, r warehouse.Reader, s *layout.Star) (*Report, error) {
	report := &Report{SetAside: []Aside{}, Keys: []Key{}, Inferred: []Inferred{}}
	runs, err := ledger.Runs(ctx, r, 0)
	if err != nil || runs == nil {
		return report, err
	}
	report.keys(runs)
	if err := report.aside(ctx, r); err != nil {
		return nil, err
	}
	for _, d := range s.Dimensions {
		if d.Inferable() {
			if err := report.inferred(ctx, r, d); err != nil {
				return nil, err
			}
		}
	}
	return report, nil
}

// keys takes what strayed from the last entry of each step that was done.
func (p *Report) keys(runs []*ledger.Run) {
	seen := map[string]bool{}
	for _, run := range runs {
		for _, s := range run.Steps {
			if s.State != ledger.Done || seen[s.Name] {
				continue
			}
			seen[s.Name] = true
			for name, k := range s.Figures.Keys {
				for _, stray := range k.Strays {
					p.Keys = append(p.Keys, Key{s.Name, name, stray})
				}
			}
		}
	}
	slices.SortFunc(p.Keys, func(a, b Key) int {
		return cmp.Or(strings.Compare(a.Step, b.Step), strings.Compare(a.Key, b.Key), cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Line, b.Line))
	})
}

func (p *Report) aside(ctx context.Context, r warehouse.Reader) error {
	groups := map[[2]string]*Aside{}
	err := ledger.EachAside(ctx, r, func(a *ledger.Aside, firstRun int64) {
		var reasons []string // without the values, so that rows of one kind come together
		for _, reason := range strings.Split(a.Reasons, "; ") {
			reason, _, _ = strings.Cut(reason, ": ")
			reasons = append(reasons, reason)
		}
		id := [2]string{a.Step, strings.Join(reasons, "; ")}
		g := groups[id]
		if g == nil {
			g = &Aside{Step: a.Step, Reasons: id[1], Since: firstRun, File: a.File, Line: a.Line, Content: a.Content}
			groups[id] = g
		}
		g.Rows++
		g.Since = min(g.Since, firstRun)
		if a.File < g.File || a.File == g.File && a.Line < g.Line {
			g.File, g.Line, g.Content = a.File, a.Line, a.Content
		}
	})
	for _, g := range groups {
		p.SetAside = append(p.SetAside, *g)
	}
	slices.SortFunc(p.SetAside, func(a, b Aside) int {
		return cmp.Or(strings.Compare(a.Step, b.Step), cmp.Compare(b.Rows, a.Rows), strings.Compare(a.Reasons, b.Reasons))
	})
	return err
}

func (p *Report) inferred(ctx context.Context, r warehouse.Reader, d *layout.Dimension) error {
	if there, err := r.Describe(ctx, d.Table.Name); err != nil || there == nil {
		return err
	}
	mark := column.Column{Type: column.Type{Kind: column.Boolean}}
	mark.AppendInt(1)
	all := d.Table.Fields()
	fields := append(all[:1+len(d.NaturalKey):1+len(d.NaturalKey)], all[len(all)-1])
	b, err := warehouse.ReadAll(ctx, r, warehouse.Query{Table: d.Table.Name, Fields: fields, By: []string{layout.IsInferred}, Match: []*column.Column{&mark}, OrderBy: []string{d.KeyColumn()}})
	if err != nil || b.N == 0 {
		return err
	}
	found := Inferred{Dimension: d.Text, Members: int64(b.N), Since: b.Cols[len(fields)-1].Int[0]}
	keys := map[int64]bool{}
	for i := range b.N {
		keys[b.Cols[0].Int[i]] = true
		found.Since = min(found.Since, b.Cols[len(fields)-1].Int[i])
		if i < examples {
			var natural []string
			for k := range d.NaturalKey {
				natural = append(natural, b.Cols[1+k].Value(i))
			}
			found.Examples = append(found.Examples, strings.Join(natural, ", "))
		}
	}
	for _, ref := range d.Pointers() {
		n, err := count(ctx, r, ref, keys)
		if err != nil {
			return err
		}
		found.Rows += n
	}
	p.Inferred = append(p.Inferred, found)
	return nil
}

// count gives how many rows of a table point to one of the keys.
func count(ctx context.Context, r warehouse.Reader, ref layout.Reference, keys map[int64]bool) (int64, error) {
	if there, err := r.Describe(ctx, ref.Table); err != nil || there == nil {
		return 0, err
	}
	fields := []column.Field{{Name: ref.Key, Type: column.Type{Kind: column.Integer}}}
	n := int64(0)
	err := warehouse.Each(ctx, r, warehouse.Query{Table: ref.Table, Fields: fields}, func(b *column.Batch) {
		for i := range b.N {
			if !b.Cols[0].Null[i] && keys[b.Cols[0].Int[i]] {
				n++
			}
		}
	})
	return n, err
}
