package dimension

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/history"
	"ironmonger/internal/ledger"
	"ironmonger/internal/warehouse"
)

// ties is what a feed knows of rows that lost to another row of the same effective time (rule R11). What has lost once
// stays lost: a file that is not there any more must not make another row of an older file win. The ledger keeps these
// rows as digests, with the last of the files that had them; a row of a file that came later is news.
type ties struct {
	names   []string         // the files of this load, in the order in which they were met
	ranks   []int64          // of each when it came: its number in the ledger, or beyond all of them
	numbers map[string]int64 // of files that the ledger knows, by their names without what compression adds
	before  map[tied]ledger.Lost
	known   bool // what was known of a member has lost to a row of this load
}

// tied is a row that took part in a tie.
type tied struct{ row, other string }

// moment is a time of a member.
type moment struct {
	member    int32
	effective int64
}

// Remember reads which rows have lost before. Call it before the first Take.
func (f *Feed) Remember(ctx context.Context, r warehouse.Reader) error {
	if f.ties == nil {
		return nil
	}
	list, err := ledger.Ties(ctx, r, f.x.Dimension().Text)
	if err != nil || len(list) == 0 {
		return err
	}
	for _, l := range list {
		f.ties.before[tied{l.Row, l.Other}] = l
	}
	names, err := ledger.FileNames(ctx, r)
	for number, name := range names {
		if first, ok := f.ties.numbers[ledger.Uncompressed(name)]; !ok || number < first {
			f.ties.numbers[ledger.Uncompressed(name)] = number
		}
	}
	return err
}

// news is the rank of the first file that the ledger does not know.
const news = 1 << 40

// From says which file the first n rows of a delivery are of. Call it in source order, before Take.
func (f *Feed) From(v *Delivery, file string, n int) {
	if f.ties == nil || n == 0 {
		return
	}
	at := int64(f.ties.met(file))
	if v.File == nil {
		v.File = &column.Column{Type: column.Type{Kind: column.Integer}}
	}
	if len(v.File.Int) < n || v.File.Int[0] != at {
		v.File.Resize(n)
		for i := range n {
			v.File.Null[i], v.File.Int[i] = false, at
		}
	}
}

// met returns the place of a file.
func (t *ties) met(file string) int32 {
	n := len(t.names)
	if n > 0 && t.names[n-1] == file {
		return int32(n - 1)
	}
	if k := slices.Index(t.names, file); k >= 0 {
		return int32(k)
	}
	rank, ok := t.numbers[ledger.Uncompressed(file)]
	if !ok {
		rank = news + int64(n)
	}
	t.names, t.ranks = append(t.names, file), append(t.ranks, rank)
	return int32(n)
}

// fileOf returns the place of the file that row i is of.
func (v *Delivery) fileOf(i int) int32 {
	if v.File == nil { // of a dimension without ties
		return 0
	}
	return int32(v.File.Int[i])
}

// repeated notes that row i says what is known of a member: should that lose to another row, so does this one.
func (f *Feed) repeated(v *Delivery, i int, m int32) {
	if f.ties == nil {
		return
	}
	p, at := f.x.Member(m), history.TimingOf(v.Effective, v.Sequence, i)
	if _, sequence := p.Observed(at.Effective); at.Sequence != sequence {
		return
	}
	once := history.Repeated{File: v.fileOf(i), Times: 1}
	if f.saidIn != nil {
		s := f.saidIn[moment{m, at.Effective}]
		s.Add(once, f.ties.ranks)
		f.saidIn[moment{m, at.Effective}] = s
	} else if s := p.RepeatedAt(at.Effective); s != nil {
		s.Add(once, f.ties.ranks)
	}
}

// tiedRow is the digest of a row that took part in a tie: of values in the order of a feed's layout.
func (f *Feed) tiedRow(values []*column.Column, i int, at history.Timing, on int64, observable bool) tied {
	l := &f.layout
	b := digest.AppendRow(nil, values[:l.Natural], i)
	b = digest.AppendRow(b, values[l.Type2:], i)
	b = binary.AppendVarint(binary.AppendVarint(binary.AppendVarint(b, at.Effective), at.Sequence), on)
	t := tied{row: hashText(b)}
	if observable {
		b = digest.AppendRow(digest.AppendRow(b[:0], values[l.Type1:l.Type0], i), values[l.Type3:l.Type2], i)
		t.other = hashText(b)
	}
	return t
}

func hashText(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:16])
}

