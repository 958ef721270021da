package warehouse_test

import (
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/column"
	"ironmonger/internal/startest"
	"ironmonger/internal/warehouse"
)

// TestRemoved removes many rows to which a large table could point: PostgreSQL looks for them, and does not read the whole table
// for each. Nothing that is made for it stays, and a row to which it does point is not removed.
func TestRemoved(t *testing.T) {
	connection, schema := startest.Postgres(t)
	at := warehouse.Location{Kind: "postgres", Connection: connection, Schema: schema}
	field := func(name string) warehouse.Column {
		return warehouse.Column{Field: column.Field{Name: name, Type: column.Type{Kind: column.Integer}}}
	}
	small := &warehouse.Table{Name: "dim_herd", Columns: []warehouse.Column{field("herd_key")}, Primary: []string{"herd_key"}}
	large := &warehouse.Table{
		Name: "fact_milking", Columns: []warehouse.Column{field("slip"), field("herd_key")},
		Primary: []string{"slip"}, Foreign: []warehouse.Foreign{{Column: "herd_key", Table: "dim_herd", Key: "herd_key"}},
	}
	in := func(do func(tx warehouse.Tx) error) error {
		db := open(t, at)
		defer db.Close()
		tx, err := db.Begin(ctx)
		if err != nil {
			t.Fatal(err)
		}
		defer tx.Rollback()
		if err := do(tx); err != nil {
			t.Fatal(err)
		}
		return tx.Commit()
	}
	err := in(func(tx warehouse.Tx) error {
		herds, slips := column.NewBatch(small.Fields()), column.NewBatch(large.Fields())
		for n := range int64(150_000) {
			if n < 1000 {
				herds.Cols[0].AppendInt(n)
				herds.N++
			}
			slips.Cols[0].AppendInt(n)
			slips.Cols[1].AppendInt(n % 500)
			slips.N++
		}
		for table, rows := range map[*warehouse.Table]*column.Batch{small: herds, large: slips} {
			if err := tx.Create(ctx, table); err != nil {
				return err
			}
			if err := warehouse.AppendAll(ctx, tx, table, rows); err != nil {
				return err
			}
		}
		if err := tx.Constrain(ctx, small); err != nil {
			return err
		}
		return tx.Constrain(ctx, large)
	})
	if err != nil {
		t.Fatal(err)
	}
	conn, err := pgx.Connect(ctx, connection)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	ask := func(sql string) (n int) {
		if err := conn.QueryRow(ctx, sql, schema).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	remove := func(from, to int64) error {
		return in(func(tx warehouse.Tx) error {
			b := column.NewBatch(small.Fields())
			for n := from; n < to; n++ {
				b.Cols[0].AppendInt(n)
				b.N++
			}
			_, err := tx.Remove(ctx, small.Name, small.Fields(), b)
			return err
		})
	}
	if _, err := conn.Exec(ctx, "CREATE INDEX sought_fact_milking_herd_key ON "+schema+".fact_milking (herd_key)"); err != nil { // it has stayed
		t.Fatal(err)
	}
	const reads = "SELECT seq_scan FROM pg_stat_user_tables WHERE schemaname = $1 AND relname = 'fact_milking'"
	before := ask(reads)
	if err := remove(500, 1000); err != nil {
		t.Fatal(err)
	}
	n := 0
	for range 100 { // until the server has counted what the session did
		if n = ask(reads) - before; n > 0 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if n < 1 || n > 20 {
		t.Errorf("the table was read %d times for 500 rows", n)
	}
	if n := ask("SELECT count(*) FROM pg_indexes WHERE schemaname = $1 AND tablename = 'fact_milking'"); n != 1 {
		t.Errorf("the table has %d indexes", n)
	}
	if err := remove(450, 500); err == nil || !strings.Contains(err.Error(), "foreign key") {
		t.Errorf("rows that others point to are removed: %v", err)
	}
}
