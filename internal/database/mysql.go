package database

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log"
	"os"
	"os/user"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"ironmonger/internal/column"
	"ironmonger/internal/dberror"
	"ironmonger/internal/exact"
	"ironmonger/internal/star"
)

// mysqlDB asks MySQL or MariaDB, in one read-only transaction.
type mysqlDB struct {
	usual
	pool *sql.DB
	tx   *sql.Tx
}

func openMySQL(ctx context.Context, d *star.Database, _ string) (driver, error) {
	config, err := mysqlConfig(d.Connection)
	if err != nil {
		return nil, err
	}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, dberror.MySQL(err)
	}
	pool := sql.OpenDB(connector)
	tx, err := pool.BeginTx(ctx, &sql.TxOptions{ReadOnly: true, Isolation: sql.LevelRepeatableRead})
	if err != nil {
		pool.Close()
		return nil, dberror.MySQL(err)
	}
	return &mysqlDB{pool: pool, tx: tx}, nil
}

// mysqlConfig reads words such as host=db.example user=reader; a value with blanks stands in quotes.
func mysqlConfig(connection string) (*mysql.Config, error) {
	c := mysql.NewConfig()
	c.Net, c.Passwd, c.Timeout = "tcp", os.Getenv("MYSQL_PWD"), 10*time.Second
	c.Logger = log.New(io.Discard, "", 0)
	c.Params = map[string]string{"time_zone": "'+00:00'"}
	if u, err := user.Current(); err == nil {
		c.User = u.Username
	}
	words, err := words(connection)
	if err != nil {
		return nil, err
	}
	host, port := "127.0.0.1", "3306"
	for name, value := range words {
		switch name {
		case "host":
			host = value
		case "port":
			port = value
		case "socket":
			c.Net, c.Addr = "unix", value
		case "user":
			c.User = value
		case "password":
			c.Passwd = value
		case "dbname":
			c.DBName = value
		case "tls":
			c.TLSConfig = value
		default:
			return nil, fmt.Errorf(
				"the connection has no word %s: host, port, socket, user, password, dbname, tls",
				name,
			)
		}
	}
	if c.Net == "tcp" {
		c.Addr = host + ":" + port
	}
	return c, nil
}

// words reads name=value pairs.
func words(s string) (map[string]string, error) {
	list := map[string]string{}
	for s = strings.TrimSpace(s); s != ""; s = strings.TrimSpace(s) {
		name, rest, ok := strings.Cut(s, "=")
		if !ok || strings.ContainsAny(strings.TrimSpace(name), " \t") {
			return nil, errors.New("a connection is words such as host=db.example user=reader dbname=canal")
		}
		rest = strings.TrimLeft(rest, " \t")
		var value strings.Builder
		quoted := strings.HasPrefix(rest, "'")
		i := 0
		if quoted {
			i = 1
		}
		for ; i < len(rest); i++ {
			if rest[i] == '\\' && i+1 < len(rest) {
				i++
			} else if quoted && rest[i] == '\'' || !quoted && (rest[i] == ' ' || rest[i] == '\t') {
				break
			}
			value.WriteByte(rest[i])
		}
		if quoted && i >= len(rest) {
			return nil, errors.New("a quote in the connection is never closed")
		}
		list[strings.TrimSpace(name)] = value.String()
		s = rest[min(i+1, len(rest)):]
	}
	return list, nil
}

func (db *mysqlDB) Close() {
	db.tx.Rollback()
	db.pool.Close()
}

func (db *mysqlDB) quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func (db *mysqlDB) placeholder(int, star.Value) string { return "?" }

func (db *mysqlDB) ordered(quoted string, text bool) string {
	if text {
		return "cast(" + quoted + " as binary)"
	}
	return quoted
}

func anys(args []star.Value) []any {
	list := make([]any, len(args))
	for i, a := range args {
		list[i] = a.Text
	}
	return list
}

func (db *mysqlDB) columns(ctx context.Context, sql string, args []star.Value) ([]Column, error) {
	rows, err := db.tx.QueryContext(ctx, sql+" limit 0", anys(args)...)
	if err != nil {
		return nil, dberror.MySQL(err)
	}
	defer rows.Close()
	types, err := rows.ColumnTypes()
	if err != nil {
		return nil, dberror.MySQL(err)
	}
	var list []Column
	for _, t := range types {
		name := t.DatabaseTypeName()
		c := Column{
			Name:    t.Name(),
			Foreign: strings.ToLower(name),
			Type:    column.Type{Kind: mysqlKinds[strings.TrimPrefix(name, "UNSIGNED ")]},
		}
		if c.Type.Kind == column.Decimal {
			precision, scale, _ := t.DecimalSize()
			if c.Type.Precision, c.Type.Scale = uint8(precision), uint8(scale); precision > exact.MaxDigits {
				c.Type = column.Type{}
			}
		}
		list = append(list, c)
	}
	return list, rows.Err()
}

var mysqlKinds = map[string]column.Kind{
	"TINYINT": column.Integer, "SMALLINT": column.Integer, "MEDIUMINT": column.Integer, "INT": column.Integer, "BIGINT": column.Integer, "YEAR": column.Integer,
	"FLOAT": column.Double, "DOUBLE": column.Double, "DECIMAL": column.Decimal,
	"CHAR": column.Text, "VARCHAR": column.Text, "TINYTEXT": column.Text, "TEXT": column.Text, "MEDIUMTEXT": column.Text, "LONGTEXT": column.Text,
	"ENUM": column.Text, "SET": column.Text, "JSON": column.Text,
	"DATE": column.Date, "DATETIME": column.Timestamp, "TIMESTAMP": column.Timestamp, "TIME": column.Time,
}

func (db *mysqlDB) run(ctx context.Context, query string, args []star.Value, row func([][]byte) error) error {
	rows, err := db.tx.QueryContext(ctx, query, anys(args)...)
	if err != nil {
		return dberror.MySQL(err)
	}
	defer rows.Close()
	types, err := rows.ColumnTypes()
	if err != nil {
		return dberror.MySQL(err)
	}
	raw, into, values := make([]sql.RawBytes, len(types)), make([]any, len(types)), make([][]byte, len(types))
	for k := range raw {
		into[k] = &raw[k]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return dberror.MySQL(err)
		}
		for k := range raw {
			values[k] = raw[k]
			if raw[k] != nil && types[k].DatabaseTypeName() == "TIMESTAMP" { // an instant, here in UTC
				values[k] = append(append([]byte(nil), raw[k]...), 'Z')
			}
		}
		if err := row(values); err != nil {
			return err
		}
	}
	return dberror.MySQL(rows.Err())
}
