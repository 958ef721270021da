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
	"ironmonger/internal/star"
	"ironmonger/internal/survey"
	"ironmonger/internal/transform"
)

func (s *session) draft() *cli.Command {
	return command(&cli.Command{
		Name:      "draft",
		Usage:     "propose a model for the files in a folder, or the tables of a database",
		ArgsUsage: "FOLDER|DATABASE",
		Description: "It looks at all files in the folder and in its folders, and writes a model, ironmonger.yaml, beside them: files of one\n" +
			"shape are one source; columns have types and layouts; natural keys, grains and references follow from the values. Each\n" +
			"decision has its evidence beside it as a comment, and what is doubtful is marked. A model that is there is not\n" +
			"overwritten: with --into it gets what it lacks, sources, dimensions and facts for new files, and new columns; nothing\n" +
			"else of it changes, and comments stay. Columns that all files have, and that the model does not take, are proposed in a\n" +
			"comment, once. A database is an SQLite file, or the place of another one, such as 'postgres: host=db.example dbname=canal'\n" +
			"or 'mysql: ...'; the model is written beside the file, or else into this folder.\n\n" +
			"Exit status: 0 done; 1 a file cannot be read or written; 2 the call is wrong.\n\n" +
			"Example:\n  ironmonger draft exports && cd exports && ironmonger check && ironmonger load\n  ironmonger draft exports --into ironmonger.yaml\n  ironmonger draft 'postgres: service=office' --into office.yaml",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "into", Value: "ironmonger.yaml", Usage: "the `FILE` to write or, if it is there, to add to, in the folder; - writes the model to standard output alone"},
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
	var there *star.Model
	if _, err := root.Stat(file); err == nil && file != "-" {
		if !c.IsSet("into") {
			return wrong{fmt.Errorf("draft: %s is there already, and is not overwritten: --into %s adds to it what it lacks", filepath.Join(folder, file), file)}
		}
		if there, err = star.Read(filepath.Join(folder, file), transform.Outside(ctx, root, nil)); err != nil {
			return err
		}
	}
	tables, skipped, err := surveyed(ctx, root, database)
	if err != nil {
		return err
	}
	if len(tables) == 0 {
		render.Surveyed(s.err, nil, skipped, 0)
		return fmt.Errorf("draft: nothing in %s can be read", c.Args().First())
	}
	options := draft.Options{
		Warehouse: c.String("warehouse"), History: !c.Bool("no-history"), Infer: c.String("unmatched") == "infer",
	}
	if there != nil {
		return s.extend(ctx, c, root, there, tables, skipped, options)
	}
	d, err := draft.Make(ctx, root, tables, options)
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

// extend adds to a model what it lacks for the files of its folder.
func (s *session) extend(
	ctx context.Context,
	c *cli.Command,
	root *os.Root,
	m *star.Model,
	tables []*survey.Table,
	skipped []string,
	o draft.Options,
) error {
	text, err := os.ReadFile(m.File)
	if err != nil {
		return err
	}
	d, err := draft.Extend(ctx, root, tables, m, string(text), o)
	if err != nil {
		return err
	}
	if len(d.Added) > 0 || d.Text != string(text) {
		if err := draft.Check(m.File, d.Text, transform.Outside(ctx, root, nil)); err != nil {
			return err
		}
		if err := replaceFile(m.File, d.Text); err != nil {
			return err
		}
	}
	return s.result(c, d, render.AddedRecords(d), func(int) { render.Added(s.out, d, m.File, skipped) })
}

// replaceFile writes a file in one step: whoever reads it sees the old text or the new one.
func replaceFile(file, text string) error {
	info, err := os.Stat(file)
	if err != nil {
		return err
	}
	out, err := os.CreateTemp(filepath.Dir(file), ".draft-*")
	if err != nil {
		return err
	}
	defer os.Remove(out.Name())
	if _, err = out.WriteString(text); err == nil {
		err = out.Chmod(info.Mode().Perm())
	}
	if cerr := out.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = os.Rename(out.Name(), file)
	}
	return err
}
