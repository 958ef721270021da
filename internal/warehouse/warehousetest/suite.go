// Package warehousetest is what every driver of a warehouse has to do, as tests: [Run] calls each method of the
// interfaces of package warehouse. A driver's own tests call it with a way to open an empty place, as often as it
// is asked.
package warehousetest

import (
	"context"
	"errors"
	"fmt"
	"math/big"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/parse"
	"ironmonger/internal/warehouse"
)

var ctx = context.Background()

// Run runs all tests. place gives a way to open a place that has no tables yet; each call of that opens the same
// place.
func Run(t *testing.T, place func(t *testing.T) (open func() warehouse.Warehouse)) {
	for _, test := range []struct {
		name string
		run  func(t *testing.T, open func() warehouse.Warehouse)
	}{
		{"values", testValues},
		{"amend remove match", testAmendRemoveMatch},
		{"repoint", testRepoint},
		{"tally", testTally},
		{"transactions", testTransactions},
		{"cancelled", testCancelled},
		{"hold", testHold},
		{"snapshot", testSnapshot},
		{"decimals", testDecimals},
		{"alter", testAlter},
		{"partitions", testPartitions},
		{"wrap", testWrap},
	} {
		t.Run(test.name, func(t *testing.T) { test.run(t, place(t)) })
	}
}

// opened opens a place for the time of a test.
func opened(t *testing.T, open func() warehouse.Warehouse) warehouse.Warehouse {
	w := open()
	t.Cleanup(func() {
		if err := w.Close(); err != nil {
			t.Error(err)
		}
	})
	return w
}

// Transact runs f in a transaction that is committed.
func Transact(t *testing.T, w warehouse.Warehouse, f func(tx warehouse.Tx)) {
	t.Helper()
	tx, err := w.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	f(tx)
	if err := tx.Commit(); err != nil {
		t.Fatal(err)
	}
}

// Field returns a field of a type, as models write it.
func Field(name, typ string) column.Field {
	t, err := column.ParseType(typ)
	if err != nil {
		panic(err)
	}
	return column.Field{Name: name, Type: t}
}

func table(name string, fields ...column.Field) *warehouse.Table {
	t := &warehouse.Table{Name: name, Primary: []string{fields[0].Name}}
	for i, f := range fields {
		t.Columns = append(t.Columns, warehouse.Column{Field: f, NotNull: i == 0})
	}
	return t
}

// batch makes rows of text; "∅" is null.
func batch(t *testing.T, fields []column.Field, rows ...string) *column.Batch {
	t.Helper()
	b := column.NewBatch(fields)
	b.Reset(len(rows))
	r := parse.NewReader(nil)
	for i, row := range rows {
		for k, value := range strings.Split(row, "|") {
			if value == "∅" {
				b.Cols[k].SetNull(i)
			} else if err := r.Set(&b.Cols[k], i, value); err != nil {
				t.Fatal(err)
			}
		}
	}
	return b
}

func pointers(b *column.Batch) (cols []*column.Column, rows []int32) {
	for k := range b.Cols {
		cols = append(cols, &b.Cols[k])
	}
	for i := range b.N {
		rows = append(rows, int32(i))
	}
	return
}

func insert(t *testing.T, tx warehouse.Tx, table *warehouse.Table, b *column.Batch) {
	t.Helper()
	a, err := tx.Append(ctx, table.Name, table.Fields())
	if err != nil {
		t.Fatal(err)
	}
	if err := a.Append(pointers(b)); err != nil {
		t.Fatal(err)
	}
	if n, err := a.Close(); err != nil || n != int64(b.N) {
		t.Fatalf("%d rows added, %v; want %d", n, err, b.N)
	}
}

