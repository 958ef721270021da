// Package fact writes facts: it keeps one row for each grain, gives rows whose members are missing the
// members they need, adds up the measures, and appends.
//
// Workers prepare a [Chunk] each; one [Writer] takes them in source order. What it decides for a row
// does not depend on how the source was cut or on how many workers there were.
package fact

import (
	"context"
	"fmt"
	"hash/maphash"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/digest"
	"ironmonger/internal/exact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/resolve"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// RepeatReason is why a row is set aside whose grain is there with other values.
const RepeatReason = "grain repeated with other values"

// Chunk is a batch of rows on its way into a fact table. It belongs to one goroutine at a time.
type Chunk struct {
	Batch  *column.Batch // shaped
	Keys   resolve.Resolved
	Totals []exact.Int128 // of each exact measure, over all rows read

	Own    int     // how many faults its rows have by themselves, before keys and grains are looked up
	Loaded []int32 // the rows that were inserted or are to replace others, once it is taken

	view *view
	cols []*column.Column
	same []bool // rows that stand in the table already
	gap  []bool // rows that stand there with the same grain and other content, or so it seems
	lags []column.Column
	gone column.Column // that the rows are not gone
	rows []int32
	line column.Column // where each row came from, and the run
	runs column.Column
}

// Outcome is what became of a chunk's rows.
type Outcome struct {
	Inserted, Same         int64
	InsertedTotal, SameSum []exact.Int128
	Changed, Older, Kept   int64          // repeated rows that replaced others, came before others, were not taken
	Gone, Back, Removed    int64          // facts that a delivery does not have any more, has again, and that were removed
	ChangedTotal           []exact.Int128 // of the rows that replaced others
	TakenTotal             []exact.Int128 // and of those that were replaced
	OlderSum, KeptSum      []exact.Int128
	RemovedTotal           []exact.Int128
	Rewritten              int64            // facts that were written anew
	WrittenTotal           []exact.Int128   // and their measures
	Conflicts              int64            // facts of which two rows of one time tell different things
	Table                  warehouse.Tally  // at the end, of the exact measures
	Empty                  map[string]int64 // rows inserted without a value, by measure
}

// Files are the files of a step as the ledger numbers them.
type Files struct {
	Number map[string]int64 // by name
	First  map[int64]int64  // of a file that had another name before: the number that it got first
	Orders bool             // they are not read in the order in which they came
}

// Added is by how much the total of a measure has grown: what was written less what was replaced or removed.
func (o *Outcome) Added(k int) exact.Int128 {
	sum, _ := o.InsertedTotal[k].Add(o.WrittenTotal[k])
	sum, _ = sum.Add(o.TakenTotal[k].Neg())
	sum, _ = sum.Add(o.RemovedTotal[k].Neg())
	return sum
}

// Writer appends to one fact table. It belongs to the step's sequencer.
type Writer struct {
	fact        *schema.Fact
	links       []*resolve.Link
	run         int64
	files       *Files
	fields      []column.Field   // of the table, but for line and run
	from        []int            // for each: a column of the shaped batch, or -1-k for the key of link k, or its durable key
	compared    []bool           // for each: a row that comes again has to say the same
	durable     []bool           // for each: it is a durable key
	goneAt      int              // of fields: the mark of facts that are gone, or -1
	grainAt     []int            // of fields
	plain       bool             // the grain is one integer that stands as it is
	canon       []*roster.Roster // for each field, the roster of a versioned dimension, or nil
	grainInfers bool             // members that the grain names may have to be made
	rules       [][]star.Outcome // for each field: what may stand there for a natural key that isn't kept, by which rules

	Measures []column.Field // the exact ones
	measure  []int          // where they stand in the shaped batch

	seed     maphash.Seed
	rows     int64 // in the table when the step began
	before   warehouse.Tally
	grain    *grain
	appender warehouse.Appender
	replaced *replacements // nil unless repeated rows replace others
	lookedUp *lookedUp     // nil unless the rows of a load are looked up in the table
	open     *openKeys     // nil unless keys that no member has may be pointed to one later
	Outcome  Outcome

	completion *completion // nil unless rows complete others
	lags       []lag
	delivered  *delivered // nil unless deliveries have all rows
	withdrawn  *withdrawn // nil unless files do not have rows any more that came from them
	restored   int64      // rows that were put back into the table
}

// NewWriter prepares the loading of a fact whose shaped rows have the given fields and come from files of those
// numbers.
func NewWriter(
	f *schema.Fact,
	links []*resolve.Link,
	shaped []column.Field,
	run int64,
	files *Files,
) *Writer {
	w := &Writer{fact: f, links: links, run: run, files: files, seed: maphash.MakeSeed(), goneAt: none}
	all := f.Table.Fields()
	w.fields = all[:len(all)-2]
	for k, field := range w.fields {
		from := column.Find(shaped, field.Name)
		if field.Name == schema.IsGone {
			w.goneAt = k
		}
		lag := w.lagOf(field.Name)
		w.canon, w.rules, w.durable = append(w.canon, nil), append(w.rules, nil), append(w.durable, false)
		w.compared = append(w.compared, !lag)
		for n, l := range links {
			w.durable[k] = w.durable[k] || l.Both && l.DurableColumn() == field.Name
			if l.Column() == field.Name || l.Both && l.DurableColumn() == field.Name {
				from = -1 - n
				w.compared[k] = l.Again
				for _, rule := range []star.Outcome{l.Unmatched, l.Outside} {
					if rule.Special() && (rule == l.Unmatched || l.AsOf != "") {
						w.rules[k] = append(w.rules[k], rule)
					}
				}
				if l.Dimension.Versioned() && !w.durable[k] {
					w.canon[k] = l.Roster
				}
			}
		}
		w.from = append(w.from, from)
	}
	for _, name := range f.Table.Primary {
		w.grainAt = append(w.grainAt, column.Find(w.fields, name))
	}
	first := w.grainAt[0]
	w.plain = len(w.grainAt) == 1 && w.fields[first].Type.Kind == column.Integer && w.canon[first] == nil
	for _, g := range f.Grain {
		w.grainInfers = w.grainInfers || g.Key != nil && (g.Key.Unmatched == star.Infer || g.Key.Dimension.Junk)
	}
	for _, m := range f.Measures {
		if m.Type.Exact() {
			w.Measures = append(w.Measures, m)
			w.measure = append(w.measure, column.Find(shaped, m.Name))
		}
	}
	o := &w.Outcome
	o.Empty = map[string]int64{}
	for _, list := range []*[]exact.Int128{
		&o.InsertedTotal, &o.SameSum, &o.ChangedTotal, &o.TakenTotal, &o.OlderSum, &o.KeptSum, &o.RemovedTotal, &o.WrittenTotal,
	} {
		*list = make([]exact.Int128, len(w.Measures))
	}
	w.open = newOpenKeys(w)
	w.delivered = newDelivered(w, shaped)
	if f.Repeated == star.ReplaceRepeated || f.Completion != nil || f.Marked() { // what is there again replaces what was gone
		w.replaced = newReplacements(w)
		w.replaced.orders = files.Orders || w.delivered != nil
	}
	w.completion = newCompletion(w)
	return w
}

// lagOf reports whether a column of the table is a lag, which follows from others.
func (w *Writer) lagOf(name string) bool {
	if w.fact.Completion == nil {
		return false
	}
	fields := w.fact.Table.Fields()
	for _, l := range w.fact.Completion.Lags {
		if l.Text == name {
			w.lags = append(w.lags, lag{l, column.Find(fields, l.From), column.Find(fields, l.To)})
			return true
		}
	}
	return false
}

// sets reports whether row n of the replacements has a key that a row of the load says.
func (w *Writer) sets(n, link int) bool {
	return w.completion == nil || w.completion.facts[n].set[link]
}

// inGrain reports whether a link is part of the grain.
func (w *Writer) inGrain(l *resolve.Link) bool {
	return slices.ContainsFunc(w.fact.Grain, func(g star.GrainPart) bool { return g.Key == l.Key })
}

// Open reads what stands in the table.
func (w *Writer) Open(ctx context.Context, tx warehouse.Tx) (err error) {
	if w.open != nil {
		if err := w.open.look(ctx, tx); err != nil {
			return err
		}
	}
	if w.delivered != nil {
		if err := w.delivered.open(ctx, tx); err != nil {
			return err
		}
	}
	if w.lookedUp != nil {
		w.rows = w.before.Rows
		w.grain, err = openGrain(ctx, tx, w)
		return err
	}
	count, err := tx.Tally(ctx, w.fact.Table.Name, nil)
	if err != nil {
		return err
	}
	w.rows = count.Rows
	w.grain, err = openGrain(ctx, tx, w)
	return err
}

// columns arranges the columns of a chunk as those of the table.
func (w *Writer) columns(c *Chunk) {
	b := c.Batch
	if c.view == nil {
		c.view, c.cols = w.newView(), make([]*column.Column, len(w.fields)+2)
		c.line.Type, c.runs.Type = column.Type{Kind: column.Integer}, column.Type{Kind: column.Integer}
		c.Totals = make([]exact.Int128, len(w.Measures))
	}
	for k, from := range w.from {
		switch {
		case from >= 0:
			c.cols[k] = &b.Cols[from]
		case k == w.goneAt: // what is delivered is there
			c.gone.Type = w.fields[k].Type
			c.gone.Resize(b.N)
			c.cols[k] = &c.gone
		case slices.ContainsFunc(w.lags, func(l lag) bool { return l.Text == w.fields[k].Name }): // below
		case w.durable[k]:
			c.cols[k] = &c.Keys.Durable[-1-from]
		default:
			c.cols[k] = &c.Keys.Keys[-1-from]
		}
	}
	for len(c.lags) < len(w.lags) {
		c.lags = append(c.lags, column.Column{Type: w.lags[len(c.lags)].Field().Type})
	}
	for n, l := range w.lags {
		c.lags[n].Resize(b.N)
		for i := range b.N {
			l.fill(&c.lags[n], c.cols, i)
		}
		c.cols[column.Find(w.fields, l.Text)] = &c.lags[n]
	}
	if len(c.runs.Int) < b.N {
		c.runs.Resize(b.N)
		for i := range c.runs.Int {
			c.runs.Int[i] = w.run
		}
	}
	c.line.Resize(b.N)
	clear(c.line.Null)
	file := w.files.Number[b.From.File]
	for i, line := range b.From.Line {
		c.line.Int[i] = ledger.Line(file, line)
	}
	c.cols[len(w.fields)], c.cols[len(w.fields)+1] = &c.line, &c.runs
}

// Prepare does all that can be done for a shaped and resolved chunk out of order.
func (w *Writer) Prepare(c *Chunk) {
	b := c.Batch
	w.columns(c)
	for k, at := range w.measure {
		c.Totals[k] = exact.Int128{}
		for i := range b.N {
			c.Totals[k], _ = c.Totals[k].Add(b.Cols[at].Exact(i)) // of one batch: it fits
		}
	}
	for _, k := range w.grainAt {
		lacks(b, c.cols[k], w.fields[k].Name, ", which is part of the grain")
	}
	if w.replaced != nil && w.replaced.newer != none {
		k := w.replaced.newer
		lacks(b, c.cols[k], w.fields[k].Name, ", so it is not known which row is newer")
	}
	if d := w.delivered; d != nil && d.on != none {
		lacks(b, &b.Cols[d.on], d.all.On.Name, ", so it is not known to which delivery the row belongs")
	}
	for _, k := range w.grainAt {
		if c.cols[k].Type.Kind == column.Text {
			roster.TooLong(b, c.cols[k:k+1], w.fields[k].Name)
		}
	}
	if w.grain.asks() {
		c.view.look(c.cols[:len(w.fields)], b.N)
	} else {
		c.view.cols = c.cols[:len(w.fields)]
	}
	c.same, c.gap = c.same[:0], c.gap[:0]
	if w.grain.stored == nil {
		return
	}
	for i := range b.N {
		same, gap := false, false
		if !b.Bad(i) {
			if content, ok := w.grain.stored.get(w.id(c.view, i)); ok {
				same = content == c.view.content(i)
				gap = !same
			}
		}
		c.same, c.gap = append(c.same, same), append(c.gap, gap)
	}
	if w.open != nil {
		w.open.doubt(c)
	}
	w.order(c)
}

// order has rows looked up that say what stands, where the order of all rows decides which tells a part of a fact.
func (w *Writer) order(c *Chunk) {
	if w.completion == nil || !w.files.Orders || w.replaced.newer != none {
		return
	}
	for i, same := range c.same {
		c.same[i], c.gap[i] = false, c.gap[i] || same
	}
}

// lacks sets the rows aside that have no value in a column.
func lacks(b *column.Batch, c *column.Column, name, why string) {
	for i := range b.N {
		if c.Null[i] && !b.Bad(i) {
			b.SetAside(i, name, "no "+name+why, "")
		}
	}
}

// Take decides about the rows of a prepared chunk and writes those that are new. Rows that it sets
// aside have their faults added to the batch.
func (w *Writer) Take(ctx context.Context, tx warehouse.Tx, c *Chunk) error {
	b := c.Batch
	c.rows, c.Loaded = c.rows[:0], c.Loaded[:0]
	if w.lookedUp != nil {
		if err := w.find(ctx, tx, c); err != nil {
			return err
		}
	}
	var repeats []int32
	pending := c.Keys.Pending
	for i := range int32(b.N) {
		if b.Bad(int(i)) {
			w.tell(c, i)
			continue
		}
		if w.delivered != nil && w.delivered.late(c, i) {
			w.takeLate(c, i)
			continue
		}
		if c.isSame(i) {
			if w.replaced != nil && len(repeats) > 0 { // the order of the rows decides
				repeats = append(repeats, i)
			} else {
				w.says(c, i)
				w.tell(c, i)
			}
			continue
		}
		for len(pending) > 0 && pending[0] < i {
			pending = pending[1:]
		}
		infers := len(pending) > 0 && pending[0] == i
		if infers && w.grainInfers {
			// A member that is not there cannot have a row; one that this load made can.
			if !resolve.Known(w.links, b, &c.Keys, i, w.inGrain) {
				resolve.Join(w.links, b, &c.Keys, i)
			}
			c.view.refresh(int(i))
		}
		if len(c.gap) > 0 && c.gap[i] || !w.grain.fresh(c.view, int(i)) {
			repeats = append(repeats, i)
			continue
		}
		if w.unordered(c, i) {
			continue
		}
		if infers {
			resolve.Join(w.links, b, &c.Keys, i)
		}
		c.rows = append(c.rows, i)
		w.tell(c, i)
	}
	if err := w.append(ctx, tx, c, c.rows); err != nil {
		return err
	}
	if len(repeats) > 0 {
		return w.repeated(ctx, tx, c, repeats)
	}
	return nil
}

// tell notes that row i was delivered.
func (w *Writer) tell(c *Chunk, i int32) {
	if w.delivered != nil {
		w.delivered.tell(c, i)
	}
}

// takeLate passes over row i, which an older delivery has than the last that was loaded of its scope.
func (w *Writer) takeLate(c *Chunk, i int32) {
	w.tell(c, i)
	if c.isSame(i) {
		w.same(c, i)
	} else {
		w.older(c, i)
	}
}

// isSame reports whether row i is known to stand in the table as it is.
func (c *Chunk) isSame(i int32) bool { return len(c.same) > 0 && c.same[i] }

func (w *Writer) same(c *Chunk, i int32) {
	w.Outcome.Same++
	w.sum(w.Outcome.SameSum, c, i)
}

// begin opens the table for writing.
func (w *Writer) begin(ctx context.Context, tx warehouse.Tx) (err error) {
	if w.appender != nil {
		return nil
	}
	if w.lookedUp == nil {
		if w.before, err = tx.Tally(ctx, w.fact.Table.Name, w.Measures); err != nil {
			return err
		}
	}
	w.appender, err = tx.Append(ctx, w.fact.Table.Name, w.fact.Table.Fields())
	return err
}

// append writes members first, then the facts that point to them.
func (w *Writer) append(ctx context.Context, tx warehouse.Tx, c *Chunk, rows []int32) error {
	if len(rows) == 0 {
		return nil
	}
	for _, l := range w.links {
		if err := l.Session.Write(ctx, tx); err != nil {
			return err
		}
	}
	if err := w.begin(ctx, tx); err != nil {
		return err
	}
	w.Outcome.Inserted += int64(len(rows))
	for _, m := range w.fact.Measures {
		null := c.cols[column.Find(w.fields, m.Name)].Null
		for _, i := range rows {
			if null[i] {
				w.Outcome.Empty[m.Name]++
			}
		}
	}
	c.Loaded = append(c.Loaded, rows...)
	w.arrive(c, rows)
	if w.lookedUp != nil {
		w.lookedUp.wrote(w, c.cols, rows)
	}
	if w.open != nil {
		if err := w.open.wrote(ctx, tx, c, rows); err != nil {
			return err
		}
	}
	for k, at := range w.measure {
		sum := exact.Int128{}
		for _, i := range rows {
			sum, _ = sum.Add(c.Batch.Cols[at].Exact(int(i)))
		}
		var ok bool
		if w.Outcome.InsertedTotal[k], ok = w.Outcome.InsertedTotal[k].Add(sum); !ok {
			return fmt.Errorf("the total of %s needs more than 38 digits", w.Measures[k].Name)
		}
	}
	return w.appender.Append(c.cols, rows)
}

// arrive counts rows that are written by their scopes, and notes which are in the place of facts that were withdrawn.
func (w *Writer) arrive(c *Chunk, rows []int32) {
	for _, i := range rows {
		if w.delivered != nil {
			w.delivered.scopeOf(c.cols, int(i)).inserted++
		}
		if w.withdrawn != nil {
			w.withdrawn.wrote(w.id(c.view, int(i)))
		}
	}
}

// tally counts what the table holds at the end.
func (w *Writer) tally(ctx context.Context, tx warehouse.Tx) (warehouse.Tally, error) {
	if w.lookedUp != nil {
		return w.tallyWritten(ctx, tx)
	}
	return tx.Tally(ctx, w.fact.Table.Name, w.Measures)
}

// repeated compares rows whose grain seems to have come before with what stands in the table: equal in all columns,
// they are the same; different, the rule of the fact decides; and if their grain is not there after all, they are new.
func (w *Writer) repeated(ctx context.Context, tx warehouse.Tx, c *Chunk, rows []int32) error {
	if w.appender != nil {
		if err := w.appender.Flush(); err != nil {
			return err
		}
	}
	known := make([]bool, len(rows))
	for n, i := range rows {
		known[n] = resolve.Known(w.links, c.Batch, &c.Keys, i, nil)
	}
	c.view.look(c.cols[:len(w.fields)], c.Batch.N) // keys have come in
	stand, err := w.standing(ctx, tx, c, rows)
	if err != nil {
		return err
	}
	for n, i := range rows {
		if err := w.judge(ctx, tx, c, i, known[n], stand); err != nil {
			return err
		}
		w.tell(c, i)
	}
	return nil
}

// judge decides about row i, of which a row with the same grain seems to stand in the table.
func (w *Writer) judge(ctx context.Context, tx warehouse.Tx, c *Chunk, i int32, known bool, stand *standing) error {
	if c.isSame(i) {
		w.says(c, i)
		return nil
	}
	j, there := stand.row[c.view.grain(int(i))]
	if !there { // a chance meeting of two digests, or the row before was set aside
		if w.unordered(c, i) {
			return nil
		}
		if !known {
			resolve.Join(w.links, c.Batch, &c.Keys, i)
			c.view.refresh(int(i))
		}
		grain := c.view.grain(int(i))
		if stand.added[grain] { // by an earlier row of the chunk
			return w.repeated(ctx, tx, c, []int32{i})
		}
		stand.added[grain] = true
		w.grain.fresh(c.view, int(i))
		return w.append(ctx, tx, c, []int32{i})
	}
	if w.completion != nil {
		w.completes(c, i, known, stand, j)
		return nil
	}
	of, values := w.differs(c, int(i), known, stand, j, w.compared)
	if values != "" {
		return w.disagrees(c, i, known, of, values, stand.view, j)
	}
	w.says(c, i)
	if w.open != nil {
		w.open.found(c, int(i), stand, j)
	}
	return nil
}

// standing is rows of the table, by their grain.
type standing struct {
	*view
	row   map[digest.Sum]int
	added map[digest.Sum]bool               // grains that were written since, although they seemed to stand in the table
	told  map[digest.Sum]map[string]telling // by grain and milestone, which row has told it, where it is not that of the fact
	open  [][]string                        // for each link, the natural key of each row that no member had; "" where that is not known
}

// standing reads the table's rows that have the grain of one of the rows.
func (w *Writer) standing(ctx context.Context, tx warehouse.Tx, c *Chunk, rows []int32) (*standing, error) {
	match := make([]column.Column, len(w.grainAt))
	for g, k := range w.grainAt {
		match[g].Type = w.fields[k].Type
	}
	for _, i := range rows {
		if c.isSame(i) {
			continue
		}
		w.matchRow(match, c, int(i), 0, nil)
	}
	b, err := warehouse.ReadAll(
		ctx,
		tx,
		warehouse.Query{
			Table:  w.fact.Table.Name,
			Fields: w.fact.Table.Fields(),
			By:     w.fact.Table.Primary,
			Match:  column.Pointers(match),
		},
	)
	if err != nil {
		return nil, err
	}
	s := &standing{view: w.newView(), row: map[digest.Sum]int{}, added: map[digest.Sum]bool{}}
	s.look(column.Pointers(b.Cols)[:len(w.fields)], b.N)
	s.cols = column.Pointers(b.Cols)
	for j := range b.N {
		s.row[s.grain(j)] = j
	}
	if w.open != nil {
		err = w.open.naturals(ctx, tx, s, b.N)
	}
	if w.completion != nil && err == nil {
		err = w.completion.read(ctx, tx, s, match)
	}
	return s, err
}

// differs compares a row of a load with one of the table in the columns that are to be compared. Where a rule put something there for a natural
// key that no member had, natural keys are compared (rule R2); where the ledger does not have the one that was delivered,
// any equals it. A row without one equals only what the rule for that says. What is not a key is compared first. Unless
// all its members are known, row i names one that is not there, so that no row can be the same.
func (w *Writer) differs(
	c *Chunk,
	i int,
	known bool,
	stand *standing,
	j int,
	compared []bool,
) (of, values string) {
	for k, f := range w.fields {
		is, said := stand.canon[k], c.view.canon[k]
		if n := -1 - w.from[k]; n >= 0 && w.open != nil && compared[k] && !w.durable[k] && w.open.special(n, stand, j) {
			if equal, decided := w.open.equal(c, i, n, stand, j); decided && equal {
				continue
			} else if decided {
				const message = "%s is %s in the table, of another natural key than ‹%s›"
				of, values = f.Name, fmt.Sprintf(message, f.Name, shown(stand.cols[k], j), w.links[n].Natural(c.Batch, i))
				continue
			}
		}
		if !compared[k] || said.Equal(i, is, j) || w.from[k] < 0 && w.stands(k, c.Batch, i, is, j) {
			continue
		}
		if w.from[k] >= 0 {
			return f.Name, fmt.Sprintf("%s is %s in the table, and %s here", f.Name, shown(is, j), shown(said, i))
		}
		n := -1 - w.from[k]
		if open := c.Keys.Open[n]; of == "" && (known || open == nil || !open[i]) {
			of, values = f.Name, fmt.Sprintf(
				"%s is %s in the table, and not that of ‹%s›",
				f.Name,
				shown(stand.cols[k], j),
				w.links[n].Natural(c.Batch, i),
			)
		}
	}
	if of == "" && !known {
		values = "it names a member that is not there"
	}
	return of, values
}

// stands reports whether field k of a row of the table may be what a rule made of the natural key that row i says.
func (w *Writer) stands(k int, b *column.Batch, i int, is *column.Column, j int) bool {
	l := w.links[-1-w.from[k]]
	if !l.Dimension.Junk && slices.ContainsFunc(l.Says(b), func(c *column.Column) bool { return c.Null[i] }) {
		return false
	}
	return slices.ContainsFunc(w.rules[k], func(rule star.Outcome) bool { return rule.Stands(l.Dimension, is, j) })
}

func shown(c *column.Column, i int) string {
	if c.Null[i] {
		return "null"
	}
	return diag.Clip(diag.Printable(c.Value(i)), 60)
}

// matchRow adds the grain of row i to match, once for every combination of versions that its members
// have, since the table holds versions and the grain means members.
func (w *Writer) matchRow(match []column.Column, c *Chunk, i, g int, keys []int64) {
	if g == len(w.grainAt) {
		for n, k := range w.grainAt {
			if w.canon[k] != nil {
				match[n].AppendInt(keys[n])
			} else {
				match[n].Append(c.cols[k], i)
			}
		}
		return
	}
	k := w.grainAt[g]
	if w.canon[k] == nil {
		w.matchRow(match, c, i, g+1, append(keys, 0))
		return
	}
	for _, surrogate := range w.canon[k].Versions(c.cols[k].Int[i]) {
		w.matchRow(match, c, i, g+1, append(keys, surrogate))
	}
}

// Finish ends the writing and checks the table against what was written (rule R20): the rows and the
// total of every exact measure.
func (w *Writer) Finish(ctx context.Context, tx warehouse.Tx) error {
	if w.completion != nil {
		if err := w.completion.finish(ctx, tx); err != nil {
			return err
		}
	}
	if w.replaced != nil {
		if err := w.replaced.write(ctx, tx, w); err != nil {
			return err
		}
	}
	if w.delivered != nil {
		if err := w.delivered.finish(ctx, tx); err != nil {
			return err
		}
	}
	if w.withdrawn != nil {
		if err := w.withdrawn.finish(ctx, tx, w); err != nil {
			return err
		}
	}
	if w.open != nil {
		if err := w.open.keep(ctx, tx); err != nil {
			return err
		}
	}
	var added int64
	if w.appender != nil {
		var err error
		added, err = w.appender.Close()
		w.appender = nil
		if err != nil {
			return err
		}
	}
	if given := w.Outcome.Inserted + w.Outcome.Rewritten + w.restored; added != given {
		return fmt.Errorf("the account does not hold: %d rows were given to the warehouse, and it took %d", given, added)
	}
	after, err := w.tally(ctx, tx)
	if err != nil {
		return err
	}
	w.Outcome.Table = after
	if added == 0 && w.Outcome.Removed == 0 {
		return nil
	}
	if after.Rows != w.before.Rows+w.Outcome.Inserted-w.Outcome.Removed {
		return fmt.Errorf(
			"the account does not hold: table %s had %d rows, %d were added, %d were removed, and it has %d",
			w.fact.Table.Name,
			w.before.Rows,
			w.Outcome.Inserted,
			w.Outcome.Removed,
			after.Rows,
		)
	}
	for k, m := range w.Measures {
		want, _ := w.before.Totals[k].Add(w.Outcome.Added(k))
		if want != after.Totals[k] {
			text := func(x exact.Int128) string { return string(exact.AppendDecimal(nil, x, int(m.Type.Scale))) }
			return fmt.Errorf(
				"the account does not hold: the total of %s in table %s should be %s and is %s",
				m.Name,
				w.fact.Table.Name,
				text(want),
				text(after.Totals[k]),
			)
		}
	}
	return nil
}
