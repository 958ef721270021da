package ledger

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// References returns the columns of tables that point to the table of a dimension, of all models that were ever
// loaded into the warehouse.
func References(ctx context.Context, r warehouse.Reader, table string) ([]schema.Reference, error) {
	match := column.Column{Type: text}
	match.AppendText(table)
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{
			Table:   referenceTable.Name,
			Fields:  referenceTable.Fields(),
			By:      []string{"points_to"},
			Match:   []*column.Column{&match},
			OrderBy: referenceTable.Primary,
		},
	)
	if err != nil {
		return nil, err
	}
	var list []schema.Reference
	for i := range b.N {
		ref := schema.Reference{
			Table:     b.Cols[0].Text[i],
			Key:       b.Cols[1].Text[i],
			Outrigger: b.Cols[3].Int[i] != 0,
			Time:      b.Cols[4].Text[i],
			ByDay:     b.Cols[5].Int[i] != 0,
			Durable:   b.Cols[7].Int[i] != 0,
		}
		if !b.Cols[6].Null[i] {
			if ref.TimeType, err = column.ParseType(b.Cols[6].Text[i]); err != nil {
				return nil, err
			}
		}
		list = append(list, ref)
	}
	return list, nil
}

// Points writes down which columns of a table point to the tables of which dimensions, in place of what was said of
// the table before.
func Points(ctx context.Context, tx warehouse.Tx, table string, refs map[string][]schema.Reference) error {
	b := column.NewBatch(referenceTable.Fields())
	for to, list := range refs {
		for _, ref := range list {
			var t any
			if ref.Time != "" {
				t = ref.TimeType.String()
			}
			row(b, ref.Table, ref.Key, to, number(ref.Outrigger), ref.Time, number(ref.ByDay), t, number(ref.Durable))
		}
	}
	return replace(ctx, tx, referenceTable, "table_name", table, b)
}

func number(b bool) int64 {
	if b {
		return 1
	}
	return 0
}
