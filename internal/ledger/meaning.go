package ledger

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// What the ledger keeps of how a table was meant, since its columns alone do not tell.
const (
	NaturalKey   = "natural key"
	FirstVersion = "first version"
	Versioned    = "type 2"
	GrainOf      = "grain"
	FiscalYear   = "fiscal year"
	RetailYear   = "retail year"
)

// Meant returns what the step that wrote to a table last meant by it, by aspect; empty if nobody knows.
func Meant(ctx context.Context, r warehouse.Reader, table string) (map[string]string, error) {
	meant := map[string]string{}
	if columns, err := r.Describe(ctx, shapeTable.Name); err != nil || columns == nil {
		return meant, err
	}
	name := column.Column{Type: text}
	name.AppendText(table)
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{
			Table:  shapeTable.Name,
			Fields: pick(shapeTable, "aspect", "meant"),
			By:     []string{"table_name"},
			Match:  []*column.Column{&name},
		},
	)
	if err != nil {
		return nil, err
	}
	for i, aspect := range b.Cols[0].Text {
		meant[aspect] = b.Cols[1].Text[i]
	}
	return meant, nil
}

// Means writes down what a table is meant to be, in place of what was said before.
func Means(ctx context.Context, tx warehouse.Tx, table string, meant map[string]string) error {
	b := column.NewBatch(shapeTable.Fields())
	for aspect, value := range meant {
		row(b, table, aspect, value)
	}
	return replace(ctx, tx, shapeTable, "table_name", table, b)
}
