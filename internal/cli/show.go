package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/layout"
	"ironmonger/internal/place"
	"ironmonger/internal/sample"
	"ironmonger/internal/star"
	"ironmonger/internal/view"
	"ironmonger/internal/warehouse"
)

func (s *session) show() *cli.Command {
	return command(&cli.Command{
		Name:      "show",
		Usage:     "rows of a source, a dimension or a fact",
		ArgsUsage: "[source|dimension|fact] NAME",
		Description: "Of a source, the rows as they are once read and shaped, with file and line, or, with --as-read, as they stand\n" +
			"in the files; of a dimension or fact, the rows that stand in the warehouse. With --figures, what the values of\n" +
			"each column are like, over all rows. The kind need be said only where two things have one name.\n\n" +
			"Exit status: 0 done; 1 a file can't be read; 2 the call or the model is wrong.\n\n" +
			"Example:\n  ironmonger show passages --where \"tonnage > 100\" --columns passage_no,toll\n  ironmonger show fact passage --natural --rows 5\n  ironmonger show passages --as-read --figures",
		Flags: flags(
			&cli.IntFlag{Name: "rows", Value: 10, Usage: "at most `N` rows"},
			&cli.StringFlag{Name: "columns", Usage: "only these columns, with `commas` between"},
			&cli.StringFlag{Name: "where", Usage: "only rows for which the `condition` is true"},
			&cli.BoolFlag{Name: "count", Usage: "look at all rows, and say how many there are"},
			&cli.BoolFlag{Name: "natural", Usage: "natural keys in place of surrogate keys"},
			&cli.BoolFlag{Name: "as-read", Usage: "of a source: all columns of its files, as text, before anything is done to them"},
			&cli.BoolFlag{Name: "figures", Usage: "what the values of each column are like, in place of rows"}),
		Action: onModel(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
			wish := sample.Wish{Rows: c.Int("rows"), Where: c.String("where"), Count: c.Bool("count"), Natural: c.Bool("natural"), AsRead: c.Bool("as-read"), Figures: c.Bool("figures")}
			if wish.Rows < 0 {
				return wrong{fmt.Errorf("show: --rows %d is no number of rows", wish.Rows)}
			}
			if list := c.String("columns"); list != "" {
				for _, name := range strings.Split(list, ",") {
					wish.Columns = append(wish.Columns, strings.TrimSpace(name))
				}
			}
			rows, err := s.rowsOf(ctx, c.Args().Slice(), m, root, wish)
			if err != nil {
				return err
			}
			if wish.Figures {
				return s.result(c, rows, view.FigureRecords(rows), func(width int) { view.Figures(s.out, rows, width) })
			}
			return s.result(c, rows, view.RowRecords(rows), func(width int) { view.Rows(s.out, rows, width) })
		}),
	}, 2)
}

// rowsOf finds what a call to show names, and its rows.
func (s *session) rowsOf(ctx context.Context, args []string, m *star.Model, root *os.Root, wish sample.Wish) (*sample.Rows, error) {
	if len(args) == 0 {
		return nil, wrong{errors.New("show: what? For example: ironmonger show passages")}
	}
	kind, name := "", args[len(args)-1]
	if wish.AsRead {
		kind = "source"
	}
	if len(args) == 2 {
		if wish.AsRead && args[0] != "source" {
			return nil, wrong{errors.New("show: --as-read is for sources: the rows of the warehouse are what they are")}
		}
		if kind = args[0]; kind != "source" && kind != "dimension" && kind != "fact" {
			return nil, wrong{fmt.Errorf("show: %s is none of source, dimension, fact", kind)}
		}
	}
	tables := layout.New(m)
	var found []string
	var names []string
	var rows func() (*sample.Rows, error)
	offer := func(what, called string, f func() (*sample.Rows, error)) {
		if kind == "" || kind == what {
			names = append(names, called)
			if called == name {
				found, rows = append(found, what+" "+called), f
			}
		}
	}
	for _, src := range m.Sources {
		offer("source", src.Text, func() (*sample.Rows, error) { return sample.Source(ctx, root, m, src, wish) })
	}
	inWarehouse := func(f func(warehouse.Reader) (*sample.Rows, error)) func() (*sample.Rows, error) {
		return func() (*sample.Rows, error) {
			wh, err := openWarehouse(ctx, m, root, false)
			if errors.Is(err, fs.ErrNotExist) {
				return nil, wrong{errors.New("nothing has been loaded yet: ironmonger load")}
			} else if err != nil {
				return nil, err
			}
			defer wh.Close()
			return f(wh)
		}
	}
	for _, d := range tables.Dimensions {
		offer("dimension", d.Text, inWarehouse(func(r warehouse.Reader) (*sample.Rows, error) { return sample.Dimension(ctx, r, tables, d, wish) }))
	}
	for _, f := range tables.Facts {
		offer("fact", f.Text, inWarehouse(func(r warehouse.Reader) (*sample.Rows, error) { return sample.Fact(ctx, r, tables, f, wish) }))
	}
	switch len(found) {
	case 0:
		return nil, wrong{fmt.Errorf("the model has nothing called %s%s", name, place.Suggest(name, names))}
	case 1:
		result, err := rows()
		var inFile *place.Error
		var inModel place.List
		if err != nil && !errors.As(err, &inModel) && (!errors.As(err, &inFile) || inFile.At.File == "--where") {
			err = wrong{err}
		}
		return result, err
	}
	return nil, wrong{fmt.Errorf("%s may mean %s: say which", name, strings.Join(found, " or "))}
}
