package load

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"path"
	"slices"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/resolve"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
)

// settles is how old the last change of a file must be: a file that is changed once more within it may look the same.
const settles = 2 * time.Second

// reading is which files of its source a step reads, and which not, since the ledger knows what became of their rows.
//
// The rows of a file become the same again if the file is as it was, and so are the model, the parameters and the files
// that complete its rows. Only a row that was set aside for what a dimension or the table had may become something
// else by itself; its file is read again.
type reading struct {
	known   []ledger.ReadFile
	states  []source.State
	skip    map[source.FileOf]bool
	depends string          // a digest of what else decides
	recent  bool            // some of it was changed just now
	whole   bool            // a file that came before has to be read with all others
	right   bool            // the table has the rows of the ledger's account
	again   map[string]bool // names of files that are to be read next time, too
	merges  bool            // rows of several files may become one, so all files are read or none
	started time.Time
}

// errAll says that the step has to read all files after all.
var errAll = errors.New("all files have to be read")

// counting says when the order of all rows of all files decides, so that some cannot be left out.
type counting int

const (
	anyOrder  counting = iota // what stands is the same, whatever the order
	inArrival                 // files count in the order in which they came: all are read if one of them has to be again
	inReading                 // files count in the order in which they are read: what is read comes behind what is not
)

// findReading decides which files the step reads; nil where the source is such that nothing of it can be left out.
// others are sources whose files decide, too.
func (w *work) findReading(
	ctx context.Context,
	in counting,
	all *star.Deliveries,
	others ...*star.Source,
) (*reading, error) {
	bases, completing, ok := w.kind.source().Bases()
	for _, s := range others {
		more, filed := s.Readers()
		completing, ok = append(completing, more...), ok && filed
	}
	if !ok || w.seesForeign() {
		return nil, nil
	}
	r := &reading{
		skip: map[source.FileOf]bool{}, again: map[string]bool{}, merges: w.kind.source().Merges(), started: time.Now(),
	}
	for _, s := range bases {
		states, err := w.inputs.States(s)
		if err != nil {
			return nil, err
		}
		r.states = append(r.states, states...)
	}
	err := w.dependsOn(ctx, r, bases, completing)
	if err != nil {
		return nil, err
	}
	anew := w.opts.Again || w.all || w.made || slices.Contains(w.opts.Accept, noun(w.name))
	if r.known, err = ledger.ReadFiles(ctx, w.tx, w.name); err == nil {
		err = w.mayHold(bases, all, r)
	}
	if err != nil || anew {
		return r, err
	}
	found, err := w.tx.Tally(ctx, w.kind.target().Name, nil)
	if err != nil || found.Rows != w.book.Rows { // something else has changed the table
		return r, err
	}
	r.right = true
	var arrived map[string]int64
	if in == inArrival {
		names, err := ledger.FileNames(ctx, w.tx)
		if err != nil {
			return nil, err
		}
		arrived = ledger.Arrivals(names)
	}
	r.whole = all != nil && all.Files
	r.choose(arrived, w.tried, w.aside.book.WaitsOf)
	if whole := r.merges || all != nil && !all.Files; whole && !r.all() || r.lacks(all) || in == inReading && !r.behind() {
		clear(r.skip) // a delivery is read whole, and so are files of which rows become one
	}
	return r, nil
}

// seesForeign reports whether something else than this program changes a dimension that decides what rows become.
func (w *work) seesForeign() bool {
	lookedUp := func(k *star.Key) bool { return k.Dimension.LookedUp != nil }
	foreign := func(x *star.Standing) bool {
		return x.Dimension != nil && x.Dimension.LookedUp != nil || x.Fact != nil && slices.ContainsFunc(x.Fact.Keys, lookedUp)
	}
	return slices.ContainsFunc(w.step.keys, lookedUp) || slices.ContainsFunc(w.kind.source().Stands(), foreign)
}

// mayHold refuses to leave files for a later load where the others say something else without them.
func (w *work) mayHold(bases []*star.Source, all *star.Deliveries, r *reading) error {
	for _, f := range w.inputs.Held(bases) {
		wasRead := slices.ContainsFunc(r.known, func(k ledger.ReadFile) bool { return k.Source == f.Source && k.File == f.Name })
		why := ""
		switch {
		case all != nil && !all.Files:
			why = "a delivery of all needs all of its files"
		case r.merges && wasRead:
			why = "its rows are merged with those of other files, and have been read before"
		default:
			continue
		}
		return fmt.Errorf("%s cannot be left for a later load: %s", f.Name, why)
	}
	return nil
}

