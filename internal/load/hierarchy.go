package load

import (
	"context"
	"fmt"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/hierarchy"
	"ironmonger/internal/keyindex"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// node is a member of a hierarchy.
type node struct {
	id     int64   // that its children and the closure table name
	rows   []int64 // the keys of its rows
	was    [2]value
	named  bool // it says who its parent is
	parent int32
}

// value is an integer that may be null.
type value struct {
	v    int64
	null bool
}

// buildHierarchy works out the hierarchy of a dimension from the rows of its table as they now are: each member's
// parent and level, and the closure table. It writes what has changed.
func (w *work) buildHierarchy(ctx context.Context, d *schema.Dimension) error {
	if d.Closure == nil {
		return nil
	}
	nodes, names, err := w.nodes(ctx, d)
	if err != nil {
		return err
	}
	parent := make([]int32, len(nodes))
	for n := range nodes {
		parent[n] = nodes[n].parent
	}
	level, cycle := hierarchy.Levels(parent)
	if cycle != nil {
		var trail []string
		for _, n := range cycle {
			trail = append(trail, "‹"+names[n]+"›")
		}
		return fmt.Errorf(
			"members stand above themselves, so there is no hierarchy: %s; nothing is kept",
			strings.Join(trail[:min(len(trail), 20)], " -> "),
		)
	}
	unknown, _ := d.KeyOf(star.Unknown)
	above := func(n int) value { // the key of its parent
		switch p := nodes[n].parent; {
		case p >= 0:
			return value{v: nodes[p].id}
		case nodes[n].named:
			return value{v: unknown}
		}
		return value{null: true}
	}
	fields := append(
		d.Table.Fields()[:1:1],
		d.Parent,
		d.Level,
		column.Field{Name: schema.LoadRun, Type: d.Level.Type},
	)
	changed := column.NewBatch(fields)
	for n := range nodes {
		is := [2]value{above(n), {v: int64(level[n])}}
		if is == nodes[n].was {
			continue
		}
		for _, row := range nodes[n].rows {
			for k, v := range []value{{v: row}, is[0], is[1], {v: w.entry.ID}} {
				if v.null {
					changed.Cols[k].AppendNull()
				} else {
					changed.Cols[k].AppendInt(v.v)
				}
			}
			changed.N++
		}
	}
	if changed.N > 0 {
		if _, err := w.tx.Amend(ctx, d.Table.Name, 1, fields, changed); err != nil {
			return err
		}
	}
	return w.closure(ctx, d, nodes)
}

// nodes reads the members of the dimension's table, with their natural keys, and finds their parents.
func (w *work) nodes(ctx context.Context, d *schema.Dimension) ([]node, []string, error) {
	natural, above := len(d.NaturalKey), len(d.Above)
	fields := append(d.Table.Fields()[:1:1], d.NaturalKey...)
	fields = append(fields, d.Above...)
	fields = append(fields, d.Parent, d.Level)
	if d.Versioned() {
		fields = append(
			fields,
			column.Field{Name: d.DurableColumn(), Type: d.Level.Type},
			column.Field{Name: schema.IsCurrent, Type: column.Type{Kind: column.Boolean}},
		)
	}
	types := make([]column.Type, natural)
	parents := make([]column.Column, above)
	for k, f := range d.NaturalKey {
		types[k], parents[k].Type = f.Type, f.Type
	}
	index := keyindex.New(types)
	var nodes []node
	var names []string
	err := warehouse.Each(
		ctx,
		w.tx,
		warehouse.Query{Table: d.Table.Name, Fields: fields, OrderBy: []string{d.KeyColumn()}},
		func(b *column.Batch) error {
			cols := column.Pointers(b.Cols)
		rows:
			for i := range b.N {
				for _, c := range cols[1 : 1+natural] {
					if c.Null[i] {
						continue rows // a special member
					}
				}
				n, fresh := index.Add(cols[1:1+natural], i)
				if fresh {
					nodes = append(nodes, node{id: cols[0].Int[i], parent: hierarchy.None})
					var parts []string
					for _, c := range cols[1 : 1+natural] {
						parts = append(parts, c.Value(i))
					}
					names = append(names, diag.Clip(diag.Printable(strings.Join(parts, ", ")), 60))
					for k := range parents {
						parents[k].AppendNull()
					}
				}
				x := &nodes[n]
				x.rows = append(x.rows, cols[0].Int[i])
				at := 1 + natural + above
				x.was = [2]value{{cols[at].Int[i], cols[at].Null[i]}, {cols[at+1].Int[i], cols[at+1].Null[i]}}
				if d.Versioned() {
					x.id = cols[at+2].Int[i]
					if cols[at+3].Int[i] == 0 {
						continue
					}
				}
				for k := range parents {
					parents[k].Set(int(n), cols[1+natural+k], i)
				}
			}
			return nil
		},
	)
	if err != nil {
		return nil, nil, err
	}
	found := make([]int32, len(nodes))
	index.Find(column.Pointers(parents), found)
	for n := range nodes {
		if nodes[n].named = found[n] != keyindex.Missing; found[n] >= 0 {
			nodes[n].parent = found[n]
		} else if nodes[n].named && d.Hierarchy.Unmatched == star.Stop {
			return nil, nil, fmt.Errorf("the parent of ‹%s› is not a member, and the model says stop", names[n])
		}
	}
	return nodes, names, nil
}

// closure brings the closure table to what the nodes say: a row for each pair of a member and one above it, and for
// each member with itself.
func (w *work) closure(ctx context.Context, d *schema.Dimension, nodes []node) error {
	t := d.Closure
	type pair struct{ above, below int64 }
	is := map[pair]int64{}
	for n := range nodes {
		distance := int64(0)
		for at := int32(n); at != hierarchy.None; at = nodes[at].parent {
			is[pair{nodes[at].id, nodes[n].id}] = distance
			distance++
		}
	}
	for _, s := range d.Specials {
		is[pair{s.Key, s.Key}] = 0
	}
	fields := t.Fields()
	gone, fresh := column.NewBatch(fields[:2]), column.NewBatch(fields)
	err := warehouse.Each(ctx, w.tx, warehouse.Query{Table: t.Name, Fields: fields}, func(b *column.Batch) error {
		for i := range b.N {
			p := pair{b.Cols[0].Int[i], b.Cols[1].Int[i]}
			if distance, ok := is[p]; ok && distance == b.Cols[2].Int[i] {
				delete(is, p)
				continue
			}
			gone.Cols[0].AppendInt(p.above)
			gone.Cols[1].AppendInt(p.below)
			gone.N++
		}
		return nil
	})
	if err != nil {
		return err
	}
	if gone.N > 0 {
		if _, err := w.tx.Remove(ctx, t.Name, fields[:2], gone); err != nil {
			return err
		}
	}
	for p, distance := range is {
		fresh.Cols[0].AppendInt(p.above)
		fresh.Cols[1].AppendInt(p.below)
		fresh.Cols[2].AppendInt(distance)
		fresh.N++
	}
	if fresh.N > 0 {
		if err := warehouse.AppendAll(ctx, w.tx, t, fresh); err != nil {
			return err
		}
	}
	return w.tx.Constrain(ctx, t)
}
