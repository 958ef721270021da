package load

import (
	"context"
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/fact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/resolve"
	"ironmonger/internal/warehouse"
)

// sums is the account of the exact measures (rule R20).
type sums struct{ read, aside []exact.Int128 }

// load reads facts, resolves their keys and appends them.
func (w *factStep) load(ctx context.Context) error {
	if err := w.connect(ctx); err != nil {
		return err
	}
	if err := w.numberFiles(ctx); err != nil {
		return err
	}
	files := w.numbered
	writer := fact.NewWriter(w.fact, w.links, w.fields, w.entry.ID, files)
	writer.CountIn(w.days)
	withdrawn, err := w.withdraw(ctx, writer)
	if err != nil {
		return err
	}
	w.within.open(writer)
	if withdrawn == 0 && w.isSmall() {
		writer.LookUp(warehouse.Tally{Rows: w.book.Rows, Totals: slices.Clone(w.book.Totals)})
	}
	if err := writer.Open(ctx, w.tx); err != nil {
		return err
	}
	account := sums{make([]exact.Int128, len(writer.Measures)), make([]exact.Int128, len(writer.Measures))}
	resolvers := make([]*resolve.Resolver, w.opts.Workers)
	for i := range resolvers {
		resolvers[i] = resolve.NewResolver(w.links)
	}
	err = pipeline.Each(ctx, w.rows, w.opts.Workers,
		func() *fact.Chunk { return &fact.Chunk{Batch: column.NewBatch(w.fields)} },
		func(worker int, p column.Piece, c *fact.Chunk) error {
			if err := p.Fill(c.Batch); err != nil {
				return err
			}
			c.Own = len(c.Batch.Faults)
			if err := resolveKeys(resolvers[worker], p, c.Batch, &c.Keys); err != nil {
				return err
			}
			writer.Prepare(c)
			return nil
		},
		func(c *fact.Chunk) error { return w.takeChunk(ctx, writer, &account, c) })
	if err != nil {
		return others(err)
	}
	if err := w.inferred(ctx); err != nil {
		return err
	}
	if err := writer.Finish(ctx, w.tx); err != nil {
		return err
	}
	if err := w.within.insert(ctx, w, writer, files, &account); err != nil {
		return err
	}
	if err := w.within.supersede(ctx, w); err != nil {
		return err
	}
	if err := w.within.close(ctx); err != nil {
		return err
	}
	if err := w.referTo(ctx); err != nil {
		return err
	}
	if err := w.tx.Constrain(ctx, w.fact.Table); err != nil {
		return err
	}
	f, o := &w.figures, &writer.Outcome
	f.Inserted, f.Same, f.Table, f.Empty = o.Inserted, o.Same, o.Table.Rows, o.Empty
	f.Changed, f.Older, f.Kept = o.Changed, o.Older, o.Kept
	f.Gone, f.Back, f.Removed, f.Reversed, f.Disagree = o.Gone, o.Back, o.Removed, o.Reversed, o.Conflicts
	if err := w.balance(writer, &account); err != nil {
		return err
	}
	added := make([]exact.Int128, len(writer.Measures))
	for k := range added {
		added[k] = o.Added(k)
	}
	if err := w.keepAccount(ctx, o.Grown(), added, o.Table); err != nil {
		return err
	}
	if err := w.reading.keep(ctx, w.work); err != nil {
		return err
	}
	return w.mustHold(ctx, w.fact.Table, w.fact.MustHold)
}

// numberFiles finds the numbers of the step's files, once.
func (w *factStep) numberFiles(ctx context.Context) (err error) {
	if w.numbered == nil {
		w.numbered, err = w.arrivals(ctx)
	}
	return err
}

// arrivals returns the files of the step as the ledger numbers them, new ones included.
func (w *factStep) arrivals(ctx context.Context) (*fact.Files, error) {
	numbers, contents, err := w.number(ctx)
	if err != nil {
		return nil, err
	}
	w.contents = map[int64]string{}
	for name, content := range contents {
		w.contents[numbers[name]] = content
	}
	names, err := ledger.FileNames(ctx, w.tx)
	if err != nil {
		return nil, err
	}
	f := &fact.Files{Number: numbers, First: map[int64]int64{}, Left: map[int64]bool{}, Day: w.entry.Day()}
	first := ledger.Arrivals(names)
	if w.kind.source().Merges() {
		first = ledger.Together(first)
	}
	for number, name := range names {
		if least := first[ledger.Uncompressed(name)]; least != number {
			f.First[number] = least
		}
	}
	if err := w.numberLeft(ctx, f, names); err != nil {
		return nil, err
	}
	last := int64(0)
	for _, name := range w.files {
		number := f.Came(numbers[name])
		f.Orders = f.Orders || number < last
		last = number
	}
	return f, nil
}

