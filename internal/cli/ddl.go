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
)

func (s *session) ddl() *cli.Command {
	return command(&cli.Command{
		Name:  "ddl",
		Usage: "write the tables and views of the model as SQL",
		Description: "The statements are in the order in which a load creates the tables: the ledger, the dimensions before the tables that\n" +
			"point to them, the facts last. With --drop, it writes the statements that drop them, in the opposite order. It writes\n" +
			"nothing to the warehouse.\n\n" +
			"Exit status: 0 done; 2 the call or the model is wrong.\n\n" +
			"Example:\n  ironmonger ddl\n  ironmonger ddl --drop",
		Flags: flags(&cli.BoolFlag{Name: "drop", Usage: "write the statements that drop them, and their data"}),
		Action: s.onModel(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
			at := schema.Location(m, root.Name())
			driver, err := warehouse.DriverOf(at.Kind)
			if err != nil {
				return err
			}
			statements := ddl(m, driver.Dialect(at), c.Bool("drop"))
			return s.result(c, statements, render.ListRecords("statement", statements), func(int) {
				for _, statement := range statements {
					fmt.Fprintln(s.out, statement+";")
				}
			})
		}),
	}, 0)
}

// ddl lists the statements that make all tables and views of a model, or that drop them.
func ddl(m *star.Model, d warehouse.Dialect, drop bool) []string {
	create, remove := d.Before(), []string(nil)
	table := func(t *warehouse.Table) {
		create = append(create, d.Table(t)...)
		remove = append(remove, "DROP TABLE IF EXISTS "+d.Quote(t.Name))
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
				create = append(create, d.View(v))
				remove = append(remove, "DROP VIEW IF EXISTS "+d.Quote(v.Name))
			}
		}
		for _, f := range tables.Facts {
			if step.Step == "fact "+f.Text {
				for _, t := range f.Tables() {
					table(t)
				}
			}
		}
	}
	if drop {
		slices.Reverse(remove)
		return remove
	}
	return create
}
