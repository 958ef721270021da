package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strconv"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/prove"
	"ironmonger/internal/render"
	"ironmonger/internal/star"
	"ironmonger/internal/undo"
)

func (s *session) undo() *cli.Command {
	return command(&cli.Command{
		Name:      "undo",
		Usage:     "take loads back",
		ArgsUsage: "[RUN]",
		Description: "Takes back the last run of the model that wrote something, or every run from RUN on, the latest first. Rows that\n" +
			"they added are removed; rows that they changed or removed are as they were. Surrogate keys are not assigned again.\n" +
			"To have the rows again, load again: the command lists the files that the next load reads.\n\n" +
			"Exit status: 0 done; 1 failed, and nothing was changed; 2 the call or the model is wrong, or the run cannot be taken back.\n\n" +
			"Example:\n  ironmonger undo\n  ironmonger undo --dry-run 7",
		Flags: flags(&cli.BoolFlag{Name: "dry-run", Usage: "write nothing; report what would be taken back"}),
		Action: s.onStar(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
			from := int64(0)
			if word := c.Args().First(); word != "" {
				var err error
				if from, err = strconv.ParseInt(word, 10, 64); err != nil || from < 1 {
					return wrong{fmt.Errorf("undo: %s is not a number of a run", word)}
				}
			}
			wh, err := openThere(ctx, m, root)
			if errors.Is(err, fs.ErrNotExist) {
				return wrong{prove.ErrNothing}
			} else if err != nil {
				return err
			}
			defer wh.Close()
			report, err := undo.Take(ctx, wh, m, undo.Options{
				From: from, Dry: c.Bool("dry-run"), Program: "ironmonger " + Version, Holder: holder(),
			})
			var refusal undo.Refusal
			if errors.As(err, &refusal) {
				return wrong{fmt.Errorf("undo: %w", err)}
			} else if err != nil {
				return err
			}
			return s.result(
				c,
				report,
				render.UndoneRecords(report),
				func(width int) { render.Undone(s.out, report, width) },
			)
		}),
	}, 1)
}
