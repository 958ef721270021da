package ledger

import (
	"context"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// linesOfFile is what the number of a file is multiplied with to make room for its lines.
const linesOfFile = 1_000_000_000

// Line puts the number of a file and a line of it into one integer that people can read, too: line 107 of file 3
// is 3000000107. It takes 6 bytes of a row in SQLite, 8 in PostgreSQL.
func Line(file, line int64) int64 { return file*linesOfFile + min(line, linesOfFile-1) }

// FileAndLine takes apart what [Line] has put together.
func FileAndLine(at int64) (file, line int64) { return at / linesOfFile, at % linesOfFile }

// File is a file as the ledger knows it.
type File struct {
	Number    int64
	Name      string // when it was met
	Content   string // a digest of what was in it when it was read last; "" if that is not known
	MovedFrom int64  // the number that it had under another name before; 0 if it had none
	FirstRun  int64  // that met it first under this name
}

// Files returns the numbers of files by their names, those that the ledger knows and new ones for others. A name that a
// file had before it was moved is that of another file since.
func Files(ctx context.Context, tx warehouse.Tx, names []string, run int64) (map[string]int64, error) {
	known, err := FileNames(ctx, tx)
	if err != nil {
		return nil, err
	}
	numbers, last := Numbers(known), int64(0)
	for number := range known {
		last = max(last, number)
	}
	fresh := column.NewBatch(fileTable.Fields())
	for _, name := range names {
		if _, ok := numbers[name]; !ok {
			last++
			numbers[name] = last
			row(fresh, last, name, run, nil, nil, nil)
		}
	}
	return numbers, warehouse.AppendAll(ctx, tx, fileTable, fresh)
}

// Numbers returns the numbers of files by their names, given the names by numbers.
func Numbers(names map[int64]string) map[string]int64 {
	numbers := make(map[string]int64, len(names))
	for number, name := range names {
		numbers[name] = max(numbers[name], number)
	}
	return numbers
}

// Moved writes down that files have other names than before.
func Moved(ctx context.Context, tx warehouse.Tx, list []File, run int64) error {
	known, err := FilesKnown(ctx, tx)
	if err != nil || len(list) == 0 {
		return err
	}
	last, met := int64(0), map[string]int64{} // files that another step of the run has met under their new names
	for _, f := range known {
		if last = max(last, f.Number); f.FirstRun == run {
			met[f.Name] = f.Number
		}
	}
	fresh := column.NewBatch(fileTable.Fields())
	for _, f := range list {
		if number, ok := met[f.Name]; ok {
			if err := amendRow(ctx, tx, fileTable, 1, []string{"file", "moved_from"}, number, f.MovedFrom); err != nil {
				return err
			}
			continue
		}
		last++
		row(fresh, last, f.Name, run, orNull(f.Content), f.MovedFrom, nil)
	}
	return warehouse.AppendAll(ctx, tx, fileTable, fresh)
}

// KeepContents writes down what is in files, by their numbers, where it is other than before.
func KeepContents(ctx context.Context, tx warehouse.Tx, contents map[int64]string) error {
	known, err := FilesKnown(ctx, tx)
	if err != nil {
		return err
	}
	fields := pick(fileTable, "file", "content")
	b := column.NewBatch(fields)
	for _, f := range known {
		if c, ok := contents[f.Number]; ok && c != f.Content {
			row(b, f.Number, c)
		}
	}
	if b.N == 0 {
		return nil
	}
	_, err = tx.Amend(ctx, fileTable.Name, 1, fields, b)
	return err
}

// FilesKnown returns all files, in the order of their numbers.
func FilesKnown(ctx context.Context, r warehouse.Reader) ([]File, error) {
	there, err := r.Describe(ctx, fileTable.Name)
	if err != nil || there == nil {
		return nil, err
	}
	fields := pick(fileTable, "file", "name", "first_run", "content", "moved_from")
	if !there.Has("moved_from") { // an older version of the program made the table
		fields = fields[:3]
	}
	b, err := warehouse.ReadAll(ctx, r, warehouse.Query{Table: fileTable.Name, Fields: fields, OrderBy: []string{"file"}})
	if err != nil {
		return nil, err
	}
	list := make([]File, b.N)
	for i := range list {
		list[i] = File{Number: b.Cols[0].Int[i], Name: b.Cols[1].Text[i], FirstRun: b.Cols[2].Int[i]}
		if len(fields) > 3 {
			list[i].Content, list[i].MovedFrom = b.Cols[3].Text[i], b.Cols[4].Int[i]
		}
	}
	return list, nil
}

// Uncompressed returns the name of a file without what compression adds: by it a file is known again.
func Uncompressed(name string) string {
	return strings.TrimSuffix(strings.TrimSuffix(name, ".gz"), ".zst")
}

// Arrivals says when files came: by their names without what compression adds, the numbers that they got first. names
// are those of all files, as [FileNames] returns them.
func Arrivals(names map[int64]string) map[string]int64 {
	first := map[string]int64{}
	for number, name := range names {
		name = Uncompressed(name)
		if least, ok := first[name]; !ok || number < least {
			first[name] = number
		}
	}
	return first
}

// Together returns arrivals in which all files came at once: where rows of several files become one, a row has no file
// of its own, and what the files say together counts (rule R17).
func Together(arrivals map[string]int64) map[string]int64 {
	for name := range arrivals {
		arrivals[name] = 0
	}
	return arrivals
}

// FileNames returns the names of all files by their numbers: those that they have now.
func FileNames(ctx context.Context, r warehouse.Reader) (map[int64]string, error) {
	list, err := FilesKnown(ctx, r)
	if err != nil {
		return nil, err
	}
	names := make(map[int64]string, len(list))
	for _, f := range slices.Backward(list) { // the last name is known first
		if _, moved := names[f.Number]; !moved {
			names[f.Number] = f.Name
		}
		if f.MovedFrom != 0 {
			names[f.MovedFrom] = names[f.Number]
		}
	}
	return names, nil
}
