package load

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/fact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/resolve"
	"ironmonger/internal/source"
	"ironmonger/internal/transform"
)

// withdraw takes the facts out of the table that their files do not have any more, where files have all rows that came
// from them, and returns how many those are. For that, it reads the files that came before and are read again.
func (w *factStep) withdraw(ctx context.Context, writer *fact.Writer) (int, error) {
	if all := w.fact.Deliveries; all == nil || !all.Files || w.made || w.reading == nil {
		return 0, nil
	}
	skip := map[source.FileOf]bool{}
	var names []string
	for _, f := range w.reading.states {
		if w.reading.skip[f.FileOf] || !w.came[ledger.Uncompressed(f.Name)] {
			skip[f.FileOf] = true
		} else {
			names = append(names, f.Name)
		}
	}
	if names == nil {
		return 0, nil
	}
	content, err := w.contentOf(ctx, writer, names, skip)
	if err != nil {
		return 0, err
	}
	return writer.Withdraw(ctx, w.tx, content)
}

// contentOf reads files for the grains of their rows.
func (w *factStep) contentOf(
	ctx context.Context,
	writer *fact.Writer,
	names []string,
	skip map[source.FileOf]bool,
) (*fact.Content, error) {
	inputs, all := w.inputs.Without(skip), numbered{}
	if n, ok := w.rows.(numbered); ok { // keys are looked up by where rows stand among all
		inputs, all = w.chosen, n
	}
	flow, err := transform.Open(ctx, inputs, w.fact.Source, w.needs)
	if err != nil {
		return nil, err
	}
	var rows column.Source = flow
	if inputs == w.chosen {
		rows = numbered{flow, all.before}
	}
	content := writer.NewContent(names)
	resolvers := make([]*resolve.Resolver, w.opts.Workers)
	for i := range resolvers {
		resolvers[i] = resolve.NewResolver(w.links)
	}
	err = pipeline.Each(ctx, rows, w.opts.Workers,
		func() *fact.Chunk { return &fact.Chunk{Batch: column.NewBatch(w.fields)} },
		func(worker int, p column.Piece, c *fact.Chunk) error {
			if err := p.Fill(c.Batch); err != nil {
				return err
			}
			if err := resolveKeys(resolvers[worker], p, c.Batch, &c.Keys); err != nil {
				return err
			}
			writer.Look(c)
			return nil
		},
		func(c *fact.Chunk) error {
			content.Take(c)
			return nil
		})
	return content, err
}
