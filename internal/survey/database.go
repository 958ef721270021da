package survey

import (
	"context"
	"errors"
	"os"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/star"
)

// listing is how each kind of database tells its tables and views, those of its own aside.
var listing = map[string]string{
	star.SQLite: "select name from sqlite_master where type in ('table', 'view') and name not like 'sqlite~_%' escape '~' order by name",
	star.Postgres: "select case table_schema when 'public' then '' else table_schema || '.' end || table_name as name from information_schema.tables " +
		"where table_schema not in ('pg_catalog', 'information_schema') order by table_schema, table_name",
	star.MySQL: "select table_name as name from information_schema.tables where table_schema = database() order by table_name",
	star.Trino: "select table_cat || '.' || table_schem || '.' || table_name as name from system.jdbc.tables " +
		"where table_cat <> 'system' and table_schem not in ('information_schema', 'system')",
}

// InDatabase is the format of a [Table] that a database has.
const InDatabase = "table"

// Database looks at the tables and views of a database. Those that cannot be read are named in skipped, with the
// reason.
func Database(ctx context.Context, root *os.Root, d *star.Database) (tables []*Table, skipped []string, err error) {
	names, err := tableNames(ctx, root, d)
	if err != nil {
		return nil, nil, err
	}
	for _, name := range names {
		t := &Table{Files: []string{d.Text + ": " + name}, Format: InDatabase, Database: d, Name: name}
		if err := t.read(ctx, root); ctx.Err() != nil {
			return nil, nil, ctx.Err()
		} else if err != nil {
			skipped = append(skipped, name+": "+err.Error())
			continue
		}
		if len(t.Columns) == 0 {
			skipped = append(skipped, name+": it has no column of a type that is read")
			continue
		}
		tables = append(tables, t)
	}
	return tables, skipped, nil
}

func tableNames(ctx context.Context, root *os.Root, d *star.Database) (names []string, err error) {
	s := &star.Source{Name: star.Name{Text: d.Text}, Columns: []star.Column{{Name: star.Name{Text: "name"}, Type: column.Type{Kind: column.Text}}}}
	s.Database, s.Query = d, star.Name{Text: listing[d.Kind]}
	in := Inputs(root)
	rows, err := in.Open(ctx, s, nil, func(string) bool { return true })
	var list diag.List
	if errors.As(err, &list) { // it has a place in a model, and there is none
		return nil, errors.New(list[0].Message)
	} else if err != nil {
		return nil, err
	}
	return names, pipeline.Batches(ctx, rows, 1, func(b *column.Batch) error {
		for i := range b.N {
			names = append(names, strings.Clone(b.Cols[0].Text[i]))
		}
		return nil
	})
}
