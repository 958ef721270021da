package cli

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/prove"
	"ironmonger/internal/render"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

func (s *session) prove() *cli.Command {
	var names []string
	for _, n := range prove.Names() {
		names = append(names, n[0])
	}
	return command(&cli.Command{
		Name:  "prove",
		Usage: "check the loaded star",
		Description: "Reads the tables of the star and checks the rules that every star must satisfy, and the conditions of the model\n" +
			"(must_hold). Of the ledger it uses only the accounts. With --against-sources, it reads the sources again and looks up\n" +
			"every row in the star, and every fact in the sources. A fact whose file, table or scope the sources do not name any\n" +
			"more cannot be compared; such facts are counted. The command writes nothing.\n\n" +
			"The checks: " + strings.Join(
			names[:7],
			", ",
		) + ",\n" + strings.Join(
			names[7:],
			", ",
		) + ".\n\n" +
			"Exit status: 0 all checks hold; 1 a check could not be made; 2 the call or the model is wrong; 3 a check is broken.\n\n" +
			"Example:\n  ironmonger prove\n  ironmonger prove --against-sources\n  ironmonger prove --checks references,grain --format json",
		Flags: flags(
			&cli.StringFlag{Name: "checks", Usage: "only these checks, separated by `commas`"},
			&cli.BoolFlag{
				Name:  "against-sources",
				Usage: "read the sources again; compare every row with the star, and every fact with its row",
			},
			&cli.BoolFlag{
				Name:  "complete",
				Usage: "with --against-sources: facts that cannot be compared fail the check, too",
			},
		),
		Action: s.onStar(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
			opts := prove.Options{
				Today:    time.Now(),
				Root:     root,
				Sources:  c.Bool("against-sources"),
				Complete: c.Bool("complete"),
			}
			for name := range strings.SplitSeq(c.String("checks"), ",") {
				if name = strings.TrimSpace(name); name != "" {
					opts.Checks = append(opts.Checks, name)
				}
			}
			opts.Sources = opts.Sources || slices.Contains(opts.Checks, "sources")
			if err := prove.Known(opts.Checks); err != nil {
				return wrong{err}
			}
			wh, err := openWarehouse(ctx, m, root, warehouse.ToRead)
			if errors.Is(err, fs.ErrNotExist) {
				return wrong{prove.ErrNothing}
			} else if err != nil {
				return err
			}
			defer wh.Close()
			progress := s.progress()
			opts.Watch = progress.rowsOf
			report, err := prove.Run(ctx, wh, m, opts)
			progress.end()
			if errors.Is(err, prove.ErrNothing) {
				return wrong{err}
			} else if err != nil {
				return err
			}
			if err := s.result(c, report, render.ProofRecords(report), func(width int) { render.Proof(s.out, report, width) }); err != nil {
				return err
			}
			if report.State == prove.Broken {
				return errUnmet
			}
			return nil
		}),
	}, 0)
}
