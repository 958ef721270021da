package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/preview"
	"ironmonger/internal/render"
	"ironmonger/internal/star"
	"ironmonger/internal/survey"
)

// isPath reports whether the argument of show is a path, and not a name of the model: names have no points and no
// slashes.
func isPath(name string) bool { return strings.ContainsAny(name, `./\`) }

// showPath shows what a file is like, or the files of a folder, without a model.
func (s *session) showPath(ctx context.Context, c *cli.Command, name string, wish preview.Wish) error {
	if wish.Natural || wish.Until != "" || wish.Aside {
		return wrong{errors.New("show: --natural, --until and --set-aside are for what a model names, not for files")}
	}
	file, dir := "", name
	if info, err := os.Stat(name); err != nil || !info.IsDir() {
		if dir, file = splitPath(name); file == "" {
			return wrong{fmt.Errorf("show: there is no file or folder %s", name)}
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	if file == "" {
		tables, skipped, err := surveyed(ctx, root, nil)
		if err != nil {
			return err
		}
		return s.showSurvey(c, tables, skipped)
	}
	if _, d := databaseOf(name); d != nil && wish.Columns == nil && wish.Where == "" {
		tables, skipped, err := surveyed(ctx, root, d)
		if err != nil {
			return err
		}
		return s.showSurvey(c, tables, skipped)
	}
	if strings.EqualFold(filepath.Ext(file), ".zip") {
		tables, skipped, err := survey.Folder(ctx, root, []string{file})
		if err != nil {
			return err
		}
		return s.showSurvey(c, tables, skipped)
	}
	tables, err := survey.Look(ctx, root, file)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if !wish.Figures && !wish.AsRead && wish.Where == "" && wish.Columns == nil && !wish.Count {
		return s.showSurvey(c, tables, nil)
	}
	if len(tables) > 1 {
		return wrong{fmt.Errorf("show: %s has %d sheets: %s/%s is one of them", name, len(tables), name, tables[0].Sheet)}
	}
	wish.AsRead = true
	rows, err := preview.Source(ctx, survey.Inputs(root), tables[0].Source(), wish)
	if err != nil {
		return err
	}
	return s.rows(c, rows, wish.Figures)
}

// splitPath splits the path of a file at its folder. Behind a workbook or an archive, it may go on with a sheet or a
// file in it; file is "" if there is no file.
func splitPath(name string) (dir, file string) {
	for at, rest := filepath.Clean(name), ""; ; {
		parent, base := filepath.Split(at)
		rest = filepath.Join(base, rest)
		if info, err := os.Stat(at); err == nil && !info.IsDir() {
			return cmp.Or(parent, "."), filepath.ToSlash(rest)
		} else if err == nil || parent == "" || base == "" {
			return ".", ""
		}
		at = filepath.Clean(parent)
	}
}

func (s *session) showSurvey(c *cli.Command, tables []*survey.Table, skipped []string) error {
	found := struct {
		Files   []*survey.Table `json:"files"`
		Skipped []string        `json:"not_looked_at,omitempty"`
	}{tables, skipped}
	return s.result(c, found, render.SurveyedRecords(tables), func(width int) { render.Surveyed(s.out, tables, skipped, width) })
}

// databaseOf returns the database that an argument names, and the folder of its model: of a SQLite file, that of the
// file.
func databaseOf(arg string) (folder string, d *star.Database) {
	for _, kind := range []string{star.Postgres, star.MySQL, star.Trino} {
		if connection, ok := strings.CutPrefix(arg, kind+":"); ok {
			return ".", &star.Database{Name: star.Name{Text: "origin"}, Kind: kind, Connection: strings.TrimSpace(connection)}
		}
	}
	start := make([]byte, 16)
	if f, err := os.Open(arg); err == nil {
		n, _ := f.Read(start)
		f.Close()
		if string(start[:n]) == "SQLite format 3\x00" {
			folder, file := filepath.Split(filepath.Clean(arg))
			return cmp.Or(folder, "."), &star.Database{Name: star.Name{Text: "origin"}, Kind: star.SQLite, Path: file}
		}
	}
	return arg, nil
}

// surveyed looks at all files below a folder, or at the tables of a database.
func surveyed(ctx context.Context, root *os.Root, d *star.Database) (tables []*survey.Table, skipped []string, err error) {
	if d != nil {
		return survey.Database(ctx, root, d)
	}
	names, err := filesBelow(root)
	if err != nil {
		return nil, nil, err
	}
	return survey.Folder(ctx, root, names)
}

// rows writes rows, or figures of their columns.
func (s *session) rows(c *cli.Command, rows *preview.Rows, figures bool) error {
	if figures {
		return s.result(c, rows, render.FigureRecords(rows), func(width int) { render.Figures(s.out, rows, width) })
	}
	return s.result(c, rows, render.RowRecords(rows), func(width int) { render.Rows(s.out, rows, width) })
}

// filesBelow lists the files in a folder and in its folders, in the order of their paths; those that begin with a point
// are passed over, and so are models and warehouses.
func filesBelow(root *os.Root) ([]string, error) {
	var names []string
	err := fs.WalkDir(root.FS(), ".", func(name string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case name != "." && strings.HasPrefix(entry.Name(), "."):
			if entry.IsDir() {
				return fs.SkipDir
			}
		case (entry.Type().IsRegular() || entry.Type()&fs.ModeSymlink != 0) && !isOurs(entry.Name()):
			names = append(names, name)
		}
		return nil
	})
	return names, err
}

// isOurs reports whether a file is a model, a warehouse or a text about them, by its name.
func isOurs(name string) bool {
	for _, end := range []string{".yaml", ".yml", ".md", ".db", ".db-wal", ".db-shm", ".sqlite", ".go", ".sh", ".py"} {
		if strings.HasSuffix(strings.ToLower(name), end) {
			return true
		}
	}
	return false
}
