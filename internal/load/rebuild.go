package load

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// remake is what a run that makes the star anew (rule R38) knows of the star that stood. The run is one transaction, so
// that readers see the old star until the new one is complete.
type remake struct {
	former map[*star.Dimension]*roster.Former // the keys of members
	stood  map[string]map[string]int64        // by step: facts by the file that they came from
	read   map[string][]string                // and the files that the step has read now
	came   func(name string) int64            // when files came
}

// anew begins the one transaction, and empties the star in it. What is known of files, keys and erased members stays.
func (r *run) anew(ctx context.Context) error {
	if r.dry == nil {
		r.dry = &dryWarehouse{Warehouse: r.wh}
		r.wh = r.dry
	}
	r.remake = &remake{
		former: map[*star.Dimension]*roster.Former{}, stood: map[string]map[string]int64{}, read: map[string][]string{},
	}
	return r.transact(ctx, func(tx warehouse.Tx) error {
		if err := r.noteStood(ctx, tx); err != nil {
			return err
		}
		return r.empty(ctx, tx)
	})
}

// noteStood notes the keys of members, and from which files rows came.
func (r *run) noteStood(ctx context.Context, tx warehouse.Tx) error {
	names, err := ledger.FileNames(ctx, tx)
	if err != nil {
		return err
	}
	came := ledger.Arrivals(names)
	r.remake.came = func(name string) int64 {
		if n, ok := came[ledger.Uncompressed(name)]; ok {
			return n
		}
		return math.MaxInt64
	}
	for _, d := range r.star.Dimensions {
		switch {
		case d.LookedUp != nil:
			continue
		case d.Adopts != nil:
			return fmt.Errorf("dimension %s is a table that stood before, so it cannot be made anew from its source", d.Text)
		}
		if r.remake.former[d.Dimension], err = roster.ReadFormer(ctx, tx, d); err != nil {
			return err
		}
	}
	for _, f := range r.star.Facts {
		if there, err := tx.Describe(ctx, f.Table.Name); err != nil {
			return err
		} else if !there.Has(schema.LoadLine) {
			continue
		}
		came := map[string]int64{}
		q := warehouse.Query{
			Table: f.Table.Name, Fields: []column.Field{{Name: schema.LoadLine, Type: column.Type{Kind: column.Integer}}},
		}
		err := warehouse.Each(ctx, tx, q, func(b *column.Batch) error {
			for _, at := range b.Cols[0].Int[:b.N] {
				number, _ := ledger.FileAndLine(at)
				came[names[number]]++
			}
			return nil
		})
		if err != nil {
			return err
		}
		r.remake.stood["fact "+f.Text] = came
	}
	return nil
}

// inArrival has the files of a step's source read in the order in which they came. But where the order of their paths
// decides in every load, it does here: in a dimension without effective times, and where rows of several files become
// one.
func (w *work) inArrival() {
	s, d := w.kind.source(), w.step.dimension
	if w.remake == nil || s == nil || s.Merges() || d != nil && !d.Timed() {
		return
	}
	if bases, _, ok := s.Bases(); ok {
		w.chosen = w.chosen.InArrival(w.remake.came, bases)
	}
}

// empty removes the rows of the star. A table that the model has otherwise is removed.
func (r *run) empty(ctx context.Context, tx warehouse.Tx) error {
	var steps, dimensions, facts, tables []string
	for _, f := range r.star.Facts {
		steps, facts = append(steps, "fact "+f.Text), append(facts, f.Text)
		for _, t := range f.Tables() {
			tables = append(tables, t.Name)
			if err := r.emptyTable(ctx, tx, t, nil); err != nil {
				return err
			}
		}
	}
	for _, d := range r.star.Dimensions {
		if d.LookedUp != nil {
			continue
		}
		steps, dimensions = append(steps, "dimension "+d.Text), append(dimensions, d.Text)
		for _, t := range d.Tables() {
			if t == d.Alias { // keys of members that are part of others: other models may have them
				continue
			}
			tables = append(tables, t.Name)
			if err := r.emptyTable(ctx, tx, t, d.Views); err != nil {
				return err
			}
		}
	}
	return ledger.Anew(ctx, tx, steps, dimensions, facts, tables)
}

