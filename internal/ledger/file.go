package ledger

import (
	"context"
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

// Files returns the numbers of files by their names, those that the ledger knows and new ones for others.
func Files(ctx context.Context, tx warehouse.Tx, names []string, run int64) (map[string]int64, error) {
	known, err := FileNames(ctx, tx)
	if err != nil {
		return nil, err
	}
	numbers := make(map[string]int64, len(known))
	last := int64(0)
	for number, name := range known {
		numbers[name] = number
		last = max(last, number)
	}
	fresh := column.NewBatch(fileTable.Fields())
	for _, name := range names {
		if _, ok := numbers[name]; !ok {
			last++
			numbers[name] = last
			row(fresh, last, name, run)
		}
	}
	return numbers, warehouse.AppendAll(ctx, tx, fileTable, fresh)
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

// FileNames returns the names of all files by their numbers.
func FileNames(ctx context.Context, r warehouse.Reader) (map[int64]string, error) {
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{Table: fileTable.Name, Fields: pick(fileTable, "file", "name")},
	)
	if err != nil {
		return nil, err
	}
	names := make(map[int64]string, b.N)
	for i := range b.N {
		names[b.Cols[0].Int[i]] = b.Cols[1].Text[i]
	}
	return names, nil
}
