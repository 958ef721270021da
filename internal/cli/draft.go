package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/draft"
	"ironmonger/internal/render"
)

func (s *session) draft() *cli.Command {
	return command(&cli.Command{
		Name:      "draft",
		Usage:     "propose a model for the files in a folder, or the tables of a database",
		ArgsUsage: "FOLDER|DATABASE",
		Description: "It looks at all files in the folder and in its folders, and writes a model, ironmonger.yaml, beside them: files of one\n" +
			"shape are one source; columns have types and layouts; natural keys, grains and references follow from the values. Each\n" +
			"decision has its evidence beside it as a comment, and what is doubtful is marked. A model that is there is not\n" +
			"overwritten. A database is an SQLite file, or the place of another one, such as 'postgres: host=db.example dbname=canal'\n" +
			"or 'mysql: ...'; the model is written beside the file, or else into this folder.\n\n" +
			"Exit status: 0 done; 1 a file cannot be read or written; 2 the call is wrong.\n\n" +
			"Example:\n  ironmonger draft exports && cd exports && ironmonger check && ironmonger load\n  ironmonger draft 'postgres: service=office' --into office.yaml",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "into", Value: "ironmonger.yaml", Usage: "the `FILE` to write, in the folder; - writes the model to standard output alone"},
			&cli.StringFlag{Name: "warehouse", Value: "star.db", Usage: "the SQLite `FILE` of the star"},
			&cli.BoolFlag{Name: "no-history", Usage: "of members with rows of several times, only the last row counts"},
			&cli.StringFlag{
				Name: "unmatched", Value: "infer", Usage: "facts of members that are not known: `infer` the member, or point to unknown",
				Validator: func(v string) error {
					if v != "infer" && v != "unknown" {
						return fmt.Errorf("%s is neither infer nor unknown", v)
					}
					return nil
				},
			},
		}, formatFlags()...),
		Action: s.writeDraft,
	}, 1)
}

func (s *session) writeDraft(ctx context.Context, c *cli.Command) error {
	folder := c.Args().First()
	if folder == "" {
		return wrong{errors.New("draft: of which folder? For example: ironmonger draft exports")}
	}
	folder, database := databaseOf(folder)
	root, err := os.OpenRoot(folder)
	if err != nil {
		return wrong{fmt.Errorf("draft: there is no folder %s", folder)}
	}
	defer root.Close()
	file := c.String("into")
	if file != "-" && filepath.Base(file) != file {
		return wrong{errors.New("draft: --into is the name of a file in the folder")}
	}
	if _, err := root.Stat(file); err == nil {
		return wrong{fmt.Errorf("draft: %s is there already, and is not overwritten: --into names another file", filepath.Join(folder, file))}
	}
	tables, skipped, err := surveyed(ctx, root, database)
	if err != nil {
		return err
	}
	if len(tables) == 0 {
		render.Surveyed(s.err, nil, skipped, 0)
		return fmt.Errorf("draft: nothing in %s can be read", c.Args().First())
	}
	d, err := draft.Make(ctx, root, tables, draft.Options{
		Warehouse: c.String("warehouse"), History: !c.Bool("no-history"), Infer: c.String("unmatched") == "infer",
	})
	if err != nil {
		return err
	}
	if file == "-" {
		_, err := fmt.Fprint(s.raw, d.Text)
		return err
	}
	out, err := root.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, fs.FileMode(0o644))
	if err != nil {
		return err
	}
	if _, err = out.WriteString(d.Text); err == nil {
		err = out.Close()
	}
	if err != nil {
		return err
	}
	return s.result(c, d, render.DraftRecords(d), func(width int) {
		render.Drafted(s.out, d, filepath.Join(folder, file), skipped, width)
	})
}
