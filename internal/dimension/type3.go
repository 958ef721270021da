package dimension

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/history"
	"ironmonger/internal/warehouse"
)

// value is a value of a column; null if there is not a column.
type value struct {
	col *column.Column
	row int
}

func (v value) equal(o value) bool {
	switch {
	case v.col == nil && o.col == nil:
		return true
	case v.col == nil:
		return o.col.Null[o.row]
	case o.col == nil:
		return v.col.Null[v.row]
	}
	return v.col.Equal(v.row, o.col, o.row)
}

func (v value) appendTo(c *column.Column) {
	if v.col == nil {
		c.AppendNull()
	} else {
		c.Append(v.col, v.row)
	}
}

// lastTwo is what a type 3 attribute is, and what it was before its last change.
type lastTwo struct{ now, before value }

// type3Values works out the type 3 attributes of a member: their last two values in the order of its story (rule R10).
// Without effective times, what stands is what was before.
func (c *change) type3Values(o *outcome) {
	d, f := c.f.x.Dimension(), c.f
	p := f.before(o.member)
	var stood []lastTwo
	if len(p.Versions) > 0 && !p.Versions[0].Inferred {
		at := c.standing[p.Versions[0].Key]
		for a := range d.Type3 {
			stood = append(
				stood,
				lastTwo{value{&c.stood.Cols[1+f.layout.Type3+a], at}, value{&c.stood.Cols[c.previous+a], at}},
			)
		}
	}
	o.type3Differs = stood == nil
	for a := range d.Type3 {
		var is lastTwo
		begun := false
		if stood != nil && d.Observed == nil {
			is, begun = stood[a], true
		}
		for _, s := range o.Story {
			if s.Mark != history.Row {
				continue
			}
			v := value{&f.kept.Cols[f.layout.Type3+a], int(s.Row)}
			if s.Row == none {
				v = value{&c.told.Cols[c.told.from+a], c.told.row[seenOf{p.Versions[s.Version].Key, s.Timing}]}
			}
			if !begun {
				is, begun = lastTwo{now: v}, true
			} else if !v.equal(is.now) {
				is = lastTwo{v, is.now}
			}
		}
		o.type3 = append(o.type3, is)
		o.type3Differs = o.type3Differs || !is.now.equal(stood[a].now) || !is.before.equal(stood[a].before)
	}
}

// seenOf is an observation of a version.
type seenOf struct {
	key int64
	history.Timing
}

// tellings is what was observed of type 3 attributes.
type tellings struct {
	*column.Batch
	from int // where they begin
	row  map[seenOf]int
}

// toldOf reads what was observed of the type 3 attributes of members.
func (f *Feed) toldOf(ctx context.Context, tx warehouse.Tx, keys *column.Column) (tellings, error) {
	d := f.x.Dimension()
	told := tellings{row: map[seenOf]int{}, from: 2}
	if d.Observed == nil || len(d.Type3) == 0 {
		return told, nil
	}
	var sequence *column.Column
	var err error
	told.Batch, err = warehouse.ReadAll(
		ctx,
		tx,
		warehouse.Query{
			Table:  d.Observed.Name,
			Fields: d.Observed.Fields(),
			By:     []string{d.KeyColumn()},
			Match:  []*column.Column{keys},
		},
	)
	if err != nil {
		return told, err
	}
	if d.Sequence != nil {
		sequence, told.from = &told.Cols[2], 3
	}
	for i, key := range told.Cols[0].Int {
		told.row[seenOf{key, history.TimingOf(&told.Cols[1], sequence, i)}] = i
	}
	return told, nil
}
