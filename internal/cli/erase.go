package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/erase"
	"ironmonger/internal/prove"
	"ironmonger/internal/render"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/trace"
)

func (s *session) erase() *cli.Command {
	return command(&cli.Command{
		Name:      "erase",
		Usage:     "blank what the star knows of a person",
		ArgsUsage: "DIMENSION VALUE...",
		Description: "Blanks the personal attributes of a member: in all its versions, in rows set aside and in the ledger. The member is\n" +
			"named by its natural key. Its keys and facts stay. Later loads keep the attributes blank, whatever the source says.\n" +
			"Sources, backups and the logs of the database are not changed.\n\n" +
			"Exit status: 0 done; 1 failed, and nothing is blanked; 2 the call or the model is wrong, or there is no such member.\n\n" +
			"Example:\n  ironmonger erase keeper 007\n  ironmonger erase --dry-run keeper 007",
		Flags:         flags(&cli.BoolFlag{Name: "dry-run", Usage: "write nothing; report what would be blanked"}),
		ShellComplete: completes(dimensionNames),
		Action: s.onStar(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
			args := c.Args().Slice()
			if len(args) < 2 {
				return wrong{errors.New("erase: which member? For example: ironmonger erase keeper 007")}
			}
			for _, d := range schema.New(m).Dimensions {
				if d.Text != args[0] {
					continue
				}
				if len(d.Personal) == 0 {
					return wrong{
						fmt.Errorf(
							"erase: the model says of no attribute of %s that it is personal: personal, a list of attributes",
							d.Text,
						),
					}
				}
				natural, spelled, err := trace.Natural(d, args[1:])
				if err != nil {
					return wrong{fmt.Errorf("erase: %w", err)}
				}
				wh, err := openThere(ctx, m, root)
				if errors.Is(err, fs.ErrNotExist) {
					return wrong{prove.ErrNothing}
				} else if err != nil {
					return err
				}
				defer wh.Close()
				found, err := erase.Run(ctx, wh, d, natural, c.Bool("dry-run"))
				if errors.Is(err, erase.ErrNone) && spelled != nil {
					found, err = erase.Run(ctx, wh, d, spelled, c.Bool("dry-run"))
				}
				if errors.Is(err, erase.ErrNone) {
					return wrong{fmt.Errorf("erase: %w", err)}
				} else if err != nil {
					return err
				}
				return s.result(c, found, render.ErasedRecords(found), func(int) { render.Erased(s.out, found) })
			}
			return wrong{fmt.Errorf("erase: there is no dimension %s", args[0])}
		}),
	}, 100)
}
