package transform

import (
	"context"
	"slices"
	"sort"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/keyindex"
	"ironmonger/internal/star"
)

// join finds rows of another source. Those are held in memory, the columns that are compared and brought; or on disk,
// where there are too many.
type join struct {
	stage
	of     *star.Join
	flow   *Flow
	into   *Flow
	brings []column.Field // the columns needed here
	at     int            // where they begin in a batch
	by     []int          // our columns
	asOf   int            // our column, or -1
	toDay  bool           // it is a timestamp, and days are compared

	index  *keyindex.Index
	table  *column.Batch // of the flow's columns
	first  []int32       // of each member, where its rows begin in rows
	rows   []int32       // of the table, by member, time and order
	times  *column.Column
	from   []*column.Column // of the table, for each of brings
	places []diag.Place     // where the rows of the table stand, if somebody asks

	disk   *onDisk // the rows, where memory has no room for them
	limits *limits // of a range; nil if there is none
}

// finder is the buffers of a goroutine.
type finder struct {
	cols   []*column.Column
	member []int32
	found  found
}

// openJoin opens the other source of a join, and adds what it brings to the flow's columns.
func (f *Flow) openJoin(ctx context.Context, j *star.Join) (*join, error) {
	x := &join{of: j, into: f, at: len(f.local), asOf: -1}
	theirs := wantedOf(j, f.need)
	for _, by := range j.By {
		x.by = append(x.by, column.Find(f.local, by[1]))
	}
	if j.AsOf != "" {
		x.asOf = column.Find(f.local, j.AsOf)
	}
	if j.Range != nil {
		x.limits = &limits{of: column.Find(f.local, j.Range.Of)}
	}
	for _, b := range j.Bring {
		if f.need[b.Name] {
			x.brings = append(x.brings, b.Field)
		}
	}
	f.local = append(f.local, x.brings...)
	var err error
	x.flow, err = Open(ctx, f.in, j.Source, func(c string) bool { return theirs[c] })
	f.helpers = append(f.helpers, x.flow)
	return x, err
}

