package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/diag"
	"ironmonger/internal/rehearse"
	"ironmonger/internal/render"
	"ironmonger/internal/star"
)

func (s *session) rehearse() *cli.Command {
	return command(&cli.Command{
		Name:      "rehearse",
		Usage:     "run the worked examples of the model",
		ArgsUsage: "[EXAMPLE...]",
		Description: "A file beside the model has examples: the rows that arrive, and the rows that must be in the tables after a load. Each\n" +
			"example is loaded into a temporary star, and the differences are reported.\n\n" +
			"Exit status: 0 all examples agree; 2 the call, the model or an example is wrong; 3 an example differs.\n\n" +
			"Example:\n  ironmonger rehearse\n  ironmonger rehearse \"a vessel changes its class\" --examples other.yaml",
		Flags: flags(
			&cli.StringFlag{
				Name:  "examples",
				Usage: "the `FILE` of the examples; the default is the name of the model file with .examples before .yaml",
			},
		),
		Action: s.onModel(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
			file := c.String("examples")
			if file == "" {
				ext := filepath.Ext(c.String("model"))
				file = strings.TrimSuffix(c.String("model"), ext) + ".examples" + ext
			}
			examples, err := star.ReadExamples(file, m)
			if errors.Is(err, fs.ErrNotExist) {
				return wrong{fmt.Errorf("there are no examples: there is no file %s", file)}
			} else if err != nil {
				return err
			}
			var names []string
			for _, e := range examples {
				names = append(names, e.Text)
			}
			wanted := c.Args().Slice()
			for _, w := range wanted {
				if !slices.Contains(names, w) {
					return wrong{fmt.Errorf("there is no example called %s%s", w, diag.Suggest(w, names))}
				}
			}
			results := []*rehearse.Result{}
			differ := false
			for _, e := range examples {
				if len(wanted) > 0 && !slices.Contains(wanted, e.Text) {
					continue
				}
				r, err := rehearse.Run(ctx, m, e)
				if err != nil {
					return err
				}
				results = append(results, r)
				differ = differ || len(r.Differences) > 0
			}
			if err := s.result(c, results, render.RehearsalRecords(results), func(width int) { render.Rehearsals(s.out, results, width) }); err != nil {
				return err
			}
			if differ {
				return errUnmet
			}
			return nil
		}),
	}, 1000)
}
