// Package survey looks at what arrived before anything is loaded: does each source's header have the
// columns that the model names, and do its first rows fit the declared types and conditions?
package survey

import (
	"cmp"
	"context"
	"os"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/shape"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
)

// Source is what was found of a source.
type Source struct {
	Name     string          `json:"source"`
	Files    []string        `json:"files"`
	Bytes    int64           `json:"bytes"`
	Rows     int64           `json:"rows_sampled"`
	SetAside int64           `json:"would_be_set_aside"`
	Reasons  []ledger.Reason `json:"reasons,omitempty"`
}

// Look opens a source and reads the first rows of each of its files. An error tells what would keep a
// load from starting.
func Look(ctx context.Context, root *os.Root, m *star.Model, s *star.Source) (*Source, error) {
	files, err := shape.Open(ctx, &source.Inputs{Model: m, Root: root}, s, func(string) bool { return true })
	if err != nil {
		return nil, err
	}
	found := &Source{Name: s.Text, Files: files.Names(), Bytes: files.Size()}
	reasons := ledger.Reasons{}
	b := column.NewBatch(files.Fields())
	for p, err := range files.Heads(ctx) {
		if err != nil {
			return nil, err
		}
		if err := p.Fill(b); err != nil {
			return nil, err
		}
		slices.SortStableFunc(b.Faults, func(x, y column.Fault) int { return cmp.Compare(x.Row, y.Row) })
		for i, f := range b.Faults {
			reasons.Count(b, &f)
			if i == 0 || b.Faults[i-1].Row != f.Row {
				found.SetAside++
			}
		}
	}
	found.Rows = files.Read()
	found.Reasons = reasons.List()
	return found, nil
}