// readNew decides which files the step reads, and returns where they are read; nil if none has to be.
func (w *work) readNew(ctx context.Context, r *reading, err error) (*source.Inputs, error) {
	if w.reading = r; err != nil {
		return nil, err
	}
	if r == nil || len(r.skip) == 0 {
		in, err := w.newer(ctx)
		return w.tryAgain(in), err
	}
	w.figures.Unread = int64(len(r.skip))
	if r.all() && len(w.tried.left) == 0 {
		bases, _, _ := w.kind.source().Bases()
		for _, s := range bases {
			w.figures.Notes = append(w.figures.Notes, w.inputs.HeldNotes(s)...)
		}
		return nil, r.keep(ctx, w)
	}
	return w.tryAgain(w.inputs.Without(r.skip)), nil
}

// behind reports whether the files that are read come behind all others.
func (r *reading) behind() bool {
	read := false
	for _, f := range r.states {
		if skip := r.skip[f.FileOf]; skip && read {
			return false
		} else if !skip {
			read = true
		}
	}
	return true
}

// dependsOn notes what decides, besides a file, what becomes of its rows.
func (w *work) dependsOn(ctx context.Context, r *reading, bases, others []*star.Source) error {
	h := sha256.New()
	part := func(texts ...string) {
		for _, s := range texts {
			fmt.Fprintf(h, "%d:", len(s))
			io.WriteString(h, s)
		}
	}
	part(w.opts.Program, w.model.Text)
	for _, name := range slices.Sorted(maps.Keys(w.entry.Parameters)) {
		part(name, w.entry.Parameters[name])
	}
	if err := w.standsAs(ctx, part); err != nil {
		return err
	}
	for _, s := range append(slices.Clone(bases), others...) {
		states, err := w.inputs.Corrections(s)
		if err == nil && slices.Contains(others, s) {
			var more []source.State
			more, err = w.inputs.States(s)
			states = append(states, more...)
		}
		if err != nil {
			return err
		}
		for _, f := range states {
			part(f.Source, f.Name, fmt.Sprint(f.Size), f.Changed)
			r.recent = r.recent || r.started.Sub(f.Modified) < settles
		}
	}
	r.depends = hex.EncodeToString(h.Sum(nil)[:16])
	return nil
}

// standsAs notes which run changed what last that the source has of the star: dimensions and facts, and the dimensions
// that these facts point to.
func (w *work) standsAs(ctx context.Context, part func(texts ...string)) error {
	var tables []string
	var dimensions []*star.Dimension
	for _, x := range w.kind.source().Stands() {
		switch {
		case x.Dimension != nil:
			dimensions = append(dimensions, x.Dimension)
			continue
		case w.derived != nil && x.Fact == w.derived.base:
			for _, k := range x.Fact.Keys {
				if k.Dimension.Aliases != nil || slices.ContainsFunc(k.Dimension.NaturalKey, func(f column.Field) bool { return k.Dimension.IsPersonal(f.Name) }) {
					dimensions = append(dimensions, k.Dimension) // natural keys of others stay as they are
				}
			}
			continue
		}
		for _, f := range w.star.Facts {
			if f.Fact == x.Fact {
				tables = append(tables, f.Table.Name)
			}
		}
		for _, k := range x.Fact.Keys {
			if x.Takes(k) {
				dimensions = append(dimensions, k.Dimension)
			}
		}
	}
	if len(tables) > 0 {
		runs, err := ledger.ChangedBy(ctx, w.tx, tables)
		if err != nil {
			return err
		}
		part(fmt.Sprint(runs))
	}
	for _, d := range dimensions {
		_, by, err := ledger.Highest(ctx, w.tx, d.Text)
		if err != nil {
			return err
		}
		part(d.Text, by)
	}
	return nil
}

// choose finds the files that are as they were. arrived says when the files came that came before, where rows replace
// others: there the order of all rows decides, once rows come from one of these files again, unless all files that are
// not read came before it. waits reports whether rows of a file that is gone wait for another row of their grain.
func (r *reading) choose(arrived map[string]int64, tried tried, waits func(file string) bool) {
	known := map[source.FileOf]ledger.ReadFile{}
	for _, k := range r.known {
		known[source.FileOf{Source: k.Source, Name: k.File}] = k
	}
	skip := map[source.FileOf]bool{}
	left, again := int64(
		-1,
	), int64(
		math.MaxInt64,
	) // the last to come of those that are not read, the first of those read again
	for _, f := range r.states {
		k, ok := known[f.FileOf]
		delete(known, f.FileOf)
		came, before := arrived[ledger.Uncompressed(f.Name)]
		if ok && k.Size == f.Size && k.Changed == f.Changed && k.DependsOn == r.depends && !(k.Again && !tried.vain[f.FileOf]) {
			skip[f.FileOf] = true
			left = max(left, came)
		} else if before {
			again = min(again, came)
		}
	}
	for _, x := range tried.left {
		if came, before := arrived[ledger.Uncompressed(x.Name)]; before {
			again = min(again, came)
		}
	}
	if again < left || again < math.MaxInt64 && r.whole {
		return
	}
	for _, k := range known {
		if waits(k.File) {
			return
		}
	}
	r.skip = skip
}

