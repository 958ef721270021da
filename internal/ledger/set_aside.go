package ledger

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"hash/fnv"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/digest"
	"ironmonger/internal/warehouse"
)

// States of a row set aside.
const (
	Waiting = "waiting" // it stands outside the star
	Cleared = "cleared" // its file was read again and the row passed or is gone, or another row of its grain was loaded
	OfFail  = "of a failed step"
)

// Cause is why a row was set aside: a rule, the column or key that it speaks of, and what the row has there.
type Cause struct {
	Reason string `json:"reason"`
	Of     string `json:"of,omitempty"`
	Value  string `json:"value,omitempty"`
}

// Aside is an entry of load_aside with its entries of load_aside_reason.
type Aside struct {
	ID                 int64 // of the entry, once there is one
	Step, Source, File string
	Line               int64
	Content            string // as [Content] has it
	Whole              bool   // that is the row, to the last character
	Causes             []Cause
	Member             string // the natural key that the row of a dimension says, as JSON; "" if it can't be told
	Grain              string // a digest of the grain that the row of a fact says, as [Grain] has it; likewise
	Repeats            bool   // it is set aside because a row of its grain stands in the table
	Hash               string // of Content when it was set aside
}

// Reasons are the causes as one text.
func (a *Aside) Reasons() string {
	var texts []string
	for _, c := range a.Causes {
		if c.Value != "" {
			c.Reason += ": " + c.Value
		}
		texts = append(texts, c.Reason)
	}
	return strings.Join(texts, "; ")
}

// maxContent is how much of a row is kept, in characters; what is longer is in its file.
const maxContent = 4 << 10

// Content is what is kept of a row as it stands in its file.
func Content(raw string) string { return diag.Clip(diag.Storable(raw), maxContent) }

// ContentHash stands for the content of a row.
func ContentHash(content string) string {
	sum := sha256.Sum256([]byte(content))
	return hex.EncodeToString(sum[:8])
}

