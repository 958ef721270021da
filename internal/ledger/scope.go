package ledger

import (
	"context"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// LastDelivered is in which scope a member was delivered last, and when.
type LastDelivered struct {
	Scope string
	On    int64 // in microseconds
}

// Scopes returns when the members of a dimension were delivered last, by their natural keys as [MemberText] has
// them, for dimensions whose rows do not tell.
func Scopes(ctx context.Context, r warehouse.Reader, dimension string) (map[string]LastDelivered, error) {
	match := column.Column{Type: text}
	match.AppendText(dimension)
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{
			Table:  scopeTable.Name,
			Fields: pick(scopeTable, "member", "scope", "delivered_on"),
			By:     []string{"dimension"},
			Match:  []*column.Column{&match},
		},
	)
	if err != nil {
		return nil, err
	}
	scopes := make(map[string]LastDelivered, b.N)
	for i, member := range b.Cols[0].Text {
		scopes[member] = LastDelivered{b.Cols[1].Text[i], b.Cols[2].Int[i]}
	}
	return scopes, nil
}

// KeepScopes writes down what is other than before.
func KeepScopes(ctx context.Context, tx warehouse.Tx, dimension string, before, now map[string]LastDelivered) error {
	fresh, changed := column.NewBatch(scopeTable.Fields()), column.NewBatch(scopeTable.Fields())
	for member, last := range now {
		was, known := before[member]
		if !known {
			row(fresh, dimension, member, last.Scope, last.On)
		} else if was != last {
			row(changed, dimension, member, last.Scope, last.On)
		}
	}
	if changed.N > 0 {
		if _, err := tx.Amend(ctx, scopeTable.Name, 2, scopeTable.Fields(), changed); err != nil {
			return err
		}
	}
	return warehouse.AppendAll(ctx, tx, scopeTable, fresh)
}
