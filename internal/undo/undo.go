package undo

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
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

// Plan lists the runs that are to be taken back, the latest first: those of the model from a run on, or the last one if
// that is 0. It refuses what cannot be taken back, with the reason.
func Plan(ctx context.Context, r warehouse.Reader, m *star.Model, from int64) ([]*ledger.Run, error) {
	runs, err := ledger.Runs(ctx, r, 0)
	if err != nil {
		return nil, err
	}
	kept, err := ledger.RunsBefore(ctx, r)
	if err != nil {
		return nil, err
	}
	if from == 0 {
		for _, run := range runs {
			if from == 0 && run.ModelFile == m.File && run.State != ledger.Undone && run.Wrote() {
				from = run.ID
			}
		}
		if from == 0 {
			return nil, fmt.Errorf("no run of %s has written anything that can be taken back", m.File)
		}
	}
	at := slices.IndexFunc(runs, func(run *ledger.Run) bool { return run.ID == from })
	switch {
	case at < 0:
		return nil, fmt.Errorf("there is no run %d", from)
	case runs[at].ModelFile != m.File:
		return nil, fmt.Errorf("run %d is one of %s, not of %s", from, runs[at].ModelFile, m.File)
	case runs[at].State == ledger.Undone:
		return nil, fmt.Errorf("run %d has been taken back already", from)
	}
	var plan, others []*ledger.Run
	for _, run := range runs[:at+1] {
		switch {
		case run.State == ledger.Undone || !wrote(run):
		case run.ModelFile != m.File:
			others = append(others, run)
		case !slices.Contains(kept, run.ID):
			const message = "run %d cannot be taken back: what it changed is not kept any more. undo in the model says for " +
				"how many runs it is; ironmonger erase forgets it, too"
			return nil, fmt.Errorf(message, run.ID)
		default:
			plan = append(plan, run)
		}
	}
	return plan, apart(ctx, r, plan, others)
}

// wrote reports whether a step of a run was done.
func wrote(run *ledger.Run) bool {
	return slices.ContainsFunc(run.Steps, func(s *ledger.Step) bool { return s.State == ledger.Done })
}

