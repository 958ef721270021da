// Package precheck looks at what arrived before anything is loaded: does each source's header have the
// columns that the model names, and do its first rows fit the declared types and conditions?
package precheck

import (
	"cmp"
	"context"
	"os"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/exact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
)

// Source is what was found of a source.
type Source struct {
	Name     string          `json:"source"`
	Files    []string        `json:"files"`
	Bytes    int64           `json:"bytes"`
	Rows     int64           `json:"rows_sampled"`
	SetAside int64           `json:"would_be_set_aside"`
	Reasons  []ledger.Reason `json:"reasons,omitempty"`
	Notes    []string        `json:"notes,omitempty"` // what people should know of it

	Share int64 `json:"-"` // of all rows, in millionths, that would be set aside, as far as the sample tells
}

// Limit is a limit that a step would pass by what the sample tells, so that a load would keep nothing of it.
type Limit struct {
	Step    string `json:"step"`
	Source  string `json:"source"`
	Share   string `json:"would_be_set_aside"`
	Limit   string `json:"limit"`
	Because string `json:"because"`
}

// Passed lists the limits of a model's steps that the samples of their sources pass (rule R7).
func Passed(m *star.Model, found []*Source) []Limit {
	var list []Limit
	judge := func(step string, s *star.Source, limits star.Limits) {
		for _, of := range found {
			if s == nil || of.Name != s.Text || limits.SetAside == star.NoLimit || of.Rows <= star.LimitFrom ||
				of.Share <= limits.SetAside ||
				len(of.Reasons) == 0 {
				continue
			}
			percent := func(millionths int64) string {
				return string(exact.AppendDecimal(nil, exact.Wide(millionths/1000), 1)) + "%"
			}
			r := of.Reasons[0]
			list = append(
				list,
				Limit{
					step,
					s.Text,
					percent(of.Share),
					percent(limits.SetAside),
					r.Reason + " (" + diag.Place{File: r.File, Line: int(r.Line)}.String() + ")",
				},
			)
		}
	}
	for _, d := range m.Dimensions {
		judge("dimension "+d.Text, d.Source, d.Limits)
	}
	for _, f := range m.Facts {
		judge("fact "+f.Text, f.Source, f.Limits)
	}
	return list
}

// Look opens a source and reads a sample of its rows, of the columns that a load takes; of a source that no step reads,
// all. An error tells what would keep a load from starting.
func Look(ctx context.Context, root *os.Root, m *star.Model, s *star.Source) (*Source, error) {
	taken := transform.Wanted(m)[s]
	wants := func(name string) bool { return taken == nil || taken[name] }
	files, err := transform.Open(ctx, &source.Inputs{Model: m, Root: root}, s, wants)
	if err != nil {
		return nil, err
	}
	found := &Source{Name: s.Text, Files: files.Names(), Bytes: files.Size(), Notes: files.Notes()}
	if len(s.Stands()) > 0 { // what its rows become is not known before other steps have been loaded
		return found, nil
	}
	reasons := ledger.Reasons{}
	b := column.NewBatch(files.Fields())
	bad, all := 0.0, 0.0 // bytes, by what the samples stand for
	for p, err := range files.Samples(ctx) {
		if err != nil {
			return nil, err
		}
		if err := p.Fill(b); err != nil {
			return nil, err
		}
		slices.SortStableFunc(b.Faults, func(x, y column.Fault) int { return cmp.Compare(x.Row, y.Row) })
		aside := int64(0)
		for i, f := range b.Faults {
			reasons.Count(b, &f)
			if i == 0 || b.Faults[i-1].Row != f.Row {
				aside++
			}
		}
		found.SetAside += aside
		if b.N > 0 {
			weight := float64(max(b.From.Bytes, 1))
			all, bad = all+weight, bad+weight*float64(aside)/float64(b.N)
		}
	}
	found.Rows = files.Read()
	if weighed := s.Distinct == nil && s.Group == nil; weighed && all > 0 {
		found.Share = int64(bad / all * 100_0000)
	} else if !weighed && found.Rows > 0 { // rows that are added up don't come in batches as they were read
		found.Share = found.SetAside * 100_0000 / found.Rows
	}
	found.Reasons = reasons.List()
	return found, nil
}