// lostBefore reports whether a row is one of those that the ledger has as lost, which are as many as there were then.
func (f *Feed) lostBefore(o int32) bool {
	s := &f.seen[o]
	id := f.tiedRow(column.Pointers(f.kept.Cols), int(o), s.Timing, s.Delivered, true)
	for _, id := range []tied{id, {id.row, ""}} {
		l, ok := f.ties.before[id]
		if again := f.relost[id]; ok && f.ties.ranks[s.file] <= l.File && again.Times < l.Times {
			f.relose(id, ledger.Lost{File: f.ties.ranks[s.file], Times: 1})
			return true
		}
	}
	return false
}

// lose notes that a row of this load has lost to another of its time.
func (f *Feed) lose(o int32) {
	if f.ties == nil {
		return
	}
	s := &f.seen[o]
	f.loses(f.tiedRow(column.Pointers(f.kept.Cols), int(o), s.Timing, s.Delivered, true), s.file, 1)
}

func (f *Feed) loses(id tied, file int32, times int64) {
	f.adopt(id, ledger.Lost{File: f.ties.ranks[file], Times: times})
}

// adopt adds rows that have lost to those that are known of this load; their files are ranks as yet.
func (f *Feed) adopt(id tied, more ledger.Lost) { addLost(&f.losers, id, more) }

// relose adds rows that have lost in an earlier load and are still there.
func (f *Feed) relose(id tied, more ledger.Lost) { addLost(&f.relost, id, more) }

func addLost(to *map[tied]ledger.Lost, id tied, more ledger.Lost) {
	if *to == nil {
		*to = map[tied]ledger.Lost{}
	}
	l := (*to)[id]
	(*to)[id] = ledger.Lost{Row: id.row, Other: id.other, File: max(l.File, more.File), Times: l.Times + more.Times}
}

// losesKnown notes that a known observation has lost while its row was still there.
func (c *change) losesKnown(o *outcome, p *history.Member) {
	for _, l := range o.lost {
		at, ok := c.standing[p.Versions[l.Version].Key]
		if !ok {
			continue
		}
		times := int64(l.repeated.Times)
		if times == history.ManyTimes {
			times = 1 << 40
		}
		values := column.Pointers(c.stood.Cols[1:c.previous])
		c.f.loses(c.f.tiedRow(values, at, l.Timing, 0, l.Effective == p.Latest()), l.repeated.File, times)
	}
}

// KnownLost reports whether what was known of a member has lost to a row of this load, of the same time. Then all rows
// that say it have lost, those of files too that were not read.
func (f *Feed) KnownLost() bool { return f.ties != nil && f.ties.known }

// KeepTies writes down which rows have lost, and forgets those that their files no longer have: a row that comes back
// into its file is news. files are all that the step reads, and number finds their numbers.
func (f *Feed) KeepTies(
	ctx context.Context,
	tx warehouse.Tx,
	files []string,
	number func(files []string) (map[string]int64, error),
) error {
	if f.ties == nil {
		return nil
	}
	fresh, changed, gone := f.lostNow(files)
	if len(fresh)+len(changed)+len(gone) == 0 {
		return nil
	}
	numbers, err := number(files)
	if err != nil {
		return err
	}
	for _, list := range [][]ledger.Lost{fresh, changed} {
		for k := range list {
			if l := &list[k]; l.File >= news {
				l.File = numbers[f.ties.names[l.File-news]]
			}
		}
	}
	return ledger.KeepTies(ctx, tx, f.x.Dimension().Text, fresh, changed, gone, f.run)
}

// lostNow returns the rows that have lost for the first time, those that the ledger has otherwise, and those that it
// must forget.
func (f *Feed) lostNow(files []string) (fresh, changed, gone []ledger.Lost) {
	read := map[int64]bool{}
	for _, name := range files {
		if number, ok := f.ties.numbers[ledger.Uncompressed(name)]; ok {
			read[number] = true
		}
	}
	for id, l := range f.losers {
		was, known := f.ties.before[id]
		if !read[was.File] {
			l.File = max(l.File, was.File)
		}
		if l.Times = max(l.Times, was.Times); !known {
			fresh = append(fresh, l)
		} else if l != was {
			changed = append(changed, l)
		}
	}
	for id, was := range f.ties.before {
		if _, lost := f.losers[id]; lost || !read[was.File] {
			continue
		}
		if again, ok := f.relost[id]; !ok {
			gone = append(gone, was)
		} else if again.File < was.File {
			changed = append(changed, ledger.Lost{Row: was.Row, Other: was.Other, File: again.File, Times: was.Times})
		}
	}
	return fresh, changed, gone
}