// apart refuses to take runs back if later runs of other models have written to the same tables.
func apart(ctx context.Context, r warehouse.Reader, plan, others []*ledger.Run) error {
	ours := map[string]bool{}
	for _, run := range plan {
		list, err := ledger.BeforeOf(ctx, r, run.ID)
		if err != nil {
			return err
		}
		for _, e := range list {
			if e.Did == ledger.OtherChange {
				const message = "run %d cannot be taken back: it pointed rows of %s, which another model loads, to other versions"
				return fmt.Errorf(message, run.ID, e.Table)
			}
			ours[e.Table] = true
		}
	}
	for _, run := range others {
		list, err := ledger.BeforeOf(ctx, r, run.ID)
		if err != nil {
			return err
		}
		for _, e := range list {
			if ours[e.Table] && !strings.HasPrefix(e.Table, "load_") {
				const message = "run %d of %s has written to %s since: take it back first"
				return fmt.Errorf(message, run.ID, run.ModelFile, e.Table)
			}
		}
	}
	return nil
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
		u := &undoing{ctx: ctx, tx: tx, star: s, tables: tablesOf(s), run: run.ID, entries: entries, own: map[int64]bool{}, taken: map[string]map[string]bool{}}
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

// rowOf returns the row of an entry.
func rowOf(t *warehouse.Table, e *ledger.Before) (*column.Batch, error) {
	row := column.NewBatch(t.Fields())
	return row, ledger.AppendRowText(row, t.Fields(), e.Row)
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
	if err := u.unreferenced(t, rows); err != nil {
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

// unreferenced refuses to remove members to which tables of other models point.
func (u *undoing) unreferenced(t *warehouse.Table, keys *column.Batch) error {
	refs, err := ledger.References(u.ctx, u.tx, t.Name)
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
		q := warehouse.Query{
			Table:  ref.Table,
			Fields: []column.Field{{Name: ref.Key, Type: column.Type{Kind: column.Integer}}},
			By:     []string{ref.Key},
			Match:  column.Pointers(keys.Cols[:1]),
			Limit:  1,
		}
		b, err := warehouse.ReadAll(u.ctx, u.tx, q)
		if err != nil {
			return err
		}
		if b.N > 0 {
			return fmt.Errorf("%s, which another model loads, points to members of %s that it made", ref.Table, t.Name)
		}
	}
	return nil
}

// backwards takes the entries back, the latest first; entries of one table that follow each other and are alike at once.
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

// change gives rows their values again. Of a row that was changed several times, the first entry counts, so the latest
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
	set, moved, old := column.NewBatch(append(slices.Clone(key), rest...)), column.NewBatch(key), column.NewBatch(t.Fields())
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

// remove removes rows by what identifies them. A table whose rows nothing identifies may have one several times, and nulls
// in them: of those that have the same first column as one of the rows, the others are added again.
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
	cols := column.Pointers(rows.Cols)
	first, seen := column.NewBatch(key[:1]), map[string]bool{}
	for i := range rows.N {
		away[ledger.RowText(key, cols, i)]++
		if v := cols[0].Value(i); !seen[v] {
			seen[v] = true
			first.Cols[0].Append(cols[0], i)
			first.N++
		}
	}
	q := warehouse.Query{Table: t.Name, Fields: key, By: column.Names(key[:1]), Match: column.Pointers(first.Cols)}
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
	if _, err := u.tx.Remove(u.ctx, t.Name, key[:1], first); err != nil {
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

// drop removes the tables that the run made, the last first, with their views.
func (u *undoing) drop() error {
	for _, name := range slices.Backward(u.made) {
		for _, d := range u.star.Dimensions {
			for _, v := range d.Views {
				if v.Of != name {
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

// gap is by how much a table holds other than the ledger's account of it says: rows, and the total of each measure.
type gap struct {
	rows   int64
	totals []exact.Int128
}

// gaps returns those of all tables that have an account.
func (u *undoing) gaps() (map[string]gap, error) {
	list := map[string]gap{}
	add := func(table string, measures []column.Field) error {
		if there, err := u.tx.Describe(u.ctx, table); err != nil || there == nil {
			return err
		}
		book, err := ledger.AccountOf(u.ctx, u.tx, table, "", "", measures)
		if err != nil || book == nil {
			return err
		}
		found, err := u.tx.Tally(u.ctx, table, measures)
		g := gap{rows: found.Rows - book.Rows}
		for k := range measures {
			sum, _ := found.Totals[k].Add(book.Totals[k].Neg())
			g.totals = append(g.totals, sum)
		}
		list[table] = g
		return err
	}
	for _, d := range u.star.Dimensions {
		if err := add(d.Table.Name, nil); err != nil {
			return nil, err
		}
	}
	for _, f := range u.star.Facts {
		var measures []column.Field
		for _, m := range f.Measures {
			if m.Type.Exact() {
				measures = append(measures, m)
			}
		}
		if err := add(f.Table.Name, measures); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// balance holds the tables against the ledger's accounts of them, as both were before the run: they differ by as much as
// they did when it began to be taken back.
func (u *undoing) balance(was map[string]gap) error {
	now, err := u.gaps()
	for table, g := range now {
		if before, ok := was[table]; ok && (g.rows != before.rows || !slices.Equal(g.totals, before.totals)) {
			return fmt.Errorf("the account of table %s would not hold", table)
		}
	}
	return err
}

// Options are what a caller may choose.
type Options struct {
	From    int64  // the first run that is taken back; 0 is the last one that wrote something
	Dry     bool   // write nothing: say what would be done
	Program string // what the ledger calls the program
	Holder  string // and who runs it
}

// Report is what was done.
type Report struct {
	Run    int64     `json:"run"` // the run's own number; 0 if it was only tried
	Undone []*Undone `json:"undone"`
	Dry    bool      `json:"dry_run,omitempty"`
}

// Refusal says that runs cannot be taken back, and why.
type Refusal struct{ error }

// Unwrap returns the reason.
func (r Refusal) Unwrap() error { return r.error }

// Take takes runs of a model back in one transaction, which is itself a run in the ledger. The error is a [Refusal] if
// that cannot be done; nothing is written then.
func Take(ctx context.Context, wh warehouse.Warehouse, m *star.Model, opts Options) (*Report, error) {
	release, err := wh.Hold(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	tx, err := wh.Begin(ctx)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	plan, err := Plan(ctx, tx, m, opts.From)
	if err != nil {
		return nil, Refusal{err}
	}
	entry := &ledger.Run{
		StartedAt:  time.Now(),
		Program:    opts.Program,
		Holder:     opts.Holder,
		ModelFile:  m.File,
		ModelText:  m.Text,
		Parameters: map[string]string{},
	}
	var numbers []string
	for _, run := range plan {
		numbers = append(numbers, fmt.Sprint(run.ID))
	}
	entry.Message = "took back run " + strings.Join(numbers, ", ")
	if err := ledger.StartRun(ctx, tx, entry); err != nil {
		return nil, err
	}
	out := &Report{Run: entry.ID, Dry: opts.Dry}
	if out.Undone, err = Run(ctx, tx, schema.New(m), plan); err != nil {
		return nil, err
	}
	if opts.Dry {
		out.Run = 0
		return out, nil
	}
	if err := ledger.EndRun(ctx, tx, entry, ledger.Done, time.Now()); err != nil {
		return nil, err
	}
	return out, tx.Commit()
}

// Trim forgets what runs of a model changed that are older than those which it keeps. A run that wrote nothing is kept
// with the ones before it, and does not count.
func Trim(ctx context.Context, tx warehouse.Tx, m *star.Model, last *ledger.Run) error {
	kept, err := ledger.RunsBefore(ctx, tx)
	if err != nil || len(kept) <= m.Undo {
		return err
	}
	runs, err := ledger.Runs(ctx, tx, 0)
	if err != nil {
		return err
	}
	count := 0
	var old []int64
	for _, run := range runs {
		if run.ModelFile != m.File || !slices.Contains(kept, run.ID) {
			continue
		}
		if count >= m.Undo {
			old = append(old, run.ID)
		} else if run.ID == last.ID && last.Wrote() || run.ID != last.ID && run.Wrote() {
			count++
		}
	}
	return ledger.ForgetBefore(ctx, tx, old)
}
