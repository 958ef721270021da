package cli

import (
	"context"
	"errors"
	"os"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/render"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/strays"
	"ironmonger/internal/warehouse"
)

func (s *session) strays() *cli.Command {
	return command(&cli.Command{
		Name:  "strays",
		Usage: "show the rows and keys that did not match or did not pass",
		Description: "Shows the steps that failed in their last load; the rows set aside, by reason; the natural keys that were unmatched or\n" +
			"outside in the last load of each step, the most frequent first; and the inferred members that their source has not\n" +
			"described yet. Each line has its first example.\n\n" +
			"With --causes, it compares each natural key that has no member with those that the dimension has: it is written\n" +
			"differently (blanks, letter case, leading zeros, separators, characters that look alike or that Unicode writes in\n" +
			"several ways); another value of one part is meant, such as another register; one or two characters are others; or\n" +
			"nothing is like it. For each cause it says what in the model would mend it, and tries that.\n\n" +
			"With --to, it writes the rows set aside into a folder, in the form of their files, with the reason behind each. Correct\n" +
			"them, and name the files in the key corrections of the source: each row takes the place of the one in its file.\n\n" +
			"Exit status: 0 done; 2 the call or the model is wrong, or nothing has been loaded yet.\n\n" +
			"Example:\n  ironmonger strays\n  ironmonger strays --causes\n  ironmonger strays --to corrections\n  ironmonger strays --format json",
		Flags: flags(&cli.StringFlag{Name: "to", Usage: "write the rows set aside as files into a `FOLDER`, to be corrected"},
			&cli.BoolFlag{Name: "causes", Usage: "find out why natural keys have no members, and what would mend it"}),
		Action: s.onStar(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
			return reading(
				ctx,
				m,
				root,
				func() error { return wrong{strays.ErrNothing} },
				func(r warehouse.Reader) error {
					if c.IsSet("to") {
						return s.writeAside(ctx, c, r, m, root)
					}
					if c.Bool("causes") {
						return s.causes(ctx, c, r, m)
					}
					report, err := strays.Find(ctx, r, schema.New(m))
					if errors.Is(err, strays.ErrNothing) {
						return wrong{err}
					} else if err != nil {
						return err
					}
					return s.result(
						c,
						report,
						render.StrayRecords(report),
						func(width int) { render.Strays(s.out, report, width) },
					)
				},
			)
		}),
	}, 0)
}

// causes shows why natural keys have no members.
func (s *session) causes(ctx context.Context, c *cli.Command, r warehouse.Reader, m *star.Model) error {
	causes, err := strays.Causes(ctx, r, schema.New(m))
	if err != nil {
		return err
	}
	found := struct {
		Causes []strays.Cause `json:"causes"`
	}{causes}
	return s.result(c, found, render.CauseRecords(causes), func(width int) { render.Causes(s.out, causes, width) })
}

// writeAside writes the rows that were set aside into a folder.
func (s *session) writeAside(ctx context.Context, c *cli.Command, r warehouse.Reader, m *star.Model, root *os.Root) error {
	written, not, err := strays.Write(ctx, r, m, root, c.String("to"))
	if err != nil {
		return err
	}
	found := struct {
		Written   []strays.Written   `json:"written"`
		Unwritten []strays.Unwritten `json:"not_written,omitempty"`
	}{written, not}
	return s.result(c, found, render.WrittenRecords(written), func(width int) { render.Written(s.out, written, not, width) })
}
