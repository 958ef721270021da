package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/demo"
	"ironmonger/internal/load"
	"ironmonger/internal/render"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
)

func (s *session) demo() *cli.Command {
	return command(&cli.Command{
		Name:      "demo",
		Usage:     "write an example into a folder, load it and show the result",
		ArgsUsage: "FOLDER",
		Description: "The folder gets a model, made-up data of a canal authority with typical faults, and a README. The example is then loaded\n" +
			"into an SQLite file in the folder.\n\n" +
			"Exit status: 0 done; 1 the load failed; 2 the call is wrong.\n\n" +
			"Example:\n  ironmonger demo canal\n  ironmonger demo --passages 1000000 big",
		Flags: append(
			formatFlags(),
			&cli.IntFlag{Name: "passages", Value: demo.Passages, Usage: "about `N` passages"},
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			dir := c.Args().First()
			if dir == "" {
				return wrong{fmt.Errorf("demo: which folder? For example: ironmonger demo canal")}
			}
			if c.Int("passages") < 1 {
				return wrong{fmt.Errorf("demo: --passages %d is not a number of passages", c.Int("passages"))}
			}
			if err := demo.Write(dir, c.Int("passages")); err != nil {
				return wrong{err}
			}
			root, err := os.OpenRoot(dir)
			if err != nil {
				return err
			}
			defer root.Close()
			m, err := star.Read(filepath.Join(dir, "ironmonger.yaml"), transform.Outside(ctx, root, nil))
			if err != nil {
				return err
			}
			run, err := s.loadModel(ctx, c, m, root, load.Options{})
			if run == nil {
				return err
			}
			if werr := s.result(c, run, render.StepRecords(run), func(width int) { render.Run(s.out, run, width) }); werr != nil ||
				err != nil ||
				c.String("format") != "text" {
				return firstOf(err, werr)
			}
			return s.tolls(ctx, m, root, dir)
		},
	}, 1)
}

func firstOf(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}
