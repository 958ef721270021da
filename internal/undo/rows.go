package undo

import (
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// rowOf returns the row of an entry.
func rowOf(t *warehouse.Table, e *ledger.Before) (*column.Batch, error) {
	row := column.NewBatch(t.Fields())
	return row, ledger.AppendRowText(row, t.Fields(), e.Row)
}

// change restores the values of rows. Of a row that was changed several times, the first entry counts, so the latest
// are taken first, each in a statement of its own.
func (u *undoing) change(t *warehouse.Table, entries []ledger.Before) error {
	for len(entries) > 0 {
		seen := map[string]bool{}
		from := len(entries)
		for from > 0 && !seen[entries[from-1].Key] {
			from--
			seen[entries[from].Key] = true
		}
		if err := u.changeOnce(t, entries[from:]); err != nil {
			return err
		}
		entries = entries[:from]
	}
	return nil
}

func (u *undoing) changeOnce(t *warehouse.Table, entries []ledger.Before) error {
	key := identity(t)
	var rest []column.Field
	for _, f := range t.Fields() {
		if column.Find(key, f.Name) < 0 {
			rest = append(rest, f)
		}
	}
	set, moved, old := column.NewBatch(
		append(slices.Clone(key), rest...),
	), column.NewBatch(
		key,
	), column.NewBatch(
		t.Fields(),
	)
	for i := range entries {
		if u.own[entries[i].Number] {
			continue
		}
		row, err := rowOf(t, &entries[i])
		if err != nil {
			return err
		}
		cols := column.Pointers(row.Cols)
		if len(rest) > 0 && ledger.RowText(key, pick(key, t.Fields(), cols), 0) == entries[i].Key {
			appendRow(set, pick(append(slices.Clone(key), rest...), t.Fields(), cols), 0)
			continue
		}
		if err := ledger.AppendRowText(moved, key, entries[i].Key); err != nil {
			return err
		}
		appendRow(old, cols, 0)
	}
	if set.N > 0 {
		n, err := u.tx.Amend(u.ctx, t.Name, len(key), append(slices.Clone(key), rest...), set)
		if err != nil {
			return err
		}
		if n != int64(set.N) {
			return fmt.Errorf("%d rows of %s were changed, and %d of them are there", set.N, t.Name, n)
		}
	}
	u.table(t.Name).Restored += int64(set.N + old.N)
	if old.N == 0 {
		return nil
	}
	if err := u.remove(t, moved); err != nil {
		return err
	}
	return warehouse.AppendAll(u.ctx, u.tx, t, old)
}

// appendRow adds row i of some columns to a batch of the same, with texts of its own.
func appendRow(b *column.Batch, cols []*column.Column, i int) {
	for k := range b.Cols {
		b.Cols[k].AppendOwn(cols[k], i)
	}
	b.N++
}

// putBack adds rows again that were removed. A row that was removed so that another could take its place is restored.
func (u *undoing) putBack(t *warehouse.Table, entries []ledger.Before) error {
	rows := column.NewBatch(t.Fields())
	for i := range entries {
		if u.own[entries[i].Number] {
			continue
		}
		row, err := rowOf(t, &entries[i])
		if err != nil {
			return err
		}
		cols := column.Pointers(row.Cols)
		appendRow(rows, cols, 0)
		key := identity(t)
		if told := u.table(t.Name); u.taken[t.Name][ledger.RowText(key, pick(key, t.Fields(), cols), 0)] {
			told.Restored++
			told.TakenOut--
		} else {
			told.PutBack++
		}
	}
	return warehouse.AppendAll(u.ctx, u.tx, t, rows)
}

// takeOut removes rows that were added.
func (u *undoing) takeOut(t *warehouse.Table, entries []ledger.Before) error {
	rows := column.NewBatch(identity(t))
	all := t.Fields()
	for i := range entries {
		row, err := rowOf(t, &entries[i])
		if err != nil {
			return err
		}
		appendRow(rows, pick(identity(t), all, column.Pointers(row.Cols)), 0)
	}
	u.table(t.Name).TakenOut += int64(rows.N)
	return u.remove(t, rows)
}

// narrow returns the place of a column of a table that is never null, and by which few rows are found.
func narrow(t *warehouse.Table) int {
	if at := column.Find(t.Fields(), schema.LoadLine); at >= 0 {
		return at
	}
	return max(slices.IndexFunc(t.Columns, func(c warehouse.Column) bool { return c.NotNull }), 0)
}

// remove removes rows by what identifies them. A table whose rows nothing identifies may have one several times, and
// nulls in them: of those that have the same value in one column as one of the rows, the others are added again.
func (u *undoing) remove(t *warehouse.Table, rows *column.Batch) error {
	key := identity(t)
	if len(t.Primary) > 0 {
		n, err := u.tx.Remove(u.ctx, t.Name, key, rows)
		if err == nil && n != int64(rows.N) {
			err = fmt.Errorf("%d rows of %s are to be removed, and %d were found", rows.N, t.Name, n)
		}
		return err
	}
	away := map[string]int{}
	at := narrow(t)
	by := key[at : at+1]
	cols := column.Pointers(rows.Cols)
	found, seen := column.NewBatch(by), map[string]bool{}
	for i := range rows.N {
		away[ledger.RowText(key, cols, i)]++
		if v := cols[at].Value(i); !seen[v] {
			seen[v] = true
			appendRow(found, cols[at:at+1], i)
		}
	}
	q := warehouse.Query{Table: t.Name, Fields: key, By: column.Names(by), Match: column.Pointers(found.Cols)}
	there, err := warehouse.ReadAll(u.ctx, u.tx, q)
	if err != nil {
		return err
	}
	left := column.NewBatch(key)
	for i := range there.N {
		cols := column.Pointers(there.Cols)
		if s := ledger.RowText(key, cols, i); away[s] > 0 {
			away[s]--
			continue
		}
		appendRow(left, cols, i)
	}
	for s, n := range away {
		if n > 0 {
			return fmt.Errorf("a row of %s is not there any more: %s", t.Name, s)
		}
	}
	if _, err := u.tx.Remove(u.ctx, t.Name, by, found); err != nil {
		return err
	}
	return warehouse.AppendAll(u.ctx, u.tx, t, left)
}

// empty removes all rows of a table.
func (u *undoing) empty(t *warehouse.Table) error {
	rows, err := warehouse.ReadAll(u.ctx, u.tx, warehouse.Query{Table: t.Name, Fields: identity(t)})
	if err != nil || rows.N == 0 {
		return err
	}
	u.table(t.Name).TakenOut += int64(rows.N)
	return u.remove(t, rows)
}
