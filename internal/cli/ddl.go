package cli

import (
	"context"
	"fmt"
	"os"
	"slices"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/render"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
	"ironmonger/internal/warehouse/postgres"
	"ironmonger/internal/warehouse/sqlite"
)

func (s *session) ddl() *cli.Command {
	return command(&cli.Command{
		Name:  "ddl",
		Usage: "the tables and views of the model, as SQL",
		Description: "In the order in which a load makes them: the ledger, dimensions before what points to them, facts last. With\n" +
			"--drop, the statements that remove them, the other way round. Writes nothing to the warehouse.\n\n" +
			"Exit status: 0 done; 2 the call or the model is wrong.\n\n" +
			"Example:\n  ironmonger ddl\n  ironmonger ddl --drop",
		Flags: flags(&cli.BoolFlag{Name: "drop", Usage: "remove them instead; the data with them"}),
		Action: s.onModel(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
			statements := ddl(m, c.Bool("drop"))
			return s.result(c, statements, render.ListRecords("statement", statements), func(int) {
				for _, statement := range statements {
					fmt.Fprintln(s.out, statement+";")
				}
			})
		}),
	}, 0)
}

// dialect is how a kind of warehouse writes tables and views.
type dialect struct {
	table func(*warehouse.Table) []string
	view  func(*warehouse.View) string
	quote func(string) string
}

func dialectOf(m *star.Model) dialect {
	if m.Warehouse.Kind == star.Postgres {
		schema := m.Warehouse.Schema
		return dialect{func(t *warehouse.Table) []string { return postgres.DDL(schema, t) },
			func(v *warehouse.View) string { return postgres.ViewDDL(schema, v) },
			func(name string) string { return postgres.Quote(schema, name) }}
	}
	return dialect{sqlite.DDL, sqlite.ViewDDL, sqlite.Quote}
}

// ddl lists the statements that make all tables and views of a model, or that drop them.
func ddl(m *star.Model, drop bool) []string {
	d := dialectOf(m)
	var create, remove []string
	table := func(t *warehouse.Table) {
		create = append(create, d.table(t)...)
		remove = append(remove, "DROP TABLE IF EXISTS "+d.quote(t.Name))
	}
	if m.Warehouse.Kind == star.Postgres {
		create = append(create, "CREATE SCHEMA IF NOT EXISTS "+postgres.QuoteName(m.Warehouse.Schema))
	}
	for _, t := range ledger.Tables() {
		table(t)
	}
	tables := schema.New(m)
	for _, step := range load.Order(m) {
		for _, dim := range tables.Dimensions {
			if step.Step != "dimension "+dim.Text || dim.LookedUp != nil {
				continue
			}
			for _, t := range dim.Tables() {
				table(t)
			}
			for _, v := range dim.Views {
				create = append(create, d.view(v))
				remove = append(remove, "DROP VIEW IF EXISTS "+d.quote(v.Name))
			}
		}
		for _, f := range tables.Facts {
			if step.Step == "fact "+f.Text {
				table(f.Table)
			}
		}
	}
	if drop {
		slices.Reverse(remove)
		return remove
	}
	return create
}