// number returns the numbers of the step's files, and what is in those that are read where that counts.
func (w *factStep) number(ctx context.Context) (numbers map[string]int64, contents map[string]string, err error) {
	read := slices.DeleteFunc(slices.Clone(w.files), w.tried.has)
	before, err := ledger.FileNames(ctx, w.tx)
	if err != nil {
		return nil, nil, err
	}
	numbers = ledger.Numbers(before)
	known := func(name string) bool { return numbers[name] != 0 }
	if w.counting() == inArrival || slices.ContainsFunc(read, func(name string) bool { return !known(name) }) {
		err = w.inOrder(ctx, func(tx warehouse.Tx) (err error) {
			if w.counting() == inArrival {
				if contents, err = w.findMoved(ctx, tx); err != nil {
					return err
				}
			}
			if before, err = ledger.FileNames(ctx, tx); err != nil {
				return err
			}
			numbers, err = ledger.Files(ctx, tx, read, w.entry.ID)
			return err
		})
	}
	w.came = map[string]bool{}
	for _, name := range before {
		w.came[ledger.Uncompressed(name)] = true
	}
	w.places[w.step].hasNumbered()
	return numbers, contents, err
}

// numberLeft finds the numbers of files that are not there any more: those under which their rows were read, although
// they may have been moved since.
func (w *factStep) numberLeft(ctx context.Context, f *fact.Files, names map[int64]string) error {
	if len(w.tried.left) == 0 {
		return nil
	}
	known, err := ledger.FilesKnown(ctx, w.tx)
	if err != nil {
		return err
	}
	for _, k := range known {
		if w.tried.has(k.Name) {
			f.Number[k.Name] = max(f.Number[k.Name], k.Number)
		}
	}
	for _, x := range w.tried.left {
		for number := range names {
			if f.Came(number) == f.Came(f.Number[x.Name]) {
				f.Left[number] = true
			}
		}
	}
	return nil
}

// takeChunk is the sequencer: it takes a chunk in source order.
func (w *factStep) takeChunk(ctx context.Context, writer *fact.Writer, account *sums, c *fact.Chunk) error {
	w.figures.Read += int64(c.Batch.N)
	if err := w.count(c.Batch, &c.Keys); err != nil {
		return err
	}
	if err := writer.Take(ctx, w.tx, c); err != nil {
		return err
	}
	w.reading.unsettled(c.Batch, c.Own)
	w.hold(c.Batch, c.Own)
	w.supersede(c)
	if err := w.aside.put(c.Batch); err != nil {
		return err
	}
	for k, m := range writer.Measures {
		values := &c.Batch.Cols[column.Find(w.fields, m.Name)]
		aside := exact.Int128{}
		if len(c.Batch.Faults) > 0 {
			for i := range c.Batch.N {
				if c.Batch.Bad(i) {
					aside, _ = aside.Add(values.Exact(i))
				}
			}
		}
		var ok, too bool
		account.read[k], ok = account.read[k].Add(c.Totals[k])
		account.aside[k], too = account.aside[k].Add(aside)
		if !ok || !too {
			return fmt.Errorf("the total of %s needs more than 38 digits", m.Name)
		}
	}
	w.read(c.Batch)
	return nil
}

// balance checks that what was read of every measure is what was inserted, what replaced other rows, what was not taken
// and what was set aside.
func (w *factStep) balance(writer *fact.Writer, account *sums) error {
	for k, m := range writer.Measures {
		text := func(x exact.Int128) string { return string(exact.AppendDecimal(nil, x, int(m.Type.Scale))) }
		o := &writer.Outcome
		sum := account.aside[k]
		for _, of := range [][]exact.Int128{o.InsertedTotal, o.ChangedTotal, o.SameSum, o.OlderSum, o.KeptSum} {
			sum, _ = sum.Add(of[k])
		}
		if sum != account.read[k] {
			return fmt.Errorf(
				"the account does not hold: of %s, %s was read and %s is accounted for",
				m.Name,
				text(account.read[k]),
				text(sum),
			)
		}
		t := ledger.Total{
			Measure:  m.Name,
			Read:     text(account.read[k]),
			Inserted: text(o.InsertedTotal[k]),
			Same:     text(o.SameSum[k]),
			SetAside: text(account.aside[k]),
			Table:    text(o.Table.Totals[k]),
		}
		if o.Changed > 0 {
			t.Changed = text(o.ChangedTotal[k])
		}
		switch {
		case o.Reversed > 0:
			t.Reversed = text(o.ReversedTotal[k])
		case o.Changed > 0:
			t.Replaced = text(o.TakenTotal[k])
		}
		if w.fact.Completion != nil && o.Rewritten > 0 { // what rows say is not what stands then
			t.Written = text(o.WrittenTotal[k])
		}
		if o.Older > 0 {
			t.Older = text(o.OlderSum[k])
		}
		if o.Removed > 0 {
			t.Removed = text(o.RemovedTotal[k])
		}
		if o.Kept > 0 {
			t.Kept = text(o.KeptSum[k])
		}
		w.figures.Totals = append(w.figures.Totals, t)
	}
	return nil
}

// says returns the columns of the grain: those that stand there, and the natural keys of its keys.
func (w *factStep) says(b *column.Batch) (member, grain []*column.Column) {
	for _, g := range w.fact.Grain {
		if g.Key == nil {
			grain = append(grain, &b.Cols[column.Find(w.fields, g.Column)])
			continue
		}
		at := slices.IndexFunc(w.links, func(l *resolve.Link) bool { return l.Key == g.Key })
		grain = append(grain, w.links[at].Says(b)...)
	}
	return nil, grain
}
