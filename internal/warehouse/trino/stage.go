package trino

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/parquet-go/parquet-go"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/parquetfile"
	"ironmonger/internal/spill"
)

// stage is rows on their way to Trino, and the table in which it has them then, in a schema of its own.
type stage struct {
	*DB
	types    []column.Type
	name     string // of the schema, and of the folder if there is one
	rows     sending
	hasTable bool
	gone     bool
}

// sending is how rows get into the table of a stage: [inFile] or [inStatements].
type sending interface {
	// add takes a row.
	add(cols []*column.Column, row int) error
	// send puts all rows into the table, which has none.
	send(ctx context.Context, s *stage) error
	// drop removes what is left of them elsewhere.
	drop()
}

func typesOf(cols []*column.Column) []column.Type {
	types := make([]column.Type, len(cols))
	for k, c := range cols {
		types[k] = c.Type
	}
	return types
}

func (db *DB) newStage(types []column.Type) (*stage, error) {
	s := &stage{DB: db, name: newName(), types: types}
	fields := make([]column.Field, len(types))
	for k, t := range types {
		fields[k] = column.Field{Name: fmt.Sprintf("c%d", k), Type: t}
	}
	var err error
	if db.at.Staging == "" {
		s.rows, err = newInStatements(fields)
	} else {
		s.rows, err = newInFile(filepath.Join(db.at.Staging, s.name), fields)
	}
	if err != nil {
		return nil, err
	}
	return s, nil
}

// Add takes rows.
func (s *stage) Add(cols []*column.Column, rows []int32) error {
	for _, i := range rows {
		if err := s.rows.add(cols, int(i)); err != nil {
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

// Table makes the table, which has all rows.
func (s *stage) Table(ctx context.Context) (string, error) { return s.table(), s.finish(ctx) }

// Close removes the table, and what else there is of the rows.
func (s *stage) Close() error {
	if !s.gone {
		s.drop()
	}
	return nil
}

func (s *stage) place() place { return place{s.DB, s.at.Working, s.name} }

func (s *stage) table() string { return s.place().table("rows") }

func (s *stage) finish(ctx context.Context) error {
	if err := s.place().make(ctx); err != nil {
		return err
	}
	s.hasTable = true
	columns := make([]string, len(s.types))
	for k, t := range s.types {
		columns[k] = fmt.Sprintf("c%d %s", k, expr.TrinoType(t))
	}
	create := fmt.Sprintf("CREATE TABLE %s (%s)", s.table(), strings.Join(columns, ", "))
	if _, err := s.place().run(ctx, create); err != nil {
		return err
	}
	return s.rows.send(ctx, s)
}

// drop removes the table and the rows. Nothing else leads to its files, so that it may be dropped in earnest.
func (s *stage) drop() {
	s.gone = true
	if s.hasTable {
		s.place().run(context.Background(), "DROP TABLE IF EXISTS "+s.table())
		s.place().abandon()
	}
	s.rows.drop()
}

// inFile sends rows as a Parquet file, in a folder that Trino sees, too.
type inFile struct {
	folder string
	file   *os.File
	out    *parquetfile.Writer
	one    []parquet.Row
}

func newInFile(folder string, fields []column.Field) (*inFile, error) {
	f := &inFile{folder: folder, one: make([]parquet.Row, 1)}
	if err := os.Mkdir(folder, 0o777); err != nil {
		return nil, fmt.Errorf("the folder for rows on their way to Trino: %w", err)
	}
	var err error
	if f.file, err = os.Create(filepath.Join(folder, "rows.parquet")); err == nil {
		f.out, err = parquetfile.New(f.file, fields)
	}
	if err != nil {
		f.drop()
		return nil, err
	}
	return f, nil
}

func (f *inFile) add(cols []*column.Column, row int) error {
	f.one[0] = parquetfile.Row(f.one[0], cols, row)
	_, err := f.out.WriteRows(f.one)
	return err
}

// send makes the file one of the table.
func (f *inFile) send(ctx context.Context, s *stage) error {
	if err := cmp.Or(f.out.Close(), f.file.Chmod(0o666), f.file.Close()); err != nil {
		return err
	}
	const add = "ALTER TABLE %s EXECUTE add_files(location => %s, format => 'PARQUET')"
	at := strings.TrimSuffix(s.at.StagedAt, "/") + "/" + s.name
	_, err := s.place().run(ctx, fmt.Sprintf(add, s.table(), text(at)))
	return err
}

func (f *inFile) drop() {
	f.file.Close()
	os.RemoveAll(f.folder)
}

// inStatements sends rows in the text of statements: it is for clusters with which the program shares no folder. Until then
// they are kept on disk.
type inStatements struct{ kept *spill.Rows }

func newInStatements(fields []column.Field) (*inStatements, error) {
	kept, err := spill.New(fields, 1)
	return &inStatements{kept}, err
}

func (w *inStatements) add(cols []*column.Column, row int) error {
	w.kept.Put(0, cols, row)
	return nil
}

func (w *inStatements) send(ctx context.Context, s *stage) error {
	part := w.kept.Part(0)
	b := column.NewBatch(part.Fields())
	for piece, err := range part.Pieces(ctx) {
		if err == nil {
			err = piece.Fill(b)
		}
		if err == nil {
			err = s.insert(ctx, column.Pointers(b.Cols[:len(s.types)]), 0, b.N)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// mostBytes is how long the rows of a statement are at most, if there are several: Trino reads statements of a million
// characters if nothing else is said there.
const mostBytes = 500_000

// insert puts some rows into the table, as one text: Trino takes long to read many values that stand in a statement each by
// itself.
func (s *stage) insert(ctx context.Context, cols []*column.Column, from, to int) error {
	list, err := asJSON(cols, from, to)
	if err != nil {
		return err
	}
	rows := text(list) // which may be twice as long
	if half := (from + to) / 2; len(rows) > mostBytes && half > from {
		if err := s.insert(ctx, cols, from, half); err != nil {
			return err
		}
		return s.insert(ctx, cols, half, to)
	}
	values := make([]string, len(cols))
	for k, c := range cols {
		values[k] = fmt.Sprintf("CAST(r[%d] AS %s)", k+1, expr.TrinoType(c.Type))
	}
	const sql = "INSERT INTO %s SELECT %s FROM UNNEST(CAST(json_parse(%s) AS array(array(varchar)))) AS u (r)"
	_, err = s.place().run(ctx, fmt.Sprintf(sql, s.table(), strings.Join(values, ", "), rows))
	return err
}

// asJSON writes rows as lists of texts and nulls.
func asJSON(cols []*column.Column, from, to int) (string, error) {
	rows := make([][]*string, 0, to-from)
	for i := from; i < to; i++ {
		row := make([]*string, len(cols))
		for k, c := range cols {
			if !c.Null[i] {
				v := c.Value(i)
				row[k] = &v
			}
		}
		rows = append(rows, row)
	}
	var out strings.Builder
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	err := encoder.Encode(rows)
	return out.String(), err
}

func (w *inStatements) drop() { w.kept.Close() }