// load reads the other source.
func (x *join) load(ctx context.Context) error {
	fields := x.flow.Fields()
	x.table = column.NewBatch(fields)
	timed := -1
	if x.of.Effective != "" {
		timed = column.Find(fields, x.of.Effective)
		x.toDay = fields[timed].Type.Kind == column.Date && x.into.local[x.asOf].Type.Kind == column.Timestamp
	}
	var on []int
	for _, pair := range x.of.By {
		on = append(on, column.Find(fields, pair[0]))
	}
	size, most := int64(0), x.into.room()
	if x.limits != nil { // which rows a range means is not told by a key
		most = 0
	}
	err := x.into.each(ctx, x.flow, func(b *column.Batch, i int) error {
		if timed >= 0 && b.Cols[timed].Null[i] {
			x.into.refuse(x.flow, b, i, x.of.Effective, "no "+x.of.Effective+", so nobody knows since when")
			return nil
		}
		if slices.ContainsFunc(on, func(k int) bool { return b.Cols[k].Null[i] }) { // it equals nothing
			return nil
		}
		if x.into.in.Places {
			x.places = append(x.places, diag.Place{File: b.From.File, Line: int(b.From.Line[i])})
		}
		if x.disk != nil {
			return x.disk.add(column.Pointers(b.Cols), i)
		}
		size += rowOverhead
		for k := range fields {
			c := &b.Cols[k]
			if x.table.Cols[k].Append(c, i); c.Type.Kind == column.Text {
				size += int64(len(c.Text[i]))
			}
			size += valueSize
		}
		if x.table.N++; most > 0 && size > most {
			return x.toDisk(on, timed)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if x.disk != nil {
		return x.disk.close()
	}
	var by []*column.Column
	var types []column.Type
	for _, pair := range x.of.By {
		c := &x.table.Cols[column.Find(fields, pair[0])]
		by, types = append(by, c), append(types, c.Type)
	}
	x.index = keyindex.New(types)
	members := make([]int32, x.table.N)
	x.rows = nil
	count := []int32{}
	for i := range x.table.N {
		m, fresh := x.index.Add(by, i)
		if fresh {
			count = append(count, 0)
		}
		count[m]++
		members[i] = m
		x.rows = append(x.rows, int32(i))
	}
	x.first = make([]int32, len(count)+1)
	for m, n := range count {
		x.first[m+1] = x.first[m] + n
	}
	if timed >= 0 {
		x.times = &x.table.Cols[timed]
	}
	if x.limits != nil {
		x.limits.from = &x.table.Cols[column.Find(fields, x.of.Range.From)]
		x.limits.to = &x.table.Cols[column.Find(fields, x.of.Range.To)]
	}
	slices.SortStableFunc(x.rows, func(a, b int32) int {
		if members[a] == members[b] && x.limits != nil {
			return x.limits.compare(a, b)
		}
		if members[a] != members[b] || x.times == nil {
			return int(members[a]) - int(members[b])
		}
		return x.times.Compare(int(a), x.times, int(b))
	})
	if x.limits != nil {
		x.limits.reach(x.rows, members)
	}
	x.index.Freeze()
	x.from = x.brought(x.table)
	return nil
}

// brought returns the columns that are brought, of a batch of the other source.
func (x *join) brought(b *column.Batch) []*column.Column {
	var cols []*column.Column
	for _, of := range x.of.Bring {
		if column.Find(x.brings, of.Name) >= 0 {
			cols = append(cols, &b.Cols[column.Find(x.flow.Fields(), of.From)])
		}
	}
	return cols
}

// About how many bytes a row of the other source takes, besides its texts.
const (
	rowOverhead = 48
	valueSize   = 17
)

// toDisk moves the rows that have been read to disk, where the others will come.
func (x *join) toDisk(by []int, timed int) (err error) {
	if x.disk, err = newOnDisk(x.flow.Fields(), by, timed); err != nil {
		return err
	}
	cols := column.Pointers(x.table.Cols)
	for i := range x.table.N {
		if err := x.disk.add(cols, i); err != nil {
			return err
		}
	}
	x.table = column.NewBatch(x.disk.fields)
	return nil
}

// time returns as of when row i of a batch is; false if that is null.
func (x *join) time(b *column.Batch, i int) (int64, bool) {
	switch {
	case x.of.Effective == "":
		return 0, true
	case b.Cols[x.asOf].Null[i]:
		return 0, false
	case x.toDay:
		return civil.DayOf(b.Cols[x.asOf].Int[i]), true
	}
	return b.Cols[x.asOf].Int[i], true
}

// fits returns the rows of the table that fit row i of a member, all of one time.
func (x *join) fits(b *column.Batch, i int, m int32) []int32 {
	if m < 0 {
		return nil
	}
	rows := x.rows[x.first[m]:x.first[m+1]]
	if x.times == nil {
		return rows
	}
	at, ok := x.time(b, i)
	if !ok {
		return nil
	}
	end := sort.Search(len(rows), func(n int) bool { return x.times.Int[rows[n]] > at })
	if end == 0 {
		return nil
	}
	begin := end - 1
	for begin > 0 && x.times.Int[rows[begin-1]] == x.times.Int[rows[end-1]] {
		begin--
	}
	return rows[begin:end]
}

// choose returns how many rows fit row i, and which of them is taken, if one is.
func (x *join) choose(b *column.Batch, i int, f *finder) (fit, error) {
	if x.disk != nil {
		return x.fit(b, i, &f.found)
	}
	if x.limits != nil {
		return x.within(b, i, f.member[i]), nil
	}
	rows := x.fits(b, i, f.member[i])
	switch {
	case len(rows) == 0:
		return fit{}, nil
	case x.of.Several == star.Last:
		return fit{len(rows), rows[len(rows)-1]}, nil
	}
	return fit{len(rows), rows[0]}, nil
}

// apply brings the columns to the rows of a batch, and returns how many rows were dropped.
func (x *join) apply(b *column.Batch, f *finder) (dropped int, err error) {
	f.cols = f.cols[:0]
	for _, k := range x.by {
		f.cols = append(f.cols, &b.Cols[k])
	}
	if cap(f.member) < b.N {
		f.member = make([]int32, b.N+b.N/4)
	}
	f.member = f.member[:b.N]
	from := x.from
	if x.disk == nil {
		x.index.Find(f.cols, f.member)
	} else {
		clear(f.member)
		if err := x.find(b, f.cols, &f.found); err != nil {
			return 0, err
		}
		from = x.brought(f.found.read)
	}
	subject := "join " + x.of.Text
	drop := false
	for i := range b.N {
		for k := range x.brings {
			b.Cols[x.at+k].SetNull(i)
		}
		if b.Bad(i) {
			continue
		}
		fits, err := x.choose(b, i, f)
		if err != nil {
			return 0, err
		}
		pick := int32(-1)
		switch {
		case fits.n == 0:
			switch x.of.Unmatched {
			case star.SetAside:
				b.SetAside(i, x.of.Text, "unmatched in "+x.of.Text, natural(f.cols, i))
			case star.Drop:
				drop = true
				f.member[i] = gone
			case star.Stop:
				return 0, mistake(
					b,
					i,
					subject,
					"no row of %s fits %s; the model says stop",
					x.of.Source.Text,
					natural(f.cols, i),
				)
			default:
				x.empty.Add(1)
			}
		case fits.n == 1 || x.of.Several == star.First || x.of.Several == star.Last:
			pick = fits.pick
		case x.of.Several == star.SetAside:
			b.SetAside(i, x.of.Text, "several rows of "+x.of.Text+" fit", natural(f.cols, i))
		default:
			return 0, mistake(
				b,
				i,
				subject,
				"%d rows of %s fit %s: several says which to take",
				fits.n,
				x.of.Source.Text,
				natural(f.cols, i),
			)
		}
		if pick >= 0 {
			if x.places != nil && x.disk == nil {
				x.into.note(b, i, Joined{x.of.Text, x.of.Source.Text, x.places[pick]})
			}
			for k, c := range from {
				b.Cols[x.at+k].Set(i, c, int(pick))
			}
		}
	}
	if drop {
		dropped = b.Keep(func(i int) bool { return f.member[i] != gone })
		x.dropped.Add(int64(dropped))
	}
	return dropped, nil
}

// gone marks a row that is dropped.
const gone = -9

// Joined is a row of another source that completes one.
type Joined struct {
	Join, Source string
	Place        diag.Place
}

// note keeps where a row stands that row i of a batch is joined with.
func (f *Flow) note(b *column.Batch, i int, j Joined) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.met == nil {
		f.met = map[diag.Place][]Joined{}
	}
	at := diag.Place{File: b.From.File, Line: int(b.From.Line[i])}
	f.met[at] = append(f.met[at], j)
}

// Joined lists the rows that the row at a place was joined with, once [Flow.Row] has read it, where the inputs note
// places.
func (f *Flow) Joined(at diag.Place) []Joined {
	var list []Joined
	for _, o := range f.below() {
		list = append(list, o.Joined(at)...)
	}
	for _, j := range f.met[at] {
		if !slices.Contains(list, j) {
			list = append(list, j)
		}
	}
	return list
}
