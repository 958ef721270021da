package schema

import (
	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// Role says what a column of a dimension's table is for.
type Role int

// The roles. Attributes are all types of them, with the columns that stand beside an attribute.
const (
	SurrogateKey Role = iota
	NaturalKey
	DurableKey
	Attribute
	OutriggerKey
	ParentKey
	HierarchyLevel
	EffectiveTime
	EffectiveSequence
	ValidityStart
	ValidityEnd
	CurrentMark
	InferredMark
	GoneMark
	RunMark
)

// add returns the table further columns of a role.
func (d *Dimension) add(role Role, notNull bool, fields ...column.Field) {
	for _, f := range fields {
		d.Table.Columns = append(d.Table.Columns, warehouse.Column{Field: f, NotNull: notNull})
		d.Roles = append(d.Roles, role)
	}
}

// Row is what a row of a dimension has in the columns that are not its source's.
type Row struct {
	Key, Durable        int64
	Effective, Sequence *int64 // nil is null
	From, To            int64  // of the validity
	Current             bool
	Inferred            bool
	Gone                bool
	Run                 int64
}

// Values returns the values of a row's natural key, attributes and keys of other dimensions.
type Values interface {
	// Append adds the value of column at of the table, which has the given role, to c.
	Append(c *column.Column, at int, role Role)
}

// AppendRow adds a row to a batch of the table's columns.
func (d *Dimension) AppendRow(b *column.Batch, r *Row, v Values) {
	for k, role := range d.Roles {
		c := &b.Cols[k]
		switch role {
		case NaturalKey, Attribute, OutriggerKey:
			v.Append(c, k, role)
		case SurrogateKey:
			c.AppendInt(r.Key)
		case DurableKey:
			c.AppendInt(r.Durable)
		case EffectiveTime:
			appendMaybe(c, r.Effective)
		case EffectiveSequence:
			appendMaybe(c, r.Sequence)
		case ValidityStart:
			c.AppendInt(r.From)
		case ValidityEnd:
			c.AppendInt(r.To)
		case CurrentMark:
			c.AppendInt(truth(r.Current))
		case InferredMark:
			c.AppendInt(truth(r.Inferred))
		case GoneMark:
			c.AppendInt(truth(r.Gone))
		case RunMark:
			c.AppendInt(r.Run)
		default: // the hierarchy, which is worked out when all members are there
			c.AppendNull()
		}
	}
	b.N++
}

func appendMaybe(c *column.Column, v *int64) {
	if v == nil {
		c.AppendNull()
	} else {
		c.AppendInt(*v)
	}
}

func truth(b bool) int64 {
	if b {
		return 1
	}
	return 0
}