// Rows reads an answer as text, sorted unless the query says an order.
func Rows(t *testing.T, r warehouse.Reader, q warehouse.Query) string {
	t.Helper()
	b, err := warehouse.ReadAll(ctx, r, q)
	if err != nil {
		t.Fatal(err)
	}
	var lines []string
	for i := range b.N {
		var parts []string
		for k := range b.Cols {
			if b.Cols[k].Null[i] {
				parts = append(parts, "∅")
			} else {
				parts = append(parts, b.Cols[k].Value(i))
			}
		}
		lines = append(lines, strings.Join(parts, "|"))
	}
	if len(q.OrderBy) == 0 {
		slices.Sort(lines)
	}
	return strings.Join(lines, "\n")
}

func all(t *warehouse.Table) warehouse.Query {
	return warehouse.Query{Table: t.Name, Fields: t.Fields()}
}

// testValues writes random values of every type, in appends of many sizes, and reads them back the same.
func testValues(t *testing.T, open func() warehouse.Warehouse) {
	types := []string{
		"integer",
		"decimal(9,2)",
		"decimal(15,0)",
		"decimal(15,15)",
		"decimal(18,4)",
		"decimal(38,6)",
		"double",
		"text",
		"boolean",
		"date",
		"timestamp",
		"time",
	}
	w := opened(t, open)
	fields := []column.Field{Field("id", "integer")}
	for i, typ := range types {
		fields = append(fields, Field(fmt.Sprintf("a %d \"quoted\"", i), typ))
	}
	values := table("values; with a name", fields...)
	r := rand.New(rand.NewPCG(1, 1))
	digits := func(n int) string {
		var b strings.Builder
		for range n {
			b.WriteByte(byte('0' + r.IntN(10)))
		}
		return b.String()
	}
	sign := func() string { return []string{"", "-"}[r.IntN(2)] }
	value := func(typ string) string {
		if r.IntN(8) == 0 {
			return "∅"
		}
		var p, s int
		if n, _ := fmt.Sscanf(typ, "decimal(%d,%d)", &p, &s); n == 2 {
			return sign() + digits(r.IntN(p-s+1)) + "." + digits(s + 1)[:max(s, 1)-btoi(s == 0)]
		}
		switch typ {
		case "integer":
			return sign() + digits(1+r.IntN(18))
		case "double":
			return sign() + digits(3) + "." + digits(12) + "e" + sign() + digits(2)
		case "boolean":
			return []string{"true", "false"}[r.IntN(2)]
		case "date":
			return fmt.Sprintf("%04d-%02d-%02d", 1+r.IntN(9999), 1+r.IntN(12), 1+r.IntN(28))
		case "timestamp":
			return fmt.Sprintf(
				"%04d-%02d-%02d %02d:%02d:%02d.%06d",
				1+r.IntN(9999),
				1+r.IntN(12),
				1+r.IntN(28),
				r.IntN(24),
				r.IntN(60),
				r.IntN(60),
				r.IntN(1000000),
			)
		case "time":
			return fmt.Sprintf("%02d:%02d:%02d", r.IntN(24), r.IntN(60), r.IntN(60))
		}
		return []string{"", "plain", "it's", `"`, "ünï", "1.50", "007", "a\nb", strings.Repeat("long ", 2000)}[r.IntN(9)]
	}
	var lines []string
	for i := range 1200 {
		line := fmt.Sprint(i)
		for _, typ := range types {
			v := value(typ)
			if strings.HasPrefix(typ, "decimal") && (v == "." || v == "-.") {
				v = "0"
			}
			line += "|" + v
		}
		lines = append(lines, line)
	}
	b := batch(t, fields, lines...)
	Transact(t, w, func(tx warehouse.Tx) {
		if err := tx.Create(ctx, values); err != nil {
			t.Fatal(err)
		}
		a, err := tx.Append(ctx, values.Name, fields)
		if err != nil {
			t.Fatal(err)
		}
		cols, numbers := pointers(b)
		for len(numbers) > 0 {
			n := min(len(numbers), r.IntN(120))
			if err := a.Append(cols, numbers[:n]); err != nil {
				t.Fatal(err)
			}
			numbers = numbers[n:]
		}
		if n, err := a.Close(); err != nil || n != 1200 {
			t.Fatal(n, err)
		}
	})
	back, err := warehouse.ReadAll(
		ctx,
		w,
		warehouse.Query{Table: values.Name, Fields: fields, OrderBy: []string{"id"}},
	)
	if err != nil {
		t.Fatal(err)
	}
	for k := range fields {
		for i := range b.N {
			if !b.Cols[k].Equal(i, &back.Cols[k], i) {
				t.Fatalf(
					"%s, row %d: wrote %q, read %q",
					fields[k].Type,
					i,
					b.Cols[k].Value(i),
					back.Cols[k].Value(i),
				)
			}
		}
	}
	names, err := w.Describe(ctx, values.Name)
	if err != nil || !slices.Equal(names.Names(), column.Names(fields)) {
		t.Errorf("described as %v, %v", names, err)
	}
	if names, err := w.Describe(ctx, "no such table"); err != nil || names != nil {
		t.Errorf("no such table: %v, %v", names, err)
	}
	testStage(t, w, values, b)
}

