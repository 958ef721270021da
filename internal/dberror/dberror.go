// Package dberror says in plain words what a database or its driver reports, without the driver's own words and
// without a password. The error as it came is kept: errors.Is and errors.As find it.
package dberror

import (
	"context"
	"errors"
	"net/url"
	"regexp"
	"strings"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/trinodb/trino-go-client/trino"
	"zombiezen.com/go/sqlite"
)

// Error is an error of a database in plain words.
type Error struct {
	text string
	err  error
}

func (e *Error) Error() string { return e.text }

func (e *Error) Unwrap() error { return e.err }

// ErrBusy says that another program uses an SQLite file.
var ErrBusy = errors.New("the database is in use by another program")

// secret finds passwords in what drivers say of connections; quotes may be escaped within.
var secret = regexp.MustCompile(`(?i)(password\s*=\s*)('(?:[^'\\]|\\.)*'?|\S+)|(//[^:/@\s]*:)[^@\s]*@`)

// Postgres says what a PostgreSQL server or its driver reports.
func Postgres(err error) error {
	var server *pgconn.PgError
	var words *pgconn.ParseConfigError
	var address *url.Error
	switch {
	case err == nil, err == context.Canceled:
		return err
	case errors.As(err, &server):
		text := server.Message
		if server.Detail != "" {
			text += " (" + server.Detail + ")"
		}
		return &Error{text, err}
	case errors.As(err, &words): // it repeats the connection, password and all
		cause := words.Unwrap()
		if errors.As(cause, &address) {
			cause = address.Err
		}
		if cause == nil {
			cause = errors.New("a word that it does not know")
		}
		return &Error{
			"the connection cannot be understood: " + secret.ReplaceAllString(cause.Error(), "$1$3***"),
			nil,
		}
	}
	return &Error{secret.ReplaceAllString(err.Error(), "$1$3***"), err}
}

// MySQL says what a MySQL or MariaDB server or its driver reports.
func MySQL(err error) error {
	var server *mysql.MySQLError
	if errors.As(err, &server) {
		return &Error{server.Message, err}
	}
	return err
}

// Trino says what a Trino server or its driver reports.
func Trino(err error) error {
	var told *trino.ErrTrino
	var failed *trino.ErrQueryFailed
	switch {
	case errors.As(err, &told):
		return &Error{told.Message, err}
	case errors.As(err, &failed):
		return &Error{secret.ReplaceAllString(failed.Error(), "$1$3***"), err}
	}
	return err
}

// SQLite says what SQLite reports.
func SQLite(err error) error {
	if err == nil {
		return nil
	}
	switch sqlite.ErrCode(err).ToPrimary() {
	case sqlite.ResultBusy:
		return &Error{ErrBusy.Error(), errors.Join(ErrBusy, err)}
	case sqlite.ResultNotADB:
		return &Error{"this is not an SQLite database", err}
	case sqlite.ResultInterrupt:
		return &Error{"stopped", errors.Join(context.Canceled, err)}
	}
	text := err.Error()
	if at := strings.LastIndex(text, "sqlite: "); at >= 0 {
		text = text[at+len("sqlite: "):]
	}
	for _, prefix := range []string{"step: ", "prepare: ", "open: "} {
		text = strings.TrimPrefix(text, prefix)
	}
	return &Error{text, err}
}
