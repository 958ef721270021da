package ledger

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// Inferred notes the members of a dimension that a run has inferred, by their surrogate keys.
func Inferred(ctx context.Context, tx warehouse.Tx, dimension string, keys []int64, run int64) error {
	b := column.NewBatch(inferredTable.Fields())
	for _, key := range keys {
		row(b, dimension, key, run, nil)
	}
	return warehouse.AppendAll(ctx, tx, inferredTable, b)
}

// Filled notes the inferred members that a run has filled.
func Filled(ctx context.Context, tx warehouse.Tx, dimension string, keys []int64, run int64) error {
	if len(keys) == 0 {
		return nil
	}
	fields := pick(inferredTable, "dimension", "member_key", "filled_run")
	b := column.NewBatch(fields)
	for _, key := range keys {
		row(b, dimension, key, run)
	}
	_, err := tx.Amend(ctx, inferredTable.Name, 2, fields, b)
	return err
}

// InferredIn returns the run in which a member was inferred and the one in which it was filled; 0 is none.
func InferredIn(
	ctx context.Context,
	r warehouse.Reader,
	dimension string,
	key int64,
) (inferred, filled int64, err error) {
	name, number := column.Column{Type: text}, column.Column{Type: integer}
	name.AppendText(dimension)
	number.AppendInt(key)
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{Table: inferredTable.Name, Fields: pick(inferredTable, "inferred_run", "filled_run"),
			By: []string{"dimension", "member_key"}, Match: []*column.Column{&name, &number}},
	)
	if err != nil || b.N == 0 {
		return 0, 0, err
	}
	return b.Cols[0].Int[0], b.Cols[1].Int[0], nil
}
