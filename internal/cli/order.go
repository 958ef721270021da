package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/load"
	"ironmonger/internal/render"
	"ironmonger/internal/star"
)

func (s *session) order() *cli.Command {
	return command(&cli.Command{
		Name:  "order",
		Usage: "show the order of the steps, and why each step waits",
		Description: "The order follows from the model: a step runs after the steps of the dimensions that it points to. Steps of one wave wait\n" +
			"only for earlier waves. The command opens no files and no warehouse.\n\n" +
			"Exit status: 0 done; 2 the call or the model is wrong.\n\n" +
			"Example:\n  ironmonger order",
		Flags: flags(),
		Action: func(_ context.Context, c *cli.Command) error {
			m, err := star.ReadOrder(c.String("model"))
			if err != nil {
				return unread(c.String("model"), err)
			}
			order := load.Order(m)
			return s.result(
				c,
				order,
				render.OrderRecords(order),
				func(width int) { render.Order(s.out, order, width) },
			)
		},
	}, 0)
}
