package ledger

import (
	"context"
	"encoding/json"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// Kept returns the rows of a source that wait from earlier loads and were kept whole. They can be read again without
// their files.
func (a *Asides) Kept(source string) ([]Aside, error) {
	fields := pick(asideTable, "id", "file", "line", "content", "reasons")
	b, err := a.entries([]string{"state", "source", "whole"}, fields, func(by []*column.Column) {
		by[1].AppendText(Waiting)
		by[2].AppendText(source)
		by[3].AppendInt(1)
	})
	if err != nil {
		return nil, err
	}
	list := make([]Aside, b.N)
	for i := range list {
		list[i] = Aside{
			ID:      b.Cols[0].Int[i],
			File:    b.Cols[1].Text[i],
			Line:    b.Cols[2].Int[i],
			Content: b.Cols[3].Text[i],
			Causes:  []Cause{{Reason: b.Cols[4].Text[i]}},
		}
	}
	return list, nil
}

// WaitingOf returns how many rows wait of each file.
func (a *Asides) WaitingOf() map[string]int {
	n := map[string]int{}
	for _, w := range a.waiting {
		n[w.file]++
	}
	return n
}

// Try notes that rows of [Asides.Kept] are read: those that are not set aside again are not waiting any more.
func (a *Asides) Try(ids map[int64]bool) {
	for _, w := range a.waiting {
		w.tried = w.tried || ids[w.id]
	}
}

// Heads returns the first records of files of which rows were set aside, by the names of the files.
func Heads(ctx context.Context, r warehouse.Reader) (map[string][]string, error) {
	b, err := warehouse.ReadAll(ctx, r, warehouse.Query{Table: fileTable.Name, Fields: pick(fileTable, "name", "head")})
	if err != nil {
		return nil, err
	}
	heads := map[string][]string{}
	for i := range b.N {
		var head []string
		if b.Cols[1].Null[i] {
			continue
		}
		if err := json.Unmarshal([]byte(b.Cols[1].Text[i]), &head); err != nil {
			return nil, err
		}
		heads[b.Cols[0].Text[i]] = head
	}
	return heads, nil
}

// KeepHeads writes down the first records of files, where they are others than before.
func KeepHeads(ctx context.Context, tx warehouse.Tx, heads map[string][]string) error {
	if len(heads) == 0 {
		return nil
	}
	b, err := warehouse.ReadAll(ctx, tx, warehouse.Query{Table: fileTable.Name, Fields: pick(fileTable, "file", "name", "head")})
	if err != nil {
		return err
	}
	changed := column.NewBatch(pick(fileTable, "file", "head"))
	for i := range b.N {
		head, ok := heads[b.Cols[1].Text[i]]
		if !ok {
			continue
		}
		text, err := json.Marshal(head)
		if err != nil {
			return err
		}
		if b.Cols[2].Null[i] || b.Cols[2].Text[i] != string(text) {
			row(changed, b.Cols[0].Int[i], string(text))
		}
	}
	if changed.N == 0 {
		return nil
	}
	_, err = tx.Amend(ctx, fileTable.Name, 1, pick(fileTable, "file", "head"), changed)
	return err
}
