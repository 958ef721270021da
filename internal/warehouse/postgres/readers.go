package postgres

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/dberror"
)

// Share lets the readers read the tables and views of some names that are there, and that they cannot read yet.
func (t *tx) Share(ctx context.Context, names []string) error {
	if len(t.readers) == 0 {
		return nil
	}
	if err := t.sent(); err != nil {
		return err
	}
	rows, err := t.conn().Query(ctx, `SELECT DISTINCT c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace, unnest($3::text[]) AS role
		WHERE n.nspname = $1 AND c.relname = ANY($2) AND c.relkind IN ('r', 'p', 'v') AND NOT has_table_privilege(role, c.oid, 'SELECT')
		ORDER BY c.relname`, t.schema, names, t.readers)
	if err != nil {
		return dberror.Postgres(err)
	}
	hidden, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return dberror.Postgres(err)
	}
	return t.grant(ctx, hidden)
}

// grant lets the readers read tables and views, and what is in the schema.
func (t *tx) grant(ctx context.Context, names []string) error {
	if len(t.readers) == 0 || len(names) == 0 {
		return nil
	}
	tables := make([]string, len(names))
	for i, name := range names {
		tables[i] = t.table(name)
	}
	to := " TO " + quoteAll(t.readers, "%")
	if err := t.exec(ctx, "GRANT SELECT ON "+strings.Join(tables, ", ")+to); err != nil {
		return err
	}
	usable := true
	err := t.conn().QueryRow(ctx, "SELECT bool_and(has_schema_privilege(role, $1, 'USAGE')) FROM unnest($2::text[]) AS role", t.schema, t.readers).Scan(&usable)
	if err != nil || usable {
		return dberror.Postgres(err)
	}
	return t.exec(ctx, "GRANT USAGE ON SCHEMA "+quote(t.schema)+to)
}
