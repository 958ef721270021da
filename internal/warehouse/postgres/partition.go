package postgres

import (
	"context"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/dberror"
	"ironmonger/internal/warehouse"
)

// span is the values of a partition: from a key on, and below another.
type span struct{ from, to int64 }

// divided is what is known of a table with partitions.
type divided struct {
	is    bool // the table has partitions
	spans []span
	rest  map[int64]bool // where partitions would begin for values that the rest has already
}

// rest is the name of the partition that has what no other has, such as the rows of special members.
func rest(table string) string { return clip(table + "_rest") }

// dividing returns what stands behind the columns of a table with partitions.
func dividing(t *warehouse.Table) string {
	if t.Partition == nil {
		return ""
	}
	return " PARTITION BY RANGE (" + quote(t.Partition.Column) + ")"
}

// restOf makes the partition that has the rest.
func (db *DB) restOf(t *warehouse.Table) string {
	return fmt.Sprintf("CREATE TABLE %s PARTITION OF %s DEFAULT", db.table(rest(t.Name)), db.table(t.Name))
}

// unique is the columns of the primary key: it has the column by which the table is divided, too, which the database wants.
func unique(t *warehouse.Table) []string {
	if p := t.Partition; p != nil {
		for _, name := range t.Primary {
			if name == p.Column {
				return t.Primary
			}
		}
		return append(append([]string(nil), t.Primary...), p.Column)
	}
	return t.Primary
}

// Divide makes partitions. A table that was made without any has none, and values that the rest has already stay there.
func (t *tx) Divide(ctx context.Context, table *warehouse.Table, values []int64) error {
	if table.Partition == nil {
		return nil
	}
	d, err := t.dividedTable(ctx, table)
	if err != nil || !d.is {
		return err
	}
	for _, v := range values {
		s := table.Partition.Span(v)
		if v < 0 || d.has(s) || d.rest[s[0]] {
			continue
		}
		if err := t.addPartition(ctx, table, d, span{s[0], s[1]}); err != nil {
			return err
		}
	}
	return nil
}

// has reports whether a partition has some of the values of a span.
func (d *divided) has(s [2]int64) bool {
	for _, is := range d.spans {
		if is.from < s[1] && s[0] < is.to {
			return true
		}
	}
	return false
}

func (t *tx) addPartition(ctx context.Context, table *warehouse.Table, d *divided, s span) error {
	const stands = "SELECT EXISTS (SELECT FROM %s WHERE %s >= $1 AND %[2]s < $2)"
	there := false
	if err := t.sent(); err != nil {
		return err
	}
	sql := fmt.Sprintf(stands, t.table(rest(table.Name)), quote(table.Partition.Column))
	if err := t.conn().QueryRow(ctx, sql, s.from, s.to).Scan(&there); err != nil {
		return dberror.Postgres(err)
	}
	if there {
		d.rest[s.from] = true
		return nil
	}
	d.spans = append(d.spans, s)
	name := clip(fmt.Sprintf("%s_%d", table.Name, s.from/table.Partition.Step))
	const add = "CREATE TABLE %s PARTITION OF %s FOR VALUES FROM (%d) TO (%d)"
	return t.exec(ctx, fmt.Sprintf(add, t.table(name), t.table(table.Name), s.from, s.to))
}

var bound = regexp.MustCompile(`FROM \('?(-?[0-9]+)'?\) TO \('?(-?[0-9]+)'?\)`)

// dividedTable looks which partitions a table has.
func (t *tx) dividedTable(ctx context.Context, table *warehouse.Table) (*divided, error) {
	if d, ok := t.divided[table.Name]; ok {
		return d, nil
	}
	if err := t.sent(); err != nil {
		return nil, err
	}
	d := &divided{rest: map[int64]bool{}}
	const sql = "SELECT pg_get_expr(c.relpartbound, c.oid) FROM pg_inherits AS i JOIN pg_class AS c ON c.oid = i.inhrelid WHERE i.inhparent = $1::regclass"
	rows, err := t.conn().Query(ctx, sql, t.table(table.Name))
	if err != nil {
		return nil, dberror.Postgres(err)
	}
	bounds, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, dberror.Postgres(err)
	}
	for _, b := range bounds {
		d.is = d.is || strings.HasPrefix(b, "DEFAULT")
		if m := bound.FindStringSubmatch(b); m != nil {
			from, _ := strconv.ParseInt(m[1], 10, 64)
			to, _ := strconv.ParseInt(m[2], 10, 64)
			d.spans = append(d.spans, span{from, to})
		}
	}
	t.divided[table.Name] = d
	return d, nil
}
