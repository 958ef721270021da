package undo

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// Undone is a run that was taken back.
type Undone struct {
	Run    int64    `json:"run"`
	Tables []*Table `json:"tables"`
	Files  []string `json:"files,omitempty"` // that the next load reads again
}

// Table is what was done to a table to take a run back.
type Table struct {
	Name     string `json:"table"`
	TakenOut int64  `json:"taken_out"` // rows that the run had added
	Restored int64  `json:"restored"`  // rows that it had changed
	PutBack  int64  `json:"put_back"`  // rows that it had removed
	Dropped  bool   `json:"dropped,omitempty"`
}

// Run takes runs back, which [Plan] has listed, in the order of the list. Everything is as it was before them, but for
// what the ledger knows of runs and of surrogate keys, which are never assigned again.
func Run(ctx context.Context, tx warehouse.Tx, s *schema.Star, plan []*ledger.Run) ([]*Undone, error) {
	var list []*Undone
	for _, run := range plan {
		entries, err := ledger.BeforeOf(ctx, tx, run.ID)
		if err != nil {
			return nil, err
		}
		u := &undoing{
			ctx:     ctx,
			tx:      tx,
			star:    s,
			tables:  tablesOf(s),
			run:     run.ID,
			entries: entries,
			own:     map[int64]bool{},
			taken:   map[string]map[string]bool{},
		}
		u.out = &Undone{Run: run.ID, Tables: []*Table{}}
		if err := u.all(); err != nil {
			return nil, fmt.Errorf("run %d cannot be taken back: %w", run.ID, err)
		}
		list = append(list, u.out)
		if err := ledger.ForgetBefore(ctx, tx, []int64{run.ID}); err != nil {
			return nil, err
		}
		if err := ledger.MarkUndone(ctx, tx, run.ID); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// undoing is a run that is being taken back.
type undoing struct {
	ctx     context.Context
	tx      warehouse.Tx
	star    *schema.Star
	tables  map[string]*warehouse.Table
	run     int64
	entries []ledger.Before
	out     *Undone
	made    []string
	own     map[int64]bool             // entries of rows that the run itself had added
	taken   map[string]map[string]bool // by table, the keys of rows that were taken out
}

func (u *undoing) all() error {
	for _, e := range u.entries {
		if e.Did == ledger.MadeTable {
			u.made = append(u.made, e.Table)
		}
		if e.Did != ledger.BeganRun && u.tables[e.Table] == nil && !ledger.Untouched(e.Table) {
			return fmt.Errorf("the model has no table %s any more", e.Table)
		}
	}
	was, err := u.gaps()
	if err != nil {
		return err
	}
	if err := u.files(); err != nil {
		return err
	}
	for name, t := range u.tables {
		if !slices.ContainsFunc(u.entries, func(e ledger.Before) bool { return e.Table == name }) {
			continue
		}
		if u.tables[name], err = whole(u.ctx, u.tx, t); err != nil {
			return err
		}
	}
	u.entries = slices.DeleteFunc(u.entries, func(e ledger.Before) bool { return slices.Contains(u.made, e.Table) })
	if err := u.unwrite(); err != nil {
		return err
	}
	if err := u.backwards(); err != nil {
		return err
	}
	if err := u.drop(); err != nil {
		return err
	}
	return u.balance(was)
}

// table returns what is told of a table.
func (u *undoing) table(name string) *Table {
	for _, t := range u.out.Tables {
		if t.Name == name {
			return t
		}
	}
	t := &Table{Name: name}
	if !strings.HasPrefix(name, "load_") {
		u.out.Tables = append(u.out.Tables, t)
	}
	return t
}

// files notes which files the next load reads again.
func (u *undoing) files() error {
	read, err := ledger.FilesReadBy(u.ctx, u.tx, u.run)
	u.out.Files = read
	for _, e := range u.entries {
		if file := ledger.ReadFileOf(e); file != "" && !slices.Contains(u.out.Files, file) {
			u.out.Files = append(u.out.Files, file)
		}
	}
	slices.Sort(u.out.Files)
	return err
}

// unwrite removes the rows that the run has added to tables whose rows say which run wrote them: all that it wrote
// last, but those that were there before and that it changed.
func (u *undoing) unwrite() error {
	there := map[string]map[string]bool{} // by table, the keys of rows that were there before
	var names []string
	for i := range u.entries {
		e := &u.entries[i]
		t := u.tables[e.Table]
		if t == nil || !stamped(t) {
			continue
		}
		if there[e.Table] == nil {
			there[e.Table] = map[string]bool{}
			names = append(names, e.Table)
		}
		if e.Did == ledger.WroteRows {
			continue
		}
		row, err := rowOf(t, e)
		if err != nil {
			return err
		}
		was := ledger.RowText(identity(t), pick(identity(t), t.Fields(), column.Pointers(row.Cols)), 0)
		run := row.Cols[column.Find(t.Fields(), schema.LoadRun)].Int[0]
		before := run != u.run || there[e.Table][was]
		if delete(there[e.Table], was); before && e.Did == ledger.ChangedRow {
			there[e.Table][e.Key] = true
		}
		if !before {
			u.own[e.Number] = true
		}
	}
	for _, name := range names {
		if err := u.unwriteTable(u.tables[name], there[name]); err != nil {
			return err
		}
	}
	return nil
}

func (u *undoing) unwriteTable(t *warehouse.Table, there map[string]bool) error {
	key := identity(t)
	run := column.Field{Name: schema.LoadRun, Type: column.Type{Kind: column.Integer}}
	ask := column.NewBatch([]column.Field{run})
	ask.Cols[0].AppendInt(u.run)
	ask.N = 1
	rows, taken := column.NewBatch(key), map[string]bool{}
	removes := slices.ContainsFunc(u.entries, func(e ledger.Before) bool {
		return e.Table == t.Name && e.Did == ledger.RemovedRow
	})
	u.taken[t.Name] = taken
	q := warehouse.Query{Table: t.Name, Fields: key, By: []string{run.Name}, Match: column.Pointers(ask.Cols)}
	err := warehouse.Each(u.ctx, u.tx, q, func(b *column.Batch) error {
		cols := column.Pointers(b.Cols)
		for i := range b.N {
			if there[ledger.RowText(key, cols, i)] {
				continue
			}
			appendRow(rows, cols, i)
			if removes {
				taken[ledger.RowText(key, cols, i)] = true
			}
		}
		return nil
	})
	if err != nil || rows.N == 0 {
		return err
	}
	if err := u.unreferenced(t.Name, rows); err != nil {
		return err
	}
	by, what := key, rows
	if len(there) == 0 { // all at once
		by, what = []column.Field{run}, ask
	}
	n, err := u.tx.Remove(u.ctx, t.Name, by, what)
	if err == nil && n != int64(rows.N) {
		err = fmt.Errorf("%d rows of %s are of the run, and %d were removed", rows.N, t.Name, n)
	}
	u.table(t.Name).TakenOut += n
	return err
}

// unreferenced refuses to remove members of a table to which tables of other models point: those with some keys, or all
// if that is nil.
func (u *undoing) unreferenced(table string, keys *column.Batch) error {
	refs, err := ledger.References(u.ctx, u.tx, table)
	if err != nil {
		return err
	}
	for _, ref := range refs {
		if u.tables[ref.Table] != nil {
			continue
		}
		if there, err := u.tx.Describe(u.ctx, ref.Table); err != nil {
			return err
		} else if !there.Has(ref.Key) {
			continue
		}
		fields := []column.Field{{Name: ref.Key, Type: column.Type{Kind: column.Integer}}}
		q := warehouse.Query{Table: ref.Table, Fields: fields, Limit: 1}
		if keys != nil {
			q.By, q.Match = []string{ref.Key}, column.Pointers(keys.Cols[:1])
		}
		b, err := warehouse.ReadAll(u.ctx, u.tx, q)
		if err != nil {
			return err
		}
		if b.N > 0 {
			return fmt.Errorf("%s, which another model loads, points to members of %s that it made", ref.Table, table)
		}
	}
	return nil
}

// backwards takes the entries back, the latest first; entries of one table that follow each other and are alike at
// once.
func (u *undoing) backwards() error {
	for to := len(u.entries); to > 0; {
		e := u.entries[to-1]
		from := to - 1
		for from > 0 && u.entries[from-1].Table == e.Table && u.entries[from-1].Did == e.Did {
			from--
		}
		t := u.tables[e.Table]
		var err error
		switch {
		case t == nil:
		case e.Did == ledger.ChangedRow:
			err = u.change(t, u.entries[from:to])
		case e.Did == ledger.RemovedRow:
			err = u.putBack(t, u.entries[from:to])
		case e.Did == ledger.AddedRow:
			err = u.takeOut(t, u.entries[from:to])
		case e.Did == ledger.FilledTable:
			err = u.empty(t)
		}
		if err != nil {
			return err
		}
		to = from
	}
	return nil
}

// drop removes the tables that the run made, the last first, with their views.
func (u *undoing) drop() error {
	for _, name := range slices.Backward(u.made) {
		if err := u.unreferenced(name, nil); err != nil {
			return err
		}
		for _, d := range u.star.Dimensions {
			for _, v := range d.Views {
				if v.Of != name && v.Also != name {
					continue
				}
				if err := u.tx.DropView(u.ctx, v.Name); err != nil {
					return err
				}
			}
		}
		if err := u.tx.Drop(u.ctx, name); err != nil {
			return err
		}
		u.table(name).Dropped = true
	}
	return nil
}
