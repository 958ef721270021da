package load

import (
	"context"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/dimension"
	"ironmonger/internal/fact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/resolve"
	"ironmonger/internal/roster"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
)

// tried is what became of the rows that wait, when they were read once more from what the ledger has kept of them:
// before the step reads anything else.
//
// A row is news if nothing sets it aside that can be told without the fact's table, or if that is something else than
// before. Where its file is there, the file is read again for it; where it is not, the row itself is.
type tried struct {
	vain map[source.FileOf]bool // files of which no row is news, so that they need not be read for these rows
	left []source.Left          // rows that are news of files that are not there any more
	ids  map[int64]bool         // and their entries
}

// keptRow is what is kept of a row.
type keptRow struct {
	ids     []int64 // its entries: of an object that has a list there may be several
	reasons string
}

// rowAt is where a row stands.
type rowAt struct {
	file string
	line int64
}

// has reports whether rows are tried of a file that is not there any more.
func (t *tried) has(name string) bool {
	return slices.ContainsFunc(t.left, func(x source.Left) bool { return x.Name == name })
}

// tryAgain adds the rows that are news to what the step reads.
func (w *work) tryAgain(in *source.Inputs) *source.Inputs {
	if len(w.tried.left) == 0 {
		return in
	}
	w.aside.book.Try(w.tried.ids)
	n := 0
	for _, x := range w.tried.left {
		n += len(x.Rows)
	}
	note := "a row that was set aside before was read from the ledger, because its file is not there any more"
	if n > 1 {
		note = fmt.Sprintf("%d rows that were set aside before were read from the ledger, because their files are not there any more", n)
	}
	w.figures.Notes = append(w.figures.Notes, note)
	return in.With(w.tried.left)
}

// tryKept finds out which rows that wait are news.
func (w *factStep) tryKept(ctx context.Context) error {
	bases, _, ok := w.fact.Source.Bases()
	all := w.fact.Deliveries
	if !ok || w.made || w.fact.Source.Merges() || all != nil && !all.Files { // a delivery is whole, or is none
		return nil
	}
	rows, err := w.aside.book.Kept(w.fact.Source.Text)
	if err != nil || len(rows) == 0 {
		return err
	}
	there := map[string]source.FileOf{} // by their names without what compression adds
	skip := map[source.FileOf]bool{}
	var files []source.State
	for _, s := range bases {
		states, err := w.inputs.States(s)
		if err != nil {
			return err
		}
		for _, f := range states {
			there[ledger.Uncompressed(f.Name)], skip[f.FileOf] = f.FileOf, true
			files = append(files, f)
		}
	}
	left, kept, err := w.keptRows(ctx, bases, rows, there)
	if err != nil || len(left) == 0 {
		return err
	}
	news, err := w.news(ctx, w.seeing(w.inputs.Without(skip).With(left)), kept)
	if err != nil {
		return err
	}
	if err := w.forgetMoved(ctx, bases, files, gone(left, there), news); err != nil {
		return err
	}
	w.tried = tried{vain: map[source.FileOf]bool{}, ids: map[int64]bool{}}
	waiting := w.aside.book.WaitingOf()
	for _, x := range left {
		n, read := 0, x
		read.Rows = nil
		for _, r := range x.Rows {
			at := rowAt{x.Name, r.Line}
			if n += len(kept[at].ids); news[at] {
				read.Rows = append(read.Rows, r)
			}
		}
		f, present := there[ledger.Uncompressed(x.Name)]
		switch {
		case present:
			w.tried.vain[f] = len(read.Rows) == 0 && n == waiting[x.Name]
		case len(read.Rows) > 0:
			w.tried.left = append(w.tried.left, read)
			for _, r := range read.Rows {
				for _, id := range kept[rowAt{x.Name, r.Line}].ids {
					w.tried.ids[id] = true
				}
			}
		}
	}
	return nil
}

// gone returns what is left of files that are not there any more.
func gone(left []source.Left, there map[string]source.FileOf) []source.Left {
	return slices.DeleteFunc(slices.Clone(left), func(x source.Left) bool {
		_, present := there[ledger.Uncompressed(x.Name)]
		return present
	})
}

