package prove

import (
	"fmt"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// hierarchy proves parents, levels and the closure of a dimension, a step at a time: a parent is the member whose
// natural key the row names, stands a level higher, and what stands above it stands above the member too.
func (p *proof) hierarchy(d *schema.Dimension) (exam, func() error) {
	c := p.check(
		"hierarchy",
		d.Table.Name,
		"each member has the parent and the level that follow from its row, and the closure table is complete",
		"load the dimension again, which computes the hierarchy",
	)
	fields := d.Table.Fields()
	find := func(list []column.Field) (at []int) {
		for _, f := range list {
			at = append(at, column.Find(fields, f.Name))
		}
		return at
	}
	natural, above := find(d.NaturalKey), find(d.Above)
	id := column.Find(fields, d.MemberColumn())
	parent := column.Find(fields, d.Parent.Name)
	level := column.Find(fields, d.Level.Name)
	current := column.Find(fields, schema.IsCurrent)
	type member struct {
		id, parent, level int64
		root              bool
		says              digest.Sum
		names             bool
		count             int64
	}
	members := map[int64]*member{}
	byName := map[digest.Sum]int64{}
	var digest digest.Maker
	look := func(b *column.Batch) {
		for i := range b.N {
			if special(b, i) || current >= 0 && b.Cols[current].Int[i] == 0 {
				continue
			}
			m := &member{
				id:     b.Cols[id].Int[i],
				parent: b.Cols[parent].Int[i],
				level:  b.Cols[level].Int[i],
				root:   b.Cols[parent].Null[i],
				names:  true,
			}
			for _, k := range above {
				m.names = m.names && !b.Cols[k].Null[i]
			}
			m.says = digest.Of(b.Pick(above), i)
			byName[digest.Of(b.Pick(natural), i)] = m.id
			members[m.id] = m
		}
	}
	against := func(id int64, what string, args ...any) {
		c.against(func() Example {
			return Example{Row: fmt.Sprintf("%s %d", d.MemberColumn(), id), What: fmt.Sprintf(what, args...)}
		})
	}
	end := func() {
		for _, m := range members {
			want, there := byName[m.says]
			switch {
			case !m.names && !m.root:
				against(m.id, "%s is %d, and the row names no parent", d.Parent.Name, m.parent)
			case m.names && there && (m.root || m.parent != want), m.names && !there && m.parent != star.Unknown.Key:
				against(m.id, "%s is not the key of the parent that the row names", d.Parent.Name)
			}
			higher := int64(0)
			if up := members[m.parent]; up != nil && !m.root {
				higher = up.level
			}
			if m.level != higher+1 {
				against(m.id, "%s is %d, and its parent's is %d", d.Level.Name, m.level, higher)
			}
		}
	}
	closure := func() error {
		pairs := map[[2]int64]int64{}
		err := p.scan(d.Closure, nil, []exam{{c, func(b *column.Batch) {
			for i := range b.N {
				pairs[[2]int64{b.Cols[0].Int[i], b.Cols[1].Int[i]}] = b.Cols[2].Int[i]
			}
		}, nil}})
		for pair, distance := range pairs {
			m := members[pair[1]]
			switch {
			case m == nil && pair[1] >= 0:
				against(pair[1], "it is in %s, and is not a member", d.Closure.Name)
			case (distance == 0) != (pair[0] == pair[1]):
				against(pair[1], "%d stands %d above it in %s", pair[0], distance, d.Closure.Name)
			case m != nil && distance > 0:
				up, ok := pairs[[2]int64{pair[0], m.parent}]
				if !ok || m.root || up != distance-1 {
					against(
						pair[1],
						"%d stands %d above it in %s, and not %d above its parent",
						pair[0],
						distance,
						d.Closure.Name,
						distance-1,
					)
				}
			}
			if m != nil {
				m.count++
			}
		}
		for _, m := range members {
			if m.count != m.level {
				against(m.id, "%d rows of %s, and its level is %d", m.count, d.Closure.Name, m.level)
			}
		}
		return err
	}
	return exam{c, look, end}, closure
}
