package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"strconv"

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
		ArgsUsage: "[RUN]",
		Description: "Lists the runs in the ledger of the warehouse, the latest first. With a number, it shows everything about that run.\n\n" +
			"Exit status: 0 done; 2 the call or the model is wrong, or there is no such run.\n\n" +
			"Example:\n  ironmonger runs\n  ironmonger runs 3 --format json",
		Flags: flags(
			&cli.IntFlag{
				Name:      "last",
				Value:     20,
				Validator: atLeast(0, math.MaxInt32),
				Usage:     "only the last `N` runs; 0 means all",
			},
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
			if c.Args().Len() > 0 {
				return s.oneRun(ctx, c, wh)
			}
			runs, err := ledger.Runs(ctx, wh, c.Int("last"))
			if err != nil {
				return err
			}
			if runs == nil {
				runs = []*ledger.Run{}
			}
			if release, err := wh.Hold(ctx); err == nil { // nobody loads: who seems to has died
				for _, r := range runs {
					if r.State == ledger.Running {
						r.State = ledger.Broken
					}
				}
				release()
			}
			return s.result(c, runs, render.StepRecords(runs...), func(width int) { render.Runs(s.out, runs, width) })
		}),
	}, 1)
}

func (s *session) oneRun(ctx context.Context, c *cli.Command, wh warehouse.Warehouse) error {
	id, err := strconv.ParseInt(c.Args().First(), 10, 64)
	if err != nil {
		return wrong{fmt.Errorf("runs: %s is not a number of a run", c.Args().First())}
	}
	runs, err := ledger.Runs(ctx, wh, 0)
	if err != nil {
		return err
	}
	for _, r := range runs {
		if r.ID == id {
			return s.result(c, r, render.StepRecords(r), func(width int) { render.Run(s.out, r, width) })
		}
	}
	return wrong{fmt.Errorf("there is no run %d", id)}
}
