package prove

import (
	"cmp"
	"math"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
)

// order says which of two rows of one grain is later, where the later one replaces the other (rule R17), and keeps
// those of which it is not known yet whether a later row says what stands.
type order struct {
	arrived     map[string]int64 // files by name
	names       map[int64]string
	newer, from int // the column that says so in the table and in the source, or -1
	line        int
	unsorted    bool // files are not read in the order in which they came
	delivered   *delivered
	settled     map[uint64]rank // then, the last row of a fact that says what stands
	open        map[uint64]later
}

// rank is when a row is so: by its delivery, by the column that says it, and when its file came.
type rank struct{ on, newer, arrived int64 }

func (r rank) compare(o rank) int {
	return cmp.Or(cmp.Compare(r.on, o.on), cmp.Compare(r.newer, o.newer), cmp.Compare(r.arrived, o.arrived))
}

// later is a row that says something else than what stands, and is later.
type later struct {
	rank
	Example
}

func (x *rereader) newOrder() *order {
	o := &order{
		names:     x.p.files,
		newer:     -1,
		line:      x.lines,
		delivered: x.delivered,
		settled:   map[uint64]rank{},
		open:      map[uint64]later{},
	}
	o.arrived = ledger.Arrivals(x.p.files)
	if x.f.Source.Merges() {
		o.arrived = ledger.Together(o.arrived)
	}
	if by := x.f.NewerBy; by != nil {
		o.newer = column.Find(x.f.Table.Fields(), by.Name)
		o.from = column.Find(x.f.Source.Shaped(), by.Name)
	}
	return o
}

func (o *order) ofRow(b *slot, i int) rank {
	r := rank{arrived: o.fileRank(b.From.File)}
	if o.newer >= 0 {
		r.newer = b.Cols[o.from].Int[i]
	}
	if d := o.delivered; d != nil && d.on >= 0 {
		_, r.on = d.of(b, i)
	}
	return r
}

func (o *order) ofFact(facts *column.Batch, j int) rank {
	number, _ := ledger.FileAndLine(facts.Cols[o.line].Int[j])
	r := rank{arrived: o.arrived[ledger.Uncompressed(o.names[number])]}
	if o.newer >= 0 {
		r.newer = facts.Cols[o.newer].Int[j]
	}
	if d := o.delivered; d != nil && d.on >= 0 {
		r.on = d.latest[scopeOf(facts.Cols, d.scope[1], j)]
	}
	return r
}

// reads is told which files are read, in order.
func (o *order) reads(names []string) {
	o.unsorted = !slices.IsSortedFunc(names, func(a, b string) int { return cmp.Compare(o.fileRank(a), o.fileRank(b)) })
}

// fileRank is when a file came; after all others if it was not loaded yet.
func (o *order) fileRank(name string) int64 {
	if first, ok := o.arrived[ledger.Uncompressed(name)]; ok {
		return first
	}
	return math.MaxInt64
}

// says notes a row that says what stands.
func (o *order) says(id uint64, r rank) {
	if was, ok := o.settled[id]; o.unsorted && (!ok || r.compare(was) > 0) {
		o.settled[id] = r
	}
	if l, ok := o.open[id]; ok && r.compare(l.rank) >= 0 {
		delete(o.open, id)
	}
}

// differs notes a row that says something else than a fact that stands, unless it is earlier.
func (o *order) differs(id uint64, r, stands rank, e Example) {
	if was, ok := o.settled[id]; ok && was.compare(stands) > 0 {
		stands = was
	}
	if l, ok := o.open[id]; r.compare(stands) >= 0 && (!ok || r.compare(l.rank) >= 0) {
		o.open[id] = later{r, e}
	}
}

// judgeReplaced finds the facts that a later row should have replaced, once all rows have been read.
func (x *rereader) judgeReplaced() {
	if x.order == nil {
		return
	}
	for _, l := range x.order.open {
		x.c.against(func() Example { return l.Example })
	}
}
