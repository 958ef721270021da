package dimension

import (
	"context"
	"slices"
)

// Others are members that somebody else makes of rows of the same source, while a feed takes the rest of them.
type Others interface {
	// Between returns, of the numbers of rows in order, how many versions of the others begin with a row before each, and
	// how many these are in all.
	Between(ctx context.Context, rows []int64) (before []int64, all int64, err error)
}

// Among has new versions numbered together with those of others, in the order of the rows that they begin with (rule R5).
// Each [Delivery] has to say the numbers of its rows.
func (f *Feed) Among(others Others) { f.others = others }

// Keys are the surrogate keys of new versions, by the numbers of the rows that they begin with.
type Keys struct {
	First, Step int64   // of all, those of others among them
	Own         []int64 // the rows that versions of the feed begin with, in order
}

// Keys returns them once the feed has settled.
func (f *Feed) Keys() Keys { return f.among.Keys }

// Wrote counts rows that others have written to the dimension's table.
func (f *Feed) Wrote(rows int64) {
	f.Added, f.changed = f.Added+rows, f.changed || rows > 0
}

// among is the numbering of versions among those of others.
type among struct {
	Keys
	before []int64  // of each row of Own
	known  []latter // versions that begin with what was known, which come last
	all    int64    // that begin with a row
}

// number finds the place of each new version.
func (f *Feed) number(ctx context.Context, c *change) error {
	f.among = &among{}
	n := f.among
	for _, b := range c.beginnings() {
		if b.Start == none {
			n.known = append(n.known, c.latter(b))
		} else {
			n.Own = append(n.Own, f.numbers[b.Start])
		}
	}
	slices.SortFunc(n.known, latter.compare)
	var err error
	if n.before, n.all, err = f.others.Between(ctx, n.Own); err != nil {
		return err
	}
	n.all += int64(len(n.Own))
	if all := n.all + int64(len(n.known)); all > 0 {
		n.First, n.Step = f.keysFor(all), f.x.Dimension().KeyStep
	}
	if f.full {
		return f.noKey()
	}
	f.numbering = n
	return nil
}

func (n *among) key(c *change, b beginning) int64 {
	place := n.all
	if b.Start == none {
		at, _ := slices.BinarySearchFunc(n.known, c.latter(b), latter.compare)
		place += int64(at)
	} else {
		at, _ := slices.BinarySearch(n.Own, c.f.numbers[b.Start])
		place = n.before[at] + int64(at)
	}
	return n.First + place*n.Step
}
