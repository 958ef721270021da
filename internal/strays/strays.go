// Package strays tells what did not match or did not pass: rows set aside, natural keys that no member had
// or that were outside every version, and inferred members that still wait for their own source. It reads the
// ledger and the star's tables, and changes nothing.
package strays

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// Report is what was found.
type Report struct {
	Loads    []Load     `json:"loads"`
	SetAside []Aside    `json:"set_aside"`
	Keys     []Key      `json:"keys"`
	More     []More     `json:"more_keys,omitempty"`
	Inferred []Inferred `json:"inferred"`
}

// Load is what the last load of a step came to.
type Load struct {
	Step    string `json:"step"`
	Run     int64  `json:"run"`
	State   string `json:"state"`
	Message string `json:"message,omitempty"`
}

// Aside is rows that stand outside the star for a reason. A row with several reasons is among those of each.
type Aside struct {
	Step    string `json:"step"` // that set them aside, or the source that they are of, where that only completes others
	State   string `json:"state"`
	Reason  string `json:"reason"`
	Rows    int64  `json:"rows"`
	Since   int64  `json:"since_run"` // the run in which the first of them was met
	File    string `json:"file"`      // the first example
	Line    int64  `json:"line"`
	Value   string `json:"value,omitempty"`
	Content string `json:"content"`
}

// Key is a natural key that strayed in the last load of a step.
type Key struct {
	Step string `json:"step"`
	Key  string `json:"key"`
	ledger.Stray
}

// More is how many other natural keys of a key strayed in the last load of a step, besides those that are told.
type More struct {
	Step string `json:"step"`
	Key  string `json:"key"`
	More int64  `json:"natural_keys"`
}

// Inferred is the members of a dimension that were inferred and are not filled yet.
type Inferred struct {
	Dimension string   `json:"dimension"`
	Members   int64    `json:"members"`
	Since     int64    `json:"since_run"`
	SinceTime string   `json:"since,omitempty"` // when that run began
	Runs      []int64  `json:"runs"`            // that made them
	Rows      int64    `json:"rows_pointing"`   // rows of other tables that point to them
	Examples  []string `json:"examples"`        // natural keys, the oldest first
}

// examples is how many natural keys are shown of each dimension.
const examples = 5

// ErrNothing says that nothing was ever loaded into the warehouse.
var ErrNothing = errors.New("nothing has been loaded yet: ironmonger load")

// Find looks into a warehouse.
func Find(ctx context.Context, r warehouse.Reader, s *schema.Star) (*Report, error) {
	report := &Report{Loads: []Load{}, SetAside: []Aside{}, Keys: []Key{}, Inferred: []Inferred{}}
	runs, err := ledger.Runs(ctx, r, 0)
	if err != nil {
		return nil, err
	}
	runs = ledger.Lasting(runs)
	last := lastSteps(runs)
	if len(last) == 0 {
		return nil, ErrNothing
	}
	for _, step := range last {
		report.Loads = append(report.Loads, Load{step.Name, step.Run, step.State, step.Message})
	}
	report.keys(runs)
	if err := report.aside(ctx, r, s, last); err != nil {
		return nil, err
	}
	for _, d := range s.Dimensions {
		if d.Inferable() {
			if err := report.inferred(ctx, r, d, runs); err != nil {
				return nil, err
			}
		}
	}
	return report, nil
}

// lastSteps returns the last entry of each step, in the order of their names.
func lastSteps(runs []*ledger.Run) []*ledger.Step {
	seen := map[string]bool{}
	var last []*ledger.Step
	for _, run := range runs {
		for _, s := range run.Steps {
			if !seen[s.Name] {
				seen[s.Name], last = true, append(last, s)
			}
		}
	}
	slices.SortFunc(last, func(a, b *ledger.Step) int { return strings.Compare(a.Name, b.Name) })
	return last
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
				if k.More > 0 {
					p.More = append(p.More, More{s.Name, name, k.More})
				}
			}
		}
	}
	slices.SortFunc(
		p.More,
		func(a, b More) int { return cmp.Or(strings.Compare(a.Step, b.Step), strings.Compare(a.Key, b.Key)) },
	)
	slices.SortFunc(p.Keys, func(a, b Key) int {
		return cmp.Or(
			strings.Compare(a.Step, b.Step),
			strings.Compare(a.Key, b.Key),
			cmp.Compare(b.Rows, a.Rows),
			cmp.Compare(a.Line, b.Line),
		)
	})
}

