package cli

import (
	"context"
	"fmt"
	"os"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/render"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// tolls shows what the demo's star is good for: tolls by waterway and month, read from the loaded
// tables by their keys.
func (s *session) tolls(ctx context.Context, m *star.Model, root *os.Root, dir string) error {
	wh, err := openWarehouse(ctx, m, root, warehouse.ToRead)
	if err != nil {
		return err
	}
	defer wh.Close()
	integer, text := column.Type{Kind: column.Integer}, column.Type{Kind: column.Text}
	read := func(table string, fields ...column.Field) *column.Batch {
		var b *column.Batch
		if err == nil {
			b, err = warehouse.ReadAll(ctx, wh, warehouse.Query{Table: table, Fields: fields})
		}
		return b
	}
	waterways := read(
		"dim_waterway",
		column.Field{Name: "waterway_key", Type: integer},
		column.Field{Name: "name", Type: text},
	)
	locks := read(
		"dim_lock",
		column.Field{Name: "lock_key", Type: integer},
		column.Field{Name: "waterway_key", Type: integer},
	)
	facts := read(
		"fact_passage",
		column.Field{Name: "lock_key", Type: integer},
		column.Field{Name: "passed_date_key", Type: integer},
		column.Field{Name: "toll", Type: column.Type{Kind: column.Decimal, Precision: 17, Scale: 2}},
	)
	if err != nil {
		return err
	}
	name, waterway := map[int64]string{}, map[int64]int64{}
	for i, k := range waterways.Cols[0].Int {
		name[k] = waterways.Cols[1].Text[i]
	}
	for i, k := range locks.Cols[0].Int {
		waterway[k] = locks.Cols[1].Int[i]
	}
	sums, months := map[[2]int64]int64{}, []int64{}
	for i, k := range facts.Cols[0].Int {
		month := facts.Cols[1].Int[i] / 100
		if !slices.Contains(months, month) {
			months = append(months, month)
		}
		sums[[2]int64{waterway[k], month}] += facts.Cols[2].Int[i]
	}
	slices.Sort(months)
	t := &render.Table{Columns: []render.Column{{Head: "tolls by waterway and month"}}}
	for _, month := range months {
		t.Columns = append(
			t.Columns,
			render.Column{Head: fmt.Sprintf("%d-%02d", month/100, month%100), Align: render.Right},
		)
	}
	for i, k := range waterways.Cols[0].Int {
		row := []string{waterways.Cols[1].Text[i]}
		for _, month := range months {
			row = append(
				row,
				render.Decimal(string(exact.AppendDecimal(nil, exact.Wide(sums[[2]int64{k, month}]), 2))),
			)
		}
		t.Add(row...)
	}
	fmt.Fprintln(s.out)
	t.Write(s.out, s.width())
	fmt.Fprintf(
		s.out,
		"\nThe star is in %s. Look around: cd %s; less ironmonger.yaml; ironmonger check; ironmonger load\n",
		m.Warehouse,
		dir,
	)
	return nil
}