// Grain is a digest of what row i says in the columns of its grain.
func Grain(cols []*column.Column, i int) string {
	h := fnv.New64a()
	var buf [64]byte
	for _, c := range cols {
		h.Write(digest.AppendKey(buf[:0], c, i))
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Asides is the book of the rows that a step sets aside (rule R18). A row that is met again keeps its entry: it is
// known by its content, and by how often that occurs, wherever it stands now.
type Asides struct {
	ctx     context.Context
	tx      warehouse.Tx
	step    string
	run     int64
	last    *int64 // the number of the last entry of the step
	waiting []*waiting
	exact   map[asideAt][]*waiting // those not met yet, by hash and place
	unmet   map[string]int         // how many of known are not met yet
	grains  map[string][]*waiting  // by their grain
	later   []*Aside               // rows that may be known from another place
	fresh   *column.Batch
	causes  *column.Batch
	old     *column.Batch // entries whose causes are others now
	again   *column.Batch
	fields  []column.Field // of again
}

// asideAt is the content of a row and where it stands.
type asideAt struct {
	hash, file string
	line       int64
}

// waiting is an entry that waits from earlier loads.
type waiting struct {
	id         int64
	hash       string
	file       string
	line       int64
	reasons    uint64
	repeats    bool
	whole      bool
	met        bool
	superseded bool
	before     bool // it was superseded in an earlier load
	tried      bool // it is read from what was kept of it
}

const (
	asideBatch = 1000
	keepRuns   = 100 // so many runs later entries that were cleared are forgotten
)

// OpenAsides reads which rows of a step wait, and forgets those that nobody needs any more: of the step's last
// failure, and those that were cleared long ago. last is the number of the last entry that was made for the step, see
// [AsideNumbers].
func OpenAsides(ctx context.Context, tx warehouse.Tx, step string, run int64, last *int64) (*Asides, error) {
	a := &Asides{
		ctx:    ctx,
		tx:     tx,
		step:   step,
		run:    run,
		last:   last,
		exact:  map[asideAt][]*waiting{},
		unmet:  map[string]int{},
		grains: map[string][]*waiting{},
		fresh: column.NewBatch(
			asideTable.Fields(),
		),
		causes: column.NewBatch(causeTable.Fields()),
		old:    column.NewBatch(pick(causeTable, "id")),
	}
	a.fields = pick(asideTable, "id", "file", "line", "reasons", "last_run")
	a.again = column.NewBatch(a.fields)
	if err := a.forget(); err != nil {
		return nil, err
	}
	b, err := a.entries(
		[]string{"state"},
		pick(asideTable, "id", "file", "line", "content_hash", "reasons", "grain", "repeats", "superseded_by", "whole"),
		func(by []*column.Column) {
			by[1].AppendText(Waiting)
		},
	)
	if err != nil {
		return nil, err
	}
	for i := range b.N {
		w := &waiting{
			id:         b.Cols[0].Int[i],
			hash:       b.Cols[3].Text[i],
			file:       b.Cols[1].Text[i],
			line:       b.Cols[2].Int[i],
			reasons:    fingerprint(b.Cols[4].Text[i]),
			repeats:    b.Cols[6].Int[i] != 0,
			superseded: !b.Cols[7].Null[i],
			whole:      b.Cols[8].Int[i] != 0,
		}
		w.before = w.superseded
		a.waiting = append(a.waiting, w)
		at := asideAt{w.hash, w.file, w.line}
		a.exact[at] = append(a.exact[at], w)
		a.unmet[w.hash]++
		if !b.Cols[5].Null[i] && !w.superseded {
			a.grains[b.Cols[5].Text[i]] = append(a.grains[b.Cols[5].Text[i]], w)
		}
	}
	return a, nil
}

// asidesOfStep is how many entries there is room for in a run for each of its steps.
const asidesOfStep = 1_000_000_000

// AsideNumbers returns the numbers after which the entries of the steps of a run are numbered, so that these do not
// depend on which steps run at the same time.
func AsideNumbers(ctx context.Context, r warehouse.Reader, steps int) ([]int64, error) {
	q := warehouse.Query{
		Table: asideTable.Name, Fields: pick(asideTable, "id"), OrderBy: []string{"id"}, Descending: true, Limit: 1,
	}
	highest, err := warehouse.ReadAll(ctx, r, q)
	if err != nil {
		return nil, err
	}
	begin := int64(0)
	if highest.N > 0 {
		begin = (highest.Cols[0].Int[0]/asidesOfStep + 1) * asidesOfStep
	}
	numbers := make([]int64, steps)
	for i := range numbers {
		numbers[i] = begin + int64(i)*asidesOfStep
	}
	return numbers, nil
}

func fingerprint(s string) uint64 {
	h := fnv.New64a()
	h.Write([]byte(s))
	return h.Sum64()
}

// entries reads entries of the step that equal what fill adds in more columns.
func (a *Asides) entries(
	more []string,
	fields []column.Field,
	fill func(by []*column.Column),
) (*column.Batch, error) {
	names := append([]string{"step"}, more...)
	var by []*column.Column
	for _, f := range pick(asideTable, names...) {
		by = append(by, &column.Column{Type: f.Type})
	}
	fill(by)
	for range by[1].Null {
		by[0].AppendText(a.step)
	}
	return warehouse.ReadAll(
		a.ctx,
		a.tx,
		warehouse.Query{Table: asideTable.Name, Fields: fields, By: names, Match: by, OrderBy: []string{"id"}},
	)
}

// forget removes entries that nobody needs any more.
func (a *Asides) forget() error {
	name := column.Column{Type: text}
	name.AppendText(a.step)
	before, err := warehouse.ReadAll(
		a.ctx,
		a.tx,
		warehouse.Query{
			Table:      stepTable.Name,
			Fields:     pick(stepTable, "run"),
			By:         []string{"step"},
			Match:      []*column.Column{&name},
			OrderBy:    []string{"run"},
			Descending: true,
			Limit:      1,
		},
	)
	if err != nil {
		return err
	}
	failed, err := a.entries(
		[]string{"state"},
		pick(asideTable, "id"),
		func(by []*column.Column) { by[1].AppendText(OfFail) },
	)
	if err != nil {
		return err
	}
	gone := column.NewBatch(pick(asideTable, "id"))
	for _, id := range failed.Cols[0].Int {
		row(gone, id)
	}
	if before.N > 0 {
		old, err := a.entries([]string{"state", "cleared_by"}, pick(asideTable, "id"), func(by []*column.Column) {
			for run := max(1, before.Cols[0].Int[0]-keepRuns); run <= a.run-keepRuns; run++ {
				by[1].AppendText(Cleared)
				by[2].AppendInt(run)
			}
		})
		if err != nil {
			return err
		}
		for _, id := range old.Cols[0].Int {
			row(gone, id)
		}
	}
	if gone.N == 0 {
		return nil
	}
	for _, t := range []*warehouse.Table{causeTable, asideTable} {
		if _, err := a.tx.Remove(a.ctx, t.Name, pick(t, "id"), gone); err != nil {
			return err
		}
	}
	return nil
}

// Put writes a row that the step has set aside.
func (a *Asides) Put(x *Aside) error {
	x.Hash = ContentHash(x.Content)
	at := asideAt{x.Hash, x.File, x.Line}
	if here := a.exact[at]; len(here) > 0 {
		a.exact[at] = here[1:]
		return a.meet(here[0], x)
	}
	if a.unmet[x.Hash] > 0 {
		later := *x
		a.later = append(a.later, &later)
		return nil
	}
	return a.add(x, Waiting)
}

// Fail writes a row that a step had set aside before it failed.
func (a *Asides) Fail(x *Aside) error {
	x.Hash = ContentHash(x.Content)
	return a.add(x, OfFail)
}

// Waits reports whether rows wait that another row of their grain makes superfluous, so that [Asides.Loaded] is to
// be told.
func (a *Asides) Waits() bool { return len(a.grains) > 0 }

// WaitsOf reports whether there are such rows of a file.
func (a *Asides) WaitsOf(file string) bool {
	for _, list := range a.grains {
		for _, w := range list {
			if w.file == file {
				return true
			}
		}
	}
	return false
}

// Loaded takes notice of a row of a grain that stands in the table: inserted by this step, or the same as before. What
// repeats a grain differs from the row that stood there, so that only another one counts. outdoes says of a row that
// waits whether it is superfluous then; it has its place.
func (a *Asides) Loaded(grain string, inserted bool, outdoes func(*Aside) bool) {
	for _, w := range a.grains[grain] {
		if (inserted || !w.repeats) && outdoes(&Aside{File: w.file, Line: w.line, Whole: w.whole}) {
			w.superseded = true
		}
	}
}

func (a *Asides) add(x *Aside, state string) error {
	*a.last++
	row(
		a.fresh,
		*a.last,
		a.step,
		x.Source,
		x.File,
		x.Line,
		x.Hash,
		x.Reasons(),
		x.Content,
		orNull(x.Member),
		orNull(x.Grain),
		number(x.Repeats),
		a.run,
		a.run,
		nil,
		nil,
		state,
		number(x.Whole),
	)
	a.because(*a.last, x)
	return a.filled()
}

func orNull(s string) any {
	if s == "" {
		return nil
	}
	return s
}

func (a *Asides) because(id int64, x *Aside) {
	for n, c := range x.Causes {
		row(a.causes, id, int64(n+1), c.Reason, orNull(c.Of), orNull(c.Value))
	}
}

// meet notes that a row that waits was met again, perhaps elsewhere and for other reasons.
func (a *Asides) meet(w *waiting, x *Aside) error {
	w.met, w.file, w.line = true, x.File, x.Line
	a.unmet[w.hash]--
	reasons := x.Reasons()
	row(a.again, w.id, x.File, x.Line, reasons, a.run)
	if fingerprint(reasons) != w.reasons {
		row(a.old, w.id)
		a.because(w.id, x)
	}
	return a.filled()
}

func (a *Asides) filled() error {
	if a.fresh.N+a.again.N < asideBatch {
		return nil
	}
	return a.flush()
}

func (a *Asides) flush() error {
	if a.old.N > 0 {
		if _, err := a.tx.Remove(a.ctx, causeTable.Name, pick(causeTable, "id"), a.old); err != nil {
			return err
		}
	}
	if err := warehouse.AppendAll(a.ctx, a.tx, asideTable, a.fresh); err != nil {
		return err
	}
	if err := warehouse.AppendAll(a.ctx, a.tx, causeTable, a.causes); err != nil {
		return err
	}
	if a.again.N > 0 {
		if _, err := a.tx.Amend(a.ctx, asideTable.Name, 1, a.fields, a.again); err != nil {
			return err
		}
	}
	for _, b := range []*column.Batch{a.old, a.fresh, a.causes, a.again} {
		b.Reset(0)
	}
	return nil
}

// Close writes what is left. Of the rows that wait and were not met again, it clears those whose file was read, and
// those of whose grain another row was loaded, and those that were tried; the others wait on: nobody knows what became
// of them. So do those of files that were passed over, and of tables and queries that were read in part: a row like
// that in another file is one more.
func (a *Asides) Close(files []string, unread map[string]bool) error {
	read := map[string]bool{}
	for _, name := range files {
		read[name] = true
	}
	if err := a.write(read, unread); err != nil {
		return err
	}
	return a.settle(read, unread)
}

// Write writes what is left, and clears nothing: the step did not read its source to the end.
func (a *Asides) Write() error { return a.write(nil, nil) }

func (a *Asides) write(read, unread map[string]bool) error {
	for _, likeness := range []struct {
		of func(w *waiting) (at asideAt, ok bool) // what an entry has to have in common with a row
		by func(x *Aside) asideAt
	}{
		{func(w *waiting) (asideAt, bool) { return asideAt{w.hash, w.file, 0}, true }, func(x *Aside) asideAt { return asideAt{x.Hash, x.File, 0} }},
		{func(w *waiting) (asideAt, bool) { return asideAt{hash: w.hash}, !read[w.file] && !unread[w.file] }, func(x *Aside) asideAt { return asideAt{hash: x.Hash} }},
		{func(w *waiting) (asideAt, bool) { return asideAt{hash: w.hash}, !unread[w.file] }, func(x *Aside) asideAt { return asideAt{hash: x.Hash} }},
	} {
		if len(a.later) == 0 {
			break
		}
		queue := map[asideAt][]*waiting{}
		for _, w := range a.waiting {
			if at, ok := likeness.of(w); ok && !w.met {
				queue[at] = append(queue[at], w)
			}
		}
		var left []*Aside
		for _, x := range a.later {
			at := likeness.by(x)
			if len(queue[at]) == 0 {
				left = append(left, x)
				continue
			}
			w := queue[at][0]
			queue[at] = queue[at][1:]
			if err := a.meet(w, x); err != nil {
				return err
			}
		}
		a.later = left
	}
	for _, x := range a.later {
		if err := a.add(x, Waiting); err != nil {
			return err
		}
	}
	return a.flush()
}

// settle writes down what became of the rows that have waited.
func (a *Asides) settle(read, unread map[string]bool) error {
	fields, by := pick(asideTable, "id", "cleared_by", "state"), pick(asideTable, "id", "superseded_by")
	cleared, superseded := column.NewBatch(fields), column.NewBatch(by)
	for _, w := range a.waiting {
		switch {
		case w.met && w.superseded && !w.before: // whichever of the two rows was met first
			row(superseded, w.id, a.run)
		case !w.met && (w.tried || !unread[w.file] && (w.superseded || read[w.file])):
			row(cleared, w.id, a.run, Cleared)
		}
	}
	if superseded.N > 0 {
		if _, err := a.tx.Amend(a.ctx, asideTable.Name, 1, by, superseded); err != nil {
			return err
		}
	}
	if cleared.N == 0 {
		return nil
	}
	_, err := a.tx.Amend(a.ctx, asideTable.Name, 1, fields, cleared)
	return err
}

// EachAside calls f for every row of a state, or of all if that is empty, with the run in which it was first met.
func EachAside(ctx context.Context, r warehouse.Reader, state string, f func(a *Aside, firstRun int64) error) error {
	columns, err := r.Describe(ctx, asideTable.Name)
	if err != nil || columns == nil {
		return err
	}
	causes, err := causesOf(ctx, r)
	if err != nil {
		return err
	}
	fields := pick(
		asideTable,
		"id",
		"step",
		"source",
		"file",
		"line",
		"content",
		"content_hash",
		"member",
		"grain",
		"first_run",
	)
	kept := columns.Has("whole")
	if kept { // which older ledgers lack
		fields = append(fields, pick(asideTable, "whole")...)
	}
	q := warehouse.Query{Table: asideTable.Name, Fields: fields, OrderBy: []string{"id"}}
	if state != "" {
		match := column.Column{Type: text}
		match.AppendText(state)
		q.By, q.Match = []string{"state"}, []*column.Column{&match}
	}
	return warehouse.Each(ctx, r, q, func(b *column.Batch) error {
		for i := range b.N {
			c := b.Cols
			err := f(
				&Aside{
					ID:      c[0].Int[i],
					Step:    c[1].Text[i],
					Source:  c[2].Text[i],
					File:    c[3].Text[i],
					Line:    c[4].Int[i],
					Content: c[5].Text[i],
					Hash:    c[6].Text[i],
					Member:  c[7].Text[i],
					Grain:   c[8].Text[i],
					Whole:   kept && !c[10].Null[i] && c[10].Int[i] != 0,
					Causes:  causes[c[0].Int[i]],
				},
				c[9].Int[i],
			)
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// causesOf returns the causes of all rows set aside, by their ids.
func causesOf(ctx context.Context, r warehouse.Reader) (map[int64][]Cause, error) {
	causes := map[int64][]Cause{}
	share := map[Cause]Cause{} // most are alike
	err := warehouse.Each(
		ctx,
		r,
		warehouse.Query{Table: causeTable.Name, Fields: causeTable.Fields(), OrderBy: causeTable.Primary},
		func(b *column.Batch) error {
			for i := range b.N {
				c := Cause{Reason: b.Cols[2].Text[i], Of: b.Cols[3].Text[i], Value: b.Cols[4].Text[i]}
				one, ok := share[c]
				if !ok {
					one, share[c] = c, c
				}
				causes[b.Cols[0].Int[i]] = append(causes[b.Cols[0].Int[i]], one)
			}
			return nil
		},
	)
	return causes, err
}

// MemberText is the natural key of a member as entries have it: its values as text, as JSON.
func MemberText(values []string) string {
	text, _ := json.Marshal(values) // strings always can
	return string(text)
}