// testStage: a statement of a warehouse that runs such reads rows that are on their way as they are.
func testStage(t *testing.T, w warehouse.Warehouse, values *warehouse.Table, b *column.Batch) {
	copied, from := table("values copied", values.Fields()...), ""
	var types []column.Type
	var names []string
	for k, f := range values.Fields() {
		types, names = append(types, f.Type), append(names, fmt.Sprintf("c%d", k))
	}
	Transact(t, w, func(tx warehouse.Tx) {
		run := tx.Statements()
		if run == nil {
			return
		}
		if err := tx.Create(ctx, copied); err != nil {
			t.Fatal(err)
		}
		stage, err := run.Stage(ctx, "load_stage", types)
		if err != nil {
			t.Fatal(err)
		}
		cols, rows := pointers(b)
		for _, part := range [][]int32{rows[:7], rows[7:]} {
			if err := stage.Add(cols, part); err != nil {
				t.Fatal(err)
			}
		}
		if from, err = stage.Table(ctx); err != nil {
			t.Fatal(err)
		}
		n, err := run.Insert(ctx, copied, column.Names(values.Fields()), fmt.Sprintf("SELECT %s FROM %s", strings.Join(names, ", "), from))
		if err != nil || n != int64(b.N) {
			t.Fatal(n, err)
		}
		for range 2 {
			if err := stage.Close(); err != nil {
				t.Fatal(err)
			}
		}
	})
	if from == "" {
		return
	}
	if got, want := Rows(t, w, all(copied)), Rows(t, w, all(values)); got != want {
		t.Error("rows on their way are others than those in the table")
	}
	tx, err := w.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	if err := tx.Statements().Ask(ctx, "SELECT 1 FROM "+from, func([][]byte) error { return nil }); err == nil {
		t.Error("the table of rows on their way is still there")
	}
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

func testAmendRemoveMatch(t *testing.T, open func() warehouse.Warehouse) {
	w := opened(t, open)
	boats := table(
		"boats",
		Field("id", "integer"),
		Field("reg", "text"),
		Field("since", "date"),
		Field("size", "decimal(9,2)"),
	)
	f := boats.Fields()
	Transact(t, w, func(tx warehouse.Tx) {
		if err := tx.Create(ctx, boats); err != nil {
			t.Fatal(err)
		}
		insert(t, tx, boats, batch(t, f, "1|N|2024-01-01|1.50", "2|S|2024-01-02|2.50", "3|∅|∅|∅", "4|N|2024-01-04|4"))
		n, err := tx.Amend(
			ctx,
			"boats",
			1,
			[]column.Field{f[0], f[3], f[1]},
			batch(t, []column.Field{f[0], f[3], f[1]}, "2|7.25|X", "3|∅|Y", "9|1|Z"),
		)
		if err != nil || n != 2 {
			t.Errorf("amended %d, %v", n, err)
		}
		n, err = tx.Remove(
			ctx,
			"boats",
			[]column.Field{f[0], f[1]},
			batch(t, []column.Field{f[0], f[1]}, "1|N", "4|S"),
		)
		if err != nil || n != 1 {
			t.Errorf("removed %d, %v", n, err)
		}
		if got := Rows(t, tx, all(boats)); got != "2|X|2024-01-02|7.25\n3|Y|∅|∅\n4|N|2024-01-04|4.00" {
			t.Error(got)
		}
	})
	for range 2 { // left before its end, an answer leaves nothing behind
		answer, err := w.Read(ctx, all(boats))
		if err != nil {
			t.Fatal(err)
		}
		if more, err := answer.Next(column.NewBatch(f)); !more || err != nil {
			t.Error(more, err)
		}
		for range 2 {
			if err := answer.Close(); err != nil {
				t.Error(err)
			}
		}
	}
	match := batch(t, f[1:3], "N|2024-01-04", "X|2024-01-02", "X|2030-01-01", "∅|2024-01-04", "Y|∅")
	cols, _ := pointers(match)
	if got := Rows(t, w, warehouse.Query{Table: "boats", Fields: f[:1], By: []string{"reg", "since"}, Match: cols}); got != "2\n4" {
		t.Error(got)
	}
	many := column.Column{Type: f[1].Type} // more than a statement can have, of a column without an index
	for i := range 40_000 {
		many.AppendText(fmt.Sprintf("R%d", i))
	}
	many.AppendText("N")
	if got := Rows(t, w, warehouse.Query{Table: "boats", Fields: f[:1], By: []string{"reg"}, Match: []*column.Column{&many}}); got != "4" {
		t.Error(got)
	}
	if got := Rows(t, w, warehouse.Query{Table: "boats", Fields: f[:1], OrderBy: []string{"reg"}, Limit: 2}); got != "4\n2" {
		t.Error(got)
	}
}

// testRepoint moves keys, by time and without, in a circle, so that a move must not meet what another did.
func testRepoint(t *testing.T, open func() warehouse.Warehouse) {
	w := opened(t, open)
	for _, typ := range []string{"date", "timestamp", "integer"} {
		trips := table("trips "+typ, Field("id", "integer"), Field("boat_key", "integer"), Field("at", typ))
		times := map[string][]string{"date": {"2024-01-01", "2024-01-02", "2024-01-03"}, "timestamp": {"2024-01-01 00:00:00", "2024-01-02 10:00:00.5", "2024-01-03 00:00:00"}, "integer": {"20240101", "20240102", "20240103"}}[typ]
		value := func(s string) int64 { return batch(t, []column.Field{{Type: trips.Columns[2].Type}}, s).Cols[0].Int[0] }
		Transact(t, w, func(tx warehouse.Tx) {
			if err := tx.Create(ctx, trips); err != nil {
				t.Fatal(err)
			}
			var lines []string
			for i := range 9 {
				lines = append(lines, fmt.Sprintf("%d|%d|%s", i, 1+i/3, times[i%3]))
			}
			insert(t, tx, trips, batch(t, trips.Fields(), append(lines, "9|1|∅", "10|∅|"+times[0])...))
			n, err := tx.Repoint(
				ctx,
				&warehouse.Repointing{
					Table:    trips.Name,
					Key:      "boat_key",
					Time:     "at",
					TimeType: trips.Columns[2].Type,
					Moves: []warehouse.Move{
						{
							Old:  1,
							New:  2,
							From: value(times[0]),
							To:   value(times[1]),
						}, {Old: 2, New: 1, From: value(times[1]), To: value(times[2])}, {Old: 1, New: 7, From: value(times[2]), To: value(times[2]) + 1}},
				},
			)
			if err != nil || n != 3 {
				t.Errorf("%s: %d repointed, %v", typ, n, err)
			}
			got := Rows(
				t,
				tx,
				warehouse.Query{Table: trips.Name, Fields: trips.Fields()[1:2], OrderBy: []string{"id"}},
			)
			if want := "2\n1\n7\n2\n1\n2\n3\n3\n3\n1\n∅"; got != want {
				t.Errorf("%s: %q, want %q", typ, got, want)
			}
			if n, err = tx.Repoint(ctx, &warehouse.Repointing{Table: trips.Name, Key: "boat_key", Moves: []warehouse.Move{{Old: 1, New: 2}, {Old: 2, New: 1}}}); err != nil ||
				n != 6 {
				t.Errorf("%s: %d repointed, %v", typ, n, err)
			}
		})
	}
}

// testTally adds up columns to the last place, also where floating point would not.
func testTally(t *testing.T, open func() warehouse.Warehouse) {
	w := opened(t, open)
	sums := table(
		"sums",
		Field("id", "integer"),
		Field("n", "integer"),
		Field("money", "decimal(15,2)"),
		Field("long", "decimal(30,3)"),
	)
	f := sums.Fields()
	Transact(t, w, func(tx warehouse.Tx) {
		if err := tx.Create(ctx, sums); err != nil {
			t.Fatal(err)
		}
		tally, err := tx.Tally(ctx, "sums", f[1:])
		if err != nil || tally.Rows != 0 || tally.Totals[2] != (exact.Int128{}) {
			t.Errorf("of nothing: %+v, %v", tally, err)
		}
		var lines []string
		want := make([]exact.Int128, 3)
		r := rand.New(rand.NewPCG(2, 2))
		for i := range 3000 {
			money, n := r.Int64N(2e13)-1e13, r.Int64()-1<<62
			long, _ := exact.Wide(r.Int64()).Mul(exact.Wide(int64(r.IntN(1000) - 500)))
			lines = append(
				lines,
				fmt.Sprintf(
					"%d|%d|%s|%s",
					i,
					n,
					exact.AppendDecimal(nil, exact.Wide(money), 2),
					exact.AppendDecimal(nil, long, 3),
				),
			)
			for k, v := range []exact.Int128{exact.Wide(n), exact.Wide(money), long} {
				want[k], _ = want[k].Add(v)
			}
		}
		insert(t, tx, sums, batch(t, f, append(lines, "9999|∅|∅|∅")...))
		tally, err = tx.Tally(ctx, "sums", f[1:])
		if err != nil || tally.Rows != 3001 || !slices.Equal(tally.Totals, want) {
			t.Errorf("%+v, %v; want %v", tally, err, want)
		}
		if tally, err = tx.Tally(ctx, "sums", f[2:3]); err != nil || tally.Totals[0] != want[1] {
			t.Errorf("%+v, %v; want %v", tally, err, want[1])
		}
	})
}

// testTransactions: nothing of a transaction that is rolled back, or not ended, remains; reads see what
// the same transaction wrote.
func testTransactions(t *testing.T, open func() warehouse.Warehouse) {
	w := opened(t, open)
	one := table("one", Field("id", "integer"), Field("name", "text"))
	one.Unique = []string{"name"}
	Transact(t, w, func(tx warehouse.Tx) {
		if err := tx.Create(ctx, one); err != nil {
			t.Fatal(err)
		}
		insert(t, tx, one, batch(t, one.Fields(), "1|a"))
		for range 2 {
			if err := tx.Constrain(ctx, one); err != nil {
				t.Fatal(err)
			}
		}
	})
	tx, err := w.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	two := table("two", Field("id", "integer"))
	if err := tx.Create(ctx, two); err != nil {
		t.Fatal(err)
	}
	insert(t, tx, one, batch(t, one.Fields(), "2|b"))
	if got := Rows(t, tx, all(one)); got != "1|a\n2|b" {
		t.Error(got)
	}
	if err := tx.Rollback(); err != nil {
		t.Fatal(err)
	}
	if err := tx.Rollback(); err != nil {
		t.Error("a second rollback:", err)
	}
	if got := Rows(t, w, all(one)); got != "1|a" {
		t.Error("after the rollback:", got)
	}
	if names, _ := w.Describe(ctx, "two"); names != nil {
		t.Error("the table made in a transaction that was rolled back is there:", names)
	}
	tx, err = w.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	a, err := tx.Append(ctx, "one", one.Fields())
	if err != nil {
		t.Fatal(err)
	}
	err = a.Append(pointers(batch(t, one.Fields(), "3|a")))
	if _, cerr := a.Close(); err == nil {
		err = cerr
	}
	if err == nil && !w.Capabilities().Keyless {
		t.Error("a name that is there was added to what is unique")
	}
	tx.Rollback()
	if got := Rows(t, w, all(one)); got != "1|a" {
		t.Error("after rows were refused:", got)
	}
	view := &warehouse.View{Name: "seen", Of: "one", Columns: []warehouse.Renamed{{From: "name", To: "seen name"}}}
	Transact(t, w, func(tx warehouse.Tx) {
		if err := tx.CreateView(ctx, view); err != nil {
			t.Fatal(err)
		}
	})
	if got := Rows(t, w, warehouse.Query{Table: "seen", Fields: []column.Field{Field("seen name", "text")}}); got != "a" {
		t.Error(got)
	}
}

// testCancelled: a transaction whose context ends stops soon, and can still be rolled back.
func testCancelled(t *testing.T, open func() warehouse.Warehouse) {
	w := opened(t, open)
	ctx, cancel := context.WithCancel(ctx)
	tx, err := w.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	cancel()
	if err := tx.Create(ctx, table("late", Field("id", "integer"))); !errors.Is(err, context.Canceled) {
		t.Error("after the end:", err)
	}
	if err := tx.Rollback(); err != nil {
		t.Error(err)
	}
	Transact(t, w, func(warehouse.Tx) {})
}

// testHold: one at a time holds a warehouse.
func testHold(t *testing.T, open func() warehouse.Warehouse) {
	w := opened(t, open)
	for range 3 {
		hold, err := w.Hold(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Hold(ctx); !errors.Is(err, warehouse.ErrHeld) {
			t.Errorf("held twice: %v", err)
		}
		if err := hold.Check(ctx); err != nil {
			t.Error(err)
		}
		Transact(t, w, func(warehouse.Tx) {}) // the holder may write
		hold.Release()
	}
}

// testSnapshot: a snapshot is of one time, whatever is committed meanwhile.
func testSnapshot(t *testing.T, open func() warehouse.Warehouse) {
	writer, reader := open(), open()
	defer writer.Close()
	defer reader.Close()
	table := &warehouse.Table{
		Name:    "one",
		Columns: []warehouse.Column{{Field: column.Field{Name: "n", Type: column.Type{Kind: column.Integer}}}},
	}
	add := func(tx warehouse.Tx) {
		a, err := tx.Append(ctx, "one", table.Fields())
		if err != nil {
			t.Fatal(err)
		}
		b := column.NewBatch(table.Fields())
		b.Cols[0].AppendInt(1)
		if err := a.Append([]*column.Column{&b.Cols[0]}, []int32{0}); err != nil {
			t.Fatal(err)
		}
		if _, err := a.Close(); err != nil {
			t.Fatal(err)
		}
	}
	Transact(t, writer, func(tx warehouse.Tx) {
		if err := tx.Create(ctx, table); err != nil {
			t.Fatal(err)
		}
		add(tx)
	})
	count := func(r warehouse.Reader) int {
		b, err := warehouse.ReadAll(ctx, r, warehouse.Query{Table: "one", Fields: table.Fields()})
		if err != nil {
			t.Fatal(err)
		}
		return b.N
	}
	s, err := reader.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	before := count(s)
	Transact(t, writer, add)
	if after := count(s); before != 1 || after != 1 {
		t.Errorf("the snapshot has %d rows, then %d", before, after)
	}
	if err := s.Close(); err != nil {
		t.Error(err)
	}
	if now := count(reader); now != 2 {
		t.Errorf("%d rows", now)
	}
}

// testDecimals: decimals are kept exactly whatever their digits, and in plain SQL they compare, sort and add up as
// numbers.
func testDecimals(t *testing.T, open func() warehouse.Warehouse) {
	w := opened(t, open)
	random := rand.New(rand.NewPCG(5, 6))
	fields := []column.Field{
		Field("no", "integer"),
		Field("few", "decimal(9,2)"),
		Field("fifteen", "decimal(15,4)"),
		Field("eighteen", "decimal(18,2)"),
		Field("whole", "decimal(18,0)"),
		Field("many", "decimal(38,10)"),
	}
	money := table("money", fields...)
	money.Primary = []string{"no"}
	var lines []string
	for n := range 500 {
		line := fmt.Sprint(n)
		for _, f := range fields[1:] {
			digits := 1 + random.IntN(min(int(f.Type.Precision), 35))
			text := ""
			for range digits {
				text += string(rune('0' + random.IntN(10)))
			}
			x, _ := new(big.Int).SetString(text, 10)
			if random.IntN(3) == 0 {
				x.Neg(x)
			}
			line += "|" + new(
				big.Rat,
			).SetFrac(x, new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(f.Type.Scale)), nil)).
				FloatString(int(f.Type.Scale))
		}
		lines = append(lines, line)
	}
	b := batch(t, fields, lines...)
	Transact(t, w, func(tx warehouse.Tx) {
		if err := tx.Create(ctx, money); err != nil {
			t.Fatal(err)
		}
		insert(t, tx, money, b)
		tally, err := tx.Tally(ctx, "money", fields[1:])
		if err != nil {
			t.Fatal(err)
		}
		for k := range fields[1:] {
			want := exact.Int128{}
			for i := range b.N {
				want, _ = want.Add(b.Cols[1+k].Exact(i))
			}
			if tally.Totals[k] != want {
				t.Errorf("%s adds up to %v, and should to %v", fields[1+k].Name, tally.Totals[k], want)
			}
		}
	})
	if got := Rows(t, w, warehouse.Query{Table: "money", Fields: fields, OrderBy: []string{"no"}}); got != strings.Join(
		lines,
		"\n",
	) &&
		got != strings.Join(lines, "\n")+"\n" {
		t.Errorf("other values came back:\n%s", got[:200])
	}
	if columns, err := w.Describe(ctx, "money"); err != nil || len(columns) != len(fields) ||
		columns[3].Name != "eighteen" ||
		columns[3].Type != w.Declares("money", fields[3].Type) {
		t.Errorf("%+v, %v", columns, err)
	}
	for k, f := range fields[1:] { // found by their values
		match := column.Column{Type: f.Type}
		match.Append(&b.Cols[1+k], 7)
		if got := Rows(t, w, warehouse.Query{Table: "money", Fields: fields[:1], By: []string{f.Name}, Match: []*column.Column{&match}}); !strings.Contains(
			got,
			"7",
		) {
			t.Errorf("%s is not found by its value: %s", f.Name, got)
		}
	}
}

