package prove

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// unfilled counts, of columns that were added to a fact when it had rows, the rows that have nothing there since
// before: their sources say nothing, or are not there any more. It notes that on an exam, and breaks nothing.
func (p *proof) unfilled(f *schema.Fact, on *exam) error {
	runs, err := ledger.AddedTo(p.ctx, p.r, f.Table.Name)
	if err != nil || len(runs) == 0 {
		return err
	}
	fields := f.Table.Fields()
	wrote := column.Find(fields, schema.LoadRun)
	at, count := map[string]int{}, map[string]int64{}
	for name := range runs {
		if k := column.Find(fields, name); k >= 0 && name != schema.IsGone {
			at[name] = k
		}
	}
	unknown := map[string]int64{}
	for _, k := range f.Keys {
		unknown[k.Column()], _ = k.Dimension.KeyOf(star.Unknown)
	}
	look, end := on.look, on.end
	on.look = func(b *column.Batch) {
		look(b)
		for name, k := range at {
			key, isKey := unknown[name]
			for i := range b.N {
				nothing := b.Cols[k].Null[i] || isKey && b.Cols[k].Int[i] == key
				if nothing && b.Cols[wrote].Int[i] < runs[name] {
					count[name]++
				}
			}
		}
	}
	on.end = func() {
		end()
		var notes []string
		for _, name := range slices.Sorted(maps.Keys(count)) {
			rows := "rows"
			if count[name] == 1 {
				rows = "row"
			}
			notes = append(notes, fmt.Sprintf("%s, which was added in run %d, has nothing in %d %s written before", name, runs[name], count[name], rows))
		}
		if len(notes) > 0 {
			on.Note = strings.Join(append([]string{on.Note}, notes...), "; ")
			on.Note = strings.TrimPrefix(on.Note, "; ")
		}
	}
	return nil
}