// aside counts the rows set aside by their reasons. Those of a source that completes others are told once, though each
// step that reads it has set them aside.
func (p *Report) aside(ctx context.Context, r warehouse.Reader, s *schema.Star, last []*ledger.Step) error {
	own := map[string]string{} // the source of each step
	for _, d := range s.Dimensions {
		if own["dimension "+d.Text] = d.Text; d.Source != nil {
			own["dimension "+d.Text] = d.Source.Text
		}
	}
	for _, f := range s.Facts {
		own["fact "+f.Text] = f.Source.Text
	}
	first := map[[2]string]ledger.Reason{} // as the last load has told it
	for _, step := range last {
		for _, reason := range step.Figures.Reasons {
			first[[2]string{step.Name, reason.Reason}] = reason
		}
	}
	type id struct{ step, state, reason string }
	groups := map[id]*Aside{}
	told := map[string]bool{}
	take := func(state string) func(a *ledger.Aside, firstRun int64) error {
		return func(a *ledger.Aside, firstRun int64) error {
			step := a.Step
			if source, known := own[step]; known && source != a.Source {
				step = "source " + a.Source
				row := fmt.Sprintf("%q %q %d %q %q", step, a.File, a.Line, a.Hash, a.Reasons())
				if told[row] {
					return nil
				}
				told[row] = true
			}
			for _, c := range a.Causes {
				g := groups[id{step, state, c.Reason}]
				lead, leads := first[[2]string{a.Step, c.Reason}]
				leads = leads && lead.File == a.File && lead.Line == a.Line
				if g == nil {
					g, leads = &Aside{Step: step, State: state, Reason: c.Reason, Since: firstRun}, true
					groups[id{step, state, c.Reason}] = g
				}
				g.Rows++
				if g.Since = min(g.Since, firstRun); leads {
					g.File, g.Line, g.Value, g.Content = a.File, a.Line, c.Value, a.Content
				}
			}
			return nil
		}
	}
	if err := ledger.EachAside(ctx, r, ledger.Waiting, take(ledger.Waiting)); err != nil {
		return err
	}
	failed := map[string]bool{}
	for _, l := range p.Loads {
		failed[l.Step] = l.State == ledger.Failed
	}
	put := take(ledger.OfFail)
	if err := ledger.EachAside(ctx, r, ledger.OfFail, func(a *ledger.Aside, firstRun int64) error {
		if !failed[a.Step] {
			return nil
		}
		return put(a, firstRun)
	}); err != nil {
		return err
	}
	for _, g := range groups {
		p.SetAside = append(p.SetAside, *g)
	}
	slices.SortFunc(p.SetAside, func(a, b Aside) int {
		return cmp.Or(
			strings.Compare(a.Step, b.Step),
			strings.Compare(b.State, a.State),
			cmp.Compare(b.Rows, a.Rows),
			strings.Compare(a.Reason, b.Reason),
		)
	})
	return nil
}

func (p *Report) inferred(ctx context.Context, r warehouse.Reader, d *schema.Dimension, runs []*ledger.Run) error {
	if there, err := r.Describe(ctx, d.Table.Name); err != nil || there == nil {
		return err
	}
	mark := column.Column{Type: column.Type{Kind: column.Boolean}}
	mark.AppendInt(1)
	all := d.Table.Fields()
	fields := append(all[:1+len(d.NaturalKey):1+len(d.NaturalKey)], all[len(all)-1])
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{
			Table:   d.Table.Name,
			Fields:  fields,
			By:      []string{schema.IsInferred},
			Match:   []*column.Column{&mark},
			OrderBy: []string{d.KeyColumn()},
		},
	)
	if err != nil || b.N == 0 {
		return err
	}
	found := Inferred{Dimension: d.Text, Members: int64(b.N), Since: b.Cols[len(fields)-1].Int[0]}
	keys := map[int64]bool{}
	for i := range b.N {
		keys[b.Cols[0].Int[i]] = true
		run := b.Cols[len(fields)-1].Int[i]
		if found.Since = min(found.Since, run); !slices.Contains(found.Runs, run) {
			found.Runs = append(found.Runs, run)
		}
		if i < examples {
			var natural []string
			for k := range d.NaturalKey {
				natural = append(natural, b.Cols[1+k].Value(i))
			}
			found.Examples = append(found.Examples, strings.Join(natural, ", "))
		}
	}
	slices.Sort(found.Runs)
	for _, run := range runs {
		if run.ID == found.Since {
			found.SinceTime = run.StartedAt.Format(time.DateTime)
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

// count returns how many rows of a table point to one of the keys.
func count(ctx context.Context, r warehouse.Reader, ref schema.Reference, keys map[int64]bool) (int64, error) {
	if there, err := r.Describe(ctx, ref.Table); err != nil || there == nil {
		return 0, err
	}
	fields := []column.Field{{Name: ref.Key, Type: column.Type{Kind: column.Integer}}}
	n := int64(0)
	err := warehouse.Each(ctx, r, warehouse.Query{Table: ref.Table, Fields: fields}, func(b *column.Batch) error {
		for i := range b.N {
			if !b.Cols[0].Null[i] && keys[b.Cols[0].Int[i]] {
				n++
			}
		}
		return nil
	})
	return n, err
}
