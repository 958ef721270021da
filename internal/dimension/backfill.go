package dimension

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/history"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// backfill returns what a member is told to be in a type 2 attribute that was added to the model: on all its versions,
// which then are as if it had always been known (rule R15). That is for members that were written before the attribute
// was there, and that nobody has told of since. It gives nil if there is nothing to write.
func (f *Feed) backfill(ctx context.Context, tx warehouse.Reader) (*revision, error) {
	d, l := f.x.Dimension(), &f.layout
	if !d.Versioned() {
		return nil, nil
	}
	columns, err := ledger.AddedTo(ctx, tx, d.Table.Name)
	if err != nil {
		return nil, err
	}
	added := map[int]int64{} // by place among the type 2 attributes, the run
	for k, field := range l.Fields[l.Type2:] {
		if run, ok := columns[field.Name]; ok {
			added[k] = run
		}
	}
	if len(added) == 0 {
		return nil, nil
	}
	keys := column.Column{Type: column.Type{Kind: column.Integer}}
	type place struct {
		member  int32
		version int
	}
	at := map[int64]place{}
	for _, m := range f.touched {
		for k, v := range f.before(m).Versions {
			if !v.Inferred {
				at[v.Key] = place{m, k}
				keys.AppendInt(v.Key)
			}
		}
	}
	fields := append(d.Table.Fields()[:1:1], l.Fields[l.Type2:]...)
	fields = append(fields, column.Field{Name: schema.LoadRun, Type: keys.Type})
	b, err := warehouse.ReadAll(
		ctx,
		tx,
		warehouse.Query{
			Table:  d.Table.Name,
			Fields: fields,
			By:     []string{d.KeyColumn()},
			Match:  []*column.Column{&keys},
		},
	)
	if err != nil {
		return nil, err
	}
	last := len(fields) - 1
	told := map[int32]map[int]bool{} // members that are known in an attribute that was added
	for i := range b.N {
		m := at[b.Cols[0].Int[i]].member
		for k, run := range added {
			if !b.Cols[1+k].Null[i] || b.Cols[last].Int[i] >= run {
				if told[m] == nil {
					told[m] = map[int]bool{}
				}
				told[m][k] = true
			}
		}
	}
	filled := column.NewBatch(fields)
	var digest digest.Maker
	for i := range b.N {
		p := at[b.Cols[0].Int[i]]
		list := f.observations(p.member)
		latest, changed := list[len(list)-1].Number, false
		row := filled.N
		for k := range filled.Cols {
			from, n := &b.Cols[k], i
			if _, is := added[k-1]; is && k > 0 && k < last && !told[p.member][k-1] && f.seen[latest].Mark == history.Row &&
				!f.kept.Cols[l.Type2+k-1].Null[latest] {
				from, n, changed = &f.kept.Cols[l.Type2+k-1], int(latest), true
			}
			filled.Cols[k].Append(from, n)
		}
		if !changed {
			for k := range filled.Cols {
				filled.Cols[k].Truncate(row)
			}
			continue
		}
		filled.N++
		filled.Cols[last].Int[row] = f.run
		f.x.Member(p.member).Versions[p.version].Type2 = digest.Of(column.Pointers(filled.Cols)[1:last], row)
	}
	if filled.N == 0 {
		return nil, nil
	}
	return &revision{fields, filled}, nil
}
