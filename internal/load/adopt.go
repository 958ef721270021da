package load

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/keyindex"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// adopt fills a dimension's table, which has just been made, with the members of a table that stood before, under
// their keys. They are as if they had always been so, or since when that table says.
func (w *dimensionStep) adopt(ctx context.Context) error {
	d, of := w.dimension, w.dimension.Adopts
	there, err := w.tx.Describe(ctx, of.Table)
	if err != nil {
		return err
	}
	if there == nil {
		return fmt.Errorf("there is no table %s in the warehouse to adopt", of.Table)
	}
	integer := column.Type{Kind: column.Integer}
	fields := append([]column.Field{{Name: of.Key, Type: integer}}, d.NaturalKey...)
	for _, f := range d.Attributes() {
		if there.Has(f.Name) {
			fields = append(fields, f)
		}
	}
	since := -1
	if of.ValidFrom != "" {
		since, fields = len(fields), append(fields, column.Field{Name: of.ValidFrom, Type: d.Time})
	}
	for _, f := range fields {
		if !there.Has(f.Name) {
			return fmt.Errorf("table %s, which is to be adopted, has no column %s", of.Table, f.Name)
		}
	}
	old, err := warehouse.ReadAll(
		ctx,
		w.tx,
		warehouse.Query{Table: of.Table, Fields: fields, Convert: true, OrderBy: []string{of.Key}},
	)
	if err != nil {
		return err
	}
	beginning, end := schema.Bounds(d.Time)
	from := func(i int) int64 {
		if since < 0 || old.Cols[since].Null[i] {
			return beginning
		}
		return old.Cols[since].Int[i]
	}
	types := make([]column.Type, len(d.NaturalKey))
	natural := make([]*column.Column, len(d.NaturalKey))
	for k, f := range d.NaturalKey {
		types[k], natural[k] = f.Type, &old.Cols[1+k]
	}
	index := keyindex.New(types)
	var members [][]int
rows:
	for i := range old.N {
		for _, c := range natural {
			if c.Null[i] {
				continue rows // an unknown member or the like: there are our own
			}
		}
		if old.Cols[0].Null[i] || old.Cols[0].Int[i] <= 0 {
			return fmt.Errorf("table %s has a member whose %s is not above 0: keys below are those of special members", of.Table, of.Key)
		}
		m, fresh := index.Add(natural, i)
		if fresh {
			members = append(members, nil)
		}
		members[m] = append(members[m], i)
	}
	b := column.NewBatch(d.Table.Fields())
	for _, versions := range members {
		slices.SortStableFunc(versions, func(x, y int) int { return cmp.Compare(from(x), from(y)) })
		first := slices.MinFunc(
			versions,
			func(x, y int) int { return cmp.Compare(old.Cols[0].Int[x], old.Cols[0].Int[y]) },
		)
		for n, i := range versions {
			to, last := end, n+1 == len(versions)
			if !last {
				to = from(versions[n+1])
			}
			if to <= from(i) || !last && !d.Versioned() {
				return fmt.Errorf(
					"table %s has several rows for one natural key at one time, with %s %d and %d",
					of.Table,
					of.Key,
					old.Cols[0].Int[versions[max(0, n-1)]],
					old.Cols[0].Int[versions[min(n+1, len(versions)-1)]],
				)
			}
			starts := from(i)
			if n == 0 && d.FromStart {
				starts = beginning
			}
			r := schema.Row{
				Key:     old.Cols[0].Int[i],
				Durable: old.Cols[0].Int[first],
				From:    starts,
				To:      to,
				Current: last,
				Run:     w.entry.ID,
			}
			if since := from(i); d.Timed() {
				r.Effective = &since
			}
			d.AppendRow(b, &r, adopted{d, fields, old, i})
		}
	}
	w.figures.Adopted = int64(b.N)
	return warehouse.AppendAll(ctx, w.tx, d.Table, b)
}

// adopted is the values of a member of a table that is adopted.
type adopted struct {
	dim    *schema.Dimension
	fields []column.Field // of old
	old    *column.Batch
	row    int
}

func (a adopted) Append(c *column.Column, at int, _ schema.Role) {
	name := a.dim.Table.Columns[at].Name
	unknown, outrigger := a.dim.UnknownKey(name)
	switch k := column.Find(a.fields, name); {
	case k > 0:
		c.Append(&a.old.Cols[k], a.row)
	case outrigger:
		c.AppendInt(unknown)
	default:
		c.AppendNull()
	}
}
