package roster

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/history"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// openLookedUp reads a dimension that somebody else has made. Its versions may leave gaps, in which nothing holds.
func openLookedUp(ctx context.Context, r warehouse.Reader, d *schema.Dimension) (*Roster, error) {
	x := New(d)
	at := 1 + len(d.NaturalKey)
	until := [][]int64{} // of each version of a member
	err := warehouse.Each(
		ctx,
		r,
		warehouse.Query{Table: d.Table.Name, Fields: d.Table.Fields(), Convert: true},
		func(b *column.Batch) error {
			cols := column.Pointers(b.Cols)
		rows:
			for i := range b.N {
				for _, c := range cols[:at] {
					if c.Null[i] {
						continue rows // such as an unknown member
					}
				}
				v, to := history.Version{Key: b.Cols[0].Int[i], From: x.rules.Beginning}, x.rules.End
				if d.Versioned() {
					if from := cols[at]; !from.Null[i] {
						v.From = from.Int[i]
					}
					if end := cols[at+1]; !end.Null[i] {
						to = end.Int[i]
					}
				}
				m, fresh := x.index.Add(cols[1:at], i)
				if fresh {
					x.members, until = append(x.members, history.Member{}), append(until, nil)
				}
				p := &x.members[m]
				same := slices.IndexFunc(p.Versions, func(o history.Version) bool { return o.From == v.From })
				switch {
				case same < 0:
					p.Versions, until[m] = append(p.Versions, v), append(until[m], to)
				case d.LookedUp.Several == "":
					return twice(d, cols[1:at], i)
				case (v.Key < p.Versions[same].Key) == (d.LookedUp.Several == "first"):
					p.Versions[same], until[m][same] = v, to
				}
			}
			return nil
		},
	)
	if err != nil {
		return nil, err
	}
	for m := range x.members {
		x.members[m].Versions = withGaps(x.members[m].Versions, until[m], x.rules.End)
	}
	x.index.Freeze()
	return x, nil
}

func twice(d *schema.Dimension, natural []*column.Column, i int) error {
	s := ""
	for k, c := range natural {
		if k > 0 {
			s += ", "
		}
		s += c.Value(i)
	}
	return fmt.Errorf(
		"table %s has several rows for ‹%s›, and the model says stop: several: first or last takes the one with the least or greatest %s",
		d.Table.Name,
		diag.Clip(diag.Printable(s), 60),
		d.KeyColumn(),
	)
}

// withGaps sorts versions, and puts a gap behind each that ends before the next begins.
func withGaps(versions []history.Version, until []int64, end int64) []history.Version {
	order := make([]int, len(versions))
	for k := range order {
		order[k] = k
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(versions[a].From, versions[b].From) })
	var list []history.Version
	for n, k := range order {
		next := end
		if n+1 < len(order) {
			next = versions[order[n+1]].From
		}
		if list = append(list, versions[k]); until[k] < next {
			list = append(list, history.Version{Key: versions[k].Key, From: max(until[k], versions[k].From), Gap: true})
		}
	}
	return list
}
