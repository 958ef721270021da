// Package fact writes facts: it keeps one row for each grain, gives rows whose members are missing the
// members they need, adds up the measures, and appends.
//
// Workers prepare a [Chunk] each; one [Writer] takes them in source order. What it decides for a row
// does not depend on how the source was cut or on how many workers there were.
package fact

import (
	"context"
	"hash/maphash"
	"slices"

	"ironmonger/internal/column"
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

	entry []column.Column // number, sign and day, where entries stay
	gone  column.Column   // that the rows are not gone
	rows  []int32
	line  column.Column // where each row came from, and the run
	runs  column.Column
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
	Reversed, Appended     int64            // rows that reverse others; those and rows that follow them
	ReversedTotal          []exact.Int128   // what they take
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
	Left   map[int64]bool   // those that are not there any more, of which some rows are read, under all their names
	Orders bool             // they are not read in the order in which they came
	Day    int64            // of the run that reads them, in UTC
}

// Came returns when a file came first: the number that it, or the file from which it was moved or compressed, got
// first.
func (f *Files) Came(number int64) int64 {
	if first, ok := f.First[number]; ok {
		return first
	}
	return number
}

// Added is by how much the total of a measure has grown: what was written less what was replaced or removed.
func (o *Outcome) Added(k int) exact.Int128 {
	sum, _ := o.InsertedTotal[k].Add(o.WrittenTotal[k])
	sum, _ = sum.Add(o.TakenTotal[k].Neg())
	sum, _ = sum.Add(o.RemovedTotal[k].Neg())
	sum, _ = sum.Add(o.ReversedTotal[k])
	return sum
}

// Grown is by how many rows the table has grown.
func (o *Outcome) Grown() int64 { return o.Inserted + o.Appended - o.Removed }

// Writer appends to one fact table. It belongs to the step's sequencer.
type Writer struct {
	fact        *schema.Fact
	links       []*resolve.Link
	run         int64
	files       *Files
	fields      []column.Field   // of the table, but for line and run
	from        []int            // for each: a column of the shaped batch, or none
	linkOf      []int            // or the link whose key or durable key it is, or none
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
	added    []bool        // of fields: they came when the table had rows; nil if none did
	others   []bool        // compared, but for these
	open     *openKeys     // nil unless keys that no member has may be pointed to one later
	Outcome  Outcome

	entries    *entries    // nil unless what was booked stays
	completion *completion // nil unless rows complete others
	lags       []lag
	delivered  *delivered // nil unless deliveries have all rows
	withdrawn  *withdrawn // nil unless files do not have rows any more that came from them
	restored   int64      // rows that were put back into the table
	removed    *table     // the grains of facts that were removed before; nil if none were
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
		from, link := none, none
		if column.Find(f.Degenerate, field.Name) >= 0 || column.Find(f.Measures, field.Name) >= 0 {
			from = column.Find(shaped, field.Name)
		}
		if field.Name == schema.IsGone {
			w.goneAt = k
		}
		lag := w.lagOf(field.Name)
		w.canon, w.rules, w.durable = append(w.canon, nil), append(w.rules, nil), append(w.durable, false)
		w.compared = append(w.compared, !lag)
		for n, l := range links {
			w.durable[k] = w.durable[k] || l.Both && l.DurableColumn() == field.Name
			if l.Column() == field.Name || l.Both && l.DurableColumn() == field.Name {
				link = n
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
		w.from, w.linkOf = append(w.from, from), append(w.linkOf, link)
	}
	for _, name := range f.GrainColumns() {
		w.grainAt = append(w.grainAt, column.Find(w.fields, name))
	}
	first := w.grainAt[0]
	w.plain = len(w.grainAt) == 1 && w.fields[first].Type.Kind == column.Integer && w.canon[first] == nil
	for _, g := range f.Grain {
		w.grainInfers = w.grainInfers || g.Key != nil && (g.Key.Unmatched == star.Infer || g.Key.Dimension.Junk ||
			g.Key.Dimension.Calendar != nil && g.Key.Dimension.Calendar.Grows())
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
		&o.ReversedTotal,
	} {
		*list = make([]exact.Int128, len(w.Measures))
	}
	w.entries = newEntries(w, shaped, files.Day)
	w.open = newOpenKeys(w)
	w.delivered = newDelivered(w, shaped)
	if f.Repeated == star.ReplaceRepeated || f.Reverses() || f.Completion != nil ||
		f.Marked() { // what is there again replaces what was gone
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
			w.lags = append(w.lags, lag{l, column.Find(fields, l.From), column.Find(fields, l.To), nil})
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
	if err := w.openRemoved(ctx, tx); err != nil {
		return err
	}
	if err := w.openAdded(ctx, tx); err != nil {
		return err
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
	if w.entries != nil {
		w.entries.fill(c)
	}
	for k, from := range w.from {
		switch link := w.linkOf[k]; {
		case from != none:
			c.cols[k] = &b.Cols[from]
		case k == w.goneAt: // what is delivered is there
			c.gone.Type = w.fields[k].Type
			c.gone.Resize(b.N)
			c.cols[k] = &c.gone
		case link == none: // a lag, below, or filled
		case w.durable[k]:
			c.cols[k] = &c.Keys.Durable[link]
		default:
			c.cols[k] = &c.Keys.Keys[link]
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

// Judge sets the rows of a shaped and resolved chunk aside that lack what every fact needs.
func (w *Writer) Judge(c *Chunk) {
	b := c.Batch
	w.columns(c)
	for _, k := range w.grainAt {
		lacks(b, c.cols[k], w.fields[k].Name, ", which is part of the grain")
	}
	if w.replaced != nil && w.replaced.newer != none {
		k := w.replaced.newer
		lacks(b, c.cols[k], w.fields[k].Name, ", so it is not known which row is newer")
	}
	if e := w.entries; e != nil && e.from != none {
		lacks(b, c.cols[e.booked], w.fact.BookedOn.Name, ", so it is not known when the row is booked")
	}
	if d := w.delivered; d != nil && d.on != none {
		lacks(b, &b.Cols[d.on], d.all.On.Name, ", so it is not known to which delivery the row belongs")
	}
	for _, k := range w.grainAt {
		if c.cols[k].Type.Kind == column.Text {
			roster.TooLong(b, c.cols[k:k+1], w.fields[k].Name)
		}
	}
}

// Prepare does all that can be done for a shaped and resolved chunk out of order.
func (w *Writer) Prepare(c *Chunk) {
	b := c.Batch
	w.Judge(c)
	for k, at := range w.measure {
		c.Totals[k] = exact.Int128{}
		for i := range b.N {
			c.Totals[k], _ = c.Totals[k].Add(b.Cols[at].Exact(i)) // of one batch: it fits
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
	w.doubtAdded(c)
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
