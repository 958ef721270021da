package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/urfave/cli/v3"

	"ironmonger/internal/prove"
	"ironmonger/internal/render"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/trace"
	"ironmonger/internal/transform"
	"ironmonger/internal/warehouse"
)

func (s *session) trace() *cli.Command {
	return command(&cli.Command{
		Name:      "trace",
		Usage:     "show where a fact or a member comes from",
		ArgsUsage: "[fact|dimension] NAME VALUE...",
		Description: "A fact is named by the values of its grain. The command shows its file and line, the row as read and as transformed, the\n" +
			"member that each key resolved to and why, and the runs that wrote the fact. A member is named by its natural key or a\n" +
			"surrogate key. The command shows its versions, the number of rows that point to each, and all rows of its source.\n\n" +
			"Exit status: 0 done; 2 the call or the model is wrong, or there is no such row.\n\n" +
			"Example:\n  ironmonger trace passage 17\n  ironmonger trace vessel N NV-00001\n  ironmonger trace vessel --key 5",
		Flags: flags(
			&cli.IntFlag{Name: "key", Usage: "for a dimension: the surrogate key `N` instead of the natural key"},
		),
		ShellComplete: completes(loadableNames),
		Action: s.onStar(func(ctx context.Context, c *cli.Command, m *star.Model, root *os.Root) error {
			tables := schema.New(m)
			type follow = func(r warehouse.Reader, values []string) error
			var things []thing[follow]
			for _, f := range tables.Facts {
				things = append(
					things,
					thing[follow]{"fact", f.Text, func(r warehouse.Reader, values []string) error {
						if c.IsSet("key") {
							return errors.New("--key is for dimensions: a fact is named by its grain")
						}
						then, err := trace.Parameters(ctx, r, root, m, f, values)
						if err != nil {
							return err
						}
						m, f, err := modelOf(ctx, c, m, f, root, then)
						if err != nil {
							return err
						}
						found, err := trace.OfFact(ctx, r, root, m, f, values)
						if err != nil {
							return err
						}
						return s.result(
							c,
							found,
							render.FactRecords(found),
							func(width int) { render.Fact(s.out, found, width) },
						)
					}},
				)
			}
			for _, d := range tables.Dimensions {
				things = append(
					things,
					thing[follow]{"dimension", d.Text, func(r warehouse.Reader, values []string) error {
						var key *int64
						if c.IsSet("key") {
							k := int64(c.Int("key"))
							if key = &k; len(values) > 0 {
								return errors.New("a member is named by its natural key or by --key, not by both")
							}
						}
						found, err := trace.OfMember(ctx, r, root, m, d, values, key)
						if err != nil {
							return err
						}
						return s.result(
							c,
							found,
							render.MemberRecords(found),
							func(width int) { render.Member(s.out, found, width) },
						)
					}},
				)
			}
			find, rest, err := named("trace", "ironmonger trace passage 17", c.Args().Slice(), things)
			if err != nil {
				return err
			}
			return reading(
				ctx,
				m,
				root,
				func() error { return wrong{prove.ErrNothing} },
				func(r warehouse.Reader) error {
					if there, err := r.Describe(ctx, "load_run"); err != nil {
						return err
					} else if there == nil {
						return wrong{prove.ErrNothing}
					}
					if err := find(r, rest); err != nil {
						return wrong{fmt.Errorf("trace: %w", err)}
					}
					return nil
				},
			)
		}),
	}, 100)
}

// modelOf reads the model with the values that its parameters had in a run, where the call does not say others: the
// file of a fact is found by them. It returns the fact of that model.
func modelOf(
	ctx context.Context,
	c *cli.Command,
	m *star.Model,
	f *schema.Fact,
	root *os.Root,
	then map[string]string,
) (*star.Model, *schema.Fact, error) {
	given, err := settings(c)
	if err != nil {
		return nil, nil, err
	}
	differs := false
	for _, p := range m.Parameters {
		_, said := given[p.Text]
		value, known := then[p.Text]
		differs = differs || known && !said && !p.Secret && value != p.Value
	}
	if !differs {
		return m, f, nil
	}
	now := map[string]string{}
	for _, p := range m.Parameters {
		now[p.Text] = p.Value
	}
	other, err := star.Read(c.String("model"), transform.Outside(ctx, root, func(name string) (string, bool) {
		if value, ok := given[name]; ok {
			return value, true
		}
		if value, ok := then[name]; ok {
			return value, true
		}
		value, ok := now[name]
		return value, ok
	}))
	if err != nil { // the files of then may be gone
		return m, f, nil
	}
	for _, of := range schema.New(other).Facts {
		if of.Text == f.Text {
			return other, of, nil
		}
	}
	return m, f, nil
}
