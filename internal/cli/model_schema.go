package cli

import (
	"context"
	"encoding/json"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/star"
)

func (s *session) schema() *cli.Command {
	return command(&cli.Command{
		Name:  "schema",
		Usage: "what a model file may hold, as JSON Schema",
		Description: "For editors, which complete and check a model by it. The same table in the program reads models and makes\n" +
			"this schema and the reference.\n\n" +
			"Exit status: 0 done; 2 the call is wrong.\n\n" +
			"Example:\n  ironmonger schema > model.schema.json",
		Action: func(context.Context, *cli.Command) error {
			out := json.NewEncoder(s.out)
			out.SetIndent("", "  ")
			out.SetEscapeHTML(false)
			return out.Encode(star.Schema())
		},
	}, 0)
}
