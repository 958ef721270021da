package trino

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/warehouse"
)

// tx is a transaction: one of PostgreSQL, which writes the ledger and publishes in the end, and a working copy of the
// pointers.
type tx struct {
	place
	ledger warehouse.Tx
	base   map[string]pointer               // what the copy was taken of
	used   map[string]bool                  // the tables that were read or written
	there  map[string]warehouse.Description // the columns of tables, as far as they are known
	now    map[string]pointer               // what the copy is in the end
	views  []*warehouse.View                // to be made once the tables that they are of are published
	frozen int64                            // the run whose state is kept; 0 if none is
	ended  bool
	failed bool // a statement did: it may still be going on
}

func (t *tx) Describe(ctx context.Context, table string) (warehouse.Description, error) {
	if isLedger(table) {
		return t.ledger.Describe(ctx, table)
	}
	if d, ok := t.there[table]; ok {
		return d, nil
	}
	d, err := t.describe(ctx, table)
	if err == nil {
		t.there[table] = d
	}
	return d, err
}

func (t *tx) Read(ctx context.Context, q warehouse.Query) (warehouse.Rows, error) {
	if isLedger(q.Table) {
		return t.ledger.Read(ctx, q)
	}
	t.used[q.Table] = true
	return t.read(ctx, q)
}

func (t *tx) Tally(ctx context.Context, table string, measures []column.Field) (warehouse.Tally, error) {
	if isLedger(table) {
		return t.ledger.Tally(ctx, table, measures)
	}
	t.used[table] = true
	return t.tally(ctx, table, measures)
}

// change runs a statement that changes a table.
func (t *tx) change(ctx context.Context, table, sql string) (int64, error) {
	t.used[table] = true
	n, err := t.run(ctx, sql)
	t.failed = t.failed || err != nil
	return n, err
}

func (t *tx) Create(ctx context.Context, table *warehouse.Table) error {
	if isLedger(table.Name) {
		return t.ledger.Create(ctx, table)
	}
	if err := lowercase(table); err != nil {
		return err
	}
	if _, err := t.change(ctx, table.Name, createTable(t.table(table.Name), table)); err != nil {
		return err
	}
	at, err := t.pointer(ctx, table.Name)
	t.keepTally(at, nil, warehouse.Tally{})
	var d warehouse.Description
	for _, c := range table.Columns {
		d = append(d, warehouse.Standing{Name: c.Name, Type: expr.TrinoType(c.Type), NotNull: c.NotNull})
	}
	t.there[table.Name] = d
	return err
}

// lowercase refuses names with capital letters: Trino takes them for small ones.
func lowercase(table *warehouse.Table) error {
	for _, name := range append(column.Names(table.Fields()), table.Name) {
		if name != strings.ToLower(name) {
			return fmt.Errorf("the name %s has capital letters, which Trino does not tell from small ones", name)
		}
	}
	return nil
}

func createTable(name string, table *warehouse.Table) string {
	parts := make([]string, len(table.Columns))
	for k, c := range table.Columns {
		parts[k] = quote(c.Name) + " " + expr.TrinoType(c.Type)
		if c.NotNull {
			parts[k] += " NOT NULL"
		}
	}
	sql := fmt.Sprintf("CREATE TABLE %s (\n  %s\n)", name, strings.Join(parts, ",\n  "))
	if p := table.Partition; p != nil {
		by := quote(p.Column)
		if p.Step > 1 {
			by = fmt.Sprintf("truncate(%s, %d)", by, p.Step)
		}
		sql += " WITH (partitioning = ARRAY[" + text(by) + "])"
	}
	return sql
}

// Divide has nothing to do: Trino finds the partition of each row.
func (t *tx) Divide(context.Context, *warehouse.Table, []int64) error { return nil }