// lacks reports whether files that were read are not there any more, where all files together are a delivery, or their
// rows become one.
func (r *reading) lacks(all *star.Deliveries) bool {
	if !r.merges && (all == nil || all.Files || all.On != nil) {
		return false
	}
	return slices.ContainsFunc(r.known, func(k ledger.ReadFile) bool {
		return !slices.ContainsFunc(r.states, func(f source.State) bool {
			return f.Source == k.Source && ledger.Uncompressed(f.Name) == ledger.Uncompressed(k.File)
		})
	})
}

// all reports whether nothing is left to read.
func (r *reading) all() bool { return r != nil && len(r.skip) > 0 && len(r.skip) == len(r.states) }

// rows is about how many rows there are to read; rather too many. have is how many the table has.
func (r *reading) rows(have int64) int64 {
	news, before := int64(0), int64(0) // bytes of the files that are read, and of those that were
	for _, f := range r.states {
		if !r.skip[f.FileOf] {
			news += plain(f.Name, f.Size)
		}
	}
	for _, k := range r.known {
		before += plain(k.File, k.Size)
	}
	size := int64(leastRow)
	if have > 0 {
		size = max(size, before/have/2) // files may have come and gone that had the other rows
	}
	return news / size
}

// plain is about how many bytes a file has once it is no longer compressed.
func plain(name string, size int64) int64 {
	switch path.Ext(name) {
	case ".gz", ".zst", ".parquet":
		return packed * size
	}
	return size
}

const (
	packed  = 8  // how many times as large a compressed file may be
	scanned = 20 // so many rows of a table are read in the time in which one is looked up
)

// isSmall reports whether so few rows are to be read beside those of the table that they are better looked up there.
func (w *factStep) isSmall() bool {
	r, all := w.reading, w.fact.Deliveries
	if r == nil || !r.right || all != nil && !all.Files { // what is gone is found by reading the table
		return false
	}
	return w.opts.Opening == ByKeys || r.rows(w.book.Rows)*scanned < w.book.Rows
}

// unsettled notes the file of a batch if rows of it may become something else by themselves: those that were set aside
// for other faults than the first ones, which are their own.
func (r *reading) unsettled(b *column.Batch, own int) {
	if r != nil && len(b.Faults) > own {
		r.again[b.From.File] = true
	}
}

// unmatched notes the file of a batch of a dimension if a key of one of its rows has no member, and may have one later.
func (r *reading) unmatched(b *column.Batch, keys *resolve.Resolved, links []*resolve.Link) {
	if r != nil && slices.ContainsFunc(keys.Strays, func(s resolve.Stray) bool {
		return links[s.Link].Unmatched.Special()
	}) {
		r.again[b.From.File] = true
	}
}

// keep writes down which files the step has read, and forgets those that are gone.
func (r *reading) keep(ctx context.Context, w *work) error {
	if r == nil {
		return nil
	}
	there := map[source.FileOf]bool{}
	var files, gone []ledger.ReadFile
	for _, f := range r.states {
		there[f.FileOf] = true
		known := ledger.ReadFile{
			Source:    f.Source,
			File:      f.Name,
			Size:      f.Size,
			Changed:   f.Changed,
			DependsOn: r.depends,
			Again:     r.again[f.Name] || r.merges && len(r.again) > 0,
		}
		switch recent := r.recent || r.started.Sub(f.Modified) < settles; {
		case r.skip[f.FileOf], slices.Contains(r.known, known) && !recent:
		case recent:
			gone = append(gone, known)
		default:
			files = append(files, known)
		}
	}
	differs := len(w.figures.Differs) > 0 // then the next load reads everything and tells it again
	for _, k := range r.known {
		if differs || !there[source.FileOf{Source: k.Source, Name: k.File}] {
			gone = append(gone, k)
		}
	}
	if differs {
		files = nil
	}
	return ledger.KeepReadFiles(ctx, w.tx, w.name, files, gone, w.entry.ID)
}
