package ledger

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/parse"
	"ironmonger/internal/warehouse"
)

// Before is what a run did to a table, in a form that can be taken back. Rows are kept as they were, by the names of
// their columns.
type Before struct {
	Run, Number int64
	Table       string
	Did         Did
	Key         string // of a row that was changed: the columns that identify it, as they are since
	Row         string // the row before it was changed or removed, or as it was added
}

// Did is what was done to a table.
type Did string

// What can be done.
const (
	BeganRun    Did = "began"    // nothing yet: what the run does from here on is kept
	MadeTable   Did = "made"     // the table was made
	FilledTable Did = "filled"   // the table was empty, and has rows since
	WroteRows   Did = "wrote"    // rows were added that have the number of the run
	AddedRow    Did = "added"    // a row was added
	ChangedRow  Did = "changed"  // a row was changed
	RemovedRow  Did = "removed"  // a row was removed
	OtherChange Did = "elsewise" // something was done that cannot be taken back
)

var beforeTable = &warehouse.Table{
	Name:    "load_before",
	Primary: []string{"run", "number"},
	Index:   []string{"did"},
	Columns: []warehouse.Column{
		required("run", integer), required("number", integer), required("table_name", text), required("did", text),
		optional("key", text), optional("row", text),
	},
}

// Untouched reports whether a table of the ledger stays as it is when runs are taken back: what is known of runs, of
// keys that were ever assigned, of the order in which files came, of columns, and of erased members.
func Untouched(table string) bool {
	for _, t := range []*warehouse.Table{runTable, stepTable, keyTable, fileTable, erasedTable, columnTable, beforeTable} {
		if t.Name == table {
			return true
		}
	}
	return false
}

// BeforeBatch returns a batch for entries; [Before.Put] adds them.
func BeforeBatch() *column.Batch { return column.NewBatch(beforeTable.Fields()) }

// Put adds the entry to a batch.
func (e *Before) Put(b *column.Batch) {
	row(b, e.Run, e.Number, e.Table, string(e.Did), orNull(e.Key), orNull(e.Row))
}

// KeepBefore writes entries down.
func KeepBefore(ctx context.Context, tx warehouse.Tx, b *column.Batch) error {
	return warehouse.AppendAll(ctx, tx, beforeTable, b)
}

// BeforeOf returns the entries of a run in their order.
func BeforeOf(ctx context.Context, r warehouse.Reader, run int64) ([]Before, error) {
	match := column.Column{Type: integer}
	match.AppendInt(run)
	b, err := warehouse.ReadAll(ctx, r, warehouse.Query{
		Table:   beforeTable.Name,
		Fields:  beforeTable.Fields(),
		By:      []string{"run"},
		Match:   []*column.Column{&match},
		OrderBy: []string{"number"},
	})
	if err != nil {
		return nil, err
	}
	list := make([]Before, b.N)
	for i := range list {
		list[i] = Before{
			Run:    b.Cols[0].Int[i],
			Number: b.Cols[1].Int[i],
			Table:  b.Cols[2].Text[i],
			Did:    Did(b.Cols[3].Text[i]),
			Key:    b.Cols[4].Text[i],
			Row:    b.Cols[5].Text[i],
		}
	}
	return list, nil
}

// RunsBefore lists the runs that have entries, in order.
func RunsBefore(ctx context.Context, r warehouse.Reader) ([]int64, error) {
	if there, err := r.Describe(ctx, beforeTable.Name); err != nil || there == nil {
		return nil, err
	}
	match := column.Column{Type: text}
	match.AppendText(string(BeganRun))
	b, err := warehouse.ReadAll(ctx, r, warehouse.Query{
		Table:   beforeTable.Name,
		Fields:  pick(beforeTable, "run"),
		By:      []string{"did"},
		Match:   []*column.Column{&match},
		OrderBy: []string{"run"},
	})
	if err != nil {
		return nil, err
	}
	return slices.Clone(b.Cols[0].Int), nil
}

// ForgetBefore deletes the entries of runs, which cannot be taken back any more.
func ForgetBefore(ctx context.Context, tx warehouse.Tx, runs []int64) error {
	b := column.NewBatch(pick(beforeTable, "run"))
	for _, run := range runs {
		row(b, run)
	}
	if b.N == 0 {
		return nil
	}
	_, err := tx.Remove(ctx, beforeTable.Name, pick(beforeTable, "run"), b)
	return err
}

// RowText writes some columns of a row, by their names.
func RowText(fields []column.Field, cols []*column.Column, i int) string {
	b := []byte{'{'}
	for k, f := range fields {
		if k > 0 {
			b = append(b, ',')
		}
		name, _ := json.Marshal(f.Name)
		b = append(append(b, name...), ':')
		if cols[k].Null[i] {
			b = append(b, "null"...)
			continue
		}
		value, _ := json.Marshal(cols[k].Value(i))
		b = append(b, value...)
	}
	return string(append(b, '}'))
}

// AppendRowText adds a row that [RowText] has written to a batch: of a column that it does not have, null. A value of a
// column that is not among the fields is an error: it would be lost.
func AppendRowText(b *column.Batch, fields []column.Field, s string) error {
	var values map[string]*string
	if err := json.Unmarshal([]byte(s), &values); err != nil {
		return fmt.Errorf("a row that the ledger keeps cannot be read: %v", err)
	}
	for name, v := range values {
		if column.Find(fields, name) < 0 && v != nil {
			return fmt.Errorf("there is no column %s any more, which a row had then", name)
		}
	}
	rd := parse.NewReader(nil)
	for k, f := range fields {
		c, v := &b.Cols[k], values[f.Name]
		switch {
		case v == nil:
			c.AppendNull()
		case f.Type.Kind == column.Text:
			c.AppendText(*v)
		default:
			i := len(c.Null)
			c.AppendNull()
			if err := rd.Set(c, i, *v); err != nil {
				return fmt.Errorf("a row that the ledger keeps cannot be read: %s: %v", f.Name, err)
			}
		}
	}
	b.N++
	return nil
}

// ReadFileOf returns the file that an entry says was read; "" if it says nothing of that.
func ReadFileOf(e Before) string {
	if e.Table != readTable.Name || e.Row == "" {
		return ""
	}
	var values map[string]string
	if json.Unmarshal([]byte(e.Row), &values) != nil {
		return ""
	}
	return values["file"]
}

// FilesReadBy lists the files that a run was the last to read, each once.
func FilesReadBy(ctx context.Context, r warehouse.Reader, run int64) ([]string, error) {
	match := column.Column{Type: integer}
	match.AppendInt(run)
	b, err := warehouse.ReadAll(ctx, r, warehouse.Query{
		Table:   readTable.Name,
		Fields:  pick(readTable, "file"),
		By:      []string{"run"},
		Match:   []*column.Column{&match},
		OrderBy: []string{"file"},
	})
	if err != nil {
		return nil, err
	}
	return slices.Compact(slices.Clone(b.Cols[0].Text)), nil
}

// MarkUndone writes down that a run was taken back.
func MarkUndone(ctx context.Context, tx warehouse.Tx, run int64) error {
	return amendRow(ctx, tx, runTable, 1, []string{"run", "state"}, run, Undone)
}
