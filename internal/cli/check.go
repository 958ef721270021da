package cli

import (
	"context"
	"errors"
	"os"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/place"
	"ironmonger/internal/star"
	"ironmonger/internal/survey"
	"ironmonger/internal/view"
)

// checked is the result of check.
type checked struct {
	Model   string           `json:"model"`
	Sources []*survey.Source `json:"sources"`
	Remarks []remark         `json:"remarks,omitempty"`
	Taken   []view.Taken     `json:"taken"`
}

type remark struct {
	Place   string `json:"place"`
	Subject string `json:"subject"`
	Message string `json:"message"`
}

func (s *session) check() *cli.Command {
	return command(&cli.Command{
		Name:  "check",
		Usage: "is the model right, and does it fit what arrived? Writes nothing",
		Description: "Tells all mistakes of the model at once, each with its place. Then opens the sources: are the columns in the\n" +
			"headers, and do the first rows of each file fit the types and conditions? Says what was taken where the\n" +
			"model says nothing.\n\n" +
			"Exit status: 0 nothing would keep a load from starting; 2 the model is wrong or doesn't fit the files.\n\n" +
			"Example:\n  ironmonger check --model canal/ironmonger.yaml",
		Flags: flags(),
		Action: onModel(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
			found := checked{Model: m.File, Sources: []*survey.Source{}, Taken: view.TakenBy(m)}
			for _, r := range m.Remarks {
				found.Remarks = append(found.Remarks, remark{r.At.String(), r.Subject, r.Message})
			}
			var errs place.List
			for _, src := range m.Sources {
				looked, err := survey.Look(ctx, root, m, src)
				var list place.List
				var one *place.Error
				switch {
				case errors.As(err, &list):
					errs = append(errs, list...)
				case errors.As(err, &one):
					errs = append(errs, one)
				case err != nil:
					return err
				default:
					found.Sources = append(found.Sources, looked)
				}
			}
			if err := errs.Err(); err != nil {
				return err
			}
			return s.result(c, found, view.SurveyRecords(found.Sources), func(width int) {
				view.Survey(s.out, found.Sources, width)
				view.Assumed(s.out, found.Taken, m.Remarks, width)
			})
		}),
	}, 0)
}
