package postgres

import (
	"context"
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/dberror"
	"ironmonger/internal/warehouse"
)

// comments lists the statements that make the words of a table comments of it and its columns, but for those that are
// there.
func (db *DB) comments(t *warehouse.Table, there map[string]string) []string {
	var list []string
	for _, name := range slices.Sorted(maps.Keys(t.Words)) {
		of := "TABLE " + db.table(t.Name)
		if name != "" {
			of = "COLUMN " + db.table(t.Name) + "." + quote(name)
		}
		if words := strings.ReplaceAll(t.Words[name], "\x00", ""); there[name] != words {
			list = append(list, "COMMENT ON "+of+" IS "+literal(words))
		}
	}
	return list
}

// literal is a text as SQL has it, whatever standard_conforming_strings says.
func literal(s string) string {
	quoted := "'" + strings.ReplaceAll(s, "'", "''") + "'"
	if strings.Contains(s, `\`) {
		return " E" + strings.ReplaceAll(quoted, `\`, `\\`)
	}
	return quoted
}

// comment writes the words of a table that are not there yet.
func (t *tx) comment(ctx context.Context, table *warehouse.Table) error {
	if len(table.Words) == 0 {
		return nil
	}
	rows, err := t.conn().Query(ctx, `SELECT coalesce(a.attname, ''), d.description FROM pg_description d
		LEFT JOIN pg_attribute a ON a.attrelid = d.objoid AND a.attnum = d.objsubid AND d.objsubid > 0
		WHERE d.objoid = $1::regclass AND d.classoid = 'pg_class'::regclass`, t.table(table.Name))
	if err != nil {
		return dberror.Postgres(err)
	}
	there := map[string]string{}
	var name, words string
	_, err = pgx.ForEachRow(rows, []any{&name, &words}, func() error {
		there[name] = words
		return nil
	})
	if err != nil {
		return dberror.Postgres(err)
	}
	for _, sql := range t.comments(table, there) {
		if err := t.exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}