// Drop removes the pointer of a table from the copy, never what it leads to.
func (t *tx) Drop(ctx context.Context, table string) error {
	if isLedger(table) {
		return t.ledger.Drop(ctx, table)
	}
	t.used[table] = true
	delete(t.there, table)
	_, err := t.database.Exec(ctx, "DELETE FROM iceberg_tables WHERE catalog_name = $1 AND table_namespace = $2 AND table_name = $3",
		t.catalog, t.schema, table)
	return err
}

func (t *tx) Clear(ctx context.Context, table string) error {
	if isLedger(table) {
		return t.ledger.Clear(ctx, table)
	}
	_, err := t.change(ctx, table, "DELETE FROM "+t.table(table))
	return err
}

// Constrain has nothing to do for tables in Trino, which has no keys.
func (t *tx) Constrain(ctx context.Context, table *warehouse.Table) error {
	if isLedger(table.Name) {
		return t.ledger.Constrain(ctx, table)
	}
	return nil
}

// CreateView makes a view once the transaction is committed: it is of tables that are published.
func (t *tx) CreateView(ctx context.Context, v *warehouse.View) error {
	t.views = append(t.views, v)
	return nil
}

func (t *tx) DropView(ctx context.Context, name string) error {
	t.views = slices.DeleteFunc(t.views, func(v *warehouse.View) bool { return v.Name == name })
	return t.Drop(ctx, name)
}

// Share lets the readers read the ledger; who may read in Trino is for its administrator to say.
func (t *tx) Share(ctx context.Context, names []string) error {
	return t.ledger.Share(ctx, slices.DeleteFunc(slices.Clone(names), func(name string) bool { return !isLedger(name) }))
}

