package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/diag"
	"ironmonger/internal/ledger"
	"ironmonger/internal/preview"
	"ironmonger/internal/prove"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/standing"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

func (s *session) show() *cli.Command {
	return command(&cli.Command{
		Name:      "show",
		Usage:     "show rows of a source, a dimension or a fact, or what a file is like",
		ArgsUsage: "[source|dimension|fact] NAME|./PATH",
		Description: "For a file or a folder, named by a path such as ./passages.csv, it needs no model: it shows the format, the header and the\n" +
			"type of each column, with what speaks for it; with --as-read, --columns or --where, it shows rows of a file.\n\n" +
			"For a source, it shows the transformed rows with file and line; with --as-read, the rows as they stand in the files; with\n" +
			"--set-aside, the rows that a load would set aside, and why. For a dimension or a fact, it shows the rows in the warehouse.\n" +
			"With --figures, it shows the number of nulls and distinct values, the range and the most frequent values of each column. If\n" +
			"all rows of a source were read, it also shows how many rows each stage passed on. The kind (source, dimension or fact) is\n" +
			"required only if two things have the same name.\n\n" +
			"Exit status: 0 done; 1 a file cannot be read; 2 the call or the model is wrong.\n\n" +
			"Example:\n  ironmonger show ./register/2025.csv\n  ironmonger show passages --where \"tonnage > 100\" --columns passage_no,toll\n  ironmonger show fact passage --natural --rows 5\n  ironmonger show passages --as-read --figures",
		Flags: flags(
			&cli.IntFlag{Name: "rows", Value: 10, Usage: "at most `N` rows"},
			&cli.StringFlag{Name: "columns", Usage: "only these columns, separated by `commas`"},
			&cli.StringFlag{Name: "where", Usage: "only rows for which the `condition` is true"},
			&cli.BoolFlag{Name: "count", Usage: "read all rows and count them"},
			&cli.BoolFlag{Name: "natural", Usage: "natural keys instead of surrogate keys"},
			&cli.BoolFlag{
				Name:  "as-read",
				Usage: "for a source: all columns of its files, as text, before any transformation",
			},
			&cli.StringFlag{
				Name:  "until",
				Usage: "for a source: the rows after this `stage`: " + strings.Join(star.Stages, ", "),
			},
			&cli.BoolFlag{Name: "set-aside", Usage: "for a source: the rows that would be set aside, and why, before any load"},
			&cli.BoolFlag{Name: "figures", Usage: "figures of each column, not rows"},
		),
		ShellComplete: completes(func(m *star.Model) []string { return append(sourceNames(m), loadableNames(m)...) }),
		Action: func(ctx context.Context, c *cli.Command) error {
			wish, err := wishOf(c)
			if err != nil {
				return err
			}
			if name := c.Args().First(); c.Args().Len() == 1 && isPath(name) {
				return s.showPath(ctx, c, name, wish)
			}
			return s.onStar(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
				rows, err := s.rowsOf(ctx, c.Args().Slice(), m, root, wish)
				if err != nil {
					return err
				}
				return s.rows(c, rows, wish.Figures)
			})(ctx, c)
		},
	}, 2)
}

// wishOf reads which rows a call to show wants.
func wishOf(c *cli.Command) (preview.Wish, error) {
	wish := preview.Wish{
		Rows:    c.Int("rows"),
		Where:   c.String("where"),
		Count:   c.Bool("count"),
		Natural: c.Bool("natural"),
		AsRead:  c.Bool("as-read"),
		Figures: c.Bool("figures"),
		Until:   c.String("until"),
		Aside:   c.Bool("set-aside"),
	}
	if list := c.String("columns"); list != "" {
		for _, name := range strings.Split(list, ",") {
			wish.Columns = append(wish.Columns, strings.TrimSpace(name))
		}
	}
	switch {
	case wish.Until != "" && !slices.Contains(star.Stages, wish.Until):
		return wish, wrong{fmt.Errorf("show: there is no stage %s%s", wish.Until, diag.Suggest(wish.Until, star.Stages))}
	case wish.Aside && (wish.Figures || wish.AsRead || wish.Where != "" || wish.Columns != nil):
		return wish, wrong{errors.New("show: --set-aside shows whole rows, as they stand in their files")}
	case wish.Rows < 0:
		return wish, wrong{fmt.Errorf("show: --rows %d is not a number of rows", wish.Rows)}
	}
	return wish, nil
}

// thing is something of the model that a call may name.
type thing[T any] struct {
	kind, name string
	what       T
}

