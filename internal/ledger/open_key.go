package ledger

import (
	"context"
	"encoding/json"
	"fmt"

	"ironmonger/internal/column"
	"ironmonger/internal/parse"
	"ironmonger/internal/warehouse"
)

// OpenKey is a key of a fact whose natural key no member had, so that a rule put a special member or null there. When
// the member comes, the fact points to it (rule R2).
type OpenKey struct {
	Row     []string // what tells the fact from others, as text
	Natural []string // the natural key, as text
	AsOf    *int64   // the time whose version the key points to
}

// OpenKeys returns the open keys of a column of a table.
func OpenKeys(ctx context.Context, r warehouse.Reader, table, key string) ([]OpenKey, error) {
	by := []*column.Column{{Type: text}, {Type: text}}
	by[0].AppendText(table)
	by[1].AppendText(key)
	b, err := warehouse.ReadAll(ctx, r, warehouse.Query{
		Table:  openKeyTable.Name,
		Fields: pick(openKeyTable, "row_id", "natural_key", "as_of"),
		By:     []string{"table_name", "key_column"},
		Match:  by,
	})
	if err != nil {
		return nil, err
	}
	list := make([]OpenKey, b.N)
	for i := range list {
		k := &list[i]
		if err := json.Unmarshal([]byte(b.Cols[0].Text[i]), &k.Row); err == nil {
			err = json.Unmarshal([]byte(b.Cols[1].Text[i]), &k.Natural)
		}
		if err != nil {
			return nil, fmt.Errorf("the ledger's open keys of table %s cannot be read: %v", table, err)
		}
		if !b.Cols[2].Null[i] {
			k.AsOf = &b.Cols[2].Int[i]
		}
	}
	return list, nil
}

// HasOpenKeys reports whether a column of a table has open keys.
func HasOpenKeys(ctx context.Context, r warehouse.Reader, table, key string) (bool, error) {
	by := []*column.Column{{Type: text}, {Type: text}}
	by[0].AppendText(table)
	by[1].AppendText(key)
	b, err := warehouse.ReadAll(ctx, r, warehouse.Query{Table: openKeyTable.Name, Fields: pick(openKeyTable, "run"),
		By: []string{"table_name", "key_column"}, Match: by, Limit: 1})
	return err == nil && b.N > 0, err
}

// OpenNaturals returns the natural keys of open keys by the rows that have them, both as [MemberText] has them.
func OpenNaturals(ctx context.Context, r warehouse.Reader, table, key string, rows []string) (map[string]string, error) {
	by := []*column.Column{{Type: text}, {Type: text}, {Type: text}}
	for _, id := range rows {
		by[0].AppendText(table)
		by[1].AppendText(key)
		by[2].AppendText(id)
	}
	natural := map[string]string{}
	if len(rows) == 0 {
		return natural, nil
	}
	b, err := warehouse.ReadAll(ctx, r, warehouse.Query{
		Table:  openKeyTable.Name,
		Fields: pick(openKeyTable, "row_id", "natural_key"),
		By:     openKeyTable.Primary,
		Match:  by,
	})
	if err != nil {
		return nil, err
	}
	for i := range b.N {
		natural[b.Cols[0].Text[i]] = b.Cols[1].Text[i]
	}
	return natural, nil
}

// KeepOpenKeys writes down open keys of a column of a table. Rows that cannot be told apart and have different natural
// keys are left out: their keys stay as they are.
func KeepOpenKeys(ctx context.Context, tx warehouse.Tx, table, key string, list []OpenKey, run int64) error {
	if err := CloseKeys(ctx, tx, table, key, list); err != nil {
		return err
	}
	b := column.NewBatch(openKeyTable.Fields())
	type said struct{ natural, asOf string }
	known, unlike := map[string]said{}, map[string]bool{}
	says := func(k *OpenKey) said {
		s := said{natural: MemberText(k.Natural)}
		if k.AsOf != nil {
			s.asOf = fmt.Sprint(*k.AsOf)
		}
		return s
	}
	for i := range list {
		id, s := MemberText(list[i].Row), says(&list[i])
		is, ok := known[id]
		unlike[id] = unlike[id] || ok && is != s
		known[id] = s
	}
	for i := range list {
		id := MemberText(list[i].Row)
		s, ok := known[id]
		if !ok || unlike[id] {
			continue
		}
		delete(known, id) // once
		var asOf any
		if list[i].AsOf != nil {
			asOf = *list[i].AsOf
		}
		row(b, table, key, id, s.natural, asOf, run)
	}
	return warehouse.AppendAll(ctx, tx, openKeyTable, b)
}

// CloseKeys forgets open keys.
func CloseKeys(ctx context.Context, tx warehouse.Tx, table, key string, list []OpenKey) error {
	fields := pick(openKeyTable, "table_name", "key_column", "row_id")
	gone := column.NewBatch(fields)
	for _, k := range list {
		row(gone, table, key, MemberText(k.Row))
	}
	if gone.N == 0 {
		return nil
	}
	_, err := tx.Remove(ctx, openKeyTable.Name, fields, gone)
	return err
}

// Append adds a row of texts, as [column.Column.Value] has them, to columns.
func Append(cols []*column.Column, texts []string) error {
	if len(texts) != len(cols) {
		return fmt.Errorf("the ledger has %d values, and %d are needed", len(texts), len(cols))
	}
	rd := parse.NewReader(nil)
	for k, c := range cols {
		i := len(c.Null)
		c.AppendNull()
		if err := rd.Set(c, i, texts[k]); err != nil {
			return fmt.Errorf("the ledger's value %s cannot be read: %v", texts[k], err)
		}
	}
	return nil
}
