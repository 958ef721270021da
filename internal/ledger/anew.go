package ledger

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// Anew has the ledger forget what steps have read, met and kept of their tables, since those are made anew. It keeps
// the runs, the order in which files came, which keys were given, who was erased, and the rows set aside.
func Anew(ctx context.Context, tx warehouse.Tx, steps, dimensions, facts, tables []string) error {
	deliveries := append([]string(nil), dimensions...)
	for _, f := range facts {
		deliveries = append(deliveries, "fact "+f)
	}
	for _, x := range []struct {
		table *warehouse.Table
		by    string
		names []string
	}{
		{readTable, "step", steps},
		{markTable, "step", steps},
		{deliveryTable, "dimension", deliveries},
		{scopeTable, "dimension", dimensions},
		{tieTable, "dimension", dimensions},
		{inferredTable, "dimension", dimensions},
		{openKeyTable, "table_name", tables},
		{accountTable, "table_name", tables},
		{shapeTable, "table_name", tables},
	} {
		by := pick(x.table, x.by)
		b := column.NewBatch(by)
		for _, name := range x.names {
			row(b, name)
		}
		if b.N == 0 {
			continue
		}
		if _, err := tx.Remove(ctx, x.table.Name, by, b); err != nil {
			return err
		}
	}
	return nil
}
