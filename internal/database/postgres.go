package database

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"

	"ironmonger/internal/column"
	"ironmonger/internal/dberror"
	"ironmonger/internal/exact"
	"ironmonger/internal/star"
)

// postgresDB asks in the protocol's text format.
type postgresDB struct {
	usual
	conn *pgconn.PgConn
}

func openPostgres(ctx context.Context, d *star.Database, _ string) (driver, error) {
	config, err := pgconn.ParseConfig(d.Connection)
	if err != nil {
		return nil, dberror.Postgres(err)
	}
	config.ConnectTimeout = 10 * time.Second
	for name, value := range map[string]string{"timezone": "UTC", "datestyle": "ISO", "client_encoding": "UTF8",
		"extra_float_digits": "3", "default_transaction_read_only": "on"} {
		config.RuntimeParams[name] = value
	}
	conn, err := pgconn.ConnectConfig(ctx, config)
	if err != nil {
		return nil, dberror.Postgres(err)
	}
	return &postgresDB{conn: conn}, nil
}

func (db *postgresDB) Close() { db.conn.Close(context.Background()) }

func (db *postgresDB) quote(name string) string { return pgx.Identifier{name}.Sanitize() }

func (db *postgresDB) placeholder(n int, _ star.Value) string { return fmt.Sprintf("$%d", n) }

func (db *postgresDB) ordered(quoted string, text bool) string {
	if text {
		return quoted + `::text collate "C"`
	}
	return quoted
}

func (db *postgresDB) columns(ctx context.Context, sql string, _ []star.Value) ([]Column, error) {
	statement, err := db.conn.Prepare(ctx, "", sql, nil)
	if err != nil {
		return nil, dberror.Postgres(err)
	}
	names := pgtype.NewMap()
	var list []Column
	for _, f := range statement.Fields {
		c := Column{Name: f.Name, Type: column.Type{Kind: postgresKinds[f.DataTypeOID]}}
		if t, ok := names.TypeForOID(f.DataTypeOID); ok {
			c.Foreign = t.Name
		}
		if f.DataTypeOID == pgtype.NumericOID {
			c.Type, c.Foreign = numeric(f.TypeModifier)
		}
		list = append(list, c)
	}
	return list, nil
}

var postgresKinds = map[uint32]column.Kind{
	pgtype.Int2OID: column.Integer, pgtype.Int4OID: column.Integer, pgtype.Int8OID: column.Integer, pgtype.OIDOID: column.Integer,
	pgtype.Float4OID: column.Double, pgtype.Float8OID: column.Double, pgtype.BoolOID: column.Boolean,
	pgtype.TextOID: column.Text, pgtype.VarcharOID: column.Text, pgtype.BPCharOID: column.Text, pgtype.NameOID: column.Text,
	pgtype.UUIDOID: column.Text, pgtype.JSONOID: column.Text, pgtype.JSONBOID: column.Text,
	pgtype.DateOID: column.Date, pgtype.TimestampOID: column.Timestamp, pgtype.TimestamptzOID: column.Timestamp, pgtype.TimeOID: column.Time,
}

// numeric reads the digits of a numeric from its modifier.
func numeric(modifier int32) (column.Type, string) {
	precision, scale := (modifier-4)>>16&0xffff, (modifier-4)&0x7ff
	if modifier < 4 || precision > exact.MaxDigits || scale > precision {
		return column.Type{}, "numeric without digits, or with more than decimal has"
	}
	return column.Type{Kind: column.Decimal, Precision: uint8(precision), Scale: uint8(scale)}, ""
}

func (db *postgresDB) run(ctx context.Context, sql string, args []star.Value, row func([][]byte) error) error {
	values := make([][]byte, len(args))
	for i, a := range args {
		values[i] = []byte(a.Text)
	}
	rows := db.conn.ExecParams(ctx, sql, values, nil, nil, nil)
	var failed error
	for failed == nil && rows.NextRow() {
		failed = row(rows.Values())
	}
	if failed != nil {
		db.conn.Close(ctx) // what is still on its way isn't wanted
		rows.Close()
		return failed
	}
	_, err := rows.Close()
	return dberror.Postgres(err)
}