func (t *tx) AddColumn(ctx context.Context, table string, c warehouse.Column, fill *int64) error {
	if isLedger(table) {
		return t.ledger.AddColumn(ctx, table, c, fill)
	}
	delete(t.there, table)
	_, err := t.change(ctx, table, fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s", t.table(table), quote(c.Name), expr.TrinoType(c.Type)))
	if err != nil || fill == nil {
		return err
	}
	value := column.Column{Type: c.Type}
	value.AppendInt(*fill)
	_, err = t.change(ctx, table, fmt.Sprintf("UPDATE %s SET %s = %s", t.table(table), quote(c.Name), literal(&value, 0)))
	return err
}

// Renew has nothing to do: values stand as they always did.
func (t *tx) Renew(context.Context, string, []column.Field) error { return nil }

func (t *tx) Append(ctx context.Context, table string, fields []column.Field) (warehouse.Appender, error) {
	if isLedger(table) {
		return t.ledger.Append(ctx, table, fields)
	}
	into := fmt.Sprintf("%s (%s)", t.table(table), quoteAll(column.Names(fields), "%"))
	return &appender{ctx: ctx, t: t, table: table, into: into, few: column.NewBatch(fields)}, nil
}

func (t *tx) Amend(ctx context.Context, table string, by int, fields []column.Field, b *column.Batch) (int64, error) {
	if isLedger(table) {
		return t.ledger.Amend(ctx, table, by, fields, b)
	}
	names := column.Names(fields)
	var set []string
	for k, n := range names[by:] {
		set = append(set, fmt.Sprintf("%s = m.c%d", quote(n), by+k))
	}
	return t.merge(ctx, table, column.Pointers(b.Cols), b.N, equal(names[:by], 0), "UPDATE SET "+strings.Join(set, ", "))
}

func (t *tx) Remove(ctx context.Context, table string, fields []column.Field, b *column.Batch) (int64, error) {
	if isLedger(table) {
		return t.ledger.Remove(ctx, table, fields, b)
	}
	return t.merge(ctx, table, column.Pointers(b.Cols), b.N, equal(column.Names(fields), 0), "DELETE")
}

// merge changes the rows of a table that match n rows.
func (t *tx) merge(ctx context.Context, table string, cols []*column.Column, n int, on, then string) (int64, error) {
	if n == 0 {
		return 0, nil
	}
	m, err := t.give(ctx, cols, every(n))
	if err != nil {
		return 0, err
	}
	defer m.drop()
	return t.change(ctx, table, fmt.Sprintf("MERGE INTO %s AS t USING %s ON %s WHEN MATCHED THEN %s", t.table(table), m.sql, on, then))
}

// Repoint changes keys by one statement, so that one move never meets the result of another.
func (t *tx) Repoint(ctx context.Context, r *warehouse.Repointing) (int64, error) {
	if isLedger(r.Table) {
		return t.ledger.Repoint(ctx, r)
	}
	on, set := fmt.Sprintf("t.%s = m.c0", quote(r.Key)), fmt.Sprintf("UPDATE SET %s = m.c1", quote(r.Key))
	if r.Time != "" {
		on += fmt.Sprintf(" AND t.%s >= m.c2 AND (m.c3 IS NULL OR t.%[1]s < m.c3)", quote(r.Time))
	}
	if r.Stamp != "" {
		set += fmt.Sprintf(", %s = %d", quote(r.Stamp), r.Run)
	}
	return t.merge(ctx, r.Table, r.Columns(), len(r.Moves), on, set)
}

// Freeze has the pointers that are published at the commit copied to a schema of the run, and those of old runs removed.
func (t *tx) Freeze(_ context.Context, run int64) error {
	t.frozen = run
	return nil
}

// errMoved says that a commit was refused.
var errMoved = errors.New("somebody else has changed a table of the star meanwhile, so that nothing was published")

// Commit publishes what the transaction has made, and the ledger with it.
func (t *tx) Commit() error {
	if t.ended {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	if err := t.publish(ctx); err != nil {
		return err // the caller rolls back
	}
	if err := t.ledger.Commit(); err != nil {
		return err
	}
	t.ended = true
	for name, d := range t.there {
		t.know(t.now[name].location, d)
	}
	t.makeViews(ctx)
	t.abandon() // what is left are pointers that nobody uses
	return nil
}

// publish replaces the published pointers of the tables that were changed, in the transaction of the ledger.
func (t *tx) publish(ctx context.Context) error {
	var err error
	if t.now, err = pointers(ctx, t.database, t.catalog, t.schema); err != nil {
		return err
	}
	run := t.ledger.Statements()
	to := t.published()
	const alone = "SELECT pg_advisory_xact_lock(hashtextextended('ironmonger publishes ' || %s, 0))" // for some milliseconds
	if _, err := run.Run(ctx, fmt.Sprintf(alone, text(to.schema))); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(t.used)) { // in one order, so that no two wait for each other
		where := fmt.Sprintf("catalog_name = %s AND table_namespace = %s AND table_name = %s", text(to.catalog), text(to.schema), text(name))
		stands := ""
		err := run.Ask(ctx, "SELECT metadata_location FROM iceberg_tables WHERE "+where+" FOR UPDATE", func(values [][]byte) error {
			stands = string(values[0])
			return nil
		})
		if err != nil {
			return err
		}
		before, after := t.base[name], t.now[name]
		if stands != before.location {
			return fmt.Errorf("table %s: %w", name, errMoved)
		}
		sql := ""
		switch {
		case before.location == after.location:
			continue
		case after.location == "":
			sql = "DELETE FROM iceberg_tables WHERE " + where
		case before.location == "":
			sql = fmt.Sprintf("INSERT INTO iceberg_tables (catalog_name, table_namespace, table_name, metadata_location, iceberg_type) VALUES (%s, %s, %s, %s, %s)",
				text(to.catalog), text(to.schema), text(name), text(after.location), text(after.kind))
		default:
			sql = fmt.Sprintf("UPDATE iceberg_tables SET metadata_location = %s, previous_metadata_location = %s, iceberg_type = %s WHERE %s",
				text(after.location), text(before.location), text(after.kind), where)
		}
		if n, err := run.Run(ctx, sql); err != nil || n != 1 {
			return cmp.Or(err, errMoved)
		}
	}
	if err := hasSchema(ctx, run, to.catalog, to.schema); err != nil {
		return err
	}
	if err := t.writeColumns(ctx, run); err != nil || t.frozen == 0 {
		return err
	}
	return freeze(ctx, run, to, t.frozen)
}

// hasSchema makes a schema in a catalog if it is not there.
func hasSchema(ctx context.Context, run warehouse.Statements, catalog, schema string) error {
	const sql = "INSERT INTO iceberg_namespace_properties (catalog_name, namespace, property_key, property_value) VALUES (%s, %s, 'exists', 'true') ON CONFLICT DO NOTHING"
	_, err := run.Run(ctx, fmt.Sprintf(sql, text(catalog), text(schema)))
	return err
}

// frozenRuns is for how many of the latest runs the state that they have left can be read.
const frozenRuns = 10

// freeze copies the published pointers to the schema of a run, and forgets those of old runs. Views are not copied: they lead
// to the tables that are published now.
func freeze(ctx context.Context, run warehouse.Statements, p place, number int64) error {
	of := func(n int64) string { return fmt.Sprintf("%s_run_%d", p.schema, n) }
	if err := hasSchema(ctx, run, p.catalog, of(number)); err != nil {
		return err
	}
	// a star that was removed by hand may have had a run of that number
	if _, err := run.Run(ctx, fmt.Sprintf("DELETE FROM iceberg_tables WHERE catalog_name = %s AND table_namespace = %s", text(p.catalog), text(of(number)))); err != nil {
		return err
	}
	const tables = "INSERT INTO iceberg_tables (catalog_name, table_namespace, table_name, metadata_location, iceberg_type) " +
		"SELECT catalog_name, %s, table_name, metadata_location, iceberg_type FROM iceberg_tables " +
		"WHERE catalog_name = %s AND table_namespace = %s AND coalesce(iceberg_type, 'TABLE') = 'TABLE'"
	if _, err := run.Run(ctx, fmt.Sprintf(tables, text(of(number)), text(p.catalog), text(p.schema))); err != nil {
		return err
	}
	for _, old := range []string{"iceberg_tables WHERE catalog_name = %s AND table_namespace", "iceberg_namespace_properties WHERE catalog_name = %s AND namespace"} {
		column, first := old[strings.LastIndex(old, " ")+1:], len([]rune(of(0)))-1
		const before = " = %s || substr(%[2]s, %d) AND CASE WHEN substr(%[2]s, %[3]d) ~ '^[0-9]{1,18}$' THEN substr(%[2]s, %[3]d)::bigint <= %d END"
		sql := "DELETE FROM " + fmt.Sprintf(old, text(p.catalog)) + fmt.Sprintf(before, text(strings.TrimSuffix(of(0), "0")), column, first+1, number-frozenRuns)
		if _, err := run.Run(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// makeViews makes the views, which Trino looks through at once. One that cannot be made is made by the next load.
func (t *tx) makeViews(ctx context.Context) {
	to := t.published()
	for _, v := range t.views {
		t.run(ctx, createView(to, v))
	}
}

func createView(p place, v *warehouse.View) string {
	return "CREATE OR REPLACE VIEW " + p.table(v.Name) + " AS " + v.SQL(quote, p.table)
}

// Rollback forgets the copy. A statement that may still be going on is ended: it has nowhere to write to.
func (t *tx) Rollback() error {
	if t.ended {
		return nil
	}
	t.ended = true
	err := cmp.Or(t.ledger.Rollback(), t.abandon())
	if t.failed {
		t.kill()
	}
	return err
}

// kill ends the queries that name the working schema.
func (t *tx) kill() {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	var going []string
	const sql = "SELECT query_id FROM system.runtime.queries WHERE state NOT IN ('FINISHED', 'FAILED') AND strpos(query, %s) > 0 AND strpos(query, 'system.runtime') = 0"
	t.engine.Ask(ctx, fmt.Sprintf(sql, text(t.schema)), func(values [][]byte) error {
		going = append(going, string(values[0]))
		return nil
	})
	for _, id := range going {
		t.run(ctx, "CALL system.runtime.kill_query(query_id => "+text(id)+", message => 'the step has ended')")
	}
}
