package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/moving"
	"ironmonger/internal/render"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

func (s *session) copy() *cli.Command {
	return command(&cli.Command{
		Name:  "copy",
		Usage: "copy the star into another warehouse of the model",
		Description: "Copies all tables of the star with their rows and keys, and the ledger, into another warehouse that the model names, which\n" +
			"has to be without them: from SQLite to PostgreSQL, from production to a copy for tests. Loads, proofs and undo go on there\n" +
			"as if nothing had happened. The rows and totals of each table are compared before it is committed; nothing is changed in\n" +
			"the warehouse that is read. Dimensions that another program loads are not copied.\n\n" +
			"Exit status: 0 done; 1 failed, and nothing was written; 2 the call or the model is wrong, or the star is there already.\n\n" +
			"Example:\n  ironmonger copy --into production\n  ironmonger copy --warehouse production --into tests",
		Flags: flags(&cli.StringFlag{Name: "into", Required: true, Usage: "the warehouse `NAME` that gets the star"}),
		Action: s.onStar(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
			given, err := settings(c)
			if err != nil {
				return err
			}
			other, err := star.ReadWarehouse(c.String("model"), c.String("into"), values(given))
			if err != nil {
				return unread(c.String("model"), err)
			}
			if schema.Location(other, root.Name()).Same(schema.Location(m, root.Name())) {
				return wrong{fmt.Errorf("--into %s: that is the warehouse that the star is in", c.String("into"))}
			}
			from, err := openThere(ctx, m, root)
			if errors.Is(err, fs.ErrNotExist) {
				return wrong{errors.New("there is no star to copy: nothing has been loaded yet")}
			} else if err != nil {
				return err
			}
			defer from.Close()
			to, err := openWarehouse(ctx, other, root, warehouse.ToWrite)
			if err != nil {
				return fmt.Errorf("the warehouse %s cannot be opened: %w", c.String("into"), err)
			}
			defer to.Close()
			report, err := moving.Copy(ctx, from, to, schema.New(m))
			var refusal moving.Refusal
			if errors.As(err, &refusal) {
				return wrong{fmt.Errorf("copy: %w", err)}
			} else if err != nil {
				return err
			}
			return s.result(c, report, render.CopiedRecords(report), func(width int) { render.Copied(s.out, report, c.String("into"), width) })
		}),
	}, 0)
}
