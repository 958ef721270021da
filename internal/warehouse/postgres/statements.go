package postgres

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/tidwall/gjson"

	"ironmonger/internal/column"
	"ironmonger/internal/dberror"
	"ironmonger/internal/warehouse"
)

// statements runs what others have written in the transaction.
type statements struct {
	*tx
	plain bool // values are written as people expect
}

// Statements returns what runs statements in the transaction.
func (t *tx) Statements() warehouse.Statements { return &statements{tx: t} }

func (s *statements) Named(table string) string { return s.table(table) }

func (s *statements) Run(ctx context.Context, sql string) (int64, error) {
	if err := s.begin(ctx); err != nil {
		return 0, err
	}
	tag, err := s.conn().Exec(ctx, sql)
	return tag.RowsAffected(), dberror.Postgres(err)
}

func (s *statements) RunApart(ctx context.Context, sql string) error {
	_, err := s.pool.Exec(ctx, sql)
	return dberror.Postgres(err)
}

// begin waits for rows that are on their way, and has the session write and read values as ISO 8601 has them.
func (s *statements) begin(ctx context.Context) error {
	if err := s.sent(); err != nil || s.plain {
		return err
	}
	s.plain = true
	const set = "SET LOCAL timezone = 'UTC'; SET LOCAL datestyle = 'ISO'; SET LOCAL extra_float_digits = 3; SET LOCAL jit = off; " +
		"SET LOCAL standard_conforming_strings = on"
	_, err := s.conn().Conn().PgConn().Exec(ctx, set).ReadAll()
	return dberror.Postgres(err)
}

func (s *statements) Ask(ctx context.Context, sql string, row func([][]byte) error) error {
	if err := s.begin(ctx); err != nil {
		return err
	}
	answer, err := s.conn().Query(ctx, sql, pgx.QueryResultFormats{pgx.TextFormatCode})
	if err != nil {
		return dberror.Postgres(err)
	}
	defer answer.Close()
	for answer.Next() {
		if err := row(answer.RawValues()); err != nil {
			return err
		}
	}
	return dberror.Postgres(answer.Err())
}

func (s *statements) Insert(ctx context.Context, t *warehouse.Table, columns []string, query string) (int64, error) {
	query = strings.TrimSpace(query)
	if p := t.Partition; p != nil {
		var values []int64
		ranges := fmt.Sprintf("SELECT DISTINCT %s / %d * %[2]d FROM (%s) AS q (%s) WHERE %[1]s >= 0", quote(p.Column), p.Step, query, quoteAll(columns, "%"))
		err := s.Ask(ctx, ranges, func(row [][]byte) error {
			v, err := strconv.ParseInt(string(row[0]), 10, 64)
			values = append(values, v)
			return err
		})
		if err != nil {
			return 0, err
		}
		if err := s.Divide(ctx, t, values); err != nil {
			return 0, err
		}
	}
	return s.Run(ctx, fmt.Sprintf("INSERT INTO %s (%s) %s", s.table(t.Name), quoteAll(columns, "%"), query))
}

// stage is an unlogged table, which several processes may read, unlike a temporary one.
type stage struct {
	*appender
	name string
	made bool
}

// Stage makes a table of the star's schema, which goes with the transaction if that fails.
func (s *statements) Stage(ctx context.Context, name string, types []column.Type) (warehouse.Stage, error) {
	fields, parts := make([]column.Field, len(types)), make([]string, len(types))
	for k, t := range types {
		fields[k] = column.Field{Name: fmt.Sprintf("c%d", k), Type: t}
		parts[k] = fields[k].Name + " " + declared(t)
	}
	if err := s.exec(ctx, fmt.Sprintf("CREATE UNLOGGED TABLE %s (%s)", s.table(name), strings.Join(parts, ", "))); err != nil {
		return nil, err
	}
	s.made[name] = true
	a, err := s.Append(ctx, name, fields)
	if err != nil {
		return nil, err
	}
	return &stage{a.(*appender), name, true}, nil
}

func (s *stage) Add(cols []*column.Column, rows []int32) error { return s.Append(cols, rows) }

func (s *stage) Table(context.Context) (string, error) {
	_, err := s.appender.Close()
	return s.t.table(s.name), err
}

func (s *stage) Close() error {
	if !s.made || !s.t.open {
		return nil
	}
	s.made = false
	return s.t.exec(s.ctx, "DROP TABLE "+s.t.table(s.name))
}

func (s *statements) Estimate(ctx context.Context, query string) (rows int64, err error) {
	err = s.Ask(ctx, "EXPLAIN (FORMAT JSON) "+query, func(values [][]byte) error {
		rows = gjson.GetBytes(values[0], "0.Plan.Plan Rows").Int()
		return nil
	})
	return rows, err
}

func (s *statements) Near() bool {
	at, ok := s.conn().Conn().PgConn().Conn().RemoteAddr().(*net.TCPAddr)
	if !ok {
		return true // a socket of this machine
	}
	own, _ := s.conn().Conn().PgConn().Conn().LocalAddr().(*net.TCPAddr)
	return at.IP.IsLoopback() || own != nil && at.IP.Equal(own.IP)
}
