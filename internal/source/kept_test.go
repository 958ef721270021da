package source

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/star"
)

// TestOnce: what two steps of a run need is read once, in whatever columns they want it; what one needs is not kept;
// and a file that is another one by then is told.
func TestOnce(t *testing.T) {
	dir := t.TempDir()
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, "x.csv"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("a,b\n" + strings.Repeat("1,2\n", 3000) + "3,4\n")
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	text := column.Type{Kind: column.Text}
	s := &star.Source{
		Name:    star.Name{Text: "x"},
		Files:   star.Files{CSV: star.PlainCSV, Read: []star.Name{{Text: "x.csv"}}},
		Columns: []star.Column{{Name: star.Name{Text: "a"}, Type: text}, {Name: star.Name{Text: "b"}, Type: text}},
	}
	model := &star.Model{Sources: []*star.Source{s}, Facts: []*star.Fact{{Source: s}, {Source: s}}}
	read := func(in Input) (rows int, last string, err error) {
		b := column.NewBatch(in.Fields())
		for p, err := range in.Pieces(context.Background()) {
			if err == nil {
				err = p.Fill(b)
			}
			if err != nil {
				return rows, last, err
			}
			rows, last = rows+b.N, b.From.Raw(b.N-1)+" "+b.Cols[0].Value(b.N-1)
		}
		return rows, last, nil
	}
	open := func(in *Inputs, column string) Input {
		t.Helper()
		x, err := in.Open(context.Background(), s, nil, func(c string) bool { return c == column })
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	for _, uses := range []int{1, 2} {
		model.Facts = model.Facts[:uses:2]
		in := &Inputs{Model: model, Root: root, Piece: 1000}
		first, second := open(in, "a"), open(in, "b")
		for range first.Pieces(context.Background()) {
			break // who gives up half way keeps nothing
		}
		if rows, last, err := read(first); rows != 3001 || last != "3,4 3" || err != nil {
			t.Fatal(rows, last, err)
		}
		if err := os.Rename(filepath.Join(dir, "x.csv"), filepath.Join(dir, "y.csv")); err != nil {
			t.Fatal(err)
		}
		rows, last, err := read(second)
		if uses == 2 && (rows != 3001 || last != "3,4 4" || err != nil) || uses == 1 && err == nil {
			t.Errorf("%d uses: %d rows, %s, %v", uses, rows, last, err)
		}
		if room := in.kept.room; uses == 1 && room != 0 || uses == 2 && room != 3001*4 {
			t.Errorf("%d uses: %d bytes are kept", uses, room)
		}
		write("a,b\n5,6\n")
		if _, err := in.Open(context.Background(), s, nil, func(string) bool { return true }); err == nil ||
			!strings.Contains(err.Error(), "changed since the run began") {
			t.Errorf("another file: %v", err)
		}
		os.Rename(filepath.Join(dir, "y.csv"), filepath.Join(dir, "x.csv"))
	}
}
