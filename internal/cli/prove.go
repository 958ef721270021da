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
		Usage: "does the loaded star hold together?",
		Description: "Reads the star's tables, and nothing that loading has noted of them but the ledger's account, and holds them\n" +
			"against what every star promises and what the model says must hold. With --against-sources, the sources are\n" +
			"read again: every row of theirs is looked up in the star, and every fact among them. Facts whose file, table or\n" +
			"scope the sources don't name any more can't be compared: they are counted. Writes nothing.\n\n" +
			"The checks: " + strings.Join(names[:7], ", ") + ",\n" + strings.Join(names[7:], ", ") + ".\n\n" +
			"Exit status: 0 all that was looked at holds; 1 it could not be looked at; 2 the call or the model is wrong; 3 a check\n" +
			"is broken.\n\n" +
			"Example:\n  ironmonger prove\n  ironmonger prove --against-sources\n  ironmonger prove --checks references,grain --format json",
		Flags: flags(&cli.StringFlag{Name: "checks", Usage: "only these checks, with `commas` between"},
			&cli.BoolFlag{Name: "against-sources", Usage: "read the sources again, and hold the star against every row, and every fact against its row"},
			&cli.BoolFlag{Name: "complete", Usage: "with --against-sources: what the sources don't name any more speaks against the star, too"}),
		Action: s.onModel(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
			opts := prove.Options{Today: time.Now(), Root: root, Sources: c.Bool("against-sources"), Complete: c.Bool("complete")}
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