// forgetMoved removes rows of files that are not there any more from the news, if the very row stands in a file that is
// new or has changed: its file was moved, or was put together with others.
func (w *factStep) forgetMoved(
	ctx context.Context,
	bases []*star.Source,
	files []source.State,
	left []source.Left,
	news map[rowAt]bool,
) error {
	known, err := ledger.ReadFiles(ctx, w.tx, w.name)
	if err != nil {
		return err
	}
	before := map[source.FileOf]string{}
	for _, k := range known {
		before[source.FileOf{Source: k.Source, Name: k.File}] = k.Changed
	}
	texts := map[string][]rowAt{}
	for _, x := range left {
		for _, r := range x.Rows {
			if at := (rowAt{x.Name, r.Line}); news[at] {
				texts[r.Text] = append(texts[r.Text], at)
			}
		}
	}
	old := map[source.FileOf]bool{}
	for _, f := range files {
		old[f.FileOf] = before[f.FileOf] == f.Changed
	}
	if len(texts) == 0 || !slices.Contains(slices.Collect(maps.Values(old)), false) {
		return nil
	}
	in := w.inputs.Without(old)
	for _, s := range bases {
		if !source.Keeps(s) {
			continue
		}
		rows, err := in.Open(ctx, s, nil, func(string) bool { return false })
		if err != nil {
			return err
		}
		err = pipeline.Batches(ctx, rows, w.opts.Workers, func(b *column.Batch) error {
			for i := range b.N {
				for _, at := range texts[b.From.Raw(i)] {
					delete(news, at)
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// keptRows arranges the rows that can be read from what was kept of them by their files. A row that only the fact's
// table speaks against is not among them: it would be tried for ever.
func (w *factStep) keptRows(
	ctx context.Context,
	bases []*star.Source,
	rows []ledger.Aside,
	there map[string]source.FileOf,
) ([]source.Left, map[rowAt]keptRow, error) {
	heads, err := ledger.Heads(ctx, w.tx)
	if err != nil {
		return nil, nil, err
	}
	kept := map[rowAt]keptRow{}
	of := map[string]*source.Left{}
	var names []string
	for _, r := range rows {
		if ofTable(r.Reasons()) {
			continue
		}
		x, met := of[r.File]
		if !met {
			if x = leftOf(bases, r.File, heads, there); x != nil {
				names = append(names, r.File)
			}
			of[r.File] = x
		}
		if x == nil {
			continue
		}
		at := rowAt{r.File, r.Line}
		k := kept[at]
		if k.ids, k.reasons = append(k.ids, r.ID), r.Reasons(); len(k.ids) == 1 {
			x.Rows = append(x.Rows, source.LeftRow{Line: r.Line, Text: r.Content})
		}
		kept[at] = k
	}
	var left []source.Left
	for _, name := range names {
		slices.SortFunc(of[name].Rows, func(a, b source.LeftRow) int { return int(a.Line - b.Line) })
		left = append(left, *of[name])
	}
	return left, kept, nil
}

// ofTable reports whether the fact's table alone speaks against a row.
func ofTable(reasons string) bool {
	return strings.HasPrefix(reasons, fact.RepeatReason) || strings.HasPrefix(reasons, fact.OrderReason)
}

// leftOf begins what is left of a file; nil if it cannot be told how it is read.
func leftOf(
	bases []*star.Source,
	name string,
	heads map[string][]string,
	there map[string]source.FileOf,
) *source.Left {
	var base *star.Source
	for _, s := range bases {
		switch {
		case !reads(s, name):
		case base != nil: // there are two ways
			return nil
		default:
			base = s
		}
	}
	if base == nil || !source.Keeps(base) || base.HasRecords() && (heads[name] == nil || !source.Fits(base, heads[name])) {
		return nil
	}
	if f, ok := there[ledger.Uncompressed(name)]; ok && f.Source != base.Text {
		return nil
	}
	return &source.Left{FileOf: source.FileOf{Source: base.Text, Name: name}, Head: heads[name]}
}

// reads reports whether a source reads a file of some name, or would if it were there.
func reads(s *star.Source, name string) bool {
	for _, pattern := range s.Read {
		full := path.Join(filepath.ToSlash(s.Within.Text), path.Clean(filepath.ToSlash(pattern.Text)))
		for _, end := range []string{"", ".gz", ".zst"} {
			if ok, err := path.Match(full, strings.TrimSuffix(name, end)); err == nil && ok {
				return true
			}
		}
	}
	return false
}

// news reads rows that were kept, and returns those that are news.
func (w *factStep) news(ctx context.Context, in *source.Inputs, kept map[rowAt]keptRow) (map[rowAt]bool, error) {
	rosters, err := w.rostersFor(ctx, in)
	if err != nil {
		return nil, err
	}
	flow, err := transform.Open(ctx, in, w.fact.Source, w.needs)
	if err != nil {
		return nil, err
	}
	links := resolve.New(w.step.keys, flow.Fields(),
		func(d *star.Dimension) *roster.Roster { return rosters[d] },
		func(*roster.Roster) *dimension.Session { return nil }) // nothing is inferred for it
	resolver := resolve.NewResolver(links)
	writer := fact.NewWriter(w.fact, links, flow.Fields(), w.entry.ID, &fact.Files{Day: w.entry.Day()})
	writer.CountIn(w.days)
	news := map[rowAt]bool{}
	for at := range kept { // a row that is not met is dropped, or left out
		news[at] = true
	}
	err = pipeline.Each(ctx, flow, 1,
		func() *fact.Chunk { return &fact.Chunk{Batch: column.NewBatch(flow.Fields())} },
		func(_ int, p column.Piece, c *fact.Chunk) error {
			if err := p.Fill(c.Batch); err != nil {
				return err
			}
			if err := resolver.Resolve(c.Batch, &c.Keys); err != nil {
				return err
			}
			writer.Judge(c)
			return nil
		},
		func(c *fact.Chunk) error {
			why := make([]ledger.Aside, c.Batch.N)
			for k := range c.Batch.Faults {
				f := &c.Batch.Faults[k]
				why[f.Row].Causes = append(why[f.Row].Causes, cause(f))
			}
			for i := range c.Batch.N {
				at := rowAt{c.Batch.From.File, c.Batch.From.Line[i]}
				if k := kept[at]; c.Batch.Bad(i) && (len(k.ids) > 1 || why[i].Reasons() == k.reasons) {
					delete(news, at)
				}
			}
			return nil
		})
	return news, err
}

// rostersFor opens the dimensions of the step's keys, as far as rows that were kept say keys of them.
func (w *factStep) rostersFor(ctx context.Context, in *source.Inputs) (map[*star.Dimension]*roster.Roster, error) {
	rosters := map[*star.Dimension]*roster.Roster{}
	wanted := map[*star.Dimension]*roster.Wanted{}
	for _, k := range w.step.keys {
		if d := k.Dimension; d.Inferable() && d.Aliases == nil && wanted[d] == nil {
			wanted[d] = roster.NewWanted(d, 0)
		}
	}
	flow, err := transform.Open(ctx, in, w.fact.Source, w.needs)
	if err != nil {
		return nil, err
	}
	err = pipeline.Batches(ctx, flow, 1, func(b *column.Batch) error {
		for _, k := range w.step.keys {
			if wanted[k.Dimension] == nil {
				continue
			}
			var by []*column.Column
			for _, name := range k.By {
				by = append(by, &b.Cols[column.Find(flow.Fields(), name)])
			}
			wanted[k.Dimension].Add(by, b.N)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, k := range w.step.keys {
		d := k.Dimension
		switch {
		case rosters[d] != nil:
		case wanted[d] != nil:
			rosters[d], err = roster.OpenWanted(ctx, w.tx, w.star.Dimension(d), wanted[d])
		default:
			rosters[d], err = w.roster(ctx, w.tx, d)
		}
		if err != nil {
			return nil, err
		}
	}
	return rosters, nil
}
