package ledger

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// Added notes that a run has added a column to a table that had rows.
func Added(ctx context.Context, tx warehouse.Tx, table, name string, run int64) error {
	return appendRow(ctx, tx, columnTable, table, name, run)
}

// AddedTo returns the columns that were added to a table, and the runs that did it.
func AddedTo(ctx context.Context, r warehouse.Reader, table string) (map[string]int64, error) {
	match := column.Column{Type: text}
	match.AppendText(table)
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{
			Table:  columnTable.Name,
			Fields: pick(columnTable, "column_name", "added_run"),
			By:     []string{"table_name"},
			Match:  []*column.Column{&match},
		},
	)
	if err != nil {
		return nil, err
	}
	runs := map[string]int64{}
	for i := range b.N {
		runs[b.Cols[0].Text[i]] = b.Cols[1].Int[i]
	}
	return runs, nil
}
