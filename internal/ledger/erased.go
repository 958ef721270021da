package ledger

import (
	"context"
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// Erase notes that the member with these keys is to stay blank. Who has the dimension in memory has to read it again.
func Erase(ctx context.Context, tx warehouse.Tx, dimension string, keys []int64) error {
	known, err := Erased(ctx, tx, dimension)
	if err != nil {
		return err
	}
	b := column.NewBatch(erasedTable.Fields())
	for _, key := range keys {
		if !known[key] {
			known[key] = true
			row(b, dimension, key)
		}
	}
	highest, by, err := Highest(ctx, tx, dimension)
	if err != nil {
		return err
	}
	if err := SetHighest(ctx, tx, dimension, highest, fmt.Sprintf("%s, %d erased", by, len(known))); err != nil {
		return err
	}
	return warehouse.AppendAll(ctx, tx, erasedTable, b)
}

// Erased returns keys of the members of a dimension that are to stay blank: for each member, those that it had then.
func Erased(ctx context.Context, r warehouse.Reader, dimension string) (map[int64]bool, error) {
	match := column.Column{Type: text}
	match.AppendText(dimension)
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{
			Table:  erasedTable.Name,
			Fields: pick(erasedTable, "member_key"),
			By:     []string{"dimension"},
			Match:  []*column.Column{&match},
		},
	)
	if err != nil {
		return nil, err
	}
	keys := map[int64]bool{}
	for _, key := range b.Cols[0].Int {
		keys[key] = true
	}
	return keys, nil
}

// ForgetAsides has forget change the content and causes of rows set aside, of any state, and returns how many it
// changed.
func ForgetAsides(ctx context.Context, tx warehouse.Tx, forget func(a *Aside)) (int64, error) {
	fields := pick(asideTable, "id", "reasons", "content", "member", "whole")
	changed := column.NewBatch(fields)
	old := column.NewBatch(pick(causeTable, "id"))
	causes := column.NewBatch(causeTable.Fields())
	book := &Asides{causes: causes}
	err := EachAside(ctx, tx, "", func(a *Aside, _ int64) error {
		was := *a
		a.Causes = slices.Clone(a.Causes)
		if forget(a); was.Content == a.Content && was.Member == a.Member && slices.Equal(was.Causes, a.Causes) {
			return nil
		}
		row(changed, a.ID, a.Reasons(), a.Content, orNull(a.Member), number(false))
		row(old, a.ID)
		book.because(a.ID, a)
		return nil
	})
	if err != nil || changed.N == 0 {
		return 0, err
	}
	if _, err := tx.Remove(ctx, causeTable.Name, pick(causeTable, "id"), old); err != nil {
		return 0, err
	}
	if err := warehouse.AppendAll(ctx, tx, causeTable, causes); err != nil {
		return 0, err
	}
	return tx.Amend(ctx, asideTable.Name, 1, fields, changed)
}

// ForgetSteps does so to the messages and figures of steps.
func ForgetSteps(ctx context.Context, tx warehouse.Tx, message, figures func(string) string) (int64, error) {
	fields := pick(stepTable, "run", "step", "message", "figures")
	changed := column.NewBatch(fields)
	err := warehouse.Each(
		ctx,
		tx,
		warehouse.Query{Table: stepTable.Name, Fields: fields},
		func(b *column.Batch) error {
			c := b.Cols
			for i := range b.N {
				said, told := message(c[2].Text[i]), figures(c[3].Text[i])
				if said == c[2].Text[i] && told == c[3].Text[i] {
					continue
				}
				var m any
				if !c[2].Null[i] {
					m = said
				}
				row(changed, c[0].Int[i], c[1].Text[i], m, told)
			}
			return nil
		},
	)
	if err != nil || changed.N == 0 {
		return 0, err
	}
	return tx.Amend(ctx, stepTable.Name, 2, fields, changed)
}