func (r *run) emptyTable(ctx context.Context, tx warehouse.Tx, t *warehouse.Table, views []*warehouse.View) error {
	there, err := tx.Describe(ctx, t.Name)
	if err != nil || there == nil {
		return err
	}
	to, err := reshape(ctx, tx, t, nothing)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(to.list, func(a Alteration) bool { return a.Refused }) && (!r.wh.Capabilities().Partitions || inParts(t, there)) {
		return tx.Clear(ctx, t.Name)
	}
	for _, v := range views {
		if err := tx.DropView(ctx, v.Name); err != nil {
			return err
		}
	}
	return tx.Drop(ctx, t.Name)
}

// inParts reports whether a table that stands is divided as it is to be, or need not be.
func inParts(t *warehouse.Table, there warehouse.Description) bool {
	return t.Partition == nil || slices.ContainsFunc(there, func(c warehouse.Standing) bool { return c.Divides && c.Name == t.Partition.Column })
}

// swap ends the one transaction: the new star takes the place of the old one, or everything stays as it was.
func (r *run) swap(ctx context.Context, wh warehouse.Warehouse, failed bool) error {
	one := r.dry
	var err error
	if !failed {
		err = r.lost(ctx)
	}
	if r.opts.Dry {
		return err
	}
	if !failed && err == nil {
		err = one.tx.Commit()
	}
	r.dry, r.wh = nil, wh
	if !failed && err == nil {
		one.tx = nil
		return nil
	}
	one.end()
	one.tx = nil
	for _, s := range r.entry.Steps {
		if s.State == ledger.Done {
			s.State, s.Message = ledger.NotRun, "the star is not made anew: everything is as it was"
		}
		if werr := r.transact(context.WithoutCancel(ctx), func(tx warehouse.Tx) error {
			return ledger.WriteStep(ctx, tx, s)
		}); werr != nil {
			return errors.Join(err, werr)
		}
	}
	return err
}

// lost refuses a star without the rows of files that are not read any more, unless that is meant.
func (r *run) lost(ctx context.Context) error {
	if r.opts.Without {
		return nil
	}
	var list []string
	err := r.transact(ctx, func(tx warehouse.Tx) error {
		names, err := ledger.FileNames(ctx, tx)
		if err != nil {
			return err
		}
		came := ledger.Arrivals(names)
		for _, step := range slices.Sorted(maps.Keys(r.remake.stood)) {
			read := map[int64]bool{}
			for _, name := range r.remake.read[step] {
				read[came[ledger.Uncompressed(name)]] = true
			}
			stood := r.remake.stood[step]
			for _, name := range slices.Sorted(maps.Keys(stood)) {
				if read[came[ledger.Uncompressed(name)]] {
					continue
				}
				what := fmt.Sprintf("%s of %s", name, step)
				if n := stood[name]; n > 0 {
					what += fmt.Sprintf(" (%d rows)", n)
				}
				list = append(list, what)
			}
		}
		for _, d := range r.star.Dimensions {
			if r.remake.former[d.Dimension] == nil || d.Source == nil {
				continue
			}
			now, err := roster.ReadFormer(ctx, tx, d)
			if err != nil {
				return err
			}
			if n := r.remake.former[d.Dimension].Lost(now); n > 0 {
				list = append(list, fmt.Sprintf("%d versions of members of dimension %s", n, d.Text))
			}
		}
		return nil
	})
	if err != nil || len(list) == 0 {
		return err
	}
	more := ""
	if n := len(list); n > 5 {
		list, more = list[:5], fmt.Sprintf(" and %d more", n-5)
	}
	return fmt.Errorf(
		"not made anew: rows came from what is not read any more: %s%s. Bring them back, or do without: --without-them",
		strings.Join(list, ", "), more,
	)
}