// testAlter changes what stands: columns that are added with values and without, names of types, and views that go.
func testAlter(t *testing.T, open func() warehouse.Warehouse) {
	w := opened(t, open)
	one := table("one", Field("id", "integer"), Field("money", "decimal(18,2)"))
	types := []string{
		"integer",
		"decimal(9,2)",
		"decimal(18,4)",
		"text",
		"boolean",
		"date",
		"timestamp",
		"time",
		"double",
	}
	view := &warehouse.View{Name: "seen", Of: "one", Columns: []warehouse.Renamed{{From: "id", To: "no"}}}
	Transact(t, w, func(tx warehouse.Tx) {
		if err := tx.Create(ctx, one); err != nil {
			t.Fatal(err)
		}
		insert(t, tx, one, batch(t, one.Fields(), "1|2.50", "2|∅"))
		seven := int64(7)
		if err := tx.AddColumn(ctx, "one", warehouse.Column{Field: Field("with seven", "integer"), NotNull: true}, &seven); err != nil {
			t.Fatal(err)
		}
		for _, typ := range types {
			if err := tx.AddColumn(ctx, "one", warehouse.Column{Field: Field("a "+typ, typ)}, nil); err != nil {
				t.Fatal(err)
			}
		}
		if err := tx.Renew(ctx, "one", nil); err != nil { // nothing is old
			t.Fatal(err)
		}
		if err := tx.CreateView(ctx, view); err != nil {
			t.Fatal(err)
		}
	})
	stands, err := w.Describe(ctx, "one")
	if err != nil || len(stands) != 3+len(types) || stands[2].NotNull == w.Capabilities().Keyless || stands[3].NotNull {
		t.Fatalf("%+v, %v", stands, err)
	}
	fields := []column.Field{Field("id", "integer"), Field("with seven", "integer")}
	for k, typ := range types {
		f := Field("a "+typ, typ)
		if got := stands[3+k]; got.Name != f.Name || got.Type != w.Declares("one", f.Type) || got.Old {
			t.Errorf("%s stands as %+v; the driver declares %s", typ, got, w.Declares("one", f.Type))
		}
		fields = append(fields, f)
	}
	empty := strings.Repeat("|∅", len(types))
	if got := Rows(t, w, warehouse.Query{Table: "one", Fields: fields}); got != "1|7"+empty+"\n2|7"+empty {
		t.Error(got)
	}
	Transact(t, w, func(tx warehouse.Tx) {
		if err := tx.DropView(ctx, "seen"); err != nil {
			t.Fatal(err)
		}
	})
	if left, err := w.Describe(ctx, "seen"); err != nil || left != nil {
		t.Errorf("the view is still there: %v, %v", left, err)
	}
	Transact(t, w, func(tx warehouse.Tx) {
		if err := tx.Clear(ctx, "one"); err != nil {
			t.Fatal(err)
		}
		if left, err := tx.Tally(ctx, "one", nil); err != nil || left.Rows != 0 {
			t.Errorf("the table has %d rows, and was cleared: %v", left.Rows, err)
		}
	})
	Transact(t, w, func(tx warehouse.Tx) {
		if err := tx.Drop(ctx, "one"); err != nil {
			t.Fatal(err)
		}
	})
	if left, err := w.Describe(ctx, "one"); err != nil || left != nil {
		t.Errorf("the table is still there: %v, %v", left, err)
	}
}

