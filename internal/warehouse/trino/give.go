package trino

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/parquet-go/parquet-go"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/parquetfile"
)

// So few rows, of so few bytes, stand in a statement itself.
const (
	fewRows  = 300
	fewBytes = 100_000
)

// given is rows that a statement is given: SQL of a table called m with columns c0, c1 and so on.
type given struct {
	sql  string
	drop func()
}

// give gives some rows of columns to a statement.
func (db *DB) give(ctx context.Context, cols []*column.Column, rows []int32) (given, error) {
	if len(rows) <= fewRows {
		if sql := inline(cols, rows); len(sql) <= fewBytes {
			return given{sql, func() {}}, nil
		}
	}
	s, err := db.newStage(typesOf(cols))
	if err != nil {
		return given{}, err
	}
	if err := s.Add(cols, rows); err != nil {
		s.drop()
		return given{}, err
	}
	return s.give(ctx)
}

// inline writes rows in SQL.
func inline(cols []*column.Column, rows []int32) string {
	casts, names, lines := make([]string, len(cols)), make([]string, len(cols)), make([]string, len(rows))
	for k, c := range cols {
		casts[k], names[k] = fmt.Sprintf("CAST(v%d AS %s) AS c%[1]d", k, expr.TrinoType(c.Type)), fmt.Sprintf("v%d", k)
	}
	values := make([]string, len(cols))
	for n, i := range rows {
		for k, c := range cols {
			values[k] = literal(c, int(i))
		}
		lines[n] = "(" + strings.Join(values, ", ") + ")"
	}
	return fmt.Sprintf("(SELECT %s FROM (VALUES %s) AS v (%s)) AS m",
		strings.Join(casts, ", "), strings.Join(lines, ", "), strings.Join(names, ", "))
}

// stage is rows in a Parquet file, and the table by which Trino reads it, in a schema of its own.
type stage struct {
	*DB
	types    []column.Type
	name     string // of the folder and of the schema
	file     *os.File
	out      *parquetfile.Writer
	one      []parquet.Row
	hasTable bool
	gone     bool
}

func typesOf(cols []*column.Column) []column.Type {
	types := make([]column.Type, len(cols))
	for k, c := range cols {
		types[k] = c.Type
	}
	return types
}

func (db *DB) newStage(types []column.Type) (*stage, error) {
	s := &stage{DB: db, name: newName(), types: types, one: make([]parquet.Row, 1)}
	fields := make([]column.Field, len(types))
	for k, t := range types {
		fields[k] = column.Field{Name: fmt.Sprintf("c%d", k), Type: t}
	}
	if err := os.Mkdir(s.folder(), 0o777); err != nil {
		return nil, fmt.Errorf("the folder for rows on their way to Trino: %w", err)
	}
	var err error
	if s.file, err = os.Create(filepath.Join(s.folder(), "rows.parquet")); err == nil {
		s.out, err = parquetfile.New(s.file, fields)
	}
	if err != nil {
		s.drop()
		return nil, err
	}
	return s, nil
}

func (s *stage) folder() string { return filepath.Join(s.at.Staging, s.name) }

// Add writes rows to the file.
func (s *stage) Add(cols []*column.Column, rows []int32) error {
	for _, i := range rows {
		s.one[0] = parquetfile.Row(s.one[0], cols, int(i))
		if _, err := s.out.WriteRows(s.one); err != nil {
			return err
		}
	}
	return nil
}

// give has a statement read the rows.
func (s *stage) give(ctx context.Context) (given, error) {
	table, err := s.Table(ctx)
	if err != nil {
		s.drop()
		return given{}, err
	}
	return given{table + " AS m", s.drop}, nil
}

// Table ends the file and makes the table.
func (s *stage) Table(ctx context.Context) (string, error) { return s.table(), s.finish(ctx) }

// Close removes the table and the file.
func (s *stage) Close() error {
	if !s.gone {
		s.drop()
	}
	return nil
}

func (s *stage) table() string { return place{s.DB, s.at.Working, s.name}.table("rows") }

func (s *stage) finish(ctx context.Context) error {
	if err := cmp.Or(s.out.Close(), s.file.Chmod(0o666), s.file.Close()); err != nil {
		return err
	}
	p := place{s.DB, s.at.Working, s.name}
	if err := p.make(ctx); err != nil {
		return err
	}
	s.hasTable = true
	columns := make([]string, len(s.types))
	for k, t := range s.types {
		columns[k] = fmt.Sprintf("c%d %s", k, expr.TrinoType(t))
	}
	if _, err := p.run(ctx, fmt.Sprintf("CREATE TABLE %s (%s)", s.table(), strings.Join(columns, ", "))); err != nil {
		return err
	}
	const add = "ALTER TABLE %s EXECUTE add_files(location => %s, format => 'PARQUET')"
	_, err := p.run(ctx, fmt.Sprintf(add, s.table(), text(strings.TrimSuffix(s.at.StagedAt, "/")+"/"+s.name)))
	return err
}

// drop removes the table and the file. Nothing else leads to its files, so that it may be dropped in earnest.
func (s *stage) drop() {
	s.gone = true
	if s.hasTable {
		p := place{s.DB, s.at.Working, s.name}
		p.run(context.Background(), "DROP TABLE IF EXISTS "+s.table())
		p.abandon()
	}
	s.file.Close()
	os.RemoveAll(s.folder())
}
