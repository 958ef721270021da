package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"slices"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/ledger"
	"ironmonger/internal/render"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

func (s *session) runs() *cli.Command {
	return command(&cli.Command{
		Name:      "runs",
		Usage:     "list the loads and their figures",
		ArgsUsage: "[RUN [RUN]]",
		Description: "Lists the runs in the ledger of the warehouse, the latest first. With a number, it shows everything about that run;\n" +
			"with two, what differs between them: what grew, took longer, or had more rows set aside or unmatched.\n\n" +
			"With --draw, it draws the figures of each step over the runs, the latest on the right: a point is a run that did not do\n" +
			"the step.\n\n" +
			"Exit status: 0 done; 2 the call or the model is wrong, or there is no such run.\n\n" +
			"Example:\n  ironmonger runs\n  ironmonger runs 3 --format json\n  ironmonger runs 12 15\n  ironmonger runs --draw --last 60",
		Flags: flags(
			&cli.IntFlag{
				Name:      "last",
				Value:     20,
				Validator: atLeast(0, math.MaxInt32),
				Usage:     "only the last `N` runs; 0 means all",
			},
			&cli.StringFlag{Name: "since", Usage: "only runs that began on a `DATE` or later, in UTC"},
			&cli.BoolFlag{Name: "draw", Usage: "draw the figures of each step over the runs"},
		),
		Action: s.onLedger(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
			wh, err := openWarehouse(ctx, m, root, warehouse.ToRead)
			if errors.Is(err, fs.ErrNotExist) {
				return s.result(c, []*ledger.Run{}, render.StepRecords(), func(int) { render.Runs(s.out, nil, 0) })
			}
			if err != nil {
				return err
			}
			defer wh.Close()
			switch c.Args().Len() {
			case 1:
				return s.oneRun(ctx, c, wh)
			case 2:
				return s.twoRuns(ctx, c, wh)
			}
			runs, err := runsSince(ctx, c, wh)
			if err != nil {
				return err
			}
			if runs == nil {
				runs = []*ledger.Run{}
			}
			if hold, err := wh.Hold(ctx); err == nil { // nobody loads: who seems to has died
				for _, r := range runs {
					if r.State == ledger.Running {
						r.State = ledger.Broken
					}
				}
				hold.Release()
			}
			if since := c.String("since"); since != "" && len(runs) == 0 && c.String("format") == "text" {
				fmt.Fprintf(s.out, "no run began on %s or later\n", since)
				return nil
			}
			if c.Bool("draw") {
				list := ledger.Courses(runs)
				return s.result(c, list, render.CourseRecords(list), func(width int) { render.Courses(s.out, list, width) })
			}
			return s.result(c, runs, render.StepRecords(runs...), func(width int) { render.Runs(s.out, runs, width) })
		}),
	}, 2)
}

// runsSince reads the last runs, the latest first.
func runsSince(ctx context.Context, c *cli.Command, wh warehouse.Warehouse) ([]*ledger.Run, error) {
	text := c.String("since")
	if text == "" {
		return ledger.Runs(ctx, wh, c.Int("last"))
	}
	since, err := time.Parse(time.DateOnly, text)
	if err != nil {
		return nil, wrong{fmt.Errorf("--since %s: expected a date such as 2025-03-31", text)}
	}
	last := 0
	if c.IsSet("last") {
		last = c.Int("last")
	}
	runs, err := ledger.Runs(ctx, wh, last)
	return slices.DeleteFunc(runs, func(r *ledger.Run) bool { return r.StartedAt.Before(since) }), err
}

func (s *session) oneRun(ctx context.Context, c *cli.Command, wh warehouse.Warehouse) error {
	runs, err := numbered(ctx, c, wh)
	if err != nil {
		return err
	}
	return s.result(c, runs[0], render.StepRecords(runs[0]), func(width int) { render.Run(s.out, runs[0], width) })
}

// twoRuns shows what differs between two runs.
func (s *session) twoRuns(ctx context.Context, c *cli.Command, wh warehouse.Warehouse) error {
	runs, err := numbered(ctx, c, wh)
	if err != nil {
		return err
	}
	list := ledger.Compare(runs[0], runs[1])
	return s.result(c, list, render.ChangeRecords(list), func(width int) { render.Changes(s.out, runs[0], runs[1], list, width) })
}

// numbered reads the runs whose numbers a call gives.
func numbered(ctx context.Context, c *cli.Command, wh warehouse.Warehouse) ([]*ledger.Run, error) {
	all, err := ledger.Runs(ctx, wh, 0)
	if err != nil {
		return nil, err
	}
	var list []*ledger.Run
	for _, text := range c.Args().Slice() {
		id, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return nil, wrong{fmt.Errorf("runs: %s is not a number of a run", text)}
		}
		at := slices.IndexFunc(all, func(r *ledger.Run) bool { return r.ID == id })
		if at < 0 {
			return nil, wrong{fmt.Errorf("there is no run %d", id)}
		}
		list = append(list, all[at])
	}
	return list, nil
}