// counted is a warehouse whose transactions count what is written: whoever has to see all of it wraps one so.
type counted struct {
	warehouse.Warehouse
	appends *int
}

func (c counted) Begin(ctx context.Context) (warehouse.Tx, error) {
	tx, err := c.Warehouse.Begin(ctx)
	return counting{tx, c.appends}, err
}

type counting struct {
	warehouse.Tx
	appends *int
}

func (c counting) Append(ctx context.Context, table string, fields []column.Field) (warehouse.Appender, error) {
	*c.appends++
	return c.Tx.Append(ctx, table, fields)
}

// testWrap: transactions can be wrapped, and what a driver says it can do holds.
func testWrap(t *testing.T, open func() warehouse.Warehouse) {
	appends := 0
	w := counted{opened(t, open), &appends}
	one := table("one", Field("id", "integer"))
	tx, err := w.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if err := tx.Create(ctx, one); err != nil {
		t.Fatal(err)
	}
	insert(t, tx, one, batch(t, one.Fields(), "1"))
	if err := tx.Rollback(); err != nil || appends != 1 {
		t.Errorf("%d appends, %v", appends, err)
	}
	c := w.Capabilities()
	if there, err := w.Describe(ctx, "one"); err != nil || (there == nil) != c.TransactionalDDL || c.Writers < 1 {
		t.Errorf("%+v: after a rollback %v, %v", c, there, err)
	}
}
