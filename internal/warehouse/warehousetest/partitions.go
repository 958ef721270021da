package warehousetest

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// testPartitions: a table in parts, more than a hundred of them, holds what a whole one does, in whatever order and
// transactions its rows come; rows move from one part to another.
func testPartitions(t *testing.T, open func() warehouse.Warehouse) {
	w := opened(t, open)
	of := table("part", Field("no", "integer"), Field("the \"day\"", "integer"), Field("word", "text"))
	of.Columns[1].NotNull = true
	of.Partition = &warehouse.Partition{Column: "the \"day\"", Step: 100}
	var rows []string
	for n := range 140 {
		rows = append(rows, fmt.Sprintf("%d|%d|%s", n, (2010+n/12)*10000+(n%12+1)*100+n%28+1, strings.Repeat("w", n%5)))
	}
	rows = append(rows, "140|-2|special", "141|20301231|far", "142|0|zero")
	add := func(tx warehouse.Tx, rows ...string) {
		t.Helper()
		a, err := warehouse.AppendTo(ctx, tx, of)
		if err != nil {
			t.Fatal(err)
		}
		b := batch(t, of.Fields(), rows...)
		if err := a.Append(pointers(b)); err != nil {
			t.Fatal(err)
		}
		if n, err := a.Close(); err != nil || n != int64(len(rows)) {
			t.Fatalf("%d rows added: %v", n, err)
		}
	}
	Transact(t, w, func(tx warehouse.Tx) {
		if err := tx.Create(ctx, of); err != nil {
			t.Fatal(err)
		}
		add(tx, rows[:130]...)
		if err := tx.Constrain(ctx, of); err != nil {
			t.Fatal(err)
		}
	})
	Transact(t, w, func(tx warehouse.Tx) {
		add(tx, rows[130:]...)
		add(tx, "143|20100131|again", "144|20301201|again")
	})
	rows = append(rows, "143|20100131|again", "144|20301201|again")
	slices.Sort(rows)
	want := strings.Join(rows, "\n")
	if got := Rows(t, w, all(of)); got != want {
		t.Fatalf("%s\nare not\n%s", got, want)
	}
	Transact(t, w, func(tx warehouse.Tx) { // from one part to another, to one that is not there, and to that of the rest
		b := batch(t, of.Fields()[:2], "0|20110105", "1|20501231", "140|20100301", "2|-2")
		if n, err := tx.Amend(ctx, of.Name, 1, of.Fields()[:2], b); err != nil || n != 4 {
			t.Fatalf("%d rows amended: %v", n, err)
		}
		if n, err := tx.Remove(ctx, of.Name, of.Fields()[:1], batch(t, of.Fields()[:1], "141", "3")); err != nil || n != 2 {
			t.Fatalf("%d rows removed: %v", n, err)
		}
		add(tx, "145|20501230|beside")
	})
	text := Rows(t, w, warehouse.Query{Table: of.Name, Fields: of.Fields(), By: []string{"no"},
		Match: column.Pointers(batch(t, of.Fields()[:1], "0", "1", "2", "3", "140", "141", "145").Cols)})
	if want := "0|20110105|\n140|20100301|special\n145|20501230|beside\n1|20501231|w\n2|-2|ww"; text != want {
		t.Errorf("%s\nare not\n%s", text, want)
	}
}
