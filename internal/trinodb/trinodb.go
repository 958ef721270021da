// Package trinodb connects to Trino, and reads what it answers.
package trinodb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"time"

	_ "github.com/trinodb/trino-go-client/trino" // registers the driver

	"ironmonger/internal/dberror"
)

// DB is a connection to a server.
type DB struct {
	*sql.DB
	Server string // its host and port, for people
}

// Open returns a connection to the server of an address, such as http://loader@trino.example:8080. Whatever else it is told
// stands in options, by the names of the driver. Nothing is asked yet.
func Open(address string, options url.Values) (*DB, error) {
	server, err := url.Parse(address)
	if err != nil || server.Host == "" || server.Scheme != "http" && server.Scheme != "https" {
		return nil, fmt.Errorf("%q is not the address of a Trino server, such as http://loader@trino.example:8080", address)
	}
	if server.User == nil {
		server.User = url.User("ironmonger")
	}
	if options == nil {
		options = url.Values{}
	}
	options.Set("source", "ironmonger")
	server.RawQuery = options.Encode()
	db, err := sql.Open("trino", server.String())
	if err != nil {
		return nil, dberror.Trino(err)
	}
	return &DB{db, server.Host}, nil
}

// Ask hands each row of an answer to row, as texts, null as nil; they are row's until it returns. Of times it is the query
// that has to ask for texts.
func (db *DB) Ask(ctx context.Context, query string, row func(values [][]byte) error) error {
	answer, err := db.QueryContext(ctx, query)
	if err != nil {
		return dberror.Trino(err)
	}
	defer answer.Close()
	columns, err := answer.Columns()
	if err != nil {
		return dberror.Trino(err)
	}
	values, into := Values(len(columns))
	for answer.Next() {
		if err := answer.Scan(into...); err != nil {
			return err
		}
		if err := row(values); err != nil {
			return err
		}
	}
	return dberror.Trino(answer.Err())
}

// answering is how long a server may take to say whether it is there.
const answering = 10 * time.Second

// First is [DB.Ask] for the first question to a server, whose answer takes no time: it says no soon if there is none.
func (db *DB) First(ctx context.Context, query string, row func(values [][]byte) error) error {
	ctx, cancel := context.WithTimeout(ctx, answering)
	defer cancel()
	err := db.Ask(ctx, query, row)
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("Trino at %s does not answer: %w", db.Server, err)
	} else if err != nil {
		return fmt.Errorf("Trino at %s: %w", db.Server, err)
	}
	return nil
}

// Values makes room for n values, and says where they are scanned into.
func Values(n int) (values [][]byte, into []any) {
	values, into = make([][]byte, n), make([]any, n)
	for k := range values {
		into[k] = (*sql.RawBytes)(&values[k])
	}
	return values, into
}
