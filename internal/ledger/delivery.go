package ledger

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// Delivery is a delivery of all members of a dimension, or of all of a scope.
type Delivery struct {
	Scope string
	On    int64 // in microseconds
	Run   int64 // that loaded it
}

// Deliveries returns those of a dimension that have been loaded.
func Deliveries(ctx context.Context, r warehouse.Reader, dimension string) ([]Delivery, error) {
	match := column.Column{Type: text}
	match.AppendText(dimension)
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{Table: deliveryTable.Name, Fields: pick(deliveryTable, "scope", "delivered_on", "run"),
			By: []string{"dimension"}, Match: []*column.Column{&match}},
	)
	if err != nil {
		return nil, err
	}
	list := make([]Delivery, b.N)
	for i := range list {
		list[i] = Delivery{b.Cols[0].Text[i], b.Cols[1].Int[i], b.Cols[2].Int[i]}
	}
	return list, nil
}

// Delivered writes down deliveries that are being loaded.
func Delivered(ctx context.Context, tx warehouse.Tx, dimension string, list []Delivery) error {
	b := column.NewBatch(deliveryTable.Fields())
	for _, d := range list {
		row(b, dimension, d.Scope, d.On, d.Run)
	}
	return warehouse.AppendAll(ctx, tx, deliveryTable, b)
}