// named finds the thing that the arguments of a command begin with: its name, after its kind where that is said. It
// gives the rest of the arguments too.
func named[T any](command, example string, args []string, things []thing[T]) (found T, rest []string, err error) {
	var kinds []string
	for _, t := range things {
		if !slices.Contains(kinds, t.kind) {
			kinds = append(kinds, t.kind)
		}
	}
	if len(args) == 0 {
		return found, nil, wrong{fmt.Errorf("%s: what? For example: %s", command, example)}
	}
	kind := ""
	if len(args) > 1 && slices.Contains(kinds, args[0]) {
		kind, args = args[0], args[1:]
	}
	var names, meant []string
	for _, t := range things {
		if kind != "" && t.kind != kind {
			continue
		}
		names = append(names, t.name)
		if t.name == args[0] {
			meant, found = append(meant, t.kind+" "+t.name), t.what
		}
	}
	switch {
	case len(meant) > 1:
		return found, nil, wrong{fmt.Errorf("%s may mean %s: say which", args[0], strings.Join(meant, " or "))}
	case len(meant) == 0 && kind == "":
		kind = "nothing"
	case len(meant) == 0:
		kind = "no " + kind
	}
	if len(meant) == 0 {
		return found, nil, wrong{
			fmt.Errorf("the model has %s called %s%s", kind, args[0], diag.Suggest(args[0], names)),
		}
	}
	return found, args[1:], nil
}

// rowsOf finds what a call to show names, and its rows.
func (s *session) rowsOf(
	ctx context.Context,
	args []string,
	m *star.Model,
	root *os.Root,
	wish preview.Wish,
) (*preview.Rows, error) {
	type rows = func() (*preview.Rows, error)
	var things []thing[rows]
	for _, src := range m.Sources {
		things = append(
			things,
			thing[rows]{
				"source",
				src.Text,
				func() (*preview.Rows, error) { return sourceRows(ctx, m, root, src, wish) },
			},
		)
	}
	tables := schema.New(m)
	loaded := func(f func(warehouse.Reader) (*preview.Rows, error)) rows {
		return func() (*preview.Rows, error) {
			if wish.Aside {
				return nil, errors.New("show: --set-aside is for sources; ironmonger strays shows what loads have set aside")
			}
			if wish.AsRead {
				return nil, errors.New("show: --as-read is for sources: the rows of the warehouse are what they are")
			}
			var found *preview.Rows
			err := reading(
				ctx,
				m,
				root,
				func() error { return prove.ErrNothing },
				func(r warehouse.Reader) (err error) {
					found, err = f(r)
					return err
				},
			)
			return found, err
		}
	}
	for _, d := range tables.Dimensions {
		things = append(
			things,
			thing[rows]{
				"dimension",
				d.Text,
				loaded(
					func(r warehouse.Reader) (*preview.Rows, error) { return preview.Dimension(ctx, r, tables, d, wish) },
				),
			},
		)
	}
	for _, f := range tables.Facts {
		things = append(
			things,
			thing[rows]{
				"fact",
				f.Text,
				loaded(
					func(r warehouse.Reader) (*preview.Rows, error) { return preview.Fact(ctx, r, tables, f, wish) },
				),
			},
		)
	}
	if wish.AsRead && len(args) == 1 { // a name alone can only mean a source then
		things = things[:len(m.Sources)]
	}
	find, rest, err := named("show", "ironmonger show passages", args, things)
	if err != nil {
		return nil, err
	}
	if len(rest) > 0 {
		return nil, wrong{
			fmt.Errorf("show: too many arguments, beginning with %s; see ironmonger show --help", rest[0]),
		}
	}
	result, err := find()
	var inFile *diag.Error
	var inModel diag.List
	if err != nil && !errors.As(err, &inModel) && (!errors.As(err, &inFile) || inFile.At.File == "--where") {
		err = wrong{err}
	}
	return result, err
}

// sourceRows returns rows of a source. Where some of them are of the star, or the ledger knows when their files were
// delivered, the warehouse is opened; before the first load it has none.
func sourceRows(
	ctx context.Context,
	m *star.Model,
	root *os.Root,
	s *star.Source,
	wish preview.Wish,
) (*preview.Rows, error) {
	in := &source.Inputs{Model: m, Root: root}
	if len(s.Stands()) == 0 && !s.DeliveredOfFile() {
		return preview.Source(ctx, in, s, wish)
	}
	var found *preview.Rows
	err := reading(ctx, m, root, func() error { return prove.ErrNothing }, func(r warehouse.Reader) (err error) {
		in.Star = standing.New(r, schema.New(m))
		err = ledger.EachDelivered(ctx, r, func(s, name string, day int64) {
			in.Deliver(source.FileOf{Source: s, Name: name}, day)
		})
		if err == nil {
			found, err = preview.Source(ctx, in, s, wish)
		}
		return err
	})
	if errors.Is(err, prove.ErrNothing) {
		return preview.Source(ctx, in, s, wish)
	}
	return found, err
}
