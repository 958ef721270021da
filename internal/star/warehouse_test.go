package star

import (
	"strings"
	"testing"
)

// TestWarehouses: of several places a call, or else the model, chooses one.
func TestWarehouses(t *testing.T) {
	const model = `warehouse: %s
parameters: {place: {type: text, default: here}}
warehouses:
  development: {sqlite: "{place}.db"}
  production: {postgres: "service={place}", schema: star}
dimensions:
  zone: {rows: [{code: A}], natural_key: code}
`
	for _, c := range []struct{ said, called, want string }{
		{"development", "", "here.db"},
		{"production", "", "schema star of the database"},
		{"development", "production", "schema star of the database"},
		{"{sqlite: own.db}", "", "own.db"},
		{"{sqlite: own.db}", "development", "here.db"},
		{"staging", "", "m.yaml:1:12: warehouse: there is no warehouse staging (there is: development, production)"},
		{"staging", "production", "schema star of the database"},
		{"development", "prodction", "there is no warehouse prodction (did you mean production?)"},
		{"{}", "", "where does the star stand?"},
		{"{sqlite: own.db, permissions: 640}", "", "own.db"},
		{"{sqlite: own.db, permissions: 88}", "", "88 is not digits such as 640"},
		{"{sqlite: own.db, permissions: 444}", "", "444 is not digits such as 640"},
		{"{postgres: service=x, permissions: 640}", "", "permissions are for the file of an SQLite database"},
		{"{sqlite: own.db, schema: x}", "", "an SQLite database has no schemas"},
	} {
		m, err := Parse("m.yaml", []byte(strings.Replace(model, "%s", c.said, 1)), Outside{Warehouse: c.called})
		got := errorText(err)
		if err == nil {
			got = m.Warehouse.String()
		}
		if !strings.Contains(got, c.want) {
			t.Errorf("%s, %s: %s, want %s", c.said, c.called, got, c.want)
		}
	}
}
