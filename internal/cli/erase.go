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
		Usage:     "blank what is known of a person, for good",
		ArgsUsage: "DIMENSION VALUE...",
		Description: "Blanks the attributes of a member that the model says are personal, on all its versions, in the rows that were\n" +
			"set aside and in the ledger. Its keys and its facts stay, and loads to come keep it blank, whatever its source\n" +
			"says. The member is named by its natural key. What sources, backups and the logs of the database still have is\n" +
			"yours to see to.\n\n" +
			"Exit status: 0 done; 1 failed, and nothing is blanked; 2 the call or the model is wrong, or there is no such member.\n\n" +
			"Example:\n  ironmonger erase keeper 007\n  ironmonger erase --dry-run keeper 007",
		Flags:         flags(&cli.BoolFlag{Name: "dry-run", Usage: "write nothing: say what would be blanked"}),
		ShellComplete: completes(dimensionNames),
		Action: s.onModel(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
			args := c.Args().Slice()
			if len(args) < 2 {
				return wrong{errors.New("erase: which member? For example: ironmonger erase keeper 007")}
			}
			for _, d := range schema.New(m).Dimensions {
				if d.Text != args[0] {
					continue
				}
				if len(d.Personal) == 0 {
					return wrong{fmt.Errorf("erase: the model says of no attribute of %s that it is personal: personal, a list of attributes", d.Text)}
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
