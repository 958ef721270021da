package ledger

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// former is a table of the ledger as older versions of the program made it: without some columns, of which it is said
// what rows have in them now. nil is 0, or false.
type former struct {
	table *warehouse.Table
	lacks map[string]func(old func(name string) string) string
}

var formers = []former{
	{runTable, map[string]func(func(string) string) string{
		"holder":     func(func(string) string) string { return "" },
		"parameters": func(func(string) string) string { return "{}" },
	}},
	{referenceTable, map[string]func(func(string) string) string{
		"points_to": func(old func(string) string) string { return "dim_" + old("dimension") }, // tables had no other names
		"durable":   nil,                                                                       // false: there were no durable keys
	}},
}

// Carry makes tables of the ledger anew that an older version of the program has left with fewer columns than a load
// can add, with the same rows.
func Carry(ctx context.Context, tx warehouse.Tx) error {
	for _, f := range formers {
		there, err := tx.Describe(ctx, f.table.Name)
		if err != nil {
			return err
		}
		lacks := false
		for name := range f.lacks {
			lacks = lacks || there != nil && !there.Has(name)
		}
		if !lacks {
			continue
		}
		if err := f.carry(ctx, tx, there); err != nil {
			return err
		}
	}
	return nil
}

func (f *former) carry(ctx context.Context, tx warehouse.Tx, there warehouse.Description) error {
	var fields []column.Field
	for _, c := range f.table.Columns {
		if there.Has(c.Name) {
			fields = append(fields, c.Field)
		}
	}
	for _, name := range there.Names() { // that are not kept
		if column.Find(f.table.Fields(), name) < 0 {
			fields = append(fields, column.Field{Name: name, Type: text})
		}
	}
	old, err := warehouse.ReadAll(ctx, tx, warehouse.Query{Table: f.table.Name, Fields: fields})
	if err != nil {
		return err
	}
	b := column.NewBatch(f.table.Fields())
	for i := range old.N {
		for k, c := range f.table.Columns {
			switch at := column.Find(fields, c.Name); {
			case at >= 0:
				b.Cols[k].Append(&old.Cols[at], i)
			case !c.NotNull:
				b.Cols[k].AppendNull()
			case f.lacks[c.Name] == nil:
				b.Cols[k].AppendInt(0)
			default:
				was := func(name string) string { return old.Cols[column.Find(fields, name)].Text[i] }
				b.Cols[k].AppendText(f.lacks[c.Name](was))
			}
		}
		b.N++
	}
	if err := tx.Drop(ctx, f.table.Name); err != nil {
		return err
	}
	if err := tx.Create(ctx, f.table); err != nil {
		return err
	}
	return warehouse.AppendAll(ctx, tx, f.table, b)
}
