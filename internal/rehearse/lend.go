package rehearse

import (
	"context"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/parse"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// lend makes the tables that the model only looks up in, and gives them the rows that an example says arrive there.
func lend(ctx context.Context, db warehouse.Warehouse, m *star.Model, x *star.Rehearsal) error {
	tx, err := db.Begin(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, d := range schema.New(m).Dimensions {
		if d.LookedUp == nil {
			continue
		}
		if there, err := tx.Describe(ctx, d.Table.Name); err != nil {
			return err
		} else if there == nil {
			if err := tx.Create(ctx, d.Table); err != nil {
				return err
			}
		}
		for _, g := range x.Arrives {
			if g.Name.Text != d.Text {
				continue
			}
			b, err := typed(m, d.Table.Fields(), g)
			if err != nil {
				return err
			}
			if err := warehouse.AppendAll(ctx, tx, d.Table, b); err != nil {
				return err
			}
		}
	}
	return tx.Commit()
}

// typed reads given rows as those of a table.
func typed(m *star.Model, fields []column.Field, g star.Given) (*column.Batch, error) {
	head, rows, err := records(g)
	if err != nil {
		return nil, err
	}
	for _, h := range head {
		if column.Find(fields, h) < 0 {
			return nil, mistake(g, 0, "the table has no column %s%s", h, diag.Suggest(h, column.Names(fields)))
		}
	}
	b := column.NewBatch(fields)
	b.Reset(len(rows))
	reader := parse.NewReader(m.Zone)
	for i, row := range rows {
		for k, f := range fields {
			at := slices.Index(head, f.Name)
			if at < 0 || row[at] == "" {
				b.Cols[k].SetNull(i)
			} else if err := reader.Set(&b.Cols[k], i, row[at]); err != nil {
				return nil, mistake(g, 1+i, "%s: %s %v", f.Name, row[at], err)
			}
		}
	}
	return b, nil
}
