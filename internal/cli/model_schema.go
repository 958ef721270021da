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
		Usage: "write the JSON schema of the model file",
		Description: "Editors use the schema to complete and check a model.\n\n" +
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
