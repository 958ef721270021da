package warehouse

import (
	"context"

	"ironmonger/internal/column"
)

// Partition says that the rows of a table are divided by an integer column that is never null: those of each range of Step
// values stand together, from a multiple of Step on, so that who asks for some ranges reads those alone.
type Partition struct {
	Column string
	Step   int64
}

// Span returns the range that a value of zero and more belongs to: where it begins, and where the next one does.
func (p *Partition) Span(value int64) [2]int64 {
	from := value - value%p.Step
	return [2]int64{from, from + p.Step}
}

// AppendTo adds rows to all columns of a table, whose partitions it has made as they are needed.
func AppendTo(ctx context.Context, tx Tx, t *Table) (Appender, error) {
	a, err := tx.Append(ctx, t.Name, t.Fields())
	if err != nil || t.Partition == nil {
		return a, err
	}
	return &dividing{a, ctx, tx, t, column.Find(t.Fields(), t.Partition.Column), map[int64]bool{}, -1}, nil
}

// dividing makes partitions before rows of them are added.
type dividing struct {
	Appender
	ctx  context.Context
	tx   Tx
	of   *Table
	at   int            // the partition column
	made map[int64]bool // where ranges begin
	last int64          // where the range of the row before begins
}

func (d *dividing) Append(cols []*column.Column, rows []int32) error {
	var more []int64
	for _, i := range rows {
		v := cols[d.at].Int[i]
		if v < 0 {
			continue
		}
		from := d.of.Partition.Span(v)[0]
		if from == d.last {
			continue
		}
		if d.last = from; !d.made[from] {
			d.made[from] = true
			more = append(more, from)
		}
	}
	if more != nil {
		if err := d.tx.Divide(d.ctx, d.of, more); err != nil {
			return err
		}
	}
	return d.Appender.Append(cols, rows)
}
