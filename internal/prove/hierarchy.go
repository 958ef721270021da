package prove

import (
	"fmt"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// hierarchyProof proves parents, levels and the closure of a dimension, a step at a time: a parent is the member whose
// natural key the row names, stands a level higher, and what stands above it stands above the member too.
type hierarchyProof struct {
	*Check
	d       *schema.Dimension
	members map[int64]*child
	byName  map[digest.Sum]int64 // members by natural key
	digest  digest.Maker

	natural, above             []int // columns
	id, parent, level, current int
}

// child is a member as its row has it.
type child struct {
	id, parent, level int64
	root              bool
	says              digest.Sum // of the natural key of the parent that the row names
	names             bool       // it names one
	count             int64      // rows of the closure
}

func (p *proof) hierarchy(d *schema.Dimension) (exam, func() error) {
	fields := d.Table.Fields()
	find := func(list []column.Field) (at []int) {
		for _, f := range list {
			at = append(at, column.Find(fields, f.Name))
		}
		return at
	}
	h := &hierarchyProof{
		Check: p.check(
			"hierarchy",
			d.Table.Name,
			"each member has the parent and the level that follow from its row, and the closure table is complete",
			"load the dimension again, which computes the hierarchy",
		),
		d:       d,
		members: map[int64]*child{},
		byName:  map[digest.Sum]int64{},
		natural: find(d.NaturalKey),
		above:   find(d.Above),
		id:      column.Find(fields, d.MemberColumn()),
		parent:  column.Find(fields, d.Parent.Name),
		level:   column.Find(fields, d.Level.Name),
		current: column.Find(fields, schema.IsCurrent),
	}
	return exam{h.Check, h.look, h.parents}, func() error { return h.closure(p) }
}

// look takes the members of a batch.
func (h *hierarchyProof) look(b *column.Batch) {
	for i := range b.N {
		if special(b, i) || h.current >= 0 && b.Cols[h.current].Int[i] == 0 {
			continue
		}
		m := &child{
			id:     b.Cols[h.id].Int[i],
			parent: b.Cols[h.parent].Int[i],
			level:  b.Cols[h.level].Int[i],
			root:   b.Cols[h.parent].Null[i],
			names:  true,
		}
		for _, k := range h.above {
			m.names = m.names && !b.Cols[k].Null[i]
		}
		m.says = h.digest.Of(b.Pick(h.above), i)
		h.byName[h.digest.Of(b.Pick(h.natural), i)] = m.id
		h.members[m.id] = m
	}
}

func (h *hierarchyProof) fails(id int64, what string, args ...any) {
	h.against(func() Example {
		return Example{Row: fmt.Sprintf("%s %d", h.d.MemberColumn(), id), What: fmt.Sprintf(what, args...)}
	})
}

// parents holds parents and levels against what the rows name.
func (h *hierarchyProof) parents() {
	parent := h.d.Parent.Name
	unknown, _ := h.d.KeyOf(star.Unknown)
	for _, m := range h.members {
		want, there := h.byName[m.says]
		switch {
		case !m.names && !m.root:
			h.fails(m.id, "%s is %d, and the row names no parent", parent, m.parent)
		case m.names && there && (m.root || m.parent != want), m.names && !there && m.parent != unknown:
			h.fails(m.id, "%s is not the key of the parent that the row names", parent)
		}
		higher := int64(0)
		if up := h.members[m.parent]; up != nil && !m.root {
			higher = up.level
		}
		if m.level != higher+1 {
			h.fails(m.id, "%s is %d, and its parent's is %d", h.d.Level.Name, m.level, higher)
		}
	}
}

// closure holds the closure table against parents and levels.
func (h *hierarchyProof) closure(p *proof) error {
	table := h.d.Closure
	pairs := map[[2]int64]int64{}
	err := p.scan(table, nil, []exam{{h.Check, func(b *column.Batch) {
		for i := range b.N {
			pairs[[2]int64{b.Cols[0].Int[i], b.Cols[1].Int[i]}] = b.Cols[2].Int[i]
		}
	}, nil}})
	for pair, distance := range pairs {
		above, id := pair[0], pair[1]
		m := h.members[id]
		switch {
		case m == nil && id >= 0:
			h.fails(id, "it is in %s, and is not a member", table.Name)
		case (distance == 0) != (above == id):
			h.fails(id, "%d stands %d above it in %s", above, distance, table.Name)
		case m != nil && distance > 0:
			if up, ok := pairs[[2]int64{above, m.parent}]; !ok || m.root || up != distance-1 {
				const what = "%d stands %d above it in %s, and not %d above its parent"
				h.fails(id, what, above, distance, table.Name, distance-1)
			}
		}
		if m != nil {
			m.count++
		}
	}
	for _, m := range h.members {
		if m.count != m.level {
			h.fails(m.id, "%d rows of %s, and its level is %d", m.count, table.Name, m.level)
		}
	}
	return err
}
