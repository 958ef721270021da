package roster

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// Days returns the first and the last day that the table of a calendar has; false if it has none.
func Days(ctx context.Context, r warehouse.Reader, d *schema.Dimension) (from, to int64, any bool, err error) {
	there, err := r.Describe(ctx, d.Table.Name)
	if err != nil || there == nil {
		return 0, 0, false, err
	}
	q := warehouse.Query{Table: d.Table.Name, Fields: d.NaturalKey}
	err = warehouse.Each(ctx, r, q, func(b *column.Batch) error {
		for i, day := range b.Cols[0].Int[:b.N] {
			switch {
			case b.Cols[0].Null[i]: // a special member
			case !any:
				from, to, any = day, day, true
			default:
				from, to = min(from, day), max(to, day)
			}
		}
		return nil
	})
	return from, to, any, err
}
