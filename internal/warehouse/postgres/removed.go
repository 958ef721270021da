package postgres

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/dberror"
)

// Before a transaction ends, the server looks for each row that it has removed in all tables with a foreign key to its table:
// each time it reads the whole table, where that has no index of the key. Tables of facts have none. So if more than a few rows
// are removed, a large table has one until the end of the transaction.

const (
	fewRemoved = 20      // rows, for which an index is not worth its making
	smallTable = 4 << 20 // bytes, which are read soon enough
)

// ours is what the names of these indexes begin with. One may have stayed, as a report was reading its table.
const ours = "sought_"

// removed makes the indexes by which rows that were removed from a table are looked for.
func (t *tx) removed(ctx context.Context, table string, rows int64) error {
	t.gone[table] += rows
	if t.gone[table] <= fewRemoved || t.sought[table] {
		return nil
	}
	t.sought[table] = true
	const referring = `
SELECT n.nspname, r.relname, a.attname
FROM pg_constraint AS c
JOIN pg_class AS r ON r.oid = c.conrelid
JOIN pg_namespace AS n ON n.oid = r.relnamespace
JOIN pg_attribute AS a ON a.attrelid = c.conrelid AND a.attnum = c.conkey[1]
WHERE c.contype = 'f' AND c.confrelid = $1::regclass AND c.conparentid = 0
AND pg_relation_size(r.oid) + coalesce((SELECT sum(pg_relation_size(p.relid)) FROM pg_partition_tree(r.oid) AS p WHERE p.relid <> r.oid), 0) > $2
AND NOT EXISTS (
	SELECT FROM pg_index AS i JOIN pg_class AS x ON x.oid = i.indexrelid
	WHERE i.indrelid = r.oid AND i.indkey[0] = c.conkey[1] AND i.indisvalid AND i.indpred IS NULL AND NOT starts_with(x.relname, $3))
ORDER BY 1, 2, 3`
	answer, err := t.conn().Query(ctx, referring, t.table(table), smallTable, ours)
	if err != nil {
		return dberror.Postgres(err)
	}
	type reference struct{ Schema, Table, Column string }
	list, err := pgx.CollectRows(answer, pgx.RowToStructByPos[reference])
	if err != nil {
		return dberror.Postgres(err)
	}
	for _, r := range list {
		name := clip(ours + r.Table + "_" + r.Column)
		const create = "CREATE INDEX IF NOT EXISTS %s ON %s.%s (%s)"
		made, err := t.soon(ctx, fmt.Sprintf(create, quote(name), quote(r.Schema), quote(r.Table), quote(r.Column)))
		if err != nil {
			return err
		}
		if made {
			t.indexes = append(t.indexes, quote(r.Schema)+"."+quote(name))
		}
	}
	return nil
}

// soon runs a statement that makes something faster, or gives room back, unless it has to wait for others, or must not be run.
func (t *tx) soon(ctx context.Context, sql string) (done bool, err error) {
	const before = "SAVEPOINT soon; SET LOCAL lock_timeout = '2s'"
	if err := t.all(ctx, before); err != nil {
		return false, err
	}
	if t.all(ctx, sql) != nil {
		return false, t.all(ctx, "ROLLBACK TO SAVEPOINT soon; RELEASE SAVEPOINT soon")
	}
	return true, t.all(ctx, "SET LOCAL lock_timeout TO DEFAULT; RELEASE SAVEPOINT soon")
}

// all runs statements in one message.
func (t *tx) all(ctx context.Context, sql string) error {
	_, err := t.conn().Conn().PgConn().Exec(ctx, sql).ReadAll()
	return dberror.Postgres(err)
}

// hold has the server look whether all foreign keys hold, which it would do when the transaction ends, however long that takes.
// Then the indexes for it are not needed any more.
func (t *tx) hold(ctx context.Context) error {
	if err := t.all(ctx, "SET CONSTRAINTS ALL IMMEDIATE"); err != nil {
		return err
	}
	for _, index := range t.indexes {
		if _, err := t.soon(ctx, "DROP INDEX "+index); err != nil { // one that stays is removed the next time
			return err
		}
	}
	return nil
}
