package undo

import (
	"context"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// whole returns a table with the columns that it has in the warehouse besides those of the model: a model may have had
// them, or somebody has added them by hand. They are kept like others. Columns of other types than a model has are left
// out.
func whole(ctx context.Context, r warehouse.Reader, t *warehouse.Table) (*warehouse.Table, error) {
	there, err := r.Describe(ctx, t.Name)
	if err != nil {
		return nil, err
	}
	fields, all := t.Fields(), *t
	all.Columns = nil
	for _, c := range t.Columns {
		if there.Has(c.Name) {
			all.Columns = append(all.Columns, c)
		}
	}
	for _, s := range there {
		if column.Find(fields, s.Name) >= 0 {
			continue
		}
		if typ, ok := typeOf(r, all.Name, s.Type); ok {
			all.Columns = append(all.Columns, warehouse.Column{Field: column.Field{Name: s.Name, Type: typ}})
		}
	}
	return &all, nil
}

// typeOf returns the type whose columns in a table a database declares so.
func typeOf(r warehouse.Reader, table, declared string) (column.Type, bool) {
	for _, name := range column.TypeNames() {
		if typ, err := column.ParseType(name); err == nil && r.Declares(table, typ) == declared {
			return typ, true
		}
	}
	if at := strings.Index(declared, "("); at > 0 {
		if typ, err := column.ParseType("decimal" + declared[at:]); err == nil && r.Declares(table, typ) == declared {
			return typ, true
		}
	}
	return column.Type{}, false
}
