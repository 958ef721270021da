package cli

import (
	"context"
	"errors"
	"io/fs"
	"os"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/diag"
	"ironmonger/internal/load"
	"ironmonger/internal/precheck"
	"ironmonger/internal/render"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// checked is the result of check.
type checked struct {
	Model   string             `json:"model"`
	Sources []*precheck.Source `json:"sources"`
	Remarks []remark           `json:"remarks,omitempty"`
	Taken   []render.Taken     `json:"taken"`
	Limits  []precheck.Limit   `json:"limits,omitempty"` // that steps would pass
	Words   []schema.Word      `json:"words"`            // what the model says of tables and columns
	Tables  []load.Alteration  `json:"tables"`           // what a load would do to them before it writes rows
	Unseen  string             `json:"unseen,omitempty"` // why the warehouse couldn't be looked into
}

type remark struct {
	Place   string `json:"place"`
	Subject string `json:"subject"`
	Message string `json:"message"`
}

func (s *session) check() *cli.Command {
	return command(&cli.Command{
		Name:  "check",
		Usage: "check the model, and samples of the sources",
		Description: "Reports all errors of the model at once, each with its place. Then it opens the sources. It checks that the columns\n" +
			"exist, and that a sample of the rows fits the types and the conditions: rows from the beginning, the middle and the end\n" +
			"of each text file, and the first rows of other sources. It lists the defaults that the model leaves to the program, and\n" +
			"the changes that the next load would make to existing tables. It writes nothing.\n\n" +
			"Exit status: 0 a load can start; 2 the model is wrong, or it does not fit the sources or the tables; 3 in the sample, a\n" +
			"step sets aside more rows than its limit allows.\n\n" +
			"Example:\n  ironmonger check --model canal/ironmonger.yaml",
		Flags: flags(),
		Action: s.onModel(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
			found := checked{Model: m.File, Sources: []*precheck.Source{}, Taken: render.TakenBy(m), Words: schema.New(m).WordsOf()}
			for _, r := range m.Remarks {
				found.Remarks = append(found.Remarks, remark{r.At.String(), r.Subject, r.Message})
			}
			var errs diag.List
			for _, src := range m.Sources {
				looked, err := precheck.Look(ctx, root, m, src)
				var list diag.List
				var one *diag.Error
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
			for _, src := range m.OwnCalendars() {
				looked, err := precheck.Look(ctx, root, m, src)
				if err != nil {
					return err
				}
				if len(looked.Notes) > 0 {
					found.Sources = append(found.Sources, looked)
				}
			}
			if err := found.look(ctx, m, root); err != nil {
				return err
			}
			found.Limits = precheck.Passed(m, found.Sources)
			err := s.result(c, found, render.SurveyRecords(found.Sources), func(width int) {
				render.Survey(s.out, found.Sources, width)
				render.Assumed(s.out, found.Taken, m.Remarks, width)
				render.Notes(s.out, found.Sources)
				render.Fits(s.out, found.Sources, found.Limits)
				render.Alterations(s.out, found.Tables, found.Unseen)
			})
			if err == nil && len(found.Limits) > 0 {
				return errUnmet
			}
			return err
		}),
	}, 0)
}

// look says what a load would do to the tables of the warehouse, and refuses what it would refuse.
func (found *checked) look(ctx context.Context, m *star.Model, root *os.Root) error {
	wh, err := openWarehouse(ctx, m, root, warehouse.ToRead)
	if errors.Is(err, fs.ErrNotExist) {
		wh, err = openWarehouse(ctx, m, root, warehouse.ToTry)
	}
	if err != nil {
		found.Unseen = err.Error()
		return nil
	}
	defer wh.Close()
	if found.Tables, err = load.Alterations(ctx, wh, m); err != nil {
		found.Unseen = err.Error()
		return nil
	}
	var refused diag.List
	for _, a := range found.Tables {
		if a.Refused {
			refused = append(
				refused,
				&diag.Error{At: diag.Place{File: m.File}, Subject: "table " + a.Table, Message: "it " + a.Does},
			)
		}
	}
	return refused.Err()
}
